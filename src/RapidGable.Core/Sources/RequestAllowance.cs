namespace RapidGable.Sources;

/// <summary>What a request will make a database work, as far as it can be known.</summary>
public enum WorkClass
{
    /// <summary>A row by its key.</summary>
    Short,

    /// <summary>Anything else.</summary>
    Usual,

    /// <summary>Statements and aggregations of callers, and what took long the last time.</summary>
    Heavy,
}

/// <summary>How callers wait for the sessions of a source while all are in use.</summary>
/// <param name="Waiting">Requests that may wait at once.</param>
/// <param name="WaitingOfOne">Requests of one caller that may wait at once.</param>
/// <param name="IsFair">While others wait, a caller has a share of the sessions, and the one who used the source least is next; else the
/// order of arrival decides.</param>
public sealed record SessionSharing(int Waiting, int WaitingOfOne, bool IsFair)
{
    public static readonly SessionSharing Standard = new(500, 100, true);
}

/// <summary>
/// What one request may take of what all share: bytes in memory and sessions of sources. Everything that it holds is given back when it
/// ends.
/// </summary>
/// <param name="who">Whose request it is: the same text for all requests of one caller.</param>
/// <param name="process">What all requests hold together.</param>
/// <param name="most">Bytes that the request may hold.</param>
/// <param name="files">What files of answers take together; null = as much as they want.</param>
public sealed class RequestAllowance(
    string who,
    bool isAnonymous,
    ByteBudget process,
    long most,
    SessionSharing sharing,
    ByteBudget? files = null
) : IDisposable
{
    private readonly Lock _lock = new();
    private long _used;
    private WorkClass _work = WorkClass.Usual;
    private bool _isOver;

    /// <summary>What the service itself takes, for nobody's request; nothing of it is counted.</summary>
    public static RequestAllowance Own { get; } =
        new("", false, new ByteBudget(long.MaxValue), long.MaxValue, SessionSharing.Standard) { IsUncounted = true };

    private bool IsUncounted { get; init; }

    public string Who => who;

    /// <summary>What the next session is for.</summary>
    public WorkClass Work
    {
        get => _work;
        set => _work = IsUncounted ? WorkClass.Usual : value;
    }

    /// <summary>The caller is not signed in; all such callers have a share together.</summary>
    public bool IsAnonymous => isAnonymous;

    public SessionSharing Sharing => sharing;

    /// <summary>Bytes on the disk that answers of all requests take.</summary>
    public ByteBudget Files { get; } = files ?? new ByteBudget(long.MaxValue);

    /// <summary>Bytes that the request holds.</summary>
    public long Used => Interlocked.Read(ref _used);

    /// <summary>Takes bytes; null when there are so many, else why there are not. A request that has ended takes none.</summary>
    public MemoryExceededException? TryTake(long bytes)
    {
        if (IsUncounted)
            return null;
        lock (_lock)
        {
            if (_isOver || _used + bytes > most)
                return new MemoryExceededException(isProcess: false);
            if (!process.TryTake(bytes))
                return new MemoryExceededException(isProcess: true);
            _used += bytes;
            return null;
        }
    }

    /// <exception cref="MemoryExceededException">When there are not so many bytes.</exception>
    public void Take(long bytes)
    {
        if (TryTake(bytes) is { } exceeded)
            throw exceeded;
    }

    /// <summary>Gives back what was taken; nothing is left to give back once the request has ended.</summary>
    public void Give(long bytes)
    {
        lock (_lock)
        {
            if (_isOver || IsUncounted)
                return;
            _used -= bytes;
            process.Give(bytes);
        }
    }

    /// <summary>The request has ended.</summary>
    public void Dispose()
    {
        if (IsUncounted)
            return;
        lock (_lock)
        {
            _isOver = true;
            process.Give(_used);
            _used = 0;
        }
    }
}
