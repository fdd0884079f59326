using RapidGable.Queries;

namespace RapidGable.Core.Tests;

public class SqlTests(NetworkFixture network) : IClassFixture<NetworkFixture>
{
    private CompiledQuery Compile(string url)
    {
        var prepared = network.Prepare(url);
        Assert.True(prepared.Fault is null, prepared.Fault?.Message);
        return prepared.Value!.Query!;
    }

    private string Where(string filter)
    {
        var text = Compile($"Stations?$select=id&$filter={filter}").Main.Text.ReplaceLineEndings(" ");
        return text[(text.IndexOf("WHERE ", StringComparison.Ordinal) + 6)..text.IndexOf(" ORDER BY", StringComparison.Ordinal)];
    }

    [Theory] // true and false where SQL would say unknown
    [InlineData("name eq 'x'", "(t0.\"name\" = ?1)")]
    [InlineData("closed_on eq 2024-01-01", "(t0.\"closed_on\" = ?1)")]
    [InlineData("not (closed_on eq 2024-01-01)", "(NOT (t0.\"closed_on\" IS ?1))")]
    [InlineData("closed_on ne 2024-01-01", "(NOT (t0.\"closed_on\" IS ?1))")]
    [InlineData("closed_on eq null", "(t0.\"closed_on\" IS NULL)")]
    [InlineData("null ne closed_on", "(t0.\"closed_on\" IS NOT NULL)")]
    [InlineData("closed_on gt null", "0")]
    [InlineData("closed_on gt 2024-01-01", "(t0.\"closed_on\" > ?1)")]
    [InlineData("not (closed_on gt 2024-01-01)", "(NOT COALESCE(t0.\"closed_on\" > ?1, 0))")]
    [InlineData("id gt 5 and telemetered", "((t0.\"id\" > ?1) AND t0.\"telemetered\")")]
    [InlineData("id in (1,2)", "(t0.\"id\" IN (?1, ?2))")]
    [InlineData("id in ()", "0")]
    [InlineData("access_notes in ('a',null)", "((t0.\"access_notes\" IN (?1) OR t0.\"access_notes\" IS NULL))")]
    [InlineData("contains(name,'50%_')", "(instr(t0.\"name\", ?1) > 0)")]
    [InlineData("id div 2 eq 1", "((t0.\"id\" / gable_divisor(?1)) = ?2)")]
    [Proves("Q-26 to Q-30, Q-36, X-01 to X-03")]
    public void A_condition_becomes_sql(string filter, string expected) => Assert.Equal(expected, Where(filter.Replace("%", "%25")));

    [Fact] // the key ends every order, and one row more is fetched
    [Proves("X-04, X-08")]
    public void A_page_is_ordered_to_the_last_tie() =>
        Assert.Equal(
            """
            SELECT t0."name", t0."id", t0."closed_on"
            FROM "station" AS t0
            ORDER BY t0."closed_on" DESC, t0."id"
            LIMIT ?1
            """,
            Compile("Stations?$select=name&$orderby=closed_on desc").Main.Text
        );

    [Fact]
    public void A_path_is_joined_backwards_and_a_missing_parent_is_told_apart()
    {
        var query = Compile("Catchments(3)/Stations(7)/Sensors/$count");
        Assert.Equal(
            """
            SELECT COUNT(*)
            FROM "sensor" AS t0
            JOIN "station" AS t1 ON t1."id" = t0."station_id"
            JOIN "catchment" AS t2 ON t2."id" = t1."catchment_id"
            WHERE t1."id" = ?1
              AND t2."id" = ?2
            """,
            query.Main.Text
        );
        Assert.Equal(
            "SELECT COUNT(*)\nFROM \"station\" AS t0\nJOIN \"catchment\" AS t1 ON t1.\"id\" = t0.\"catchment_id\"\nWHERE "
                + "t0.\"id\" = ?1\n  AND t1.\"id\" = ?2",
            query.Probe!.Text
        );
    }

    [Fact]
    public void A_path_in_an_expression_is_joined_once() =>
        Assert.Equal(
            """
            SELECT t0."id"
            FROM "station" AS t0
            LEFT JOIN "catchment" AS t1 ON t1."id" = t0."catchment_id"
            LEFT JOIN "catchment" AS t2 ON t2."id" = t1."parent_id"
            WHERE ((t1."area_km2" > ?1) AND (t2."name" = ?2))
            ORDER BY t0."id"
            LIMIT ?3
            """,
            Compile("Stations?$select=id&$filter=catchment/area_km2 gt 500 and catchment/parent/name eq 'x'").Main.Text
        );

    [Fact] // one statement for each expanded collection, whatever the number of rows
    [Proves("X-24")]
    public void An_expanded_collection_is_one_statement()
    {
        var query = Compile("Stations?$expand=Sensors,catchment&$select=id");
        Assert.Contains("LEFT JOIN \"catchment\"", query.Main.Text);
        Assert.Equal(
            """
            WITH p1 AS (SELECT ROW_NUMBER() OVER (ORDER BY o0) AS n, k0 FROM (
            SELECT t0."id" AS k0, t0."id" AS o0
            FROM "station" AS t0
            LEFT JOIN "catchment" AS t1 ON t1."id" = t0."catchment_id"
            ORDER BY t0."id"
            LIMIT ?1
            ) AS q)
            SELECT p.n, c."station_id", c."sensor_no", c."kind", c."unit", c."installed_at", c."firmware", c."settings"
            FROM p1 AS p
            JOIN "sensor" AS c ON c.rowid IN (SELECT x.rowid FROM "sensor" AS x WHERE x."station_id" = p.k0 ORDER BY x."station_id", x."sensor_no" LIMIT ?2)
            ORDER BY p.n, c."station_id", c."sensor_no"
            """,
            Assert.Single(query.Children).Text
        );
    }

    [Theory] // the position in each order, with nulls
    [InlineData("", "5", "t0.\"id\" > ?1")]
    [InlineData("$orderby=code", "'a',5", "(t0.\"code\", t0.\"id\") > (?1, ?2)")]
    [InlineData("$orderby=code desc,id desc", "'a',5", "(t0.\"code\", t0.\"id\") < (?1, ?2)")]
    [InlineData("$orderby=code desc", "'a',5", "t0.\"code\" <= ?1 AND ((t0.\"code\" < ?1) OR (t0.\"code\" = ?1 AND t0.\"id\" > ?2))")]
    [InlineData("$orderby=closed_on", "null,5", "((t0.\"closed_on\" IS NOT NULL) OR (t0.\"closed_on\" IS NULL AND t0.\"id\" > ?1))")]
    [InlineData(
        "$orderby=closed_on desc",
        "'a',5",
        "(((t0.\"closed_on\" < ?1 OR t0.\"closed_on\" IS NULL)) OR (t0.\"closed_on\" = ?1 AND t0.\"id\" > ?2))"
    )]
    [InlineData("$orderby=closed_on desc", "null,5", "((t0.\"closed_on\" IS NULL AND t0.\"id\" > ?1))")]
    [Proves("X-05, X-06")]
    public void A_position_becomes_a_condition(string order, string values, string expected)
    {
        var stored = values
            .Split(',')
            .Select(v =>
                v == "null" ? Model.StoredValue.Null
                : v[0] == '\'' ? Model.StoredValue.From(v.Trim('\''))
                : Model.StoredValue.From(long.Parse(v))
            );
        var token = new Requests.PagePosition("x", [.. stored]).Write();
        var text = Compile($"Stations?{order}&$skiptoken={token}").Main.Text.ReplaceLineEndings(" ").Replace("   AND", " AND");
        Assert.Equal(
            expected,
            text[(text.IndexOf("WHERE ", StringComparison.Ordinal) + 6)..text.IndexOf(" ORDER BY", StringComparison.Ordinal)]
        );
    }

    [Theory] // nothing that a caller writes becomes text of a statement
    [InlineData("Stations?$filter=name eq '''; DROP TABLE station; --'")]
    [InlineData("Stations?$filter=contains(name,'\" OR 1=1 --')")]
    [InlineData("Certificates('x'' OR ''1''=''1')")]
    [InlineData("Stations?$filter=id eq 7654321 and latitude gt 7654321.5 and opened_on gt 1776-05-04")]
    [InlineData("Stations?$top=7654321&$skip=7654321")]
    [Proves("X-23")]
    public void Values_are_parameters(string url)
    {
        var text = Compile(url).Main.Text;
        Assert.DoesNotContain("DROP", text);
        Assert.DoesNotContain("1=1", text);
        Assert.DoesNotContain("OR", text.Replace("ORDER", ""));
        Assert.DoesNotContain("7654321", text);
        Assert.DoesNotContain("1776", text);
    }

    [Fact]
    public void Plans_are_kept_by_shape_and_their_number_is_bounded()
    {
        var first = network.Prepare("Stations?$filter=id eq 1&$top=3").Value;
        Assert.Same(first, network.Prepare("Stations?$filter=id eq 2&$top=9").Value);
        Assert.NotSame(first, network.Prepare("Stations?$filter=id ne 2&$top=9").Value);
        var cache = new PlanCache<string>(3);
        foreach (var i in Enumerable.Range(0, 10))
            cache.Add("s" + i, "p" + i, 0);
        Assert.Equal((3, null, "p9"), (cache.Count, cache.Find("s0"), cache.Find("s9")));
    }
}
