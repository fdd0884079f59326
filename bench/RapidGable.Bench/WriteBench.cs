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
        {
            File.WriteAllText(
                Path.Combine(workspace, $"services/{engine}-in.yaml"),
                $$"""
                title: {{engine}} in
                source: {{engine}}
                rules: [{ who: anyone, may: [read, create] }]
                sets:
                  - { from: reading, name: Readings, allow: [read, create] }

                """
            );
        }
    }

    public static async Task RunAsync(string folder, string root, string engine, Programs programs, LoadReport report)
    {
        // Several writers of one SQLite file wait for each other in ways that say nothing about a program.
        int[] atOnce = engine == "sqlite" ? [1] : [4, 16];
        var one = Wrk.Body(folder, Reading(1));
        var many = Wrk.Body(folder, $"[{string.Join(',', Enumerable.Range(1, InOne).Select(Reading))}]");
        var batch = Wrk.Body(folder, Batch());
        foreach (var connections in atOnce)
        {
            await LoadAsync("write: one row", connections, s => IsOurs(s) ? ("Readings", one) : ("reading", one));
            await LoadAsync("rest: write: array of 100", connections, s => IsOurs(s) ? ("Readings", many) : ("readings", many), "rest");
            await LoadAsync("write: batch of 100", connections, s => IsOurs(s) ? ("$batch", batch) : ("readings", many));
        }

        var file = Path.Combine(folder, "readings.jsonl");
        File.WriteAllLines(file, Enumerable.Range(1, Lines).Select(Reading));
        var rounds = await LoadBench.InTurnsAsync(programs.Styles, style => FileAsync(style, file));
        report.Row("write: file of 100,000 lines", 1, rounds);

        string Url(string style, string face = "odata") => programs.Root(style, IsOurs(style) ? engine + "-in" : engine, face);

        async Task LoadAsync(string what, int connections, Func<string, (string Target, string Script)> target, string face = "odata")
        {
            Task<Result> Load(string style, int seconds)
            {
                var (path, script) = target(style);
                return Wrk.LoadAsync(Url(style, face) + path, script, connections, seconds, programs.Of(style, engine));
            }
            foreach (var style in programs.Styles)
                await Load(style, 2);
            report.Row(what, connections, await LoadBench.InTurnsAsync(programs.Styles, style => Load(style, 2)));
        }

        Task<Result> FileAsync(string style, string lines)
        {
            var byHand = Path.Combine(root, "artifacts/bin/RapidGable.Bench.ByHand/release/gable-bench-by-hand.dll");
            string[] arguments = style switch
            {
                "gable" or "before" =>
                [
                    Path.Combine(root, "artifacts/gable/gable.dll"),
                    "send",
                    Url(style) + "Readings",
                    lines,
                    "--atomic",
                    "--batch",
                    $"{InOne}",
                    "--json",
                ],
                "floor" => [byHand, "send", Url(style) + "file", lines, "0"],
                _ => [byHand, "send", Url(style) + "readings", lines, $"{InOne}"],
            };
            return SendAsync(programs.Of(style, engine), arguments);
        }
    }

    private static bool IsOurs(string style) => style is "gable" or "before";

    /// <summary>A client that sends a whole file; the processor time is that of the programs that serve it.</summary>
    private static async Task<Result> SendAsync(Processes processes, string[] arguments)
    {
        var before = processes.Ticks();
        var clock = Stopwatch.StartNew();
        using var client = Process.Start(new ProcessStartInfo("dotnet", arguments) { RedirectStandardOutput = true })!;
        var said = await client.StandardOutput.ReadToEndAsync();
        await client.WaitForExitAsync();
        if (client.ExitCode != 0)
            throw new InvalidOperationException($"{string.Join(' ', arguments)}\n{said}");
        var seconds = clock.Elapsed.TotalSeconds;
        var after = processes.Ticks();
        var database = (after.Database - before.Database) * 10_000.0;
        return new Result(1 / seconds, seconds * 1000, (after.Web - before.Web) * 10_000.0, database);
    }

    private static string Batch()
    {
        const string Headers = """{"content-type":"application/json","prefer":"return=minimal"}""";
        var requests = Enumerable
            .Range(1, InOne)
            .Select(i =>
                $$"""{"id":"{{i}}","atomicityGroup":"g","method":"post","url":"Readings","headers":{{Headers}},"body":{{Reading(i)}}}"""
            );
        return $$"""{"requests":[{{string.Join(',', requests)}}]}""";
    }

    private static string Reading(int i)
    {
        var (day, hour, minute) = ((i % 28) + 1, i % 24, i % 60);
        var taken = string.Create(CultureInfo.InvariantCulture, $"2025-01-{day:00}T{hour:00}:{minute:00}:00Z");
        var value = string.Create(CultureInfo.InvariantCulture, $"{i % 900}.{i % 10}25");
        return $$"""
            {"station_id":1,"sensor_no":1,"taken_at":"{{taken}}","value":{{value}},"quality":"G","note":"by hand {{i}}"}
            """;
    }
}
