using System.Globalization;
using Microsoft.Data.Sqlite;

namespace RapidGable.Demo;

/// <summary>Fills the laboratory's schema with made-up samples of the stations.</summary>
public static class LabDatabase
{
    private const int Seed = 20240502;

    private static readonly (string Code, string Name, string Unit, double Mean)[] Analytes =
    [
        ("NO3", "Nitrate", "mg/l", 12),
        ("PO4", "Phosphate", "mg/l", 0.4),
        ("O2", "Oxygen", "mg/l", 9),
        ("PB", "Lead", "µg/l", 1.2),
        ("ECOLI", "Escherichia coli", "1/100 ml", 240),
    ];

    /// <summary>Makes the whole file.</summary>
    public static void Make(string path)
    {
        using var connection = new SqliteConnection(new SqliteConnectionStringBuilder { DataSource = path, Pooling = false }.ToString());
        connection.Open();
        using (var schema = new StreamReader(typeof(LabDatabase).Assembly.GetManifestResourceStream("schema-lab.sql")!))
            NetworkDatabase.Run(connection, schema.ReadToEnd());
        using var transaction = connection.BeginTransaction();
        var random = new Random(Seed);
        using var analyte = new RowInsert(connection, "analyte", 3);
        using var sample = new RowInsert(connection, "sample", 3);
        using var result = new RowInsert(connection, "result", 5);
        foreach (var (code, name, unit, _) in Analytes)
            analyte.Add(code, name, unit);
        for (var i = 0; i < 300; i++)
        {
            var id = NetworkDatabase.Uuid(random);
            sample.Add(
                id,
                $"AB-{random.Next(1, 121):000}",
                new DateTime(2023, 6, 1).AddDays(random.Next(330)).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)
            );
            foreach (var (code, _, _, mean) in Analytes.Where(_ => random.Next(4) > 0))
            {
                var limit = Math.Round(mean / 10, 3);
                var value = Math.Round(mean * random.NextDouble() * 2, 3);
                result.Add(
                    id,
                    code,
                    value < limit ? limit
                        : random.Next(40) == 0 ? null
                        : value,
                    value < limit ? "<" : null,
                    limit
                );
            }
        }
        transaction.Commit();
    }
}
