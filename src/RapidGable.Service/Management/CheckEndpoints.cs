using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Declarations;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Service.Revisions;
using RapidGable.UseCases;

namespace RapidGable.Service.Management;

/// <summary>The parts of the management interface that prove something: the files of the workspace, and keys.</summary>
internal static class CheckEndpoints
{
    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry, TimeProvider time)
    {
        manage
            .Needing(ManagementRights.Write)
            .MapPost(
                "/check",
                (HttpContext context, bool? data, IAccountStore accounts, AuditLog audit, Draft draft, RevisionArchive archive) =>
                {
                    audit.Managed(context, AccountEndpoints.AdministratorOf(context), "checked the workspace");
                    return CheckAsync(draft, archive, data ?? true, RolesOf(accounts.Current), context.RequestAborted);
                }
            );
        manage
            .Needing(ManagementRights.Write)
            .MapGet("/sources/{source}/keys", (string source, string? name, HttpContext context) =>
                ProgressAnswer.RunAsync(context, $"'{name}'", time, (progress, cancellation) =>
                    KeysAsync(registry, source, name ?? "", progress, cancellation)
                )
            );
    }

    private static List<string> RolesOf(AccountDirectory? accounts) =>
        accounts is null ? [] : [.. accounts.Users.Values.SelectMany(u => u.Roles).Concat(accounts.Keys.Values.SelectMany(k => k.Roles))];

    /// <summary>The files as they are now, which need not be what is published.</summary>
    /// <param name="withData">Also read all rows.</param>
    private static async Task<IResult> CheckAsync(
        Draft draft,
        RevisionArchive archive,
        bool withData,
        IReadOnlyCollection<string> roles,
        CancellationToken cancellation
    )
    {
        await using var workspace = await draft.LoadAsync(cancellation);
        var report = await new CheckWorkspace(workspace, new CheckOptions(withData, roles)).RunAsync(_ => { }, cancellation);
        var newest = archive.NewestNumber;
        var changes =
            newest == 0 || workspace.Diagnostics.HasErrors
                ? null
                : PublishWorkspace
                    .Compare(archive.Read(newest), await PublishWorkspace.ContentOfAsync(workspace, cancellation))
                    .ToDictionary(r => r.Name);
        return ManagementInterface.Json(
            new CheckAnswer(report.Faults == 0, report.Diagnostics.Items.Select(Finding), report.Services.Select(s => Service(s, changes)))
        );
    }

    internal static CheckFinding Finding(Diagnostic item)
    {
        var hasPlace = item.Location.Line > 0;
        return new CheckFinding(
            item.Severity == Severity.Error ? "error" : "warning",
            item.Code,
            item.Message,
            item.Location.File,
            hasPlace ? item.Location.Line : null,
            hasPlace ? item.Location.Column : null,
            item.Advice
        );
    }

    /// <param name="changes">Since the newest revision; null = there is none.</param>
    private static CheckedServiceInfo Service(CheckedService found, Dictionary<string, ServiceReview>? changes)
    {
        var review = changes?.GetValueOrDefault(found.Service.Model.Service);
        return new CheckedServiceInfo(
            found.Service.Model.Service,
            found.Proofs.Select(p => new DataProofInfo(p.Set, p.What, p.Rows, p.Fault, p.Examples)),
            changes is null
                ? null
                : (review?.Faces ?? [])
                    .SelectMany(f => f.Differences)
                    .DistinctBy(d => (d.Subject, d.What))
                    .Select(c => new MetadataChange(c.Subject, c.What, c.Meaning, c.IsBreaking)),
            changes is null ? null : review?.Opened ?? []
        );
    }

    private static async Task<object> KeysAsync(
        ServiceRegistry registry,
        string source,
        string name,
        Action<string> progress,
        CancellationToken cancellation
    )
    {
        var found = await new FindKeys(registry.Workspace).OfAsync(source, name, progress, cancellation);
        var findings = found.Findings;
        return new KeysAnswer(
            name,
            found.Item.PrimaryKey,
            findings.Rows,
            findings.Tried,
            findings.IsComplete,
            findings.Candidates.Select(c => new KeyProposal(c.Columns, c.Reason))
        );
    }
}
