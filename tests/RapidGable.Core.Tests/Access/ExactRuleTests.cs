using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Publishing;

namespace RapidGable.Core.Tests;

public sealed class SqliteExactRuleTests() : ExactRuleTests(Engine.Sqlite);

public sealed class PostgresExactRuleTests(PostgresServer server)
    : ExactRuleTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>;

public sealed class MariaDbExactRuleTests(MariaDbServer server)
    : ExactRuleTests(Engine.MariaDb, null, server),
        IClassFixture<MariaDbServer>;

/// <summary>Conditions of rules compare texts character by character, whatever the collations of their columns take as equal.</summary>
[Trait("Category", "Attack")]
public abstract class ExactRuleTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : EngineTests(engine, postgres, mariaDb)
{
    private string Text =>
        Engine switch
        {
            Engine.Sqlite => "VARCHAR(20) COLLATE NOCASE",
            Engine.PostgreSql => "VARCHAR(20) COLLATE loose",
            _ => "VARCHAR(20)",
        };

    protected override string Tables =>
        $"""
            {(
                Engine == Engine.PostgreSql
                    ? "CREATE COLLATION loose (provider = icu, locale = 'und-u-ks-level1', deterministic = false);"
                    : ""
            )}
            CREATE TABLE paper (id INTEGER PRIMARY KEY, owner {Text}, kind {Text} NOT NULL);
            CREATE INDEX paper_owner ON paper (owner);
            INSERT INTO paper VALUES (1, 'tom', 'a'), (2, 'TOM', 'A'), (3, 'tom ', 'a'), (4, 'tóm', 'á'), (5, NULL, 'b'), (6, 'ada', 'B');
            """;

    protected override string Declaration => Declared("owner eq @user");

    private static string Declared(string rows) =>
        $"title: S\nsource: main\nnamespace: T\nsets:\n  - {{ from: paper, name: Papers, rules: [{{ who: signed-in, may: read, "
        + $"rows: \"{rows}\" }}] }}\n";

    [Theory]
    [InlineData("owner eq @user", "1")]
    [InlineData("@user eq owner", "1")]
    [InlineData("owner ne @user", "2,3,4,5,6")]
    [InlineData("not (owner eq @user)", "2,3,4,5,6")]
    [InlineData("owner in ('tom','ada')", "1,6")]
    [InlineData("not (owner in ('tom','ada'))", "2,3,4,5")]
    [InlineData("kind ne 'a'", "2,4,5,6")]
    [InlineData("kind eq 'A'", "2")]
    [InlineData("kind le 'B'", "2,6")]
    [InlineData("kind eq owner", "")]
    [InlineData("startswith(owner,'to')", "1,3")]
    [InlineData("contains(kind,'B')", "6")]
    public async Task A_rule_compares_exactly(string rows, string expected)
    {
        await using var workspace = await LoadAsync(Declared(rows));
        Assert.Empty(workspace.Diagnostics.Items.Where(d => d.Severity == Declarations.Severity.Error).Select(d => d.Render()));
        var tom = new Caller(true, []) { Name = "tom", Attributes = ImmutableDictionary<string, ImmutableArray<string>>.Empty };
        var answer = await GetAsync("Papers?$select=id", tom, new PublishedService(workspace.Services[0].Model, workspace.Sources, "r"));
        Assert.Equal(
            expected,
            answer.StartsWith('{')
                ? string.Join(',', System.Text.RegularExpressions.Regex.Matches(answer, @"'id':(\d+)").Select(m => m.Groups[1].Value))
                : answer
        );
    }

    [Theory] // an equality keeps the index; an order of texts does not, where the column has another
    [InlineData("owner eq @user", false)]
    [InlineData("owner in ('tom','ada')", false)]
    [InlineData("owner ge 'b'", true)]
    [InlineData("kind ge 'b'", false)] // no index
    public async Task What_costs_an_index_is_warned_of(string rows, bool warns)
    {
        await using var workspace = await LoadAsync(Declared(rows));
        Assert.Equal(warns, workspace.Diagnostics.Items.Any(d => d.Code == "rule-index" && d.Message.Contains("'owner'")));
    }
}
