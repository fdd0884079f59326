using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using Npgsql;
using RapidGable.Core.Tests;
using RapidGable.Demo;

/// <summary>
/// The service against a program written by hand in three styles, each a process of its own, under load from wrk. All are asked in turn, in
/// one run, so that a slow moment of the machine hits all of them.
/// </summary>
internal static partial class LoadBench
{
    private const int Readings = 2_000_000;
    private const int Rounds = 2;
    internal static readonly string[] Styles = ["gable", "floor", "mapper", "orm"];

    /// <param name="Gable">Address below the service root.</param>
    /// <param name="ByHand">Address below a style and an engine.</param>
    private sealed record Route(string Name, string Gable, string ByHand, int Connections = 4);

    internal sealed record Result(double PerSecond, double P99Milliseconds, double Microseconds);

    public static async Task RunAsync(string folder, string root, string? onlyEngine = null, string? onlyRoute = null)
    {
        var database = Path.Combine(folder, "load.db");
        Console.WriteLine($"\nmaking {Readings:N0} readings …");
        NetworkDatabase.Make(database, Readings, _ => { });
        var postgres = new PostgresServer();
        await postgres.InitializeAsync();
        var name = await postgres.CreateDatabaseAsync();
        PostgresDatabase.Make(postgres.Connection(name), database);
        NpgsqlConnection.ClearAllPools();

        var workspace = Directory.CreateDirectory(Path.Combine(folder, "load")).FullName;
        Directory.CreateDirectory(Path.Combine(workspace, "sources"));
        Directory.CreateDirectory(Path.Combine(workspace, "services"));
        File.WriteAllText(Path.Combine(workspace, "workspace.yaml"), "title: Load\n");
        File.WriteAllText(Path.Combine(workspace, "sources/sqlite.yaml"), $"engine: sqlite\nfile: {database}\nread-only: false\n");
        File.WriteAllText(Path.Combine(workspace, "sources/postgresql.yaml"), postgres.SourceFile(name) + "read-only: false\n");
        foreach (var engine in new[] { "sqlite", "postgresql" })
            File.WriteAllText(
                Path.Combine(workspace, $"services/{engine}.yaml"),
                $"title: {engine}\nsource: {engine}\nrules: {{ read: anyone }}\nlargest-page: 1000000\nsets:\n  - {{ from: "
                    + $"station, name: Stations, hide: [photo], page: 100 }}\n  - {{ from: catchment, name: Catchments }}\n  - "
                    + $"{{ from: sensor, name: Sensors }}\n  - {{ from: reading, name: Readings, page: 100 }}\n"
            );
        WriteBench.Declare(workspace);

        var (port, handPort) = (FreePort(), FreePort());
        using var gable = Start(Path.Combine(root, "artifacts/gable/gable.dll"), "serve", workspace, "--port", $"{port}");
        using var hand = Start(
            Path.Combine(root, "artifacts/bin/RapidGable.Bench.ByHand/release/gable-bench-by-hand.dll"),
            $"{handPort}",
            database,
            postgres.Connection(name).Replace("Pooling=false", "Pooling=true;Maximum Pool Size=8", StringComparison.Ordinal)
        );
        try
        {
            using var client = new HttpClient { Timeout = TimeSpan.FromMinutes(5) };
            await ReadyAsync(client, $"http://127.0.0.1:{port}/health/ready");
            await ReadyAsync(client, $"http://127.0.0.1:{handPort}/floor/sqlite/station/1");
            string Address(string style, string engine, Route route) =>
                style == "gable"
                    ? $"http://127.0.0.1:{port}/odata/{engine}/{route.Gable}"
                    : $"http://127.0.0.1:{handPort}/{style}/{engine}/{route.ByHand}";
            int ProcessOf(string style) => style == "gable" ? gable.Id : hand.Id;

            var table = new StringBuilder();
            var bars = new List<(string Label, double Ratio)>();
            bool IsWanted(string what) => onlyRoute is null || what.Contains(onlyRoute, StringComparison.Ordinal);
            foreach (var engine in new[] { "sqlite", "postgresql" }.Where(e => onlyEngine is null or "all" || e == onlyEngine))
            {
                Route[] routes =
                [
                    new("one entity by key", "Stations(7)", "station/7"),
                    new(
                        "filtered, ordered page of 100 with count",
                        "Stations?$filter=telemetered%20eq%20true&$orderby=name&$top=100&$count=true",
                        "stations"
                    ),
                    new("page of 100 with a to-one expand", "Stations?$top=100&$expand=catchment", "stations-with-catchment"),
                    new("page of 50 with a to-many expand", "Stations?$top=50&$expand=Sensors", "stations-with-sensors"),
                    new("page of 100 of readings", "Readings", "readings?after=0&rows=100"),
                    new(
                        "page 10,000 of readings",
                        "Readings?" + await DeepAsync(client, $"http://127.0.0.1:{port}/odata/{engine}/"),
                        "readings?after=999900&rows=100"
                    ),
                ];
                // The machine code of each program settles under load, before anything is measured.
                foreach (var route in routes.Where(r => IsWanted(r.Name)))
                {
                    foreach (var style in Styles)
                        await WrkAsync(Address(style, engine, route), route.Connections, "2s");
                }
                Heading(table, engine);
                foreach (var route in routes.Where(r => IsWanted(r.Name)))
                {
                    var sums = Styles.ToDictionary(s => s, _ => new List<Result>());
                    for (var round = 0; round < Rounds; round++)
                    {
                        foreach (var style in Styles)
                            sums[style].Add(await LoadAsync(Address(style, engine, route), ProcessOf(style), route.Connections));
                    }
                    Row(
                        table,
                        bars,
                        engine,
                        route.Name,
                        Styles
                            .Select(s => new Result(
                                sums[s].Average(r => r.PerSecond),
                                sums[s].Average(r => r.P99Milliseconds),
                                sums[s].Average(r => r.Microseconds)
                            ))
                            .ToList()
                    );
                }
                var apply = new Route(
                    "groupby over 2,000,000 rows",
                    "Readings?$apply=groupby((quality),aggregate(value%20with%20average%20as%20mean,$count%20as%20n))",
                    "qualities"
                );
                if (IsWanted(apply.Name))
                    Row(
                        table,
                        bars,
                        engine,
                        apply.Name,
                        await OnceAsync(client, Styles.Select(s => (Address(s, engine, apply), ProcessOf(s))), 3)
                    );
                if (IsWanted("write"))
                    await WriteBench.RunAsync(folder, root, engine, (port, gable.Id), (handPort, hand.Id), (what, results) =>
                        Row(table, bars, engine, what, results)
                    );
                if (!IsWanted("stream"))
                    continue;
                var stream = new Route("1,000,000 rows in one answer", "Readings?$top=1000000", "readings?after=0&rows=1000000");
                var idle = new[] { gable.Id, hand.Id }.ToDictionary(id => id, Memory);
                Row(
                    table,
                    bars,
                    engine,
                    stream.Name,
                    await OnceAsync(
                        client,
                        Styles.Where(s => s is "gable" or "floor").Select(s => (Address(s, engine, stream), ProcessOf(s))),
                        2
                    )
                );
                Console.WriteLine($"    peak memory above idle: service {Peak(gable.Id) - idle[gable.Id]} MiB");
                table.Append(
                    $"\nPeak memory of the service while streaming: {Peak(gable.Id)} MiB, {Peak(gable.Id) - idle[gable.Id]} "
                        + $"MiB above what it had before.\n"
                );
            }
            if (IsWanted("allocation"))
                table.Append(await AllocationBench.RunAsync(workspace));
            if (IsWanted("guards"))
                table.Append(await GuardBench.RunAsync(folder));
            if (onlyEngine is null && onlyRoute is null)
                Write(root, table.ToString(), bars);
        }
        finally
        {
            gable.Kill();
            hand.Kill();
            await postgres.DisposeAsync();
        }
    }

    private static void Heading(StringBuilder table, string engine)
    {
        Console.WriteLine(
            $"\n{engine, -42} {"requests/s", 12} {"p99 ms", 8} {"µs cpu", 8} | {"floor", 6} {"mapper", 6} {"orm", 6}  "
                + $"(requests/s of the service by theirs; in brackets by processor time)"
        );
        table.Append(
            $"\n## {(engine == "sqlite" ? "SQLite" : "PostgreSQL")}\n\n| what | requests/s | p99 ms | processor µs | against "
                + $"the floor | the micro-mapper | the ORM |\n| --- | --- | --- | --- | --- | --- | --- |\n"
        );
    }

    private static void Row(StringBuilder table, List<(string, double)> bars, string engine, string what, List<Result> results)
    {
        var own = results[0];
        string Against(int i) =>
            i >= results.Count
                ? ""
                : string.Create(
                    CultureInfo.InvariantCulture,
                    $"{own.PerSecond / results[i].PerSecond:0.00} ({results[i].Microseconds / own.Microseconds:0.00})"
                );
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"  {what, -40} {own.PerSecond, 12:0.0} {own.P99Milliseconds, 8:0.0} {own.Microseconds, 8:0} | "
                    + $"{Against(1), 12} {Against(2), 12} {Against(3), 12}"
            )
        );
        table.Append(
            CultureInfo.InvariantCulture,
            $"| {what} | {own.PerSecond:0.0} | {own.P99Milliseconds:0.0} | {own.Microseconds:0} | {Against(1)} | {Against(2)} "
                + $"| {Against(3)} |\n"
        );
        if (results.Count > 1)
            bars.Add(($"{engine}: {what}", results[1].Microseconds / own.Microseconds));
    }

    private static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }

    private static Process Start(string program, params string[] arguments) =>
        Process.Start(
            new ProcessStartInfo("dotnet", [program, .. arguments])
            {
                RedirectStandardOutput = true,
                Environment = { ["DOTNET_gcServer"] = "0" },
            }
        )!;

    private static async Task ReadyAsync(HttpClient client, string url)
    {
        for (var i = 0; i < 240; i++)
        {
            try
            {
                if ((await client.GetAsync(url)).IsSuccessStatusCode)
                    return;
            }
            catch (HttpRequestException)
            {
                // Not listening yet.
            }
            await Task.Delay(250);
        }
        throw new TimeoutException(url);
    }

    /// <summary>The option that leads to page 10,000: the token of a page that ends there.</summary>
    private static async Task<string> DeepAsync(HttpClient client, string root)
    {
        using var page = JsonDocument.Parse(await client.GetStringAsync($"{root}Readings?$filter=id%20gt%20999800"));
        var link = page.RootElement.GetProperty("@odata.nextLink").GetString()!;
        return link[link.IndexOf("$skiptoken=", StringComparison.Ordinal)..];
    }

    internal static async Task<Result> LoadAsync(string url, int process, int connections, string? script = null)
    {
        await WrkAsync(url, connections, "1s", script);
        var before = ProcessorTicks(process);
        var text = await WrkAsync(url, connections, "3s", script);
        var spent = ProcessorTicks(process) - before;
        var requests = double.Parse(RequestsPattern().Match(text).Groups[1].Value, CultureInfo.InvariantCulture);
        if (text.Contains("Non-2xx"))
            throw new InvalidOperationException($"{url}\n{text}");
        var p99 = P99Pattern().Match(text);
        var milliseconds =
            double.Parse(p99.Groups[1].Value, CultureInfo.InvariantCulture)
            * p99.Groups[2].Value switch
            {
                "us" => 0.001,
                "ms" => 1,
                _ => 1000,
            };
        return new Result(
            double.Parse(RatePattern().Match(text).Groups[1].Value, CultureInfo.InvariantCulture),
            milliseconds,
            spent * 10_000 / requests
        );
    }

    /// <param name="script">What wrk sends; null = GET requests.</param>
    internal static async Task<string> WrkAsync(string url, int connections, string time, string? script = null)
    {
        using var wrk = Process.Start(
            new ProcessStartInfo(
                "wrk",
                ["-t1", $"-c{connections}", "-d" + time, "--latency", .. script is null ? [] : new[] { "-s", script }, url]
            )
            {
                RedirectStandardOutput = true,
            }
        )!;
        var text = await wrk.StandardOutput.ReadToEndAsync();
        await wrk.WaitForExitAsync();
        return text;
    }

    /// <summary>Long answers, one at a time and in turn.</summary>
    private static async Task<List<Result>> OnceAsync(HttpClient client, IEnumerable<(string Url, int Process)> targets, int rounds)
    {
        var all = targets.ToList();
        var sums = all.ConvertAll(_ => (Seconds: 0.0, Ticks: 0L));
        for (var round = 0; round < rounds; round++)
        {
            for (var i = 0; i < all.Count; i++)
            {
                var before = ProcessorTicks(all[i].Process);
                var clock = Stopwatch.StartNew();
                using var request = new HttpRequestMessage(HttpMethod.Get, all[i].Url);
                request.Headers.Add("Prefer", "maxpagesize=1000000");
                using var response = await client.SendAsync(request, HttpCompletionOption.ResponseHeadersRead);
                response.EnsureSuccessStatusCode();
                await response.Content.CopyToAsync(Stream.Null);
                sums[i] = (sums[i].Seconds + clock.Elapsed.TotalSeconds, sums[i].Ticks + ProcessorTicks(all[i].Process) - before);
            }
        }
        return sums.ConvertAll(s => new Result(rounds / s.Seconds, s.Seconds * 1000 / rounds, s.Ticks * 10_000.0 / rounds));
    }

    /// <summary>User and system time of a process in hundredths of a second.</summary>
    internal static long ProcessorTicks(int process)
    {
        var stat = File.ReadAllText($"/proc/{process}/stat");
        var fields = stat[(stat.LastIndexOf(')') + 2)..].Split(' ');
        return long.Parse(fields[11], CultureInfo.InvariantCulture) + long.Parse(fields[12], CultureInfo.InvariantCulture);
    }

    private static long Status(int process, string name) =>
        long.Parse(
            File.ReadLines($"/proc/{process}/status")
                .First(l => l.StartsWith(name, StringComparison.Ordinal))
                .Split(':')[1]
                .Replace("kB", "")
                .Trim(),
            CultureInfo.InvariantCulture
        ) / 1024;

    private static long Memory(int process) => Status(process, "VmRSS");

    private static long Peak(int process) => Status(process, "VmHWM");

    private static void Write(string root, string table, List<(string Label, double Ratio)> bars)
    {
        File.WriteAllText(
            Path.Combine(root, "docs/performance.md"),
            $"""
            # Performance

            What `make bench` measured last. The service and a program written by hand give the same answers, each in a process of its own, on one machine
            with two cores that also runs the load and the database; all are asked in turn. The floor is the driver's reader straight into the JSON writer,
            the micro-mapper fills objects for a serializer, the ORM also makes the SQL. A figure is the service's requests per second divided by theirs, in
            brackets the same by processor time of the web process; above 1 the service is faster or cheaper.

            Writes: a row is a reading, answered with itself. A batch of 100 is one JSON batch whose hundred requests are a group; theirs is an array that is
            inserted in one transaction. The file of 100,000 JSON lines is sent by `gable send --atomic --batch 100`, each line a repeatable request, and to the
            others by a client written for it. What the service does besides is not in theirs: it reads what is wrong with a value, asks rules, and notes who changed what.

            ![Processor time against the floor](performance.svg)
            {table}
            """
        );
        var svg = new StringBuilder(
            $"<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"900\" height=\"{(bars.Count * 26) + 60}\" "
                + $"font-family=\"sans-serif\" font-size=\"13\"><rect width=\"100%\" height=\"100%\" fill=\"#fff\"/><text "
                + $"x=\"16\" y=\"24\" font-size=\"15\">Processor time of the floor, divided by the service's (above 1 the "
                + $"service is cheaper)</text>"
        );
        for (var i = 0; i < bars.Count; i++)
        {
            var y = 44 + (i * 26);
            svg.Append(
                CultureInfo.InvariantCulture,
                $"<text x=\"16\" y=\"{y + 14}\">{bars[i].Label}</text><rect x=\"360\" y=\"{y}\" "
                    + $"width=\"{bars[i].Ratio * 200:0}\" height=\"18\" "
                    + $"fill=\"{(bars[i].Ratio >= 1 ? "#2f7d5b" : "#b5703c")}\"/><text x=\"{368 + (bars[i].Ratio * 200):0}\" "
                    + $"y=\"{y + 14}\">{bars[i].Ratio:0.00}</text>"
            );
        }
        svg.Append(
            CultureInfo.InvariantCulture,
            $"<line x1=\"560\" y1=\"36\" x2=\"560\" y2=\"{(bars.Count * 26) + 46}\" stroke=\"#444\" stroke-dasharray=\"4 3\"/></svg>\n"
        );
        File.WriteAllText(Path.Combine(root, "docs/performance.svg"), svg.ToString());
    }

    [GeneratedRegex(@"Requests/sec:\s+([\d.]+)")]
    private static partial Regex RatePattern();

    [GeneratedRegex(@"(\d+) requests in")]
    private static partial Regex RequestsPattern();

    [GeneratedRegex(@"99%\s+([\d.]+)(us|ms|s)")]
    private static partial Regex P99Pattern();
}
