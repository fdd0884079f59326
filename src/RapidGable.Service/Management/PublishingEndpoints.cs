using System.Collections.Immutable;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using Microsoft.Extensions.Logging;
using RapidGable.Publishing;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Service.Revisions;

namespace RapidGable.Service.Management;

/// <summary>The parts of the management interface about revisions and switches.</summary>
internal static class PublishingEndpoints
{
    /// <summary>Who publishes, why, and what they agree to.</summary>
    /// <param name="BasedOn">The revision that they looked at.</param>
    /// <param name="BackTo">Go back to this one instead of publishing the files.</param>
    private sealed record PublishBody(string? Message, bool AllowBreaking, bool AllowOpened, int? BasedOn, int? BackTo);

    private sealed record SwitchBody(
        string? Service,
        string? Face,
        string? Group,
        string? Set,
        bool IsAbsent,
        string? Message,
        int? RetryAfter
    );

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry, TimeProvider time)
    {
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/publishing", (RevisionArchive archive, SwitchBoard board) =>
                StateGuard.Guard(() => ManagementInterface.Json(StateOf(registry, archive, board)))
            );
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/publishing/review", (HttpContext context, Draft draft, RevisionArchive archive) => StateGuard.GuardAsync(async () =>
                {
                    await using var loaded = await draft.LoadAsync(context.RequestAborted);
                    var review = await new PublishWorkspace(loaded, archive, time).ReviewAsync(false, _ => { }, context.RequestAborted);
                    return ManagementInterface.Json(ReviewOf(review));
                }));
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/publishing/difference", (int from, int to, RevisionArchive archive) =>
                StateGuard.Guard(() => Difference(archive, from, to))
            );
        manage
            .Needing(ManagementRights.Publish)
            .MapPost(
                "/publishing",
                (
                    HttpContext context,
                    Draft draft,
                    RevisionArchive archive,
                    RevisionReader reader,
                    AuditLog audit,
                    ILogger<ServiceRegistry> log
                ) => StateGuard.GuardAsync(() => PublishAsync(context, registry, draft, archive, reader, audit, time, log))
            );
        manage
            .Needing(ManagementRights.Publish)
            .MapPost("/switches/off", (HttpContext context, SwitchBoard board, SwitchWatch watch, AuditLog audit) =>
                StateGuard.GuardAsync(() => SwitchAsync(context, registry, board, watch, audit, time, isOff: true))
            );
        manage
            .Needing(ManagementRights.Publish)
            .MapPost("/switches/on", (HttpContext context, SwitchBoard board, SwitchWatch watch, AuditLog audit) =>
                StateGuard.GuardAsync(() => SwitchAsync(context, registry, board, watch, audit, time, isOff: false))
            );
    }

    private static PublishingState StateOf(ServiceRegistry registry, RevisionArchive archive, SwitchBoard board) =>
        new(
            registry.Workspace.Revision,
            archive
                .List(_ => { })
                .Select(r => new RevisionInfo(r.Number, r.At, r.By, r.Message, r.Changes, r.Breaking, r.Opened, r.BackTo, r.KeptUntil)),
            registry.Drift.Select(d => new DriftInfo(d.Service, d.Text, d.Breaks, d.Affected)),
            board
                .Read()
                .Select(o => new SwitchInfo(o.Target, o.Service, o.Face, o.Group, o.Set, o.IsAbsent, o.Message, o.RetryAfter, o.By, o.At))
        );

    private static DraftReview ReviewOf(PublicationReview review) =>
        new(review.BasedOn, review.Services.Select(ReviewedOf), review.Settings, review.Findings.Select(CheckEndpoints.Finding));

    /// <summary>What differs between two revisions, for consumers and callers.</summary>
    private static IResult Difference(RevisionArchive archive, int from, int to)
    {
        foreach (var number in new[] { from, to })
        {
            if (archive.Find(number) is null)
                return ManagementInterface.Problem(404, "not-found", $"There is no revision {number}.");
        }
        var reviews = PublishWorkspace.Compare(archive.Read(from), archive.Read(to));
        return ManagementInterface.Json(new RevisionDifference(from, to, reviews.Select(ReviewedOf)));
    }

    private static ReviewedService ReviewedOf(ServiceReview s) =>
        new ReviewedService(
            s.Name,
            s.Change.ToString().ToLowerInvariant(),
            s.Differences,
            s.Faces.Select(f => new ReviewedFace(
                f.Face,
                f.Differences.Select(d => new MetadataChange(d.Subject, d.What, d.Meaning, d.IsBreaking))
            )),
            s.Opened
        );

    private static async Task<IResult> PublishAsync(
        HttpContext context,
        ServiceRegistry registry,
        Draft draft,
        RevisionArchive archive,
        RevisionReader reader,
        AuditLog audit,
        TimeProvider time,
        ILogger log
    )
    {
        var body = await StateGuard.BodyAsync<PublishBody>(context);
        var who = AccountEndpoints.AdministratorOf(context);
        var consent = new PublishConsent(who, body.Message ?? "", body.AllowBreaking == true, body.AllowOpened == true, body.BasedOn);
        var (revision, refusal, faults) = body.BackTo is { } number
            ? archive.Find(number) is null
                ? (null, new PublishRefusal("not-found", $"There is no revision {number}."), [])
                : await PublishWorkspace.BackToAsync(archive, reader, number, consent, time, context.RequestAborted)
            : await PublishDraftAsync(draft, archive, consent, time, context.RequestAborted);
        if (revision is null)
            return ManagementInterface.Problem(
                refusal!.Code == "message" ? 400
                    : refusal.Code == "not-found" ? 404
                    : 409,
                refusal.Code,
                string.Join(' ', faults.Take(3).Prepend(refusal.Message))
            );
        audit.Managed(context, who, $"published revision {revision.Number}: {revision.Message}");
        if (registry.Workspace.Revision is not null)
            await registry.RefreshAsync(time, log, context.RequestAborted);
        return ManagementInterface.Json(new MadeRevision(revision.Number));
    }

    private static async Task<(RevisionSummary?, PublishRefusal?, ImmutableArray<string>)> PublishDraftAsync(
        Draft draft,
        RevisionArchive archive,
        PublishConsent consent,
        TimeProvider time,
        CancellationToken cancellation
    )
    {
        await using var loaded = await draft.LoadAsync(cancellation);
        var publishing = new PublishWorkspace(loaded, archive, time);
        var review = await publishing.ReviewAsync(withData: true, _ => { }, cancellation);
        var (revision, refusal) = await publishing.PublishAsync(review, consent, cancellation);
        return (revision, refusal, []);
    }

    private static async Task<IResult> SwitchAsync(
        HttpContext context,
        ServiceRegistry registry,
        SwitchBoard board,
        SwitchWatch watch,
        AuditLog audit,
        TimeProvider time,
        bool isOff
    )
    {
        var body = await StateGuard.BodyAsync<SwitchBody>(context);
        if (body.Service is not { } service || body.Face is not (null or "odata" or "rest"))
            return ManagementInterface.Problem(400, "body", "Name a service; a face is odata or rest.");
        if (body.Message is { Length: > 500 } || body.RetryAfter is < 1 or > 31_536_000)
            return ManagementInterface.Problem(
                400,
                "body",
                "A message has up to 500 characters, and 'retryAfter' is 1 to 31536000 seconds."
            );
        var who = AccountEndpoints.AdministratorOf(context);
        var what = new SwitchedOff(service, who, time.GetUtcNow().UtcDateTime)
        {
            Face = body.Face,
            Group = body.Group,
            Set = body.Set,
            IsAbsent = body.IsAbsent,
            Message = body.Message,
            RetryAfter = body.RetryAfter ?? SwitchedOff.UsualRetryAfter,
        };
        if (isOff && !what.IsKnown(registry.Workspace.FindService(service)?.Model))
            return ManagementInterface.Problem(404, "not-found", $"There is no such thing: {what.Target}.");
        if (isOff)
            board.Off(what);
        else if (!board.On(what))
            return ManagementInterface.Problem(404, "not-found", $"{what.Target} is not switched off.");
        watch.Take();
        audit.Managed(context, who, $"switched {(isOff ? "off" : "on")} {what.Target}");
        return Results.NoContent();
    }
}
