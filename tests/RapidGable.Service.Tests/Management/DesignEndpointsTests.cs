using System.Text.Json;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The interface behind the forms: the design of a service, changes of it, rows to try them on, and new databases.</summary>
public sealed class DesignEndpointsTests : IAsyncLifetime
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
                CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT, note TEXT);
                CREATE TABLE gauge (id INTEGER NOT NULL PRIMARY KEY, river_id INTEGER REFERENCES river (id));
                CREATE VIEW latest AS SELECT id, name FROM river;
                INSERT INTO river VALUES (1, 'Alder', 'a'), (2, 'Birch', 'b');
                INSERT INTO gauge VALUES (1, 1);
                """
            )
            .Write(
                "services/s.yaml",
                """
                title: S
                source: main
                rules:
                  read: anyone

                sets:
                  # The rivers.
                  - from: river
                    name: Rivers
                    hide: note
                    rules:
                      - { who: office, may: [read, update] }
                      - { who: field, may: read, rows: name eq 'Alder', hide: [name], largest-page: 7 }
                  - gauge
                  - { from: latest, key: id }

                """
            );
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private Task<Answer> SendAsync(string path, object body) =>
        _http.SendAsync("/manage/draft" + path, "POST", JsonSerializer.Serialize(body), Own);

    private static JsonElement Set(Answer answer, int at) => answer.Json.GetProperty("design").GetProperty("sets")[at];

    private static IEnumerable<string> Texts(JsonElement list) => list.EnumerateArray().Select(i => i.GetString()!);

    [Fact]
    public async Task A_design_says_what_is_declared_and_what_becomes_of_it()
    {
        var answer = await SendAsync("/design", new { service = "s" });
        Assert.Equal(200, answer.Status);
        Assert.Equal(["field", "office"], Texts(answer.Json.GetProperty("design").GetProperty("roles")));
        var rivers = Set(answer, 0);
        Assert.Equal("Rivers", rivers.GetProperty("name").GetString());
        Assert.Equal("river", rivers.GetProperty("ownName").GetString());
        Assert.Equal(8, rivers.GetProperty("line").GetInt32());
        Assert.Equal(["id"], Texts(rivers.GetProperty("key")));
        Assert.True(rivers.GetProperty("hasOwnRules").GetBoolean());
        Assert.Equal("name eq 'Alder'", rivers.GetProperty("rules")[1].GetProperty("rows").GetString());
        Assert.Equal(7, rivers.GetProperty("rules")[1].GetProperty("largestPage").GetInt32());
        var columns = rivers.GetProperty("columns").EnumerateArray().ToList();
        Assert.Equal(["id", "name", "note"], columns.Select(c => c.GetProperty("column").GetString()!));
        Assert.Equal([true, true, false], columns.Select(c => c.GetProperty("isShown").GetBoolean()));
        Assert.Equal("table", rivers.GetProperty("kind").GetString());
        var gauge = Set(answer, 1);
        Assert.False(gauge.GetProperty("hasOwnRules").GetBoolean());
        var relation = gauge.GetProperty("relations")[0];
        Assert.Equal("Rivers", relation.GetProperty("to").GetString());
        Assert.False(relation.GetProperty("isDeclared").GetBoolean());
        // What a view's columns hold is found when it is described.
        Assert.All(Set(answer, 2).GetProperty("columns").EnumerateArray(), c => Assert.True(c.TryGetProperty("ownType", out _)));
    }

    [Fact]
    public async Task Changes_are_made_one_after_the_other_and_nothing_is_written()
    {
        var before = await File.ReadAllTextAsync(Path.Combine(_folder.Folder, "services/s.yaml"));
        var answer = await SendAsync(
            "/design",
            new
            {
                service = "s",
                changes = new object[]
                {
                    new
                    {
                        set = 1,
                        path = new[] { "name" },
                        value = "Gauges",
                    },
                    new
                    {
                        set = 0,
                        path = new[] { "hide", "note" },
                        value = false,
                    },
                    new { set = 0, path = new object[] { "rules", 1, "hide" } },
                },
            }
        );
        var text = answer.Json.GetProperty("text").GetString()!;
        Assert.Contains("  - from: gauge\n    name: Gauges\n", text);
        Assert.DoesNotContain("hide", text);
        Assert.Contains("# The rivers.", text);
        Assert.Equal("Gauges", Set(answer, 1).GetProperty("name").GetString());
        Assert.Equal(before, await File.ReadAllTextAsync(Path.Combine(_folder.Folder, "services/s.yaml")));
    }

    [Fact]
    public async Task A_fault_is_told_with_its_place_and_the_rest_stays_to_be_seen()
    {
        var answer = await SendAsync(
            "/design",
            new
            {
                service = "s",
                changes = new object[]
                {
                    new
                    {
                        set = 0,
                        path = new[] { "key" },
                        value = new[] { "nam" },
                    },
                },
            }
        );
        var finding = answer.Json.GetProperty("findings").EnumerateArray().First();
        Assert.Equal("services/s.yaml", finding.GetProperty("file").GetString());
        Assert.Contains("nam", finding.GetProperty("message").GetString());
        Assert.False(Set(answer, 0).GetProperty("isBuilt").GetBoolean());
        Assert.Equal(3, Set(answer, 0).GetProperty("columns").GetArrayLength());
        Assert.True(Set(answer, 1).GetProperty("isBuilt").GetBoolean());
    }

    [Theory]
    [InlineData("{\"service\":\"../x\"}", 400)]
    [InlineData("{\"service\":\"none\"}", 404)]
    [InlineData("{}", 400)]
    [InlineData("{\"service\":\"s\",\"changes\":[{\"set\":9,\"path\":[\"name\"],\"value\":\"x\"}]}", 409)]
    [InlineData("{\"service\":\"s\",\"changes\":[{\"set\":0,\"path\":[],\"value\":\"x\"}]}", 409)]
    [InlineData("{\"service\":\"s\",\"changes\":[{\"set\":0,\"path\":[{}],\"value\":\"x\"}]}", 409)]
    [InlineData("{\"service\":\"s\",\"changes\":[{\"set\":0,\"value\":\"x\"}]}", 409)]
    [InlineData("{\"service\":\"s\",\"text\":\"sets: [\",\"changes\":[{\"path\":[\"title\"],\"value\":\"x\"}]}", 409)]
    [InlineData("nothing", 400)]
    public async Task What_cannot_be_changed_is_refused(string body, int status) =>
        Assert.Equal(status, (await _http.SendAsync("/manage/draft/design", "POST", body, Own)).Status);

    [Fact]
    public async Task A_text_that_is_no_service_has_no_design()
    {
        var answer = await SendAsync("/design", new { service = "s", text = "sets: [" });
        Assert.Equal(200, answer.Status);
        Assert.False(answer.Json.TryGetProperty("design", out _));
        Assert.NotEqual(0, answer.Json.GetProperty("findings").GetArrayLength());
    }

    [Theory]
    [InlineData(null, 404, 0)]
    [InlineData("office", 0, 2)]
    [InlineData("field", 0, 1)]
    public async Task Rows_are_those_of_a_caller(string? caller, int refusal, int rows)
    {
        var answer = await SendAsync(
            "/rows",
            new
            {
                service = "s",
                set = "Rivers",
                @as = caller,
            }
        );
        Assert.Equal(200, answer.Status);
        Assert.NotEqual(0, answer.Json.GetProperty("rules").GetArrayLength());
        if (refusal > 0)
        {
            Assert.Equal(refusal, answer.Json.GetProperty("fault").GetProperty("status").GetInt32());
            Assert.False(answer.Json.TryGetProperty("body", out _));
            return;
        }
        var value = answer.Json.GetProperty("body").GetProperty("value");
        Assert.Equal(rows, value.GetArrayLength());
        Assert.DoesNotContain("note", value.GetRawText());
        Assert.Equal(caller == "office", value.GetRawText().Contains("Alder", StringComparison.Ordinal));
    }

    [Fact]
    public async Task Rows_are_those_of_the_text_that_is_sent()
    {
        var text = (await File.ReadAllTextAsync(Path.Combine(_folder.Folder, "services/s.yaml"))).Replace("hide: note", "hide: [id]");
        var answer = await SendAsync(
            "/rows",
            new
            {
                service = "s",
                set = "Rivers",
                @as = "office",
                text,
            }
        );
        // A key is never hidden, so the set has a fault.
        Assert.Equal(409, answer.Status);
        var open = await SendAsync(
            "/rows",
            new
            {
                service = "s",
                set = "Rivers",
                @as = "office",
                text = text.Replace("hide: [id]\n", "page: 7\n"),
            }
        );
        Assert.Contains("\"note\":\"a\"", open.Json.GetProperty("body").GetRawText());
    }

    [Fact]
    public async Task Looks_at_rows_are_noted()
    {
        await SendAsync(
            "/rows",
            new
            {
                service = "s",
                set = "Rivers",
                @as = "field",
            }
        );
        await _http.SaysAsync("/manage/audit", "looked at rows of s/Rivers in the draft as field");
        Assert.Equal(
            400,
            (
                await SendAsync(
                    "/rows",
                    new
                    {
                        service = "s",
                        set = "Rivers",
                        @as = "No Body!",
                    }
                )
            ).Status
        );
        Assert.Equal(409, (await SendAsync("/rows", new { service = "s", set = "Brooks" })).Status);
    }

    [Fact]
    public async Task A_database_is_tried_before_its_file_is_written()
    {
        var files = (await _http.SendAsync("/manage/draft/databases", "GET", null, Own)).Json;
        Assert.Equal(["data.db"], Texts(files.GetProperty("files")));
        Assert.False(files.GetProperty("keepsSecrets").GetBoolean());
        var good = (await SendAsync("/connect", new { name = "lab", text = "engine: sqlite\nfile: data.db\n" })).Json;
        Assert.True(good.GetProperty("ok").GetBoolean());
        Assert.Equal(
            ["table 2", "view 1"],
            good.GetProperty("counts")
                .EnumerateArray()
                .Select(c => $"{c.GetProperty("kind").GetString()} {c.GetProperty("count").GetInt32()}")
        );
        Assert.False(File.Exists(Path.Combine(_folder.Folder, "sources/lab.yaml")));
    }

    [Theory]
    [InlineData("engine: sqlite\nfile: none.db\n", "none.db")]
    [InlineData("engine: sqlite\n", "file")]
    [InlineData("engine: oracle\n", "oracle")]
    [InlineData("engine: [\n", "")]
    [InlineData("engine: postgresql\nhost: 127.0.0.1\nport: 1\ndatabase: d\nuser: u\npassword: \"${NONE}\"\n", "NONE")]
    [InlineData("engine: postgresql\nhost: 127.0.0.1\nport: 1\ndatabase: d\nuser: u\n", "127.0.0.1")]
    public async Task Why_a_database_cannot_be_used_is_said_in_words(string text, string word)
    {
        var answer = (await SendAsync("/connect", new { name = "lab", text })).Json;
        Assert.False(answer.GetProperty("ok").GetBoolean());
        Assert.Contains(word, answer.GetRawText());
    }

    [Fact]
    public async Task A_secret_that_is_tried_is_kept_nowhere_and_shown_nowhere()
    {
        var answer = await SendAsync(
            "/connect",
            new
            {
                name = "lab",
                text = "engine: postgresql\nhost: 127.0.0.1\nport: 1\ndatabase: d\nuser: u\npassword: \"${LAB}\"\n",
                secrets = new Dictionary<string, string> { ["LAB"] = "hush-hush" },
            }
        );
        Assert.False(answer.Json.GetProperty("ok").GetBoolean());
        Assert.DoesNotContain("hush-hush", answer.Text);
        foreach (var file in Directory.EnumerateFiles(_folder.Folder, "*", SearchOption.AllDirectories).Where(f => !f.EndsWith(".db")))
            Assert.DoesNotContain("hush-hush", await File.ReadAllTextAsync(file));
        Assert.Equal(400, (await SendAsync("/connect", new { name = "../x", text = "" })).Status);
        Assert.Equal(400, (await SendAsync("/connect", new { name = "lab" })).Status);
    }
}
