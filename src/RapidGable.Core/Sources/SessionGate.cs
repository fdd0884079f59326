using System.Diagnostics;

namespace RapidGable.Sources;

/// <summary>
/// The sessions that a source may have at once, and who waits for one. As long as one is free anybody has it. While callers wait, none of
/// them holds more than half of the sessions, nor do all anonymous callers together while others wait; the next one goes to the caller
/// who used the source least of late. Of the sessions some stay free for short requests: a row by its key never waits until statements
/// of others have ended.
/// </summary>
internal sealed class SessionGate
{
    private static readonly double Forgetting = 10 * Stopwatch.Frequency;

    private readonly Lock _lock = new();
    private readonly Dictionary<string, Share> _shares = [];
    private readonly LinkedList<Waiter> _waiting = [];
    private readonly int _sessions;
    private readonly int _share;
    private readonly TimeSpan _longestWait;
    private int _free;
    private int _anonymous;
    private int _waitingCount;
    private int _anonymousWaiting;

    /// <summary>Callers of whom some request waits, and those of them who are signed in.</summary>
    private int _callersWaiting;
    private int _signedInWaiting;

    /// <param name="longestWait">Who waits longer hears that the source is busy.</param>
    public SessionGate(int sessions, TimeSpan longestWait)
    {
        _sessions = _free = sessions;
        _share = Math.Max(1, sessions / 2);
        _longestWait = longestWait;
    }

    private sealed class Share
    {
        public int Held { get; set; }

        public int Waiting { get; set; }

        /// <summary>Ticks that its sessions took of late, and when that was counted.</summary>
        public double Used { get; set; }

        public long Counted { get; set; }

        /// <summary>What was used counts less the longer it is ago.</summary>
        public double UsedBy(long now) => Used * Math.Exp((Counted - now) / Forgetting);
    }

    private sealed class Waiter(RequestAllowance request)
    {
        public RequestAllowance Request => request;

        public TaskCompletionSource<SessionPass> Turn { get; } = new(TaskCreationOptions.RunContinuationsAsynchronously);
    }

    /// <summary>Whether somebody waits for a session.</summary>
    public bool IsAwaited => Volatile.Read(ref _waitingCount) > 0;

    /// <summary>Takes a session; waits while all are in use.</summary>
    /// <exception cref="SourceException">Busy: all sessions stay in use. QueueFull: too many wait already.</exception>
    public async ValueTask<SessionPass> EnterAsync(RequestAllowance request, CancellationToken cancellation)
    {
        Waiter waiter;
        lock (_lock)
        {
            if (_free > ReserveOf(request) && (!HasWaiterFor(request.Work) || !request.Sharing.IsFair || MayHold(request)))
                return Grant(request);
            var share = ShareOf(request.Who);
            var othersWait = _callersWaiting > (share.Waiting > 0 ? 1 : 0);
            if (othersWait && share.Waiting >= request.Sharing.WaitingOfOne)
                throw Full();
            if (_waiting.Count >= request.Sharing.Waiting && !MakeRoom(request))
                throw Full();
            waiter = new Waiter(request);
            _waiting.AddLast(waiter);
            Count(waiter.Request, share, 1);
        }
        try
        {
            return await waiter.Turn.Task.WaitAsync(_longestWait, cancellation);
        }
        catch (Exception exception) when (exception is TimeoutException or OperationCanceledException)
        {
            if (!Withdraw(waiter) && waiter.Turn.Task is { IsCompletedSuccessfully: true })
                (await waiter.Turn.Task).Leave(); // it came just then
            if (exception is OperationCanceledException)
                throw;
            throw new SourceException(
                SourceFaultKind.Busy,
                $"All {_sessions} sessions were in use for {_longestWait.TotalSeconds:0} seconds."
            );
        }
    }

    private SourceException Full() => new(SourceFaultKind.QueueFull, $"{_waiting.Count} requests wait for one of {_sessions} sessions.");

    /// <summary>
    /// Sends the last one away of whoever has most of a full queue, where that is more than this caller would have; false when nobody
    /// has. To a caller who is signed in all anonymous ones count as one.
    /// </summary>
    private bool MakeRoom(RequestAllowance request)
    {
        LinkedListNode<Waiter>? last = null;
        var most = ShareOf(request.Who).Waiting + 1;
        for (var node = _waiting.Last; node is not null; node = node.Previous)
        {
            var other = node.Value.Request;
            var waiting = other.IsAnonymous && !request.IsAnonymous ? _anonymousWaiting : ShareOf(other.Who).Waiting;
            if (other.Who != request.Who && waiting > most)
                (last, most) = (node, waiting);
        }
        if (last is null)
            return false;
        var full = Full();
        _waiting.Remove(last);
        Count(last.Value.Request, ShareOf(last.Value.Request.Who), -1);
        last.Value.Turn.SetException(full);
        return true;
    }

    private bool Withdraw(Waiter waiter)
    {
        lock (_lock)
        {
            if (!_waiting.Remove(waiter))
                return false;
            var share = ShareOf(waiter.Request.Who);
            Count(waiter.Request, share, -1);
            Forget(waiter.Request.Who, share);
            return true;
        }
    }

    /// <summary>Counts one more or one less who waits.</summary>
    private void Count(RequestAllowance request, Share share, int change)
    {
        Volatile.Write(ref _waitingCount, _waiting.Count);
        share.Waiting += change;
        _anonymousWaiting += request.IsAnonymous ? change : 0;
        if (share.Waiting != (change > 0 ? 1 : 0))
            return;
        _callersWaiting += change;
        _signedInWaiting += request.IsAnonymous ? 0 : change;
    }

    private Share ShareOf(string who) =>
        _shares.TryGetValue(who, out var share) ? share : _shares[who] = new Share { Counted = Stopwatch.GetTimestamp() };

    private SessionPass Grant(RequestAllowance request)
    {
        _free--;
        ShareOf(request.Who).Held++;
        _anonymous += request.IsAnonymous ? 1 : 0;
        return new SessionPass(this, request);
    }

    internal void Leave(RequestAllowance request, long since)
    {
        lock (_lock)
        {
            var now = Stopwatch.GetTimestamp();
            var share = ShareOf(request.Who);
            share.Held--;
            (share.Used, share.Counted) = (share.UsedBy(now) + (now - since), now);
            _anonymous -= request.IsAnonymous ? 1 : 0;
            _free++;
            while (_free > 0 && Next(now) is { } next)
            {
                _waiting.Remove(next);
                Count(next.Request, ShareOf(next.Request.Who), -1);
                next.Turn.SetResult(Grant(next.Request));
            }
            Forget(request.Who, share);
        }
    }

    private Waiter? Next(long now)
    {
        if (_waiting.First is null)
            return null;
        var able = _waiting.Where(w => _free > ReserveOf(w.Request));
        if (able.FirstOrDefault() is not { } first || !first.Request.Sharing.IsFair)
            return able.FirstOrDefault();
        // Of those who used the same, who came first. Where all who wait have their share already, none of them stands back.
        return able.Where(w => MayHold(w.Request)).MinBy(w => ShareOf(w.Request.Who).UsedBy(now)) ?? first;
    }

    /// <summary>Sessions that a request leaves free for shorter ones.</summary>
    private int ReserveOf(RequestAllowance request) =>
        request.Work switch
        {
            WorkClass.Short => 0,
            WorkClass.Usual => _sessions / 8,
            _ => _sessions == 1 ? 0 : Math.Max(1, _sessions / 4),
        };

    /// <summary>Whether somebody waits who could have the session as well; heavier ones leave it to a lighter one.</summary>
    private bool HasWaiterFor(WorkClass work)
    {
        if (_waiting.Count == 0)
            return false;
        foreach (var waiter in _waiting)
        {
            if (waiter.Request.Work <= work || _free > ReserveOf(waiter.Request))
                return true;
        }
        return false;
    }

    /// <summary>Whether a caller may have one more session while others wait.</summary>
    private bool MayHold(RequestAllowance request)
    {
        var share = ShareOf(request.Who);
        var othersWait = _callersWaiting > (share.Waiting > 0 ? 1 : 0);
        if (othersWait && share.Held >= _share)
            return false;
        var signedInWait = _signedInWaiting > 0;
        return !request.IsAnonymous || !signedInWait || _anonymous < _share;
    }

    /// <summary>Drops what is known of a caller who was long enough away, so that callers do not add up.</summary>
    private void Forget(string who, Share share)
    {
        if (_shares.Count > 1_000 && share is { Held: 0, Waiting: 0 })
            _shares.Remove(who);
        if (_shares.Count <= 2_000)
            return;
        foreach (var (other, _) in _shares.Where(s => s.Value is { Held: 0, Waiting: 0 }).ToList())
            _shares.Remove(other);
    }
}

/// <summary>A place at a source, until it is left.</summary>
internal sealed class SessionPass(SessionGate gate, RequestAllowance request)
{
    private readonly long _since = Stopwatch.GetTimestamp();
    private int _left;

    /// <summary>Whether others wait for it.</summary>
    public bool IsAwaited => gate.IsAwaited;

    public RequestAllowance Request => request;

    /// <summary>Gives the place to the next; a second time does nothing.</summary>
    public void Leave()
    {
        if (Interlocked.Exchange(ref _left, 1) == 0)
            gate.Leave(request, _since);
    }
}
