using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Sources;

namespace RapidGable.Publishing;

/// <summary>What is told of a published state of a workspace. A revision never changes; going back to one makes another.</summary>
/// <param name="Number">From 1, without gaps for as long as none was removed.</param>
/// <param name="At">When it was published (UTC).</param>
/// <param name="By">Who did it.</param>
/// <param name="Message">Why, in their words.</param>
/// <param name="Program">The version of the program that made it.</param>
/// <param name="Services">Its services, in the order of their names.</param>
/// <param name="Findings">What the checks said and did not keep it from being published.</param>
/// <param name="Changes">What it changed, in sentences.</param>
/// <param name="Breaking">Which of the changes break consumers.</param>
/// <param name="Opened">What it opened to whom.</param>
public sealed record RevisionSummary(
    int Number,
    DateTime At,
    string By,
    string Message,
    string Program,
    ImmutableArray<RevisionService> Services,
    ImmutableArray<string> Findings,
    ImmutableArray<string> Changes,
    ImmutableArray<string> Breaking,
    ImmutableArray<string> Opened
)
{
    /// <summary>The name under which what it holds is kept.</summary>
    public string Content { get; init; } = "";

    /// <summary>The revision that it went back to; null = it was made from the files.</summary>
    public int? BackTo { get; init; }

    /// <summary>When it may be removed (UTC); null = never.</summary>
    public DateTime? KeptUntil { get; init; }
}

/// <summary>A service of a revision.</summary>
/// <param name="Identity">Changes with what the service does, see <see cref="Building.Revision"/>.</param>
/// <param name="Sets">How many sets it has.</param>
public sealed record RevisionService(string Name, string Title, string Identity, int Sets);

/// <summary>What a revision holds: enough to serve it again, and to compare it.</summary>
/// <param name="Texts">All texts of the workspace by their names.</param>
/// <param name="Record">What the databases said of themselves.</param>
/// <param name="Services">The documents of each service.</param>
public sealed record RevisionContent(
    ImmutableSortedDictionary<string, byte[]> Texts,
    CatalogRecord Record,
    ImmutableSortedDictionary<string, ServiceDocuments> Services
)
{
    /// <summary>What is compared of the workspace and its sources: a hash of each section.</summary>
    public ImmutableSortedDictionary<string, string> Sections { get; init; } = ImmutableSortedDictionary<string, string>.Empty;
}

/// <summary>How a service showed itself.</summary>
/// <param name="Metadata">The OData metadata document with all sets; null = it has none on that face.</param>
/// <param name="OpenApi">The description of the plain REST face with all sets; null = it has none on that face.</param>
/// <param name="Access">All that callers may do.</param>
/// <param name="Facets">A hash of each thing that it says, see <see cref="PublishedText"/>.</param>
public sealed record ServiceDocuments(
    string? Metadata,
    string? OpenApi,
    AccessVisibility Access,
    ImmutableSortedDictionary<string, string> Facets
);

/// <summary>The texts of a revision as a workspace; secrets are those of today.</summary>
public sealed class RevisionTexts(string folder, RevisionContent content) : IWorkspaceStore
{
    public string Folder { get; } = folder;

    public WorkspaceTexts Read() =>
        new(
            Path.GetFileName(Folder),
            content.Texts.ToImmutableSortedDictionary(t => t.Key, t => t.Value.ToImmutableArray(), StringComparer.Ordinal)
        )
        {
            Secrets = WorkspaceSecrets.Read(Folder),
            HasOpenSecrets = WorkspaceSecrets.IsOpenToOthers(Folder),
        };
}
