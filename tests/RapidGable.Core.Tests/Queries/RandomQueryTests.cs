namespace RapidGable.Core.Tests;

public sealed class SqliteRandomQueryTests() : RandomQueryTests(Engine.Sqlite);

public sealed class PostgresRandomQueryTests(PostgresServer server)
    : RandomQueryTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>;

public sealed class MariaDbRandomQueryTests(MariaDbServer server)
    : RandomQueryTests(Engine.MariaDb, null, server),
        IClassFixture<MariaDbServer>;

/// <summary>
/// Random queries with everything that nests: the payload must be the one that an evaluator makes from the same rows in memory, without
/// SQL and without the parser.
/// </summary>
public abstract class RandomQueryTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : EngineTests(engine, postgres, mariaDb)
{
    protected override string Tables => RowsInMemory.Tables;

    protected override string Declaration =>
        """
            title: S
            source: main
            rules: { read: anyone }
            page: 5000
            sets:
              - { from: station, relations: { parent: { to: station, on: { parent_id: id }, back: parts }, area: { to: area, on: { area_id: id }, back: stations } } }
              - area
              - { from: sensor, relations: { station: { to: station, on: { station_id: id }, back: sensors } } }
            """;

    [Fact]
    [Proves("Q-13, Q-14, Q-83, Q-86 to Q-89, Q-91, Q-94, J-21")]
    public Task The_answer_is_that_of_an_evaluator_in_memory() => RandomCases.QueriesAsync(Service, RowsInMemory.Sets["station"], 700);

    [Fact]
    [Proves("Q-95 to Q-105")]
    public Task The_aggregates_are_those_of_an_evaluator_in_memory() =>
        RandomCases.AggregatesAsync(Service, RowsInMemory.Sets["station"], 500);
}
