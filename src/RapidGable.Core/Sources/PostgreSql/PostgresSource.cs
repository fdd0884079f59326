using System.Data;
using System.Security.Cryptography;
using System.Text;
using Npgsql;
using NpgsqlTypes;
using RapidGable.Model;

namespace RapidGable.Sources.PostgreSql;

/// <summary>One database of a PostgreSQL server and its pool of connections.</summary>
internal sealed class PostgresSource : ISource
{
    private readonly ServerNames _names;
    private readonly NpgsqlDataSource _database;
    private readonly SessionGate _gate;

    public PostgresSource(string name, NpgsqlConnectionStringBuilder settings, ServerNames names, int sessions, int statementSeconds)
    {
        Name = name;
        _names = names;
        Host = settings.Host;
        _gate = new SessionGate(sessions, TimeSpan.FromSeconds(statementSeconds));
        _database = new NpgsqlDataSourceBuilder(settings.ConnectionString).Build();
    }

    public string Name { get; }

    public string Address => $"PostgreSQL {_names.Place}/{_names.Database} as {_names.User}";

    public string? Host { get; }

    public SqlDialect Dialect { get; } = new PostgresDialect();

    public IReadOnlyDictionary<string, string> CallerSettings { get; init; } = new Dictionary<string, string>();

    public async Task<SourceCatalog> ReadCatalogAsync(CancellationToken cancellation)
    {
        try
        {
            await using var connection = await _database.OpenConnectionAsync(cancellation);
            return await new PostgresCatalogReader(connection, cancellation).ReadAsync();
        }
        catch (Exception exception)
            when (exception is NpgsqlException or IOException or TimeoutException or System.Net.Sockets.SocketException)
        {
            throw PostgresFault.From(exception, _names);
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
            return await new PostgresQueryReader(connection, cancellation).ReadAsync(name, select, arguments);
        }
        catch (Exception exception)
            when (exception is NpgsqlException or IOException or TimeoutException or System.Net.Sockets.SocketException)
        {
            throw Fault(exception);
        }
    }

    public async Task<IReadOnlyList<SourceColumn>?> DescribeChangeAsync(
        string sql,
        ReadOnlyMemory<StoredValue> arguments,
        CancellationToken cancellation
    )
    {
        try
        {
            await using var connection = await _database.OpenConnectionAsync(cancellation);
            return await new PostgresQueryReader(connection, cancellation).ColumnsAsync(sql, arguments, CommandBehavior.SchemaOnly);
        }
        catch (Exception exception)
            when (exception is NpgsqlException or IOException or TimeoutException or System.Net.Sockets.SocketException)
        {
            throw Fault(exception);
        }
    }

    private const string Uses = """
        SELECT DISTINCT c.relname::text, a.attname::text
        FROM pg_depend d
        JOIN pg_rewrite r ON r.oid = d.objid
        JOIN pg_class c ON c.oid = d.refobjid
        JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = d.refobjsubid
        WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass AND r.ev_class = $1::regclass
            AND c.oid <> r.ev_class
        """;

    /// <summary>
    /// The server knows which columns a view uses, and not which of its own each becomes: those of one name, or named after both.
    /// </summary>
    public async Task<IReadOnlyDictionary<string, ColumnOrigin>> OriginsAsync(SourceObject view, CancellationToken cancellation)
    {
        try
        {
            var used = new List<ColumnOrigin>();
            await using var connection = await _database.OpenConnectionAsync(cancellation);
            await using var command = new NpgsqlCommand(Uses, connection)
            {
                Parameters =
                {
                    new NpgsqlParameter { Value = Dialect.Table(view.Schema, view.Name), NpgsqlDbType = NpgsqlDbType.Unknown },
                },
            };
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            while (await reader.ReadAsync(cancellation))
                used.Add(new ColumnOrigin(reader.GetString(0), reader.GetString(1)));
            return view
                .Columns.Select(c =>
                    (
                        c.Name,
                        Origin: used.Find(u => $"{u.Table}_{u.Column}" == c.Name)
                            ?? (used.Where(u => u.Column == c.Name).Take(2).ToList() is [var only] ? only : null)
                    )
                )
                .Where(o => o.Origin is not null)
                .ToDictionary(o => o.Name, o => o.Origin!);
        }
        catch (Exception exception)
            when (exception is NpgsqlException or IOException or TimeoutException or System.Net.Sockets.SocketException)
        {
            throw Fault(exception);
        }
    }

    // The server reads texts as uuids, so that they compare whatever the case of their letters.
    public SourceColumn? Retype(SourceColumn column, EdmType type) =>
        type.Kind == EdmKind.Guid
        && column is { Type: { Kind: EdmKind.String, IsCollection: false }, StorageForm: null or PostgresTypes.AsText }
            ? column with
            {
                Type = type,
                StorageForm = PostgresTypes.AsUuid,
            }
            : null;

    public async ValueTask<ISourceSession> OpenSessionAsync(
        SessionKind kind,
        IReadOnlyList<(string Setting, string Value)> settings,
        RequestAllowance request,
        CancellationToken cancellation
    )
    {
        var pass = await _gate.EnterAsync(request, cancellation);
        NpgsqlConnection? connection = null;
        try
        {
            connection = await _database.OpenConnectionAsync(cancellation);
            if (settings.Count > 0)
                await TellAsync(connection, settings, cancellation);
            var session = new PostgresSession(this, connection, pass, kind);
            if (kind == SessionKind.Changing)
                await session.BeginChangingAsync(cancellation);
            else if (kind == SessionKind.Unbound)
                await session.AllowChangesAsync(cancellation);
            return session;
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

    /// <summary>Sets the settings for as long as the connection is in use; when it is returned to the pool, all are reset.</summary>
    private static async Task TellAsync(
        NpgsqlConnection connection,
        IReadOnlyList<(string Setting, string Value)> settings,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            $"SELECT {string.Join(", ", settings.Select((_, i) => $"set_config(${(2 * i) + 1}, ${(2 * i) + 2}, false)"))}",
            connection
        );
        foreach (var (setting, value) in settings)
        {
            command.Parameters.Add(new NpgsqlParameter { Value = setting, NpgsqlDbType = NpgsqlDbType.Text });
            command.Parameters.Add(new NpgsqlParameter { Value = value, NpgsqlDbType = NpgsqlDbType.Text });
        }
        await command.ExecuteNonQueryAsync(cancellation);
    }

    internal SourceException Fault(Exception exception) => PostgresFault.From(exception, _names);

    public ValueTask DisposeAsync() => _database.DisposeAsync();
}

internal sealed class PostgresSession(PostgresSource source, NpgsqlConnection connection, SessionPass pass, SessionKind kind)
    : ISourceSession
{
    /// <summary>More rows than these are not held, but fetched from cursors of the server, which takes more turns.</summary>
    private const int MostHeld = 20_000;

    private NpgsqlTransaction? _transaction;
    private int _cursors;

    public bool IsAwaited => pass.IsAwaited;

    /// <summary>
    /// Begins the transaction; without this the server lets nothing be changed. Rows that it locks are read as they are then.
    /// </summary>
    public async Task BeginChangingAsync(CancellationToken cancellation)
    {
        _transaction = await connection.BeginTransactionAsync(IsolationLevel.ReadCommitted, cancellation);
        await using var command = new NpgsqlCommand("SET TRANSACTION READ WRITE", connection, _transaction);
        await command.ExecuteNonQueryAsync(cancellation);
    }

    /// <summary>Lets transactions change rows until the connection is returned to the pool, which sets it back.</summary>
    public async Task AllowChangesAsync(CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand("SET default_transaction_read_only = off", connection);
        await command.ExecuteNonQueryAsync(cancellation);
    }

    public async ValueTask<long> ExecuteAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation)
    {
        try
        {
            await using var command = Command(sql, parameters);
            return await command.ExecuteNonQueryAsync(cancellation);
        }
        catch (Exception exception) when (exception is not (OperationCanceledException or MemoryExceededException))
        {
            throw source.Fault(exception);
        }
    }

    public async ValueTask SerializeAsync(string subject, CancellationToken cancellation)
    {
        // The lock ends with the transaction.
        await using var rows = await QueryAsync(
            "SELECT 1 FROM (SELECT pg_advisory_xact_lock(hashtextextended($1::text, 0))) AS l",
            new[] { StoredValue.From(subject) },
            cancellation
        );
    }

    public async ValueTask CommitAsync(CancellationToken cancellation)
    {
        try
        {
            await _transaction!.CommitAsync(cancellation);
        }
        catch (PostgresException exception) when (exception.SqlState is not ['5', '7', 'P', ..])
        {
            throw source.Fault(exception);
        }
        catch (Exception exception)
        {
            throw new SourceException(SourceFaultKind.Uncertain, "The connection broke while a change was made final.", exception);
        }
    }

    public async ValueTask<IRowCursor> QueryAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation)
    {
        try
        {
            if (kind is SessionKind.Changing or SessionKind.Unbound)
            {
                await using var command = Command(sql, parameters);
                await using var reader = await command.ExecuteReaderAsync(cancellation);
                return await PostgresHeldRows.ReadAllAsync(reader, pass.Request, cancellation);
            }
            if (kind != SessionKind.Plain)
                _transaction ??= await connection.BeginTransactionAsync(IsolationLevel.RepeatableRead, cancellation);
            if (kind != SessionKind.Interleaved)
                return new PostgresCursor(source, await Command(sql, parameters).ExecuteReaderAsync(cancellation));
            // One reader at a time is all that a connection has, so cursors that are read in turn live on the server.
            // Its name follows from its statement: a FETCH is prepared by its text, so one text must always give the same columns.
            var name = $"c{_cursors++}_{Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(sql)).AsSpan(0, 8))}";
            await using (var declare = Command($"DECLARE {name} NO SCROLL CURSOR FOR {sql}", parameters))
                await declare.ExecuteNonQueryAsync(cancellation);
            return new PostgresBatchCursor(source, connection, pass.Request, name);
        }
        catch (Exception exception) when (exception is not (OperationCanceledException or MemoryExceededException))
        {
            throw source.Fault(exception);
        }
    }

    /// <summary>
    /// All in one turn when the rows are few: the connection gives the results one after the other, so all but the last are held.
    /// </summary>
    public async ValueTask<IReadOnlyList<IRowCursor>> QueryTogetherAsync(
        IReadOnlyList<SourceStatement> statements,
        long mostHeld,
        CancellationToken cancellation
    )
    {
        if (mostHeld > MostHeld || kind == SessionKind.Changing)
            return [.. await OneByOneAsync(statements, cancellation)];
        try
        {
            await using var batch = new NpgsqlBatch(connection, _transaction);
            // A transaction of its own comes and goes with the batch.
            if (_transaction is null)
                batch.BatchCommands.Add(new NpgsqlBatchCommand("BEGIN ISOLATION LEVEL REPEATABLE READ"));
            foreach (var statement in statements)
            {
                var command = new NpgsqlBatchCommand(statement.Sql);
                foreach (var value in statement.Parameters.Span)
                    command.Parameters.Add(Parameter(value));
                batch.BatchCommands.Add(command);
            }
            if (_transaction is null)
                batch.BatchCommands.Add(new NpgsqlBatchCommand("COMMIT"));
            var reader = await batch.ExecuteReaderAsync(cancellation);
            var cursors = new List<IRowCursor>(statements.Count);
            for (var i = 0; i < statements.Count - 1; i++)
            {
                cursors.Add(await PostgresHeldRows.ReadAllAsync(reader, pass.Request, cancellation));
                await reader.NextResultAsync(cancellation);
            }
            cursors.Add(new PostgresCursor(source, reader));
            return cursors;
        }
        catch (Exception exception) when (exception is not (OperationCanceledException or MemoryExceededException))
        {
            throw source.Fault(exception);
        }
    }

    private async Task<List<IRowCursor>> OneByOneAsync(IReadOnlyList<SourceStatement> statements, CancellationToken cancellation)
    {
        var cursors = new List<IRowCursor>(statements.Count);
        foreach (var statement in statements)
            cursors.Add(await QueryAsync(statement.Sql, statement.Parameters, cancellation));
        return cursors;
    }

    private NpgsqlCommand Command(string sql, ReadOnlyMemory<StoredValue> parameters)
    {
        var command = new NpgsqlCommand(sql, connection, _transaction);
        foreach (var value in parameters.Span)
            command.Parameters.Add(Parameter(value));
        return command;
    }

    /// <summary>Texts are sent without a type: the statement casts each to the type that it needs.</summary>
    internal static NpgsqlParameter Parameter(StoredValue value) =>
        value.Kind switch
        {
            StoredValueKind.Int64 => new NpgsqlParameter { Value = value.Int64, NpgsqlDbType = NpgsqlDbType.Bigint },
            StoredValueKind.Double => new NpgsqlParameter { Value = value.Double, NpgsqlDbType = NpgsqlDbType.Double },
            StoredValueKind.Text => new NpgsqlParameter { Value = value.Text, NpgsqlDbType = NpgsqlDbType.Unknown },
            StoredValueKind.Blob => new NpgsqlParameter { Value = value.Blob, NpgsqlDbType = NpgsqlDbType.Bytea },
            _ => new NpgsqlParameter { Value = DBNull.Value, NpgsqlDbType = NpgsqlDbType.Unknown },
        };

    public async ValueTask DisposeAsync()
    {
        try
        {
            if (_transaction is not null)
                await _transaction.DisposeAsync();
            await connection.DisposeAsync();
        }
        catch (Exception exception) when (exception is NpgsqlException or IOException)
        {
            // The connection broke, which the request has heard already; the pool throws it away.
        }
        finally
        {
            pass.Leave();
        }
    }
}
