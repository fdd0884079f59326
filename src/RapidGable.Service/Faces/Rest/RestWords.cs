using System.Collections.Immutable;
using System.Text.RegularExpressions;
using RapidGable.Expressions;
using RapidGable.Requests.Rest;

namespace RapidGable.Service.Faces.Rest;

/// <summary>Faults in the words of the plain REST face: its parameters, and its choice of statuses.</summary>
internal static partial class RestWords
{
    private static readonly ImmutableDictionary<string, string> Parameters = new Dictionary<string, string>
    {
        ["$filter"] = RestParameters.Filter,
        ["$orderby"] = RestParameters.Sort,
        ["$select"] = RestParameters.Fields,
        ["$expand"] = RestParameters.Include,
        ["$search"] = RestParameters.Search,
        ["$top"] = RestParameters.Rows,
        ["$skip"] = RestParameters.Rows,
        ["$skiptoken"] = RestParameters.After,
        ["$count"] = RestParameters.Total,
        ["$format"] = RestParameters.Format,
        ["maxpagesize"] = RestParameters.Limit,
    }.ToImmutableDictionary();

    private static readonly ImmutableDictionary<string, string> Types = new Dictionary<string, string>
    {
        ["String"] = "text",
        ["Guid"] = "uuid",
        ["TimeOfDay"] = "time",
        ["DateTimeOffset"] = "date-time",
        ["Binary"] = "base64url",
        ["Single"] = "float",
    }.ToImmutableDictionary();

    /// <summary>What only bodies of OData know.</summary>
    private const string OtherNumbers = "; texts are taken with IEEE754Compatible=true in the Content-Type";

    /// <summary>A fault of an address or of headers.</summary>
    public static RequestFault Of(RequestFault fault) =>
        fault with
        {
            Message = Type()
                .Replace(
                    Option()
                        .Replace(fault.Message.Replace(OtherNumbers, "", StringComparison.Ordinal), m =>
                            Parameters.GetValueOrDefault(m.Value, m.Value)
                        ),
                    m => Types.GetValueOrDefault(m.Groups[1].Value, m.Groups[1].Value.ToLowerInvariant())
                ),
            Target = fault.Target is { } target ? Parameters.GetValueOrDefault(target, target) : null,
            Code = fault.Code switch
            {
                "skiptoken" => "after",
                "option-not-here" => "parameter-not-here",
                var code => code,
            },
            Details = [.. fault.Details.Select(Of)],
        };

    /// <summary>
    /// A fault of a change: a body that can be read and whose content is wrong is 422, and so is an id of a repeatable request that
    /// another one has.
    /// </summary>
    public static RequestFault OfChange(RequestFault fault)
    {
        var words = Of(fault);
        return words.Status == 400 && words.Code is not ("body" or "key" or "parameter" or "path-syntax" or "etag")
            ? words with
            {
                Status = 422,
                Details = [.. words.Details.Select(d => d with { Status = d.Status == 400 ? 422 : d.Status })],
            }
            : words;
    }

    [GeneratedRegex(@"\bEdm\.(\w+)")]
    private static partial Regex Type();

    [GeneratedRegex(@"\$(filter|orderby|select|expand|search|top|skiptoken|skip|count|format)\b|\bmaxpagesize\b")]
    private static partial Regex Option();
}
