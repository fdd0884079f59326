using System.Globalization;
using System.Text.RegularExpressions;
using Microsoft.Data.Sqlite;
using MySqlConnector;

namespace RapidGable.Demo;

/// <summary>Makes the same database on MariaDB, by copying the rows of the SQLite one.</summary>
public static partial class MariaDbDatabase
{
    private const int RowsInStatement = 200;

    /// <param name="connection">Of an empty database.</param>
    /// <param name="sqliteFile">As <see cref="NetworkDatabase.Make"/> makes it.</param>
    public static void Make(string connection, string sqliteFile)
    {
        using var target = new MySqlConnection(connection);
        target.Open();
        Run(target, "SET SESSION sql_mode = CONCAT(@@sql_mode, ',ANSI_QUOTES'), time_zone = '+00:00'");
        using (var schema = new StreamReader(typeof(MariaDbDatabase).Assembly.GetManifestResourceStream("schema-mariadb.sql")!))
            Run(target, schema.ReadToEnd());
        Run(target, NetworkDatabase.WideForm("BIGINT AUTO_INCREMENT PRIMARY KEY", "BIGINT"));
        using var source = new SqliteConnection($"Data Source={sqliteFile};Mode=ReadOnly;Pooling=False");
        source.Open();
        foreach (var table in NetworkDatabase.Tables)
            Copy(source, target, table);
        Run(target, "CREATE INDEX reading_by_sensor ON reading (station_id, sensor_no, taken_at)");
    }

    private static void Copy(SqliteConnection source, MySqlConnection target, string table)
    {
        using var command = new SqliteCommand($"SELECT * FROM \"{table}\"", source);
        using var rows = command.ExecuteReader();
        using var transaction = target.BeginTransaction();
        for (var more = rows.Read(); more; )
        {
            using var insert = new MySqlCommand { Connection = target, Transaction = transaction };
            var values = new List<string>();
            for (; more && values.Count < RowsInStatement; more = rows.Read())
            {
                var names = Enumerable.Range(0, rows.FieldCount).Select(i => $"@v{values.Count}_{i}").ToList();
                for (var i = 0; i < names.Count; i++)
                    insert.Parameters.AddWithValue(names[i], Value(rows, i));
                values.Add($"({string.Join(", ", names)})");
            }
            insert.CommandText = $"INSERT INTO \"{table}\" VALUES {string.Join(", ", values)}";
            insert.ExecuteNonQuery();
        }
        transaction.Commit();
    }

    private static object Value(SqliteDataReader row, int column) =>
        row.GetValue(column) switch
        {
            long seconds when row.GetName(column) == "minutes" => TimeSpan.FromSeconds(seconds),
            string text when Instant().IsMatch(text) => DateTime.Parse(
                text,
                CultureInfo.InvariantCulture,
                DateTimeStyles.AdjustToUniversal
            ),
            var value => value,
        };

    private static void Run(MySqlConnection connection, string sql)
    {
        using var command = new MySqlCommand(sql, connection);
        command.ExecuteNonQuery();
    }

    [GeneratedRegex(@"^\d{4}-\d\d-\d\dT[\d:.]+Z$")]
    private static partial Regex Instant();
}
