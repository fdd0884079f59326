using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;

namespace RapidGable.Payloads;

/// <summary>Makes the addresses that a payload holds.</summary>
/// <param name="serviceRoot">Absolute, with a slash at its end.</param>
/// <param name="address">The request's own address, whose options go on in next links.</param>
public sealed class LinkBuilder(string serviceRoot, RequestAddress address)
{
    /// <summary>The context URL (Protocol 10); an empty fragment is that of the service document.</summary>
    public string Context(string fragment) => fragment.Length == 0 ? serviceRoot + "$metadata" : $"{serviceRoot}$metadata#{fragment}";

    /// <summary>The address of the next page: all options of this one, what is left of <c>$top</c>, and the position.</summary>
    public string NextLink(QueryValues values, ImmutableArray<StoredValue> last)
    {
        var options = address.Options.Where(o => Name(o) is not ("top" or "skip" or "skiptoken")).Select(o => o.Raw).ToList();
        if (values.Top is { } top)
            options.Add($"$top={top - values.PageRows}");
        options.Add("$skiptoken=" + new SkipToken(values.Order, last).Write());
        return $"{serviceRoot}{address.RawPath}?{string.Join('&', options)}";
    }

    /// <summary>The address of the next related entities of one parent.</summary>
    public string ChildNextLink(string parentId, BoundExpand expand, QueryValues values, ImmutableArray<StoredValue> last)
    {
        var select = expand.Select;
        var names = select.Properties.Select(p => p.Name).Concat(select.Navigations.Select(n => n.Name)).Select(Uri.EscapeDataString);
        var nested = string.Concat(values.NestedOptions(expand).Select(o => $"{o.Name}={Uri.EscapeDataString(o.Value)}&"));
        var token = new SkipToken(values.OrderOf(expand), last).Write();
        return $"{serviceRoot}{parentId}/{Uri.EscapeDataString(expand.Navigation.Name)}?{nested}{(select.IsPartial ? $"$select={string.Join(',', names)}&" : "")}$skiptoken={token}";
    }

    private static string Name(AddressOption option) => option.Name.TrimStart('$').ToLowerInvariant();
}
