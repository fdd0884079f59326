using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>The running statements of one request: all in one session, so that they see one state of the data.</summary>
public sealed class QueryRun : IAsyncDisposable
{
    private readonly ISourceSession _session;
    private readonly List<ChildRows> _children = [];

    private QueryRun(ISourceSession session, CompiledQuery query, QueryValues values)
    {
        _session = session;
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

    /// <summary>Starts the statements and reads the first row.</summary>
    /// <exception cref="SourceException">When the source fails.</exception>
    public static async Task<Result<QueryRun>> StartAsync(CompiledQuery query, QueryValues values, ISource source, CancellationToken cancellation)
    {
        if (!Bind(query, values, source.Dialect).Is(out var bound, out var fault))
            return fault;
        var run = new QueryRun(await source.OpenSessionAsync(query.Needs, cancellation), query, values);
        try
        {
            await run.StartAsync(bound, cancellation);
            return run;
        }
        catch
        {
            await run.DisposeAsync();
            throw;
        }
    }

    private sealed record BoundStatements(StoredValue[] Main, StoredValue[]? Count, StoredValue[]? Probe, List<StoredValue[]> Children);

    private static Result<BoundStatements> Bind(CompiledQuery query, QueryValues values, SqlDialect dialect)
    {
        var all = new List<StoredValue[]?>();
        foreach (var statement in new[] { query.Main, query.Count, query.Probe }.Concat(query.Children))
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
        return new BoundStatements(all[0]!, all[1], all[2], [.. all.Skip(3).Select(b => b!)]);
    }

    private async Task StartAsync(BoundStatements bound, CancellationToken cancellation)
    {
        if (Query.Count is { } count)
            Count = await NumberAsync(count, bound.Count!, cancellation);
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
