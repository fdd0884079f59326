using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Payloads;

/// <summary>Makes the addresses that a payload holds.</summary>
/// <param name="serviceRoot">Absolute, with a slash at its end.</param>
/// <param name="request">The answered request, whose options go on in next links.</param>
public sealed class LinkBuilder(string serviceRoot, LexedRequest request) : ILinks
{
    private RequestAddress Address => request.Address;

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
        var options = Address.Options.Where(o => Name(o) is not ("top" or "skip" or "skiptoken")).Select(o => o.Raw).ToList();
        if (values.Top is { } top)
            options.Add($"$top={top - values.PageRows}");
        if (values.ChangePosition is { } || marks is not null)
        {
            options.RemoveAll(o => o.TrimStart('$').StartsWith("deltatoken=", StringComparison.OrdinalIgnoreCase));
            options.Add(
                "$deltatoken="
                    + new ChangePosition(
                        next.Followed?.Fingerprint ?? "",
                        values.ChangePosition?.IsDelta == true,
                        values.ChangePosition is { IsDelta: true } own ? own.Since : marks!.Value,
                        values.ChangePosition is { IsDelta: true } ? marks : null
                    ).Write()
            );
        }
        options.Add("$skiptoken=" + new PagePosition(values.Order, next.Position).Write());
        return $"{serviceRoot}{Address.RawPath}?{string.Join('&', options)}";
    }

    /// <summary>The address of what will have changed since (Protocol 11.3.3).</summary>
    private string DeltaLink(FollowedChanges followed)
    {
        var options = Address
            .Options.Where(o => Name(o) is "filter" or "search" or "select" or "compute" || o.Name.StartsWith('@'))
            .Select(o => o.Raw)
            .Append("$deltatoken=" + new ChangePosition(followed.Fingerprint, true, followed.Marks, null).Write());
        return $"{serviceRoot}{Address.RawPath}?{string.Join('&', options)}";
    }

    /// <summary>The address of the next related entities of one parent.</summary>
    private string RelatedLink(RelatedPage next, QueryValues values)
    {
        var expand = next.Expand;
        var rootId = Uri.UnescapeDataString(ODataAddresses.Relative.Of(next.Root));
        var related = new RelatedOptions(request, expand, rootId);
        var nested = string.Concat(
            related
                .After(values.ChildRows)
                .Select(o => $"{o.Name}={Uri.EscapeDataString(o.Value)}&")
                .Concat(Address.Options.Where(o => o.Name.StartsWith('@')).Select(o => o.Raw + "&"))
        );
        var token = new PagePosition(OrderPrint.Of(expand.Target, related.OrderText), next.Position).Write();
        return $"{serviceRoot}{ODataAddresses.Relative.Of(next.Parent)}/{Uri.EscapeDataString(expand.Navigation.Name)}"
            + $"{(expand.Kind == ExpandKind.References ? "/$ref" : "")}?{nested}$skiptoken={token}";
    }

    /// <summary>A literal as its text in an address, percent-encoded where it must be.</summary>
    public static string Text(Literal literal) =>
        literal.Value switch
        {
            string text => $"'{Uri.EscapeDataString(text.Replace("'", "''", StringComparison.Ordinal))}'",
            EnumLiteral member => Uri.EscapeDataString($"{member.Type}'{member.Member}'"),
            var value => Uri.EscapeDataString(ValueConversion.Text(value)),
        };

    private static string Name(AddressOption option) => option.Name.TrimStart('$').ToLowerInvariant();
}
