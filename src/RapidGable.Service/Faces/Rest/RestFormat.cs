using System.Collections.Immutable;
using Microsoft.Extensions.Primitives;
using Microsoft.Net.Http.Headers;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Flat;
using RapidGable.Payloads.Json;
using RapidGable.Payloads.Xml;
using RapidGable.Queries;

namespace RapidGable.Service.Faces.Rest;

/// <summary>The formats of the plain REST face.</summary>
internal enum RestFormatKind
{
    Json,
    JsonLines,
    Csv,
    Xml,
    Xlsx,
}

/// <summary>The format that an answer has.</summary>
/// <param name="ContentType">Its media type, with the parameters that it states.</param>
internal sealed record RestFormat(RestFormatKind Kind, string ContentType)
{
    public CsvForm Csv { get; init; } = CsvForm.Usual;

    /// <summary>Properties without a value are left out of JSON.</summary>
    public bool OmitsNulls { get; init; }

    private static readonly ImmutableArray<(RestFormatKind Kind, string Name, string[] Types)> All =
    [
        (RestFormatKind.Json, "json", ["application/json"]),
        (RestFormatKind.JsonLines, "jsonl", [JsonLinesWriter.MediaType, "application/jsonl"]),
        (RestFormatKind.Csv, "csv", [CsvWriter.MediaType]),
        (RestFormatKind.Xml, "xml", [RowsXmlWriter.MediaType, "text/xml"]),
        (RestFormatKind.Xlsx, "xlsx", [XlsxWriter.MediaType]),
    ];

    /// <summary>The short names of all formats.</summary>
    public static IEnumerable<string> Names => All.Select(f => f.Name);

    /// <summary>The media types of all formats, the usual one of each.</summary>
    public static IEnumerable<(string Name, string MediaType)> MediaTypes => All.Select(f => (f.Name, f.Types[0]));

    /// <summary>The end of a file's name; null = it is shown and not stored.</summary>
    public string? FileEnding =>
        Kind switch
        {
            RestFormatKind.Csv => ".csv",
            RestFormatKind.Xlsx => ".xlsx",
            _ => null,
        };

    /// <summary>The writer of an answer in this format.</summary>
    public IListWriter WriterFor(PreparedRequest prepared, bool hasBareLists) =>
        Kind switch
        {
            RestFormatKind.Json => PlainJsonWriter.For(prepared, hasBareLists ? PlainJsonLayout.Array : PlainJsonLayout.Object, OmitsNulls),
            RestFormatKind.JsonLines => PlainJsonWriter.For(prepared, PlainJsonLayout.Lines, OmitsNulls),
            RestFormatKind.Csv => CsvWriter.For(prepared, Csv),
            RestFormatKind.Xml => RowsXmlWriter.For(prepared),
            _ => XlsxWriter.For(prepared),
        };

    /// <summary>The format that a request asks for.</summary>
    /// <param name="parameter">The value of the parameter, which beats the header; null = not given.</param>
    /// <param name="usual">The short name of the format when any will do.</param>
    public static Result<RestFormat> Of(string? parameter, StringValues accept, string usual)
    {
        if (parameter is not null)
        {
            var text = All.FirstOrDefault(f => f.Name == parameter) is { Types: { } types } ? types[0] : parameter;
            return MediaTypeHeaderValue.TryParse(text, out var type) && Offer(type) is { } format
                ? format
                : new RequestFault(
                    400,
                    "format",
                    $"'{parameter}' is none of the formats {string.Join(", ", Names)}, nor the media type of one with parameters that it "
                        + $"has.{NearestName.Hint(parameter, Names)}",
                    "format"
                );
        }
        var standard = Offer(MediaTypeHeaderValue.Parse(All.First(f => f.Name == usual).Types[0]))!;
        if (StringValues.IsNullOrEmpty(accept))
            return standard;
        if (!MediaTypeHeaderValue.TryParseList([.. accept.OfType<string>()], out var wanted))
            return new RequestFault(400, "accept", "The Accept header cannot be read.", "Accept");
        // A browser that shows pages takes whatever comes.
        if (wanted.Any(w => w.MediaType.Equals("text/html", StringComparison.OrdinalIgnoreCase)))
            return standard;
        foreach (var item in wanted.Where(w => w.Quality is null or > 0).OrderByDescending(w => w.Quality ?? 1))
        {
            var ruledOut = wanted
                .Where(w => w.Quality == 0)
                .Select(w => w.MediaType.ToString())
                .ToHashSet(StringComparer.OrdinalIgnoreCase);
            var offers =
                item.MatchesAllTypes || item.MatchesAllSubTypes
                    ? new[] { standard }
                        .Concat(All.Select(f => Offer(MediaTypeHeaderValue.Parse(f.Types[0]))!))
                        .Where(f => item.MatchesAllTypes || IsOfType(f, item))
                        .Where(f => !ruledOut.Contains(f.ContentType.Split(';')[0]))
                    : new[] { Offer(item) }.OfType<RestFormat>();
            if (offers.FirstOrDefault() is { } format)
                return format;
        }
        return new RequestFault(
            406,
            "not-acceptable",
            $"This is available as {string.Join(", ", All.Select(f => f.Types[0]))}, and the request accepts nothing of that.",
            "Accept"
        );
    }

    private static bool IsOfType(RestFormat format, MediaTypeHeaderValue range) =>
        format.ContentType.StartsWith(range.Type + "/", StringComparison.OrdinalIgnoreCase);

    private static RestFormat? Offer(MediaTypeHeaderValue type)
    {
        var name = type.MediaType.ToString().ToLowerInvariant();
        if (All.FirstOrDefault(f => f.Types.Contains(name)) is not { Types: not null } known)
            return null;
        if (known.Kind == RestFormatKind.Csv)
            return CsvMediaType.Read(type) is { } csv ? new RestFormat(known.Kind, csv.ContentType) { Csv = csv.Form } : null;
        foreach (var parameter in type.Parameters)
        {
            var isKnown =
                parameter.Name.Equals("q", StringComparison.OrdinalIgnoreCase)
                || (parameter.Name.Equals("charset", StringComparison.OrdinalIgnoreCase) && CsvMediaType.IsUtf8(parameter.Value));
            if (!isKnown)
                return null;
        }
        return new RestFormat(known.Kind, name);
    }
}
