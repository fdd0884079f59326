using System.Text.Json;
using Microsoft.Extensions.Time.Testing;
using RapidGable.Core.Tests;
using RapidGable.Service.Management;
using RapidGable.Service.Publishing;
using RapidGable.Service.Stores;
using RapidGable.Verification;

namespace RapidGable.Service.Tests;

/// <summary>Verifications by the management interface: one at a time, cancelled, kept and compared.</summary>
public sealed class VerificationEndpointsTests : IAsyncLifetime
{
    private static readonly (string, string)[] Own = [("Gable-Client", "test")];

    private readonly TestWorkspace _folder = new();
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .WithDatabase("CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT); INSERT INTO river VALUES (1, 'Alder');")
            .WithService("  - river\n")
            .WithService("  - river\n", "t");
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private Task<Answer> SendAsync(string method, string path, object? body = null) =>
        _http.SendAsync("/manage/verifications" + path, method, body is null ? null : JsonSerializer.Serialize(body), Own);

    /// <summary>Waits for the run that is going on.</summary>
    private async Task<JsonElement> EndAsync()
    {
        for (var i = 0; i < 600; i++)
        {
            var state = (await SendAsync("GET", "")).Json.GetProperty("current");
            if (!state.GetProperty("isRunning").GetBoolean())
                return state;
            await Task.Delay(100);
        }
        throw new TimeoutException("The verification does not end.");
    }

    [Fact]
    public async Task A_run_is_kept_with_what_it_found()
    {
        Assert.Equal(202, (await SendAsync("POST", "", new { services = new[] { "s" }, access = false })).Status);
        var ended = await EndAsync();
        Assert.Equal(1, ended.GetProperty("number").GetInt32());
        var summary = (await SendAsync("GET", "")).Json.GetProperty("former")[0];
        Assert.Equal(0, summary.GetProperty("failed").GetInt32());
        var details = (await SendAsync("GET", "/1")).Json;
        Assert.All(details.GetProperty("parts").EnumerateArray(), p => Assert.StartsWith("s", p.GetProperty("title").GetString()));
        Assert.NotEqual(0, summary.GetProperty("passed").GetInt32());
        var page = await SendAsync("GET", "/1/report");
        Assert.StartsWith("<!doctype html>", page.Text);
        Assert.Equal(404, (await SendAsync("GET", "/2")).Status);
        Assert.Equal(404, (await SendAsync("GET", "/2/report")).Status);
    }

    [Theory]
    [InlineData("{\"services\":[\"none\"]}")]
    [InlineData("{\"rows\":0}")]
    [InlineData("no json")]
    public async Task What_cannot_be_verified_is_refused(string body) =>
        Assert.Equal(400, (await _http.SendAsync("/manage/verifications", "POST", body, Own)).Status);

    [Fact]
    public async Task A_draft_with_faults_ends_with_its_fault()
    {
        await File.AppendAllTextAsync(Path.Combine(_folder.Folder, "services/s.yaml"), "  - brook\n");
        Assert.Equal(202, (await SendAsync("POST", "", new { })).Status);
        var ended = await EndAsync();
        Assert.Contains("brook", ended.GetProperty("failure").GetString());
        Assert.False(ended.TryGetProperty("number", out _));
    }

    private static VerificationReport Report(params (string Subject, CheckOutcome Outcome)[] results) =>
        new([
            new ServiceReport(
                "s",
                "http://x/",
                [.. results.Select(r => new CheckResult("c", r.Subject, r.Outcome, "m", 1))],
                TimeSpan.FromSeconds(1)
            ),
        ]);

    [Fact]
    public async Task One_runs_at_a_time_and_can_be_cancelled()
    {
        var isIn = new TaskCompletionSource();
        await using var runs = new VerificationRuns(
            async (_, progress, cancellation) =>
            {
                progress("a", "");
                progress("a", "1");
                progress("b", "2");
                isIn.SetResult();
                await Task.Delay(Timeout.Infinite, cancellation);
                return Report();
            },
            new VerificationArchive(new StateInMemory()),
            new FakeTimeProvider()
        );
        Assert.Null(runs.Current);
        await runs.CancelAsync();
        Assert.True(runs.TryStart(new VerificationWish([], 1, true), "ada"));
        Assert.False(runs.TryStart(new VerificationWish([], 1, true), "ben"));
        await isIn.Task;
        Assert.Equal(("b", "2", "a"), (runs.Current!.Part, runs.Current.Detail, runs.Current.Done.Single()));
        await runs.CancelAsync();
        Assert.False(runs.Current.IsRunning);
        Assert.Equal("It was cancelled.", runs.Current.Failure);
    }

    [Fact]
    public async Task What_turned_is_told_beside_the_run_before_of_the_same_services()
    {
        var archive = new VerificationArchive(WorkspaceState.Of(_folder.Folder));
        archive.Keep(
            DateTime.UnixEpoch,
            "ada",
            [],
            Report(("a", CheckOutcome.Passed), ("b", CheckOutcome.Failed), ("c", CheckOutcome.Passed))
        );
        archive.Keep(DateTime.UnixEpoch, "ada", ["s"], Report(("a", CheckOutcome.Failed)));
        archive.Keep(
            DateTime.UnixEpoch,
            "ada",
            [],
            Report(("a", CheckOutcome.Failed), ("b", CheckOutcome.Passed), ("d", CheckOutcome.Failed))
        );
        var details = (await SendAsync("GET", "/3")).Json;
        Assert.Equal(1, details.GetProperty("before").GetInt32());
        Assert.Equal("s: a c", details.GetProperty("broken").EnumerateArray().Single().GetString());
        Assert.Equal("s: b c", details.GetProperty("mended").EnumerateArray().Single().GetString());
        Assert.False((await SendAsync("GET", "/1")).Json.TryGetProperty("before", out _));
    }

    [Fact]
    public void The_newest_ten_are_kept()
    {
        var archive = new VerificationArchive(new StateInMemory());
        for (var i = 0; i < 12; i++)
            archive.Keep(DateTime.UnixEpoch, "ada", [], Report());
        Assert.Equal(Enumerable.Range(3, 10).Reverse(), archive.All().Select(k => k.Number));
        Assert.Null(archive.Find(2));
    }
}
