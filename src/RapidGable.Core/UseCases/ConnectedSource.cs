using System.Collections.Immutable;
using System.Diagnostics;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Sources;

namespace RapidGable.UseCases;

/// <summary>What came of connecting to a source.</summary>
/// <param name="Address">Where it is, without secrets; null = its settings have faults.</param>
/// <param name="Failure">Why it cannot be used, in plain words; null = it can.</param>
/// <param name="Faults">Of its file.</param>
/// <param name="Counts">Tables, views and the like by their schemas; a schema is null where the engine has none.</param>
public sealed record ConnectedSource(
    string? Address,
    string? Failure,
    ImmutableArray<Diagnostic> Faults,
    ImmutableArray<(string? Schema, string Kind, int Count)> Counts,
    TimeSpan Time
)
{
    /// <summary>Connects to one source of a workspace and reads its catalog, whatever of it will be on offer.</summary>
    /// <param name="environment">Gives variables.</param>
    /// <param name="policy">Where sources may lead; null = anywhere.</param>
    public static async Task<ConnectedSource> TryAsync(
        IWorkspaceStore texts,
        string name,
        Func<string, string?> environment,
        CancellationToken cancellation,
        ISourcePolicy? policy = null
    )
    {
        var clock = Stopwatch.StartNew();
        var (declaration, diagnostics) = WorkspaceReader.Read(texts, environment);
        var item = declaration.Sources.FirstOrDefault(s => s.Name == name);
        await using var source = item is null ? null : WorkspaceLoader.Open(item, declaration.Folder, diagnostics, policy);
        var file = $"sources/{name}.yaml";
        var faults = diagnostics.Items.Where(d => d.Severity == Severity.Error && d.Location.File == file).ToImmutableArray();
        if (source is null || !faults.IsEmpty)
            return new ConnectedSource(null, null, faults, [], clock.Elapsed);
        try
        {
            var catalog = await source.ReadCatalogAsync(cancellation);
            var counts = catalog
                .Objects.GroupBy(o => (o.Schema, Kind: o.Kind.Word()))
                .OrderBy(g => g.Key.Schema == catalog.DefaultSchema ? 0 : 1)
                .ThenBy(g => g.Key.Schema, StringComparer.Ordinal)
                .ThenBy(g => g.Key.Kind, StringComparer.Ordinal)
                .Select(g => (g.Key.Schema, g.Key.Kind, g.Count()));
            return new ConnectedSource(source.Address, null, [], [.. counts], clock.Elapsed);
        }
        catch (SourceException exception)
        {
            return new ConnectedSource(source.Address, exception.Message, [], [], clock.Elapsed);
        }
    }
}
