using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Payloads;

/// <summary>The fragment of a context URL, which says what a payload holds (Protocol 10.2 to 10.14).</summary>
internal static class ContextFragment
{
    public static string Of(BoundRequest request, EntityModel model)
    {
        if (request.Path.IsReference)
            return request.Path.Kind == ResourceKind.Collection ? "Collection($ref)" : "$ref";
        var list = SelectList(request.Select, request.Expand, 0, model) is { Length: > 0 } items ? $"({items})" : "";
        if (request.Path.IsCrossJoin)
            return "Collection(Edm.ComplexType)";
        var target = request.Path.Target;
        if (request.Apply?.IsTransient == true && target.IsFunction)
            return "Collection(Edm.ComplexType)";
        if (request.Apply is { IsTransient: true } apply)
        {
            var made = apply.Result.Type.Properties.Concat(request.Select!.Computed.Select(c => c.Property));
            return $"{Encode(target.Name)}({(list.Length > 0 && request.Select!.IsPartial ? list[1..^1] : Shown(made))})";
        }
        if (target.IsFunction && target.Gives != QueryResult.Rows)
            return model.QualifiedName(target.Type) + list;
        if (target.IsFunction)
            return $"Collection({model.QualifiedName(target.Type)}){list}";
        var set =
            (request.Path.Hops is [.., { Navigation.IsContained: true } last] ? Encode(last.Navigation.Name) : Encode(target.Name))
            + (request.Path.Cast is { } cast ? $"/{model.Namespace}.{cast.Name}" : "")
            + list;
        return request.IsDelta ? set + "/$delta"
            : request.Path.Kind == ResourceKind.Collection ? set
            : set + "/$entity";
    }

    /// <param name="entityId">The canonical address of the entity that has the property; what a function gives has none.</param>
    public static string OfProperty(string entityId, BoundPath path) =>
        path is { Hops.IsEmpty: true, Root.IsFunction: true }
            ? path.Property!.Type.Name
            : $"{entityId}/{(path.Group is { } group ? Encode(group.Name) + "/" : "")}{Encode(path.Property!.Name)}";

    /// <summary>The path up to the container of what is addressed, with a slash at its end; null when it is not contained.</summary>
    /// <param name="literal">Writes the literal in a slot as it stands in an address.</param>
    public static string? ContainedPath(BoundPath path, Func<BoundLiteral, string> literal)
    {
        if (path.Property is not null || path.Hops is not [.., { Navigation.IsContained: true }])
            return null;
        string Key(BoundKey? key) =>
            key is null ? ""
            : key.Parts.Length == 1 ? $"({literal(key.Parts[0].Value)})"
            : $"({string.Join(',', key.Parts.Select(p => $"{p.Property.Name}={literal(p.Value)}"))})";
        return string.Concat(
            path.Hops[..^1]
                .Select(h => $"{Encode(h.Navigation.Name)}{Key(h.Key)}/")
                .Prepend($"{Encode(path.Root!.Name)}{Key(path.RootKey)}/")
        );
    }

    /// <summary>What is selected and expanded; references and numbers add nothing (Protocol 10.8 to 10.10).</summary>
    /// <param name="levels">Levels that the relation above still repeats itself.</param>
    private static string SelectList(BoundSelect? select, ImmutableArray<BoundExpand> expands, int levels, EntityModel model)
    {
        var items = new List<string>();
        if (select is { IsPartial: true })
            items.AddRange(select.Paths.Select(p => p == "*" ? p : string.Join('/', p.Split('/').Select(Encode))));
        foreach (var expand in expands.Where(e => e.Kind == ExpandKind.Entities))
        {
            // What repeats itself by levels is said once, with a plus sign.
            if (levels > 1 && expand.Levels == levels - 1)
                continue;
            items.Add(
                $"{(expand.Cast is { } cast ? $"{model.Namespace}.{cast.Name}/" : "")}{Encode(expand.Navigation.Name)}"
                    + $"{(expand.Levels > 1 ? "+" : "")}({SelectList(expand.Select, expand.Expand, expand.Levels, model)})"
            );
        }
        return string.Join(',', items);
    }

    private static string Shown(IEnumerable<Property> properties) =>
        string.Join(',', properties.Select(p => p.IsGroup ? $"{Encode(p.Name)}({Shown(p.Members)})" : Encode(p.Name)));

    private static string Encode(string name) => Uri.EscapeDataString(name);
}
