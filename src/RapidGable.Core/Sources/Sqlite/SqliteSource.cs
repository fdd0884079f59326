using System.Collections.Concurrent;
using RapidGable.Model;
using SQLitePCL;

namespace RapidGable.Sources.Sqlite;

/// <summary>A database file and its pool of connections.</summary>
internal sealed class SqliteSource(string name, string path, string shownPath, TimeSpan statementTime, int sessions) : ISource
{
    private readonly ConcurrentBag<SqliteConnection> _idle = [];
    private readonly SessionGate _gate = new(sessions, statementTime);

    // A database file has one writer at a time; who waits here waits in turn, and not by trying again and again.
    private readonly SessionGate _writing = new(1, statementTime);
    private SqliteConnection? _writer;

    public string Name => name;

    public string Address => $"SQLite file {shownPath}";

    public SqlDialect Dialect { get; } = new SqliteDialect();

    public async Task<SourceCatalog> ReadCatalogAsync(CancellationToken cancellation)
    {
        await using var session = (SqliteSession)await OpenSessionAsync(SessionKind.Plain, [], RequestAllowance.Own, cancellation);
        return await new SqliteCatalogReader(session, cancellation).ReadAsync();
    }

    public async Task<SourceObject> DescribeAsync(SourceObject item, CancellationToken cancellation)
    {
        await using var session = (SqliteSession)await OpenSessionAsync(SessionKind.Plain, [], RequestAllowance.Own, cancellation);
        return await new SqliteObjectReader(session, cancellation).DescribeAsync(item);
    }

    public async Task<SourceObject> DescribeQueryAsync(
        string name,
        string select,
        ReadOnlyMemory<StoredValue> arguments,
        CancellationToken cancellation
    )
    {
        await using var session = await OpenSessionAsync(SessionKind.Plain, [], RequestAllowance.Own, cancellation);
        // SQLite reads one statement and stops. It must be sound by itself, and so must what it becomes a part of: then nothing follows it.
        await (await session.QueryAsync(select, arguments, cancellation)).DisposeAsync();
        await using var cursor = (SqliteCursor)
            await session.QueryAsync($"SELECT * FROM (\n{select}\n) AS q WHERE 1 = 0 LIMIT 0", arguments, cancellation);
        if (cursor.ParameterCount > arguments.Length)
            throw new SourceException(SourceFaultKind.Broken, "it has parameters that are not declared.");
        return QueryObject.Of(name, select, arguments, Columns(cursor));
    }

    public async Task<IReadOnlyList<SourceColumn>?> DescribeChangeAsync(
        string sql,
        ReadOnlyMemory<StoredValue> arguments,
        CancellationToken cancellation
    )
    {
        // The statement is prepared, and never begun.
        await using var session = await OpenSessionAsync(SessionKind.Plain, [], RequestAllowance.Own, cancellation);
        await using var cursor = (SqliteCursor)await session.QueryAsync(sql, arguments, cancellation);
        return [.. Columns(cursor)];
    }

    private static IEnumerable<SourceColumn> Columns(SqliteCursor cursor)
    {
        // A second column of one name comes as "name:1" in a subquery.
        var columns = cursor.Declared().ToList();
        string Plain(string column) =>
            column.LastIndexOf(':') is > 0 and var colon
            && column.AsSpan(colon + 1).IndexOfAnyExceptInRange('0', '9') < 0
            && columns.Exists(c => c.Name == column[..colon])
                ? column[..colon]
                : column;
        return columns.Select(c =>
        {
            var (type, reason, mediaType) = SqliteTypes.Map(c.DeclaredType);
            return new SourceColumn(Plain(c.Name), c.DeclaredType, type, Nullable: true, reason) { MediaType = mediaType };
        });
    }

    public async Task<IReadOnlyDictionary<string, ColumnOrigin>> OriginsAsync(SourceObject view, CancellationToken cancellation)
    {
        await using var session = await OpenSessionAsync(SessionKind.Plain, [], RequestAllowance.Own, cancellation);
        await using var cursor = (SqliteCursor)
            await session.QueryAsync($"SELECT * FROM {Dialect.From(view)} LIMIT 0", default, cancellation);
        return cursor.Origins().Where(o => o.Origin is not null).DistinctBy(o => o.Name).ToDictionary(o => o.Name, o => o.Origin!);
    }

    /// <summary>Types are promises here: what is kept as text or number can be read as any type that is kept so.</summary>
    public SourceColumn? Retype(SourceColumn column, EdmType type) =>
        type.Kind switch
        {
            EdmKind.Date
            or EdmKind.TimeOfDay
            or EdmKind.Guid
                when column.Type
                    is null
                        or { Kind: EdmKind.String or EdmKind.Date or EdmKind.DateTimeOffset or EdmKind.TimeOfDay or EdmKind.Guid } =>
                column with
                {
                    Type = type,
                    StorageForm = null,
                },
            EdmKind.DateTimeOffset when column.Type is null or { Kind: EdmKind.String or EdmKind.Date or EdmKind.DateTimeOffset } =>
                column with
                {
                    Type = type,
                    StorageForm = null,
                },
            EdmKind.Boolean
            or EdmKind.Double
            or EdmKind.Decimal
            or EdmKind.Int64
            or EdmKind.String
            or EdmKind.Binary when column.Type is null => column with
            {
                Type = type,
            },
            _ => null,
        };

    public async ValueTask<ISourceSession> OpenSessionAsync(
        SessionKind kind,
        IReadOnlyList<(string Setting, string Value)> settings,
        RequestAllowance request,
        CancellationToken cancellation
    )
    {
        if (settings.Count > 0)
            throw new NotSupportedException("This source cannot be told who asks.");
        if (kind == SessionKind.Changing)
            return await OpenChangingAsync(request, cancellation);
        var pass = await _gate.EnterAsync(request, cancellation);
        try
        {
            if (!_idle.TryTake(out var connection))
                connection = SqliteConnection.Open(path, shownPath);
            connection.LimitTime(statementTime, cancellation);
            return new SqliteSession(this, connection, pass, kind != SessionKind.Plain);
        }
        catch
        {
            pass.Leave();
            throw;
        }
    }

    private async Task<ISourceSession> OpenChangingAsync(RequestAllowance request, CancellationToken cancellation)
    {
        var pass = await _writing.EnterAsync(request, cancellation);
        try
        {
            _writer ??= SqliteConnection.Open(path, shownPath, isWriting: true);
            _writer.LimitTime(statementTime, cancellation);
            _writer.Run("BEGIN IMMEDIATE");
            return new SqliteChangingSession(this, _writer, pass);
        }
        catch
        {
            DropWriter(pass);
            throw;
        }
    }

    internal void ReturnWriter(SessionPass pass, bool sound)
    {
        if (!sound)
        {
            DropWriter(pass);
            return;
        }
        _writer!.LiftTimeLimit();
        pass.Leave();
    }

    private void DropWriter(SessionPass pass)
    {
        _writer?.Dispose();
        _writer = null;
        pass.Leave();
    }

    internal void Return(SqliteConnection connection, SessionPass pass, bool sound)
    {
        connection.LiftTimeLimit();
        if (sound)
            _idle.Add(connection);
        else
            connection.Dispose();
        pass.Leave();
    }

    public ValueTask DisposeAsync()
    {
        while (_idle.TryTake(out var connection))
            connection.Dispose();
        _writer?.Dispose();
        _writer = null;
        return default;
    }
}

internal sealed class SqliteSession(SqliteSource source, SqliteConnection connection, SessionPass pass, bool snapshot) : ISourceSession
{
    private bool _begun;
    private bool _disposed;

    public bool IsAwaited => pass.IsAwaited;

    public ValueTask<IRowCursor> QueryAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation)
    {
        if (snapshot && !_begun)
        {
            connection.Run("BEGIN");
            _begun = true;
        }
        return new(Start(connection, sql, parameters.Span));
    }

    internal static SqliteCursor Start(SqliteConnection connection, string sql, ReadOnlySpan<StoredValue> values)
    {
        var statement = connection.Take(sql);
        for (var i = 0; i < values.Length; i++)
            Bind(statement, i + 1, values[i]);
        return new SqliteCursor(connection, sql, statement);
    }

    public ValueTask<long> ExecuteAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation) =>
        throw new NotSupportedException("This session only reads.");

    public ValueTask SerializeAsync(string subject, CancellationToken cancellation) =>
        throw new NotSupportedException("This session only reads.");

    public ValueTask CommitAsync(CancellationToken cancellation) => throw new NotSupportedException("This session only reads.");

    public ValueTask DisposeAsync()
    {
        if (_disposed)
            return default;
        _disposed = true;
        var sound = true;
        connection.LiftTimeLimit();
        if (_begun)
        {
            try
            {
                connection.Run("COMMIT");
            }
            catch (SourceException)
            {
                sound = false;
            }
        }
        source.Return(connection, pass, sound);
        return default;
    }

    private static void Bind(sqlite3_stmt statement, int index, StoredValue value)
    {
        switch (value.Kind)
        {
            case StoredValueKind.Null:
                raw.sqlite3_bind_null(statement, index);
                break;
            case StoredValueKind.Int64:
                raw.sqlite3_bind_int64(statement, index, value.Int64);
                break;
            case StoredValueKind.Double:
                raw.sqlite3_bind_double(statement, index, value.Double);
                break;
            case StoredValueKind.Text:
                raw.sqlite3_bind_text(statement, index, value.Text);
                break;
            default:
                raw.sqlite3_bind_blob(statement, index, value.Blob);
                break;
        }
    }
}

/// <summary>The one transaction that changes the file at the moment.</summary>
internal sealed class SqliteChangingSession(SqliteSource source, SqliteConnection connection, SessionPass pass) : ISourceSession
{
    private bool _isOpen = true;
    private bool _disposed;

    public ValueTask<IRowCursor> QueryAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation) =>
        new(SqliteSession.Start(connection, sql, parameters.Span));

    public async ValueTask<long> ExecuteAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation)
    {
        await using var cursor = SqliteSession.Start(connection, sql, parameters.Span);
        while (await cursor.ReadAsync(cancellation)) { }
        return connection.Changed;
    }

    /// <summary>Nobody else changes the file at all.</summary>
    public ValueTask SerializeAsync(string subject, CancellationToken cancellation) => default;

    public ValueTask CommitAsync(CancellationToken cancellation)
    {
        connection.Run("COMMIT");
        _isOpen = false;
        return default;
    }

    public ValueTask DisposeAsync()
    {
        if (_disposed)
            return default;
        _disposed = true;
        var sound = true;
        connection.LiftTimeLimit();
        if (_isOpen)
        {
            try
            {
                // Some faults have undone everything already.
                if (SQLitePCL.raw.sqlite3_get_autocommit(connection.Database) == 0)
                    connection.Run("ROLLBACK");
            }
            catch (SourceException)
            {
                sound = false;
            }
        }
        source.ReturnWriter(pass, sound);
        return default;
    }
}
