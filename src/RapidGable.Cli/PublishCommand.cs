using System.CommandLine;
using RapidGable.Declarations;
using RapidGable.Inspection;
using RapidGable.Service.Publishing;
using RapidGable.Service.Revisions;
using RapidGable.Service.Stores;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable publish</c>: makes a revision of the files.</summary>
internal static class PublishCommand
{
    public static Command Create()
    {
        var workspace = CommonOptions.Workspace();
        var message = new Option<string?>("--message") { Description = "Why, in a few words. Without it the changes are only shown." };
        var breaking = new Option<bool>("--allow-breaking") { Description = "Agree that consumers may break." };
        var opened = new Option<bool>("--allow-opened") { Description = "Agree that more becomes visible or possible." };
        var noData = new Option<bool>("--no-data") { Description = "Look at the catalog only; do not read rows to prove keys and types." };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "publish",
            "Show what the files change for consumers and callers, and with a message publish them as a revision.",
            "gable publish demo",
            "gable publish demo --message \"Visits show their report\"",
            "gable publish demo --message \"Codes are texts\" --allow-breaking"
        )
        {
            workspace,
            message,
            breaking,
            opened,
            noData,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(message),
                    new PublishConsent(
                        Environment.UserName,
                        result.GetValue(message) ?? "",
                        result.GetValue(breaking),
                        result.GetValue(opened)
                    ),
                    !result.GetValue(noData),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string folder,
        string? message,
        PublishConsent consent,
        bool withData,
        bool json,
        CancellationToken cancellation
    )
    {
        if (message is not null && PublishWorkspace.MessageFault(message) is { } wrong)
            throw new UsageException(wrong);
        await using var draft = await Terminal.LoadAsync(folder, cancellation);
        var archive = new RevisionArchive(WorkspaceState.Of(draft.Declaration));
        var publishing = new PublishWorkspace(draft, archive, TimeProvider.System);
        var review = await Terminal.WithStatusAsync(withData ? "Checking the data" : "Checking", json, progress =>
            publishing.ReviewAsync(withData, progress, cancellation)
        );
        if (!json)
            Write(review);
        if (message is null)
        {
            if (json)
                Terminal.WriteJson(ForJson(review, null, null));
            else if (!review.HasFaults && !(review.IsEmpty && review.BasedOn > 0))
                Terminal.Out.MarkupLine("[grey]Nothing was published. Say why with --message to publish this.[/]");
            return review.HasFaults ? 1 : 0;
        }
        var (revision, refusal) = await publishing.PublishAsync(review, consent, cancellation);
        if (revision is not null)
            AccountOptions.Note(folder, $"published revision {revision.Number}: {revision.Message}");
        if (json)
            Terminal.WriteJson(ForJson(review, revision?.Number, refusal));
        else if (revision is not null)
            Terminal.Out.MarkupLine($"[green]Published as revision {revision.Number}.[/]");
        else
            Terminal.Out.MarkupLine($"[red]{Markup.Escape(refusal!.Message)}[/]{Markup.Escape(AdviceOf(refusal))}");
        return revision is null ? 1 : 0;
    }

    private static string AdviceOf(PublishRefusal refusal) =>
        refusal.Code switch
        {
            "breaking" => " Agree with --allow-breaking.",
            "opened" => " Agree with --allow-opened.",
            _ => "",
        };

    private static object ForJson(PublicationReview review, int? revision, PublishRefusal? refusal) =>
        new
        {
            ok = !review.HasFaults && refusal is null,
            revision,
            refusal,
            review.BasedOn,
            services = review.Services.Select(s => new
            {
                s.Name,
                change = s.Change.ToString().ToLowerInvariant(),
                s.Differences,
                faces = s.Faces.Select(f => new { f.Face, f.Differences }),
                s.Opened,
            }),
            review.Settings,
            findings = review.Findings.Select(Terminal.ForJson),
            data = review
                .Proofs.Where(p => p.Fault is not null)
                .Select(p => new
                {
                    p.Service,
                    p.Set,
                    p.What,
                    p.Fault,
                }),
        };

    private static void Write(PublicationReview review)
    {
        foreach (var finding in review.Findings.Where(f => f.Severity == Severity.Error))
            Terminal.Error.MarkupLine($"[red]{Markup.Escape(finding.Render())}[/]");
        foreach (var proof in review.Proofs.Where(p => p.Fault is not null))
            Terminal.Error.MarkupLine($"[red]{Markup.Escape($"{proof.Service}/{proof.Set}: {proof.Fault}")}[/]");
        var warnings = review.Findings.Count(f => f.Severity == Severity.Warning && !IndexAdvice.Is(f));
        if (warnings > 0)
            Terminal.Out.MarkupLine($"[olive]{Terminal.Plural(warnings, "warning")}[/]; 'gable check' shows them.");
        if (review.HasFaults)
            return;
        Terminal.Out.WriteLine(
            review.BasedOn == 0 ? "Nothing was published before."
            : review.IsEmpty ? $"The files say what revision {review.BasedOn} says."
            : $"Since revision {review.BasedOn}:"
        );
        foreach (var service in review.Services)
            Write(service, review.BasedOn);
        foreach (var setting in review.Settings)
            Terminal.Out.WriteLine($"  {setting}");
        WriteLacks(review);
    }

    private static void WriteLacks(PublicationReview review)
    {
        var lacks = review.Findings.Where(IndexAdvice.Is).ToList();
        if (lacks.Count > 0)
            Terminal.Out.WriteLine("The database lacks:");
        foreach (var lack in lacks)
            Terminal.Out.MarkupLine($"  {Markup.Escape(lack.Advice!)} [grey]{Markup.Escape(lack.Message)}[/]");
    }

    /// <summary>What becomes of a service, with what it means for its consumers.</summary>
    internal static void Write(ServiceReview service, int basedOn)
    {
        Terminal.Out.MarkupLine(
            $"  [bold]{Markup.Escape(service.Name)}[/]"
                + (
                    service.Change == ServiceChange.New ? " is new"
                    : service.Change == ServiceChange.Gone ? " [red]is gone: requests to it answer 404[/]"
                    : ""
                )
        );
        foreach (var difference in service.Differences)
            Terminal.Out.WriteLine($"    {difference}");
        foreach (var face in service.Faces)
        {
            foreach (var difference in face.Differences.OrderByDescending(d => d.IsBreaking))
            {
                Terminal.Out.MarkupLine(
                    $"    {(difference.IsBreaking ? "[red]breaks[/]" : "[green]adds[/]  ")} [grey]{face.Face, -5}[/] "
                        + $"{Markup.Escape($"{difference.Subject}: {difference.What}")}"
                );
                if (difference.IsBreaking)
                    Terminal.Out.MarkupLine($"                 [grey]{Markup.Escape(difference.Meaning)}[/]");
            }
        }
        // With the first revision everything is opened, and the rules say it better.
        foreach (var text in service.Change == ServiceChange.New && basedOn == 0 ? [] : service.Opened)
            Terminal.Out.MarkupLine($"    [olive]opens[/]  {Markup.Escape(text)}");
    }

    /// <summary>The revisions of a workspace.</summary>
    /// <exception cref="UsageException">When the folder is no workspace.</exception>
    internal static RevisionArchive ArchiveOf(string folder)
    {
        if (!File.Exists(Path.Combine(folder, "workspace.yaml")))
            throw new UsageException($"'{folder}' is not a workspace: it has no workspace.yaml.");
        return new RevisionArchive(WorkspaceState.Of(folder));
    }
}
