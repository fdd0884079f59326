using System.Diagnostics;
using System.Text.Json;
using RapidGable.Demo;

/// <summary>
/// The service against a program written by hand in three styles, each a process of its own, under load. All are asked in turn, in one run,
/// so that a slow moment of the machine hits all of them.
/// </summary>
internal static class LoadBench
{
    public const int Rounds = 3;
    private const int Readings = 2_000_000;

    /// <summary>How long each program is asked in each round.</summary>
    public static int Seconds { get; set; } = 2;
    private static readonly int[] AtOnce = [4, 16];
    private static readonly string[] Engines = ["sqlite", "postgresql"];

    /// <param name="onlyEngine">One engine alone; null or "all" = both.</param>
    /// <param name="onlyRoute">A part of the name of what is asked; null = everything, which is written into the document.</param>
    /// <param name="before">Another build of the service to compare with; null = none.</param>
    public static async Task RunAsync(string folder, string root, string? onlyEngine, string? onlyRoute, string? before)
    {
        var database = await DatabaseAsync(root, folder);
        var workspace = Workspace(folder, database);
        await using var programs = await Programs.StartAsync(root, database, workspace, before);
        var report = new LoadReport(programs.Styles);
        bool IsWanted(string what) => onlyRoute is null || what.Contains(onlyRoute, StringComparison.Ordinal);

        foreach (var engine in Engines.Where(e => onlyEngine is null or "all" || e == onlyEngine))
        {
            report.Heading(engine);
            var routes = await Routes.OfAsync(programs.Client, programs.Root("gable", engine), Readings);
            foreach (var route in routes.Where(r => IsWanted(r.Name)))
                await LoadAsync(folder, programs, engine, route, report);
            await LongAnswersAsync(programs, engine, IsWanted, report);
            if (IsWanted("write"))
                await WriteBench.RunAsync(folder, root, engine, programs, report);
        }
        if (IsWanted("allocation"))
            report.Append(await AllocationBench.RunAsync(workspace));
        if (IsWanted("guards"))
            report.Append(await GuardBench.RunAsync(folder));
        if (onlyEngine is null && onlyRoute is null && before is null)
            report.Write(root);
    }

    /// <summary>The readings, which take a while to make and are kept between runs; writes go to a copy.</summary>
    private static async Task<string> DatabaseAsync(string root, string folder)
    {
        var kept = Path.Combine(root, "artifacts/bench", $"network-{Readings}.db");
        if (!File.Exists(kept))
        {
            Console.WriteLine($"making {Readings:N0} readings …");
            Directory.CreateDirectory(Path.GetDirectoryName(kept)!);
            await Task.Run(() => NetworkDatabase.Make(kept + ".part", Readings, _ => { }));
            File.Move(kept + ".part", kept);
        }
        var database = Path.Combine(folder, "load.db");
        File.Copy(kept, database);
        return database;
    }

    private static string Workspace(string folder, string database)
    {
        var workspace = Directory.CreateDirectory(Path.Combine(folder, "load")).FullName;
        Directory.CreateDirectory(Path.Combine(workspace, "sources"));
        Directory.CreateDirectory(Path.Combine(workspace, "services"));
        File.WriteAllText(Path.Combine(workspace, "workspace.yaml"), "title: Load\n");
        File.WriteAllText(Path.Combine(workspace, "sources/sqlite.yaml"), $"engine: sqlite\nfile: {database}\nread-only: false\n");
        foreach (var engine in Engines)
        {
            File.WriteAllText(
                Path.Combine(workspace, $"services/{engine}.yaml"),
                $$"""
                title: {{engine}}
                source: {{engine}}
                rules: { read: anyone }
                largest-page: 1000000
                sets:
                  - { from: station, name: Stations, hide: [photo], page: 100 }
                  - { from: catchment, name: Catchments }
                  - { from: sensor, name: Sensors }
                  - { from: reading, name: Readings, page: 100 }
                queries:
                  - name: StationSummary
                    gives: row
                    select: |
                      SELECT s.code, s.name, s.closed_on, r.taken_at AS last_reading_at,
                        (SELECT COUNT(*) FROM sensor n WHERE n.station_id = s.id) AS sensors
                      FROM station s
                      LEFT JOIN reading r ON r.id =
                        (SELECT x.id FROM reading x WHERE x.station_id = s.id ORDER BY x.taken_at DESC, x.id DESC LIMIT 1)
                      WHERE s.code = :station
                    parameters: { station: { type: string(12) } }
                    columns: { sensors: int64 }

                """
            );
        }
        WriteBench.Declare(workspace);
        return workspace;
    }

    private static async Task LoadAsync(string folder, Programs programs, string engine, Route route, LoadReport report)
    {
        var scripts = programs.Styles.ToDictionary(
            style => style,
            style => Wrk.Addresses(folder, route.Targets.Select(t => $"/{Programs.Prefix(style, engine, route.Face)}{Target(style, t)}"))
        );
        await SameRowsAsync(programs, engine, route);
        // The machine code of each program settles under load, before anything is measured.
        foreach (var style in programs.Styles)
            await Wrk.LoadAsync(programs.Root(style, engine), scripts[style], 4, 1, programs.Of(style, engine));
        foreach (var connections in AtOnce)
        {
            var rounds = await InTurnsAsync(programs.Styles, style =>
                Wrk.LoadAsync(programs.Root(style, engine), scripts[style], connections, Seconds, programs.Of(style, engine))
            );
            report.Row(route.Name, connections, rounds);
        }
    }

    /// <summary>A program that gives other rows than the service is no rival.</summary>
    private static async Task SameRowsAsync(Programs programs, string engine, Route route)
    {
        foreach (var target in new[] { route.Targets[0], route.Targets[^1] })
        {
            string? expected = null;
            foreach (var style in programs.Styles)
            {
                var url = new Uri(programs.Root(style, engine, route.Face) + Target(style, target));
                using var response = await programs.Client.GetAsync(url);
                if (!response.IsSuccessStatusCode)
                    throw new InvalidOperationException($"{url} answers {response.StatusCode}.");
                var keys = Keys(await response.Content.ReadAsStringAsync(), target.ByHand.Contains("csv", StringComparison.Ordinal));
                expected ??= keys;
                if (keys != expected)
                    throw new InvalidOperationException($"{url} gives other rows than the service.");
            }
        }
    }

    private static string Keys(string text, bool isCsv)
    {
        if (isCsv)
            return string.Join(' ', text.Split("\r\n").Select(line => line.Split(',')[0]));
        using var answer = JsonDocument.Parse(text);
        return string.Join(' ', Keys(answer.RootElement));
    }

    private static IEnumerable<string> Keys(JsonElement element) =>
        element.ValueKind switch
        {
            JsonValueKind.Array => element.EnumerateArray().SelectMany(Keys),
            JsonValueKind.Object => element
                .EnumerateObject()
                .SelectMany(m => m.Name is "id" or "sensor_no" ? [m.Value.GetRawText()] : Keys(m.Value)),
            _ => [],
        };

    private static string Target(string style, (string Gable, string ByHand) target) =>
        style is "gable" or "before" ? target.Gable : target.ByHand;

    /// <summary>The rounds of each style; every round asks all of them.</summary>
    public static async Task<List<List<Result>>> InTurnsAsync(IReadOnlyList<string> styles, Func<string, Task<Result>> ask)
    {
        var all = styles.Select(_ => new List<Result>()).ToList();
        for (var round = 0; round < Rounds; round++)
        {
            for (var i = 0; i < styles.Count; i++)
                all[i].Add(await ask(styles[i]));
        }
        return all;
    }

    private static async Task LongAnswersAsync(Programs programs, string engine, Func<string, bool> isWanted, LoadReport report)
    {
        const string Groups = "groupby over 2,000,000 rows";
        const string Aggregated = "Readings?$apply=groupby((quality),aggregate(value%20with%20average%20as%20mean,$count%20as%20n))";
        if (isWanted(Groups))
            report.Row(Groups, 1, await InTurnsAsync(programs.Styles, s => OnceAsync(programs, s, engine, (Aggregated, "qualities"))));

        const string Stream = "1,000,000 rows in one stream";
        if (!isWanted(Stream))
            return;
        var streaming = programs.Styles.Where(s => s is "gable" or "before" or "floor").ToList();
        var gable = programs.Of("gable", engine).Web;
        var idle = Processes.Mebibytes(gable, "VmRSS");
        var target = ("Readings?$top=1000000", "readings?after=0&rows=1000000");
        report.Row(Stream, 1, await InTurnsAsync(streaming, s => OnceAsync(programs, s, engine, target)));
        foreach (var (format, byHand) in new[] { ("jsonl", "readings"), ("csv", "readings-csv") })
        {
            var rest = ($"Readings?limit=1000000&format={format}", $"{byHand}?after=0&rows=1000000");
            var rounds = await InTurnsAsync(streaming, s => OnceAsync(programs, s, engine, rest, "rest"));
            report.Row($"rest: {Stream} as {format}", 1, rounds);
        }
        var peak = Processes.Mebibytes(gable, "VmHWM") - idle;
        Console.WriteLine($"    peak memory of the service above idle: {peak} MiB");
        report.Note($"\nPeak memory of the service while streaming: {peak} MiB above what it had before.\n");
    }

    /// <summary>One long answer.</summary>
    private static async Task<Result> OnceAsync(
        Programs programs,
        string style,
        string engine,
        (string, string) target,
        string face = "odata"
    )
    {
        var processes = programs.Of(style, engine);
        var before = processes.Ticks();
        var clock = Stopwatch.StartNew();
        using var request = new HttpRequestMessage(HttpMethod.Get, programs.Root(style, engine, face) + Target(style, target));
        request.Headers.Add("Prefer", "maxpagesize=1000000");
        using var response = await programs.Client.SendAsync(request, HttpCompletionOption.ResponseHeadersRead);
        response.EnsureSuccessStatusCode();
        await response.Content.CopyToAsync(Stream.Null);
        var seconds = clock.Elapsed.TotalSeconds;
        var after = processes.Ticks();
        var database = (after.Database - before.Database) * 10_000.0;
        return new Result(1 / seconds, seconds * 1000, (after.Web - before.Web) * 10_000.0, database);
    }
}
