using RapidGable.Model;

namespace RapidGable.Core.Tests;

/// <summary>Queries with parameters as they are declared.</summary>
public sealed class QueryDeclarationTests
{
    private const string Table = "CREATE TABLE t (id INTEGER PRIMARY KEY, name TEXT NOT NULL, day DATE, kind TEXT, n REAL)";

    private static TestWorkspace Workspace(string queries, string sets = "  - t\n") =>
        new TestWorkspace().WithSource().WithDatabase(Table).WithService(sets + "queries:\n" + queries);

    [Theory]
    [InlineData("select: SELECT id FROM t WHERE id = :x", "select", "':x' is no declared parameter")]
    [InlineData("select: SELECT id FROM t WHERE id = :idd, parameters: { id: int32 }", "select", "Did you mean 'id'?")]
    [InlineData("select: SELECT id FROM t, parameters: { x: int32 }", "query", "does not use the parameter 'x'")]
    [InlineData("select: 'SELECT id FROM t; DELETE FROM t'", "select", "more than one statement")]
    [InlineData("select: 'SELECT id FROM t WHERE id = ?1'", "select", "write parameters as :name")]
    [InlineData("select: DELETE FROM t WHERE id = :id, parameters: { id: int32 }", "select", "syntax error")]
    [InlineData("select: SELECT id FROM nowhere WHERE id = :id, parameters: { id: int32 }", "select", "no such table")]
    [InlineData("{}", "query", "either a 'select', a 'file'")]
    [InlineData("select: SELECT id FROM t, file: a.sql", "query", "either a 'select', a 'file'")]
    [InlineData("file: a.sql", "query", "There is no file services/a.sql")]
    [InlineData("file: ../workspace.yaml", "query", "There is no file")]
    [InlineData("select: SELECT id FROM t, gives: all", "query", "does not give 'all'")]
    [InlineData("select: 'SELECT id, name FROM t', gives: value", "query", "gives a value and has 2 columns")]
    [InlineData("select: SELECT id FROM t, gives: row, page: 5", "query", "neither a key nor pages")]
    [InlineData("select: SELECT id FROM t, key: x", "no-column", "'x'")]
    [InlineData("select: SELECT id FROM t, allow: create", "unknown-name", "'allow'")]
    [InlineData("select: SELECT id FROM t WHERE id = :id, parameters: { id: int33 }", "unknown-type", "'int33'")]
    [InlineData("select: SELECT id FROM t WHERE id = :id, parameters: { id: collection(int32) }", "query", "single plain value")]
    [InlineData("select: SELECT id FROM t WHERE id = :id, parameters: { id: { type: int32, default: x } }", "query", "'x' is not a value")]
    [InlineData(
        "select: SELECT id FROM t WHERE id = :id, parameters: { id: { type: int32, default: 9, maximum: 5 } }",
        "query",
        "'9' is more than 5"
    )]
    [InlineData(
        "select: SELECT id FROM t WHERE id = :id, parameters: { id: { type: int32, example: 1.5 } }",
        "query",
        "'1.5' is not a value"
    )]
    [InlineData("select: SELECT id FROM t WHERE id = :id, parameters: { id: { type: int32, pattern: a } }", "value-rule", "only texts")]
    [InlineData(
        "select: SELECT id FROM t WHERE id = :id, parameters: { id: { type: int32, minimum: 5, maximum: 1 } }",
        "value-rule",
        "more"
    )]
    [InlineData("select: SELECT id FROM t WHERE id = :limit, parameters: { limit: int32 }", "query", "a parameter of every list")]
    [InlineData(
        "select: SELECT id FROM t WHERE id = :id, parameters: { id: { type: int32, taken-from: a b } }",
        "query",
        "known of callers"
    )]
    [InlineData("select: SELECT id FROM t WHERE id = :id, parameters: { id: { taken-from: user } }", "missing", "'type' is missing")]
    [InlineData("select: SELECT id FROM t WHERE id = :id, parameters: { id: { type: int32, write: never } }", "unknown-name", "'write'")]
    [InlineData(
        "select: SELECT id FROM t WHERE id = :id, parameters: { id: int32 }, rest: { path: 'a/{x}' }",
        "rest-path",
        "no parameter 'x'"
    )]
    [InlineData(
        "select: SELECT id FROM t WHERE id = :id, parameters: { id: int32 }, rest: { path: '{id}' }",
        "rest-path",
        "starts with a variable"
    )]
    [InlineData(
        "select: SELECT id FROM t WHERE id = :id, parameters: { id: int32 }, rest: { path: 'a/x{id}' }",
        "rest-path",
        "whole segment"
    )]
    [InlineData("select: SELECT id FROM t WHERE id = :id, parameters: { id: int32 }, rest: { path: 'a/{id}/{id}' }", "rest-path", "twice")]
    [InlineData(
        "select: SELECT id FROM t WHERE id = :id, parameters: { id: int32 }, rest: { path: 't/{id}' }",
        "rest-path",
        "lies below 't'"
    )]
    [InlineData("select: SELECT id FROM t, gives: nothing", "query", "What only reads gives something")]
    [InlineData("select: COMMIT, changes: true", "select", "starts with COMMIT")]
    [InlineData("select: 'DELETE FROM t; VACUUM', changes: true", "select", "starts with VACUUM")]
    [InlineData("select: SELECT id INTO x FROM t, changes: true", "select", "(INTO)")]
    [InlineData("select: '-- nothing', changes: true", "select", "holds no statement")]
    [InlineData("select: DELETE FROM t, changes: true", "query", "The last statement of 'Q' gives no rows")]
    [InlineData("select: DELETE FROM t RETURNING id, changes: true, key: id", "query", "'key' is about rows that are read")]
    [InlineData("select: DELETE FROM t RETURNING id, changes: true, page: 5", "query", "'page' is about rows that are read")]
    [InlineData("select: DELETE FROM t RETURNING id, changes: true, order: id", "query", "'order' is about rows that are read")]
    [InlineData("select: DELETE FROM t WHERE id = :x RETURNING id, changes: true", "select", "':x' is no declared parameter")]
    [InlineData("select: DELETE FROM t WHERE idd = 1 RETURNING id, changes: true", "select", "no such column")]
    [InlineData(
        "select: DELETE FROM t RETURNING id, changes: true, rules: [ { who: anyone, may: call, rows: id eq 1 } ]",
        "rule",
        "belong to the rules of a set or a query"
    )]
    [InlineData("select: SELECT name FROM t, of: T", "query", "no set 'T' with a key. Did you mean 't'?")]
    [InlineData("select: SELECT name FROM t, of: t", "query", "has no column 'id'")]
    [InlineData("select: SELECT id FROM t, of: t, key: id", "query", "'key' of 'Q' is that of 't'")]
    [InlineData("select: SELECT id FROM t, of: t, gives: row", "query", "come as rows")]
    [InlineData("select: SELECT id FROM t, of: t, rules: [ { who: anyone, may: read, rows: id eq 1 } ]", "query", "whose rules hold")]
    [InlineData("select: DELETE FROM t RETURNING id, changes: true, of: t", "query", "gives one entity")]
    [InlineData("select: SELECT id FROM t, bound-to: t", "query", "has no parameter that takes 'id'")]
    [InlineData("select: SELECT id FROM t WHERE name = :id, bound-to: t, parameters: { id: string }", "query", "is Edm.String")]
    [InlineData("select: SELECT id FROM t, routine: f", "query", "either a 'select', a 'file'")]
    [InlineData("routine: f", "no-object", "no function or procedure 'f'")]
    public async Task What_is_wrong_is_told(string query, string code, string part)
    {
        var written = query == "{}" ? "" : ", " + query;
        using var workspace = Workspace($"  - {{ name: Q{written} }}\n");
        await using var loaded = await workspace.LoadAsync();
        Assert.Contains(loaded.Diagnostics.Items, d => d.Code == code && d.Message.Contains(part, StringComparison.Ordinal));
    }

    [Fact] // a fault in a statement's own file is told with its line there
    public async Task A_fault_in_a_file_has_its_place()
    {
        using var workspace = Workspace("  - { name: Q, file: q.sql, parameters: { id: int32 } }\n");
        workspace.Write("services/q.sql", "\n-- two lines before\nSELECT id FROM t\nWHERE id = :idd\n");
        await using var loaded = await workspace.LoadAsync();
        var place = loaded.Diagnostics.Items.First(d => d.Code == "select").Location;
        Assert.Equal(("services/q.sql", 4, 12, "WHERE id = :idd"), (place.File, place.Line, place.Column, place.LineText));
    }

    [Fact]
    public async Task A_value_that_cannot_be_made_up_wants_an_example()
    {
        const string Query =
            "  - { name: Q, select: SELECT id FROM t WHERE name = :n, parameters: { n: { type: string, pattern: '[0-9]+'EXAMPLE } } }\n";
        foreach (var (example, found) in new[] { ("", 1), (", example: '12'", 0), (", default: '12'", 0) })
        {
            using var workspace = Workspace(Query.Replace("EXAMPLE", example));
            await using var loaded = await workspace.LoadAsync();
            Assert.Equal(
                found,
                loaded.Diagnostics.Items.Count(d => d.Code == "query" && d.Message.Contains("made up", StringComparison.Ordinal))
            );
        }
    }

    [Fact] // two templates that one address could mean
    public async Task Templates_that_collide_are_told()
    {
        const string Query = "select: SELECT id FROM t WHERE id = :id, parameters: { id: int32 }";
        using var workspace = Workspace(
            $"  - {{ name: A, {Query}, rest: {{ path: 'x/{{id}}/y' }} }}\n  - {{ name: B, {Query}, rest: {{ path: 'x/1/y' }} }}\n"
        );
        await using var loaded = await workspace.LoadAsync();
        Assert.Contains(loaded.Diagnostics.Items, d => d.Code == "rest-path" && d.Message.Contains("same path", StringComparison.Ordinal));
    }

    [Fact]
    public async Task A_query_is_a_function_of_its_parameters()
    {
        using var workspace = Workspace(
            """
              - name: Named
                file: named.sql
                key: id
                parameters:
                  word: { type: string(9), description: A part of the name, example: a }
                  since: { type: date, default: 2024-01-01 }
                  most: { type: int32, required: false }
                  who: { type: string, taken-from: '@user' }
            """
        );
        workspace.Write(
            "services/named.sql",
            "-- :nothing\nSELECT id, name FROM t WHERE name LIKE '%' || :word || '%' AND day >= :since AND id <= :most AND :who <> name;\n"
        );
        await using var loaded = await workspace.LoadAsync();
        Assert.Empty(loaded.Diagnostics.Items);
        var query = loaded.Services[0].Model.FindSet("Named")!;
        Assert.Equal((true, false, true, true), (query.IsQuery, query.IsUnkeyed, query.IsFunction, query.TakesFromCaller));
        // Those that must be given come first, and nobody is told of what is taken from them.
        Assert.Equal(["word", "since", "most"], query.Parameters.Select(p => p.Name));
        Assert.Equal([true, false, false], query.Parameters.Select(p => p.IsRequired));
        Assert.Equal(9, query.Parameters[0].Rules.MaxLength);
        var source = Assert.IsType<QuerySource>(query.Source);
        Assert.Equal(["word", "since", "most", "who"], source.Parameters.Select(p => p.Placeholder));
        Assert.Equal("NamedRow", query.Type.Name);
    }

    [Fact]
    public async Task Groups_are_switched_together()
    {
        const string Group = """
            source: main
            query-groups:
              - title: Morning
                description: Asked every morning.
                enabled: ENABLED
                queries:
                  - { name: A, select: SELECT id FROM t }
                  - { name: B, select: SELECT name FROM t }
              - { title: Evening, queries: [{ name: C, select: SELECT day FROM t }] }
            """;
        using var workspace = new TestWorkspace().WithSource().WithDatabase(Table);
        foreach (var (enabled, names) in new[] { ("true", "A B C"), ("false", "C") })
        {
            workspace.Write("services/s.yaml", Group.Replace("ENABLED", enabled));
            await using var loaded = await workspace.LoadAsync();
            Assert.Empty(loaded.Diagnostics.Items);
            Assert.Equal(names, string.Join(' ', loaded.Services[0].Model.Sets.Select(s => s.Name)));
            Assert.Equal(new QueryGroup("Evening", null), loaded.Services[0].Model.FindSet("C")!.Group);
            // What 'gable show' prints publishes the same.
            var shown = Drafting.ResolvedDeclaration.Of(loaded.Declaration.Services[0], loaded.Services[0]).Select(l => l.Text);
            workspace.Write("services/s.yaml", string.Join('\n', shown));
            await using var again = await workspace.LoadAsync();
            Assert.Empty(again.Diagnostics.Items);
            Assert.Equal(
                loaded.Services[0].Model.Sets.Select(s => (s.Name, s.Group)),
                again.Services[0].Model.Sets.Select(s => (s.Name, s.Group))
            );
        }
        // What is switched off is still held to the rules of declarations.
        workspace.Write("services/s.yaml", Group.Replace("ENABLED", "false").Replace("name: B, ", ""));
        await using var wrong = await workspace.LoadAsync();
        Assert.Contains(wrong.Diagnostics.Items, d => d.Code == "missing");
    }

    [Fact]
    public async Task A_service_may_have_queries_alone()
    {
        using var workspace = new TestWorkspace().WithSource().WithDatabase(Table);
        workspace.Write("services/s.yaml", "source: main\nqueries:\n  - { name: Q, select: SELECT id FROM t }\n");
        await using var loaded = await workspace.LoadAsync();
        Assert.Empty(loaded.Diagnostics.Items);
        Assert.Equal("Q", Assert.Single(loaded.Services[0].Model.Sets).Name);
    }
}
