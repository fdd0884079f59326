namespace RapidGable.Sources;

/// <summary>The sessions that a source may have at once.</summary>
/// <param name="longestWait">Who waits longer hears that the source is busy.</param>
internal sealed class SessionGate(int sessions, TimeSpan longestWait)
{
    private readonly SemaphoreSlim _free = new(sessions);

    /// <exception cref="SourceException">Busy: all sessions stay in use.</exception>
    public async ValueTask EnterAsync(CancellationToken cancellation)
    {
        if (!await _free.WaitAsync(longestWait, cancellation))
            throw new SourceException(SourceFaultKind.Busy, $"All {sessions} sessions were in use for {longestWait.TotalSeconds:0} seconds.");
    }

    public void Leave() => _free.Release();
}
