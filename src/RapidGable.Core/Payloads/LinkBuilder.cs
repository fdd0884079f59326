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

    /// <summary>An address below the service root.</summary>
    public string Absolute(string relative) => serviceRoot + relative;

    /// <summary>The address of the next page: all options of this one, what is left of <c>$top</c>, and the position.</summary>
    /// <param name="marks">For a result whose changes are followed: what the delta link will start from.</param>
    /// <param name="set">Fingerprint of the set whose changes are followed.</param>
    public string NextLink(QueryValues values, ImmutableArray<StoredValue> last, ImmutableArray<ChangeMark>? marks = null, string set = "")
    {
        var options = address.Options.Where(o => Name(o) is not ("top" or "skip" or "skiptoken")).Select(o => o.Raw).ToList();
        if (values.Top is { } top)
            options.Add($"$top={top - values.PageRows}");
        if (values.DeltaToken is { } || marks is not null)
        {
            options.RemoveAll(o => o.TrimStart('$').StartsWith("deltatoken=", StringComparison.OrdinalIgnoreCase));
            options.Add(
                "$deltatoken="
                    + new DeltaToken(
                        set,
                        values.DeltaToken?.IsDelta == true,
                        values.DeltaToken is { IsDelta: true } own ? own.Since : marks!.Value,
                        values.DeltaToken is { IsDelta: true } ? marks : null
                    ).Write()
            );
        }
        options.Add("$skiptoken=" + new SkipToken(values.Order, last).Write());
        return $"{serviceRoot}{address.RawPath}?{string.Join('&', options)}";
    }

    /// <summary>The address of what will have changed since (Protocol 11.3.3).</summary>
    public string DeltaLink(ImmutableArray<ChangeMark> marks, string set)
    {
        var options = address
            .Options.Where(o => Name(o) is "filter" or "search" or "select" or "compute" || o.Name.StartsWith('@'))
            .Select(o => o.Raw)
            .Append("$deltatoken=" + new DeltaToken(set, true, marks, null).Write());
        return $"{serviceRoot}{address.RawPath}?{string.Join('&', options)}";
    }

    /// <summary>The address of the next related entities of one parent.</summary>
    /// <param name="rootId">The id of the entity of the request's own rows that the parent is, or is nested in.</param>
    public string ChildNextLink(string parentId, string rootId, BoundExpand expand, QueryValues values, ImmutableArray<StoredValue> last)
    {
        rootId = Uri.UnescapeDataString(rootId);
        var nested = string.Concat(
            values
                .NestedOptions(expand, rootId)
                .Select(o => $"{o.Name}={Uri.EscapeDataString(o.Value)}&")
                .Concat(address.Options.Where(o => o.Name.StartsWith('@')).Select(o => o.Raw + "&"))
        );
        var token = new SkipToken(values.OrderOf(expand, rootId), last).Write();
        return $"{serviceRoot}{parentId}/{Uri.EscapeDataString(expand.Navigation.Name)}"
            + $"{(expand.Kind == ExpandKind.References ? "/$ref" : "")}?{nested}$skiptoken={token}";
    }

    private static string Name(AddressOption option) => option.Name.TrimStart('$').ToLowerInvariant();
}
