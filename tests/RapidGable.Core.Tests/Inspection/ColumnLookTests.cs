using RapidGable.Inspection;
using RapidGable.Model;

namespace RapidGable.Core.Tests;

/// <summary>Types that the values of a column fit, by reading all of them.</summary>
public class ColumnLookTests
{
    private static async Task<ColumnFindings> LookAsync(string type, string values, string? rules = null)
    {
        var service = rules is null ? "  - t\n" : $"  - from: t\n    columns: {{ v: {rules} }}\n";
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase($"CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v {type}); INSERT INTO t (v) VALUES {values}")
            .WithService(service);
        await using var workspace = await folder.LoadAsync();
        Assert.Empty(workspace.Diagnostics.Items);
        var item = workspace.Catalogs["main"].Find("t")!;
        return await ColumnLook.RunAsync(
            workspace.Sources["main"],
            new TableSource("main", null, "t"),
            item.Column("v")!,
            workspace.Services[0].Model.Sets[0].Type.FindProperty("v"),
            _ => { },
            CancellationToken.None
        );
    }

    private static string Offers(ColumnFindings found) =>
        string.Join(
            "; ",
            found.Offers.Select(o => string.Join(" ", o.Words.Select(w => w.Value)) + (o.Misfits > 0 ? $" -{o.Misfits}" : ""))
        );

    [Theory]
    [InlineData("TEXT", "('31.12.2023'), ('01.01.2024'), (NULL)", "date dd.MM.yyyy")]
    [InlineData("TEXT", "('Y'), ('N'), ('Y')", "boolean Y N")]
    [InlineData("TEXT", "('12'), ('-3')", "int16")]
    [InlineData("TEXT", "('12'), ('70000')", "int32")]
    [InlineData("TEXT", "('1.5'), ('2')", "decimal")]
    [InlineData("TEXT", "('007'), ('012')", "")] // codes would lose their zeros
    [InlineData("TEXT", "('21ec2020-3aea-1069-a2dd-08002b30309d')", "guid")]
    [InlineData("TEXT", "('2024-05-01 12:00:00'), ('2024-05-02 12:00:00')", "datetimeoffset yyyy-MM-dd HH:mm:ss")]
    [InlineData("TEXT", "('07:30'), ('23:59')", "timeofday HH:mm")]
    [InlineData("TEXT", "('a'), ('b')", "")]
    [InlineData("INTEGER", "(1), (0), (1)", "boolean; int16")]
    [InlineData("INTEGER", "(1714564800), (1714564860)", "datetimeoffset seconds; int32")]
    [InlineData("INTEGER", "(1714564800000)", "datetimeoffset milliseconds")]
    [InlineData("INTEGER", "(20240501), (20241231)", "date yyyyMMdd; int32")]
    [InlineData("INTEGER", "(300), (40)", "int16")]
    [InlineData("DOUBLE", "(1.0), (2.0)", "int16")]
    [InlineData("BLOB", "(x'00')", "")]
    public async Task A_type_is_offered_that_the_values_fit(string type, string values, string offers) =>
        Assert.Equal(offers, Offers(await LookAsync(type, values)));

    [Fact]
    public async Task A_few_that_do_not_fit_are_counted_with_one_of_them()
    {
        var values = string.Join(", ", Enumerable.Range(1, 97).Select(i => $"('{i % 28 + 1:00}.05.2024')")) + ", ('soon'), ('never')";
        var offer = Assert.Single((await LookAsync("TEXT", values)).Offers);
        Assert.Equal((2L, "soon"), (offer.Misfits, offer.Example));
    }

    [Fact]
    public async Task What_most_do_not_fit_is_not_offered() =>
        Assert.Empty((await LookAsync("TEXT", "('01.05.2024'), ('soon'), ('later')")).Offers);

    [Fact]
    public async Task Values_are_counted_the_most_frequent_first()
    {
        var found = await LookAsync("TEXT", "('b'), ('a'), ('b'), (NULL)");
        Assert.Equal((4L, 1L), (found.Rows, found.Nulls));
        Assert.Equal([new ValueCount("b", 2), new ValueCount("a", 1)], found.Values.ToArray());
    }

    [Fact]
    public async Task Too_many_values_are_no_list()
    {
        string Rows(int count) => string.Join(", ", Enumerable.Range(1, count).Select(i => $"('v{i}')"));
        Assert.Equal(ColumnLook.MostValues, (await LookAsync("TEXT", Rows(ColumnLook.MostValues))).Values.Length);
        Assert.Empty((await LookAsync("TEXT", Rows(ColumnLook.MostValues + 1))).Values);
    }

    [Fact]
    public async Task Rows_that_break_the_rules_are_counted()
    {
        var found = await LookAsync("INTEGER", "(1), (5), (9), (9), (NULL)", "{ minimum: 2, maximum: 8 }");
        Assert.Equal(3, found.Breaks);
        Assert.Equal(["'1' is less than 2", "'9' is more than 8"], found.BreakExamples.ToArray());
    }

    [Fact]
    public async Task Nothing_is_offered_for_no_values() => Assert.Empty((await LookAsync("TEXT", "(NULL)")).Offers);
}
