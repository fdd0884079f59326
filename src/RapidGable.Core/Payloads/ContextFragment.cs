using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Payloads;

/// <summary>The fragment of a context URL, which says what a payload holds (Protocol 10.2 to 10.14).</summary>
internal static class ContextFragment
{
    public static string Of(BoundRequest request, EntityModel model)
    {
        var list = SelectList(request.Select, request.Expand.Select(e => (e.Navigation.Name, e.Select)));
        var target = request.Path.Target;
        if (target.IsUnkeyed)
            return $"Collection({model.QualifiedName(target.Type)}){list}";
        var set = (request.Path.Hops is [.., { Navigation.IsContained: true } last] ? Encode(last.Navigation.Name) : Encode(target.Name)) + list;
        return request.Path.Kind == ResourceKind.Collection ? set : set + "/$entity";
    }

    /// <param name="entityId">The canonical address of the entity that has the property.</param>
    public static string OfProperty(string entityId, BoundPath path) => $"{entityId}/{(path.Group is { } group ? Encode(group.Name) + "/" : "")}{Encode(path.Property!.Name)}";

    /// <summary>The path up to the container of what is addressed, with a slash at its end; null when it is not contained.</summary>
    /// <param name="literal">Writes the literal in a slot as it stands in an address.</param>
    public static string? ContainedPath(BoundPath path, Func<BoundLiteral, string> literal)
    {
        if (path.Property is not null || path.Hops is not [.., { Navigation.IsContained: true }])
            return null;
        string Key(BoundKey? key) => key is null ? "" : key.Parts.Length == 1 ? $"({literal(key.Parts[0].Value)})" : $"({string.Join(',', key.Parts.Select(p => $"{p.Property.Name}={literal(p.Value)}"))})";
        return string.Concat(path.Hops[..^1].Select(h => $"{Encode(h.Navigation.Name)}{Key(h.Key)}/").Prepend($"{Encode(path.Root!.Name)}{Key(path.RootKey)}/"));
    }

    private static string SelectList(BoundSelect? select, IEnumerable<(string Name, BoundSelect Select)> expands)
    {
        var items = new List<string>();
        if (select is { IsPartial: true })
            items.AddRange(select.Properties.Select(p => p.Name).Concat(select.Navigations.Select(n => n.Name)).Select(Encode));
        items.AddRange(expands.Select(e => $"{Encode(e.Name)}({(e.Select.IsPartial ? string.Join(',', e.Select.Properties.Select(p => Encode(p.Name))) : "")})"));
        return items.Count == 0 ? "" : $"({string.Join(',', items)})";
    }

    private static string Encode(string name) => Uri.EscapeDataString(name);
}
