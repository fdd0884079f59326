namespace RapidGable.Core.Tests;

/// <summary>Texts that do not have the declared form of a date have no parts, in a condition and outside of it.</summary>
public abstract class StoredPartTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : EngineTests(engine, postgres, mariaDb)
{
    protected override string Tables =>
        """
            CREATE TABLE note (id INTEGER NOT NULL PRIMARY KEY, day VARCHAR(20) NOT NULL);
            INSERT INTO note VALUES (1, '20240501'), (2, '007'), (3, 'yyyyMMdd'), (4, '202405011'), (5, '');
            """;

    protected override string Declaration =>
        """
            title: S
            source: main
            rules: { read: anyone }
            sets:
              - { from: note, name: Notes, columns: { day: { type: date, format: yyyyMMdd } } }
            """;

    [Theory]
    [InlineData("year(day) eq 2024", "1")]
    [InlineData("year(day) ne 2024", "4")]
    [InlineData("not (month(day) eq 5)", "4")]
    [InlineData("day(day) eq null", "4")]
    [InlineData("year(day) gt 0 or month(day) gt 0", "1")]
    public async Task What_is_no_date_has_no_parts(string filter, string expected) =>
        Assert.Equal(expected, await GetAsync($"Notes/$count?$filter={filter}"));
}

public sealed class SqliteStoredPartTests() : StoredPartTests(Engine.Sqlite);

public sealed class PostgresStoredPartTests(PostgresServer server)
    : StoredPartTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>;

public sealed class MariaDbStoredPartTests(MariaDbServer server)
    : StoredPartTests(Engine.MariaDb, mariaDb: server),
        IClassFixture<MariaDbServer>;
