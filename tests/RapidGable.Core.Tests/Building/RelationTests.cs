using RapidGable.Declarations;
using RapidGable.Inspection;

namespace RapidGable.Core.Tests;

/// <summary>Relations that a declaration gives, names or refuses; indexes that they need; what a source offers.</summary>
public class RelationTests
{
    private const string Sql = """
        CREATE TABLE river (id INTEGER PRIMARY KEY, name TEXT);
        CREATE TABLE gauge (id INTEGER PRIMARY KEY, river_id INTEGER NOT NULL REFERENCES river, source_id INTEGER REFERENCES river, code TEXT UNIQUE NOT NULL);
        CREATE TABLE detail (gauge_id INTEGER PRIMARY KEY NOT NULL REFERENCES gauge, note TEXT);
        CREATE TABLE person (id INTEGER PRIMARY KEY);
        CREATE TABLE visit (id INTEGER PRIMARY KEY, gauge_id INTEGER REFERENCES gauge, person_id INTEGER REFERENCES person);
        CREATE TABLE knows (person_id INTEGER NOT NULL REFERENCES person, gauge_id INTEGER NOT NULL REFERENCES gauge, PRIMARY KEY (person_id, gauge_id));
        CREATE TABLE loose (person_id INTEGER REFERENCES person, gauge_id INTEGER REFERENCES gauge);
        CREATE VIEW latest AS SELECT id AS gauge_id, code FROM gauge;
        """;

    private static async Task<(string Navigations, List<string> Faults)> BuildAsync(string set, string sets)
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(Sql).WithService(sets);
        await using var workspace = await folder.LoadAsync();
        var found = workspace.Services.FirstOrDefault()?.Model.FindSet(set);
        var text = found is null
            ? ""
            : string.Join(
                "; ",
                found.Type.Navigations.Select(n =>
                    $"{n.Name}{(n.IsCollection ? "*" : n.Nullable ? "?" : "")}{(n.IsContained ? "!" : "")} -> "
                    + $"{n.TargetSet}{(n.Link is null ? "" : " by " + n.Link.Source.Name)} {n.Partner}"
                )
            );
        return (text, [.. workspace.Diagnostics.Items.Select(d => $"{d.Code}: {d.Message}")]);
    }

    [Theory]
    // the name of a foreign key's relation, and of its way back
    [InlineData(
        "gauge",
        "  - { from: gauge, relations: { stream: { to: river, on: river_id, back: gauges } } }\n  - river\n",
        "stream -> river gauges; source? -> river gauge_by_source"
    )]
    [InlineData(
        "river",
        "  - { from: gauge, relations: { stream: { to: river, on: river_id, back: gauges } } }\n  - river\n",
        "gauges* -> gauge stream; gauge_by_source* -> gauge source"
    )]
    [InlineData(
        "river",
        "  - gauge\n  - { from: river, relations: { sites: { to: gauge, on: { id: river_id } } } }\n",
        "sites* -> gauge river; gauge_by_source* -> gauge source"
    )]
    [InlineData(
        "gauge",
        "  - { from: gauge, relations: { stream: { to: river, on: river_id, back: no } } }\n  - river\n",
        "stream -> river ; source? -> river gauge_by_source"
    )]
    // over a view, to one and back to one
    [InlineData(
        "gauge",
        "  - gauge\n  - { from: latest, key: gauge_id, relations: { gauge: { to: gauge, on: gauge_id, back: latest } } }\n",
        "latest? -> latest gauge"
    )]
    [InlineData(
        "latest",
        "  - gauge\n  - { from: latest, key: gauge_id, relations: { gauge: { to: gauge, on: { code: code } } } }\n",
        "gauge? -> gauge latest"
    )]
    // a foreign key over a whole key leads back to one
    [InlineData("gauge", "  - gauge\n  - detail\n", "detail? -> detail gauge")]
    // through a table
    [InlineData(
        "person",
        "  - { from: person, relations: { gauges: { to: gauge, through: knows } } }\n  - gauge\n",
        "gauges* -> gauge by knows person"
    )]
    [InlineData(
        "gauge",
        "  - { from: person, relations: { gauges: { to: gauge, through: knows, back: friends } } }\n  - gauge\n",
        "friends* -> person by knows gauges"
    )]
    // by the only foreign key between the two, and contained
    [InlineData("gauge", "  - { from: gauge, relations: { visits: visit } }\n  - visit\n", "visits* -> visit gauge")]
    [InlineData(
        "gauge",
        "  - { from: gauge, relations: { visits: { to: visit, contained: true } } }\n  - visit\n",
        "visits*! -> visit gauge"
    )]
    public async Task A_declared_relation_is_built(string set, string sets, string expected)
    {
        var (navigations, faults) = await BuildAsync(set, sets);
        Assert.Empty(faults);
        Assert.Equal(expected, navigations);
    }

    [Theory]
    [InlineData("{ to: gauges }", "no-set: There is no set 'gauges' to relate to. Did you mean 'gauge'?")]
    [InlineData("{ to: river }", "relation: No foreign key links 'person' and 'river'")]
    [InlineData("{ to: gauge, on: [id, id] }", "relation: 'on' names 2 of the 1 columns")]
    [InlineData("{ to: gauge, on: { idd: id } }", "no-column: 'person' has no column 'idd'. Did you mean 'id'?")]
    [InlineData("{ to: gauge, on: { id: code } }", "relation-types: 'person' and 'gauge' cannot be related")]
    [InlineData("{ to: gauge, through: loose }", "relation: The table 'loose' may hold a pair twice")]
    [InlineData("{ to: gauge, through: kows }", "relation: The source 'main' has no table 'kows'")]
    [InlineData("{ to: river, through: visit }", "relation: The table 'visit' needs one foreign key")]
    [InlineData("{ to: gauge, on: id, through: knows }", "relation: 'on' and 'through' exclude each other")]
    [InlineData("{ to: gauge, on: { id: id }, contained: true, back: id }", "name-collision: 'gauge' has another property called 'id'.")]
    [InlineData("{ too: gauge }", "missing: 'to' is missing")]
    [InlineData("[gauge]", "shape: 'r' under 'relations'")]
    public async Task A_relation_that_cannot_be_is_refused(string relation, string start)
    {
        var (_, faults) = await BuildAsync("person", $"  - {{ from: person, relations: {{ r: {relation} }} }}\n  - gauge\n  - river\n");
        Assert.Contains(faults, f => f.StartsWith(start, StringComparison.Ordinal));
    }

    [Theory]
    [InlineData(
        "  - { from: gauge, relations: { a: { to: visit, contained: true } } }\n  - { from: person, relations: { b: { to: "
            + "visit, contained: true } } }\n  - visit\n",
        "part of 'gauge' already"
    )]
    [InlineData(
        "  - { from: river, relations: { a: { to: gauge, on: { id: river_id }, contained: true } } }\n  - { from: gauge, "
            + "relations: { b: { to: visit, contained: true } } }\n  - visit\n",
        "one level"
    )]
    [InlineData(
        "  - { from: gauge, relations: { a: { to: visit, on: { river_id: person_id }, contained: true } } }\n  - visit\n",
        "does not run over the key"
    )]
    public async Task A_containment_that_cannot_be_is_refused(string sets, string part)
    {
        var (_, faults) = await BuildAsync("gauge", sets);
        Assert.Contains(faults, f => f.StartsWith("contained:", StringComparison.Ordinal) && f.Contains(part));
    }

    [Fact]
    public async Task A_missing_index_is_named_with_the_statement_that_makes_it()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(Sql)
            .WithService(
                "  - river\n  - gauge\n  - { from: visit, order: [person_id] }\n  - { from: person, relations: { gauges: { to: "
                    + "gauge, through: knows } } }\n"
            );
        await using var workspace = await folder.LoadAsync();
        var diagnostics = new Diagnostics();
        IndexAdvice.Add(workspace, diagnostics);
        Assert.Equal(
            [
                """CREATE INDEX "gauge_river_id" ON "gauge" ("river_id");""",
                """CREATE INDEX "gauge_source_id" ON "gauge" ("source_id");""",
                """CREATE INDEX "visit_gauge_id" ON "visit" ("gauge_id");""",
                """CREATE INDEX "visit_person_id" ON "visit" ("person_id");""",
                """CREATE INDEX "knows_gauge_id" ON "knows" ("gauge_id");""",
            ],
            diagnostics
                .Items.Select(d => d.Advice)
                .OrderBy(a =>
                    a!.Contains("knows") ? 2
                    : a.Contains("visit") ? 1
                    : 0
                )
                .ThenBy(a => a)
        );
        Assert.All(diagnostics.Items, d => Assert.Equal(("no-index", Severity.Warning), (d.Code, d.Severity)));
    }

    [Theory]
    [InlineData("kinds: [view]", "latest")]
    [InlineData("include: ['g*', visit]", "gauge visit")]
    [InlineData("exclude: ['*e*']", "knows visit")]
    [InlineData("kinds: [table], include: ['l*', 'v*'], exclude: [loose]", "visit")]
    public async Task A_source_offers_what_its_file_says(string offer, string expected)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(Sql)
            .Write("sources/main.yaml", $"engine: sqlite\nfile: data.db\noffer: {{ {offer} }}\n");
        await using var workspace = await folder.LoadAsync();
        Assert.Empty(workspace.Diagnostics.Items);
        Assert.Equal(expected, string.Join(' ', workspace.Catalogs["main"].Objects.Select(o => o.Name).Order()));
    }

    [Theory]
    [InlineData("kinds: [tables]", "offer-kind", "Did you mean 'table'?")]
    [InlineData("include: [nothing]", "offer-nothing", "'nothing'")]
    [InlineData("schemas: [public]", "offer-nothing", "'public'")]
    [InlineData("inclde: [a]", "unknown-name", "Did you mean 'include'?")]
    public async Task An_offer_that_means_nothing_is_reported(string offer, string code, string part)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(Sql)
            .Write("sources/main.yaml", $"engine: sqlite\nfile: data.db\noffer: {{ {offer} }}\n");
        await using var workspace = await folder.LoadAsync();
        Assert.Contains(workspace.Diagnostics.Items, d =>
            d.Code == code && d.Message.Contains(part) && d.Location.File == "sources/main.yaml"
        );
    }

    [Fact]
    public async Task A_set_allows_changes_only_where_its_source_does()
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(Sql).WithService("  - { from: river, allow: [read, update] }\n");
        await using (var workspace = await folder.LoadAsync())
            Assert.Contains(workspace.Diagnostics.Items, d => d is { Code: "read-only", Severity: Severity.Error });
        folder.Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n");
        await using (var workspace = await folder.LoadAsync())
            Assert.Empty(workspace.Diagnostics.Items);
    }
}
