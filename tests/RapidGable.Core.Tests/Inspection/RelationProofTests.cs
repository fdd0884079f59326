using RapidGable.Drafting;
using RapidGable.Inspection;
using RapidGable.Sources;

namespace RapidGable.Core.Tests;

/// <summary>Rows that refer to nothing, rows that share a key, and questions about raw rows, on each engine.</summary>
public abstract class RelationProofTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : EngineTests(engine, postgres, mariaDb)
{
    protected override string Tables =>
        """
            CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(20));
            CREATE TABLE gauge (id INTEGER NOT NULL PRIMARY KEY, river_id INTEGER, label VARCHAR(40));
            CREATE VIEW latest AS SELECT id, name FROM river;
            INSERT INTO river VALUES (1, 'Alder'), (2, 'Birch'), (3, 'Birch'), (4, NULL);
            INSERT INTO gauge VALUES (1, 1, '50% full'), (2, 1, 'half'), (3, 9, 'Half_way'), (4, NULL, NULL), (5, 9, 'x');
            """;

    protected override string Declaration =>
        """
            title: S
            source: main
            rules: { read: anyone }
            sets:
              - { from: river, relations: { gauges: { to: gauge, on: { id: river_id } } } }
              - { from: gauge, relations: { river: { to: river, on: river_id } } }

            """;

    private SourceObject Item(string name) => Catalog.Find(name)!;

    private SourceCatalog Catalog => field ??= Database.ReadCatalogAsync(CancellationToken.None).GetAwaiter().GetResult();

    [Theory]
    [InlineData("gauge", "river")]
    [InlineData("river", "gauges")]
    public async Task Orphans_are_counted_from_either_end(string from, string relation)
    {
        var set = Service.Model.FindSet(from)!;
        var navigation = set.Type.Navigations.Single(n => n.Name == relation);
        var found = await OrphanCount.RunAsync(
            set,
            navigation,
            Service.Model.Target(navigation),
            new Dictionary<string, ISource> { ["main"] = Database },
            CancellationToken.None
        );
        Assert.Equal(("gauge", 4L, 2L), (found.Holder, found.Referring, found.Orphans));
        Assert.Equal("9", Assert.Single(found.Examples));
    }

    [Fact]
    public async Task Keys_that_stand_in_several_rows_are_shown()
    {
        var item = Item("river");
        var doubled = await DoubledKeys.FindAsync(Database, item, [item.Column("name")!], CancellationToken.None);
        Assert.Equal((1L, 1L), (doubled.Groups, doubled.Nulls));
        Assert.Equal(("Birch", 2L), (Assert.Single(doubled.Examples).Values[0], doubled.Examples[0].Rows));
        var sound = await DoubledKeys.FindAsync(Database, item, [item.Column("id")!, item.Column("name")!], CancellationToken.None);
        Assert.Equal((0L, 1L), (sound.Groups, sound.Nulls));
    }

    [Theory]
    [InlineData(null, false, null, "", 0, "1 2 3 4 5")]
    [InlineData("id", true, null, "", 0, "5 4 3 2 1")]
    [InlineData("id", false, null, "", 3, "4 5")]
    [InlineData("id", false, "label", "HALF", 0, "2 3")]
    [InlineData("id", false, "label", "%", 0, "1")] // no sign of a pattern
    [InlineData("id", false, "label", "_", 0, "3")]
    [InlineData("id", false, "river_id", "9", 0, "3 5")]
    [InlineData("id", false, "label", "' OR 1=1 --", 0, "")]
    public async Task Raw_rows_are_sorted_filtered_and_from_a_position(
        string? sort,
        bool isDescending,
        string? within,
        string sought,
        int skip,
        string ids
    )
    {
        var question = new SampleQuestion(10, skip, sort, isDescending, within, sought);
        var rows = await ObjectSample.ReadAsync(Database, Item("gauge"), question, CancellationToken.None);
        Assert.Equal(ids, string.Join(' ', rows.Select(r => r[0])));
    }

    [Fact]
    public async Task A_column_that_is_not_there_is_refused() =>
        await Assert.ThrowsAsync<ArgumentException>(() =>
            ObjectSample.ReadAsync(Database, Item("gauge"), new SampleQuestion(1, Sort: "id; DROP TABLE gauge"), CancellationToken.None)
        );

    [Fact]
    public async Task The_size_and_the_definition_are_told()
    {
        var table = await ObjectSample.MeasureAsync(Database, Item("gauge"), CancellationToken.None);
        Assert.Equal((5L, null), (table.Rows, table.Definition));
        Assert.Equal(Engine != Engine.Sqlite, table.Bytes > 0);
        var view = await ObjectSample.MeasureAsync(Database, Item("latest"), CancellationToken.None);
        Assert.Contains("river", view.Definition);
    }

    [Fact]
    public async Task Statements_are_recorded_on_their_way()
    {
        await using var recorded = new RecordedSource(Database, 1);
        await ObjectSample.ReadAsync(
            recorded,
            Item("gauge"),
            new SampleQuestion(1, Within: "label", Sought: "half"),
            CancellationToken.None
        );
        await ObjectSample.ReadAsync(recorded, Item("gauge"), 1, CancellationToken.None);
        var statement = Assert.Single(recorded.Statements);
        Assert.Equal((2, "main", "'%half%'"), (recorded.Count, statement.Source, Assert.Single(statement.Parameters)));
        Assert.Contains("LIKE", statement.Sql);
    }
}

/// <inheritdoc/>
public sealed class SqliteRelationProofTests() : RelationProofTests(Engine.Sqlite);

/// <inheritdoc/>
public sealed class PostgresRelationProofTests(PostgresServer server)
    : RelationProofTests(Engine.PostgreSql, postgres: server),
        IClassFixture<PostgresServer>;

/// <inheritdoc/>
public sealed class MariaDbRelationProofTests(MariaDbServer server)
    : RelationProofTests(Engine.MariaDb, mariaDb: server),
        IClassFixture<MariaDbServer>;

/// <summary>Members of an enumeration that is made of values.</summary>
public class EnumerationDraftTests
{
    [Theory]
    [InlineData("level,flow", "level=level,flow=flow")]
    [InlineData("in work,in-work", "in_work=in work,in_work_2=in-work")]
    [InlineData("1,2", "_1=1,_2=2")]
    [InlineData(",a", "a=a")]
    public void Values_become_members_with_valid_names(string values, string members) =>
        Assert.Equal(members, string.Join(',', EnumerationDraft.Members(values.Split(',')).Select(m => $"{m.Key}={m.Value}")));
}
