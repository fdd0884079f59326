using System.Collections.Immutable;
using RapidGable.Changes;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.Rest;

namespace RapidGable.Payloads;

/// <summary>Addresses of entities as the plain REST face spells them: <c>Sensors/1/2</c>, or with named keys.</summary>
/// <param name="pathOf">
/// An address of an entity as a path below the service root, still encoded; null = it is none of this service.
/// </param>
public sealed class RestAddresses(RestPaths paths, Func<string, string?> pathOf) : IEntityAddresses
{
    public string Of(EntityAddress entity) =>
        entity.Container is not { } container
            ? $"{paths.Of(entity.Set.Name)}/{Key(entity.Set.Type.Key, entity.Key, null)}"
            : $"{paths.Of(container.Set.Name)}/{Key(container.Set.Type.Key, container.Key, null)}/"
                + $"{Segment(container.Navigation.Name)}/{Key(entity.Set.Type.Key, entity.Key, container.Navigation)}";

    /// <summary>A segment that names a property or a relation, encoded.</summary>
    public string Segment(string name) => Uri.EscapeDataString(paths.Casing.Apply(name));

    public ISpelledRequest? Find(string reference) =>
        pathOf(reference) is { } path && RestRequest.Of(path, "", paths).Is(out var request, out _) ? request : null;

    /// <param name="step">What the container says of the key already stands before; null = all of it is written.</param>
    private string Key(ImmutableArray<Property> key, ImmutableArray<object> values, NavigationProperty? step)
    {
        var parts = key.Zip(values)
            .Where(p => step is null || step.Joins.All(j => j.Target.Column != p.First.Column))
            .Select(p => (p.First.Name, Text: Uri.EscapeDataString(CellText.Raw(p.Second, p.First.Type))))
            .ToList();
        return paths.HasNamedKeys
            ? string.Join(',', parts.Select(p => $"{Uri.EscapeDataString(p.Name)}={p.Text}"))
            : string.Join('/', parts.Select(p => p.Text));
    }
}
