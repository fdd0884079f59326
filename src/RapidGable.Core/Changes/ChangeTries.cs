using System.Diagnostics;
using System.Runtime.CompilerServices;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>
/// The tries of a change that others get in the way of, within the time of a statement. After its first collision a change waits for
/// its turn: those that collided go one after the other, so that they do not meet each other again and each of them gets through.
/// </summary>
public sealed class ChangeTries : IDisposable
{
    /// <summary>One turn for each source, for as long as it is in use.</summary>
    private static readonly ConditionalWeakTable<ISource, SemaphoreSlim> Turns = [];

    private readonly Stopwatch _clock = Stopwatch.StartNew();
    private SemaphoreSlim? _turn;

    /// <summary>Undoes what a unit did and waits until it may be tried again.</summary>
    /// <returns>False when the time is over.</returns>
    public async Task<bool> AgainAsync(ChangeUnit unit, CancellationToken cancellation)
    {
        // Who waits holds no locks that the one whose turn it is might need.
        await unit.DisposeAsync();
        var left = TimeSpan.FromSeconds(Limits.StatementSeconds) - _clock.Elapsed;
        if (left <= TimeSpan.Zero)
            return false;
        if (_turn is not null || unit.Source is not { } source)
        {
            await Task.Delay(Random.Shared.Next(5, 25), cancellation);
            return true;
        }
        var turn = Turns.GetValue(source, _ => new SemaphoreSlim(1));
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
