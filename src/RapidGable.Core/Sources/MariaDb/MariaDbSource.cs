using System.Collections.Immutable;
using System.Data;
using MySqlConnector;
using RapidGable.Model;

namespace RapidGable.Sources.MariaDb;

/// <summary>One database of a MariaDB or MySQL server and its pool of connections.</summary>
internal sealed class MariaDbSource : ISource
{
    private readonly ServerNames _names;
    private readonly MySqlDataSource _database;
    private readonly SessionGate _gate;
    private readonly int _statementSeconds;

    public MariaDbSource(string name, MySqlConnectionStringBuilder settings, ServerNames names, int sessions, int statementSeconds)
    {
        Name = name;
        _names = names;
        Host = settings.Server;
        _gate = new SessionGate(sessions, TimeSpan.FromSeconds(statementSeconds));
        _statementSeconds = statementSeconds;
        _database = new MySqlDataSourceBuilder(settings.ConnectionString).UseConnectionOpenedCallback(PrepareAsync).Build();
    }

    public string Name { get; }

    public string Address => $"MariaDB {_names.Place}/{_names.Database} as {_names.User}";

    public string? Host { get; }

    public SqlDialect Dialect { get; } = new MariaDbDialect();

    /// <summary>
    /// Each new connection reads only, in UTC, within the time limit, divides with enough digits, and sorts long texts by
    /// more than their first 1,024 bytes, since a position in a page is compared by all of them.
    /// </summary>
    private async ValueTask PrepareAsync(MySqlConnectionOpenedContext context, CancellationToken cancellation)
    {
        if (!context.Conditions.HasFlag(MySqlConnectionOpenedConditions.New))
            return;
        var isMariaDb = context.Connection.ServerVersion.Contains("Maria", StringComparison.OrdinalIgnoreCase);
        var limit = isMariaDb ? $"max_statement_time = {_statementSeconds}" : $"max_execution_time = {_statementSeconds * 1000}";
        // Texts that meet no column are compared as they are; a column brings its own collation.
        var collation = isMariaDb ? "utf8mb4_nopad_bin" : "utf8mb4_0900_bin";
        await using var command = new MySqlCommand(
            $"SET NAMES utf8mb4 COLLATE {collation}; SET SESSION time_zone = '+00:00', {limit}, div_precision_increment = 12, "
                + $"max_sort_length = 65535, sort_buffer_size = 4194304, sql_mode = CONCAT(@@sql_mode, ',STRICT_ALL_TABLES'); "
                + $"SET SESSION TRANSACTION READ ONLY",
            context.Connection
        );
        await command.ExecuteNonQueryAsync(cancellation);
    }

    public async Task<SourceCatalog> ReadCatalogAsync(CancellationToken cancellation)
    {
        try
        {
            await using var connection = await _database.OpenConnectionAsync(cancellation);
            return await new MariaDbCatalogReader(connection, cancellation).ReadAsync();
        }
        catch (Exception exception) when (exception is MySqlException or IOException or TimeoutException)
        {
            throw Fault(exception);
        }
    }

    // Types are the catalog's business here; rows tell nothing more.
    public Task<SourceObject> DescribeAsync(SourceObject item, CancellationToken cancellation) => Task.FromResult(item);

    public async Task<SourceObject> DescribeQueryAsync(
        string name,
        string select,
        ReadOnlyMemory<StoredValue> arguments,
        CancellationToken cancellation
    )
    {
        try
        {
            await using var connection = await _database.OpenConnectionAsync(cancellation);
            await using var command = new MySqlCommand($"SELECT * FROM (\n{select}\n) AS q LIMIT 0", connection);
            MariaDbSession.Add(command, arguments.Span);
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            var columns = reader.GetColumnSchema().Cast<MySqlDbColumn>().Select(QueryColumn).ToList();
            return await reader.NextResultAsync(cancellation)
                ? throw new SourceException(SourceFaultKind.Broken, QueryObject.Several)
                : QueryObject.Of(name, select, arguments, columns);
        }
        catch (Exception exception) when (exception is MySqlException or IOException or TimeoutException)
        {
            throw Fault(exception);
        }
    }

    /// <summary>The server describes a SELECT; other statements are prepared, and what they give is not told.</summary>
    public async Task<IReadOnlyList<SourceColumn>?> DescribeChangeAsync(
        string sql,
        ReadOnlyMemory<StoredValue> arguments,
        CancellationToken cancellation
    )
    {
        if (sql.TrimStart().StartsWith("SELECT", StringComparison.OrdinalIgnoreCase))
            return [.. (await DescribeQueryAsync("", sql, arguments, cancellation)).Columns];
        try
        {
            await using var connection = await _database.OpenConnectionAsync(cancellation);
            // Only where it may write is a statement that writes prepared.
            await using var transaction = await connection.BeginTransactionAsync(
                IsolationLevel.ReadCommitted,
                isReadOnly: false,
                cancellation
            );
            await using var command = new MySqlCommand(sql, connection, transaction);
            MariaDbSession.Add(command, arguments.Span);
            await command.PrepareAsync(cancellation);
            return null;
        }
        catch (Exception exception) when (exception is MySqlException or IOException or TimeoutException)
        {
            throw Fault(exception);
        }
    }

    public async Task<IReadOnlyDictionary<string, ColumnOrigin>> OriginsAsync(SourceObject view, CancellationToken cancellation)
    {
        try
        {
            // A view says of its own columns that they are its own; its text says of which tables they are.
            await using var connection = await _database.OpenConnectionAsync(cancellation);
            await using var command = new MySqlCommand(
                "SELECT view_definition FROM information_schema.views WHERE table_schema = database() AND table_name = @p1",
                connection
            );
            command.Parameters.AddWithValue("@p1", view.Name);
            if (await command.ExecuteScalarAsync(cancellation) is not string definition)
                return new Dictionary<string, ColumnOrigin>();
            await using var inner = new MySqlCommand(definition, connection);
            await using var reader = await inner.ExecuteReaderAsync(CommandBehavior.SchemaOnly, cancellation);
            return reader
                .GetColumnSchema()
                .Where(c => !string.IsNullOrEmpty(c.BaseTableName) && !string.IsNullOrEmpty(c.BaseColumnName))
                .DistinctBy(c => c.ColumnName)
                .ToDictionary(c => c.ColumnName, c => new ColumnOrigin(c.BaseTableName!, c.BaseColumnName!));
        }
        catch (Exception exception) when (exception is MySqlException or IOException or TimeoutException)
        {
            throw Fault(exception);
        }
    }

    private static SourceColumn QueryColumn(MySqlDbColumn column)
    {
        var name = MariaDbTypes.Name(column.ProviderType);
        var unsigned =
            column.ProviderType
            is MySqlDbType.UByte
                or MySqlDbType.UInt16
                or MySqlDbType.UInt24
                or MySqlDbType.UInt32
                or MySqlDbType.UInt64;
        var shown =
            name == "bool" ? "tinyint(1)"
            : unsigned ? name + " unsigned"
            : name;
        // Fraction digits are not told, so all that the server keeps are promised.
        var (type, reason) = MariaDbTypes.Map(
            name == "bool" ? "tinyint" : name,
            shown,
            column.ColumnSize,
            column.NumericPrecision ?? (name == "bit" ? column.ColumnSize : null),
            column.NumericScale,
            6
        );
        return new SourceColumn(column.ColumnName, shown, type, Nullable: true, reason)
        {
            MediaType = name == "json" ? "application/json" : null,
        };
    }

    // The server's own readers know these as either.
    public SourceColumn? Retype(SourceColumn column, EdmType type) =>
        (column.Type?.Kind, type.Kind) switch
        {
            (EdmKind.Duration, EdmKind.TimeOfDay) => column with
            {
                Type = type with { Precision = type.Precision ?? column.Type!.Precision },
            },
            (EdmKind.String, EdmKind.Guid) when column.Type is { IsCollection: false } => column with
            {
                Type = type,
                StorageForm = MariaDbDialect.SmallLetters,
            },
            (EdmKind.Boolean, EdmKind.SByte or EdmKind.Int16 or EdmKind.Int32 or EdmKind.Int64) => column with { Type = type },
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
        var pass = await _gate.EnterAsync(request, cancellation);
        MySqlConnection? connection = null;
        try
        {
            connection = await _database.OpenConnectionAsync(cancellation);
            // Rows that a change locks are read as they are then.
            var transaction = kind switch
            {
                SessionKind.Plain or SessionKind.Unbound => null,
                SessionKind.Changing => await connection.BeginTransactionAsync(
                    IsolationLevel.ReadCommitted,
                    isReadOnly: false,
                    cancellation
                ),
                _ => await connection.BeginTransactionAsync(IsolationLevel.RepeatableRead, isReadOnly: true, cancellation),
            };
            if (kind == SessionKind.Unbound)
                await SetAsync(connection, "READ WRITE", cancellation);
            var holds = kind is SessionKind.Interleaved or SessionKind.Changing or SessionKind.Unbound;
            return new MariaDbSession(this, connection, pass, transaction, holds) { IsUnbound = kind == SessionKind.Unbound };
        }
        catch (Exception exception)
        {
            if (connection is not null)
                await connection.DisposeAsync();
            pass.Leave();
            if (exception is OperationCanceledException)
                throw;
            throw Fault(exception);
        }
    }

    /// <summary>What the transactions of a connection may do from now on.</summary>
    internal static async Task SetAsync(MySqlConnection connection, string access, CancellationToken cancellation)
    {
        await using var command = new MySqlCommand("SET SESSION TRANSACTION " + access, connection);
        await command.ExecuteNonQueryAsync(cancellation);
    }

    /// <summary>Time limit of one statement.</summary>
    internal int StatementSeconds => _statementSeconds;

    internal SourceException Fault(Exception exception) => MariaDbFault.From(exception, _names, Host);

    public ValueTask DisposeAsync() => _database.DisposeAsync();
}

internal sealed class MariaDbSession(
    MariaDbSource source,
    MySqlConnection connection,
    SessionPass pass,
    MySqlTransaction? transaction,
    bool interleaved
) : ISourceSession
{
    public bool IsAwaited => pass.IsAwaited;

    private bool _hasLocks;

    /// <summary>The connection may change rows outside of a transaction, until it is given back.</summary>
    public bool IsUnbound { get; init; }

    public async ValueTask<IRowCursor> QueryAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation)
    {
        try
        {
            var command = new MySqlCommand(sql, connection, transaction);
            Add(command, parameters.Span);
            // The server fails, or worse, when it runs a prepared statement with nested SELECTs a second time; and the library takes the
            // variables of one for parameters.
            if (sql.LastIndexOf("SELECT", StringComparison.Ordinal) == 0 && !sql.Contains(" @gable_", StringComparison.Ordinal))
                await command.PrepareAsync(cancellation);
            var reader = await command.ExecuteReaderAsync(cancellation);
            // A connection has one reader and the server no cursors that could be read in turn: such a page is held, and its
            // size is bounded by the pages of its sets.
            return interleaved
                ? await MariaDbPage.ReadAsync(source, reader, pass.Request, cancellation)
                : new MariaDbCursor(source, reader);
        }
        catch (Exception exception) when (exception is not (OperationCanceledException or MemoryExceededException))
        {
            throw await WithColumnsAsync(source.Fault(exception), sql, cancellation);
        }
    }

    public async ValueTask<IReadOnlyList<string>> QueryResultsAsync(
        string sql,
        ReadOnlyMemory<StoredValue> parameters,
        CancellationToken cancellation
    )
    {
        try
        {
            await using var command = new MySqlCommand(sql, connection, transaction);
            Add(command, parameters.Span);
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            return await MariaDbResults.ReadAsync(reader, pass.Request, cancellation);
        }
        catch (Exception exception) when (exception is not (OperationCanceledException or MemoryExceededException))
        {
            throw await WithColumnsAsync(source.Fault(exception), sql, cancellation);
        }
    }

    public async ValueTask<long> ExecuteAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation)
    {
        try
        {
            await using var command = new MySqlCommand(sql, connection, transaction);
            Add(command, parameters.Span);
            return await command.ExecuteNonQueryAsync(cancellation);
        }
        catch (Exception exception) when (exception is not (OperationCanceledException or MemoryExceededException))
        {
            throw await WithColumnsAsync(source.Fault(exception), sql, cancellation);
        }
    }

    /// <summary>A broken unique key is told by its name alone; its columns are asked for.</summary>
    private async Task<SourceException> WithColumnsAsync(SourceException fault, string sql, CancellationToken cancellation)
    {
        if (fault is not { Kind: SourceFaultKind.Constraint, Constraint: { Kind: ConstraintKind.Unique, Name: { } name } broken })
            return fault;
        // The table is the first name of the statement, which is one of ours.
        var table = sql.Split('`', 3) is [_, var first, _] ? first : "";
        try
        {
            await using var command = new MySqlCommand(
                "SELECT column_name FROM information_schema.statistics WHERE table_schema = database() AND table_name = @p1 "
                    + "AND index_name = @p2 ORDER BY seq_in_index",
                connection,
                transaction
            );
            command.Parameters.AddWithValue("@p1", table);
            command.Parameters.AddWithValue("@p2", name[(name.IndexOf('.') + 1)..]);
            var columns = ImmutableArray.CreateBuilder<string>();
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            while (await reader.ReadAsync(cancellation))
                columns.Add(reader.GetString(0));
            return new SourceException(fault.Kind, fault.Message, fault.InnerException)
            {
                Constraint = broken with { Columns = columns.ToImmutable() },
            };
        }
        catch (Exception exception) when (exception is MySqlException or IOException)
        {
            return fault;
        }
    }

    public async ValueTask SerializeAsync(string subject, CancellationToken cancellation)
    {
        // The lock belongs to the connection, so it is given back when the session ends.
        _hasLocks = true;
        await using var rows = await QueryAsync(
            "SELECT GET_LOCK(CONCAT(LEFT(DATABASE(), 20), MD5(@p1)), @p2)",
            new[] { StoredValue.From(subject), StoredValue.From((long)source.StatementSeconds) },
            cancellation
        );
        if (!await rows.ReadAsync(cancellation) || rows.IsNull(0) || rows.GetInt64(0) != 1)
            throw new SourceException(SourceFaultKind.Busy, "Somebody else makes the same kind of change for a long time.");
    }

    public async ValueTask CommitAsync(CancellationToken cancellation)
    {
        try
        {
            await transaction!.CommitAsync(cancellation);
        }
        catch (MySqlException exception) when (exception.ErrorCode is MySqlErrorCode.LockDeadlock or MySqlErrorCode.LockWaitTimeout)
        {
            throw source.Fault(exception);
        }
        catch (Exception exception)
        {
            throw new SourceException(SourceFaultKind.Uncertain, "The connection broke while a change was made final.", exception);
        }
    }

    internal static void Add(MySqlCommand command, ReadOnlySpan<StoredValue> values)
    {
        for (var i = 0; i < values.Length; i++)
            command.Parameters.AddWithValue("@p" + (i + 1), Value(values[i]));
    }

    private static object Value(StoredValue value) =>
        value.Kind switch
        {
            StoredValueKind.Int64 => value.Int64,
            StoredValueKind.Double => value.Double,
            StoredValueKind.Text => value.Text,
            StoredValueKind.Blob => value.Blob,
            _ => DBNull.Value,
        };

    public async ValueTask DisposeAsync()
    {
        try
        {
            if (transaction is not null)
                await transaction.DisposeAsync();
            if (IsUnbound)
            {
                // A routine may have left a transaction open; it was not asked for.
                await using var command = new MySqlCommand("ROLLBACK", connection);
                await command.ExecuteNonQueryAsync();
                await MariaDbSource.SetAsync(connection, "READ ONLY", CancellationToken.None);
            }
            if (_hasLocks)
            {
                await using var command = new MySqlCommand("DO RELEASE_ALL_LOCKS()", connection);
                await command.ExecuteNonQueryAsync();
            }
            await connection.DisposeAsync();
        }
        catch (Exception exception) when (exception is MySqlException or IOException)
        {
            // The connection broke, which the request has heard already; the pool throws it away.
        }
        finally
        {
            pass.Leave();
        }
    }
}
