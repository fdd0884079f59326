using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Sources;
using RapidGable.UseCases;

namespace RapidGable.Service.Publishing;

/// <summary>The draft of a workspace: its files as they are, beside what is served.</summary>
/// <param name="environment">Gives variables.</param>
/// <param name="policy">Where sources may lead; null = anywhere.</param>
public sealed class Draft(string folder, Func<string, string?> environment, ISourcePolicy? policy = null)
{
    /// <summary>The draft as it is now; the caller disposes of it.</summary>
    public Task<LoadedWorkspace> LoadAsync(CancellationToken cancellation) =>
        WorkspaceLoader.LoadAsync(folder, environment, cancellation, policy);

    /// <summary>What is wrong with texts as such, settings of sources among them; no database is asked.</summary>
    public async Task<Diagnostics> ReadAsync(IWorkspaceStore texts)
    {
        var (declaration, diagnostics) = WorkspaceReader.Read(texts, environment);
        foreach (var item in declaration.Sources)
        {
            // What is opened connects with its first question, and is asked none.
            if (WorkspaceLoader.Open(item, declaration.Folder, diagnostics, policy?.Reading) is { } source)
                await source.DisposeAsync();
        }
        return diagnostics;
    }

    /// <summary>Connects to a source of texts that are not written yet, and looks at its catalog.</summary>
    /// <param name="secrets">Values of variables that are kept nowhere yet.</param>
    public Task<ConnectedSource> ConnectAsync(
        IWorkspaceStore texts,
        string source,
        IReadOnlyDictionary<string, string> secrets,
        CancellationToken cancellation
    ) =>
        ConnectedSource.TryAsync(
            texts,
            source,
            n => secrets.GetValueOrDefault(n) ?? environment(n),
            cancellation,
            policy?.Except(secrets.Keys)
        );

    /// <summary>Texts that are not written yet; the caller disposes of it.</summary>
    /// <param name="record">What the databases said; they are asked for what it does not hold.</param>
    public Task<LoadedWorkspace> LoadAsync(IWorkspaceStore texts, CatalogRecord record, CancellationToken cancellation) =>
        WorkspaceLoader.LoadAsync(texts, environment, cancellation, record, policy);
}
