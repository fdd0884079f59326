using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>The running statements of one request: all in one session, so that they see one state of the data.</summary>
public sealed class QueryRun : IAsyncDisposable
{
    private readonly ISourceSession _session;
    private readonly IReadOnlyDictionary<string, ISource> _sources;
    private readonly List<ChildRows> _children = [];
    private readonly List<List<object[]>> _remoteKeys = [];

    private QueryRun(ISourceSession session, CompiledQuery query, QueryValues values, IReadOnlyDictionary<string, ISource> sources)
    {
        _session = session;
        _sources = sources;
        Query = query;
        Values = values;
    }

    public CompiledQuery Query { get; }

    public QueryValues Values { get; }

    /// <summary>Matches before paging; null when not asked for.</summary>
    public long? Count { get; private set; }

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
    /// <exception cref="SourceException">When a source fails.</exception>
    public static async Task<Result<QueryRun>> StartAsync(PreparedRequest prepared, QueryValues values, CancellationToken cancellation)
    {
        var (query, source, sources) = (prepared.Query!, prepared.Source!, prepared.Sources);
        var isThere = true;
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
            if (!values.Bind(remote.Batch, sources[remote.Plan.Child.Source.Source].Dialect).Is(out _, out var wrong))
                return wrong;
        }
        var run = new QueryRun(await source.OpenSessionAsync(query.Needs, cancellation), query, values, sources);
        try
        {
            await run.StartAsync(bound, cancellation);
            run.ParentExists &= isThere;
            return run;
        }
        catch
        {
            await run.DisposeAsync();
            throw;
        }
    }

    /// <summary>Reads what the entity before the step into the other source is related by; false when it does not exist.</summary>
    private static async Task<bool> CrossAsync(BridgeStatement bridge, StoredValue[] key, QueryValues values, ISource from, CancellationToken cancellation)
    {
        await using var session = await from.OpenSessionAsync(SessionKind.Plain, cancellation);
        await using var cursor = await session.QueryAsync(bridge.Statement.Text, key, cancellation);
        var own = bridge.Plan.Own;
        var isThere = await cursor.ReadAsync(cancellation);
        values.CrossBridge([.. own.Select((p, i) => isThere && !cursor.IsNull(i) ? RowValue.Published(cursor, p, i) : null)]);
        return isThere;
    }

    private sealed record BoundStatements(StoredValue[] Main, StoredValue[]? Count, StoredValue[]? Probe, List<StoredValue[]> Children, List<StoredValue[]> Remotes);

    private static Result<BoundStatements> Bind(CompiledQuery query, QueryValues values, SqlDialect dialect)
    {
        var all = new List<StoredValue[]?>();
        foreach (var statement in new[] { query.Main, query.Count, query.Probe }.Concat(query.Children).Concat(query.Remotes.Select(r => r.Keys)))
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
        return new BoundStatements(all[0]!, all[1], all[2], [.. all.Skip(3).Take(query.Children.Length).Select(b => b!)], [.. all.Skip(3 + query.Children.Length).Select(b => b!)]);
    }

    private async Task StartAsync(BoundStatements bound, CancellationToken cancellation)
    {
        if (Query.Count is { } count)
            Count = await NumberAsync(count, bound.Count!, cancellation);
        for (var i = 0; i < Query.Remotes.Length; i++)
            _remoteKeys.Add(await KeysAsync(Query.Remotes[i], bound.Remotes[i], cancellation));
        Rows = await _session.QueryAsync(Query.Main.Text, bound.Main, cancellation);
        HasRow = await Rows.ReadAsync(cancellation);
        var isEmptyCount = Query.Shape.Kind == ResourceKind.Count && HasRow && Rows.GetInt64(0) == 0;
        if (Query.Probe is { } probe && (!HasRow || isEmptyCount))
        {
            // One cursor at a time: an empty result needs no more reading, and a count of 0 is written without its row.
            IsZero = isEmptyCount;
            await Rows.DisposeAsync();
            ParentExists = await NumberAsync(probe, bound.Probe!, cancellation) > 0;
        }
        if (!HasRow)
            return;
        for (var i = 0; i < Query.Children.Length; i++)
        {
            var cursor = await _session.QueryAsync(Query.Children[i].Text, bound.Children[i], cancellation);
            _children.Add(new ChildRows(cursor));
            await _children[i].AdvanceAsync(cancellation);
        }
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
        var source = _sources[statements.Plan.Child.Source.Source];
        if (_remoteKeys[remote].Count == 0)
            return;
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, cancellation);
        foreach (var batch in _remoteKeys[remote].Chunk(RemotePlan.BatchSize))
        {
            Values.TakeBatch(batch);
            var parameters = Values.Bind(statements.Batch, source.Dialect).Value ?? throw new InvalidOperationException("A batch holds no literal.");
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

    public async ValueTask DisposeAsync()
    {
        foreach (var child in _children)
            await child.Cursor.DisposeAsync();
        if (Rows is not null)
            await Rows.DisposeAsync();
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

    /// <summary>Whether the current row belongs to the parent with this number (from 1) in its page.</summary>
    public bool IsAt(long parent) => _hasRow && cursor.GetInt64(0) == parent;

    public async ValueTask AdvanceAsync(CancellationToken cancellation) => _hasRow = await cursor.ReadAsync(cancellation);
}
