namespace RapidGable.Service.Traffic;

/// <summary>
/// Tells when the heap of the process is nearly as large as it may become, so that new requests are refused (503) before one that is
/// already running finds no memory. The limit is that of the runtime: <c>DOTNET_GCHeapHardLimit</c>, or a share of the machine.
/// </summary>
internal sealed class MemoryGuard
{
    private const double Scarce = 0.9;
    private const long BetweenLooks = 50;
    private const long BetweenCollections = 1_000;
    private readonly Lock _collecting = new();
    private long _looked = long.MinValue / 2;
    private long _collected = long.MinValue / 2;
    private volatile bool _isScarce;

    /// <summary>Whether new work should wait; looked up at most every 50 ms.</summary>
    public bool IsScarce
    {
        get
        {
            var now = Environment.TickCount64;
            if (now - Interlocked.Read(ref _looked) < BetweenLooks)
                return _isScarce;
            Interlocked.Exchange(ref _looked, now);
            return _isScarce = IsFull() && StaysFull(now);
        }
    }

    private static bool IsFull() => GC.GetTotalMemory(forceFullCollection: false) > Scarce * GC.GetGCMemoryInfo().TotalAvailableMemoryBytes;

    /// <summary>What is full may hold much that nobody needs any more.</summary>
    private bool StaysFull(long now)
    {
        lock (_collecting)
        {
            if (now - _collected >= BetweenCollections)
            {
                _collected = now;
                GC.Collect(GC.MaxGeneration, GCCollectionMode.Forced, blocking: true, compacting: true);
            }
            return IsFull();
        }
    }
}
