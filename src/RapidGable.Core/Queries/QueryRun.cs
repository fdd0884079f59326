using System.Collections.Immutable;
using System.Diagnostics;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>The running statements of one request: all in one session, so that they see one state of the data.</summary>
public sealed class QueryRun : IAsyncDisposable
{
    private readonly ISourceSession _session;
    private readonly SqlDialect _dialect;
    private readonly IReadOnlyDictionary<string, ISource> _sources;
    private readonly List<ChildRows> _children = [];
    private readonly List<List<object[]>> _remoteKeys = [];
    private bool _isShared;
    private bool _isDisposed;

    private QueryRun(
        ISourceSession session,
        SqlDialect dialect,
        CompiledQuery query,
        QueryValues values,
        IReadOnlyDictionary<string, ISource> sources
    )
    {
        _dialect = dialect;
        _session = session;
        _sources = sources;
        Query = query;
        Values = values;
    }

    public CompiledQuery Query { get; }

    public QueryValues Values { get; }

    /// <summary>Matches before paging; null when not asked for.</summary>
    public long? Count => Query.HidesCount ? null : Counted;

    /// <summary>What the count statement has found; null = there is none.</summary>
    internal long? Counted { get; private set; }

    /// <summary>The main statement's rows.</summary>
    public IRowCursor Rows { get; private set; } = null!;

    /// <summary>The first row is already the current one; false when there is none.</summary>
    public bool HasRow { get; private set; }

    /// <summary>With no row and a path over navigation: whether the entity before the last step exists.</summary>
    public bool ParentExists { get; private set; } = true;

    /// <summary>A count whose result is 0; its row is then no longer there to be read.</summary>
    public bool IsZero { get; private set; }

    /// <summary>Rows of the expanded collections, in the plan's order.</summary>
    public IReadOnlyList<ChildRows> Children => _children;

    /// <summary>Starts the statements of a request for data and reads the first row.</summary>
    /// <param name="within">The session of a transaction that the data are read in, and that goes on after this; null = one of its
    /// own.</param>
    /// <exception cref="SourceException">When a source fails.</exception>
    public static async Task<Result<QueryRun>> StartAsync(
        PreparedRequest prepared,
        QueryValues values,
        CancellationToken cancellation,
        bool tracks = false,
        ISourceSession? within = null
    )
    {
        var (query, source, sources) = (prepared.Query!, prepared.Source!, prepared.Sources);
        if (await MissingAsync(prepared, values, within, cancellation) is { } gone)
            return gone;
        if (query.Result is not null)
            return await ReadCallAsync(prepared, values, within, cancellation);
        var isThere = true;
        var touched = query
            .Remotes.Select(r => sources[r.Plan.Related.From.Source.Source])
            .Append(source)
            .Concat(query.Bridge is { } way ? [sources[way.Plan.Select.From.Source.Source]] : []);
        if (touched.Any(s => !values.CanTell(s)))
            return new RequestFault(403, "forbidden", "No database role is configured for your roles, so this source cannot be queried.");
        if (query.Bridge is { } bridge)
        {
            var from = sources[bridge.Plan.Select.From.Source.Source];
            if (!values.Bind(bridge.Statement, from.Dialect).Is(out var key, out var wrong))
                return wrong;
            isThere = await CrossAsync(bridge, key, values, from, cancellation);
        }
        if (!Bind(query, values, source.Dialect).Is(out var bound, out var fault))
            return fault;
        foreach (var remote in query.Remotes)
        {
            // The batches run while the answer is written; what is wrong with a literal is said before.
            if (!values.Bind(remote.Batch, sources[remote.Plan.Related.From.Source.Source].Dialect).Is(out _, out var wrong))
                return wrong;
        }
        // Marks and rows must be of one state of the data.
        var kind =
            query.Needs == SessionKind.Plain && query.Tracking is not null && (tracks || values.ChangePosition is not null)
                ? SessionKind.OneState
                : query.Needs;
        values.Allowance.Work = prepared.Work;
        var run = new QueryRun(within ?? await values.OpenAsync(source, kind, cancellation), source.Dialect, query, values, sources)
        {
            Tracks = tracks,
            _isShared = within is not null,
        };
        try
        {
            var began = Stopwatch.GetTimestamp();
            await run.StartAsync(bound, cancellation);
            prepared.Took(Stopwatch.GetElapsedTime(began).TotalSeconds);
            run.ParentExists &= isThere;
            if (run is { HasRow: true, Query.Shape.TotalColumn: { } total } && run.Rows.GetInt64(total) > 1)
            {
                await run.DisposeAsync();
                return new RequestFault(500, "several-rows", "The query is declared to give one row, and it gives several.");
            }
            return run;
        }
        catch (SourceException exception)
            when (CallFaults.Tells(exception) is { } broken && prepared.Request.Path.Root is { IsQuery: true } asked)
        {
            await run.DisposeAsync();
            return CallFaults.Of(broken, asked.Name);
        }
        catch (SourceException exception)
            when (values.IsResumed
                && (
                    exception.Kind is SourceFaultKind.BadData or SourceFaultKind.Overflow || exception.Constraint is { Parameter: not null }
                )
            )
        {
            // No statement of ours sends such a value, so the link is not one of ours.
            await run.DisposeAsync();
            return values.ChangePosition is null ? RequestFault.ForeignPosition : RequestFault.ForeignChangePosition;
        }
        catch
        {
            await run.DisposeAsync();
            throw;
        }
    }

    /// <summary>The fault of an operation that is asked of an entity which is not there for the caller; null = it is there.</summary>
    /// <param name="within">The session of a transaction that goes on after this; null = there is none.</param>
    internal static async Task<RequestFault?> MissingAsync(
        PreparedRequest prepared,
        QueryValues values,
        ISourceSession? within,
        CancellationToken cancellation
    )
    {
        if (prepared.Entity is not { Query: { } query, Source: { } source })
            return null;
        var session = within;
        try
        {
            session ??= await values.OpenAsync(source, SessionKind.Plain, cancellation);
            if (!values.Bind(query.Main, source.Dialect).Is(out var parameters, out var fault))
                return fault;
            await using var rows = await session.QueryAsync(query.Main.Text, parameters, cancellation);
            return await rows.ReadAsync(cancellation) ? null : RequestFault.NotFound("There is no such entity.", "path");
        }
        finally
        {
            if (within is null && session is not null)
                await session.DisposeAsync();
        }
    }

    /// <summary>Carries out a call that only reads.</summary>
    private static async Task<Result<QueryRun>> ReadCallAsync(
        PreparedRequest prepared,
        QueryValues values,
        ISourceSession? within,
        CancellationToken cancellation
    )
    {
        var source = prepared.Source!;
        if (!values.CanTell(source))
            return new RequestFault(403, "forbidden", "No database role is configured for your roles, so this source cannot be queried.");
        var session = within ?? await values.OpenAsync(source, SessionKind.OneState, cancellation);
        try
        {
            var started = await CallAsync(prepared, values.For(null), session, cancellation, within is not null);
            if (started.Fault is not null && within is null)
                await session.DisposeAsync();
            return started;
        }
        catch (SourceException exception) when (CallFaults.Tells(exception) is { } broken)
        {
            if (within is null)
                await session.DisposeAsync();
            return CallFaults.Of(broken, prepared.Request.Path.Root!.Name);
        }
        catch when (within is null)
        {
            await session.DisposeAsync();
            throw;
        }
    }

    /// <summary>Carries out an action in a transaction, up to the first row of its result.</summary>
    /// <param name="session">That of the transaction.</param>
    /// <param name="isShared">The session goes on after this.</param>
    /// <exception cref="SourceException">When a statement fails; the transaction is then to be undone.</exception>
    public static async Task<Result<QueryRun>> CallAsync(
        PreparedRequest prepared,
        QueryValues values,
        ISourceSession session,
        CancellationToken cancellation,
        bool isShared = true
    )
    {
        var (query, dialect) = (prepared.Query!, prepared.Source!.Dialect);
        var bound = new List<SourceStatement>();
        // All values are looked at before anything is done.
        foreach (var statement in query.Before.Append(query.Main))
        {
            if (!values.Bind(statement, dialect).Is(out var parameters, out var fault))
                return fault;
            bound.Add(new SourceStatement(statement.Text, parameters));
        }
        // A server that lets routines end the transaction around them is asked afterwards whether one did.
        var isHeld =
            isShared && dialect.Routines == RoutineForm.Variables && bound.Exists(s => s.Sql.StartsWith("CALL ", StringComparison.Ordinal));
        if (isHeld)
            await session.ExecuteAsync("SAVEPOINT gable_call", ReadOnlyMemory<StoredValue>.Empty, cancellation);
        foreach (var statement in bound.SkipLast(1))
            await session.ExecuteAsync(statement.Sql, statement.Parameters, cancellation);
        var run = new QueryRun(session, dialect, query, values, prepared.Sources) { _isShared = isShared };
        var last = bound[^1];
        if (prepared.Request.Path.Root!.Gives == QueryResult.Nothing)
        {
            await session.ExecuteAsync(last.Sql, last.Parameters, cancellation);
            return isHeld && await HasEndedAsync(session, cancellation) is { } ended ? ended : run;
        }
        var action = prepared.Request.Path.Root;
        if (action.Call!.HasResults)
        {
            var results = await session.QueryResultsAsync(last.Sql, last.Parameters, cancellation);
            var names = action.Type.Properties.Select(p => p.Column).ToImmutableArray();
            if (results.Count != names.Length)
                return new RequestFault(
                    500,
                    "results",
                    $"'{action.Name}' is declared to give {names.Length} results, and it gives {results.Count}."
                );
            run.Rows = new HeldTexts(names, results);
        }
        run.Rows ??= new ResultCursor(
            await session.QueryAsync(last.Sql, last.Parameters, cancellation),
            query.Result!.Columns,
            action.Gives == QueryResult.Rows ? action.LargestPage : 1,
            isStrict: !action.IsAction
        );
        if (isHeld && await HasEndedAsync(session, cancellation) is { } broken)
            return broken;
        run.HasRow = await run.Rows.ReadAsync(cancellation);
        return run;
    }

    /// <summary>The fault of a routine that has ended the transaction by itself; null = it has not.</summary>
    private static async Task<RequestFault?> HasEndedAsync(ISourceSession session, CancellationToken cancellation)
    {
        try
        {
            await session.ExecuteAsync("RELEASE SAVEPOINT gable_call", ReadOnlyMemory<StoredValue>.Empty, cancellation);
            return null;
        }
        catch (SourceException exception) when (exception.Kind == SourceFaultKind.Broken)
        {
            return new RequestFault(
                500,
                "routine-commits",
                "The routine has ended the transaction by itself, so that what it did is done. Its declaration needs 'commits: true'."
            );
        }
    }

    /// <summary>Whether all rows of an action have been read; what follows is then no part of the answer.</summary>
    /// <returns>The fault of a result that is larger than it may be; null = it is not.</returns>
    public async Task<RequestFault?> EndOfCallAsync(EntitySet action, CancellationToken cancellation)
    {
        if (Rows is not ResultCursor result || await result.ReadAsync(cancellation) || !result.IsCut)
            return null;
        return action.Gives == QueryResult.Rows
            ? new RequestFault(
                500,
                "too-many-rows",
                $"The action gives more rows than the {action.LargestPage} that an answer holds; nothing has been changed."
            )
            : new RequestFault(
                500,
                "several-rows",
                "The action is declared to give one row, and it gives several; nothing has been changed."
            );
    }

    /// <summary>Reads what the entity before the step into the other source is related by; false when it does not exist.</summary>
    private static async Task<bool> CrossAsync(
        BridgeStatement bridge,
        StoredValue[] key,
        QueryValues values,
        ISource from,
        CancellationToken cancellation
    )
    {
        await using var session = await values.OpenAsync(from, SessionKind.Plain, cancellation);
        await using var cursor = await session.QueryAsync(bridge.Statement.Text, key, cancellation);
        var own = bridge.Plan.Own;
        var isThere = await cursor.ReadAsync(cancellation);
        values.CrossBridge([.. own.Select((p, i) => isThere && !cursor.IsNull(i) ? RowValue.Published(cursor, p, i) : null)]);
        return isThere;
    }

    private sealed record BoundStatements(
        StoredValue[] Main,
        StoredValue[]? Count,
        StoredValue[]? Probe,
        List<StoredValue[]> Children,
        List<StoredValue[]> Remotes
    );

    private static Result<BoundStatements> Bind(CompiledQuery query, QueryValues values, SqlDialect dialect)
    {
        var all = new List<StoredValue[]?>();
        foreach (
            var statement in new[] { query.Main, query.Count, query.Probe }.Concat(query.Children).Concat(query.Remotes.Select(r => r.Keys))
        )
        {
            if (statement is null)
            {
                all.Add(null);
                continue;
            }
            if (!values.Bind(statement, dialect).Is(out var bound, out var fault))
                return fault;
            all.Add(bound);
        }
        return new BoundStatements(
            all[0]!,
            all[1],
            all[2],
            [.. all.Skip(3).Take(query.Children.Length).Select(b => b!)],
            [.. all.Skip(3 + query.Children.Length).Select(b => b!)]
        );
    }

    private async Task StartAsync(BoundStatements bound, CancellationToken cancellation)
    {
        if (Query.Tracking is { } tracking && (Values.ChangePosition is not null || Tracks))
        {
            await MarkAsync(tracking, cancellation);
            // What the marks say is part of the statement's values.
            bound = bound with { Main = Values.Bind(Query.Main, _dialect).Value! };
        }
        if (Query.Count is { } count)
            Counted = await NumberAsync(count, bound.Count!, cancellation);
        for (var i = 0; i < Query.Remotes.Length; i++)
            _remoteKeys.Add(await KeysAsync(Query.Remotes[i], bound.Remotes[i], cancellation));
        var statements = Query
            .Children.Zip(bound.Children, (c, values) => new SourceStatement(c.Text, values))
            .Prepend(new SourceStatement(Query.Main.Text, bound.Main))
            .ToList();
        var cursors =
            statements.Count == 1
                ? [await _session.QueryAsync(statements[0].Sql, statements[0].Parameters, cancellation)]
                : await _session.QueryTogetherAsync(statements, MostHeld(), cancellation);
        Rows = cursors[0];
        _children.AddRange(cursors.Skip(1).Select(c => new ChildRows(c)));
        HasRow = await Rows.ReadAsync(cancellation);
        var isEmptyCount = Query.Shape.Kind == ResourceKind.Count && HasRow && Rows.GetInt64(0) == 0;
        if (Query.Probe is { } probe && (!HasRow || isEmptyCount))
        {
            // One cursor at a time: an empty result needs no more reading, and a count of 0 is written without its row.
            IsZero = isEmptyCount;
            await CloseAsync();
            ParentExists = await NumberAsync(probe, bound.Probe!, cancellation) > 0;
        }
        if (!HasRow)
            return;
        foreach (var children in _children)
            await children.AdvanceAsync(cancellation);
    }

    /// <summary>How many rows all but the last statement can give.</summary>
    private long MostHeld()
    {
        var page = Query.Shape.Kind == ResourceKind.Collection ? Values.FetchRows : 1;
        return (long)Math.Min(long.MaxValue / 2, page + Query.ChildDepths.SkipLast(1).Sum(d => page * Math.Pow(Values.ChildRows + 1, d)));
    }

    private async ValueTask CloseAsync()
    {
        foreach (var child in _children)
            await child.Cursor.DisposeAsync();
        if (Rows is not null)
            await Rows.DisposeAsync();
    }

    /// <summary>The caller wants to follow the changes of the result.</summary>
    public bool Tracks { get; private init; }

    /// <summary>What the delta link after the last page starts from; null = nobody follows.</summary>
    public ImmutableArray<ChangeMark>? Marks { get; private set; }

    /// <summary>Finds how far changes have gone, before any row is read; later pages go on with what the first one found.</summary>
    private async Task MarkAsync(TrackingStatements tracking, CancellationToken cancellation)
    {
        var token = Values.ChangePosition;
        if (token is { IsDelta: true })
        {
            for (var i = 0; i < tracking.Counts.Length; i++)
            {
                var isStart = token.Since[i].Stamp.Kind == StoredValueKind.Null;
                Values.TellAgain(
                    i,
                    isStart ? 2
                        : await NumberAsync(tracking.Counts[i], Values.Bind(tracking.Counts[i], _dialect).Value!, cancellation)
                        != token.Since[i].Rows
                            ? 1
                        : 0
                );
            }
        }
        if ((token is { IsDelta: false } ? token.Since : token?.Next) is { } known)
        {
            Marks = known;
            return;
        }
        var marks = ImmutableArray.CreateBuilder<ChangeMark>();
        foreach (var statement in tracking.Marks)
        {
            await using var cursor = await _session.QueryAsync(statement.Text, Array.Empty<StoredValue>(), cancellation);
            marks.Add(await cursor.ReadAsync(cancellation) ? new ChangeMark(cursor.GetStored(0), cursor.GetInt64(1)) : ChangeMark.Start);
        }
        Marks = marks.ToImmutable();
    }

    /// <summary>Visits the keys of what was deleted since the caller's mark; once the rows have been read.</summary>
    public async Task ReadDeletedAsync(Action<IRowCursor> visit, CancellationToken cancellation)
    {
        if (Query.Tracking?.Deleted is not { } deleted)
            return;
        await Rows.DisposeAsync();
        await using var cursor = await _session.QueryAsync(deleted.Text, Values.Bind(deleted, _dialect).Value!, cancellation);
        while (await cursor.ReadAsync(cancellation))
            visit(cursor);
    }

    private async Task<List<object[]>> KeysAsync(RemoteStatements remote, StoredValue[] values, CancellationToken cancellation)
    {
        var keys = new List<object[]>();
        await using var cursor = await _session.QueryAsync(remote.Keys.Text, values, cancellation);
        while (await cursor.ReadAsync(cancellation))
            keys.Add([.. remote.Plan.Own.Select((p, i) => RowValue.Published(cursor, p, i))]);
        return keys;
    }

    /// <summary>Reads the rows that the page's entities are related to in another source, in batches.</summary>
    /// <param name="remote">Number among the query's remote relations.</param>
    /// <param name="visit">Takes the key of <see cref="RemoteKey"/> and the row, whose first column is not the row's.</param>
    /// <exception cref="SourceException">When the other source fails.</exception>
    public async Task ReadRemoteAsync(int remote, Action<string, IRowCursor> visit, CancellationToken cancellation)
    {
        var statements = Query.Remotes[remote];
        var source = _sources[statements.Plan.Related.From.Source.Source];
        if (_remoteKeys[remote].Count == 0)
            return;
        await using var session = await Values.OpenAsync(source, SessionKind.Plain, cancellation);
        foreach (var batch in _remoteKeys[remote].Chunk(RemotePlan.BatchSize))
        {
            Values.TakeBatch(batch);
            var parameters = Values.Bind(statements.Batch, source.Dialect).Value
                ?? throw new InvalidOperationException("A batch holds no literal.");
            await using var cursor = await session.QueryAsync(statements.Batch.Text, parameters, cancellation);
            while (await cursor.ReadAsync(cancellation))
                visit(RemoteKey(batch[cursor.GetInt64(0) - 1]), cursor);
        }
    }

    /// <summary>What an entity is related by, as one text that is the same in both sources.</summary>
    public static string RemoteKey(IEnumerable<object> values) => string.Join('\u001f', values.Select(ValueConversion.Text));

    private async Task<long> NumberAsync(SqlStatement statement, StoredValue[] values, CancellationToken cancellation)
    {
        await using var cursor = await _session.QueryAsync(statement.Text, values, cancellation);
        await cursor.ReadAsync(cancellation);
        return cursor.GetInt64(0);
    }

    /// <summary>Whether others wait for the session that this one holds.</summary>
    public bool IsAwaited => !_isShared && _session.IsAwaited;

    public async ValueTask DisposeAsync()
    {
        if (_isDisposed)
            return;
        _isDisposed = true;
        await CloseAsync();
        if (!_isShared)
            await _session.DisposeAsync();
    }
}

/// <summary>
/// Related rows of a whole page, in the order of their parents: walked in step with them, so that neither side is kept.
/// </summary>
public sealed class ChildRows(IRowCursor cursor)
{
    private bool _hasRow;

    public IRowCursor Cursor => cursor;

    /// <summary>Number of the current row among all of its statement, from 1: what rows below it refer to.</summary>
    public long Number { get; private set; }

    /// <summary>
    /// Goes on to the rows of the parent with this number, past those of parents that were not written; false when it has none left.
    /// </summary>
    public async ValueTask<bool> FindAsync(long parent, CancellationToken cancellation)
    {
        while (_hasRow && cursor.GetInt64(0) < parent)
            await AdvanceAsync(cancellation);
        return _hasRow && cursor.GetInt64(0) == parent;
    }

    /// <summary>Goes to the next related row.</summary>
    /// <returns>False when the parent has no more.</returns>
    public async ValueTask AdvanceAsync(CancellationToken cancellation)
    {
        _hasRow = await cursor.ReadAsync(cancellation);
        Number++;
    }
}
