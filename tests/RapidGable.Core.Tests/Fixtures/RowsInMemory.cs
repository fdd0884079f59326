namespace RapidGable.Core.Tests;

/// <summary>The rows of the random queries, as objects and as SQL.</summary>
internal static class RowsInMemory
{
    private static readonly string[] Names = ["", "a", "A", "ab", "Ab c", "bca", "zz"];

    public static readonly Dictionary<string, MemorySet> Sets = Make();

    private static Dictionary<string, MemorySet> Make()
    {
        var random = new Random(5);
        T? Maybe<T>(T value)
            where T : struct => random.Next(4) == 0 ? null : value;
        var areas = Enumerable
            .Range(1, 5)
            .Select(i => new MemoryRow(("id", (long)i), ("name", (object)$"area {i % 3}"), ("size", Maybe(i * 0.5m))))
            .ToList();
        var stations = Enumerable
            .Range(1, 30)
            .Select(i => new MemoryRow(
                ("id", (long)i),
                ("parent_id", Maybe((long)random.Next(1, i + 1))),
                ("area_id", Maybe((long)random.Next(1, 6))),
                ("name", random.Next(5) == 0 ? null : Names[random.Next(Names.Length)]),
                ("n", Maybe((long)random.Next(-3, 5)))
            ))
            .ToList();
        var sensors = stations
            .SelectMany(s =>
                Enumerable
                    .Range(1, random.Next(5))
                    .Select(no => new MemoryRow(
                        ("station_id", s["id"]),
                        ("no", (long)no),
                        ("kind", (object)(random.Next(3) == 0 ? "flow" : "level")),
                        ("v", Maybe(random.Next(-4, 9) * 0.25m))
                    ))
            )
            .ToList();
        foreach (var loop in stations.Where(s => Equals(s["id"], s["parent_id"])))
            loop["parent_id"] = null;
        MemoryRow? One(List<MemoryRow> rows, object? id) => id is null ? null : rows.Find(r => Equals(r["id"], id));
        foreach (var s in stations)
        {
            s.One["parent"] = One(stations, s["parent_id"]);
            s.One["area"] = One(areas, s["area_id"]);
            s.Many["parts"] = [.. stations.Where(p => Equals(p["parent_id"], s["id"]))];
            s.Many["sensors"] = [.. sensors.Where(p => Equals(p["station_id"], s["id"]))];
        }
        foreach (var a in areas)
            a.Many["stations"] = [.. stations.Where(s => Equals(s["area_id"], a["id"]))];
        foreach (var s in sensors)
            s.One["station"] = One(stations, s["station_id"]);
        var world = new Dictionary<string, MemorySet>();
        foreach (
            var set in new MemorySet[]
            {
                new("area", ["id", "name", "size"], ["id"], areas, [], [("stations", "station")], "size")
                {
                    Searched = ["name"],
                    Groups = ["name"],
                },
                new(
                    "station",
                    ["id", "parent_id", "area_id", "name", "n"],
                    ["id"],
                    stations,
                    [("parent", "station"), ("area", "area")],
                    [("parts", "station"), ("sensors", "sensor")],
                    "n"
                )
                {
                    Searched = ["name"],
                    Groups = ["name", "area_id"],
                },
                new("sensor", ["station_id", "no", "kind", "v"], ["station_id", "no"], sensors, [("station", "station")], [], "v")
                {
                    Groups = ["kind"],
                },
            }
        )
            world[set.Name] = set with { World = world, Values = set.Properties };
        return world;
    }

    public static string Tables =>
        """
            CREATE TABLE area (id BIGINT PRIMARY KEY, name VARCHAR(20), size DECIMAL(6,2));
            CREATE TABLE station (id BIGINT PRIMARY KEY, parent_id BIGINT, area_id BIGINT, name VARCHAR(20), n BIGINT);
            CREATE TABLE sensor (station_id BIGINT, no BIGINT, kind VARCHAR(20), v DECIMAL(6,2), PRIMARY KEY (station_id, no));
            """
        + string.Concat(
            Sets.Values.Select(s =>
                $"INSERT INTO {s.Name} VALUES "
                + $"{string.Join(", ", s.Rows.Select(r => $"({string.Join(", ", s.Properties.Select(p => Literal(r[p])))})"))};\n"
            )
        );

    private static string Literal(object? value) =>
        value switch
        {
            null => "NULL",
            string text => $"'{text}'",
            _ => FormattableString.Invariant($"{value}"),
        };
}
