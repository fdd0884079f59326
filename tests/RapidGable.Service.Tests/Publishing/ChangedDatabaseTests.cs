using Microsoft.Extensions.Time.Testing;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>A database that moves away under a running service, or is not there when it starts.</summary>
[Collection("engines")]
public sealed class ChangedDatabaseTests(EnginesFixture engines) : IDisposable
{
    private readonly TestWorkspace _folder = new();

    public void Dispose() => _folder.Dispose();

    private const string Sql =
        "CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(40)); INSERT INTO river VALUES (1, 'Alder')";

    /// <summary>A workspace over a new database, and how to change that.</summary>
    private async Task<Func<string, Task>> PrepareAsync(string engine)
    {
        _folder.WithSource().WithService("  - river\n");
        switch (engine)
        {
            case "postgresql":
                var first = await engines.Postgres.CreateDatabaseAsync();
                _folder.Write("sources/main.yaml", engines.Postgres.SourceFile(first));
                return sql => engines.Postgres.ExecuteAsync(first, sql);
            case "mariadb":
                var second = await engines.MariaDb.CreateDatabaseAsync();
                _folder.Write("sources/main.yaml", engines.MariaDb.SourceFile(second));
                return sql => engines.MariaDb.ExecuteAsync(second, sql);
            default:
                return sql =>
                {
                    _folder.WithDatabase(sql);
                    return Task.CompletedTask;
                };
        }
    }

    private static async Task<Answer> UntilAsync(Func<Task<Answer>> ask, Func<Answer, bool> isIt)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        while (true)
        {
            var answer = await ask();
            if (isIt(answer))
                return answer;
            Assert.False(limit.IsCancellationRequested, $"{answer.Status} {answer.Text}");
            await Task.Delay(50);
        }
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public async Task A_column_that_goes_is_told_and_looked_at_again(string engine)
    {
        var change = await PrepareAsync(engine);
        await change(Sql);
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var http = await RunningService.StartAsync(_folder.Folder, time);
        Assert.Equal(200, (await http.SendAsync("/odata/s/river")).Status);
        await change("ALTER TABLE river RENAME COLUMN name TO title");
        var gone = await http.SendAsync("/odata/s/river");
        Assert.Equal(
            (503, "source-changed", "5"),
            (gone.Status, gone.Json.GetProperty("error").GetProperty("code").GetString(), gone.Header("Retry-After"))
        );
        Assert.DoesNotContain("name", gone.Json.GetProperty("error").GetProperty("message").GetString());
        // The service follows the files by itself; a look that fails is repeated after a while.
        Task<Answer> Later(string address)
        {
            time.Advance(TimeSpan.FromSeconds(1));
            return http.SendAsync(address);
        }
        var back = await UntilAsync(() => Later("/odata/s/river"), a => a.Status == 200);
        Assert.Contains("\"title\":\"Alder\"", back.Text);
        await UntilAsync(() => Later("/health/ready"), a => a.Text == "ready");
    }

    [Fact]
    public async Task A_state_that_does_not_fit_ends_with_its_cause()
    {
        var change = await PrepareAsync("sqlite");
        await change(Sql);
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var http = await RunningService.StartAsync(_folder.Folder, time);
        _folder.WithService("  - rivre\n");
        Assert.True((await http.SendAsync("/manage/refresh", "POST", ("Gable-Client", "test"))).Json.GetProperty("kept").GetBoolean());
        Assert.StartsWith("ready, with the last good state", (await http.SendAsync("/health/ready")).Text);
        _folder.WithService("  - river\n");
        // No interval is set, and nobody refreshes.
        await UntilAsync(
            () =>
            {
                time.Advance(TimeSpan.FromSeconds(11));
                return http.SendAsync("/health/ready");
            },
            a => a.Text == "ready"
        );
    }

    [Fact]
    public async Task A_service_waits_for_a_database_that_is_down()
    {
        var port = LocalServer.FreePort();
        _folder
            .WithSource()
            .WithService("  - river\n")
            .Write("sources/main.yaml", $"engine: postgresql\nhost: 127.0.0.1\nport: {port}\ndatabase: d\nuser: u\nconnect-seconds: 2\n");
        var late = await Gable.RunAsync(_folder.Folder, "serve", ".", "--port", "0", "--wait", "2");
        Assert.Equal(1, late.Code);
        Assert.Contains("Waiting for it, 2 s at most.", late.Errors);
        // What waiting cannot mend is told at once.
        _folder.Write("sources/main.yaml", engines.Postgres.SourceFile("postgres").Replace(PostgresServer.Password, "wrong"));
        var wrong = await Gable.RunAsync(_folder.Folder, "serve", ".", "--port", "0", "--wait", "50");
        Assert.Contains("password of 'tester' is wrong", wrong.Errors);
        Assert.DoesNotContain("Waiting", wrong.Errors);
    }

    [Theory] // the name makes no difference, only whether signing in could show more
    [InlineData("rules: { read: anyone }", "/odata/s/rivre", 404)]
    [InlineData("rules: { read: anyone }", "/odata/rivers/river", 404)]
    [InlineData("rules: { read: signed-in }", "/odata/s/rivre", 401)]
    [InlineData("rules: { read: signed-in }", "/odata/rivers/river", 401)]
    public async Task A_name_that_is_not_there_asks_for_signing_in_where_that_could_show_more(string rules, string path, int status)
    {
        var change = await PrepareAsync("sqlite");
        await change(Sql);
        Assert.Equal(0, (await Gable.RunWithAsync("a-long-password-1", _folder.Folder, "user", "set", ".", "ada")).Code);
        _folder.Write("services/s.yaml", $"title: S\nsource: main\n{rules}\nsets: [river]\n");
        await using var http = await RunningService.StartAsync(_folder.Folder);
        var answer = await http.SendAsync(path);
        Assert.Equal((status, status == 401), (answer.Status, answer.Header("WWW-Authenticate") is not null));
    }
}
