using System.Collections.Frozen;
using System.Globalization;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Primitives;
using Microsoft.Net.Http.Headers;
using RapidGable.Expressions;
using RapidGable.Payloads;
using RapidGable.Payloads.Flat;
using RapidGable.Payloads.Json;

namespace RapidGable.Service.Faces.OData;

/// <summary>What kind of body the addressed resource has.</summary>
internal enum BodyKind
{
    Json,

    /// <summary>JSON, JSON Lines and CSV.</summary>
    List,
    MetadataXml,
    Raw,
}

/// <summary>What the headers of a request ask for (Protocol 8.2, JSON format 3).</summary>
/// <param name="ContentType">Media type of the answer, with the parameters that it must state.</param>
internal sealed record Negotiated(PayloadFormat Format, string ContentType)
{
    /// <summary>The list is JSON Lines, and not one JSON document.</summary>
    public bool IsLines { get; init; }

    /// <summary>The list is CSV, and not JSON; null = it is JSON.</summary>
    public CsvForm? Csv { get; init; }
}

internal static class Negotiation
{
    /// <summary>What nearly every request gets: JSON as it comes.</summary>
    private static readonly FrozenDictionary<ODataVersion, Negotiated> Usual = new[]
    {
        ODataVersion.V40,
        ODataVersion.V401,
    }.ToFrozenDictionary(v => v, v => Json(v, null)!);

    /// <summary>
    /// The version of the answer. A caller that names none gets 4.0, whose names every tool in the field reads; one that
    /// names a higher version than we know gets 4.01.
    /// </summary>
    public static bool TryVersion(IHeaderDictionary headers, out ODataVersion version, out RequestFault? fault)
    {
        version = ODataVersion.V40;
        fault = null;
        var text = headers["OData-MaxVersion"].ToString().Trim();
        if (text.Length == 0)
            return true;
        if (!decimal.TryParse(text, NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var number) || number < 4)
        {
            fault = new RequestFault(
                400,
                "version",
                $"OData-MaxVersion '{text}' cannot be honoured; this service answers in 4.0 and 4.01.",
                "OData-MaxVersion"
            );
            return false;
        }
        version = number < 4.01m ? ODataVersion.V40 : ODataVersion.V401;
        return true;
    }

    /// <param name="format">Value of <c>$format</c>, which beats <paramref name="accept"/>; null = not given.</param>
    /// <param name="rawType">Media type of a raw value.</param>
    public static Result<Negotiated> Content(BodyKind kind, ODataVersion version, StringValues accept, string? format, string rawType)
    {
        IReadOnlyList<MediaTypeHeaderValue> wanted;
        if (format is not null)
        {
            var expanded = format.Trim() switch
            {
                "json" => "application/json",
                "jsonl" => JsonLinesWriter.MediaType,
                "csv" => CsvWriter.MediaType,
                "xml" => "application/xml",
                "atom" => "application/atom+xml",
                var other => other,
            };
            if (!MediaTypeHeaderValue.TryParse(expanded, out var single) || single.MediaType.Value?.Contains('/') != true)
                return new RequestFault(
                    400,
                    "format",
                    $"'{format}' is not a media type, nor json, jsonl, csv or xml. Parameters follow a full media type: "
                        + $"application/json;metadata=none.",
                    "$format"
                );
            wanted = [single];
        }
        else if (StringValues.IsNullOrEmpty(accept))
            wanted = [];
        else if (MediaTypeHeaderValue.TryParseList([.. accept.OfType<string>()], out var list))
            wanted = list.OrderByDescending(a => a.Quality ?? 1).ThenByDescending(Specificity).ToList();
        else
            return new RequestFault(400, "accept", "The Accept header cannot be read.", "Accept");

        if (wanted.Count == 0)
            return kind is BodyKind.Json or BodyKind.List ? Usual[version] : Offer(kind, version, null, rawType)!;
        foreach (var item in wanted.Where(w => w.Quality is null or > 0))
        {
            if (
                IsRefused(
                    wanted,
                    item,
                    kind switch
                    {
                        BodyKind.Json or BodyKind.List => "application/json",
                        BodyKind.MetadataXml => "application/xml",
                        _ => rawType,
                    }
                )
            )
                continue;
            if (Offer(kind, version, item, rawType) is { } offer)
                return offer;
        }
        var what = kind switch
        {
            BodyKind.List => $"application/json with metadata=minimal, full or none, {JsonLinesWriter.MediaType} and {CsvWriter.MediaType}",
            BodyKind.Json => "application/json with metadata=minimal, full or none",
            BodyKind.MetadataXml => "application/xml and application/json",
            _ => rawType,
        };
        return new RequestFault(
            406,
            "not-acceptable",
            $"This resource is available as {what}, and the request accepts nothing of that.",
            format is null ? "Accept" : "$format"
        );
    }

    private static int Specificity(MediaTypeHeaderValue type) =>
        (
            type.MatchesAllTypes ? 0
            : type.MatchesAllSubTypes ? 100
            : 200
        ) + type.Parameters.Count(p => !p.Name.Equals("q", StringComparison.OrdinalIgnoreCase));

    /// <summary>A wildcard does not bring back what another entry rules out with q=0.</summary>
    private static bool IsRefused(IReadOnlyList<MediaTypeHeaderValue> wanted, MediaTypeHeaderValue item, string type) =>
        (item.MatchesAllTypes || item.MatchesAllSubTypes)
        && wanted.Any(w => w.Quality == 0 && w.MediaType.Equals(type, StringComparison.OrdinalIgnoreCase));

    private static Negotiated? Offer(BodyKind kind, ODataVersion version, MediaTypeHeaderValue? asked, string rawType) =>
        kind switch
        {
            BodyKind.Json => Json(version, asked),
            BodyKind.List => Json(version, asked) ?? Lines(version, asked!) ?? Csv(version, asked!),
            BodyKind.MetadataXml => Plain(version, asked, "application/xml")
                ?? Plain(version, asked, "application/json")
                ?? Document(version, asked),
            _ => Plain(version, asked, rawType),
        };

    /// <summary>
    /// The metadata document for a client that asks for everything as JSON with control information: there is none in a document, so the
    /// client means its payloads. In 4.0 the document is XML, which JSON documents came after.
    /// </summary>
    private static Negotiated? Document(ODataVersion version, MediaTypeHeaderValue? asked) =>
        Json(version, asked) is null
            ? null
            : new Negotiated(
                new PayloadFormat(version, MetadataLevel.Minimal, false),
                version == ODataVersion.V40 ? "application/xml" : "application/json"
            );

    /// <summary>JSON Lines; a wildcard means JSON.</summary>
    private static Negotiated? Lines(ODataVersion version, MediaTypeHeaderValue asked)
    {
        if (!asked.MediaType.Equals(JsonLinesWriter.MediaType, StringComparison.OrdinalIgnoreCase))
            return null;
        var (ieee, charset) = (false, "");
        foreach (var parameter in asked.Parameters)
        {
            var value = parameter.Value.ToString().Trim('"').ToLowerInvariant();
            switch (parameter.Name.ToString().ToLowerInvariant())
            {
                case "q":
                    break;
                case "ieee754compatible" when value is "true" or "false":
                    ieee = value == "true";
                    break;
                case "charset" when IsUtf8(value):
                    charset = ";charset=utf-8";
                    break;
                default:
                    return null;
            }
        }
        var type = JsonLinesWriter.MediaType + (ieee ? ";IEEE754Compatible=true" : "") + charset;
        return new Negotiated(new PayloadFormat(version, MetadataLevel.None, ieee), type) { IsLines = true };
    }

    private static Negotiated? Csv(ODataVersion version, MediaTypeHeaderValue asked) =>
        CsvMediaType.Read(asked) is { } csv
            ? new Negotiated(new PayloadFormat(version, MetadataLevel.None, false), csv.ContentType) { Csv = csv.Form }
            : null;

    private static Negotiated? Plain(ODataVersion version, MediaTypeHeaderValue? asked, string type)
    {
        if (asked is not null && !Covers(asked, type))
            return null;
        var charset = "";
        foreach (var parameter in asked?.Parameters ?? [])
        {
            if (parameter.Name.Equals("charset", StringComparison.OrdinalIgnoreCase) && IsUtf8(parameter.Value))
                charset = ";charset=utf-8";
            else if (!parameter.Name.Equals("q", StringComparison.OrdinalIgnoreCase))
                return null;
        }
        return new Negotiated(new PayloadFormat(version, MetadataLevel.Minimal, false), type + charset);
    }

    private static Negotiated? Json(ODataVersion version, MediaTypeHeaderValue? asked)
    {
        if (asked is not null && !Covers(asked, "application/json"))
            return null;
        var (level, ieee, rest) = (MetadataLevel.Minimal, false, "");
        foreach (var parameter in asked?.Parameters ?? [])
        {
            var value = parameter.Value.ToString().Trim('"').ToLowerInvariant();
            switch (parameter.Name.ToString().ToLowerInvariant(), value)
            {
                case
                ("q", _)
                or
                ("odata.streaming" or "streaming" or "exponentialdecimals", "true" or "false")
                or ("ieee754compatible", "false"):
                    break;
                case ("odata.metadata" or "metadata", "minimal"):
                    break;
                // The words of versions 1 to 3; what they mean is told by the body, which is of version 4.
                case ("odata", "minimalmetadata" or "light" or "verbose"):
                    break;
                case ("odata.metadata" or "metadata", "none") or ("odata", "nometadata"):
                    level = MetadataLevel.None;
                    break;
                case ("odata.metadata" or "metadata", "full") or ("odata", "fullmetadata"):
                    level = MetadataLevel.Full;
                    break;
                case ("ieee754compatible", "true"):
                    ieee = true;
                    break;
                case ("charset", _) when IsUtf8(value):
                    rest = ";charset=utf-8";
                    break;
                default:
                    return null;
            }
        }
        var prefix = version == ODataVersion.V40 ? "odata." : "";
        var type =
            $"application/json;{prefix}metadata={level.ToString().ToLowerInvariant()}{(ieee ? ";IEEE754Compatible=true" : "")}{rest}";
        return new Negotiated(new PayloadFormat(version, level, ieee), type);
    }

    private static bool IsUtf8(StringSegment value) => value.ToString().Trim('"').ToLowerInvariant() is "utf-8" or "utf8";

    private static bool Covers(MediaTypeHeaderValue asked, string type) =>
        asked.MatchesAllTypes
        || asked.MediaType.Equals(type, StringComparison.OrdinalIgnoreCase)
        || (asked.MatchesAllSubTypes && type.StartsWith(asked.Type.ToString() + "/", StringComparison.OrdinalIgnoreCase));
}
