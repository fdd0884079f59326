using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Limits that the workspace sets: each at its boundary, and beyond it.</summary>
public sealed class LimitSettingsTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithDatabase(
            """
            CREATE TABLE basin (id INTEGER PRIMARY KEY, name TEXT, parent_id INTEGER REFERENCES basin (id));
            WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20)
            INSERT INTO basin SELECT i, 'basin ' || i, CASE WHEN i > 1 THEN i - 1 END FROM n
            """
        )
        .Write(
            "workspace.yaml",
            """
            title: Test
            limits:
              body: 1
              held-answer: 1
              batch-requests: 2
              sent-entities: 3
              in-list: 4
              expand-depth: 2
              page: 5
              largest-page: 9
              sessions: 1
              statement-seconds: 7
            """
        )
        .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
        .Write(
            "services/s.yaml",
            """
            title: S
            source: main
            rules: { read: anyone, create: anyone }
            sets:
              - { from: basin, name: Basins, type: Basin, allow: [read, create], relations: { parent: { to: Basins, on: { parent_id: id }, back: parts } } }
              - { from: basin, name: Pages, type: Page, page: 7, largest-page: 12 }
            """
        );

    private RunningService _http = null!;

    public async Task InitializeAsync() => _http = await RunningService.StartAsync(_folder.Folder);

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    [Theory]
    [InlineData("Basins?$filter=id in (1,2,3,4)", 200, "")]
    [InlineData("Basins?$filter=id in (1,2,3,4,5)", 400, "too-large")]
    [InlineData("Basins?$expand=parent($expand=parent)", 200, "")]
    [InlineData("Basins?$expand=parent($expand=parent($expand=parent))", 400, "too-deep")]
    [InlineData("Basins?$expand=parent($levels=2)", 200, "")]
    [InlineData("Basins?$expand=parent($levels=3)", 400, "too-deep")]
    [InlineData("Basins?$expand=parent($levels=max)", 200, "")]
    public async Task A_request_is_held_to_it(string target, int status, string code)
    {
        var answer = await _http.SendAsync("/odata/s/" + target.Replace(" ", "%20"));
        Assert.True(answer.Status == status, answer.Text);
        Assert.Equal(code, status == 200 ? "" : answer.Json.GetProperty("error").GetProperty("code").GetString());
    }

    [Theory]
    [InlineData("Basins", 5)]
    [InlineData("Basins?$top=9", 9)]
    [InlineData("Basins?$top=20", 9)]
    [InlineData("Pages", 7)]
    [InlineData("Pages?$top=20", 12)]
    public async Task Pages_are_so_large_where_no_set_says_otherwise(string target, int rows) =>
        Assert.Equal(rows, (await _http.SendAsync("/odata/s/" + target)).Json.GetProperty("value").GetArrayLength());

    [Theory]
    [InlineData(2, 200)]
    [InlineData(3, 400)]
    public async Task A_batch_has_so_many_requests(int requests, int status)
    {
        var all = Enumerable.Range(1, requests).Select(i => $$"""{"id":"{{i}}","method":"GET","url":"Basins/$count"}""");
        var answer = await _http.SendAsync("/odata/s/$batch", "POST", $$"""{"requests":[{{string.Join(',', all)}}]}""");
        Assert.True(answer.Status == status, answer.Text);
    }

    [Theory]
    [InlineData(2, 201)] // with their parent three
    [InlineData(3, 400)]
    public async Task A_body_has_so_many_entities(int parts, int status)
    {
        var all = Enumerable.Range(1, parts).Select(i => $$"""{"name":"part {{i}}"}""");
        var answer = await _http.SendAsync("/odata/s/Basins", "POST", $$"""{"name":"whole","parts":[{{string.Join(',', all)}}]}""");
        Assert.True(answer.Status == status, answer.Text);
    }

    [Theory]
    [InlineData(1_000_000, 201)]
    [InlineData(1_100_000, 413)]
    public async Task A_body_has_so_many_bytes(int characters, int status)
    {
        var answer = await _http.SendAsync("/odata/s/Basins", "POST", $$"""{"name":"{{new string('x', characters)}}"}""");
        Assert.Equal(status, answer.Status);
        if (status == 413)
            Assert.Contains("1048576 bytes", answer.Text);
    }

    [Fact]
    public async Task A_part_of_a_batch_holds_so_many_bytes()
    {
        await _http.SendAsync("/odata/s/Basins", "POST", $$"""{"id":101,"name":"{{new string('y', 1_000_000)}}"}""");
        await _http.SendAsync("/odata/s/Basins", "POST", $$"""{"id":102,"name":"{{new string('z', 1_000_000)}}"}""");
        var batch =
            """{"requests":[{"id":"1","method":"GET","url":"Basins?$filter=id%20gt%2020"},{"id":"2","method":"GET","url":"Basins(1)"}]}""";
        var answers = (await _http.SendAsync("/odata/s/$batch", "POST", batch, ("Prefer", "continue-on-error")))
            .Json.GetProperty("responses")
            .EnumerateArray()
            .ToList();
        Assert.Equal([413, 200], answers.Select(r => r.GetProperty("status").GetInt32()));
    }

    [Fact]
    public async Task The_metadata_says_how_deep_to_expand()
    {
        var metadata = (await _http.SendAsync("/odata/s/$metadata")).Text;
        Assert.Contains("<PropertyValue Property=\"MaxLevels\" Int=\"2\" />", metadata);
    }

    [Theory]
    [InlineData("in-list: 0", "'in-list' must be a whole number from 1 to 4000, not '0'.")]
    [InlineData("expand-depth: 21", "'expand-depth' must be a whole number from 1 to 20, not '21'.")]
    [InlineData("page: 10\n  largest-page: 5", "'page' (10) is more than 'largest-page' (5).")]
    [InlineData("in-lists: 5", "Did you mean 'in-list'?")]
    public async Task What_cannot_be_set_is_refused(string setting, string message)
    {
        _folder.Write("workspace.yaml", $"title: Test\nlimits:\n  {setting}\n");
        var result = await Gable.RunAsync(_folder.Folder, "check");
        Assert.True(result.Code == 1 && result.Errors.Contains(message), result.Errors);
    }
}
