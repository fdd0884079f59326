using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Queries;

namespace RapidGable.Core.Tests;

public sealed class SqliteEveryPairTests() : EveryPairTests(Engine.Sqlite);

public sealed class PostgresEveryPairTests(PostgresServer server)
    : EveryPairTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>;

public sealed class MariaDbEveryPairTests(MariaDbServer server)
    : EveryPairTests(Engine.MariaDb, null, server),
        IClassFixture<MariaDbServer>;

/// <summary>
/// Every pair of columns that may be compared is, on every engine and in every way; and numbers at the ends of their types.
/// </summary>
[Trait("Category", "Attack")]
public abstract class EveryPairTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : EngineTests(engine, postgres, mariaDb)
{
    private string Collated(string collation, string character = "utf8mb4") =>
        Engine == Engine.MariaDb ? $" CHARACTER SET {character} COLLATE {collation}" : "";

    protected override string Tables =>
        $"""
            CREATE TABLE odd (
                id INTEGER NOT NULL PRIMARY KEY,
                bin VARCHAR(20){Collated("utf8mb4_bin")},
                nopad VARCHAR(20){Collated("utf8mb4_nopad_bin")},
                loose VARCHAR(20) {Collated("utf8mb4_general_ci")},
                unicode_ci VARCHAR(20){Collated("utf8mb4_unicode_ci")},
                swedish VARCHAR(20){Collated("utf8mb4_swedish_ci")},
                latin VARCHAR(20){Collated("latin1_german1_ci", "latin1")},
                long_text TEXT,
                small SMALLINT,
                large BIGINT,
                price DECIMAL(9,2),
                ratio {(Engine == Engine.MariaDb ? "DOUBLE" : "DOUBLE PRECISION")},
                on_day DATE,
                at_time TIME
            );
            INSERT INTO odd VALUES
                (1, 'a', 'a', 'A', 'a', 'a', 'a', 'a', 1, 1, 1, 1, '2024-05-01', '10:00:00'),
                (2, 'b', 'B', 'b', 'b', 'b', 'b', 'b', 2, 3, 4, 5, '2024-05-02', '11:00:00'),
                (3, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL);
            """;

    protected override string Declaration =>
        "title: S\nsource: main\nnamespace: T\nrules: { read: anyone }\nsql: { who: anyone }\nsets:\n  - { from: odd, name: Odd }\n";

    private async Task<(RequestFault? Fault, long Rows)> CountAsync(string filter)
    {
        var lexed = NetworkFixture.Lex("Odd?$select=id&$filter=" + filter);
        if (!lexed.Is(out var request, out var fault) || !Service.Prepare(request, Caller.Anonymous).Is(out var prepared, out fault))
            return (fault, 0);
        if (!QueryValues.Make(prepared.Request, request, null, DateTime.UnixEpoch).Is(out var values, out fault))
            return (fault, 0);
        if (!(await QueryRun.StartAsync(prepared, values, CancellationToken.None)).Is(out var run, out fault))
            return (fault, 0);
        await using (run)
        {
            var rows = 0;
            for (var more = run.HasRow; more; more = await run.Rows.ReadAsync(CancellationToken.None))
                rows++;
            return (null, rows);
        }
    }

    [Fact]
    public async Task Columns_that_may_be_compared_are()
    {
        var columns = Service.Model.Sets[0].Type.Properties;
        var asked = 0;
        foreach (var left in columns)
        {
            foreach (var right in columns)
            {
                foreach (var op in new[] { "eq", "ne", "lt", "ge" })
                {
                    var (fault, all) = await CountAsync($"{left.Name} {op} {right.Name}");
                    // What has another type is refused before the database is asked.
                    if (fault?.Code == "type")
                        continue;
                    Assert.True(fault is null, $"{left.Name} {op} {right.Name}: {fault?.Message}");
                    Assert.InRange(all, 0, 3);
                    asked++;
                }
                if (left.Type.Kind != EdmKind.String || right.Type.Kind != EdmKind.String)
                    continue;
                foreach (
                    var form in new[] { "contains({0},{1})", "tolower({0}) eq toupper({1})", "concat({0},{1}) ne {0}", "{0} eq trim({1})" }
                )
                {
                    var text = string.Format(System.Globalization.CultureInfo.InvariantCulture, form, left.Name, right.Name);
                    Assert.True((await CountAsync(text)).Fault is null, text);
                    asked++;
                }
            }
        }
        Assert.True(asked > 400, $"{asked} were asked");
        // Each is equal to itself, null among them.
        foreach (var column in columns)
            Assert.Equal((null, 3), await CountAsync($"{column.Name} eq {column.Name}"));
    }

    [Theory]
    [InlineData("ceiling(id) mod 3 eq 1", 1)]
    [InlineData("floor(large) mod 2 eq 1", 2)]
    [InlineData("ceiling(price) add floor(small) gt 0", 2)]
    [InlineData("round(ratio) mod 2 eq 1", 2)]
    [InlineData("price lt 100000000000000000000000000000", 2)]
    [InlineData("100000000000000000000000000000 gt small", 2)]
    [InlineData("price mul 100000000000000000000000000000 gt 1", 2)]
    [InlineData("ratio lt 1e300", 2)]
    public async Task Numbers_at_the_ends_of_their_types_are_computed_with(string filter, long rows) =>
        Assert.Equal((null, rows), await CountAsync(filter));

    [Theory]
    [InlineData("100000000000000000000000000000")]
    [InlineData("price mul 100000000000000000000000000000")]
    [InlineData("-100000000000000000000000000000 sub 1")]
    public async Task Computed_numbers_may_be_longer_than_any_stored_one(string expression) =>
        Assert.Matches("'x':-?10000000000000000000000000000", await GetAsync($"Odd?$top=1&$select=id,x&$compute={expression} as x"));

    [Fact]
    public async Task More_digits_than_the_engine_has_are_no_other_number()
    {
        var (fault, rows) = await CountAsync($"price lt 1{new string('0', 60)}");
        Assert.Equal(Engine == Engine.MariaDb ? ("not-implemented", 0L) : (null, 2L), (fault?.Code, rows));
    }

    [Fact]
    public void A_number_that_is_none_is_in_no_position()
    {
        foreach (var number in new[] { double.NaN, double.PositiveInfinity })
        {
            var isStored = Database.Dialect.IsStored(StoredValue.From(number), EdmType.Double);
            Assert.Equal(Engine == Engine.Sqlite && double.IsInfinity(number), isStored);
        }
    }

    [Theory]
    [InlineData("^a$", "a\n", false)]
    [InlineData("^a$", "a", true)]
    [InlineData("a$|b", "xb\n", true)]
    [InlineData("[$]$", "1$", true)]
    [InlineData(@"\$$", "1$\n", false)]
    public async Task An_end_is_the_end(string pattern, string text, bool isMatch)
    {
        var filter = $"id eq 1 and matchesPattern('{text.Replace("\n", "%0A")}','{pattern}')";
        var (fault, rows) = await CountAsync(Uri.EscapeDataString(filter).Replace("%2525", "%25").Replace("%250A", "%0A"));
        Assert.True(fault is null, fault?.Message);
        Assert.Equal(isMatch ? 1 : 0, rows);
    }
}
