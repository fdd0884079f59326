using RapidGable.Sources;

namespace RapidGable.Core.Tests;

/// <summary>Who gets the next session of a source, and what requests may hold of memory.</summary>
[Trait("Category", "Attack")]
public sealed class SessionGateTests
{
    private readonly ByteBudget _process = new(1_000);

    private RequestAllowance Of(string who, bool isAnonymous = false, SessionSharing? sharing = null) =>
        new(who, isAnonymous, _process, 600, sharing ?? SessionSharing.Standard);

    private static SessionGate Gate(int sessions) => new(sessions, TimeSpan.FromSeconds(30));

    private static async Task<List<SessionPass>> TakeAsync(SessionGate gate, RequestAllowance who, int count)
    {
        var passes = new List<SessionPass>();
        for (var i = 0; i < count; i++)
            passes.Add(await gate.EnterAsync(who, CancellationToken.None));
        return passes;
    }

    [Fact] // nobody is slowed as long as nobody waits
    public async Task A_lone_caller_has_all_sessions()
    {
        var gate = Gate(4);
        var all = await TakeAsync(gate, Of("a"), 4);
        Assert.False(gate.IsAwaited);
        all.ForEach(p => p.Leave());
        Assert.Equal(4, (await TakeAsync(gate, Of("a"), 4)).Count);
    }

    [Theory] // sessions, how many heavy requests may have, how many usual ones
    [InlineData(1, 1, 1)]
    [InlineData(2, 1, 2)]
    [InlineData(4, 3, 4)]
    [InlineData(16, 12, 14)]
    public async Task Some_sessions_stay_free_for_short_requests(int sessions, int heavy, int usual)
    {
        foreach (var (work, most) in new[] { (WorkClass.Heavy, heavy), (WorkClass.Usual, usual) })
        {
            var gate = Gate(sessions);
            RequestAllowance One(string who)
            {
                var request = Of(who);
                request.Work = work;
                return request;
            }
            var held = await TakeAsync(gate, One("a"), most);
            var waiting = gate.EnterAsync(One("a"), CancellationToken.None).AsTask();
            Assert.False(waiting.IsCompleted);
            for (var i = most; i < sessions; i++)
            {
                var key = Of("b");
                key.Work = WorkClass.Short;
                Assert.True(gate.EnterAsync(key, CancellationToken.None).IsCompletedSuccessfully);
            }
            Assert.False(waiting.IsCompleted);
            held[0].Leave();
            if (sessions == most)
                (await waiting).Leave();
        }
    }

    [Fact] // a has all and queues for more; b comes last and is next
    public async Task Who_has_a_share_lets_others_go_first()
    {
        var gate = Gate(4);
        var held = await TakeAsync(gate, Of("a"), 4);
        var more = Enumerable.Range(0, 10).Select(_ => gate.EnterAsync(Of("a"), CancellationToken.None).AsTask()).ToList();
        var other = gate.EnterAsync(Of("b"), CancellationToken.None).AsTask();
        Assert.True(gate.IsAwaited);
        held[0].Leave();
        var pass = await other;
        Assert.All(more, m => Assert.False(m.IsCompleted));
        // With nobody else waiting the first of a's own goes on.
        pass.Leave();
        await more[0];
        held.Skip(1).ToList().ForEach(p => p.Leave());
        (await Task.WhenAll(more.Take(4))).ToList().ForEach(p => p.Leave());
    }

    [Fact] // ten callers who are not signed in have no more than half while somebody who is waits
    public async Task All_anonymous_callers_have_a_share_together()
    {
        var gate = Gate(4);
        var held = new List<SessionPass>();
        for (var i = 0; i < 4; i++)
            held.Add(await gate.EnterAsync(Of("address " + i, isAnonymous: true), CancellationToken.None));
        var crowd = Enumerable
            .Range(4, 6)
            .Select(i => gate.EnterAsync(Of("address " + i, isAnonymous: true), CancellationToken.None).AsTask())
            .ToList();
        var signedIn = gate.EnterAsync(Of("name ada"), CancellationToken.None).AsTask();
        held[0].Leave();
        await signedIn;
        Assert.All(crowd, c => Assert.False(c.IsCompleted));
    }

    [Fact] // those who all have their share already do not stand back for each other for ever
    public async Task A_free_session_never_stays_while_somebody_waits()
    {
        var gate = Gate(2);
        var (a, b) = (
            await gate.EnterAsync(Of("a"), CancellationToken.None),
            await gate.EnterAsync(Of("x", isAnonymous: true), CancellationToken.None)
        );
        var (moreA, moreX) = (
            gate.EnterAsync(Of("a"), CancellationToken.None).AsTask(),
            gate.EnterAsync(Of("x", isAnonymous: true), CancellationToken.None).AsTask()
        );
        b.Leave();
        var first = await Task.WhenAny(moreA, moreX);
        (await first).Leave();
        (await (first == moreA ? moreX : moreA)).Leave();
        a.Leave();
        Assert.Equal(2, (await TakeAsync(gate, Of("c"), 2)).Count);
    }

    [Fact] // as many as the queue holds, of whomever; one caller's own part counts while others wait
    public async Task The_queue_has_an_end()
    {
        var gate = Gate(1);
        var sharing = new SessionSharing(4, 2, true);
        var held = await gate.EnterAsync(Of("a", sharing: sharing), CancellationToken.None);
        List<Task<SessionPass>> Wait(string who, int count) =>
            [.. Enumerable.Range(0, count).Select(_ => gate.EnterAsync(Of(who, sharing: sharing), CancellationToken.None).AsTask())];
        async Task IsFullAsync(Task waiting) =>
            Assert.Equal(SourceFaultKind.QueueFull, (await Assert.ThrowsAsync<SourceException>(() => waiting)).Kind);
        var alone = Wait("a", 4);
        await IsFullAsync(Wait("a", 1)[0]);
        // Somebody else gets in, and the last one of who has too many goes.
        var other = Wait("b", 2);
        await IsFullAsync(alone[3]);
        await IsFullAsync(alone[2]);
        await IsFullAsync(Wait("b", 1)[0]);
        // Who has nothing in it gets a place from those who have most, until all have one.
        var (third, fourth) = (Wait("c", 1)[0], Wait("d", 1)[0]);
        await IsFullAsync(other[1]);
        await IsFullAsync(alone[1]);
        await IsFullAsync(Wait("e", 1)[0]);
        List<Task<SessionPass>> left = [alone[0], other[0], third, fourth];
        Assert.All(left, o => Assert.False(o.IsCompleted));
        held.Leave();
        await AllGetTheirTurnAsync(left);
        Assert.Single(await TakeAsync(gate, Of("last"), 1));
    }

    [Fact] // however many addresses they come from, anonymous callers keep nobody who is signed in from a full queue
    public async Task Anonymous_callers_fill_no_queue_for_others()
    {
        var gate = Gate(1);
        var sharing = new SessionSharing(4, 4, true);
        var held = await gate.EnterAsync(Of("a", sharing: sharing), CancellationToken.None);
        Task<SessionPass> Wait(string who, bool isAnonymous) =>
            gate.EnterAsync(Of(who, isAnonymous, sharing), CancellationToken.None).AsTask();
        var crowd = Enumerable.Range(0, 4).Select(i => Wait("address " + i, true)).ToList();
        await Assert.ThrowsAsync<SourceException>(() => Wait("address 4", true));
        var signedIn = Wait("name ada", false);
        await Assert.ThrowsAsync<SourceException>(() => crowd[3]);
        held.Leave();
        await AllGetTheirTurnAsync([.. crowd.Take(3), signedIn]);
    }

    /// <summary>Each leaves as soon as it has got in, in whatever order.</summary>
    private static async Task AllGetTheirTurnAsync(List<Task<SessionPass>> waiting)
    {
        while (waiting.Count > 0)
        {
            var next = await Task.WhenAny(waiting);
            (await next).Leave();
            waiting.Remove(next);
        }
    }

    [Fact] // who leaves the queue takes no session with them
    public async Task Who_goes_away_is_not_waited_for()
    {
        var gate = Gate(1);
        var held = await gate.EnterAsync(Of("a"), CancellationToken.None);
        using var gone = new CancellationTokenSource();
        var waiting = gate.EnterAsync(Of("b"), gone.Token).AsTask();
        await gone.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => waiting);
        Assert.False(gate.IsAwaited);
        held.Leave();
        held.Leave(); // a second time does nothing
        var next = await gate.EnterAsync(Of("c"), CancellationToken.None);
        var second = gate.EnterAsync(Of("c"), CancellationToken.None).AsTask();
        Assert.False(second.IsCompleted);
        next.Leave();
        (await second).Leave();
    }

    [Fact] // random callers come and go: never more sessions than there are, none lost, all served
    public async Task Random_callers_all_get_their_turn()
    {
        var random = new Random(5);
        var gate = Gate(3);
        var (now, most, served) = (0, 0, 0);
        await Task.WhenAll(
            Enumerable
                .Range(0, 40)
                .Select(async i =>
                {
                    var who = Of("caller " + (i % 7), isAnonymous: i % 2 == 0);
                    for (var n = 0; n < 50 * Soak.Times; n++)
                    {
                        await Task.Yield();
                        var pass = await gate.EnterAsync(who, CancellationToken.None);
                        var held = Interlocked.Increment(ref now);
                        for (var seen = most; held > seen && Interlocked.CompareExchange(ref most, held, seen) != seen; seen = most) { }
                        if (random.Next(3) == 0)
                            await Task.Yield();
                        Interlocked.Decrement(ref now);
                        Interlocked.Increment(ref served);
                        pass.Leave();
                    }
                })
        );
        Assert.Equal((40 * 50 * Soak.Times, 0), (served, now));
        Assert.InRange(most, 1, 3);
        Assert.Equal(3, (await TakeAsync(gate, Of("last"), 3)).Count);
    }

    [Fact]
    public void What_a_request_holds_is_given_back()
    {
        var first = Of("a");
        first.Take(500);
        Assert.False(Assert.Throws<MemoryExceededException>(() => first.Take(101)).IsProcess);
        var second = Of("b");
        second.Take(500);
        Assert.True(Assert.Throws<MemoryExceededException>(() => second.Take(1)).IsProcess);
        Assert.Equal((1_000, 1_000), (_process.Used, _process.Peak));
        first.Give(200);
        Assert.Null(second.TryTake(100));
        first.Dispose();
        first.Give(300); // too late, and counted already
        second.Dispose();
        Assert.NotNull(second.TryTake(1)); // what goes on after the end of its request holds nothing
        Assert.Equal((0, 1_000), (_process.Used, _process.Peak));
        var part = new ByteBudget(800, _process);
        Assert.True(part.TryTake(800));
        Assert.False(part.TryTake(1));
        Assert.False(_process.TryTake(201));
        part.Give(800);
        Assert.Equal(0, _process.Used);
    }
}
