using System.Globalization;
using Microsoft.Data.Sqlite;

namespace RapidGable.Demo;

/// <summary>Fills the schema with rows of the made-up Alder Basin Water Watch.</summary>
public static class NetworkDatabase
{
    private const int Seed = 20240501;
    private static readonly DateTime FirstReading = new(2024, 5, 1, 0, 0, 0, DateTimeKind.Utc);

    /// <summary>All tables, each after those that it refers to.</summary>
    internal static readonly string[] Tables =
    [
        "catchment",
        "station",
        "sensor",
        "reading",
        "technician",
        "certificate",
        "technician_certificate",
        "visit",
        "visit_task",
        "alert_threshold",
        "group",
        "import_log",
        "wide_form",
    ];

    private static readonly (string Name, int? Parent, double Area)[] Catchments =
    [
        ("Alder Basin", null, 8412.5),
        ("Upper Alder", 1, 2210.75),
        ("Lower Alder", 1, 3105.2),
        ("Ferrin", 1, 1840),
        ("Little Ferrin", 4, 322.4),
        ("Osk", 3, 911.08),
        ("Tarn Beck", 2, 148.6),
        ("Merrow", 3, 640.33),
        ("Quill Water", 6, 75.25),
    ];

    private static readonly string[] Places =
    [
        "Ashford Weir",
        "Bramble Bridge",
        "Cold Ferry",
        "Dunnock Mill",
        "Elder Lock",
        "Fallow Ford",
        "Gorse End",
        "Hollin Sluice",
        "Ivy Reach",
        "Juniper Fall",
        "Kestrel Pool",
        "Linden Gate",
        "Marsh Lane",
        "Nettle Bank",
        "Oxbow Head",
        "Pike's Rest",
        "Quarry Foot",
        "Rushy Mead",
        "Sallow Bend",
        "Thistle Ghyll",
    ];

    private static readonly string[] Parts = ["upper", "lower", "left bank", "right bank", "gauge house", "footbridge"];

    private static readonly (string Kind, string Unit, double Base, double Swing)[] Kinds =
    [
        ("level", "m", 1.8, 1.2),
        ("flow", "m³/s", 24, 18),
        ("temperature", "°C", 11, 7),
        ("turbidity", "NTU", 8, 7.5),
    ];

    private static readonly (string Name, string Region)[] Technicians =
    [
        ("Iris Calder", "north"),
        ("Bo Ferrin", "north"),
        ("Mara Oskarsen", "south"),
        ("Tam Merrow", "south"),
        ("Edda Quill", "west"),
        ("Jonas Tarn", "west"),
        ("Noor Alderman", "north"),
        ("Piet Weir", "south"),
        ("Saga Holm", "west"),
        ("Ulla Beck", "north"),
        ("Vik Sorrel", "south"),
        ("Wren O'Dell", "west"),
    ];

    private static readonly (string Code, string Name, int Months)[] Certificates =
    [
        ("CAL/2", "Calibration, second level", 24),
        ("CAL/1", "Calibration, first level", 36),
        ("Safety & Rope", "Working on steep banks", 12),
        ("BOAT'S", "Small boats", 60),
        ("H₂O 100%", "Sampling of drinking water", 18),
        ("First+Aid", "First aid", 24),
        ("ELEC#3", "Electrical work", 36),
    ];

    private static readonly string[] Purposes =
    [
        "Yearly inspection",
        "Replace sensor",
        "Clear weed",
        "Check datum",
        "Flood damage",
        "Collect samples",
    ];

    private static readonly string[] Tasks =
    [
        "Clean the sensor",
        "Read the staff gauge",
        "Change the battery",
        "Survey the section",
        "Take a sample",
    ];

    /// <summary>Makes the whole file; <paramref name="progress"/> hears how many readings are in.</summary>
    public static void Make(string path, int readings, Action<int> progress)
    {
        using var connection = new SqliteConnection(new SqliteConnectionStringBuilder { DataSource = path, Pooling = false }.ToString());
        connection.Open();
        Run(connection, "PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; PRAGMA page_size = 8192");
        using (var schema = new StreamReader(typeof(NetworkDatabase).Assembly.GetManifestResourceStream("schema.sql")!))
            Run(connection, schema.ReadToEnd());
        Run(connection, WideForm("INTEGER PRIMARY KEY", "INTEGER"));
        using (var transaction = connection.BeginTransaction())
        {
            var random = new Random(Seed);
            Fill(connection, random, readings, progress);
            transaction.Commit();
        }
        Run(
            connection,
            "CREATE INDEX reading_by_sensor ON reading (station_id, sensor_no, taken_at); ANALYZE; PRAGMA journal_mode = DELETE"
        );
    }

    private static void Fill(SqliteConnection connection, Random random, int readings, Action<int> progress)
    {
        using (var insert = new RowInsert(connection, "catchment", 4))
        {
            for (var i = 0; i < Catchments.Length; i++)
                insert.Add(i + 1, Catchments[i].Name, Catchments[i].Parent, Catchments[i].Area);
        }
        var sensors = FillStations(connection, random);
        FillReadings(connection, random, sensors, readings, progress);
        var technicians = FillPeople(connection, random);
        FillVisits(connection, random, technicians);
        FillRest(connection, random);
    }

    private static List<(int Station, int Number, int Kind)> FillStations(SqliteConnection connection, Random random)
    {
        var sensors = new List<(int, int, int)>();
        using var station = new RowInsert(connection, "station", 13);
        using var sensor = new RowInsert(connection, "sensor", 7);
        for (var id = 1; id <= 120; id++)
        {
            var opened = new DateTime(1962, 3, 1).AddDays(random.Next(0, 21_500));
            var closed = random.Next(10) == 0 ? opened.AddDays(random.Next(900, 4000)) : (DateTime?)null;
            if (closed > FirstReading)
                closed = null;
            var name =
                id <= Places.Length ? Places[id - 1] : $"{Places[(id * 7) % Places.Length]}, {Parts[(id / Places.Length) % Parts.Length]}";
            station.Add(
                id,
                $"AB-{id:000}",
                name,
                2 + (id % (Catchments.Length - 1)),
                Math.Round(51 + (random.NextDouble() * 1.6), 5),
                Math.Round(-2.4 + (random.NextDouble() * 1.9), 5),
                Date(opened),
                closed is { } c ? Date(c) : null,
                random.Next(5) > 0 ? 1 : 0,
                Math.Round(random.NextDouble() * 240, 3),
                random.Next(3) == 0 ? "Key at the lock keeper's house; mind the dog." : null,
                id % 15 == 0 ? Photo(random) : null,
                Stamp(FirstReading.AddDays(-random.Next(1, 200)).AddSeconds(random.Next(86_400)), 0)
            );
            var count = 1 + random.Next(3);
            for (var number = 1; number <= count; number++)
            {
                var kind = number == 1 ? 0 : random.Next(1, Kinds.Length);
                sensor.Add(
                    id,
                    number,
                    Kinds[kind].Kind,
                    Kinds[kind].Unit,
                    Stamp(opened.AddDays(number), 0),
                    random.Next(4) == 0 ? null : $"{random.Next(1, 4)}.{random.Next(0, 12)}",
                    random.Next(3) == 0
                        ? null
                        : $"{{\"interval_s\":{900 * number},\"smoothing\":{(random.Next(2) == 0 ? "true" : "false")}}}"
                );
                sensors.Add((id, number, kind));
            }
        }
        return sensors;
    }

    private static void FillReadings(
        SqliteConnection connection,
        Random random,
        List<(int Station, int Number, int Kind)> sensors,
        int readings,
        Action<int> progress
    )
    {
        using var insert = new RowInsert(connection, "reading", 7);
        for (var i = 0; i < readings; i++)
        {
            var (station, number, kind) = sensors[i % sensors.Count];
            var (_, _, mean, swing) = Kinds[kind];
            var taken = FirstReading.AddMinutes(15.0 * (i / sensors.Count)).AddMilliseconds(random.Next(0, 60_000));
            var value = mean + (swing * Math.Sin((i / sensors.Count / 40.0) + station)) + (random.NextDouble() * swing / 4);
            var lost = random.Next(200) == 0;
            var quality = lost
                ? null
                : random.Next(20) switch
                {
                    0 => "C",
                    < 4 => "B",
                    _ => "A",
                };
            insert.Add(
                i + 1L,
                station,
                number,
                Stamp(taken, 3),
                lost ? null : Math.Round(value, 4),
                quality,
                lost ? "No answer from the logger"
                    : random.Next(300) == 0 ? "Checked by hand"
                    : null
            );
            if (i % 10_000 == 0)
                progress(i);
        }
    }

    private static List<string> FillPeople(SqliteConnection connection, Random random)
    {
        var ids = new List<string>();
        using var technician = new RowInsert(connection, "technician", 5);
        using var certificate = new RowInsert(connection, "certificate", 3);
        using var granted = new RowInsert(connection, "technician_certificate", 4);
        foreach (var (code, name, months) in Certificates)
            certificate.Add(code, name, months);
        foreach (var (name, region) in Technicians)
        {
            ids.Add(Uuid(random));
            var mail = string.Concat(name.ToLowerInvariant().Where(c => char.IsLetter(c) || c == ' ')).Replace(' ', '.');
            technician.Add(ids[^1], name, mail + "@example.org", region, random.Next(8) > 0 ? 1 : 0);
            foreach (var (code, _, months) in Certificates.Where(_ => random.Next(2) == 0))
            {
                var day = FirstReading.AddDays(-random.Next(700));
                granted.Add(ids[^1], code, Date(day), Date(day.AddMonths(months)));
            }
        }
        return ids;
    }

    private static void FillVisits(SqliteConnection connection, Random random, List<string> technicians)
    {
        using var visit = new RowInsert(connection, "visit", 8);
        using var task = new RowInsert(connection, "visit_task", 5);
        for (var id = 1; id <= 600; id++)
        {
            var day = FirstReading.AddDays(random.Next(-300, 60));
            var done = day < FirstReading;
            visit.Add(
                id,
                random.Next(1, 121),
                random.Next(12) == 0 ? null : technicians[random.Next(technicians.Count)],
                Date(day),
                done ? Stamp(day.AddHours(8).AddSeconds(random.Next(30_000)), 0) : null,
                Purposes[random.Next(Purposes.Length)],
                done
                    ? "Found in good order. "
                        + string.Concat(Enumerable.Repeat("Section surveyed, staff gauge read twice, photo taken. ", random.Next(1, 12)))
                    : null,
                1
            );
            for (var line = 1; line <= random.Next(1, 5); line++)
                task.Add(id, line, Tasks[random.Next(Tasks.Length)], 60 * 5 * random.Next(1, 25), done ? 1 : 0);
        }
    }

    private static void FillRest(SqliteConnection connection, Random random)
    {
        using var threshold = new RowInsert(connection, "alert_threshold", 5);
        for (var id = 1; id <= 90; id++)
            threshold.Add(
                id,
                random.Next(1, 121),
                Kinds[random.Next(2)].Kind,
                Math.Round(1.5 + (random.NextDouble() * 2), 4),
                random.Next(6) > 0 ? 1 : 0
            );
        using var group = new RowInsert(connection, "\"group\"", 5);
        group.Add(1, "flood watch", 1, "Flood watch", 120.5);
        group.Add(2, "drought; DROP TABLE station", 2, null, 0.75);
        group.Add(3, "100% quoted 'names' \"here\"", 3, "back\\slash", null);
        using var log = new RowInsert(connection, "import_log", 3);
        log.Add("2024-04-30", "alder-2024-04.csv", 8640);
        log.Add("2024-04-30", "alder-2024-04.csv", 8640);
        log.Add("2024-05-31", "alder-2024-05.csv", 8928);
        using var wide = new RowInsert(connection, "wide_form", 61);
        for (var id = 1; id <= 40; id++)
            wide.Add([
                id,
                .. Enumerable
                    .Range(1, 60)
                    .Select(
                        object? (i) =>
                            random.Next(9) == 0 ? null
                            : i % 3 == 0 ? "entry " + random.Next(100)
                            : (object)random.Next(1000)
                    ),
            ]);
    }

    /// <summary>The statement that makes the table of sixty columns.</summary>
    internal static string WideForm(string key, string number) =>
        $"CREATE TABLE wide_form (id {key}, "
        + $"{string.Join(", ", Enumerable.Range(1, 60).Select(i => $"field_{i:00} {(i % 3 == 0 ? "TEXT" : number)}"))})";

    /// <summary>Version 4, variant 1: some databases take no others.</summary>
    internal static string Uuid(Random random)
    {
        var bytes = new byte[16];
        random.NextBytes(bytes);
        bytes[7] = (byte)((bytes[7] & 0x0F) | 0x40);
        bytes[8] = (byte)((bytes[8] & 0x3F) | 0x80);
        return new Guid(bytes).ToString();
    }

    private static byte[] Photo(Random random)
    {
        var bytes = new byte[600];
        random.NextBytes(bytes);
        bytes[0] = 0xFF;
        bytes[1] = 0xD8;
        return bytes;
    }

    private static string Date(DateTime day) => day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);

    private static string Stamp(DateTime time, int digits) =>
        time.ToString("yyyy-MM-dd'T'HH:mm:ss" + (digits > 0 ? "." + new string('f', digits) : "") + "'Z'", CultureInfo.InvariantCulture);

    internal static void Run(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }
}
