using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Publishing;
using RapidGable.Service.Auditing;
using RapidGable.Service.Faces;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.UseCases;

namespace RapidGable.Service.Management;

/// <summary>The statements behind a request, and what the rules do to it.</summary>
internal static class ExplainEndpoint
{
    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry, FaceTable faces, TimeProvider time) =>
        manage
            .Needing(ManagementRights.Look)
            .MapGet(
                "/explain",
                (
                    string? url,
                    bool? run,
                    string? user,
                    string? roles,
                    string? attributes,
                    IAccountStore store,
                    HttpContext context,
                    AuditLog audit
                ) =>
                {
                    if (run == true && !NeededRights.Has(context, ManagementRights.Write))
                        return Task.FromResult(NeededRights.Lacks(ManagementRights.Write));
                    if (run == true)
                        audit.Managed(
                            context,
                            AccountEndpoints.AdministratorOf(context),
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

    /// <summary>The statements behind a request to a face, without running them.</summary>
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
            return ManagementInterface.Problem(400, "no-url", "Give the address to explain as 'url'.");
        var target =
            Uri.TryCreate(url, UriKind.Absolute, out var absolute) && absolute.Scheme.StartsWith("http", StringComparison.Ordinal)
                ? url[url.IndexOf(absolute.Authority, StringComparison.OrdinalIgnoreCase)..][absolute.Authority.Length..]
                : url;
        var mark = target.IndexOf('?');
        var (path, query) = mark < 0 ? (target, "") : (target[..mark], target[(mark + 1)..]);
        if (faces.Find(path) is not { } face || face.Route(path) is not { } route)
            return ManagementInterface.Problem(400, "no-face", "Only addresses of services can be explained.");
        if (registry.Find(route.Service)?.On(face.Name) is not { } service)
            return ManagementInterface.Problem(404, "not-found", $"There is no service '{route.Service}'.");
        var explain = new ExplainRequest(service, face.Spell(service, route.Rest ?? "", query), caller, time.GetUtcNow().UtcDateTime);
        var rules = explain.Rules;
        if (run == true)
            return await ExplainRunAsync(service, explain, rules, cancellation);
        return explain.Statements().Is(out var explained, out var fault)
            ? ManagementInterface.Json(new ExplainedAnswer(service.Model.Service, explained.Statements, null, rules))
            : Refused(fault, rules);
    }

    private static async Task<IResult> ExplainRunAsync(
        PublishedService service,
        ExplainRequest explain,
        IReadOnlyList<RuleEffect> rules,
        CancellationToken cancellation
    )
    {
        try
        {
            var explained = await explain.RunAsync(cancellation);
            return explained.Is(out var request, out var fault)
                ? ManagementInterface.Json(new ExplainedAnswer(service.Model.Service, request.Statements, request.Times, rules))
                : Refused(fault, rules);
        }
        catch (Sources.SourceException exception)
        {
            return Refused(Faults.From(exception), rules);
        }
    }

    internal static RequestError Error(RequestFault fault) =>
        new(fault.Code, fault.Message, fault.Target, fault.Position, fault.Pointer(), fault.Status);

    private static IResult Refused(RequestFault fault, IReadOnlyList<RuleEffect> rules) =>
        Results.Json(new RefusedRequest(Error(fault), rules), ManagementInterface.JsonOptions, statusCode: fault.Status);
}
