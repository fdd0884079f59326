using System.Text.Json;
using System.Text.Json.Serialization;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Queries;
using RapidGable.Service.Auditing;
using RapidGable.Service.Faces;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Sources;

namespace RapidGable.Service.Management;

/// <summary>
/// <c>/services</c> for everyone and <c>/manage/…</c> for administrators.
/// </summary>
internal static class ManagementInterface
{
    internal static readonly JsonSerializerOptions JsonOptions = new(JsonSerializerDefaults.Web)
    {
        DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    /// <summary>Where the name of who manages is kept while a request runs.</summary>
    internal const string AdministratorItem = "administrator";

    internal static IResult NotOwnClient =>
        Problem(403, "no-client", $"Send the header {Administration.ClientHeader}, from a page of this service or none.");

    public static void Map(WebApplication app, ServiceRegistry registry, TimeProvider time)
    {
        var faces = app.Services.GetRequiredService<FaceTable>();
        app.MapGet("/services", async (HttpContext context, SignIn signIn) =>
        {
            if ((await signIn.CallerOfAsync(context)).Is(out var caller, out var fault))
                return Json(
                    new ServiceList(
                        registry
                            .All.Where(s => !s.ModelFor(caller).Sets.IsEmpty)
                            .Select(s => ServiceViews.Summary(s, caller, faces.AddressesOf(s.Model.Service, context)))
                    )
                );
            context.Response.Headers.WWWAuthenticate = signIn.Challenges(fault);
            return Problem(fault.Status, fault.Code, fault.Message);
        });
        AccountEndpoints.MapSession(app);
        var manage = app.MapGroup("/manage")
            .AddEndpointFilter(
                async (invocation, next) =>
                {
                    var context = invocation.HttpContext;
                    context.Response.Headers.CacheControl = "no-store";
                    var administration = context.RequestServices.GetRequiredService<Administration>();
                    if (await administration.NameOfAsync(context) is not { } name)
                        return Problem(
                            401,
                            "sign-in",
                            administration.IsRequired
                                ? "Administrators sign in first, at the console or with a key of theirs."
                                : "There is no administrator yet. Open the link that 'gable serve' printed; it also stands in "
                                    + "the file 'console-link' of the workspace."
                        );
                    context.Items[AdministratorItem] = name;
                    return HttpMethods.IsGet(context.Request.Method) || Administration.IsOwnClient(context)
                        ? await next(invocation)
                        : NotOwnClient;
                }
            );
        AccountEndpoints.Map(manage, registry);
        manage.MapGet("/workspace", () =>
            new WorkspaceInfo(
                registry.Workspace.Declaration.Title,
                registry.Workspace.Sources.Values.Select(s => new SourceAddress(s.Name, s.Address))
            )
        );
        manage.MapGet("/services", (HttpContext context) =>
            Json(
                new ServiceList(
                    registry.All.Select(s => ServiceViews.Summary(s, Caller.Anonymous, faces.AddressesOf(s.Model.Service, context)))
                )
            )
        );
        manage.MapGet("/services/{name}", (string name, HttpContext context) =>
            registry.Find(name) is { } service
                ? Json(ServiceViews.Details(service, registry.Workspace.FindService(name)!.Inferences, faces.AddressesOf(name, context)))
                : Problem(404, "not-found", $"There is no service '{name}'.")
        );
        manage.MapGet("/sources", () =>
            Json(
                new SourceList(
                    registry.Workspace.Sources.Keys.Order(StringComparer.Ordinal).Select(n => SourceViews.Summary(registry.Workspace, n))
                )
            )
        );
        manage.MapGet("/sources/{source}/object", (string source, string? name, int? rows, HttpContext context, AuditLog audit) =>
        {
            // Rows of others are looked at in front of a witness.
            if ((rows ?? 10) > 0)
                audit.Managed(context, (string)context.Items[AdministratorItem]!, $"looked at rows of {name} in {source}");
            return ObjectAsync(registry.Workspace, source, name ?? "", rows ?? 10, context.RequestAborted);
        });
        manage.MapPost("/refresh", async (HttpContext context, AuditLog audit, ILogger<ServiceRegistry> log) =>
        {
            var outcome = await registry.RefreshAsync(time, log, context.RequestAborted);
            audit.Managed(
                context,
                (string)context.Items[AdministratorItem]!,
                outcome.IsKept
                    ? "refresh, refused"
                    : $"refresh: {string.Join(", ", outcome.Changed.Select(c => $"{c.Service} {c.After ?? "gone"}"))}"
            );
            return Json(
                new RefreshResult(
                    outcome.IsKept,
                    outcome.Changed.Select(c => new ChangedService(c.Service, c.Before, c.After)),
                    outcome.Differences.Select(o => new ServiceNote(o.Service, o.Text)),
                    outcome.Settings,
                    outcome.Opened.Select(o => new ServiceNote(o.Service, o.Text)),
                    outcome.Faults.Select(f => new FaultInfo(f.Code, f.Message, f.Location.ToString(), f.Advice))
                )
            );
        });
        manage.MapGet(
            "/explain",
            (
                string? url,
                bool? run,
                string? user,
                string? roles,
                string? attributes,
                AccountStore store,
                HttpContext context,
                AuditLog audit
            ) =>
            {
                if (run == true)
                    audit.Managed(
                        context,
                        (string)context.Items[AdministratorItem]!,
                        $"ran a request as {user ?? roles ?? "an anonymous caller"}"
                    );
                return ExplainAsync(
                    url,
                    run,
                    AccountEndpoints.CallerOf(store, user, roles, attributes),
                    faces,
                    registry,
                    time,
                    context.RequestAborted
                );
            }
        );
    }

    private static async Task<IResult> ObjectAsync(
        LoadedWorkspace workspace,
        string source,
        string name,
        int rows,
        CancellationToken cancellation
    )
    {
        if (!workspace.Catalogs.TryGetValue(source, out var catalog) || catalog.Find(name) is not { } found)
            return Problem(404, "not-found", $"There is no table or view '{name}' in a source '{source}'.");
        try
        {
            return Json(await SourceViews.ObjectAsync(workspace, source, found, Math.Clamp(rows, 0, 100), cancellation));
        }
        catch (SourceException exception)
        {
            return Problem(503, "source", $"'{name}' cannot be read: {exception.Message}");
        }
    }

    /// <summary>The statements behind a request to the OData face, without running them.</summary>
    /// <param name="run">Also runs it, for the engine's plan and the times.</param>
    private static async Task<IResult> ExplainAsync(
        string? url,
        bool? run,
        Caller caller,
        FaceTable faces,
        ServiceRegistry registry,
        TimeProvider time,
        CancellationToken cancellation
    )
    {
        if (string.IsNullOrEmpty(url))
            return Problem(400, "no-url", "Give the address to explain as 'url'.");
        var target =
            Uri.TryCreate(url, UriKind.Absolute, out var absolute) && absolute.Scheme.StartsWith("http", StringComparison.Ordinal)
                ? url[url.IndexOf(absolute.Authority, StringComparison.OrdinalIgnoreCase)..][absolute.Authority.Length..]
                : url;
        if (faces.Find(target) is not { } face)
            return Problem(400, "no-face", $"Only addresses below {faces.Prefixes} can be explained.");
        var mark = target.IndexOf('?');
        var (path, query) = mark < 0 ? (target, "") : (target[..mark], target[(mark + 1)..]);
        var parts = path[face.Prefix.Length..].Split('/', 2);
        if (registry.Find(parts[0]) is not { } service)
            return Problem(404, "not-found", $"There is no service '{parts[0]}'.");
        var inner = parts.Length > 1 ? parts[1] : "";
        var rules = service.ExplainAccess(inner, query, caller);
        if (run == true)
            return await ExplainRunAsync(service, inner, query, caller, rules, time, cancellation);
        var explained = service.Explain(inner, query, caller, time.GetUtcNow().UtcDateTime);
        return explained.Is(out var statements, out var fault)
            ? Json(new ExplainedAnswer(parts[0], statements, null, rules))
            : Refused(fault, rules);
    }

    private static async Task<IResult> ExplainRunAsync(
        PublishedService service,
        string path,
        string query,
        Caller caller,
        IReadOnlyList<RuleEffect> rules,
        TimeProvider time,
        CancellationToken cancellation
    )
    {
        try
        {
            var explained = await ExplainedRun.OfAsync(service, path, query, caller, time.GetUtcNow().UtcDateTime, cancellation);
            return explained.Is(out var request, out var fault)
                ? Json(new ExplainedAnswer(service.Model.Service, request.Statements, request.Times, rules))
                : Refused(fault, rules);
        }
        catch (Sources.SourceException exception)
        {
            return Refused(Faults.From(exception), rules);
        }
    }

    private static IResult Refused(Requests.RequestFault fault, IReadOnlyList<RuleEffect> rules) =>
        Results.Json(
            new RefusedRequest(
                new RequestError(fault.Code, fault.Message, fault.Target, fault.Position, fault.Pointer(), fault.Status),
                rules
            ),
            JsonOptions,
            statusCode: fault.Status
        );

    internal static IResult Json(object value) => Results.Json(value, JsonOptions);

    internal static IResult Problem(int status, string code, string message) =>
        Results.Json(new ManagementProblem(new ProblemDetail(code, message)), JsonOptions, statusCode: status);
}
