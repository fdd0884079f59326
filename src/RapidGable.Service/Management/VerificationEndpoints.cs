using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Verification;

namespace RapidGable.Service.Management;

/// <summary>The parts of the management interface that prove the services of the draft, as 'gable verify' does.</summary>
internal static class VerificationEndpoints
{
    private const long StandardRows = 10_000;

    /// <param name="Services">Missing = all, and the kept requests.</param>
    private sealed record StartBody(string[]? Services, long? Rows, bool? Access);

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry)
    {
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/verifications", (VerificationRuns runs, VerificationArchive archive) =>
                StateGuard.Guard(() => ManagementInterface.Json(new Verifications(State(runs.Current), archive.All().Select(Summary))))
            );
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/verifications/{number:int}", (int number, VerificationArchive archive) =>
                StateGuard.Guard(() => Details(number, archive))
            );
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/verifications/{number:int}/report", (int number, HttpContext context, VerificationArchive archive) =>
                StateGuard.Guard(() => Report(context, number, archive, registry.Workspace.Declaration.Title))
            );
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/verifications", (HttpContext context, VerificationRuns runs, AuditLog audit) =>
                StateGuard.GuardAsync(() => StartAsync(context, runs, registry, audit))
            );
        manage
            .Needing(ManagementRights.Write)
            .MapDelete("/verifications/current", async (HttpContext context, VerificationRuns runs, AuditLog audit) =>
            {
                await runs.CancelAsync();
                audit.Managed(context, AccountEndpoints.AdministratorOf(context), "cancelled a verification");
                return Results.NoContent();
            });
    }

    private static async Task<IResult> StartAsync(HttpContext context, VerificationRuns runs, ServiceRegistry registry, AuditLog audit)
    {
        var body = await StateGuard.BodyAsync<StartBody>(context);
        var names = registry.All.Select(s => s.Model.Service).ToHashSet();
        if ((body.Services ?? []).FirstOrDefault(s => !names.Contains(s)) is { } unknown)
            return ManagementInterface.Problem(400, "service", $"There is no service '{unknown}'.");
        if (body.Rows is < 1 or > 10_000_000)
            return ManagementInterface.Problem(400, "rows", "Rows of a set to walk: 1 to 10000000.");
        var by = AccountEndpoints.AdministratorOf(context);
        if (!runs.TryStart(new VerificationWish([.. body.Services ?? []], body.Rows ?? StandardRows, body.Access ?? true), by))
            return ManagementInterface.Problem(409, "running", "A verification is running. Wait for it, or cancel it.");
        audit.Managed(context, by, $"verifies {(body.Services is { Length: > 0 } some ? string.Join(", ", some) : "all services")}");
        return Results.Json(State(runs.Current), ManagementInterface.JsonOptions, statusCode: 202);
    }

    private static VerificationState? State(VerificationRuns.State? run) =>
        run is null
            ? null
            : new VerificationState(run.At, run.By, run.Services, run.IsRunning, run.Part, run.Detail, run.Done, run.Failure, run.Number);

    private static VerificationSummary Summary(KeptVerification kept) =>
        new(
            kept.Number,
            kept.At,
            kept.By,
            kept.Services,
            kept.Report.Count(CheckOutcome.Passed),
            kept.Report.Count(CheckOutcome.Failed),
            kept.Report.Count(CheckOutcome.Skipped),
            kept.Report.Services.Sum(s => s.Time.TotalSeconds)
        );

    private static IResult NotKept(int number) => ManagementInterface.Problem(404, "not-found", $"The verification {number} is not kept.");

    private static IResult Details(int number, VerificationArchive archive)
    {
        if (archive.Find(number) is not { } kept)
            return NotKept(number);
        var before = archive.All().FirstOrDefault(k => k.Number < number && k.Services.SequenceEqual(kept.Services));
        var (then, now) = (OutcomesOf(before), OutcomesOf(kept));
        IEnumerable<string> Turned(CheckOutcome from, CheckOutcome to) =>
            now.Where(n => n.Value == to && then.TryGetValue(n.Key, out var was) && was == from).Select(n => n.Key);
        return ManagementInterface.Json(
            new VerificationDetails(
                Summary(kept),
                kept.Report.Services.Select(s => new VerifiedPart(s.Service, s.Url, s.Time.TotalSeconds, s.Results.Select(Check))),
                before?.Number,
                Turned(CheckOutcome.Passed, CheckOutcome.Failed),
                Turned(CheckOutcome.Failed, CheckOutcome.Passed)
            )
        );
    }

    /// <summary>Each check by the words that name it from one run to the next.</summary>
    private static Dictionary<string, CheckOutcome> OutcomesOf(KeptVerification? kept) =>
        (kept?.Report.Services ?? [])
            .SelectMany(s => s.Results.Select(r => (Name: $"{s.Service}: {r.Subject} {r.Check}", r.Outcome)))
            .GroupBy(r => r.Name)
            .ToDictionary(g => g.Key, g => g.Any(r => r.Outcome == CheckOutcome.Failed) ? CheckOutcome.Failed : g.First().Outcome);

    private static VerifiedCheck Check(CheckResult result) =>
        new(result.Check, result.Subject, result.Outcome.ToString().ToLowerInvariant(), result.Message, result.Examined, result.Url);

    private static IResult Report(HttpContext context, int number, VerificationArchive archive, string title) =>
        archive.Find(number) is { } kept
            ? ManagementInterface.Page(context, HtmlReport.Write(kept.Report, title, kept.At))
            : NotKept(number);
}
