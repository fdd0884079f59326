using RapidGable.Building;

namespace RapidGable.Service.Publishing;

/// <summary>The draft of a workspace: its files as they are, beside what is served.</summary>
/// <param name="load">Reads them, and the catalogs.</param>
public sealed class Draft(Func<CancellationToken, Task<LoadedWorkspace>> load)
{
    /// <summary>The draft as it is now; the caller disposes of it.</summary>
    public Task<LoadedWorkspace> LoadAsync(CancellationToken cancellation) => load(cancellation);
}
