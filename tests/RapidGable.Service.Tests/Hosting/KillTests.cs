using System.Collections.Concurrent;
using System.Data.Common;
using System.Diagnostics;
using System.Net.Http.Json;
using System.Text.Json.Nodes;
using Microsoft.Data.Sqlite;
using MySqlConnector;
using Npgsql;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>
/// Writers that go on while the service's process is killed, its connections break and the database crashes under them: what was
/// acknowledged is
/// there, nothing is there twice, and no group is there in part. The database keeps the answers of repeatable requests in a table, so
/// that a request without an
/// answer can be sent again, also to the next process.
/// </summary>
public sealed class KillTests : IAsyncLifetime
{
    private const int GroupSize = 3;

    private readonly TestWorkspace _folder = new();
    private readonly int _port = LocalServer.FreePort();
    private readonly ConcurrentDictionary<string, bool> _acknowledged = new();
    private readonly ConcurrentDictionary<string, bool> _groups = new();
    private readonly ConcurrentQueue<string> _said = new();
    private Process? _serve;
    private int _writes;
    private int _done;

    public Task InitializeAsync() => Task.CompletedTask;

    public async Task DisposeAsync()
    {
        await EndAsync();
        _folder.Dispose();
    }

    /// <summary>A database whose server can be hurt.</summary>
    private sealed record Victim(string Source, Func<DbConnection> Connect, IAsyncLifetime? Server, params Func<Task>[] Blows);

    private async Task<Victim> PrepareAsync(string engine)
    {
        const string answers = "CREATE TABLE gable_repeats (id VARCHAR(200) NOT NULL PRIMARY KEY, answer {0} NOT NULL, at {1})";
        switch (engine)
        {
            case "postgresql":
                var postgres = new PostgresServer();
                await postgres.InitializeAsync();
                var database = await postgres.CreateDatabaseAsync();
                await postgres.ExecuteAsync(
                    database,
                    "CREATE TABLE mark (id INTEGER GENERATED ALWAYS AS IDENTITY PRIMARY KEY, word VARCHAR(60) NOT NULL, part "
                        + "INTEGER NOT NULL);"
                        + string.Format(answers, "TEXT", "TIMESTAMPTZ")
                );
                return new Victim(
                    postgres.SourceFile(database),
                    () => new NpgsqlConnection(postgres.Connection(database)),
                    postgres,
                    postgres.CrashAsync,
                    () =>
                        postgres.ExecuteAsync(
                            "postgres",
                            $"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '{database}'"
                        )
                );
            case "mariadb":
                var mariadb = new MariaDbServer();
                await mariadb.InitializeAsync();
                var own = await mariadb.CreateDatabaseAsync();
                await mariadb.ExecuteAsync(
                    own,
                    "CREATE TABLE mark (id INTEGER AUTO_INCREMENT PRIMARY KEY, word VARCHAR(60) NOT NULL, part INTEGER NOT NULL);"
                        + string.Format(answers, "LONGTEXT", "DATETIME")
                );
                return new Victim(
                    mariadb.SourceFile(own),
                    () => new MySqlConnection(mariadb.Connection(own)),
                    mariadb,
                    mariadb.CrashAsync,
                    () => mariadb.DisconnectAsync(own)
                );
            default:
                _folder
                    .Write("workspace.yaml", "title: T\n")
                    .WithDatabase(
                        "CREATE TABLE mark (id INTEGER PRIMARY KEY, word TEXT NOT NULL, part INTEGER NOT NULL);"
                            + string.Format(answers, "TEXT", "TIMESTAMP")
                    );
                return new Victim(
                    "engine: sqlite\nfile: data.db\n",
                    () => new SqliteConnection($"Data Source={Path.Combine(_folder.Folder, "data.db")};Pooling=False"),
                    null
                );
        }
    }

    private async Task StartAsync()
    {
        for (var attempt = 0; ; attempt++)
        {
            _serve = Gable.Start(_folder.Folder, "serve", ".", "--port", $"{_port}");
            if (await _serve.StandardOutput.ReadLineAsync() is { } line && line.StartsWith("Ready", StringComparison.Ordinal))
                break;
            await _serve.WaitForExitAsync();
            Assert.True(attempt < 20, await _serve.StandardError.ReadToEndAsync());
            await Task.Delay(100);
        }
        // A full pipe would stop it.
        _ = ListenAsync(_serve.StandardOutput);
        _ = ListenAsync(_serve.StandardError);
    }

    private async Task ListenAsync(StreamReader output)
    {
        while (await output.ReadLineAsync() is { } line)
        {
            _said.Enqueue(line);
            if (_said.Count > 30)
                _said.TryDequeue(out _);
        }
    }

    private async Task EndAsync()
    {
        if (_serve is null)
            return;
        _serve.Kill(entireProcessTree: true);
        await _serve.WaitForExitAsync();
        _serve.Dispose();
        _serve = null;
    }

    [Theory] // and "nothing lost and nothing half done"
    [InlineData("postgresql", 2_000)]
    [InlineData("mariadb", 1_500)]
    [InlineData("sqlite", 1_000)]
    [Proves("M-51")]
    public async Task What_was_acknowledged_is_there_once_and_whole(string engine, int writes)
    {
        _writes = writes *= Soak.Times;
        var victim = await PrepareAsync(engine);
        try
        {
            _folder
                .Write("workspace.yaml", "title: T\n")
                .Write("sources/main.yaml", victim.Source + "read-only: false\nrepeats: gable_repeats\n")
                .Write(
                    "services/s.yaml",
                    "title: S\nsource: main\nrules: { read: anyone, create: anyone }\nsets:\n  - { from: mark, name: Marks, "
                        + "allow: [read, create] }\n"
                );
            await StartAsync();
            using var stop = new CancellationTokenSource(TimeSpan.FromMinutes(4 * Soak.Times));
            var writers = Enumerable.Range(0, 8).Select(n => Task.Run(() => WriteAsync(n, stop.Token))).ToList();
            var kills = await DisturbAsync(victim, Task.WhenAll(writers), stop.Token);
            await Task.WhenAll(writers);
            Assert.True(_acknowledged.Count + (_groups.Count * GroupSize) >= writes, $"{_acknowledged.Count} and {_groups.Count} groups");
            Assert.True(kills >= writes / 600, $"{kills} kills");
            await EndAsync();
            await CheckAsync(victim);
        }
        finally
        {
            if (victim.Server is not null)
                await victim.Server.DisposeAsync();
        }
    }

    private async Task CheckAsync(Victim victim)
    {
        var words = new Dictionary<string, List<int>>();
        await using (var connection = victim.Connect())
        {
            await connection.OpenAsync();
            await using var command = connection.CreateCommand();
            command.CommandText = "SELECT word, part FROM mark";
            await using var reader = await command.ExecuteReaderAsync();
            while (await reader.ReadAsync())
            {
                if (!words.TryGetValue(reader.GetString(0), out var parts))
                    words[reader.GetString(0)] = parts = [];
                parts.Add(reader.GetInt32(1));
            }
        }
        Assert.Equal("", string.Join(", ", _acknowledged.Keys.Where(w => !words.ContainsKey(w))));
        Assert.Equal("", string.Join(", ", _groups.Keys.Where(w => !words.ContainsKey(w))));
        Assert.Equal(
            "",
            string.Join(", ", words.Where(w => w.Key.StartsWith("one", StringComparison.Ordinal) && w.Value.Count != 1).Select(w => w.Key))
        );
        Assert.Equal(
            "",
            string.Join(
                ", ",
                words
                    .Where(w => w.Key.StartsWith("group", StringComparison.Ordinal) && w.Value.Order().ToArray() is not [0, 1, 2])
                    .Select(w => w.Key)
            )
        );
    }

    /// <summary>Kills the process again and again, and hurts the database in between, until the work is done.</summary>
    private async Task<int> DisturbAsync(Victim victim, Task work, CancellationToken cancellation)
    {
        var random = new Random(5);
        var kills = 0;
        while (!work.IsCompleted)
        {
            // The next blow falls after some more writes, whatever the machine's speed.
            var next = Volatile.Read(ref _done) + random.Next(200, 500);
            while (Volatile.Read(ref _done) < next && !work.IsCompleted)
                await Task.Delay(5, cancellation);
            if (work.IsCompleted)
                break;
            kills++;
            if (kills % 2 == 0 && victim.Blows.Length > 0)
            {
                await victim.Blows[kills / 2 % victim.Blows.Length]();
                continue;
            }
            await EndAsync();
            await StartAsync();
        }
        return kills;
    }

    private async Task WriteAsync(int writer, CancellationToken cancellation)
    {
        using var client = new HttpClient
        {
            BaseAddress = new Uri($"http://127.0.0.1:{_port}/odata/s/"),
            Timeout = TimeSpan.FromSeconds(20),
        };
        for (var n = 0; Volatile.Read(ref _done) < _writes; n++)
        {
            if (n % 4 == 3)
                await GroupAsync(client, $"group {writer} {n}", cancellation);
            else
                await OneAsync(client, $"one {writer} {n}", cancellation);
        }
    }

    /// <summary>A request that is sent until it is answered, the same each time.</summary>
    private async Task OneAsync(HttpClient client, string word, CancellationToken cancellation)
    {
        var (id, sent) = (Guid.NewGuid().ToString(), DateTimeOffset.UtcNow.ToString("r"));
        while (true)
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, "Marks") { Content = JsonContent.Create(new { word, part = 0 }) };
            request.Headers.Add("Repeatability-Request-ID", id);
            request.Headers.Add("Repeatability-First-Sent", sent);
            if (await StatusAsync(client, request, cancellation) is not { } status || status == 503)
            {
                await Task.Delay(20, cancellation);
                continue;
            }
            Assert.True(status == 201, $"{status}\n{string.Join('\n', _said)}");
            _acknowledged[word] = true;
            Interlocked.Increment(ref _done);
            return;
        }
    }

    /// <summary>A group that is sent until all of it is answered, the same each time.</summary>
    private async Task GroupAsync(HttpClient client, string word, CancellationToken cancellation)
    {
        var (id, sent) = (Guid.NewGuid().ToString(), DateTimeOffset.UtcNow.ToString("r"));
        var body = new JsonObject
        {
            ["requests"] = new JsonArray([
                .. Enumerable
                    .Range(0, GroupSize)
                    .Select(i =>
                        (JsonNode)
                            new JsonObject
                            {
                                ["id"] = $"{i}",
                                ["atomicityGroup"] = "g",
                                ["method"] = "POST",
                                ["url"] = "Marks",
                                ["body"] = new JsonObject { ["word"] = word, ["part"] = i },
                                ["headers"] = new JsonObject
                                {
                                    ["content-type"] = "application/json",
                                    ["prefer"] = "return=minimal",
                                    ["repeatability-request-id"] = $"{id}-{i}",
                                    ["repeatability-first-sent"] = sent,
                                },
                            }
                    ),
            ]),
        };
        while (true)
        {
            try
            {
                using var response = await client.PostAsJsonAsync("$batch", body, cancellation);
                if (response.IsSuccessStatusCode)
                {
                    var answers = (await response.Content.ReadFromJsonAsync<JsonObject>(cancellation))!["responses"]!
                        .AsArray()
                        .Select(a => (int)a!["status"]!)
                        .ToList();
                    if (answers.TrueForAll(a => a == 204))
                        break;
                    // A group that is not done is told so in every part of it.
                    Assert.True(answers.TrueForAll(a => a is 424 or 503), $"{string.Join(' ', answers)}\n{string.Join('\n', _said)}");
                }
            }
            catch (Exception exception)
                when (exception is HttpRequestException or IOException
                    || (exception is OperationCanceledException && !cancellation.IsCancellationRequested)
                ) { }
            await Task.Delay(20, cancellation);
        }
        _groups[word] = true;
        Interlocked.Add(ref _done, GroupSize);
    }

    private static async Task<int?> StatusAsync(HttpClient client, HttpRequestMessage request, CancellationToken cancellation)
    {
        try
        {
            using var response = await client.SendAsync(request, cancellation);
            await response.Content.ReadAsByteArrayAsync(cancellation);
            return (int)response.StatusCode;
        }
        catch (Exception exception)
            when (exception is HttpRequestException or IOException
                || (exception is OperationCanceledException && !cancellation.IsCancellationRequested)
            )
        {
            return null;
        }
    }
}
