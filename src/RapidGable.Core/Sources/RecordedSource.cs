using System.Collections.Concurrent;
using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>A statement that was sent to a source.</summary>
/// <param name="Source">The source's name.</param>
/// <param name="Parameters">The values, in the order of the statement; streams as their length.</param>
public sealed record RecordedStatement(string Source, string Sql, IReadOnlyList<string> Parameters);

/// <summary>Keeps the statements that are sent through it. It does not own the source.</summary>
/// <param name="inner">The source that answers.</param>
/// <param name="most">How many statements are kept; later ones are counted only.</param>
public sealed class RecordedSource(ISource inner, int most) : ISource
{
    private const int LongestValue = 200;

    private readonly ConcurrentQueue<RecordedStatement> _statements = new();
    private int _count;

    /// <summary>The first statements, in their order.</summary>
    public IReadOnlyCollection<RecordedStatement> Statements => _statements;

    /// <summary>How many statements there were.</summary>
    public int Count => _count;

    public string Name => inner.Name;

    public string Address => inner.Address;

    public SqlDialect Dialect => inner.Dialect;

    public IReadOnlyDictionary<string, string> CallerSettings => inner.CallerSettings;

    public Task<SourceCatalog> ReadCatalogAsync(CancellationToken cancellation) => inner.ReadCatalogAsync(cancellation);

    public Task<SourceObject> DescribeAsync(SourceObject item, CancellationToken cancellation) => inner.DescribeAsync(item, cancellation);

    public Task<SourceObject> DescribeQueryAsync(
        string name,
        string select,
        ReadOnlyMemory<StoredValue> arguments,
        CancellationToken cancellation
    ) => inner.DescribeQueryAsync(name, select, arguments, cancellation);

    public Task<IReadOnlyList<SourceColumn>?> DescribeChangeAsync(
        string sql,
        ReadOnlyMemory<StoredValue> arguments,
        CancellationToken cancellation
    ) => inner.DescribeChangeAsync(sql, arguments, cancellation);

    public Task<IReadOnlyDictionary<string, ColumnOrigin>> OriginsAsync(SourceObject view, CancellationToken cancellation) =>
        inner.OriginsAsync(view, cancellation);

    public SourceColumn? Retype(SourceColumn column, EdmType type) => inner.Retype(column, type);

    public async ValueTask<ISourceSession> OpenSessionAsync(
        SessionKind kind,
        IReadOnlyList<(string Setting, string Value)> settings,
        RequestAllowance request,
        CancellationToken cancellation
    ) => new Session(this, await inner.OpenSessionAsync(kind, settings, request, cancellation));

    public ValueTask DisposeAsync() => default;

    private void Keep(string sql, ReadOnlyMemory<StoredValue> parameters)
    {
        if (Interlocked.Increment(ref _count) <= most)
            _statements.Enqueue(new RecordedStatement(inner.Name, sql, [.. parameters.ToArray().Select(Shown)]));
    }

    private static string Shown(StoredValue value) =>
        value.Kind switch
        {
            StoredValueKind.Null => "null",
            StoredValueKind.Blob => $"({value.Blob.Length} bytes)",
            StoredValueKind.Text => value.Text.Length > LongestValue ? $"'{value.Text[..LongestValue]}…'" : $"'{value.Text}'",
            _ => value.ToString(),
        };

    private sealed class Session(RecordedSource owner, ISourceSession inner) : ISourceSession
    {
        public bool IsAwaited => inner.IsAwaited;

        public ValueTask<IRowCursor> QueryAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation)
        {
            owner.Keep(sql, parameters);
            return inner.QueryAsync(sql, parameters, cancellation);
        }

        public ValueTask<IReadOnlyList<string>> QueryResultsAsync(
            string sql,
            ReadOnlyMemory<StoredValue> parameters,
            CancellationToken cancellation
        )
        {
            owner.Keep(sql, parameters);
            return inner.QueryResultsAsync(sql, parameters, cancellation);
        }

        public ValueTask<long> ExecuteAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation)
        {
            owner.Keep(sql, parameters);
            return inner.ExecuteAsync(sql, parameters, cancellation);
        }

        public ValueTask<IReadOnlyList<IRowCursor>> QueryTogetherAsync(
            IReadOnlyList<SourceStatement> statements,
            long mostHeld,
            CancellationToken cancellation
        )
        {
            foreach (var statement in statements)
                owner.Keep(statement.Sql, statement.Parameters);
            return inner.QueryTogetherAsync(statements, mostHeld, cancellation);
        }

        public ValueTask SerializeAsync(string subject, CancellationToken cancellation) => inner.SerializeAsync(subject, cancellation);

        public ValueTask CommitAsync(CancellationToken cancellation) => inner.CommitAsync(cancellation);

        public ValueTask DisposeAsync() => inner.DisposeAsync();
    }
}
