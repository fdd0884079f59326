using System.Diagnostics;
using System.Globalization;
using Npgsql;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Core.Tests;
using RapidGable.Demo;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;
using RapidGable.Sources;

/// <summary>
/// What it costs to keep expressions from rows that rules take away: the same statement unguarded, guarded as the service does it, and
/// fenced, asked in turn. The unguarded one would tell of hidden rows, so it is nothing that a service may do; it is the floor.
/// </summary>
internal static class GuardBench
{
    private const int Readings = 200_000;
    private static readonly HiddenRowProtection[] Forms = [HiddenRowProtection.None, HiddenRowProtection.Guard, HiddenRowProtection.Fence];

    private static readonly (string Name, string Url, int Rounds)[] Requests =
    [
        ("one row by key", "Readings?$filter=id eq 12345 and value mul 2 gt -1", 60),
        ("rows of an index", "Readings?$filter=station_id eq 7 and sensor_no eq 1 and round(value) ge 0&$top=50", 30),
        ("all rows, one in many fits", "Readings/$count?$filter=round(value) eq 3", 6),
        ("all rows, ordered by a value", "Readings?$orderby=value mul 2&$top=10", 6),
        ("a plain comparison", "Readings?$filter=station_id eq 7 and value gt 1&$top=50", 30),
    ];

    public static async Task<string> RunAsync(string folder)
    {
        var database = Path.Combine(folder, "guards.db");
        NetworkDatabase.Make(database, Readings, _ => { });
        var (postgres, mariaDb) = (new PostgresServer(), new MariaDbServer());
        await Task.WhenAll(postgres.InitializeAsync(), mariaDb.InitializeAsync());
        var names = (Postgres: await postgres.CreateDatabaseAsync(), MariaDb: await mariaDb.CreateDatabaseAsync());
        PostgresDatabase.Make(postgres.Connection(names.Postgres), database);
        MariaDbDatabase.Make(mariaDb.Connection(names.MariaDb), database);
        NpgsqlConnection.ClearAllPools();
        var workspace = Directory.CreateDirectory(Path.Combine(folder, "guards")).FullName;
        void Write(string file, string text)
        {
            Directory.CreateDirectory(Path.GetDirectoryName(Path.Combine(workspace, file))!);
            File.WriteAllText(Path.Combine(workspace, file), text);
        }
        Write("workspace.yaml", "title: Guards\n");
        Write("sources/sqlite.yaml", $"engine: sqlite\nfile: {database}\n");
        Write("sources/postgresql.yaml", postgres.SourceFile(names.Postgres));
        Write("sources/mariadb.yaml", mariaDb.SourceFile(names.MariaDb));
        foreach (var engine in new[] { "sqlite", "postgresql", "mariadb" })
        {
            foreach (
                var (kind, rules) in new[]
                {
                    ("open", "{ read: anyone }"),
                    ("column", "[{ who: anyone, may: read, rows: station_id le 60 }]"),
                    ("relation", "[{ who: anyone, may: read, rows: sensor/kind eq 'level' }]"),
                }
            )
                Write(
                    $"services/{engine}-{kind}.yaml",
                    $"title: G\nsource: {engine}\nsets:\n  - {{ from: reading, name: Readings, rules: {rules}, page: 100 }}\n  "
                        + $"- {{ from: sensor, name: Sensors, rules: {{ read: anyone }} }}\n"
                );
        }
        var table = new System.Text.StringBuilder(
            "\n## Guards\n\nStatements with an expression that can fail, over a set of which rules take rows away: by a column "
                + "of its own, and by a related row. Figures are the time of the\nstatement divided by that of the same one "
                + "without protection, which would tell of hidden rows; above 1 it costs more. The last columns are an open "
                + "set, whose\nstatements are the same text.\n\n| engine | what | column: guarded | fenced | relation: guarded "
                + "| fenced | open |\n| --- | --- | --- | --- | --- | --- | --- |\n"
        );
        await using (var loaded = await WorkspaceLoader.LoadAsync(workspace, _ => null, default))
        {
            if (loaded.Diagnostics.HasErrors)
                throw new InvalidOperationException(string.Join('\n', loaded.Diagnostics.Items.Select(d => d.Render())));
            foreach (var engine in new[] { "sqlite", "postgresql", "mariadb" })
            {
                foreach (var (name, url, rounds) in Requests)
                {
                    var cells = new List<string>();
                    foreach (var kind in new[] { "column", "relation" })
                    {
                        var times = await MeasureAsync(loaded, $"{engine}-{kind}", url, rounds);
                        cells.AddRange(times.Skip(1).Select(t => string.Create(CultureInfo.InvariantCulture, $"{t / times[0]:0.00}")));
                    }
                    cells.Add(IsSameText(loaded, $"{engine}-open", url) ? "the same" : "another statement");
                    Console.WriteLine($"  {engine, -12} {name, -32} {string.Join("  ", cells.Select(c => c.PadLeft(6)))}");
                    table.Append($"| {engine} | {name} | {string.Join(" | ", cells)} |\n");
                }
            }
        }
        await postgres.DisposeAsync();
        await mariaDb.DisposeAsync();
        return table.ToString();
    }

    private static (SelectPlan Plan, QueryValues Values, ISource Source) Planned(LoadedWorkspace workspace, string service, string url)
    {
        var published = new PublishedService(workspace.FindService(service)!.Model, workspace.Sources, "r");
        var mark = url.IndexOf('?');
        var lexed = LexedRequest.Read(RequestAddress.Read(url[..mark], url[(mark + 1)..].Replace(" ", "%20")).Value!).Value!;
        var prepared = published.Prepare(lexed, Caller.Anonymous) is { Value: { } found }
            ? found
            : throw new InvalidOperationException(url);
        var plan = Planner.Plan(AccessGate.Permit(prepared.Request, prepared.Model, prepared.Model).Value!, prepared.Model).Main;
        return (plan, QueryValues.Make(prepared.Request, lexed, null, DateTime.UnixEpoch).Value!, prepared.Source!);
    }

    private static bool IsSameText(LoadedWorkspace workspace, string service, string url)
    {
        var (plan, _, source) = Planned(workspace, service, url);
        return Forms.Select(f => SqlWriter.WriteWith(f, plan, source.Dialect).Text).Distinct().Count() == 1;
    }

    /// <summary>Milliseconds of each form of a statement, asked in turn.</summary>
    private static async Task<double[]> MeasureAsync(LoadedWorkspace workspace, string service, string url, int rounds)
    {
        var (plan, values, source) = Planned(workspace, service, url);
        var statements = Forms.Select(f => SqlWriter.WriteWith(f, plan, source.Dialect)).ToList();
        var times = new double[Forms.Length];
        for (var round = -Math.Max(2, rounds / 10); round < rounds; round++)
        {
            // Each of them follows each other one, since a long one leaves caches cold.
            for (var n = 0; n < statements.Count; n++)
            {
                var i = (n + Math.Abs(round)) % statements.Count;
                // A session has the time of a statement.
                await using var session = await source.OpenSessionAsync(SessionKind.Plain, CancellationToken.None);
                var clock = Stopwatch.GetTimestamp();
                await using (
                    var rows = await session.QueryAsync(
                        statements[i].Text,
                        values.Bind(statements[i], source.Dialect).Value!,
                        CancellationToken.None
                    )
                )
                {
                    while (await rows.ReadAsync(CancellationToken.None)) { }
                }
                if (round >= 0)
                    times[i] += Stopwatch.GetElapsedTime(clock).TotalMilliseconds / rounds;
            }
        }
        return times;
    }
}
