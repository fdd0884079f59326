using System.Data.Common;
using System.Diagnostics;
using System.Globalization;
using System.Text;
using Microsoft.Data.Sqlite;
using MySqlConnector;
using Npgsql;
using RapidGable.Core.Tests;
using RapidGable.Sources;

/// <summary>Reads the catalog of a database of 2,000 tables with 30,000 columns, against asking for one table after the other.</summary>
internal static class CatalogBench
{
    private const int Tables = 2_000;
    private const int Columns = 15;
    private const int Rounds = 3;

    public static async Task RunAsync(string folder)
    {
        Console.WriteLine(
            $"\n{$"catalog of {Tables:N0} tables, {Tables * Columns:N0} columns", -44} {"gable ms", 9} "
                + $"{"table by table ms", 18} {"ratio", 6}"
        );
        var file = Path.Combine(folder, "wide.db");
        await using (var connection = new SqliteConnection($"Data Source={file};Pooling=False"))
            await MakeAsync(connection, "BIGINT");
        await MeasureAsync(
            "SQLite",
            "sqlite",
            new() { ["file"] = file },
            () => new SqliteConnection($"Data Source={file};Mode=ReadOnly;Pooling=False"),
            [
                "SELECT * FROM pragma_table_xinfo('{0}')",
                "SELECT * FROM pragma_foreign_key_list('{0}')",
                "SELECT * FROM pragma_index_list('{0}')",
            ]
        );

        var postgres = new PostgresServer();
        await postgres.InitializeAsync();
        var database = await postgres.CreateDatabaseAsync();
        await using (var connection = new NpgsqlConnection(postgres.Connection(database)))
            await MakeAsync(connection, "BIGINT");
        await MeasureAsync(
            "PostgreSQL",
            "postgresql",
            new()
            {
                ["host"] = "127.0.0.1",
                ["port"] = $"{postgres.Port}",
                ["database"] = database,
                ["user"] = "tester",
                ["password"] = PostgresServer.Password,
            },
            () => new NpgsqlConnection(postgres.Connection(database)),
            [
                "SELECT * FROM information_schema.columns WHERE table_name = '{0}'",
                "SELECT * FROM pg_constraint WHERE conrelid = '{0}'::regclass",
            ]
        );
        await postgres.DisposeAsync();

        var mariaDb = new MariaDbServer();
        await mariaDb.InitializeAsync();
        database = await mariaDb.CreateDatabaseAsync();
        await using (var connection = new MySqlConnection(mariaDb.Connection(database)))
            await MakeAsync(connection, "BIGINT");
        await MeasureAsync(
            "MariaDB",
            "mariadb",
            new()
            {
                ["host"] = "127.0.0.1",
                ["port"] = $"{mariaDb.Port}",
                ["database"] = database,
                ["user"] = "tester",
                ["password"] = MariaDbServer.Password,
            },
            () => new MySqlConnection(mariaDb.Connection(database)),
            [
                "SHOW FULL COLUMNS FROM `{0}`",
                "SHOW INDEX FROM `{0}`",
                "SELECT * FROM information_schema.key_column_usage WHERE table_schema = database() AND table_name = '{0}'",
            ]
        );
        await mariaDb.DisposeAsync();
    }

    private static async Task MakeAsync(DbConnection connection, string key)
    {
        await connection.OpenAsync();
        for (var i = 0; i < Tables; i += 100)
        {
            var sql = new StringBuilder();
            for (var t = i; t < i + 100; t++)
            {
                var columns = Enumerable
                    .Range(0, Columns - 2)
                    .Select(c => $"c{c} {(c % 3) switch { 0 => "VARCHAR(40)", 1 => "DECIMAL(12,3)", _ => "DATE" }}");
                sql.Append(
                    $"CREATE TABLE t{t} (id {key} NOT NULL PRIMARY KEY, parent "
                        + $"{key}{(t == 0 ? "" : $" REFERENCES t{t / 2} (id)")}, {string.Join(", ", columns)});\n"
                );
            }
            await using var command = connection.CreateCommand();
            command.CommandText = sql.ToString();
            command.CommandTimeout = 300;
            await command.ExecuteNonQueryAsync();
        }
    }

    private static async Task MeasureAsync(
        string name,
        string engine,
        Dictionary<string, string> settings,
        Func<DbConnection> connect,
        string[] statements
    )
    {
        await using var source = EngineRegistry.Find(engine)!.Open("bench", ".", settings, [])!;
        double ours = 0,
            byHand = 0;
        for (var round = 0; round < Rounds; round++)
        {
            var clock = Stopwatch.StartNew();
            var catalog = await source.ReadCatalogAsync(default);
            ours += clock.Elapsed.TotalMilliseconds;
            if (
                catalog.Objects.Length != Tables
                || catalog.Objects.Sum(o => o.Columns.Length) != Tables * Columns
                || catalog.Objects.Sum(o => o.ForeignKeys.Length) != Tables - 1
            )
                throw new InvalidOperationException($"{name}: {catalog.Objects.Length} tables were read.");
            clock.Restart();
            await using var connection = connect();
            await connection.OpenAsync();
            for (var t = 0; t < Tables; t++)
            {
                foreach (var statement in statements)
                {
                    await using var command = connection.CreateCommand();
                    command.CommandText = string.Format(CultureInfo.InvariantCulture, statement, "t" + t);
                    await using var reader = await command.ExecuteReaderAsync();
                    while (await reader.ReadAsync()) { }
                }
            }
            byHand += clock.Elapsed.TotalMilliseconds;
        }
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"  {name, -42} {ours / Rounds, 9:0} {byHand / Rounds, 18:0} {byHand / ours, 6:0.00}"
            )
        );
    }
}
