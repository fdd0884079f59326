using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>Changes that are done as a whole or not at all: one transaction of one source.</summary>
/// <param name="environment">Its time is the one instant of all of them.</param>
/// <param name="allowance">What the request may take of memory and of sessions; null = it is the service's own.</param>
public sealed class ChangeUnit(PublishedService service, Caller caller, ChangeEnvironment environment, RequestAllowance? allowance = null)
    : IAsyncDisposable
{
    private readonly List<Action> _whenFinal = [];
    private readonly List<Action> _whenUndone = [];
    private readonly Dictionary<string, IDisposable> _held = [];
    private ISource? _source;
    private ISourceSession? _session;
    private bool _isUndone;
    private readonly Dictionary<(string Set, SetOperations Operation), WriteAccess?> _writing = [];

    public PublishedService Service => service;

    public Caller Caller => caller;

    /// <summary>The one instant of all changes, in UTC.</summary>
    public DateTime Now { get; } = environment.Now;

    /// <summary>An identifier that nothing else has.</summary>
    internal Guid NewId() => environment.NewId();

    /// <summary>As the other; those that are made later sort later.</summary>
    internal Guid NewOrderedId() => environment.NewOrderedId(Now);

    /// <summary>Done before anything becomes final; what it throws leaves all undone. Null = nothing.</summary>
    public Action? BeforeFinal { get; init; }

    /// <summary>Several requests are done as a whole.</summary>
    public bool IsGroup { get; init; }

    /// <summary>Whether all of it is carried out and undone in the end; null = only calls, where the environment says so.</summary>
    public bool? IsTrial { get; init; }

    /// <summary>Where its changes are; null before the first.</summary>
    public ISource? Source => _source;

    /// <summary>Something of it met the change of somebody else and was undone; all of it may be tried again.</summary>
    public bool HasCollided { get; set; }

    /// <summary>What the unit's own statements take.</summary>
    internal QueryValues Values { get; } =
        QueryValues.Outside(caller.Within(service.Model.Service), environment.Now, allowance ?? RequestAllowance.Own);

    /// <summary>The transaction, begun at its first use.</summary>
    /// <returns>The fault is 501 for a second source, since no two databases end a transaction together.</returns>
    internal async Task<Result<ISourceSession>> SessionAsync(ISource source, CancellationToken cancellation)
    {
        if (_source is not null && _source != source)
            return RequestFault.NotImplemented(
                "These changes are about two databases, which cannot be done as a whole. Send them one by one."
            );
        if (!Values.CanTell(source))
            return new RequestFault(403, "forbidden", "No database role is configured for your roles, so this source cannot be queried.");
        _source = source;
        return Result<ISourceSession>.Of(_session ??= await Values.OpenAsync(source, SessionKind.Changing, cancellation));
    }

    /// <summary>What the caller may write of a set by one operation, the same for all of the unit; null = nothing.</summary>
    /// <exception cref="SwitchedOffException">When the set is switched off.</exception>
    public WriteAccess? Writing(EntitySet set, SetOperations operation)
    {
        if (!_writing.TryGetValue((set.Name, operation), out var access))
            _writing[(set.Name, operation)] = access = service.Paused.TryGetValue(set.Name, out var fault)
                ? throw new SwitchedOffException(fault)
                : service.Writing(set, operation, caller);
        return access;
    }

    /// <summary>The transaction of a source, when there is one: reads within it see its changes.</summary>
    public ISourceSession? Within(ISource? source) => source is not null && source == _source ? _session : null;

    /// <summary>
    /// The transaction for a read of a source, begun for it when nothing has begun another; null = the source cannot be a part of it.
    /// </summary>
    public async Task<ISourceSession?> ReadingAsync(ISource? source, CancellationToken cancellation) =>
        source is null || !CanReach(source) ? null
        : (await SessionAsync(source, cancellation)).Is(out var session, out var fault) ? session
        : throw new FaultException(fault);

    /// <summary>Does a part that leaves nothing when it fails, so that the others may go on.</summary>
    /// <param name="source">That of the unit.</param>
    public async Task<Result<T>> StepAsync<T>(ISource source, Func<Task<Result<T>>> step, CancellationToken cancellation)
        where T : class
    {
        if (!(await SessionAsync(source, cancellation)).Is(out var session, out var fault))
            return fault;
        await session.ExecuteAsync("SAVEPOINT gable_step", ReadOnlyMemory<StoredValue>.Empty, cancellation);
        var result = await step();
        if (result.Fault is not null)
            await session.ExecuteAsync("ROLLBACK TO SAVEPOINT gable_step", ReadOnlyMemory<StoredValue>.Empty, cancellation);
        await session.ExecuteAsync("RELEASE SAVEPOINT gable_step", ReadOnlyMemory<StoredValue>.Empty, cancellation);
        return result;
    }

    /// <summary>Calls of actions are carried out and undone.</summary>
    internal bool UndoesCalls => IsTrial ?? environment.UndoesCalls;

    /// <summary>An action has been called.</summary>
    internal void NoteCall() => _isUndone |= UndoesCalls;

    /// <summary>Makes all of it final, unless it is a trial.</summary>
    /// <exception cref="SourceException">When it was undone, or the outcome is not known.</exception>
    public async Task CommitAsync(CancellationToken cancellation)
    {
        if (IsTrial == true)
            return;
        BeforeFinal?.Invoke();
        try
        {
            if (_session is not null && !_isUndone)
                await _session.CommitAsync(cancellation);
        }
        catch (SourceException exception) when (exception.Kind == SourceFaultKind.Uncertain)
        {
            // Neither final nor undone, as far as anybody knows.
            _whenUndone.Clear();
            throw;
        }
        _whenUndone.Clear();
        foreach (var then in _whenFinal)
            then();
    }

    /// <summary>Whether what a source keeps can change in this transaction.</summary>
    public bool CanReach(ISource source) => _source is null || _source == source;

    /// <summary>Done once the changes are final, and not at all when they are undone.</summary>
    public void WhenFinal(Action then) => _whenFinal.Add(then);

    /// <summary>Done when the changes are undone, and not at all when they become final.</summary>
    public void WhenUndone(Action then) => _whenUndone.Add(then);

    /// <summary>Whether something is held under a name, see <see cref="Hold"/>.</summary>
    public bool Holds(string name) => _held.ContainsKey(name);

    /// <summary>Keeps something to itself until it ends.</summary>
    public void Hold(string name, IDisposable held) => _held.Add(name, held);

    /// <summary>Undoes what is not final.</summary>
    public async ValueTask DisposeAsync()
    {
        if (_session is not null)
            await _session.DisposeAsync();
        _session = null;
        foreach (var then in _whenUndone)
            then();
        _whenUndone.Clear();
        _whenFinal.Clear();
        foreach (var held in _held.Values)
            held.Dispose();
        _held.Clear();
    }
}
