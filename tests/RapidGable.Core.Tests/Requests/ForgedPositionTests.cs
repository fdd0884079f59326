using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Core.Tests;

public sealed class SqliteForgedPositionTests() : ForgedPositionTests(Engine.Sqlite);

public sealed class PostgresForgedPositionTests(PostgresServer server)
    : ForgedPositionTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>;

public sealed class MariaDbForgedPositionTests(MariaDbServer server)
    : ForgedPositionTests(Engine.MariaDb, null, server),
        IClassFixture<MariaDbServer>;

/// <summary>Next and delta links with values that no answer of the service ever held.</summary>
[Trait("Category", "Attack")]
public abstract class ForgedPositionTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : EngineTests(engine, postgres, mariaDb)
{
    protected override string Tables =>
        $"""
            CREATE TABLE item (id INTEGER PRIMARY KEY, name VARCHAR(40), amount DECIMAL(9,2), big DOUBLE PRECISION, made_on DATE, made_at TIMESTAMP{(
                Engine == Engine.MariaDb ? " NULL" : ""
            )}, flag BOOLEAN,
              tag {(Engine == Engine.MariaDb ? "CHAR(36)" : "UUID")}, seq BIGINT NOT NULL);
            INSERT INTO item VALUES (1, 'a', 1.5, 2.5, '2024-01-02', '2024-01-02 03:04:05', {Truth}, '00000000-0000-0000-0000-000000000001', 1), (2, NULL, NULL, NULL, NULL, NULL, NULL, NULL, 2),
              (3, 'c', 3.5, 4.5, '2024-01-03', '2024-01-03 03:04:05', {Truth}, '00000000-0000-0000-0000-000000000003', 3);
            """;

    private string Truth => Engine == Engine.PostgreSql ? "true" : "1";

    protected override string Declaration =>
        """
            title: S
            source: main
            namespace: T
            rules: { read: anyone }
            sets:
              - { from: item, name: Items, page: 1, changes: seq }
            """;

    private static readonly ImmutableArray<StoredValue> Forgeries =
    [
        StoredValue.Null,
        StoredValue.From(5L),
        StoredValue.From(long.MinValue),
        StoredValue.From(double.NaN),
        StoredValue.From(1e300),
        StoredValue.From(""),
        StoredValue.From("a'b"),
        StoredValue.From("a\0b"),
        StoredValue.From("2024-13-45"),
        StoredValue.From("99999-01-01T00:00:00Z"),
        StoredValue.From("1e999"),
        StoredValue.From("true"),
        StoredValue.From([0, 255]),
        StoredValue.From(new string('9', 400)),
    ];

    [Theory]
    [InlineData("id")]
    [InlineData("name")]
    [InlineData("amount desc")]
    [InlineData("big")]
    [InlineData("made_on")]
    [InlineData("made_at desc")]
    [InlineData("flag")]
    [InlineData("tag")]
    public async Task A_forged_position_is_refused_or_gives_rows(string order)
    {
        var start = await GetAsync($"Items?$orderby={order}");
        var token = PagePosition.Read(start[(start.IndexOf("$skiptoken=", StringComparison.Ordinal) + 11)..].TrimEnd('}', '\''))!;
        for (var at = 0; at < token.Values.Length; at++)
        {
            foreach (var value in Forgeries)
                await RefusedOrAnsweredAsync(
                    $"Items?$orderby={order}&$skiptoken={(token with { Values = token.Values.SetItem(at, value) }).Write()}"
                );
        }
        await RefusedOrAnsweredAsync($"Items?$orderby={order}&$skiptoken={(token with { Values = [] }).Write()}");
        await RefusedOrAnsweredAsync(
            $"Items?$orderby={order}&$skiptoken={(token with { Values = [.. token.Values, .. token.Values] }).Write()}"
        );
    }

    private async Task RefusedOrAnsweredAsync(string url)
    {
        var answer = await GetAsync(url);
        Assert.True(answer is "400 skiptoken" or "410 gone" || answer.StartsWith('{'), $"{url}: {answer}");
    }
}
