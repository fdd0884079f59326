using RapidGable.Building;
using RapidGable.Publishing;
using RapidGable.Service.State;

namespace RapidGable.Service.Publishing;

/// <summary>Loads what was published last: from its texts, and from what the databases said when it was published.</summary>
/// <param name="folder">The workspace's folder, in which secrets and files of databases are.</param>
public sealed class RevisionReader(string folder, RevisionArchive archive, Func<string, string?> environment, ISourcePolicy? policy = null)
{
    /// <summary>The newest revision as a workspace.</summary>
    /// <exception cref="StateException">When there is none, or it cannot be read.</exception>
    public async Task<LoadedWorkspace> LoadAsync(CancellationToken cancellation)
    {
        var number = archive.NewestNumber;
        if (number == 0)
            throw new StateException("Nothing was published yet. Publish the workspace with 'gable publish' first.");
        return await LoadAsync(number, archive.Read(number), cancellation);
    }

    /// <summary>A revision as a workspace.</summary>
    public async Task<LoadedWorkspace> LoadAsync(int number, RevisionContent content, CancellationToken cancellation)
    {
        var texts = new RevisionTexts(folder, content);
        var loaded = await WorkspaceLoader.LoadAsync(texts, environment, cancellation, content.Record, policy);
        return loaded with { Revision = number };
    }

    /// <summary>A revision built on the databases as they are now.</summary>
    public Task<LoadedWorkspace> LoadAnewAsync(RevisionContent content, CancellationToken cancellation) =>
        WorkspaceLoader.LoadAsync(new RevisionTexts(folder, content), environment, cancellation, policy: policy);
}
