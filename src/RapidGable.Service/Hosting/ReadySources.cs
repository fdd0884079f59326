using RapidGable.Inspection;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Hosting;

/// <summary>
/// Whether the sources answer, asked at most once in some seconds whoever wants to know, so that questions from outside do not become
/// questions to databases.
/// </summary>
internal sealed class ReadySources(ServiceRegistry registry, TimeProvider time)
{
    private static readonly TimeSpan Kept = TimeSpan.FromSeconds(3);

    private readonly Lock _lock = new();
    private Task<string?>? _asked;
    private DateTimeOffset _at;

    /// <summary>The first source that does not answer; null = all do.</summary>
    /// <param name="isInsider">Whoever runs the service asks, and hears what is so now.</param>
    public Task<string?> UnavailableAsync(bool isInsider, CancellationToken cancellation)
    {
        if (isInsider)
            return AskAsync().WaitAsync(cancellation);
        lock (_lock)
        {
            var now = time.GetUtcNow();
            if (_asked is null || (_asked.IsCompleted && now - _at >= Kept))
                (_asked, _at) = (AskAsync(), now);
            return _asked.WaitAsync(cancellation);
        }
    }

    private async Task<string?> AskAsync()
    {
        foreach (var source in registry.Workspace.Sources.Values)
        {
            if (await SourceProbe.PingAsync(source, CancellationToken.None) is not null)
                return source.Name;
        }
        return null;
    }
}
