using Microsoft.Extensions.Time.Testing;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>A running service follows its files and databases, and keeps its last good state when they do not fit.</summary>
public sealed class RefreshTests : IDisposable
{
    private readonly TestWorkspace _folder = new();

    public RefreshTests() =>
        _folder
            .WithSource()
            .WithDatabase("CREATE TABLE river (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO river VALUES (1, 'Alder')")
            .WithService("  - river\n");

    public void Dispose() => _folder.Dispose();

    private static Task<Answer> RefreshAsync(RunningService service) =>
        service.SendAsync("/manage/refresh", "POST", ("Gable-Client", "test"));

    [Fact]
    public async Task Metadata_follows_the_database()
    {
        await using var service = await RunningService.StartAsync(_folder.Folder);
        Assert.Equal("[]", (await RefreshAsync(service)).Json.GetProperty("changed").GetRawText());
        _folder.WithDatabase("ALTER TABLE river ADD COLUMN length_km REAL");
        Assert.DoesNotContain("length_km", (await service.SendAsync("/odata/s/$metadata")).Text);
        var outcome = (await RefreshAsync(service)).Json;
        Assert.False(outcome.GetProperty("kept").GetBoolean());
        Assert.Equal("s", outcome.GetProperty("changed")[0].GetProperty("service").GetString());
        Assert.Contains("length_km", (await service.SendAsync("/odata/s/$metadata")).Text);
        Assert.Contains("\"length_km\":null", (await service.SendAsync("/odata/s/river")).Text);
        _folder.Write("services/t.yaml", "title: T\nsource: main\nrules: { read: anyone }\nsets: [river]\n");
        await RefreshAsync(service);
        Assert.Equal(200, (await service.SendAsync("/odata/t/river(1)")).Status);
        File.Delete(Path.Combine(_folder.Folder, "services/t.yaml"));
        await RefreshAsync(service);
        Assert.Equal(404, (await service.SendAsync("/odata/t/river(1)")).Status);
    }

    [Theory] // what breaks a declared thing is reported, and the last good state goes on
    [InlineData("services/s.yaml", "title: S\nsource: main\nsets: [rivre]\n", null, "no table or view 'rivre'")]
    [InlineData("services/s.yaml", "title: S\nsource: [\n", null, "not valid YAML")]
    [InlineData("sources/main.yaml", "engine: sqlite\nfile: gone.db\n", null, "gone.db")]
    [InlineData(
        "services/s.yaml",
        "title: S\nsource: main\nrules: { read: anyone }\nsets: [{ from: river, hide: [name] }]\n",
        "ALTER TABLE river DROP COLUMN name",
        "no column 'name'"
    )]
    public async Task What_does_not_fit_leaves_all_as_it_was(string file, string text, string? sql, string message)
    {
        await using var service = await RunningService.StartAsync(_folder.Folder);
        var before = (await service.SendAsync("/services")).Text;
        _folder.Write(file, text);
        if (sql is not null)
            _folder.WithDatabase(sql);
        var outcome = (await RefreshAsync(service)).Json;
        Assert.True(outcome.GetProperty("kept").GetBoolean());
        Assert.Contains(message, outcome.GetProperty("faults")[0].GetProperty("message").GetString());
        Assert.Equal(before, (await service.SendAsync("/services")).Text);
        var ready = await service.SendAsync("/health/ready");
        Assert.Equal(200, ready.Status);
        Assert.StartsWith("ready, with the last good state: 1 fault:", ready.Text);
        if (sql is null)
            Assert.Equal(200, (await service.SendAsync("/odata/s/river(1)")).Status);
        _folder.WithService("  - river\n").WithSource();
        await RefreshAsync(service);
        Assert.Equal("ready", (await service.SendAsync("/health/ready")).Text);
    }

    private const string Set =
        "title: S\nsource: main\nnamespace: T\nrules: { read: anyone, create: anyone, update: anyone }\nsets:\n  - from: "
        + "river\n    allow: [read, create, update]\n    version: row\n";

    // Whatever a text says is noticed, and it is said what it is about.
    [Theory]
    [InlineData("services/s.yaml", Set + "    require-version: true\n", "river: require-version")]
    [InlineData("services/s.yaml", Set + "    valid: [{ where: id gt 0, who: office }]\n", "river: valid")]
    [InlineData("services/s.yaml", Set + "    valid: [{ where: id gt 0 }]\n", "river: valid")]
    [InlineData("services/s.yaml", Set + "    columns: { name: { generate: user } }\n", "river: properties and relations")]
    [InlineData("services/s.yaml", Set + "    columns: { name: { references: all } }\n", "river: properties and relations")]
    [InlineData("services/s.yaml", Set + "    columns: { name: { pattern: 'A.*' } }\n", "river: properties and relations")]
    [InlineData("services/s.yaml", Set + "    compute: { long: 'concat(name,name)' }\n", "river: properties and relations")]
    [InlineData("services/s.yaml", Set + "    log: { to: river_log, columns: { set: what } }\n", "river: log")]
    [InlineData("services/s.yaml", Set + "    largest-page: 7\n    page: 5\n", "river: largest-page, page")]
    [InlineData("services/s.yaml", Set + "  - { from: river, name: More, type: More }\n", "More is new")]
    [InlineData(
        "workspace.yaml",
        "title: Test\nlimits: { requests-at-once: 9 }\n",
        "limits have changed: they hold from the next request on, 'memory' when the service starts again"
    )]
    [InlineData("workspace.yaml", "title: Test\naudit: false\n", "audit has changed")]
    [InlineData("workspace.yaml", "title: Other\n", "title has changed")]
    [InlineData("workspace.yaml", "title: Test\nsign-in: { proxy: { from: [10.0.0.5], name: X-Remote-User } }\n", "sign-in has changed")]
    [InlineData(
        "workspace.yaml",
        "title: Test\ntransport: { hsts-days: 3 }\n",
        "transport has changed: it is taken when the service starts again"
    )]
    [InlineData(
        "sources/main.yaml",
        "engine: sqlite\nfile: data.db\nread-only: false\nsessions: 3\n",
        "the settings of source main have changed: its sessions are opened anew"
    )]
    [InlineData("services/s.yaml", Set + "# a note\n", "the texts have changed, and nothing that they say")]
    public async Task Every_change_is_noticed_and_told(string file, string text, string expected)
    {
        _folder
            .WithDatabase("CREATE TABLE river_log (what TEXT)")
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .Write("services/s.yaml", Set);
        await using var service = await RunningService.StartAsync(_folder.Folder);
        _folder.Write(file, text);
        var outcome = (await RefreshAsync(service)).Json;
        Assert.False(outcome.GetProperty("kept").GetBoolean(), outcome.ToString());
        var told = outcome
            .GetProperty("differences")
            .EnumerateArray()
            .Select(d => d.GetProperty("text").GetString())
            .Concat(outcome.GetProperty("settings").EnumerateArray().Select(t => t.GetString()))
            .ToList();
        Assert.Equal(expected, Assert.Single(told));
        Assert.Equal(1, outcome.GetProperty("changed").GetArrayLength()); // every text of the workspace is part of what is published
        var again = (await RefreshAsync(service)).Json;
        Assert.Equal("[] []", $"{again.GetProperty("differences")} {again.GetProperty("settings")}");
    }

    [Fact]
    public async Task A_request_that_runs_ends_on_the_state_it_began_with()
    {
        _folder
            .WithDatabase(
                "WITH RECURSIVE n (i) AS (SELECT 2 UNION ALL SELECT i + 1 FROM n WHERE i < 60000) INSERT INTO river SELECT i, "
                    + "'a river whose name is long enough to fill some buffers ' || i FROM n"
            )
            .WithService("  - { from: river, page: 60000, largest-page: 60000 }\n");
        await using var service = await RunningService.StartAsync(_folder.Folder);
        using var client = new HttpClient();
        using var response = await client.GetAsync(service.Address + "/odata/s/river", HttpCompletionOption.ResponseHeadersRead);
        await using var body = await response.Content.ReadAsStreamAsync();
        var first = new byte[100];
        await body.ReadExactlyAsync(first);
        _folder.WithService("  - { from: river, name: Rivers }\n");
        Assert.False((await RefreshAsync(service)).Json.GetProperty("kept").GetBoolean());
        Assert.Equal(404, (await service.SendAsync("/odata/s/river")).Status);
        using var rest = new StreamReader(body);
        Assert.EndsWith("long enough to fill some buffers 60000\"}]}", await rest.ReadToEndAsync());
    }

    [Fact]
    public async Task An_interval_looks_again_by_itself()
    {
        _folder.Write("workspace.yaml", "title: T\nrefresh-seconds: 30\n");
        var time = new FakeTimeProvider(DateTimeOffset.UnixEpoch);
        await using var service = await RunningService.StartAsync(_folder.Folder, time);
        _folder.WithDatabase("ALTER TABLE river ADD COLUMN length_km REAL");
        var metadata = "";
        // Time is moved until the service, on its own thread, has had its turn.
        for (var i = 0; i < 600 && !metadata.Contains("length_km"); i++)
        {
            time.Advance(TimeSpan.FromSeconds(31));
            metadata = (await service.SendAsync("/odata/s/$metadata")).Text;
        }
        Assert.Contains("length_km", metadata);
    }

    [Fact]
    public async Task The_client_says_what_a_refresh_did()
    {
        await using var service = await RunningService.StartAsync(_folder.Folder);
        Assert.Contains("Nothing has changed.", (await Gable.RunAsync(_folder.Folder, "refresh", service.Address)).Output);
        _folder.WithService("  - { from: river, name: Rivers }\n");
        var changed = await Gable.RunAsync(_folder.Folder, "refresh", service.Address);
        Assert.Equal(0, changed.Code);
        Assert.Matches("s: [0-9a-f]{8} -> [0-9a-f]{8}", changed.Output);
        _folder.WithService("  - rivre\n");
        var kept = await Gable.RunAsync(_folder.Folder, "refresh", service.Address);
        Assert.Equal(1, kept.Code);
        Assert.Contains("services/s.yaml:7:5: The source 'main' has no table or view 'rivre'. Did you mean 'river'?", kept.Output);
        Assert.Equal(1, (await Gable.RunAsync(_folder.Folder, "refresh", "http://127.0.0.1:1")).Code);
        Assert.Equal(2, (await Gable.RunAsync(_folder.Folder, "refresh", "nowhere")).Code);
        Assert.Equal(403, (await service.SendAsync("/manage/refresh", "POST")).Status);
    }

    [Fact]
    public async Task A_table_that_goes_between_looking_and_publishing_is_missed()
    {
        _folder.WithDatabase("DROP TABLE river");
        var check = await Gable.RunAsync(_folder.Folder, "check");
        Assert.Equal(1, check.Code);
        Assert.Contains("has no table or view 'river'", check.Errors);
        Assert.Equal(1, (await Gable.RunAsync(_folder.Folder, "serve", "--port", "0", ".")).Code);
    }
}
