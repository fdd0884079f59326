namespace RapidGable.Core.Tests;

public sealed class SqliteRandomWriteRuleTests() : RandomWriteRuleTests(Engine.Sqlite);

public sealed class PostgresRandomWriteRuleTests(PostgresServer server)
    : RandomWriteRuleTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>;

public sealed class MariaDbRandomWriteRuleTests(MariaDbServer server)
    : RandomWriteRuleTests(Engine.MariaDb, null, server),
        IClassFixture<MariaDbServer>;
