using System.Reflection;
using NetArchTest.Rules;

namespace RapidGable.Core.Tests;

/// <summary>The arrows of docs/architecture.md: who may know whom.</summary>
public class ArchitectureTests
{
    private static readonly Assembly Core = typeof(Model.EntityModel).Assembly;
    private static readonly string[] Rooms = ["Model", "Declarations", "Sources", "Building", "Requests", "Access", "Queries", "Payloads", "Metadata", "Verification"];

    [Theory]
    [InlineData("Model", "")]
    [InlineData("Declarations", "Model")]
    [InlineData("Sources", "Model")]
    [InlineData("Building", "Model Declarations Sources Requests Access")]
    [InlineData("Requests", "Model")]
    [InlineData("Access", "Model Requests")]
    [InlineData("Queries", "Model Requests Access Sources")]
    [InlineData("Payloads", "Model Requests Queries Sources")]
    [InlineData("Metadata", "Model Payloads")]
    [InlineData("Verification", "Model")]
    public void A_room_knows_only_the_rooms_below_it(string room, string allowed)
    {
        var forbidden = Rooms.Except(allowed.Split(' ')).Where(r => r != room).Select(r => "RapidGable." + r).ToArray();
        var types = Types.InAssembly(Core).That().ResideInNamespace("RapidGable." + room);
        Assert.NotEmpty(types.GetTypes());
        var result = types.ShouldNot().HaveDependencyOnAny(forbidden).GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }

    [Fact]
    public void Only_the_registry_knows_an_engines_folder()
    {
        var result = Types.InAssembly(Core).That().DoNotResideInNamespace("RapidGable.Sources.Sqlite").And().DoNotHaveName("EngineRegistry")
            .ShouldNot().HaveDependencyOn("RapidGable.Sources.Sqlite").GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }

    [Fact]
    public void Payload_writers_never_see_a_statement()
    {
        var result = Types.InAssembly(Core).That().ResideInNamespace("RapidGable.Payloads")
            .ShouldNot().HaveDependencyOnAny("RapidGable.Queries.SqlStatement", "RapidGable.Queries.SqlWriter", "RapidGable.Sources.SqlDialect").GetResult();
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
        Assert.DoesNotContain(typeof(Access.PermittedRequest).GetConstructors(BindingFlags.Public | BindingFlags.Instance), c => c.GetParameters() is [{ ParameterType.Name: "BoundRequest" }]);
}
