using System.Runtime.CompilerServices;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.WebUtilities;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads.Plain;
using RapidGable.Publishing;
using RapidGable.Requests;
using RapidGable.Requests.Rest;
using RapidGable.Service.Auditing;
using RapidGable.Service.Publishing;
using RapidGable.UseCases;

namespace RapidGable.Service.Faces.Rest;

/// <summary>The plain REST face: <c>/rest/{service}/…</c>, or where a service declares it.</summary>
internal sealed class RestFace(
    FacePipeline pipeline,
    ServiceRegistry registry,
    AuditLog audit,
    RestDocuments documents,
    IRepeatedAnswerStore repeats,
    ChangeEnvironment changes,
    TimeProvider time
) : IFace
{
    private const string Prefix = "/rest/";

    private static readonly string[] Methods = ["GET", "HEAD", "OPTIONS", "POST", "PUT", "PATCH", "DELETE"];

    private readonly ConditionalWeakTable<EntityModel, RestPaths> _paths = [];

    public string Name => "rest";

    public FaceRoute? Route(string path) => RouteOfDeclared(path) ?? FaceRoute.Of(path, Prefix);

    public string RootOf(PublishedService service) =>
        service.Model is { VersionOf: { } version, Faces.Rest.Base: null }
            ? $"{Prefix}{version.Service}/{version.Segment}/"
            : service.Model.Faces.Rest.BaseOf(service.Model.Service);

    public string PathOf(PublishedService service, EntitySet set) => PathsOf(service).Of(set.Name);

    public IReadOnlyList<(string Path, string MediaType)> Descriptions { get; } =
    [(RestDocuments.OpenApiPath, OpenApiDescriptions.MediaType), (RestDocuments.XsdPath, "application/xml")];

    public Result<SpelledRead> Spell(PublishedService service, string path, string query) =>
        SpelledRead.Rest(path, query, PathsOf(service));

    public RequestFault? Greet(HttpContext context)
    {
        var headers = context.Response.Headers;
        headers.Vary = "Accept, Prefer, Authorization" + (pipeline.VariesByOrigin ? ", Origin" : "");
        if (HttpMethods.IsGet(context.Request.Method) || HttpMethods.IsHead(context.Request.Method))
            headers.CacheControl = "no-cache";
        return Methods.Contains(context.Request.Method, StringComparer.OrdinalIgnoreCase)
            ? null
            : new RequestFault(501, "method", $"This service knows no method {context.Request.Method}.");
    }

    public Task WriteFaultAsync(HttpContext context, RequestFault fault)
    {
        var told = RestWords.Of(fault);
        var isOfBody = told.Status is 422 or 409 || told.Code == "body";
        var title = ReasonPhrases.GetReasonPhrase(told.Status);
        return Bodies.SendAsync(context, ProblemWriter.MediaType, ProblemWriter.Write(told, title, isOfBody));
    }

    public string SetOf(Exchange exchange) =>
        RequestAddress.Read(exchange.Path, "").Is(out var address, out _)
            ? PathsOf(exchange.Service).Find(address.Segments).Set.TrimStart('/')
            : "";

    public bool IsSet(string name) => name.Length > 0 && !RestDocuments.Is(name);

    public bool IsKeptByRules(Exchange exchange) =>
        RestRequest.Of(exchange.Path, exchange.Query, PathsOf(exchange.Service)).Is(out var read, out _)
        && exchange.Service.IsKeptByRules(read, exchange.Caller);

    public async Task<RequestFault?> AnswerAsync(Exchange plain)
    {
        var exchange = new RestExchange(plain, PathsOf(plain.Service.ChangeableBy(plain.Caller)));
        var method = exchange.Request.Method;
        var isRead = HttpMethods.IsGet(method) || HttpMethods.IsHead(method);
        if (!RequestAddress.Read(exchange.Path, exchange.Query).Is(out var address, out var fault))
            return fault;
        if (documents.Find(address) is { } document)
            return isRead
                ? await document(exchange, address)
                : FacePipeline.Refused(exchange, "GET, HEAD, OPTIONS", $"{method} is not allowed here; this is a document.");
        if (RestSql.Is(address) && exchange.Service.MaySendSql(exchange.Caller))
            return await new RestSql(exchange, time).AnswerAsync(address);
        if (exchange.Paths.Moved(address.Segments) is { } moved && IsOpen(exchange, moved))
        {
            exchange.Response.Redirect(
                exchange.Root + moved + (exchange.Query.Length > 0 ? "?" + exchange.Query : ""),
                permanent: true,
                preserveMethod: true
            );
            return null;
        }
        if (!isRead)
        {
            var refusal = await new RestChange(exchange, repeats, changes).AnswerAsync(address, () => pipeline.SignInFirst);
            if (refusal is null && !HttpMethods.IsOptions(method))
                audit.Changed(exchange.Context, exchange.Caller.Name, exchange.Response.StatusCode);
            return refusal;
        }
        return
            !RestRequest.Of(address, exchange.Paths).Is(out var read, out fault)
            || !exchange.Service.Prepare(read, exchange.Caller).Is(out var prepared, out fault)
            ? Hinted(fault, exchange, address)
            : await new RestAnswer(exchange, time).WriteAsync(read, prepared);
    }

    /// <summary>A missing set with the path that was probably meant; the same for one that is closed to the caller.</summary>
    private static RequestFault Hinted(RequestFault fault, RestExchange exchange, RequestAddress address)
    {
        var seen = exchange.Service.ModelFor(exchange.Caller);
        var (set, count) = exchange.Paths.Find(address.Segments);
        if (fault.Status != 404 || seen.FindSet(set) is not null)
            return fault;
        var written = string.Join('/', address.Segments.Take(count).Select(s => s.Text));
        var paths = seen.Sets.Where(s => s.ContainedIn is null).Select(s => Uri.UnescapeDataString(exchange.Paths.Of(s.Name)));
        return fault with { Message = fault.Message + NearestName.Hint(written, paths) };
    }

    /// <summary>A former path tells of a set only to those who may know of it.</summary>
    private static bool IsOpen(RestExchange exchange, string path) =>
        RequestAddress.Read(path, "").Is(out var address, out _)
        && exchange.Service.IsAddressableBy(exchange.Caller, exchange.Paths.Find(address.Segments).Set);

    private RestPaths PathsOf(PublishedService service) => PathsOf(service.Model);

    /// <param name="model">All of a service, or what a caller may address: to them, what they may not know of has no path.</param>
    private RestPaths PathsOf(EntityModel model) => _paths.GetValue(model, m => new RestPaths(m));

    /// <summary>The route of a path that a service declares as its own, or had before; null = none does.</summary>
    private FaceRoute? RouteOfDeclared(string path)
    {
        foreach (var service in registry.WithBases)
        {
            var (name, shape) = (service.Model.Service, service.Model.Faces.Rest);
            if (Below(path, shape.Base!) is { } rest)
                return new FaceRoute(name, shape.Base!, rest);
            if (path == shape.Base![..^1])
                return new FaceRoute(name, shape.Base!, null);
            foreach (var former in shape.FormerBases)
            {
                if (Below(path, former) is { } moved)
                    return new FaceRoute(name, shape.Base!, moved) { MovedTo = shape.Base + moved };
            }
            // A service with a path of its own has no other, unless it is declared.
            if (path.StartsWith($"{Prefix}{name}/", StringComparison.Ordinal) || path == Prefix + name)
                return new FaceRoute("", $"{Prefix}{name}/", path);
        }
        return null;
    }

    private static string? Below(string path, string root) => path.StartsWith(root, StringComparison.Ordinal) ? path[root.Length..] : null;
}
