using RapidGable.Core.Tests;
using RapidGable.Publishing;
using RapidGable.Service.Publishing;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>What is switched off, by every way that leads to it.</summary>
public sealed class SwitchTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .WithDatabase(
                """
                CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT);
                CREATE TABLE gauge (id INTEGER NOT NULL PRIMARY KEY, river_id INTEGER REFERENCES river (id), name TEXT);
                INSERT INTO river VALUES (1, 'Alder');
                INSERT INTO gauge VALUES (1, 1, 'Weir');
                """
            )
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .Write(
                "services/s.yaml",
                """
                title: S
                source: main
                namespace: T
                rules: { read: anyone, create: anyone, update: anyone, delete: anyone, call: anyone }
                sql: { who: anyone, rows: 10 }
                sets:
                  - { from: river, name: Rivers, type: River, allow: [read, create, update, delete] }
                  - { from: gauge, name: Gauges, type: Gauge, allow: [read, create, update, delete] }
                query-groups:
                  - title: Figures
                    queries:
                      - { name: Total, select: SELECT COUNT(*) AS n FROM river, gives: value }

                """
            );
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private SwitchBoard Board => new(WorkspaceState.Of(_folder.Folder));

    private async Task<Answer> UntilAsync(string target, int status)
    {
        for (var tries = 0; ; tries++)
        {
            var answer = await _http.SendAsync(target);
            if (answer.Status == status || tries > 200)
            {
                Assert.Equal(status, answer.Status);
                return answer;
            }
            await Task.Delay(50);
        }
    }

    [Theory] // every way that needs the gauges
    [InlineData("/odata/s/Gauges", "GET", null)]
    [InlineData("/odata/s/Gauges(1)", "GET", null)]
    [InlineData("/odata/s/Gauges/$count", "GET", null)]
    [InlineData("/odata/s/Rivers(1)/Gauges", "GET", null)]
    [InlineData("/odata/s/Rivers?$expand=Gauges", "GET", null)]
    [InlineData("/odata/s/Rivers?$filter=Gauges/any(g:g/id eq 1)", "GET", null)]
    [InlineData("/odata/s/Rivers?$orderby=Gauges/$count", "GET", null)]
    [InlineData("/odata/s/Gauges", "POST", """{"id":2,"name":"x"}""")]
    [InlineData("/odata/s/Gauges(1)", "PATCH", """{"name":"x"}""")]
    [InlineData("/odata/s/Gauges(1)", "DELETE", null)]
    [InlineData("/odata/s/Rivers", "POST", """{"id":2,"Gauges":[{"id":3}]}""")]
    [InlineData("/rest/s/Gauges", "GET", null)]
    [InlineData("/rest/s/Gauges/1", "GET", null)]
    [InlineData("/rest/s/Rivers?include=Gauges", "GET", null)]
    [InlineData("/rest/s/Gauges/1", "DELETE", null)]
    [InlineData("/rest/s/sql", "POST", """{"statement":"SELECT id FROM Gauges"}""")]
    [InlineData(
        "/rest/s/sql",
        "POST",
        """{"statement":"SELECT id FROM Rivers r WHERE EXISTS (SELECT 1 FROM Gauges g WHERE g.id = r.id)"}"""
    )]
    public async Task A_set_in_maintenance_is_told_by_every_way(string target, string method, string? body)
    {
        Board.Off(
            new SwitchedOff("s", "ada", DateTime.UnixEpoch)
            {
                Set = "Gauges",
                Message = "Being moved",
                RetryAfter = 77,
            }
        );
        await UntilAsync("/odata/s/Gauges", 503);
        var answer = await _http.SendAsync(target.Replace(" ", "%20"), method, body);
        Assert.True(answer.Status == 503, $"{answer.Status} {answer.Text}");
        Assert.Equal("77", answer.Header("Retry-After"));
        Assert.Contains("Being moved", answer.Text);
        Assert.Contains("switched-off", answer.Text);
        // The rest goes on, and nothing was written.
        Assert.Equal(200, (await _http.SendAsync("/odata/s/Rivers")).Status);
        Assert.True(Board.On(new SwitchedOff("s", "ada", DateTime.UnixEpoch) { Set = "Gauges" }));
        Assert.Contains("Weir", (await UntilAsync("/odata/s/Gauges", 200)).Text);
        Assert.Equal(404, (await _http.SendAsync("/odata/s/Gauges(2)")).Status);
        Assert.Equal(404, (await _http.SendAsync("/odata/s/Rivers(2)")).Status);
    }

    [Fact]
    public async Task What_is_switched_off_as_if_absent_leaves_no_trace()
    {
        Board.Off(new SwitchedOff("s", "ada", DateTime.UnixEpoch) { Set = "Gauges", IsAbsent = true });
        await UntilAsync("/odata/s/Gauges", 404);
        foreach (var target in new[] { "/odata/s/", "/odata/s/$metadata", "/rest/s/openapi.json", "/rest/s/", "/services" })
            Assert.DoesNotContain("auge", (await _http.SendAsync(target)).Text);
        Assert.Equal(400, (await _http.SendAsync("/odata/s/Rivers?$expand=Gauges")).Status);
    }

    [Fact]
    public async Task Faces_groups_and_services_are_switched()
    {
        Board.Off(new SwitchedOff("s", "ada", DateTime.UnixEpoch) { Face = "rest" });
        Board.Off(new SwitchedOff("s", "ada", DateTime.UnixEpoch) { Group = "Figures" });
        await UntilAsync("/rest/s/Rivers", 503);
        Assert.Equal(200, (await _http.SendAsync("/odata/s/Rivers")).Status);
        Assert.Equal(503, (await _http.SendAsync("/odata/s/Total()")).Status);
        // Switches outlive a refresh and a start.
        Assert.Equal(200, (await _http.SendAsync("/manage/refresh", "POST", ("Gable-Client", "test"))).Status);
        Assert.Equal(503, (await _http.SendAsync("/rest/s/Rivers")).Status);
        await _http.DisposeAsync();
        _http = await RunningService.StartAsync(_folder.Folder);
        Assert.Equal(503, (await _http.SendAsync("/rest/s/Rivers")).Status);
        Board.Off(new SwitchedOff("s", "ada", DateTime.UnixEpoch) { IsAbsent = true });
        await UntilAsync("/odata/s/Rivers", 404);
        Assert.DoesNotContain("\"s\"", (await _http.SendAsync("/services")).Text);
    }

    [Fact] // a preview and a kept request are ways in, too
    public async Task What_is_switched_off_is_off_for_whoever_tries()
    {
        _folder.Write("requests/a.http", "### A\n# @name gauges\nGET /odata/s/Gauges\n\n### B\n# @name rivers\nGET /odata/s/Rivers\n");
        (string, string)[] own = [("Gable-Client", "test")];
        Assert.Equal(200, (await _http.SendAsync("/manage/refresh", "POST", own)).Status);
        Assert.Equal(200, (await _http.SendAsync("/manage/preview/odata/s/Gauges")).Status);
        Board.Off(new SwitchedOff("s", "ada", DateTime.UtcNow) { Set = "Gauges" });
        await UntilAsync("/odata/s/Gauges", 503);
        Assert.Equal(503, (await _http.SendAsync("/manage/preview/odata/s/Gauges")).Status);
        var tried = await _http.SendAsync("/manage/requests/try", "POST", "{}", own);
        Assert.Equal([503, 200], tried.Json.EnumerateArray().Select(t => t.GetProperty("status").GetInt32()));
        // Whoever looks is noted.
        await _http.DisposeAsync();
        var noted = string.Concat(
            Directory.EnumerateFiles(Path.Combine(_folder.Folder, "state", "audit")).Select(System.IO.File.ReadAllText)
        );
        Assert.Contains("looked at the draft as anonymous", noted);
        Assert.Contains("sent request rivers as anonymous: 200", noted);
    }

    [Fact]
    public async Task The_command_switches()
    {
        Assert.Equal(0, (await Gable.RunAsync(_folder.Folder, "switch", "off", ".", "s/Gauges", "--message", "Soon")).Code);
        await UntilAsync("/rest/s/Gauges", 503);
        var off = (await Gable.RunAsync(_folder.Folder, "switch", ".", "--json")).Json.GetProperty("off")[0];
        Assert.Equal("s/Gauges", off.GetProperty("target").GetString());
        Assert.Contains("Soon", (await Gable.RunAsync(_folder.Folder, "switch", ".")).Output);
        Assert.Equal(0, (await Gable.RunAsync(_folder.Folder, "switch", "on", ".", "s/Gauges")).Code);
        await UntilAsync("/rest/s/Gauges", 200);
        var events = (await Gable.RunAsync(_folder.Folder, "audit", ".", "--event", "management")).Output;
        Assert.Contains("switched off s/Gauges", events);
        Assert.Contains("switched on s/Gauges", events);
    }

    [Theory]
    [InlineData("There is no service 'x'", "off", ".", "x")]
    [InlineData("no group of queries 'Figure'. Did you mean 'Figures'?", "off", ".", "s", "--group", "Figure")]
    [InlineData("Name a set or a group", "off", ".", "s/Rivers", "--group", "Figures")]
    [InlineData("A face is switched off for a whole service", "off", ".", "s/Rivers", "--face", "rest")]
    [InlineData("--retry-after takes seconds", "off", ".", "s", "--retry-after", "0")]
    [InlineData("s/Rivers is not switched off", "on", ".", "s/Rivers")]
    public async Task A_wrong_switch_is_refused(string message, params string[] arguments)
    {
        var refused = await Gable.RunAsync(_folder.Folder, ["switch", .. arguments]);
        Assert.Equal(2, refused.Code);
        Assert.Contains(message, refused.Errors);
    }

    [Fact]
    public async Task A_switch_for_what_is_not_there_does_no_harm()
    {
        Board.Off(new SwitchedOff("s", "ada", DateTime.UnixEpoch) { Set = "Gone" });
        Board.Off(new SwitchedOff("gone", "ada", DateTime.UnixEpoch) { IsAbsent = true });
        Board.Off(new SwitchedOff("s", "ada", DateTime.UnixEpoch) { Set = "Gauges" });
        await UntilAsync("/rest/s/Gauges", 503);
        Assert.Equal(200, (await _http.SendAsync("/rest/s/Rivers")).Status);
    }
}
