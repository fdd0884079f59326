using System.Net;
using System.Text.Json;
using System.Text.Json.Serialization;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Service.Identity;
using RapidGable.Sources;

namespace RapidGable.Service;

/// <summary>
/// <c>/services</c> for everyone and <c>/manage/…</c> for the developer. Until people can sign in, management answers
/// only callers on the same machine that address it by a loopback name, so that no web page can reach it by another.
/// </summary>
internal static class ManagementInterface
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    /// <summary>What clients of our own send with requests that do something.</summary>
    public const string ClientHeader = "Gable-Client";

    public static void Map(WebApplication app, ServiceRegistry registry, TimeProvider time)
    {
        app.MapGet("/services", async (HttpContext context, SignIn signIn) =>
        {
            if ((await signIn.CallerOfAsync(context)).Is(out var caller, out var fault))
                return Results.Json(new { services = registry.All.Where(s => !s.ModelFor(caller).Sets.IsEmpty).Select(s => Summary(s, caller, context)) }, Json);
            context.Response.Headers.WWWAuthenticate = signIn.Challenge;
            return Problem(fault.Status, fault.Code, fault.Message);
        });
        var manage = app.MapGroup("/manage").AddEndpointFilter(async (invocation, next) =>
            IsLocal(invocation.HttpContext) ? await next(invocation) : Results.NotFound());
        manage.MapGet("/workspace", () => new { registry.Workspace.Declaration.Title, sources = registry.Workspace.Sources.Values.Select(s => new { s.Name, s.Address }) });
        manage.MapGet("/services", (HttpContext context) => Results.Json(new { services = registry.All.Select(s => Summary(s, Caller.Anonymous, context)) }, Json));
        manage.MapGet("/services/{name}", (string name, HttpContext context) => registry.Find(name) is { } service
            ? Results.Json(Details(service, registry.Workspace, context), Json)
            : Problem(404, "not-found", $"There is no service '{name}'."));
        manage.MapGet("/sources", () => Results.Json(new { sources = registry.Workspace.Sources.Keys.Order(StringComparer.Ordinal).Select(n => SourceViews.Summary(registry.Workspace, n)) }, Json));
        manage.MapGet("/sources/{source}/object", (string source, string? name, int? rows, HttpContext context) => ObjectAsync(registry.Workspace, source, name ?? "", rows ?? 10, context.RequestAborted));
        manage.MapPost("/refresh", async (HttpContext context, ILogger<ServiceRegistry> log) =>
        {
            // A header that no form and no plain link of another page can send.
            if (!context.Request.Headers.ContainsKey(ClientHeader))
                return Problem(403, "no-client", $"Send the header {ClientHeader}.");
            var outcome = await registry.RefreshAsync(time, log, context.RequestAborted);
            return Results.Json(new
            {
                kept = outcome.IsKept,
                changed = outcome.Changed.Select(c => new { service = c.Service, before = c.Before, after = c.After }),
                faults = outcome.Faults.Select(f => new { f.Code, f.Message, location = f.Location.ToString(), f.Advice }),
            }, Json);
        });
        manage.MapGet("/explain", (string? url, bool? run, HttpContext context) => ExplainAsync(url, run, registry, time, context.RequestAborted));
    }

    private static async Task<IResult> ObjectAsync(LoadedWorkspace workspace, string source, string name, int rows, CancellationToken cancellation)
    {
        if (!workspace.Catalogs.TryGetValue(source, out var catalog) || catalog.Find(name) is not { } found)
            return Problem(404, "not-found", $"There is no table or view '{name}' in a source '{source}'.");
        try
        {
            return Results.Json(await SourceViews.ObjectAsync(workspace, source, found, Math.Clamp(rows, 0, 100), cancellation), Json);
        }
        catch (SourceException exception)
        {
            return Problem(503, "source", $"'{name}' cannot be read: {exception.Message}");
        }
    }

    private static bool IsLocal(HttpContext context) =>
        context.Connection.RemoteIpAddress is { } address && IPAddress.IsLoopback(address)
        && context.Request.Host.Host.Trim('[', ']') is var host
        && (host is "localhost" || (IPAddress.TryParse(host, out var named) && IPAddress.IsLoopback(named)));

    private static object Summary(PublishedService service, Caller caller, HttpContext context) => new
    {
        name = service.Model.Service,
        title = service.Model.Title,
        revision = service.Revision,
        sets = service.ModelFor(caller).Sets.Length,
        faces = new { odata = $"{context.Request.Scheme}://{context.Request.Host}{ODataFace.Prefix}{service.Model.Service}/" },
    };

    private static object Details(PublishedService service, LoadedWorkspace workspace, HttpContext context)
    {
        var inferences = workspace.FindService(service.Model.Service)!.Inferences;
        return new
        {
            name = service.Model.Service,
            title = service.Model.Title,
            revision = service.Revision,
            @namespace = service.Model.Namespace,
            sources = service.Model.Sets.Select(s => s.Source.Source).Distinct(),
            faces = new { odata = $"{context.Request.Scheme}://{context.Request.Host}{ODataFace.Prefix}{service.Model.Service}/" },
            sets = service.Model.Sets.Select(s => Set(s, service.ModelFor(Caller.Anonymous))),
            inferences = inferences.Select(i => new { i.Subject, i.Value, i.Reason }),
        };
    }

    private static object Set(EntitySet set, EntityModel open) => new
    {
        set.Name,
        type = set.Type.Name,
        source = set.Source.Source,
        from = set.Source.ToString(),
        key = set.Type.Key.Select(k => k.Name),
        set.PageSize,
        set.LargestPage,
        kind = set.IsUnkeyed ? "function" : set.ContainedIn is null ? "set" : "contained",
        containedIn = set.ContainedIn,
        set.Type.Description,
        order = set.DefaultOrder.Select(o => o.Property.Name + (o.Descending ? " desc" : "")),
        allow = Enum.GetValues<SetOperations>().Where(o => o != SetOperations.None && set.Operations.HasFlag(o)).Select(o => o.ToString().ToLowerInvariant()),
        rules = new { read = Grant.Describe(set.Rules, SetOperations.Read), all = set.Rules.Select(r => r.ToString()) },
        isReadable = open.FindSet(set.Name) is not null,
        properties = set.Type.Properties.Select(p => Property(set, p)),
        hidden = set.Type.Hidden.Select(p => p.Column),
        searched = (set.SearchIndex is { } index ? set.Type.Properties.SelectMany(p => p.Leaves).Where(p => index.Columns.Contains(p.Column)) : set.SearchProperties).Select(p => p.Name),
        set.RequiresFilter,
        version = set.Version?.Column,
        changes = set.Changes?.Stamp.Column,
        derived = set.Type.Derived.Select(d => new { d.Name, table = d.Rows?.Source.ToString(), discriminator = d.Discriminator?.Column, values = d.Values, properties = d.Properties.Select(p => Property(set, p)) }),
        navigations = set.Type.Navigations.Select(n => new
        {
            n.Name,
            target = n.TargetSet,
            n.IsCollection,
            n.Nullable,
            n.Partner,
            n.IsContained,
            n.IsRemote,
            through = n.Link?.Source.ToString(),
            joins = n.Joins.Select(j => new { own = j.Own.Name, target = j.Target.Name }),
        }),
    };

    private static object Property(EntitySet set, Property property) => new
    {
        property.Name,
        type = property.Type.Name,
        facets = property.Type.ToString(),
        property.Nullable,
        property.Column,
        isKey = set.Type.Key.Contains(property),
        isFilterable = property is { IsFilterable: true, IsGroup: false, Type: { IsCollection: false, Kind: not (EdmKind.Complex or EdmKind.Stream or EdmKind.Binary) } } && property.Conversion is not { Use: ConvertedUse.Read },
        isSortable = property is { IsSortable: true, IsGroup: false, Type: { IsCollection: false, Kind: not (EdmKind.Complex or EdmKind.Stream or EdmKind.Binary) } } && property.Conversion is not { Use: ConvertedUse.Read or ConvertedUse.Equality },
        conversion = property.Conversion?.Description,
        enumMembers = property.Type.Enum?.Members.Select(m => m.Name),
        members = property.IsGroup ? property.Members.Select(m => Property(set, m)) : null,
        property.Description,
    };

    /// <summary>The statements behind a request to the OData face, without running them.</summary>
    /// <param name="run">Also runs it, for the engine's plan and the times.</param>
    private static async Task<IResult> ExplainAsync(string? url, bool? run, ServiceRegistry registry, TimeProvider time, CancellationToken cancellation)
    {
        if (string.IsNullOrEmpty(url))
            return Problem(400, "no-url", "Give the address to explain as 'url'.");
        var target = Uri.TryCreate(url, UriKind.Absolute, out var absolute) && absolute.Scheme.StartsWith("http", StringComparison.Ordinal) ? url[url.IndexOf(absolute.Authority, StringComparison.OrdinalIgnoreCase)..][absolute.Authority.Length..] : url;
        if (!target.StartsWith(ODataFace.Prefix, StringComparison.Ordinal))
            return Problem(400, "no-face", $"Only addresses below {ODataFace.Prefix} can be explained.");
        var mark = target.IndexOf('?');
        var (path, query) = mark < 0 ? (target, "") : (target[..mark], target[(mark + 1)..]);
        var parts = path[ODataFace.Prefix.Length..].Split('/', 2);
        if (registry.Find(parts[0]) is not { } service)
            return Problem(404, "not-found", $"There is no service '{parts[0]}'.");
        if (run == true)
            return await ExplainRunAsync(service, parts.Length > 1 ? parts[1] : "", query, time, cancellation);
        var explained = service.Explain(parts.Length > 1 ? parts[1] : "", query, Caller.Anonymous, time.GetUtcNow().UtcDateTime);
        return explained.Is(out var statements, out var fault) ? Results.Json(new { service = parts[0], statements }, Json) : Refused(fault);
    }

    private static async Task<IResult> ExplainRunAsync(PublishedService service, string path, string query, TimeProvider time, CancellationToken cancellation)
    {
        try
        {
            var explained = await ExplainedRun.OfAsync(service, path, query, Caller.Anonymous, time.GetUtcNow().UtcDateTime, cancellation);
            return explained.Is(out var request, out var fault) ? Results.Json(new { service = service.Model.Service, request.Statements, request.Times }, Json) : Refused(fault);
        }
        catch (Sources.SourceException exception)
        {
            return Refused(Faults.From(exception));
        }
    }

    private static IResult Refused(Requests.RequestFault fault) => Results.Json(new { error = new { fault.Code, fault.Message, fault.Target, position = fault.Position, pointer = fault.Pointer(), fault.Status } }, Json, statusCode: fault.Status);

    private static IResult Problem(int status, string code, string message) => Results.Json(new { error = new { code, message } }, Json, statusCode: status);
}
