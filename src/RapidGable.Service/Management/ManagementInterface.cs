using System.Text.Json;
using System.Text.Json.Serialization;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using RapidGable.Service.Faces;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Service.Traffic;

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

    /// <summary>Where the <see cref="Manager"/> is kept while a request runs.</summary>
    internal const string ManagerItem = "manager";

    internal static IResult NotOwnClient =>
        Problem(403, "no-client", $"Send the header {Administration.ClientHeader}, from a page of this service or none.");

    public static void Map(WebApplication app, ServiceRegistry registry, TimeProvider time)
    {
        MapServices(app, registry);
        var faces = app.Services.GetRequiredService<FaceTable>();
        ConsumerPage.Map(app);
        AccountEndpoints.MapSession(app);
        var manage = app.MapGroup("/manage").AddEndpointFilter(AsAdministratorAsync);
        AccountEndpoints.Map(manage, registry);
        WorkspaceEndpoints.Map(manage, registry, faces, time);
        ExplainEndpoint.Map(manage, registry, faces, time);
        CheckEndpoints.Map(manage, registry, time);
        PreviewEndpoints.Map(manage);
        PublishingEndpoints.Map(manage, registry, time);
        DraftEndpoints.Map(manage, registry, time);
        DesignEndpoints.Map(manage, registry, time);
        ProofEndpoints.Map(manage, registry, time);
        ConnectEndpoints.Map(manage, registry);
        VerificationEndpoints.Map(manage, registry);
        HandoverEndpoint.Map(manage);
        RequestEndpoints.Map(manage, registry);
        ComposerEndpoint.Map(manage, registry, faces);
        OverviewEndpoint.Map(manage, registry, time);
        SecretEndpoints.Map(manage, registry);
    }

    /// <summary>The list of what a caller may see.</summary>
    public static void MapServices(WebApplication app, ServiceRegistry registry)
    {
        var faces = app.Services.GetRequiredService<FaceTable>();
        app.MapGet("/services", async (HttpContext context, SignIn signIn, RequestRateLimiter traffic) =>
        {
            if ((await signIn.CallerOfAsync(context)).Is(out var caller, out var fault))
            {
                using var pass = traffic.Enter(context, caller, out fault);
                return fault is not null
                    ? Problem(fault.Status, fault.Code, fault.Message)
                    : Json(
                        new ServiceList(
                            registry
                                .All.Where(s => faces.All.Any(f => s.On(f.Name).IsOpenTo(caller)))
                                .Select(s =>
                                    ServiceViews.Summary(
                                        s,
                                        caller,
                                        faces.AddressesOf(s, caller, context),
                                        ApiCatalog.Endpoints(s, caller, faces, context)
                                    )
                                )
                        )
                    );
            }
            context.Response.Headers.WWWAuthenticate = signIn.Challenges(fault);
            return Problem(fault.Status, fault.Code, fault.Message);
        });
    }

    /// <summary>Lets administrators through, and what changes something only from a page of this service or from a program.</summary>
    private static async ValueTask<object?> AsAdministratorAsync(EndpointFilterInvocationContext invocation, EndpointFilterDelegate next)
    {
        var context = invocation.HttpContext;
        context.Response.Headers.CacheControl = "no-store";
        context.Response.Headers.ContentSecurityPolicy = ContentPolicy.Untrusted;
        if (!Administration.IsFromConsole(context))
            return NotOwnClient;
        var administration = context.RequestServices.GetRequiredService<Administration>();
        if (await administration.FindAsync(context) is not { } manager)
            return Problem(
                401,
                "sign-in",
                administration.IsRequired
                    ? "Administrators sign in first, at the console or with a key of theirs."
                    : "There is no administrator yet. Open the link that 'gable serve' printed; it also stands in "
                        + "the file 'console-link' of the workspace."
            );
        context.Items[ManagerItem] = manager;
        // An address without a right is one that somebody has forgotten: it opens nothing.
        var needed = context.GetEndpoint()?.Metadata.GetMetadata<NeededRight>()?.Right ?? ManagementRights.None;
        if (needed == ManagementRights.None || !manager.Rights.HasFlag(needed))
            return NeededRights.Lacks(needed);
        return HttpMethods.IsGet(context.Request.Method) || Administration.IsOwnClient(context) ? await next(invocation) : NotOwnClient;
    }

    internal static IResult Json(object value) => Results.Json(value, JsonOptions);

    /// <summary>A page that the service has written, with nothing in it that runs.</summary>
    internal static IResult Page(HttpContext context, string html)
    {
        context.Response.Headers.ContentSecurityPolicy = ContentPolicy.OwnPage;
        return Results.Text(html, "text/html; charset=utf-8");
    }

    internal static IResult Problem(int status, string code, string message) =>
        Results.Json(new ManagementProblem(new ProblemDetail(code, message)), JsonOptions, statusCode: status);
}
