using System.Collections.Immutable;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Publishing;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Revisions;

/// <summary>Builds the published revision once more on the databases as they are, and tells what comes out differently.</summary>
public static class DriftCheck
{
    /// <summary>What does not fit any more; empty = all does.</summary>
    public static async Task<ImmutableArray<DriftFinding>> RunAsync(
        RevisionReader reader,
        RevisionContent content,
        CancellationToken cancellation
    )
    {
        await using var now = await reader.LoadAnewAsync(content, cancellation);
        var faults = now.Diagnostics.Items.Where(d => d.Severity == Severity.Error).ToList();
        // A database that is down has not moved.
        if (faults.Exists(f => f.Code == WorkspaceLoader.SourceDown))
            return [];
        var found = ImmutableArray.CreateBuilder<DriftFinding>();
        foreach (var fault in faults)
        {
            var service = now.Declaration.Services.FirstOrDefault(s => s.Location.File == fault.Location.File)?.Name;
            found.Add(new DriftFinding(service, fault.Message, true, AffectedBy(content, service, fault.Message)));
        }
        if (faults.Count > 0)
            return found.ToImmutable();
        // Texts and rules are the same, so whatever differs came with a database.
        var built = await PublishWorkspace.ContentOfAsync(now, cancellation);
        foreach (var review in PublishWorkspace.Compare(content, built))
        {
            var told = review.Faces.SelectMany(f => f.Differences).DistinctBy(d => (d.Subject, d.What)).ToList();
            found.AddRange(
                told.Select(d => new DriftFinding(
                    review.Name,
                    $"{d.Subject}: {d.What}",
                    d.IsBreaking,
                    AffectedBy(content, review.Name, d.Subject)
                ))
            );
            if (told.Count == 0)
                found.AddRange(
                    review.Differences.Select(d => new DriftFinding(review.Name, d, false, AffectedBy(content, review.Name, d)))
                );
        }
        return found.ToImmutable();
    }

    /// <summary>Who may read a set whose name or type a text holds; where it holds none, who may read anything of the service.</summary>
    private static ImmutableArray<string> AffectedBy(RevisionContent content, string? service, string text) =>
        service is null || content.Services.GetValueOrDefault(service) is not { } documents ? []
        : Readers(documents, e => Mentions(text, e.What)) is { IsEmpty: false } some ? some
        : Readers(documents, _ => true);

    private static ImmutableArray<string> Readers(ServiceDocuments documents, Func<AccessEntry, bool> isAbout) =>
        [.. documents.Access.Entries.Where(e => e.May == "read" && !e.What.Contains('.') && isAbout(e)).Select(e => e.Caller).Distinct()];

    private static bool Mentions(string text, string set)
    {
        var words = text.Split([' ', '/', '.', '\'', ',', ':', '(', ')'], StringSplitOptions.RemoveEmptyEntries);
        // A type is called like one of the set's entities.
        return words.Any(w =>
            w.Equals(set, StringComparison.OrdinalIgnoreCase) || (w.Length > 3 && set.StartsWith(w, StringComparison.Ordinal))
        );
    }
}
