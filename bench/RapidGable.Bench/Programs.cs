using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using Npgsql;
using RapidGable.Core.Tests;

/// <summary>The programs that are compared, each a process of its own, over the same two databases.</summary>
internal sealed class Programs : IAsyncDisposable
{
    private readonly List<Process> _started = [];
    private readonly PostgresServer _server = new();
    private (int Port, int Process) _gable;
    private (int Port, int Process)? _before;
    private (int Port, int Process) _byHand;
    private int _postmaster;

    /// <summary>The service, the same as it was before, and the three styles of the program written by hand.</summary>
    public required string[] Styles { get; init; }

    public HttpClient Client { get; } = new() { Timeout = TimeSpan.FromMinutes(5) };

    /// <param name="before">Another build of the service, its gable.dll, to compare with; null = none.</param>
    public static async Task<Programs> StartAsync(string root, string database, string workspace, string? before)
    {
        var programs = new Programs
        {
            Styles = before is null ? ["gable", "floor", "mapper", "orm"] : ["gable", "before", "floor", "mapper", "orm"],
        };
        await programs._server.InitializeAsync();
        var name = await programs._server.CreateDatabaseAsync();
        RapidGable.Demo.PostgresDatabase.Make(programs._server.Connection(name), database);
        NpgsqlConnection.ClearAllPools();
        File.WriteAllText(Path.Combine(workspace, "sources/postgresql.yaml"), programs._server.SourceFile(name) + "read-only: false\n");
        await programs.FindPostmasterAsync(name);

        programs._gable = programs.Serve(Path.Combine(root, "artifacts/gable/gable.dll"), workspace);
        programs._before = before is null ? null : programs.Serve(before, workspace);
        var port = FreePort();
        var connection = programs._server.Connection(name).Replace("Pooling=false", "Pooling=true;Maximum Pool Size=8");
        var byHand = Path.Combine(root, "artifacts/bin/RapidGable.Bench.ByHand/release/gable-bench-by-hand.dll");
        programs._byHand = (port, programs.Start(byHand, $"{port}", database, connection));
        foreach (var style in programs.Styles)
            await programs.ReadyAsync(style);
        return programs;
    }

    public Processes Of(string style, string engine) => new(Server(style).Process, engine == "postgresql" ? _postmaster : null);

    /// <summary>The address that a target is below.</summary>
    public string Root(string style, string engine, string face = "odata") =>
        $"http://127.0.0.1:{Server(style).Port}/{Prefix(style, engine, face)}";

    /// <summary>The path of the same.</summary>
    public static string Prefix(string style, string engine, string face = "odata") =>
        style is "gable" or "before" ? $"{face}/{engine}/" : $"{style}/{engine}/";

    public async ValueTask DisposeAsync()
    {
        Client.Dispose();
        foreach (var process in _started)
        {
            process.Kill();
            process.Dispose();
        }
        await _server.DisposeAsync();
    }

    private (int Port, int Process) Server(string style) =>
        style switch
        {
            "gable" => _gable,
            "before" => _before!.Value,
            _ => _byHand,
        };

    private async Task FindPostmasterAsync(string database)
    {
        await using var connection = new NpgsqlConnection(_server.Connection(database));
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand("SELECT pg_backend_pid()", connection);
        _postmaster = Processes.ParentOf((int)(await command.ExecuteScalarAsync())!);
    }

    private (int Port, int Process) Serve(string program, string workspace)
    {
        var port = FreePort();
        return (port, Start(program, "serve", workspace, "--port", $"{port}"));
    }

    private int Start(string program, params string[] arguments)
    {
        var start = new ProcessStartInfo("dotnet", [program, .. arguments])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            Environment = { ["DOTNET_gcServer"] = "0" },
        };
        var process = Process.Start(start)!;
        process.ErrorDataReceived += (_, _) => { };
        process.BeginErrorReadLine();
        _started.Add(process);
        return process.Id;
    }

    private async Task ReadyAsync(string style)
    {
        var url = style is "gable" or "before"
            ? $"http://127.0.0.1:{Server(style).Port}/health/ready"
            : Root(style, "sqlite") + "station/1";
        for (var attempt = 0; ; attempt++)
        {
            try
            {
                if ((await Client.GetAsync(new Uri(url))).IsSuccessStatusCode)
                    return;
            }
            catch (HttpRequestException) when (attempt < 240)
            {
                // Not listening yet.
            }
            if (attempt == 240)
                throw new TimeoutException(url);
            await Task.Delay(250);
        }
    }

    private static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }
}
