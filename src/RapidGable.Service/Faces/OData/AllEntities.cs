using System.Buffers.Text;
using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using Microsoft.AspNetCore.Http;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Service.Faces.OData;

/// <summary>
/// <c>$all</c> (URL conventions 4.16): the entities of all sets that the caller may read, set by set in the order of the service
/// document, and
/// <c>$all/Type</c>, those of one type. Each set is asked by a request of its own, so that every rule of the set holds here too.
/// </summary>
/// <param name="isRead">The method, or what stands for it, reads.</param>
internal sealed class AllEntities(ODataExchange exchange, ODataFace face, bool isRead)
{
    private static readonly string[] Known = ["$top", "$skip", "$count", "$search", "$format", "$skiptoken"];

    private readonly List<string> _search = [];
    private long? _top;
    private long _skip;
    private bool _counts;
    private int _most;
    private Position _start = new("", null, 0);

    /// <summary>Where a page starts.</summary>
    /// <param name="Path">Of the set; empty = the first one.</param>
    /// <param name="Token">The set's own position; null = its start.</param>
    /// <param name="Before">Entities on the pages before.</param>
    private sealed record Position(string Path, string? Token, long Before);

    public static bool Is(string path) => path == "$all" || path.StartsWith("$all/", StringComparison.Ordinal);

    public async Task<RequestFault?> AnswerAsync(RequestAddress address)
    {
        var method = exchange.Request.Method;
        if (!isRead)
            return FacePipeline.Refused(exchange, "GET, HEAD, OPTIONS", $"{method} is not allowed here; this resource can be read only.");
        if (
            !Read(address).Is(out var format, out var fault)
            || !Negotiation
                .Content(BodyKind.Json, exchange.Version, exchange.Request.Headers.Accept, format.Length > 0 ? format : null, "")
                .Is(out var negotiated, out fault)
            || !Paths(address).Is(out var paths, out fault)
        )
            return fault;
        var first = _start.Path.Length == 0 ? 0 : paths.IndexOf(_start.Path);
        if (first < 0)
            return RequestFault.GonePosition;
        var most = Math.Min(
            exchange.Preferences.MaxPageSize ?? _top ?? exchange.Service.Model.Limits.Page,
            Math.Min(_most, exchange.Service.Model.Limits.LargestPage)
        );
        if (exchange.Preferences.MaxPageSize is not null)
            exchange.Preferences.Apply("maxpagesize");
        var rows = (int)Math.Min(most, (_top ?? long.MaxValue) - _start.Before);
        if (!(await PageAsync(paths, first, rows)).Is(out var page, out fault))
            return fault;
        long? count = null;
        if (_counts)
        {
            count = 0;
            foreach (var path in paths)
            {
                var (own, wrong) = await CountAsync(path);
                if (wrong is not null)
                    return wrong;
                count += own;
            }
        }
        if (exchange.Preferences.Applied is { } applied)
            exchange.Response.Headers["Preference-Applied"] = applied;
        await Bodies.SendAsync(exchange.Context, negotiated.ContentType, Write(address, negotiated.Format, page, count));
        return null;
    }

    /// <summary>Reads the options; gives <c>$format</c>, empty when it is not there.</summary>
    private Result<string> Read(RequestAddress address)
    {
        var (format, seen) = ("", new HashSet<string>());
        foreach (var option in address.Options)
        {
            if (!LexedRequest.CanonicalOption(option.Name).Is(out var name, out var unknown))
                return unknown;
            if (name.StartsWith('@'))
                continue;
            if (!Known.Contains(name))
                return RequestFault.NotImplemented($"{name} on entities of all types is not supported; ask a set for it.", name);
            if (!seen.Add(name))
                return new RequestFault(400, "option-twice", $"The query option {name} is given twice.", name);
            switch (name)
            {
                case "$top" or "$skip":
                    if (!long.TryParse(option.Value, NumberStyles.None, CultureInfo.InvariantCulture, out var number))
                        return new RequestFault(
                            400,
                            "number",
                            $"{name} needs a whole number of at least 0, not '{option.Value}'.",
                            name,
                            option.Value,
                            0
                        );
                    (_top, _skip) = name == "$top" ? (number, _skip) : (_top, number);
                    break;
                case "$count":
                    if (option.Value is not ("true" or "false"))
                        return new RequestFault(400, "syntax", $"$count is true or false, not '{option.Value}'.", name, option.Value, 0);
                    _counts = option.Value == "true";
                    break;
                case "$search":
                    _search.Add(option.Raw);
                    break;
                case "$format":
                    format = option.Value;
                    break;
                default:
                    if (
                        PagePosition.Reading(option.Value, i =>
                            i is [var path, var token, var before]
                                ? new Position(path.GetString()!, token.GetString(), before.GetInt64())
                                : null
                        )
                        is not { } position
                    )
                        return RequestFault.ForeignPosition;
                    _start = position;
                    break;
            }
        }
        return seen.Contains("$skip") && seen.Contains("$skiptoken")
            ? new RequestFault(400, "skiptoken", "$skip and $skiptoken exclude each other. Follow the next link as it is.", "$skip")
            : format;
    }

    /// <summary>The addresses of the sets, or of the parts of them that hold entities of the type in the path.</summary>
    private Result<List<string>> Paths(RequestAddress address)
    {
        var model = exchange.Service.ModelFor(exchange.Caller);
        var sets = model
            .Sets.Where(s => s is { ContainedIn: null, IsFunction: false } && (_search.Count > 0 ? s.IsSearchable : !s.RequiresFilter))
            .ToList();
        // A page holds entities of several sets, so the smallest limit among them holds.
        _most = sets.SelectMany(s => new[] { s.LargestPage, s.LargestCost }).OfType<int>().DefaultIfEmpty(model.Limits.LargestPage).Min();
        if (address.Segments.Length == 1)
            return sets.ConvertAll(s => Uri.EscapeDataString(s.Name));
        if (address.Segments.Length > 2)
            return RequestFault.NotFound($"Nothing follows $all/{address.Segments[1].Text}.", "path");
        var type = address.Segments[1].Text;
        var paths = sets.Where(s => model.QualifiedName(s.Type) == type)
            .Select(s => Uri.EscapeDataString(s.Name))
            .Concat(
                sets.Where(s => s.Type.Derived.Any(d => $"{model.Namespace}.{d.Name}" == type))
                    .Select(s => $"{Uri.EscapeDataString(s.Name)}/{Uri.EscapeDataString(type)}")
            )
            .ToList();
        return paths.Count > 0
            ? paths
            : RequestFault.NotFound(
                $"There is no entity type '{type}'.{NearestName.Hint(type, sets.Select(s => model.QualifiedName(s.Type)))}",
                "path"
            );
    }

    /// <param name="Entities">Each with the address of its set.</param>
    /// <param name="Next">Where the next page starts; null = there is none.</param>
    private sealed record Page(List<(string Path, JsonElement Entity)> Entities, Position? Next);

    private async Task<Result<Page>> PageAsync(List<string> paths, int first, int rows)
    {
        var entities = new List<(string, JsonElement)>();
        var (token, skip) = (_start.Token, _skip);
        for (var i = first; i < paths.Count; i++)
        {
            if (skip > 0)
            {
                var (own, wrong) = await CountAsync(paths[i]);
                if (wrong is not null)
                    return wrong;
                if (own <= skip)
                {
                    skip -= own;
                    continue;
                }
            }
            while (true)
            {
                if (entities.Count >= rows)
                {
                    var before = _start.Before + entities.Count;
                    return new Page(entities, before >= _top ? null : new Position(paths[i], token, before));
                }
                IEnumerable<string> options =
                [
                    .. _search,
                    .. skip > 0 ? [$"$skip={skip}"] : Array.Empty<string>(),
                    .. token is null ? Array.Empty<string>() : [$"$skiptoken={token}"],
                ];
                if (!(await AskAsync($"{paths[i]}?{string.Join('&', options)}", rows - entities.Count)).Is(out var answer, out var fault))
                    return fault;
                entities.AddRange(answer.RootElement.GetProperty("value").EnumerateArray().Select(e => (paths[i], e)));
                (skip, token) = (0, Next(answer.RootElement));
                if (token is null)
                    break;
            }
        }
        return new Page(entities, null);
    }

    private static string? Next(JsonElement answer)
    {
        if (
            answer.EnumerateObject().FirstOrDefault(p => p.Name is "@odata.nextLink" or "@nextLink")
            is not { Value: { ValueKind: JsonValueKind.String } link }
        )
            return null;
        var text = link.GetString()!;
        return text[(text.IndexOf("$skiptoken=", StringComparison.Ordinal) + "$skiptoken=".Length)..];
    }

    private async Task<(long Count, RequestFault? Fault)> CountAsync(string path)
    {
        var answer = await RunAsync($"{path}/$count?{string.Join('&', _search)}", []);
        return answer.IsSuccess
            ? (long.Parse(Encoding.UTF8.GetString(answer.Body), CultureInfo.InvariantCulture), null)
            : (0, Fault(answer));
    }

    private async Task<Result<JsonDocument>> AskAsync(string target, int rows)
    {
        var accept = exchange.Request.Headers.Accept.ToString();
        var answer = await RunAsync(
            target,
            [("Prefer", $"maxpagesize={rows}"), .. accept.Length > 0 ? [("Accept", accept)] : Array.Empty<(string, string)>()]
        );
        return answer.IsSuccess ? JsonDocument.Parse(answer.Body) : Fault(answer);
    }

    private Task<InnerResponse> RunAsync(string target, IEnumerable<(string, string)> headers)
    {
        var version = exchange.Request.Headers["OData-MaxVersion"].ToString();
        return InnerExchange.RunAsync(
            exchange.Context,
            exchange.Caller,
            new InnerRequest(
                "GET",
                new Uri(exchange.Root).AbsolutePath + target,
                [.. headers, .. version.Length > 0 ? [("OData-MaxVersion", version)] : Array.Empty<(string, string)>()],
                []
            ),
            face,
            face.Pipeline,
            exchange.Allowance,
            exchange.Cancellation,
            InnerExchange.UnitOf(exchange.Context)
        );
    }

    /// <summary>The error that a set answered with, as this answer's own.</summary>
    private static RequestFault Fault(InnerResponse answer)
    {
        using var json = JsonDocument.Parse(answer.Body);
        var error = json.RootElement.GetProperty("error");
        return new RequestFault(answer.Status, error.GetProperty("code").GetString()!, error.GetProperty("message").GetString()!);
    }

    /// <summary>The page; every entity says by a context of its own where it belongs (JSON format 4.6.1).</summary>
    private byte[] Write(RequestAddress address, PayloadFormat format, Page page, long? count)
    {
        var type = address.Segments.Length > 1 ? address.Segments[1].Text : "Edm.EntityType";
        using var stream = new MemoryStream();
        using (
            var json = new Utf8JsonWriter(
                stream,
                new JsonWriterOptions { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping, SkipValidation = true }
            )
        )
        {
            json.WriteStartObject();
            if (format.HasContext)
                json.WriteString(format.Control("context"), $"{exchange.Root}$metadata#Collection({type})");
            if (count is { } all && format.Ieee754Compatible)
                json.WriteString(format.Control("count"), all.ToString(CultureInfo.InvariantCulture));
            else if (count is { } number)
                json.WriteNumber(format.Control("count"), number);
            json.WriteStartArray("value");
            foreach (var (path, entity) in page.Entities)
            {
                json.WriteStartObject();
                if (format.HasContext)
                    json.WriteString(format.Control("context"), $"{exchange.Root}$metadata#{path}/$entity");
                foreach (var member in entity.EnumerateObject())
                    member.WriteTo(json);
                json.WriteEndObject();
            }
            json.WriteEndArray();
            if (page.Next is { } next)
            {
                var options = address
                    .Options.Where(o => o.Name.TrimStart('$').ToLowerInvariant() is not ("skip" or "skiptoken"))
                    .Select(o => o.Raw);
                json.WriteString(
                    format.Control("nextLink"),
                    $"{exchange.Root}{address.RawPath}?{string.Join('&', options.Append("$skiptoken=" + Token(next)))}"
                );
            }
            json.WriteEndObject();
        }
        return stream.ToArray();
    }

    private static string Token(Position position) =>
        Base64Url.EncodeToString(JsonSerializer.SerializeToUtf8Bytes(new object?[] { position.Path, position.Token, position.Before }));
}
