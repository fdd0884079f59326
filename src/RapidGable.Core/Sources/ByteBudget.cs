namespace RapidGable.Sources;

/// <summary>Bytes that may be held in memory at once.</summary>
/// <param name="most">The most; at least 0.</param>
/// <param name="whole">The budget that this one is a part of; null = none.</param>
public sealed class ByteBudget(long most, ByteBudget? whole = null)
{
    private long _used;
    private long _peak;

    public long Most => most;

    /// <summary>Bytes that are held now.</summary>
    public long Used => Interlocked.Read(ref _used);

    /// <summary>The most that were held at any time.</summary>
    public long Peak => Interlocked.Read(ref _peak);

    /// <summary>Takes bytes from the budget; false when so many are not left, and then none are taken.</summary>
    public bool TryTake(long bytes)
    {
        var used = Interlocked.Add(ref _used, bytes);
        if (used > most || whole?.TryTake(bytes) == false)
        {
            Interlocked.Add(ref _used, -bytes);
            return false;
        }
        for (var peak = Peak; used > peak && Interlocked.CompareExchange(ref _peak, used, peak) != peak; peak = Peak) { }
        return true;
    }

    /// <summary>Gives back what was taken.</summary>
    public void Give(long bytes)
    {
        Interlocked.Add(ref _used, -bytes);
        whole?.Give(bytes);
    }
}

/// <summary>More would be held in memory than a request, or the process, may.</summary>
/// <param name="isProcess">The process has no memory left for it at the moment; else it is too much for one request at any time.</param>
public sealed class MemoryExceededException(bool isProcess)
    : Exception(isProcess ? "The memory budget of the process is used up." : "The memory budget of the request is used up.")
{
    public bool IsProcess => isProcess;
}
