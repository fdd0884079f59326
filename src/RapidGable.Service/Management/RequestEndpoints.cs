using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Service.Trials;
using RapidGable.Sources;

namespace RapidGable.Service.Management;

/// <summary>The parts of the management interface about requests that are kept in the workspace.</summary>
internal static class RequestEndpoints
{
    /// <summary>As much of an answer as is shown.</summary>
    private const int ShownCharacters = 200_000;

    /// <summary>Which requests are sent, and how.</summary>
    /// <param name="Names">Missing = all.</param>
    /// <param name="As">A user, or roles joined by commas; missing = as the requests say.</param>
    /// <param name="Writes">Also what may change something.</param>
    /// <param name="Real">What they change stays; else it is undone.</param>
    private sealed record TryBody(string[]? Names, string? As, bool Writes, bool Real = false);

    /// <param name="MadeUp">Values are replaced by others of their kind.</param>
    private sealed record KeepBody(string? Name, string? As, bool MadeUp);

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry)
    {
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/requests", () => ManagementInterface.Json(registry.Workspace.Declaration.Requests.Select(r => Info(r, registry))));
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/requests/try", (HttpContext context, IAccountStore accounts, TrialHost host, AuditLog audit) =>
                StateGuard.GuardAsync(() => TryAsync(context, registry.Workspace, registry.Memory, accounts, host, audit))
            );
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/requests/keep", (HttpContext context, IAccountStore accounts, TrialHost host, AuditLog audit) =>
                StateGuard.GuardAsync(() => KeepAsync(context, registry.Workspace, accounts, host, audit))
            );
    }

    private static KeptRequestInfo Info(KeptRequest request, ServiceRegistry registry) =>
        new(
            request.Name,
            request.Location.File,
            request.Location.Line,
            request.Title.Length == 0 ? null : request.Title,
            request.Method,
            request.Path,
            request.As,
            request.Changes,
            request.Body,
            request.Expectations.Select(e => $"{e.Word} {e.Text}".Trim()),
            registry.Workspace.Declaration.Examples.Any(e => e.Request.Name == request.Name)
        );

    private static async Task<IResult> TryAsync(
        HttpContext context,
        LoadedWorkspace workspace,
        ByteBudget memory,
        IAccountStore accounts,
        TrialHost host,
        AuditLog audit
    )
    {
        var body = await StateGuard.BodyAsync<TryBody>(context);
        if (body.Real && !NeededRights.Has(context, ManagementRights.Publish))
            return NeededRights.Lacks(ManagementRights.Publish);
        var all = workspace.Declaration.Requests;
        if (body.Names?.FirstOrDefault(n => all.All(r => r.Name != n)) is { } unknown)
            return ManagementInterface.Problem(404, "not-found", $"There is no request '{unknown}'.");
        var chosen = all.Where(r => body.Names is null || body.Names.Contains(r.Name)).ToList();
        try
        {
            var tried = await new TryRequests(workspace, accounts.Current, host).RunAsync(
                chosen,
                new TryRequests.Options(body.As, body.Writes) { Undoes = !body.Real, Memory = memory },
                context.RequestAborted
            );
            // A look at rows as somebody else is noted, whatever way it takes.
            foreach (var sent in tried.Where(t => t.Answer is not null))
                audit.Managed(
                    context,
                    AccountEndpoints.AdministratorOf(context),
                    $"{Way(sent.Request, body.Real)} request {sent.Request.Name} as {sent.Caller}: {sent.Answer!.Status}"
                );
            return ManagementInterface.Json(tried.Select(Outcome));
        }
        catch (InvalidDataException exception)
        {
            return ManagementInterface.Problem(400, "caller", exception.Message);
        }
    }

    private static string Way(KeptRequest request, bool isReal) =>
        !request.Changes ? "sent"
        : isReal ? "sent for real:"
        : "tried";

    private static KeptRequestOutcome Outcome(TriedRequest tried)
    {
        var text = tried.Answer?.Text;
        return new KeptRequestOutcome(
            tried.Request.Name,
            tried.Caller,
            tried.Target,
            tried.IsGood,
            tried.Answer?.Status,
            tried.Answer is { } answer ? Math.Round(answer.Time.TotalMilliseconds, 1) : null,
            tried.Answer?.Headers,
            text is { Length: > ShownCharacters } ? text[..ShownCharacters] : text,
            text is { Length: > ShownCharacters },
            tried.Skipped,
            tried.Results.Select(r => new KeptExpectationOutcome($"{r.Expected.Word} {r.Expected.Text}".Trim(), r.Fault))
        );
    }

    private static async Task<IResult> KeepAsync(
        HttpContext context,
        LoadedWorkspace workspace,
        IAccountStore accounts,
        TrialHost host,
        AuditLog audit
    )
    {
        var body = await StateGuard.BodyAsync<KeepBody>(context);
        if (workspace.Declaration.Requests.FirstOrDefault(r => r.Name == body.Name) is not { } request)
            return ManagementInterface.Problem(404, "not-found", $"There is no request '{body.Name}'.");
        try
        {
            var keeper = new ExampleKeeper(new TryRequests(workspace, accounts.Current, host));
            var (file, fault) = await keeper.RunAsync(workspace.Declaration.Folder, request, body.As, body.MadeUp, context.RequestAborted);
            if (file is null)
                return ManagementInterface.Problem(409, "example", fault!);
            audit.Managed(context, AccountEndpoints.AdministratorOf(context), $"kept an example: {file}");
            return ManagementInterface.Json(new KeptExampleFile(file));
        }
        catch (InvalidDataException exception)
        {
            return ManagementInterface.Problem(400, "caller", exception.Message);
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            return ManagementInterface.Problem(503, "files", $"The example cannot be written: {exception.Message}");
        }
    }
}
