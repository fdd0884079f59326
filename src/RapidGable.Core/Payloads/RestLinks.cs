using System.Globalization;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.Rest;

namespace RapidGable.Payloads;

/// <summary>Links of the plain REST face: the request's own address from another position on.</summary>
/// <param name="serviceRoot">Absolute, with a slash at its end.</param>
/// <param name="request">The answered request, whose parameters go on in links.</param>
public sealed class RestLinks(string serviceRoot, RestRequest request, RestPaths paths) : ILinks
{
    private readonly RestAddresses _addresses = new(paths, _ => null);

    public string Of(Continuation continuation, QueryValues values) =>
        continuation switch
        {
            NextPage next => Next(values, next),
            RelatedPage related => Related(related),
            _ => throw new ArgumentOutOfRangeException(nameof(continuation)),
        };

    /// <summary>The address of the first page.</summary>
    public string First() => Own([.. Kept(RestParameters.After)]);

    private string Next(QueryValues values, NextPage next)
    {
        var parameters = Kept(RestParameters.After, RestParameters.Rows).ToList();
        if (values.Top is { } top)
            parameters.Add($"{RestParameters.Rows}=1..{(top - values.PageRows).ToString(CultureInfo.InvariantCulture)}");
        parameters.Add($"{RestParameters.After}={new PagePosition(values.Order, next.Position).Write()}");
        return Own(parameters);
    }

    private string Related(RelatedPage next)
    {
        var expand = next.Expand;
        var fields = Fields(expand, "").ToList();
        var include = Included(expand, "").ToList();
        var parameters = new List<string>();
        if (fields.Count > 0)
            parameters.Add($"{RestParameters.Fields}={Uri.EscapeDataString(string.Join(',', fields))}");
        if (include.Count > 0)
            parameters.Add($"{RestParameters.Include}={Uri.EscapeDataString(string.Join(',', include))}");
        parameters.AddRange(request.Address.Options.Where(o => o.Name == RestParameters.Format).Select(o => o.Raw));
        var position = new PagePosition(OrderPrint.Of(expand.Target, ""), next.Position).Write();
        parameters.Add($"{RestParameters.After}={position}");
        return $"{serviceRoot}{_addresses.Of(next.Parent)}/{_addresses.Segment(expand.Navigation.Name)}?{string.Join('&', parameters)}";
    }

    private static IEnumerable<string> Fields(BoundExpand expand, string before) =>
        (expand.Select.IsPartial ? expand.Select.Paths : [])
            .Select(p => before + p)
            .Concat(expand.Expand.SelectMany(e => Fields(e, $"{before}{e.Navigation.Name}/")));

    private static IEnumerable<string> Included(BoundExpand expand, string before) =>
        expand.Expand.SelectMany(e => Included(e, $"{before}{e.Navigation.Name}/").Prepend(before + e.Navigation.Name));

    private IEnumerable<string> Kept(params string[] without) =>
        request.Address.Options.Where(o => !without.Contains(o.Name)).Select(o => o.Raw);

    private string Own(List<string> parameters) =>
        serviceRoot + request.Address.RawPath + (parameters.Count == 0 ? "" : "?" + string.Join('&', parameters));
}
