using RapidGable.Model;
using RapidGable.Requests.Statements;

namespace RapidGable.Core.Tests;

/// <summary>What a statement over sets cannot say is refused, with the place of the fault.</summary>
public sealed class StatementFaultTests
{
    private static readonly EntityModel Model = new(
        "s",
        "S",
        "N",
        [
            Set(
                "Visits",
                "main",
                new Property("id", EdmType.Int32, false, "id"),
                new Property("station", EdmType.Int64, true, "station"),
                new Property("day", EdmType.Date, true, "day"),
                new Property("done_at", EdmType.DateTimeOffset, true, "done_at"),
                new Property("report", EdmType.String, true, "report") { IsFilterable = false, IsSortable = false },
                new Property("tags", EdmType.String with { IsCollection = true }, true, "tags"),
                new Property("kind", EdmType.String, true, "kind") { Conversion = new TestedConversion() }
            ),
            Set("Stations", "main", new Property("id", EdmType.Int64, false, "id"), new Property("name", EdmType.String, false, "name")),
            Set("group", "main", new Property("id", EdmType.Int64, false, "id")),
            Set("Samples", "lab", new Property("id", EdmType.Int64, false, "id")),
            Set("Large", "main", new Property("id", EdmType.Int64, false, "id")) with
            {
                RequiresFilter = true,
            },
            Set("Asked", "main", new Property("id", EdmType.Int64, false, "id")) with
            {
                IsQuery = true,
            },
        ]
    );

    /// <summary>Stored values of which two may mean the same.</summary>
    private sealed record TestedConversion() : ValueConversion(EdmType.String)
    {
        public override ConvertedUse Use => ConvertedUse.Read;

        public override string Description => "tested";

        public override object? Decode(object stored) => stored;

        public override object? Encode(object published) => published;
    }

    private static EntitySet Set(string name, string source, params Property[] properties) =>
        new(name, new EntityType(name + "Row", [.. properties], [], [properties[0]], []), new TableSource(source, null, name));

    private static readonly Dictionary<string, object?> None = [];

    [Theory]
    // The place of the fault has a § before it.
    [InlineData("", "syntax", "Expected a SELECT")]
    [InlineData("§DELETE FROM Visits", "syntax", "Expected a SELECT")]
    [InlineData("§(SELECT id FROM Visits)", "syntax", "Expected a SELECT")]
    [InlineData("§WITH RECURSIVE x AS (SELECT 1) SELECT * FROM x", "not-implemented", "WITH cannot be used")]
    [InlineData("SELECT id FROM Visits; §SELECT id FROM Visits", "syntax", "one statement")]
    [InlineData("SELECT id FROM Visits §UNION SELECT id FROM Stations", "not-implemented", "UNION cannot be used")]
    [InlineData("SELECT id §INTO x FROM Visits", "not-implemented", "INTO")]
    [InlineData("SELECT id FROM Visits §FOR UPDATE", "not-implemented", "FOR")]
    [InlineData("SELECT id FROM Visits§, Stations", "not-implemented", "without a JOIN")]
    [InlineData("SELECT v.id FROM Visits v §CROSS JOIN Stations", "not-implemented", "CROSS")]
    [InlineData("SELECT v.id FROM Visits v §NATURAL JOIN Stations", "not-implemented", "NATURAL")]
    [InlineData("SELECT v.id FROM Visits v §RIGHT JOIN Stations s ON s.id = v.station", "not-implemented", "RIGHT")]
    [InlineData("SELECT v.id FROM Visits v JOIN Stations s §USING (id)", "not-implemented", "USING")]
    [InlineData("SELECT v.id FROM Visits v JOIN Stations s ON s.id §> v.station", "not-implemented", "equalities")]
    [InlineData("SELECT v.id FROM Visits v JOIN Stations s ON s.id §= 1", "not-implemented", "equalities")]
    [InlineData("SELECT v.id FROM Visits v JOIN Stations s ON s.id = v.station §OR s.id = 1", "not-implemented", "equalities")]
    [InlineData("SELECT v.id FROM Visits v JOIN Stations s ON §TRUE", "not-implemented", "equalities")]
    [InlineData("SELECT id FROM §(SELECT id FROM Visits) q", "not-implemented", "after FROM")]
    [InlineData("SELECT (§SELECT 1 FROM Visits) AS x FROM Visits", "not-implemented", "after EXISTS or IN")]
    [InlineData("SELECT COUNT(*) §OVER () FROM Visits", "not-implemented", "OVER")]
    [InlineData("SELECT id FROM Visits WHERE id IN (SELECT id FROM Stations §LIMIT 1)", "not-implemented", "LIMIT within another")]
    [InlineData("SELECT id FROM Visits WHERE id IN (§SELECT id, name FROM Stations)", "syntax", "one column")]
    [InlineData("SELECT id FROM Visits WHERE report §LIKE 'a%'", "not-implemented", "contains")]
    [InlineData("SELECT id FROM public§.Visits", "syntax", "without a schema")]
    [InlineData("SELECT id FROM §visit", "unknown-set", "Did you mean 'Visits'?")]
    [InlineData("SELECT id FROM §group", "syntax", "stands in double quotes")]
    [InlineData("SELECT id FROM §\"visits\"", "unknown-set", "Did you mean 'Visits'?")]
    [InlineData("SELECT id FROM §Samples JOIN Visits v ON v.id = Samples.id", "not-implemented", "in another database", "Visits")]
    [InlineData("SELECT id FROM §Large", "not-implemented", "with a filter only")]
    [InlineData("SELECT id FROM §Asked", "not-implemented", "called with values")]
    [InlineData("SELECT §secret FROM Visits", "unknown-property", "There is no column 'secret'")]
    [InlineData("SELECT §repot FROM Visits", "unknown-property", "Did you mean 'report'?")]
    [InlineData("SELECT §x.id FROM Visits v", "unknown-set", "No set is called 'x'")]
    [InlineData("SELECT §Visits.id FROM Visits v", "unknown-set", "No set is called 'Visits'")]
    [InlineData("SELECT §id FROM Visits v JOIN Stations s ON s.id = v.station", "ambiguous", "of Visits and of Stations")]
    [InlineData("SELECT 1 AS x FROM Visits v JOIN Stations §v ON v.id = v.station", "syntax", "Two sets are called 'v'")]
    [InlineData("SELECT §tags FROM Visits", "not-implemented", "no plain values")]
    [InlineData("SELECT id, §id FROM Visits", "alias", "Two columns are called 'id'")]
    [InlineData("SELECT id AS §\"a b\" FROM Visits", "alias", "cannot be the name")]
    [InlineData("SELECT §NULL AS x FROM Visits", "type", "CAST(NULL AS")]
    [InlineData("SELECT id FROM Visits WHERE §id", "type", "A condition is needed")]
    [InlineData("SELECT id FROM Visits WHERE id = §'x'", "type", "'x' is not a value of Edm.Int32")]
    [InlineData("SELECT id FROM Visits WHERE day §> 5", "type", "'5' is not a value", "5")]
    [InlineData("SELECT id FROM Visits WHERE day §= done_at", "type", "The function date")]
    [InlineData("SELECT id FROM Visits WHERE day = DATE §'2024-13-01'", "literal", "is not a value of Edm.Date", "DATE")]
    [InlineData("SELECT id FROM Visits WHERE §report = 'a'", "not-filterable", "may not be filtered by", "=")]
    [InlineData("SELECT id, report FROM Visits ORDER BY §report", "not-sortable", "may not be sorted by")]
    [InlineData("SELECT id FROM Visits WHERE kind §= 'a'", "not-implemented", "stored in another form")]
    [InlineData("SELECT §kind FROM Visits GROUP BY kind", "not-implemented", "cannot be grouped by", "kind")]
    [InlineData("SELECT upper(§kind) AS x FROM Visits", "not-implemented", "cannot be computed with")]
    [InlineData("SELECT §id, COUNT(*) AS n FROM Visits", "grouped", "'id' is another one")]
    [InlineData("SELECT COUNT(*) AS n FROM Visits ORDER BY §id", "grouped", "'id' is another one")]
    [InlineData("SELECT station FROM Visits GROUP BY station HAVING id §> 1", "grouped", "'id' is another one")]
    [InlineData("SELECT id FROM Visits GROUP BY §1", "syntax", "not numbers of columns")]
    [InlineData("SELECT id FROM Visits WHERE §COUNT(*) > 1", "grouped", "in HAVING")]
    [InlineData("SELECT SUM(§COUNT(*)) AS x FROM Visits", "grouped", "not in another aggregate")]
    [InlineData("SELECT SUM(§day) AS x FROM Visits", "type", "SUM does not take Edm.Date")]
    [InlineData("SELECT id FROM Stations s WHERE EXISTS (SELECT §MAX(s.id) AS x FROM Visits)", "not-implemented", "SELECT around")]
    [InlineData("SELECT DISTINCT id FROM Visits ORDER BY §station", "grouped", "With DISTINCT")]
    [InlineData("SELECT id FROM Visits ORDER BY §3", "number", "no column 3")]
    [InlineData("SELECT id FROM Visits LIMIT §x", "syntax", "whole number or a parameter")]
    [InlineData("SELECT id FROM Visits LIMIT §:n", "argument", "'n' is missing")]
    [InlineData("SELECT id FROM Visits WHERE id = §:n", "argument", "'n' is missing")]
    [InlineData("SELECT §nothing(id) AS x FROM Visits", "unknown-function", "There is no function")]
    [InlineData("SELECT §length(id, id) AS x FROM Visits", "arguments", "takes 1 argument,")]
    [InlineData("SELECT length(§id) AS x FROM Visits", "type", "needs text")]
    [InlineData("SELECT id §+ name AS x FROM Stations", "type", "cannot be computed with each other")]
    [InlineData("SELECT CAST(id AS §blob) AS x FROM Visits", "syntax", "There is no type 'blob'")]
    [InlineData("SELECT id FROM Visits WHERE report = §'open", "syntax", "no ' at its end")]
    [InlineData("SELECT id §/* open FROM Visits", "syntax", "comment has no end")]
    [InlineData("SELECT id FROM Visits WHERE id = §?", "syntax", "':name'")]
    [InlineData("SELECT §`id` FROM Visits", "syntax", "double quotes")]
    [InlineData("SELECT 1§x AS y FROM Visits", "syntax", "A number ends")]
    public void What_is_wrong_is_told_with_its_place(string marked, string code, string part, string? place = null)
    {
        var text = marked.Replace("§", "");
        var fault = StatementBinder.Bind(text, Model, None).Fault;
        Assert.NotNull(fault);
        Assert.Contains(part, fault.Message);
        Assert.Equal(code, fault.Code);
        Assert.Equal(code == "not-implemented" ? 501 : 400, fault.Status);
        if (marked.Length > 0 && place is null)
            Assert.Equal(marked.IndexOf('§', StringComparison.Ordinal), fault.Position);
    }

    [Theory]
    [InlineData("SELECT id FROM \"group\"")]
    [InlineData("select ID from VISITS where DAY >= '2024-05-01' order by id desc limit 5 offset 2;")]
    [InlineData("SELECT v.day, s.* FROM Visits AS v LEFT OUTER JOIN Stations AS s ON s.id = v.station AND s.name = 'a'")]
    [InlineData("SELECT ':x -- no comment' AS a, /* :y */ id FROM Visits -- :z")]
    [InlineData("SELECT COALESCE(day, '2024-05-01') AS a, CASE id WHEN 1 THEN 'one' ELSE NULL END AS b FROM Visits")]
    [InlineData("SELECT station, COUNT(*), SUM(id + 1) AS s FROM Visits GROUP BY station HAVING COUNT(*) > 1 ORDER BY count DESC, 1")]
    [InlineData("SELECT year(day) * 12 + month(day) AS m, COUNT(DISTINCT id) AS n FROM Visits GROUP BY year(day) * 12 + month(day)")]
    [InlineData("SELECT done_at + INTERVAL 'PT1H' AS later, now() AS n FROM Visits WHERE done_at < TIMESTAMP '2024-05-01T00:00:00Z'")]
    [InlineData("SELECT id FROM Visits v WHERE NOT EXISTS (SELECT 1 AS x FROM Stations s WHERE s.id = v.station AND v.id NOT IN (1, 2))")]
    public void What_is_right_is_taken(string text)
    {
        var fault = StatementBinder.Bind(text, Model, None).Fault;
        Assert.True(fault is null, $"{fault?.Message} {fault?.Pointer()}");
    }

    [Fact]
    public void Everything_has_a_limit()
    {
        string Code(string text) => StatementBinder.Bind(text, Model, None).Fault?.Code ?? "taken";
        string Many(string part, int times, string between) => string.Join(between, Enumerable.Repeat(part, times));
        Assert.Equal("taken", Code($"SELECT id FROM Visits WHERE {Many("id = 1", Limits.ExpressionNodes / 4 - 1, " OR ")}"));
        Assert.Equal("too-large", Code($"SELECT id FROM Visits WHERE {Many("id = 1", 1_000, " OR ")}"));
        Assert.Equal("taken", Code($"SELECT id FROM Visits WHERE id IN ({Many("1", 500, ",")})"));
        Assert.Equal("too-large", Code($"SELECT id FROM Visits WHERE id IN ({Many("1", 501, ",")})"));
        Assert.Equal("taken", Code($"SELECT {Many("(", 80, "")}id{Many(")", 80, "")} AS x FROM Visits"));
        Assert.Equal("too-deep", Code($"SELECT {Many("(", 5_000, "")}id{Many(")", 5_000, "")} AS x FROM Visits"));
        Assert.Equal("too-deep", Code($"SELECT {Many("- ", 5_000, "")}id AS x FROM Visits"));
        Assert.Equal("too-deep", Code($"SELECT id FROM Visits WHERE {Many("NOT ", 5_000, "")}id = 1"));
        Assert.Equal("too-large", Code($"SELECT id FROM Visits -- {new string('x', Limits.StatementCharacters)}"));
        Assert.Equal("too-large", Code($"SELECT {Many("id", Limits.StatementColumns + 1, ", ")} FROM Visits"));
        var joins = string.Concat(Enumerable.Range(1, Limits.StatementTables).Select(i => $" JOIN Stations s{i} ON s{i}.id = v.station"));
        Assert.Equal("too-large", Code($"SELECT v.id FROM Visits v{joins}"));
        // One subject stands for as many terms as the CASE has branches.
        var branches = Many("WHEN 1 THEN 2", 60, " ");
        Assert.Equal("too-large", Code($"SELECT CASE {Many("id", 100, " + ")} {branches} END AS x FROM Visits"));
    }

    [Fact]
    public void Parameters_that_the_statement_does_not_have_are_told()
    {
        var fault = StatementBinder.Bind(
            "SELECT id FROM Visits WHERE id = :nr",
            Model,
            new Dictionary<string, object?> { ["nr"] = 1L, ["no"] = 2L }
        );
        Assert.Contains("no parameter 'no'", fault.Fault?.Message);
    }
}
