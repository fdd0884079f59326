using System.Data;
using MySqlConnector;
using RapidGable.Model;

namespace RapidGable.Sources.MariaDb;

/// <summary>One database of a MariaDB or MySQL server and its pool of connections.</summary>
internal sealed class MariaDbSource : ISource
{
    private readonly MySqlConnectionStringBuilder _settings;
    private readonly MySqlDataSource _database;
    private readonly SessionGate _gate;
    private readonly int _statementSeconds;

    public MariaDbSource(string name, MySqlConnectionStringBuilder settings, int sessions, int statementSeconds)
    {
        Name = name;
        _settings = settings;
        _gate = new SessionGate(sessions, TimeSpan.FromSeconds(statementSeconds));
        _statementSeconds = statementSeconds;
        _database = new MySqlDataSourceBuilder(settings.ConnectionString).UseConnectionOpenedCallback(PrepareAsync).Build();
    }

    public string Name { get; }

    public string Address => $"MariaDB {_settings.Server}:{_settings.Port}/{_settings.Database} as {_settings.UserID}";

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
        await using var command = new MySqlCommand($"SET NAMES utf8mb4 COLLATE {collation}; SET SESSION time_zone = '+00:00', {limit}, div_precision_increment = 12, max_sort_length = 65535, sort_buffer_size = 4194304; SET SESSION TRANSACTION READ ONLY", context.Connection);
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

    public async Task<SourceObject> DescribeQueryAsync(string name, string select, CancellationToken cancellation)
    {
        try
        {
            await using var connection = await _database.OpenConnectionAsync(cancellation);
            await using var command = new MySqlCommand($"SELECT * FROM (\n{select}\n) AS q LIMIT 0", connection);
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            var columns = reader.GetColumnSchema().Cast<MySqlDbColumn>().Select(QueryColumn).ToList();
            return await reader.NextResultAsync(cancellation) ? throw new SourceException(SourceFaultKind.Broken, QueryObject.Several) : QueryObject.Of(name, select, columns);
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
            await using var command = new MySqlCommand("SELECT view_definition FROM information_schema.views WHERE table_schema = database() AND table_name = @p1", connection);
            command.Parameters.AddWithValue("@p1", view.Name);
            if (await command.ExecuteScalarAsync(cancellation) is not string definition)
                return new Dictionary<string, ColumnOrigin>();
            await using var inner = new MySqlCommand(definition, connection);
            await using var reader = await inner.ExecuteReaderAsync(CommandBehavior.SchemaOnly, cancellation);
            return reader.GetColumnSchema().Where(c => !string.IsNullOrEmpty(c.BaseTableName) && !string.IsNullOrEmpty(c.BaseColumnName)).DistinctBy(c => c.ColumnName)
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
        var unsigned = column.ProviderType is MySqlDbType.UByte or MySqlDbType.UInt16 or MySqlDbType.UInt24 or MySqlDbType.UInt32 or MySqlDbType.UInt64;
        var shown = name == "bool" ? "tinyint(1)" : unsigned ? name + " unsigned" : name;
        // Fraction digits are not told, so all that the server keeps are promised.
        var (type, reason) = MariaDbTypes.Map(name == "bool" ? "tinyint" : name, shown, column.ColumnSize, column.NumericPrecision ?? (name == "bit" ? column.ColumnSize : null), column.NumericScale, 6);
        return new SourceColumn(column.ColumnName, shown, type, Nullable: true, reason) { MediaType = name == "json" ? "application/json" : null };
    }

    // The server's own readers know these as either.
    public SourceColumn? Retype(SourceColumn column, EdmType type) => (column.Type?.Kind, type.Kind) switch
    {
        (EdmKind.Duration, EdmKind.TimeOfDay) => column with { Type = type with { Precision = type.Precision ?? column.Type!.Precision } },
        (EdmKind.String, EdmKind.Guid) when column.Type is { IsCollection: false } => column with { Type = type, StorageForm = MariaDbDialect.SmallLetters },
        (EdmKind.Boolean, EdmKind.SByte or EdmKind.Int16 or EdmKind.Int32 or EdmKind.Int64) => column with { Type = type },
        _ => null,
    };

    public async ValueTask<ISourceSession> OpenSessionAsync(SessionKind kind, CancellationToken cancellation)
    {
        await _gate.EnterAsync(cancellation);
        MySqlConnection? connection = null;
        try
        {
            connection = await _database.OpenConnectionAsync(cancellation);
            var transaction = kind == SessionKind.Plain ? null : await connection.BeginTransactionAsync(IsolationLevel.RepeatableRead, isReadOnly: true, cancellation);
            return new MariaDbSession(this, connection, transaction, kind == SessionKind.Interleaved);
        }
        catch (Exception exception)
        {
            if (connection is not null)
                await connection.DisposeAsync();
            _gate.Leave();
            if (exception is OperationCanceledException)
                throw;
            throw Fault(exception);
        }
    }

    internal SourceException Fault(Exception exception) => MariaDbFault.From(exception, _settings);

    internal void Return() => _gate.Leave();

    public ValueTask DisposeAsync() => _database.DisposeAsync();
}

internal sealed class MariaDbSession(MariaDbSource source, MySqlConnection connection, MySqlTransaction? transaction, bool interleaved) : ISourceSession
{
    public async ValueTask<IRowCursor> QueryAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation)
    {
        try
        {
            var command = new MySqlCommand(sql, connection, transaction);
            var values = parameters.Span;
            for (var i = 0; i < values.Length; i++)
                command.Parameters.AddWithValue("@p" + (i + 1), Value(values[i]));
            // The server fails, or worse, when it runs a prepared statement with nested SELECTs a second time.
            if (sql.LastIndexOf("SELECT", StringComparison.Ordinal) == 0)
                await command.PrepareAsync(cancellation);
            var reader = await command.ExecuteReaderAsync(cancellation);
            // A connection has one reader and the server no cursors that could be read in turn: such a page is held, and its
            // size is bounded by the pages of its sets.
            return interleaved ? await MariaDbPage.ReadAsync(source, reader, cancellation) : new MariaDbCursor(source, reader);
        }
        catch (Exception exception) when (exception is not OperationCanceledException)
        {
            throw source.Fault(exception);
        }
    }

    private static object Value(StoredValue value) => value.Kind switch
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
            await connection.DisposeAsync();
        }
        catch (Exception exception) when (exception is MySqlException or IOException)
        {
            // The connection broke, which the request has heard already; the pool throws it away.
        }
        finally
        {
            source.Return();
        }
    }
}
