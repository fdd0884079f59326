using System.Collections.Concurrent;
using System.Threading.Channels;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Auditing;

/// <summary>
/// Notes what happens, beside the requests: they never wait for the file. What comes faster than it can be written is counted.
/// </summary>
public sealed class AuditLog(ServiceRegistry registry, IAuditStore store, TimeProvider time, ILogger<AuditLog> log) : BackgroundService
{
    private const int MostWaiting = 10_000;
    private static readonly TimeSpan Gathering = TimeSpan.FromMilliseconds(20);
    private static readonly TimeSpan SignInPause = TimeSpan.FromMinutes(10);

    private readonly Channel<AuditEvent> _waiting = Channel.CreateBounded<AuditEvent>(
        new BoundedChannelOptions(MostWaiting) { SingleReader = true }
    );
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(5);

    private readonly ConcurrentDictionary<string, DateTime> _signedIn = new();
    private readonly RefusalCounter _refusals = new();
    private readonly List<AuditEvent> _unwritten = [];
    private int _lost;
    private int _dropped;
    private bool _isBroken;
    private DateOnly _swept;

    /// <summary>Why notes wait to be kept; null = none do.</summary>
    public string? Problem { get; private set; }

    /// <summary>Where the events of the served workspace are kept; null = nowhere.</summary>
    public IAuditStore? Store => registry.Workspace.Declaration.Audit.IsKept ? store : null;

    /// <summary>Somebody showed who they are; with the same thing from the same address it is noted once in a while.</summary>
    public void SignedIn(HttpContext context, string? caller, string by, string? key = null)
    {
        var now = time.GetUtcNow().UtcDateTime;
        var mark = $"{by}\n{key ?? caller}\n{context.Connection.RemoteIpAddress}";
        if (_signedIn.TryGetValue(mark, out var last) && now - last < SignInPause)
            return;
        if (_signedIn.Count >= MostWaiting)
            _signedIn.Clear();
        _signedIn[mark] = now;
        Note(Of(context, AuditEvents.SignIn) with { Caller = caller, By = by, Key = key });
    }

    /// <summary>Notes what somebody was not let do; the same again within a minute is counted.</summary>
    public void Refused(HttpContext context, string kind, string? caller, int status, string code, string? detail = null)
    {
        var refusal = Of(context, kind) with { Caller = caller, Status = status, Code = code, Detail = detail };
        // Paths differ without end; what comes first in them says enough.
        var place = string.Join('/', (refusal.Path ?? "").Split('/', '(').Take(4));
        if (
            _refusals.Add(
                string.Join(
                    '\n',
                    kind,
                    CallerNetwork.Of(context.Connection.RemoteIpAddress),
                    caller,
                    status,
                    code,
                    detail,
                    refusal.Method,
                    place
                ),
                refusal
            ) is
            { } told
        )
            Note(told);
        if (_refusals.TakeReached(refusal.Time) is { } reached)
            Note(reached);
    }

    /// <summary>Notes what somebody changed over a service, unless that was kept before.</summary>
    public void Changed(HttpContext context, string? caller, int status)
    {
        if (context.Features.Get<KeptChange>() is null)
            Note(Of(context, AuditEvents.Changed) with { Caller = caller, Status = status });
    }

    /// <summary>Keeps a line about a change that is about to become final, for services that take none without.</summary>
    /// <exception cref="State.StateException">When it cannot be kept.</exception>
    public void KeepChange(HttpContext context, string? caller)
    {
        if (Store is not { } kept)
            return;
        kept.Append([Of(context, AuditEvents.Changed) with { Caller = caller, Detail = "kept before the change" }]);
        context.Features.Set(new KeptChange());
    }

    /// <summary>Marks a request whose change stands in the log already.</summary>
    private sealed record KeptChange;

    public void Managed(HttpContext context, string caller, string detail) =>
        Note(Of(context, AuditEvents.Management) with { Caller = caller, Detail = detail });

    private AuditEvent Of(HttpContext context, string kind) =>
        new(time.GetUtcNow().UtcDateTime, kind)
        {
            Address = context.Connection.RemoteIpAddress?.ToString(),
            Method = context.Request.Method,
            Path = Shown(RawTarget.Of(context).Path),
        };

    /// <summary>A path that can be noted: no secret that somebody put there by mistake, and no novel.</summary>
    private static string Shown(string path) =>
        path.Contains(KeyText.Prefix, StringComparison.OrdinalIgnoreCase) ? "(withheld)"
        : path.Length > 300 ? path[..300] + "…"
        : path;

    private void Note(AuditEvent happened)
    {
        if (Store is not null && !_waiting.Writer.TryWrite(happened))
            Interlocked.Increment(ref _lost);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var stop = stoppingToken.Register(() => _waiting.Writer.TryComplete());
        var isOver = false;
        while (!isOver)
        {
            isOver = !await WaitAsync();
            List<AuditEvent> events = [];
            while (events.Count < 1_000 && _waiting.Reader.TryRead(out var happened))
                events.Add(happened);
            var now = time.GetUtcNow().UtcDateTime;
            events.AddRange(_refusals.Collect(now, isOver));
            if (Interlocked.Exchange(ref _lost, 0) is > 0 and var lost)
                events.Add(
                    new AuditEvent(now, AuditEvents.Lost) { Count = lost, Detail = $"{lost} events came faster than they could be noted" }
                );
            if (events.Count > 0 || _unwritten.Count > 0)
                Write(events);
        }
    }

    /// <summary>Waits for events, or until it is time to look at what was counted; false when none will come.</summary>
    private async Task<bool> WaitAsync()
    {
        using var look = new CancellationTokenSource(Look);
        try
        {
            if (!await _waiting.Reader.WaitToReadAsync(look.Token))
                return false;
        }
        catch (OperationCanceledException)
        {
            return true;
        }
        // Events come in numbers; what comes together is written together.
        await Task.Delay(Gathering, CancellationToken.None);
        return true;
    }

    /// <summary>Makes room for what comes: the oldest go, and are counted.</summary>
    private void Drop()
    {
        var tooMany = _unwritten.Count - MostWaiting;
        if (tooMany <= 0)
            return;
        _unwritten.RemoveRange(0, tooMany);
        _dropped += tooMany;
    }

    private void Write(List<AuditEvent> events)
    {
        var workspace = registry.Workspace.Declaration;
        if (!workspace.Audit.IsKept)
            return;
        // What could not be written waits, as far as there is room.
        _unwritten.AddRange(events);
        Drop();
        try
        {
            store.Append(
                _dropped == 0
                    ? _unwritten
                    :
                    [
                        .. _unwritten,
                        new AuditEvent(time.GetUtcNow().UtcDateTime, AuditEvents.Lost)
                        {
                            Count = _dropped,
                            Detail = $"{_dropped} events were dropped while the log could not be written",
                        },
                    ]
            );
            _unwritten.Clear();
            _dropped = 0;
            var today = DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime);
            if (today != _swept)
                store.RemoveBefore(today.AddDays(-workspace.Audit.Days));
            (_swept, _isBroken, Problem) = (today, false, null);
        }
        catch (State.StateException exception)
        {
            Problem =
                $"the audit log cannot be written: {_unwritten.Count} events wait" + (_dropped > 0 ? $", {_dropped} were dropped" : "");
            if (!_isBroken)
                log.LogError("The audit log cannot be written: {Message}", exception.Message);
            _isBroken = true;
        }
    }
}
