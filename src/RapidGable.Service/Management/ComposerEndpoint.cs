using System.Collections.Immutable;
using System.Text.Json;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Declarations;
using RapidGable.Handover;
using RapidGable.Model;
using RapidGable.Service.Auditing;
using RapidGable.Service.Faces;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Service.Trials;
using RapidGable.Sources;

namespace RapidGable.Service.Management;

/// <summary>Sends one request to any face as any caller, and shows the statements and rules behind its answer.</summary>
internal static class ComposerEndpoint
{
    private const int ShownCharacters = 200_000;
    private const int ShownStatements = 50;
    private const int LongestTarget = 64 * 1024;
    private const int MostHeaders = 100;

    private static readonly string[] Methods = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"];

    /// <param name="Target">Path and query, such as <c>/rest/rivers/Stations?limit=5</c>.</param>
    /// <param name="As">A user, or roles joined by commas; missing = anonymous.</param>
    /// <param name="Real">What it changes stays; else it is undone.</param>
    private sealed record SendBody(
        string? Method,
        string? Target,
        IReadOnlyList<RequestHeader>? Headers,
        string? Body,
        string? As,
        bool Real = false
    );

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry, FaceTable faces) =>
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/requests/send", (HttpContext context, IAccountStore accounts, TrialHost host, AuditLog audit) =>
                StateGuard.GuardAsync(() => SendAsync(context, registry, faces, accounts, host, audit))
            );

    private static async Task<IResult> SendAsync(
        HttpContext context,
        ServiceRegistry registry,
        FaceTable faces,
        IAccountStore accounts,
        TrialHost host,
        AuditLog audit
    )
    {
        var body = await StateGuard.BodyAsync<SendBody>(context);
        var (method, target) = (body.Method?.ToUpperInvariant() ?? "GET", body.Target ?? "");
        if (Fault(method, target, body.Headers, faces) is { } fault)
            return fault;
        if (body.Real && !NeededRights.Has(context, ManagementRights.Publish))
            return NeededRights.Lacks(ManagementRights.Publish);
        var isChange = method is not ("GET" or "HEAD" or "OPTIONS");
        var served = registry.Workspace;
        var sources = served.Sources.ToImmutableDictionary(s => s.Key, s => new RecordedSource(s.Value, ShownStatements));
        var recorded = served with { Sources = sources.ToImmutableDictionary(s => s.Key, s => (ISource)s.Value) };
        var request = new KeptRequest(
            "composed",
            "",
            method,
            target,
            [.. (body.Headers ?? []).Select(h => (h.Name, h.Value))],
            string.IsNullOrEmpty(body.Body) ? null : body.Body,
            SourceLocation.WholeFile("")
        )
        {
            As = string.IsNullOrWhiteSpace(body.As) ? null : body.As,
            IsLiteral = true,
        };
        TriedRequest tried;
        try
        {
            var sent = await new TryRequests(recorded, accounts.Current, host).RunAsync(
                [request],
                new TryRequests.Options(null, Writes: true, context.Request.Host.Value) { Undoes = !body.Real, Memory = registry.Memory },
                context.RequestAborted
            );
            tried = sent[0];
        }
        catch (InvalidDataException exception)
        {
            return ManagementInterface.Problem(400, "caller", exception.Message);
        }
        var answer = tried.Answer!;
        var path = target.Split('?')[0];
        var kind =
            !isChange ? "sent"
            : body.Real ? "sent for real"
            : "tried";
        audit.Managed(context, AccountEndpoints.AdministratorOf(context), $"{kind} {method} {path} as {tried.Caller}: {answer.Status}");
        var text = AccountEndpoints.IsText(answer.ContentType) ? answer.Text : null;
        return ManagementInterface.Json(
            new SentAnswer(
                tried.Caller,
                isChange && !body.Real,
                answer.Status,
                Math.Round(answer.Time.TotalMilliseconds, 1),
                answer.Headers.OrderBy(h => h.Key, StringComparer.Ordinal).Select(h => new RequestHeader(h.Key, h.Value)),
                answer.Body.Length,
                text is { Length: > ShownCharacters } ? text[..ShownCharacters] : text,
                text is { Length: > ShownCharacters },
                sources.Values.SelectMany(s => s.Statements).Select(s => new SentStatement(s.Source, s.Sql, s.Parameters)),
                sources.Values.Sum(s => Math.Max(0, s.Count - ShownStatements)),
                ProgramsOf(context, answer, request, faces),
                RulesOf(registry, faces, NamedCaller.Of(accounts.Current, request.As) ?? Access.Caller.Anonymous, method, target)
            )
        );
    }

    /// <summary>Programs that read all rows of a list; none for other requests.</summary>
    private static IEnumerable<SentProgram> ProgramsOf(
        HttpContext context,
        Verification.KeptAnswer answer,
        KeptRequest request,
        FaceTable faces
    )
    {
        if (request.Method != "GET" || answer.Status != 200 || answer.Rows is null || answer.Json?.ValueKind != JsonValueKind.Object)
            return [];
        var isOData = faces.Find(request.Target.Split('?')[0])!.Name == "odata";
        var url = $"{context.Request.Scheme}://{context.Request.Host}{request.Target.Replace(" ", "%20", StringComparison.Ordinal)}";
        return RequestSnippets.Of(url, isOData, withKey: request.As is not null).Select(p => new SentProgram(p.Language, p.Text));
    }

    private static IResult? Fault(string method, string target, IReadOnlyList<RequestHeader>? headers, FaceTable faces)
    {
        IResult Problem(string code, string message) => ManagementInterface.Problem(400, code, message);
        if (!Methods.Contains(method))
            return Problem("method", $"'{method}' is none of {string.Join(", ", Methods)}.");
        if (target.Length > LongestTarget)
            return Problem("target", $"An address has at most {LongestTarget} characters.");
        if (target.AsSpan().IndexOfAnyInRange('\0', '\u001f') >= 0)
            return Problem("target", "An address has no line ends.");
        if (faces.Find(target.Split('?')[0]) is null || HasDotSegments(target.Split('?')[0]))
            return Problem("target", "The address must be that of a service, such as /rest/NAME/ or /odata/NAME/.");
        if (headers is { Count: > MostHeaders })
            return Problem("headers", $"Send at most {MostHeaders} headers.");
        foreach (var header in headers ?? [])
        {
            if ("Authorization".Equals(header?.Name, StringComparison.OrdinalIgnoreCase))
                return Problem("headers", "'Authorization' is made of the caller: choose one with 'as'.");
            if (header is null || !IsName(header.Name) || header.Value is null || header.Value.AsSpan().IndexOfAny('\r', '\n', '\0') >= 0)
                return Problem("headers", $"'{header?.Name}' is not the name of a header, or its value has line ends.");
        }
        return null;
    }

    /// <summary>Segments that clients take out, with what stands before them, so that the address would become another one.</summary>
    private static bool HasDotSegments(string path) =>
        path.Contains('\\')
        || path.Split('/').Any(s => Uri.UnescapeDataString(s.Replace("%25", "%", StringComparison.Ordinal)) is "." or "..");

    /// <summary>A token of RFC 9110, 5.6.2.</summary>
    private static bool IsName(string? name) =>
        name is { Length: > 0 } && name.All(c => char.IsAsciiLetterOrDigit(c) || "!#$%&'*+-.^_`|~".Contains(c));

    /// <summary>What the rules of the sets that the address names do for the caller; empty when it is wrong for every caller.</summary>
    private static IReadOnlyList<Access.RuleEffect> RulesOf(
        ServiceRegistry registry,
        FaceTable faces,
        Access.Caller caller,
        string method,
        string target
    )
    {
        var mark = target.IndexOf('?');
        var (path, query) = mark < 0 ? (target, "") : (target[..mark], target[(mark + 1)..]);
        if (
            faces.Find(path) is not { } face
            || face.Route(path) is not { } route
            || registry.Find(route.Service)?.On(face.Name) is not { } service
        )
            return [];
        var operation = method switch
        {
            "POST" => SetOperations.Create,
            "PUT" or "PATCH" => SetOperations.Update,
            "DELETE" => SetOperations.Delete,
            _ => SetOperations.Read,
        };
        // Options of a change are none of a read, and the rules are about the address.
        var spelled = face.Spell(service, route.Rest ?? "", operation == SetOperations.Read ? query : "");
        return spelled.Is(out var read, out _) ? service.ExplainAccess(read.Request, caller, operation) : [];
    }
}
