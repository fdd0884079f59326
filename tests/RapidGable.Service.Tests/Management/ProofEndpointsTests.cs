using System.Text.Json;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>What the rows say of a draft, over HTTP: as one answer, and as lines with the progress.</summary>
public sealed class ProofEndpointsTests : IAsyncLifetime
{
    private static readonly (string, string)[] Own = [("Gable-Client", "test")];

    private readonly TestWorkspace _folder = new();
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .WithDatabase(
                """
                CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT, opened TEXT, kind TEXT);
                CREATE TABLE gauge (id INTEGER NOT NULL PRIMARY KEY, river_id INTEGER REFERENCES river (id), no INTEGER);
                INSERT INTO river VALUES (1, 'Alder', '01.05.2024', 'small'), (2, 'Birch', '31.12.2023', 'large');
                INSERT INTO river VALUES (3, 'Birch', NULL, 'large');
                INSERT INTO gauge VALUES (1, 1, 5), (2, 9, 5), (3, NULL, 6);
                """
            )
            .Write(
                "services/s.yaml",
                """
                title: S
                source: main
                sets:
                  - { from: river, columns: { name: { max-length: 4 } }, require-filter: true }
                  - gauge

                """
            );
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private Task<Answer> SendAsync(string path, object body, params (string, string)[] headers) =>
        _http.SendAsync("/manage/draft" + path, "POST", JsonSerializer.Serialize(body), [.. Own, .. headers]);

    [Fact]
    public async Task A_column_says_which_types_fit_and_what_breaks_its_rules()
    {
        var opened = (
            await SendAsync(
                "/column",
                new
                {
                    service = "s",
                    set = 0,
                    column = "opened",
                }
            )
        ).Json;
        var words = opened.GetProperty("offers")[0].GetProperty("words");
        Assert.Equal(("date", "dd.MM.yyyy"), (words.GetProperty("type").GetString(), words.GetProperty("format").GetString()));
        var name = (
            await SendAsync(
                "/column",
                new
                {
                    service = "s",
                    set = 0,
                    column = "name",
                }
            )
        ).Json;
        Assert.Equal(3, name.GetProperty("breaks").GetInt32());
        var kind = (
            await SendAsync(
                "/column",
                new
                {
                    service = "s",
                    set = 0,
                    column = "kind",
                }
            )
        ).Json;
        Assert.Equal("large", kind.GetProperty("members").GetProperty("large").GetString());
    }

    [Fact]
    public async Task Orphans_and_broken_conditions_are_counted_over_all_rows_whoever_may_read_them()
    {
        var orphans = (
            await SendAsync(
                "/orphans",
                new
                {
                    service = "s",
                    set = 1,
                    relation = "river",
                }
            )
        ).Json;
        Assert.Equal((2, 1), (orphans.GetProperty("referring").GetInt32(), orphans.GetProperty("orphans").GetInt32()));
        var broken = (
            await SendAsync(
                "/condition",
                new
                {
                    service = "s",
                    set = 0,
                    condition = "name ne 'Birch'",
                }
            )
        ).Json;
        Assert.Equal((3, 2), (broken.GetProperty("rows").GetInt32(), broken.GetProperty("broken").GetInt32()));
    }

    [Fact]
    public async Task Nothing_that_is_counted_changes_a_file_or_what_is_served()
    {
        var before = await File.ReadAllTextAsync(Path.Combine(_folder.Folder, "services/s.yaml"));
        await SendAsync(
            "/condition",
            new
            {
                service = "s",
                set = 0,
                condition = "id gt 0",
            }
        );
        Assert.Equal(before, await File.ReadAllTextAsync(Path.Combine(_folder.Folder, "services/s.yaml")));
        Assert.NotEqual(200, (await _http.SendAsync("/rest/s/gauge")).Status);
    }

    [Fact]
    public async Task Lines_end_with_the_result()
    {
        var lines = await SendAsync(
            "/column",
            new
            {
                service = "s",
                set = 0,
                column = "opened",
            },
            ("Accept", "application/x-ndjson")
        );
        Assert.StartsWith("application/x-ndjson", lines.Header("Content-Type"));
        using var last = JsonDocument.Parse(lines.Text.TrimEnd().Split('\n')[^1]);
        Assert.Equal(3, last.RootElement.GetProperty("result").GetProperty("rows").GetInt32());
        var wrong = await SendAsync(
            "/column",
            new
            {
                service = "s",
                set = 0,
                column = "none",
            },
            ("Accept", "application/x-ndjson")
        );
        Assert.Contains("no table or view with a column 'none'", wrong.Text);
    }

    [Fact]
    public async Task Duplicates_are_shown_and_keys_are_found_with_progress()
    {
        var doubled = (await _http.SendAsync("/manage/sources/main/duplicates?name=river&column=name&column=kind")).Json;
        Assert.Equal(1, doubled.GetProperty("groups").GetInt32());
        Assert.Equal("Birch", doubled.GetProperty("examples")[0].GetProperty("values")[0].GetString());
        var keys = await _http.SendAsync("/manage/sources/main/keys?name=gauge", "GET", null, ("Accept", "application/x-ndjson"));
        Assert.Contains("\"candidates\":[{\"columns\":[\"id\"]", keys.Text);
    }

    [Theory]
    [InlineData("/column", """{"service":"s","set":7,"column":"name"}""", 409)]
    [InlineData("/column", """{"service":"s","set":0,"column":"none"}""", 409)]
    [InlineData("/column", """{"service":"none","set":0,"column":"name"}""", 404)]
    [InlineData("/column", """{"service":"../s","set":0,"column":"name"}""", 400)]
    [InlineData("/column", """{"service":"s","set":0,"text":"[","column":"name"}""", 409)]
    [InlineData("/orphans", """{"service":"s","set":0,"relation":"none"}""", 409)]
    [InlineData("/condition", """{"service":"s","set":0,"condition":"name eq"}""", 409)]
    [InlineData("/condition", """{"service":"s","set":0,"condition":"none eq 1"}""", 409)]
    [InlineData("/condition", """{"service":"s","set":9,"condition":"id eq 1"}""", 409)]
    [InlineData("/condition", "7", 400)]
    public async Task What_cannot_be_counted_is_told(string path, string body, int status) =>
        Assert.Equal(status, (await _http.SendAsync("/manage/draft" + path, "POST", body, Own)).Status);

    [Theory]
    [InlineData("duplicates?name=river", 409)]
    [InlineData("duplicates?name=river&column=none", 409)]
    [InlineData("duplicates?name=none&column=id", 404)]
    [InlineData("keys?name=none", 404)]
    [InlineData("rows?name=none", 404)]
    [InlineData("rows?name=river&sort=none", 404)]
    [InlineData("extent?name=none", 404)]
    [InlineData("related?name=none", 404)]
    public async Task A_source_says_what_it_has_not(string path, int status) =>
        Assert.Equal(status, (await _http.SendAsync("/manage/sources/main/" + path)).Status);

    [Fact]
    public async Task Raw_rows_come_sorted_filtered_and_from_a_position()
    {
        var rows = (await _http.SendAsync("/manage/sources/main/rows?name=river&sort=-id&rows=1&skip=1")).Json;
        Assert.Equal(("2", true), (rows.GetProperty("rows")[0][0].GetString(), rows.GetProperty("hasMore").GetBoolean()));
        var found = (await _http.SendAsync("/manage/sources/main/rows?name=river&column=name&contains=ALD")).Json;
        Assert.Equal("Alder", Assert.Single(found.GetProperty("rows").EnumerateArray())[1].GetString());
        await _http.SaysAsync("/manage/audit", "looked at rows of river in main");
    }

    [Fact]
    public async Task What_is_tied_by_foreign_keys_is_told_from_both_ends()
    {
        var around = (await _http.SendAsync("/manage/sources/main/related?name=river")).Json;
        Assert.Equal(["river", "gauge"], around.GetProperty("objects").EnumerateArray().Select(o => o.GetProperty("name").GetString()));
        Assert.Equal("gauge", around.GetProperty("ties")[0].GetProperty("from").GetString());
        var alone = (await _http.SendAsync("/manage/sources/main/related?name=river&around=false")).Json;
        Assert.Equal((1, 0), (alone.GetProperty("objects").GetArrayLength(), alone.GetProperty("ties").GetArrayLength()));
    }

    [Fact]
    public async Task Choosing_takes_what_is_referred_to_when_asked_to()
    {
        async Task<string> ChooseAsync(bool withReferred) => string.Join(' ', (
                    await SendAsync(
                        "/choose",
                        new
                        {
                            service = "n",
                            source = "main",
                            objects = new[] { "gauge" },
                            withReferred,
                        }
                    )
                ).Json.GetProperty("added").EnumerateArray().Select(a => a.GetString()));
        Assert.Equal("gauge", await ChooseAsync(false));
        Assert.Equal("gauge river", string.Join(' ', (await ChooseAsync(true)).Split(' ').Order()));
    }
}
