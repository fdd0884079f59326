namespace RapidGable.Changes;

/// <summary>
/// The tries of a change that others get in the way of. After its first collision a change waits for its turn: those that collided go one
/// after the other, so that they do not meet each other again and each of them gets through.
/// </summary>
public sealed class ChangeRetries : IDisposable
{
    private readonly ChangeEnvironment _environment;
    private readonly TimeSpan _limit;
    private readonly long _begun;
    private SemaphoreSlim? _turn;

    internal ChangeRetries(ChangeEnvironment environment, TimeSpan limit)
    {
        _environment = environment;
        _limit = limit;
        _begun = environment.Time.GetTimestamp();
    }

    /// <summary>Undoes what a unit did and waits until it may be tried again.</summary>
    /// <returns>False when the time is over.</returns>
    public async Task<bool> AgainAsync(ChangeUnit unit, CancellationToken cancellation)
    {
        // Who waits holds no locks that the one whose turn it is might need.
        await unit.DisposeAsync();
        var left = _limit - _environment.Time.GetElapsedTime(_begun);
        if (left <= TimeSpan.Zero)
            return false;
        if (_turn is not null || unit.Source is not { } source)
        {
            await Task.Delay(_environment.Pause(), cancellation);
            return true;
        }
        var turn = _environment.TurnOf(source);
        if (!await turn.WaitAsync(left, cancellation))
            return false;
        _turn = turn;
        return true;
    }

    /// <summary>Lets the next one try.</summary>
    public void Dispose()
    {
        _turn?.Release();
        _turn = null;
    }
}
