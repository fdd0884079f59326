using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;

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

    /// <summary>A continuation as this protocol's link.</summary>
    public string Of(Continuation continuation, QueryValues values) =>
        continuation switch
        {
            NextPage next => NextLink(values, next),
            LaterChanges later => DeltaLink(later.Followed),
            RelatedPage related => RelatedLink(related, values),
            _ => throw new ArgumentOutOfRangeException(nameof(continuation)),
        };

    /// <summary>The address of the next page: all options of this one, what is left of <c>$top</c>, and the position.</summary>
    private string NextLink(QueryValues values, NextPage next)
    {
        var marks = next.Followed?.Marks;
        var options = address.Options.Where(o => Name(o) is not ("top" or "skip" or "skiptoken")).Select(o => o.Raw).ToList();
        if (values.Top is { } top)
            options.Add($"$top={top - values.PageRows}");
        if (values.DeltaToken is { } || marks is not null)
        {
            options.RemoveAll(o => o.TrimStart('$').StartsWith("deltatoken=", StringComparison.OrdinalIgnoreCase));
            options.Add(
                "$deltatoken="
                    + new DeltaToken(
                        next.Followed?.Fingerprint ?? "",
                        values.DeltaToken?.IsDelta == true,
                        values.DeltaToken is { IsDelta: true } own ? own.Since : marks!.Value,
                        values.DeltaToken is { IsDelta: true } ? marks : null
                    ).Write()
            );
        }
        options.Add("$skiptoken=" + new SkipToken(values.Order, next.Position).Write());
        return $"{serviceRoot}{address.RawPath}?{string.Join('&', options)}";
    }

    /// <summary>The address of what will have changed since (Protocol 11.3.3).</summary>
    private string DeltaLink(FollowedChanges followed)
    {
        var options = address
            .Options.Where(o => Name(o) is "filter" or "search" or "select" or "compute" || o.Name.StartsWith('@'))
            .Select(o => o.Raw)
            .Append("$deltatoken=" + new DeltaToken(followed.Fingerprint, true, followed.Marks, null).Write());
        return $"{serviceRoot}{address.RawPath}?{string.Join('&', options)}";
    }

    /// <summary>The address of the next related entities of one parent.</summary>
    private string RelatedLink(RelatedPage next, QueryValues values)
    {
        var expand = next.Expand;
        var rootId = Uri.UnescapeDataString(next.RootId);
        var nested = string.Concat(
            values
                .NestedOptions(expand, rootId)
                .Select(o => $"{o.Name}={Uri.EscapeDataString(o.Value)}&")
                .Concat(address.Options.Where(o => o.Name.StartsWith('@')).Select(o => o.Raw + "&"))
        );
        var token = new SkipToken(values.OrderOf(expand, rootId), next.Position).Write();
        return $"{serviceRoot}{next.ParentId}/{Uri.EscapeDataString(expand.Navigation.Name)}"
            + $"{(expand.Kind == ExpandKind.References ? "/$ref" : "")}?{nested}$skiptoken={token}";
    }

    private static string Name(AddressOption option) => option.Name.TrimStart('$').ToLowerInvariant();
}
