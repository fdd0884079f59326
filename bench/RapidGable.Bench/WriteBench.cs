using System.Diagnostics;
using System.Globalization;

/// <summary>
/// Writes: a row alone, a hundred in one transaction, and a file of 100,000 lines by the command-line client, against the same written
/// by hand.
/// What is sent and what is in the table afterwards is the same for all.
/// </summary>
internal static class WriteBench
{
    private const int Lines = 100_000;
    private const int InOne = 100;

    /// <summary>The readings of both engines, open to be added to.</summary>
    public static void Declare(string workspace)
    {
        foreach (var engine in new[] { "sqlite", "postgresql" })
            File.WriteAllText(
                Path.Combine(workspace, $"services/{engine}-in.yaml"),
                $"title: {engine} in\nsource: {engine}\nrules: [{{ who: anyone, may: [read, create] }}]\nsets:\n  - {{ from: "
                    + $"reading, name: Readings, allow: [read, create] }}\n"
            );
    }

    /// <param name="gable">Port and process of the service.</param>
    /// <param name="hand">Those of the program written by hand.</param>
    /// <param name="row">Takes the results of the service and the three styles.</param>
    public static async Task RunAsync(
        string folder,
        string root,
        string engine,
        (int Port, int Process) gable,
        (int Port, int Process) hand,
        Action<string, List<LoadBench.Result>> row
    )
    {
        // Several writers of one SQLite file wait for each other in ways that say nothing about a program.
        var connections = engine == "sqlite" ? 1 : 4;
        var ours = $"http://127.0.0.1:{gable.Port}/odata/{engine}-in/";
        string Theirs(string style) => $"http://127.0.0.1:{hand.Port}/{style}/{engine}/";

        var one = Script(folder, Reading(1));
        row(
            "write: one row",
            await TurnsAsync(
                style => style == "gable" ? (ours + "Readings", gable.Process, one) : (Theirs(style) + "reading", hand.Process, one),
                connections
            )
        );

        var list = string.Join(',', Enumerable.Range(1, InOne).Select(Reading));
        var array = Script(folder, $"[{list}]");
        var batch = Script(
            folder,
            $"{{\"requests\":[{string.Join(',', Enumerable.Range(1, InOne).Select(i => $"{{\"id\":\"{i}\",\"atomicityGroup\":\"g\",\"method\":\"post\",\"url\":\"Readings\",\"headers\":{{\"content-type\":\"application/json\",\"prefer\":\"return=minimal\"}},\"body\":{Reading(i)}}}"))}]}}"
        );
        row(
            "write: batch of 100",
            await TurnsAsync(
                style => style == "gable" ? (ours + "$batch", gable.Process, batch) : (Theirs(style) + "readings", hand.Process, array),
                connections
            )
        );

        var file = Path.Combine(folder, "readings.jsonl");
        File.WriteAllLines(file, Enumerable.Range(1, Lines).Select(Reading));
        var program = Path.Combine(root, "artifacts/bin/RapidGable.Bench.ByHand/release/gable-bench-by-hand.dll");
        var results = new List<LoadBench.Result>
        {
            await FileAsync(
                gable.Process,
                Path.Combine(root, "artifacts/gable/gable.dll"),
                "send",
                ours + "Readings",
                file,
                "--atomic",
                "--batch",
                $"{InOne}",
                "--json"
            ),
        };
        foreach (var style in LoadBench.Styles.Skip(1))
            results.Add(await FileAsync(hand.Process, program, "send", Theirs(style) + "readings", file, $"{InOne}"));
        row("write: file of 100,000 lines", results);
    }

    private static string Reading(int i) =>
        string.Create(
            CultureInfo.InvariantCulture,
            $"{{\"station_id\":1,\"sensor_no\":1,\"taken_at\":\"2025-01-{(i % 28) + 1:00}T{i % 24:00}:{i % 60:00}:00Z\",\"value\":{i % 900}.{i % 10}25,\"quality\":\"G\",\"note\":\"by "
                + $"hand {i}\"}}"
        );

    /// <summary>All styles in turn, twice, after the machine code of each has settled.</summary>
    private static async Task<List<LoadBench.Result>> TurnsAsync(
        Func<string, (string Url, int Process, string Script)> target,
        int connections
    )
    {
        var sums = LoadBench.Styles.Select(_ => new List<LoadBench.Result>()).ToList();
        foreach (var style in LoadBench.Styles)
        {
            var (url, _, script) = target(style);
            await LoadBench.WrkAsync(url, connections, "6s", script);
        }
        for (var round = 0; round < 2; round++)
        {
            for (var i = 0; i < LoadBench.Styles.Length; i++)
            {
                var (url, process, script) = target(LoadBench.Styles[i]);
                sums[i].Add(await LoadBench.LoadAsync(url, process, connections, script));
            }
        }
        return sums.ConvertAll(s => new LoadBench.Result(
            s.Average(r => r.PerSecond),
            s.Average(r => r.P99Milliseconds),
            s.Average(r => r.Microseconds)
        ));
    }

    /// <summary>A client that sends the whole file; the processor time is that of the process that serves it.</summary>
    private static async Task<LoadBench.Result> FileAsync(int process, string program, params string[] arguments)
    {
        var before = LoadBench.ProcessorTicks(process);
        var clock = Stopwatch.StartNew();
        using var client = Process.Start(new ProcessStartInfo("dotnet", [program, .. arguments]) { RedirectStandardOutput = true })!;
        var said = await client.StandardOutput.ReadToEndAsync();
        await client.WaitForExitAsync();
        if (client.ExitCode != 0)
            throw new InvalidOperationException($"{string.Join(' ', arguments)}\n{said}");
        return new LoadBench.Result(
            1 / clock.Elapsed.TotalSeconds,
            clock.Elapsed.TotalMilliseconds,
            (LoadBench.ProcessorTicks(process) - before) * 10_000.0
        );
    }

    private static string Script(string folder, string body)
    {
        var path = Path.Combine(folder, $"{Guid.NewGuid():N}.lua");
        File.WriteAllText(
            path,
            $"wrk.method = \"POST\"\nwrk.headers[\"Content-Type\"] = \"application/json\"\nwrk.body = [==[{body}]==]\n"
        );
        return path;
    }
}
