using System.Collections.Immutable;
using RapidGable.Service.Publishing;
using RapidGable.Verification;

namespace RapidGable.Service.Management;

/// <summary>What is asked of a verification.</summary>
/// <param name="Services">Empty = all, and the kept requests.</param>
/// <param name="Rows">Rows of a set to walk at most.</param>
/// <param name="WithAccess">Also try who may do what.</param>
public sealed record VerificationWish(ImmutableArray<string> Services, long Rows, bool WithAccess);

/// <summary>Verifies the draft.</summary>
/// <param name="progress">Is told what is being done: a part of it, and what of that part.</param>
/// <exception cref="InvalidDataException">When the draft has faults.</exception>
public delegate Task<VerificationReport> VerificationWork(
    VerificationWish wish,
    Action<string, string> progress,
    CancellationToken cancellation
);

/// <summary>Runs verifications, one at a time, beside what is served.</summary>
public sealed class VerificationRuns(VerificationWork work, VerificationArchive archive, TimeProvider time) : IAsyncDisposable
{
    private readonly Lock _lock = new();
    private Run? _run;

    /// <summary>A verification that is running, or the last one that was.</summary>
    /// <param name="At">When it was started (UTC).</param>
    public sealed record State(DateTime At, string By, ImmutableArray<string> Services, bool IsRunning, ImmutableArray<string> Done)
    {
        /// <summary>The part that is being done, and what of it.</summary>
        public string Part { get; init; } = "";

        public string Detail { get; init; } = "";

        /// <summary>Why it ended without a report; null = it did not.</summary>
        public string? Failure { get; init; }

        /// <summary>The number under which its report is kept; null = there is none.</summary>
        public int? Number { get; init; }
    }

    private sealed class Run(State state, CancellationTokenSource cancellation)
    {
        public State State { get; set; } = state;

        public CancellationTokenSource Cancellation => cancellation;

        public Task Work { get; set; } = Task.CompletedTask;
    }

    /// <summary>The run that is going on, or the last one; null = there was none since the service started.</summary>
    public State? Current
    {
        get
        {
            lock (_lock)
                return _run?.State;
        }
    }

    /// <summary>Starts a verification; false = one is running.</summary>
    public bool TryStart(VerificationWish wish, string by)
    {
        lock (_lock)
        {
            if (_run is { State.IsRunning: true })
                return false;
            _run?.Cancellation.Dispose();
            var run = new Run(new State(time.GetUtcNow().UtcDateTime, by, wish.Services, true, []), new CancellationTokenSource());
            _run = run;
            run.Work = Task.Run(() => WorkAsync(run, wish));
            return true;
        }
    }

    /// <summary>Ends the run that is going on, without a report.</summary>
    public async Task CancelAsync()
    {
        Run? run;
        lock (_lock)
            run = _run;
        if (run is not { State.IsRunning: true })
            return;
        await run.Cancellation.CancelAsync();
        await run.Work;
    }

    private async Task WorkAsync(Run run, VerificationWish wish)
    {
        try
        {
            var report = await work(wish, (part, detail) => Tell(run, part, detail), run.Cancellation.Token);
            var kept = archive.Keep(run.State.At, run.State.By, wish.Services, report);
            End(run, s => s with { Number = kept.Number });
        }
        catch (OperationCanceledException)
        {
            End(run, s => s with { Failure = "It was cancelled." });
        }
        catch (Exception exception)
        {
            End(run, s => s with { Failure = exception.Message });
        }
    }

    private void Tell(Run run, string part, string detail)
    {
        lock (_lock)
        {
            var before = run.State;
            var isNew = before.Part != part && before.Part.Length > 0;
            run.State = before with { Part = part, Detail = detail, Done = isNew ? before.Done.Add(before.Part) : before.Done };
        }
    }

    private void End(Run run, Func<State, State> end)
    {
        lock (_lock)
            run.State = end(run.State) with { IsRunning = false };
    }

    public async ValueTask DisposeAsync()
    {
        await CancelAsync();
        _run?.Cancellation.Dispose();
    }
}
