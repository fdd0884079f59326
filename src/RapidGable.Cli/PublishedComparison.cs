using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Building;
using RapidGable.Publishing;
using RapidGable.Service.Publishing;
using RapidGable.Service.Revisions;
using RapidGable.Service.Stores;
using RapidGable.Sources;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary>What the draft changes of what was published last, or of what a file says, and whether the databases still fit.</summary>
/// <param name="With">What it is compared with, in words; null = nothing.</param>
/// <param name="Reviews">What becomes of each service that is not the same.</param>
/// <param name="Drift">In what the databases have moved away from the newest revision.</param>
/// <param name="IsStrict">What breaks consumers is a fault.</param>
internal sealed record PublishedComparison(
    string? With,
    ImmutableArray<ServiceReview> Reviews,
    ImmutableArray<DriftFinding> Drift,
    bool IsStrict
)
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web) { WriteIndented = true };

    /// <summary>How many of the differences are faults.</summary>
    public int Faults => (IsStrict ? Reviews.Sum(r => r.Breaking.Count()) : 0) + Drift.Count(d => d.Breaks);

    public IEnumerable<object> ForJson =>
        Reviews.Select(r => new
        {
            service = r.Name,
            change = r.Change.ToString().ToLowerInvariant(),
            faces = r.Faces.Select(f => new { f.Face, f.Differences }),
            r.Opened,
        });

    /// <param name="keep">A file to write; null = none.</param>
    /// <param name="against">A file to compare with; null = the newest revision.</param>
    public static async Task<PublishedComparison> MakeAsync(
        LoadedWorkspace workspace,
        string? keep,
        string? against,
        CancellationToken cancellation
    )
    {
        var archive = new RevisionArchive(WorkspaceState.Of(workspace.Declaration));
        var former = against is null ? null : Read(against);
        var newest = former is null ? archive.NewestNumber : 0;
        var drift = newest > 0 ? await DriftOfAsync(workspace, archive, newest, cancellation) : [];
        if (workspace.Diagnostics.HasErrors)
            return new PublishedComparison(null, [], drift, false);
        var now = await PublishWorkspace.ContentOfAsync(workspace, cancellation);
        if (keep is not null)
            Write(keep, now);
        var before = former ?? (newest > 0 ? archive.Read(newest) : null);
        return new PublishedComparison(
            against is not null ? against
                : newest > 0 ? $"revision {newest}"
                : null,
            before is null ? [] : [.. PublishWorkspace.Compare(before, now)],
            drift,
            against is not null
        );
    }

    private static Task<ImmutableArray<DriftFinding>> DriftOfAsync(
        LoadedWorkspace workspace,
        RevisionArchive archive,
        int newest,
        CancellationToken cancellation
    )
    {
        var reader = new RevisionReader(workspace.Declaration.Folder, archive, WorkspaceState.Variables(workspace.Declaration.Folder));
        return DriftCheck.RunAsync(reader, archive.Read(newest), cancellation);
    }

    /// <summary>Only what is compared: texts and catalogs stay where they are.</summary>
    private static void Write(string file, RevisionContent content)
    {
        var kept = content with { Texts = content.Texts.Clear(), Record = CatalogRecord.Empty };
        try
        {
            File.WriteAllText(file, JsonSerializer.Serialize(kept, Json) + "\n");
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            throw new UsageException($"'{file}' cannot be written: {exception.Message}");
        }
        Terminal.Error.WriteLine($"kept: {file}");
    }

    private static RevisionContent Read(string file)
    {
        try
        {
            return JsonSerializer.Deserialize<RevisionContent>(File.ReadAllText(file), Json) is { Services: not null } read
                ? read
                : throw new JsonException("It names no services.");
        }
        catch (Exception exception) when (exception is JsonException or IOException or UnauthorizedAccessException)
        {
            throw new UsageException($"'{file}' cannot be compared with: {exception.Message} 'gable check --keep' writes one that can.");
        }
    }

    /// <summary>Tells it on the terminal.</summary>
    public void Write()
    {
        foreach (var finding in Drift)
        {
            var who = finding.Affected.IsEmpty ? "" : $" Affected: {string.Join(", ", finding.Affected)}.";
            var text = Markup.Escape($"{finding.Service}: {finding.Text.TrimEnd('.')}.{who}");
            Terminal.Out.MarkupLine($"{(finding.Breaks ? "[red]drift[/]" : "[olive]drift[/]")} {text}");
        }
        if (With is null || Reviews.IsEmpty)
            return;
        Terminal.Out.WriteLine($"Since {With}:");
        foreach (var review in Reviews)
            PublishCommand.Write(review, 1);
        Terminal.Out.WriteLine();
    }
}
