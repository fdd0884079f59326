using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Payloads;

/// <summary>The fragment of a context URL, which says what a payload holds (Protocol 10.2 to 10.14).</summary>
internal static class ContextFragment
{
    public static string Of(BoundRequest request)
    {
        var list = SelectList(request.Select, request.Expand.Select(e => (e.Navigation.Name, e.Select)));
        var set = Encode(request.Path.Target.Name) + list;
        return request.Path.Kind == ResourceKind.Collection ? set : set + "/$entity";
    }

    /// <param name="entityId">The canonical address of the entity that has the property.</param>
    public static string OfProperty(string entityId, Property property) => $"{entityId}/{Encode(property.Name)}";

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
