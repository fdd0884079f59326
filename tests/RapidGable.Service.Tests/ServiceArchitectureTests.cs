using System.Reflection;
using NetArchTest.Rules;

namespace RapidGable.Service.Tests;

/// <summary>The arrows inside of the service and of the client: who may know whom.</summary>
public class ServiceArchitectureTests
{
    private const string Root = "RapidGable.Service.";
    private static readonly Assembly Service = typeof(Hosting.ServiceHost).Assembly;
    private static readonly Assembly Client = Assembly.Load("gable");
    private static readonly string[] Rooms =
    [
        "State",
        "Publishing",
        "Auditing",
        "Traffic",
        "Identity",
        "Faces",
        "Faces.OData",
        "Faces.Rest",
        "Management",
        "Management.Contracts",
        "Trials",
        "Revisions",
        "Hosting",
        "UseCases",
        "Stores",
    ];

    [Theory]
    [InlineData("State", "")]
    [InlineData("Publishing", "State")]
    [InlineData("Auditing", "State Publishing")]
    [InlineData("Traffic", "Publishing Auditing")]
    [InlineData("Identity", "State Publishing Auditing")]
    [InlineData("Faces", "State Publishing Auditing Traffic Identity")]
    [InlineData("Faces.OData", "Publishing Auditing Traffic Identity Faces")]
    [InlineData("Faces.Rest", "Publishing Auditing Traffic Identity Faces")]
    [InlineData("Management", "State Publishing Auditing Traffic Identity Faces Trials Revisions Management.Contracts")]
    [InlineData("Management.Contracts", "Publishing Auditing")]
    [InlineData("Trials", "Publishing Identity Faces")]
    [InlineData("Revisions", "State Publishing Trials")]
    [InlineData("Stores", "State Publishing Auditing Traffic Identity Faces")]
    public void A_room_knows_only_the_rooms_below_it(string room, string allowed)
    {
        var known = allowed.Split(' ').Append(room).ToList();
        // The name of a room is the start of those inside of it, so what may be known of a face is looked at by its types.
        var forbidden = Service
            .GetTypes()
            .Where(t => t.Namespace?.StartsWith(Root, StringComparison.Ordinal) == true && !known.Contains(t.Namespace[Root.Length..]))
            .Select(t => t.FullName!)
            .ToArray();
        var types = Types.InAssembly(Service).That().ResideInNamespaceMatching($"^{(Root + room).Replace(".", "\\.")}$");
        Assert.NotEmpty(types.GetTypes());
        var result = types.ShouldNot().HaveDependencyOnAny(forbidden).GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }

    [Fact]
    public void Every_room_is_held()
    {
        var rooms = Service
            .GetTypes()
            .Select(t => t.Namespace)
            .OfType<string>()
            .Where(n => n.StartsWith(Root, StringComparison.Ordinal))
            .Select(n => n[Root.Length..])
            .Distinct();
        Assert.Equal(Rooms.Order(StringComparer.Ordinal), rooms.Order(StringComparer.Ordinal));
    }

    [Theory]
    [InlineData("Faces.OData")]
    [InlineData("Faces.Rest")]
    public void Only_the_host_knows_a_face(string face)
    {
        var faces = Service.GetTypes().Where(t => t.Namespace == Root + face).Select(t => t.FullName!).ToArray();
        var result = Types
            .InAssembly(Service)
            .That()
            .DoNotResideInNamespace(Root + face)
            .And()
            .DoNotHaveName("ServiceHost", "Transport")
            .ShouldNot()
            .HaveDependencyOnAny(faces)
            .GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }

    [Theory]
    [InlineData("RapidGable.Service.Faces")]
    [InlineData("RapidGable.Service.Traffic")]
    [InlineData("RapidGable.Sources.Sqlite")]
    [InlineData("RapidGable.Sources.PostgreSql")]
    [InlineData("RapidGable.Sources.MariaDb")]
    [InlineData("RapidGable.Payloads")]
    public void The_client_knows_nothing_of(string room)
    {
        var result = Types.InAssembly(Client).ShouldNot().HaveDependencyOn(room).GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }
}
