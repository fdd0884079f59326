using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Metadata.OpenApi;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Requests;
using RapidGable.Requests.OData;
using RapidGable.Service.Auditing;
using RapidGable.UseCases;

namespace RapidGable.Service.Faces.OData;

/// <summary>The OData 4.0 and 4.01 face: <c>/odata/{service}/…</c>.</summary>
internal sealed class ODataFace(
    FacePipeline pipeline,
    AuditLog audit,
    StatusMonitors monitors,
    OpenApiDescriptions descriptions,
    IRepeatedAnswerStore repeats,
    ChangeEnvironment changes,
    TimeProvider time
) : IFace
{
    public string Name => "odata";

    public FaceRoute? Route(string path) => FaceRoute.Of(path, FaceTable.OData);

    public string RootOf(PublishedService service) =>
        service.Model.VersionOf is { } version
            ? $"{FaceTable.OData}{version.Service}/{version.Segment}/"
            : $"{FaceTable.OData}{service.Model.Service}/";

    public string PathOf(PublishedService service, EntitySet set) => SampleCall.Template(set);

    public IReadOnlyList<(string Path, string MediaType)> Descriptions { get; } =
    [("$metadata", "application/xml"), ("openapi.json", OpenApiDescriptions.MediaType)];

    public Result<SpelledRead> Spell(PublishedService service, string path, string query) => SpelledRead.OData(path, query);

    public FacePipeline Pipeline => pipeline;

    /// <summary>What changes need from outside.</summary>
    public ChangeEnvironment Changes => changes;

    /// <summary>The instant of what begins now, in UTC.</summary>
    public DateTime Now => time.GetUtcNow().UtcDateTime;

    public Task HandleAsync(HttpContext context) => pipeline.HandleAsync(this, context);

    public RequestFault? Greet(HttpContext context)
    {
        var (request, response) = (context.Request, context.Response);
        response.Headers["OData-Version"] = "4.0";
        response.Headers.Vary = "Accept, OData-MaxVersion, Prefer, Authorization" + (pipeline.VariesByOrigin ? ", Origin" : "");
        if (!Negotiation.TryVersion(request.Headers, out var version, out var fault))
            return fault;
        response.Headers["OData-Version"] = version == ODataVersion.V40 ? "4.0" : "4.01";
        if (request.Headers["OData-Version"].ToString().Trim() is { Length: > 0 } own and not ("4.0" or "4.01"))
            return new RequestFault(
                400,
                "version",
                $"The request says OData-Version '{own}', and this service reads 4.0 and 4.01.",
                "OData-Version"
            );
        if (request.Headers.ContainsKey("OData-Isolation") || request.Headers.ContainsKey("Isolation"))
            return new RequestFault(
                412,
                "isolation",
                "Pages from one snapshot are not offered; ask without the isolation header.",
                "OData-Isolation"
            );
        return null;
    }

    public Task WriteFaultAsync(HttpContext context, RequestFault fault) =>
        Bodies.SendAsync(context, "application/json", ErrorJsonWriter.Write(fault));

    /// <summary>The first segment of a path: a set's name, or another resource of the service.</summary>
    public string SetOf(Exchange exchange)
    {
        var path = exchange.Path;
        var end = path.AsSpan().IndexOfAny('/', '(');
        return Uri.UnescapeDataString(end < 0 ? path : path[..end]);
    }

    public bool IsSet(string name) => !name.StartsWith('$') && OpenApiDescriptions.Form(name) is null;

    public bool IsKeptByRules(Exchange exchange) =>
        LexedRequest.Read(exchange.Path, exchange.Query).Is(out var lexed, out _) && exchange.Service.IsKeptByRules(lexed, exchange.Caller);

    public Task<RequestFault?> AnswerAsync(Exchange exchange)
    {
        // What cannot be read of the version has been refused already.
        Negotiation.TryVersion(exchange.Request.Headers, out var version, out _);
        return AnswerAsync(new ODataExchange(exchange, version), exchange.Path, exchange.Query);
    }

    private async Task<RequestFault?> AnswerAsync(ODataExchange exchange, string path, string query)
    {
        // Some clients encode the sign of the resources that are told apart here.
        if (path.Equals("%24batch", StringComparison.OrdinalIgnoreCase))
            path = "$batch";
        else if (path.EndsWith("/%24query", StringComparison.OrdinalIgnoreCase))
            path = path[..^"%24query".Length] + "$query";
        if (path.StartsWith(StatusMonitors.Segment, StringComparison.Ordinal))
            return await monitors.AnswerAsync(exchange, path[StatusMonitors.Segment.Length..]);
        if (exchange.Preferences.RespondAsync && !InnerExchange.Is(exchange.Context))
            return await monitors.StartAsync(exchange, this);
        if (path == "$batch")
            return await BatchRunner.AnswerAsync(exchange, query, this);
        var method = exchange.Request.Method;
        if (OpenApiDescriptions.Form(path) is { } form)
            return HttpMethods.IsGet(method) || HttpMethods.IsHead(method)
                ? await descriptions.SendAsync(exchange, form, ODataOpenApi.WriteAsync)
                : FacePipeline.Refused(exchange, "GET, HEAD, OPTIONS", $"{method} is not allowed here; this is a document.");
        var isRead = HttpMethods.IsGet(method) || HttpMethods.IsHead(method);
        var isQuery = path.EndsWith("/$query", StringComparison.Ordinal);
        if (isQuery && HttpMethods.IsPost(method))
        {
            if (!(await QueryBodyAsync(exchange, query)).Is(out var merged, out var wrong))
                return wrong;
            (path, query, isRead) = (path[..^"/$query".Length], merged, true);
        }
        if (
            !RequestAddress.Read(path, isRead ? query : "").Is(out var address, out var fault)
            || (isRead && !address.ResolveEntityId(exchange.Root).Is(out address, out fault))
        )
            return fault;
        if (AllEntities.Is(path))
            return await new AllEntities(exchange, this, isRead).AnswerAsync(address);
        if (isQuery && !isRead)
            return FacePipeline.Refused(exchange, "POST, OPTIONS", $"{method} is not allowed here; $query takes POST.");
        if (isQuery && address.Segments[^1].Text == "$query")
            return FacePipeline.Refused(exchange, "POST, OPTIONS", "$query takes POST, with the query options as its body.");
        if (!isRead)
        {
            var change = new ODataChange(exchange, repeats, changes, time);
            var refusal = await change.AnswerAsync(path, query, () => pipeline.SignInFirst);
            if (refusal is null && !HttpMethods.IsOptions(method))
                audit.Changed(exchange.Context, exchange.Caller.Name, exchange.Response.StatusCode);
            return refusal;
        }
        if (exchange.Request.Headers.Range.ToString().TrimStart().StartsWith("items", StringComparison.OrdinalIgnoreCase))
            return RequestFault.NotImplemented(
                "Ranges of items are not supported; ask with $top and $skip, and follow the next link.",
                "Range"
            );
        if (
            !LexedRequest.Read(address).Is(out var lexed, out fault)
            || !exchange.Service.Prepare(lexed, exchange.Caller).Is(out var prepared, out fault)
        )
            return fault;
        if (lexed.SchemaVersion is { } schema && schema != "*")
            return RequestFault.NotFound(
                $"There is no schema version '{schema}'; this service has one, which $schemaversion=* asks for.",
                "$schemaversion"
            );
        return await new ODataAnswer(exchange, time).WriteAsync(lexed, prepared);
    }

    /// <summary>The options of a POST to <c>$query</c>: those of the address and those of the body (URL conventions 4.17).</summary>
    private static async Task<Result<string>> QueryBodyAsync(ODataExchange exchange, string query)
    {
        if (
            !MediaTypeHeaderValue.TryParse(exchange.Request.ContentType, out var type)
            || !type.MediaType.Equals("text/plain", StringComparison.OrdinalIgnoreCase)
        )
            return new RequestFault(
                415,
                "content-type",
                "The body of $query is text/plain: the query options as they would stand in the address.",
                "Content-Type"
            );
        if (!(await Bodies.ReadAsync(exchange)).Is(out var body, out var fault))
            return fault;
        if (!System.Text.Unicode.Utf8.IsValid(body))
            return new RequestFault(400, "encoding", "The body of $query is not valid UTF-8.");
        var text = System.Text.Encoding.UTF8.GetString(body).Trim('\r', '\n');
        if (text.Length + query.Length > Model.Limits.UrlLength)
            return new RequestFault(413, "too-large", $"The query is longer than {Model.Limits.UrlLength} characters.");
        return query.Length == 0 ? text
            : text.Length == 0 ? query
            : $"{query}&{text}";
    }
}
