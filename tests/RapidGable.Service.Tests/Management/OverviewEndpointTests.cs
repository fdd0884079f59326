using System.Text.Json;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>What an operator sees at a glance.</summary>
public sealed class OverviewEndpointTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .Write("workspace.yaml", "title: T\nlimits:\n  requests-per-minute: 10\n")
            .WithDatabase("CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT); INSERT INTO river VALUES (1, 'Alder');")
            .WithService("  - river\n");
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private async Task<JsonElement> OverviewAsync() => (await _http.SendAsync("/manage/overview")).Json;

    [Fact]
    public async Task Requests_sets_callers_and_databases_are_told()
    {
        for (var i = 0; i < 4; i++)
            Assert.Equal(200, (await _http.SendAsync("/rest/s/river")).Status);
        Assert.Equal(404, (await _http.SendAsync("/rest/s/nothing")).Status);
        Assert.Equal(400, (await _http.SendAsync("/rest/s/river?limit=x")).Status);
        for (var i = 0; i < 8; i++)
            await _http.SendAsync("/rest/s/river");
        var overview = await OverviewAsync();
        var service = Assert.Single(overview.GetProperty("services").EnumerateArray());
        var minutes = service.GetProperty("minutes").EnumerateArray().ToList();
        Assert.Equal(60, minutes.Count);
        Assert.True(minutes.Sum(m => m.GetProperty("requests").GetInt64()) >= 6);
        Assert.True(minutes.Sum(m => m.GetProperty("refused").GetInt64()) >= 2);
        var busiest = overview.GetProperty("busiest").EnumerateArray().Select(b => b.GetProperty("set").GetString()).ToList();
        // A set that is not there has no line of its own.
        Assert.Contains("river", busiest);
        Assert.DoesNotContain("nothing", busiest);
        var caller = Assert.Single(overview.GetProperty("limits").GetProperty("busiest").EnumerateArray());
        Assert.True(caller.GetProperty("isNear").GetBoolean());
        var source = Assert.Single(overview.GetProperty("sources").EnumerateArray());
        Assert.False(source.TryGetProperty("fault", out _));
        Assert.True(overview.GetProperty("memory").GetProperty("most").GetInt64() > 0);
    }

    [Fact]
    public async Task A_database_that_is_away_is_told()
    {
        // In its place, since sessions that are open keep their file.
        await File.WriteAllTextAsync(Path.Combine(_folder.Folder, "data.db"), new string('x', 4096));
        var overview = await OverviewAsync();
        var source = Assert.Single(overview.GetProperty("sources").EnumerateArray());
        Assert.Contains("not a database", source.GetProperty("fault").GetString());
        Assert.Equal(503, (await _http.SendAsync("/health/ready")).Status);
    }
}

/// <summary>Statements that are slow are remembered with their plan, and with no value.</summary>
public sealed class SlowStatementTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        // Slow enough for the least limit on any machine: a number of rows that are made, counted and thrown away.
        _folder
            .WithSource()
            .Write("workspace.yaml", "title: T\nlimits:\n  slow-seconds: 1\n")
            .WithDatabase("CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, name TEXT); INSERT INTO t VALUES (1, 'secret value');")
            .Write(
                "services/s.yaml",
                """
                title: S
                source: main
                rules: { read: anyone }
                queries:
                  - name: Slow
                    select: |
                      WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < :most)
                      SELECT t.id, COUNT(*) AS found FROM t, n WHERE t.name = :name GROUP BY t.id
                    parameters: { most: { type: int64, example: 10 }, name: { type: string, example: x } }
                    columns: { found: int64 }

                """
            );
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    [Fact]
    public async Task A_slow_statement_stands_there_with_its_plan_and_without_values()
    {
        for (var rows = 2_000_000L; rows < 2_000_000_000; rows *= 2)
        {
            var answer = await _http.SendAsync($"/rest/s/Slow?most={rows}&name=secret%20value");
            Assert.Equal(200, answer.Status);
            for (var tries = 0; tries < 20; tries++)
            {
                var overview = await _http.SendAsync("/manage/overview");
                var slow = overview.Json.GetProperty("slow").EnumerateArray().ToList();
                // The plan is asked for beside the request, and comes a moment later.
                if (slow.Count == 0 || slow[0].GetProperty("plan").GetArrayLength() == 0)
                {
                    await Task.Delay(50);
                    continue;
                }
                Assert.Contains("WITH RECURSIVE", slow[0].GetProperty("sql").GetString());
                Assert.NotEqual(0, slow[0].GetProperty("plan").GetArrayLength());
                Assert.DoesNotContain("secret value", overview.Text);
                return;
            }
        }
        Assert.Fail("no statement was slow");
    }
}
