using System.Reflection;
using NetArchTest.Rules;

namespace RapidGable.Core.Tests;

/// <summary>The arrows of docs/architecture.md: who may know whom.</summary>
public class ArchitectureTests
{
    private static readonly Assembly Core = typeof(Model.EntityModel).Assembly;
    private static readonly string[] Rooms =
    [
        "Model",
        "Declarations",
        "Sources",
        "Expressions",
        "Requests",
        "Access",
        "Queries",
        "Building",
        "Inspection",
        "Drafting",
        "Publishing",
        "Changes",
        "Payloads",
        "Metadata",
        "Verification",
        "Handover",
        "UseCases",
    ];

    [Theory]
    [InlineData("Model", "")]
    [InlineData("Declarations", "Model")]
    [InlineData("Sources", "Model")]
    [InlineData("Expressions", "Model")]
    [InlineData("Requests", "Model Expressions")]
    [InlineData("Access", "Model Expressions Requests")]
    [InlineData("Queries", "Model Sources Expressions Requests Access")]
    [InlineData("Building", "Model Declarations Sources Expressions Access")]
    [InlineData("Inspection", "Model Declarations Sources Building")]
    [InlineData("Drafting", "Model Declarations Sources Building Inspection")]
    [InlineData("Publishing", "Model Declarations Sources Expressions Requests Access Queries")]
    [InlineData("Changes", "Model Sources Expressions Requests Access Queries Publishing")]
    [InlineData("Payloads", "Model Sources Expressions Requests Access Queries Changes")]
    [InlineData("Metadata", "Model Requests Payloads")]
    [InlineData("Verification", "Model")]
    [InlineData("Handover", "Model")]
    public void A_room_knows_only_the_rooms_below_it(string room, string allowed)
    {
        var forbidden = Rooms.Except(allowed.Split(' ')).Where(r => r != room).Select(r => "RapidGable." + r).ToArray();
        var types = Types.InAssembly(Core).That().ResideInNamespace("RapidGable." + room);
        Assert.NotEmpty(types.GetTypes());
        var result = types.ShouldNot().HaveDependencyOnAny(forbidden).GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }

    [Theory]
    [InlineData("Sqlite")]
    [InlineData("PostgreSql")]
    [InlineData("MariaDb")]
    public void Only_the_registry_knows_an_engines_folder(string engine)
    {
        var room = "RapidGable.Sources." + engine;
        var others = Types.InAssembly(Core).That().DoNotResideInNamespace(room).And().DoNotHaveName("EngineRegistry");
        var result = others.ShouldNot().HaveDependencyOn(room).GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }

    [Fact]
    public void Every_engine_has_a_guarded_folder()
    {
        var engines = Core.GetTypes()
            .Select(t => t.Namespace)
            .OfType<string>()
            .Where(n => n.StartsWith("RapidGable.Sources.", StringComparison.Ordinal));
        Assert.Equal(
            ["RapidGable.Sources.MariaDb", "RapidGable.Sources.PostgreSql", "RapidGable.Sources.Sqlite"],
            engines.Distinct().Order(StringComparer.Ordinal)
        );
    }

    [Fact] // where rows come from is one closed hierarchy; a kind that is added is added to the writer of statements too
    public void Rows_come_from_these_kinds_of_sources_only()
    {
        var kinds = Core.GetTypes().Where(t => t.IsSubclassOf(typeof(Model.RowSource)) && !t.IsAbstract).ToList();
        Assert.Equal(
            ["ComputedSource", "QuerySource", "RestrictedSource", "SingleRow", "TableSource"],
            kinds.Select(t => t.Name).Order(StringComparer.Ordinal)
        );
        Assert.All(kinds, t => Assert.True(t.IsSealed, t.Name));
        // Nothing of what a caller may not see can be changed after it is made, nor copied without it.
        Assert.All([typeof(Access.RestrictedSource), typeof(Access.ComputedSource)], t =>
            Assert.DoesNotContain(t.GetProperties(), p => p.CanWrite)
        );
        Assert.All(kinds, t => Assert.Null(t.GetMethod("<Clone>$")));
    }

    [Fact]
    public void Payload_writers_never_see_a_statement()
    {
        var result = Types
            .InAssembly(Core)
            .That()
            .ResideInNamespace("RapidGable.Payloads")
            .ShouldNot()
            .HaveDependencyOnAny("RapidGable.Queries.SqlStatement", "RapidGable.Queries.SqlWriter", "RapidGable.Sources.SqlDialect")
            .GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }

    [Theory] // how a protocol spells a request is known where its text is read and its links are written
    [InlineData("OData", "")]
    [InlineData("Rest", "|Metadata.OpenApi")]
    public void Only_payloads_and_use_cases_know_a_spelling(string spelling, string others)
    {
        var result = Types
            .InAssembly(Core)
            .That()
            .DoNotResideInNamespaceMatching($@"^RapidGable\.(Requests\.{spelling}|Payloads|UseCases{others})")
            .ShouldNot()
            .HaveDependencyOn("RapidGable.Requests." + spelling)
            .GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }

    [Fact]
    public void Every_room_is_held()
    {
        var rooms = Core.GetTypes().Select(t => t.Namespace?.Split('.')).Where(n => n is ["RapidGable", ..]).Select(n => n![1]).Distinct();
        Assert.Equal(Rooms.Order(StringComparer.Ordinal), rooms.Order(StringComparer.Ordinal));
    }

    [Fact] // a body in any format gives the same entities; what a column keeps as JSON is the model's
    public void Changes_know_no_format()
    {
        var result = Types
            .InAssembly(Core)
            .That()
            .ResideInNamespace("RapidGable.Changes")
            .ShouldNot()
            .HaveDependencyOnAny("System.Text.Json", "System.Xml", "RapidGable.Payloads")
            .GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }

    [Theory]
    [InlineData("Microsoft.AspNetCore")]
    [InlineData("Spectre.Console")]
    [InlineData("System.CommandLine")]
    public void The_core_has_no_interface_code(string library) =>
        Assert.DoesNotContain(Core.GetReferencedAssemblies(), a => a.Name!.StartsWith(library, StringComparison.Ordinal));

    [Fact]
    public void A_permitted_request_comes_only_from_the_gate() =>
        Assert.DoesNotContain(typeof(Access.PermittedRequest).GetConstructors(BindingFlags.Public | BindingFlags.Instance), c =>
            c.GetParameters() is [{ ParameterType.Name: "BoundRequest" }]
        );

    [Theory] // time, chance and identifiers come from outside; what only measures how long something takes may stay
    [InlineData("DateTime.Now")]
    [InlineData("DateTime.UtcNow")]
    [InlineData("DateTimeOffset.Now")]
    [InlineData("DateTimeOffset.UtcNow")]
    [InlineData("TimeProvider.System")]
    [InlineData("Random.Shared")]
    [InlineData("new Random()")]
    [InlineData("Guid.NewGuid")]
    [InlineData("Guid.CreateVersion7")]
    [InlineData("RandomNumberGenerator")]
    [InlineData("static readonly ConditionalWeakTable")]
    [InlineData("static readonly ConcurrentDictionary")]
    public void The_core_has_no_clock_chance_or_state_of_its_own(string text) => Assert.Empty(Uses("RapidGable.Core", text));

    [Fact]
    public void The_core_has_no_static_fields_that_change()
    {
        const BindingFlags Static = BindingFlags.Static | BindingFlags.Public | BindingFlags.NonPublic | BindingFlags.DeclaredOnly;
        var changing =
            from type in Core.GetTypes()
            where !type.Name.StartsWith('<') && !type.IsDefined(typeof(System.Runtime.CompilerServices.CompilerGeneratedAttribute), false)
            from field in type.GetFields(Static)
            where field is { IsInitOnly: false, IsLiteral: false } && !field.Name.StartsWith('<')
            select $"{type.Name}.{field.Name}";
        Assert.Equal("", string.Join(", ", changing));
    }

    private static IEnumerable<string> Uses(string room, string text)
    {
        var root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "RapidGable.slnx")))
            root = Path.GetDirectoryName(root)!;
        return Directory
            .EnumerateFiles(Path.Combine(root, "src", room), "*.cs", SearchOption.AllDirectories)
            .Where(f => File.ReadAllText(f).Contains(text, StringComparison.Ordinal))
            .Select(f => Path.GetFileName(f))
            .Order(StringComparer.Ordinal);
    }

    [Fact] // rules stand in for a set's table there; whoever writes a table elsewhere would read past them
    public void Only_the_writer_of_statements_writes_tables() =>
        // The index of a search gives keys of rows, which the restricted table is asked for.
        Assert.Equal(
            ["PlainJoins.cs", "QuerySql.cs", "SqlExpressions.cs", "SqlWriter.Lookups.cs", "SqlWriter.Related.cs", "SqlWriter.cs"],
            Uses("RapidGable.Core/Queries", "ialect.From(")
        );

    [Fact] // one class writes rows, and only entity changes use it, which ask for access, before and after
    public void Only_one_class_writes_rows()
    {
        Assert.Equal(
            ["ChangeStatements.cs"],
            Uses("RapidGable.Core", "\"INSERT INTO").Concat(Uses("RapidGable.Core", "$\"INSERT INTO {name}")).Distinct()
        );
        Assert.Equal(
            ["ChangeNotes.cs", "EntityChanges.Relations.cs", "EntityChanges.cs", "RepeatedChanges.cs"],
            Uses("RapidGable.Core", ".InsertAsync(")
        );
        Assert.Equal(["EntityChanges.cs"], Uses("RapidGable.Core", "statements.UpdateAsync("));
        Assert.Equal(["EntityChanges.Relations.cs", "EntityChanges.cs"], Uses("RapidGable.Core", "statements.DeleteAsync("));
    }

    [Fact] // faces get at rows by a permitted request alone
    public void The_service_opens_no_session_of_its_own()
    {
        Assert.Empty(Uses("RapidGable.Service", "OpenSessionAsync("));
        Assert.Equal(["PublishedService.cs"], Uses("RapidGable.Core", "new PreparedRequest("));
        Assert.Equal(["PublishedService.cs"], Uses("RapidGable.Core", "AccessGate.Permit("));
    }
}
