using System.Buffers.Text;
using System.Globalization;
using RapidGable.Model;
using SQLitePCL;

namespace RapidGable.Sources.Sqlite;

internal sealed class SqliteCursor(SqliteConnection connection, string sql, sqlite3_stmt statement) : IRowCursor
{
    private bool _ended;
    private bool _disposed;

    public ValueTask<bool> ReadAsync(CancellationToken cancellation)
    {
        if (_ended)
            return new(false);
        cancellation.ThrowIfCancellationRequested();
        var code = connection.Step(statement);
        if (code == raw.SQLITE_ROW)
            return new(true);
        _ended = true;
        return code == raw.SQLITE_DONE ? new(false) : throw connection.Fault(code);
    }

    /// <summary>Each column's name and the type that its table declares; empty for an expression.</summary>
    public IEnumerable<(string Name, string DeclaredType)> Declared() =>
        Enumerable
            .Range(0, raw.sqlite3_column_count(statement))
            .Select(i =>
                (raw.sqlite3_column_name(statement, i).utf8_to_string(), raw.sqlite3_column_decltype(statement, i).utf8_to_string() ?? "")
            );

    /// <summary>The table and column that each column of a SELECT is read from; null for an expression.</summary>
    public IEnumerable<(string Name, ColumnOrigin? Origin)> Origins() =>
        Enumerable
            .Range(0, raw.sqlite3_column_count(statement))
            .Select(i =>
                (
                    raw.sqlite3_column_name(statement, i).utf8_to_string(),
                    raw.sqlite3_column_table_name(statement, i).utf8_to_string() is { } table
                        ? new ColumnOrigin(table, raw.sqlite3_column_origin_name(statement, i).utf8_to_string())
                        : null
                )
            );

    public string Name(int column) => raw.sqlite3_column_name(statement, column).utf8_to_string();

    public int ParameterCount => raw.sqlite3_bind_parameter_count(statement);

    public int Columns => raw.sqlite3_column_count(statement);

    public bool IsNull(int column) => raw.sqlite3_column_type(statement, column) == raw.SQLITE_NULL;

    public bool GetBoolean(int column) =>
        GetInt64(column) switch
        {
            0 => false,
            1 => true,
            var other => throw Bad(column, $"{other} is neither 0 nor 1"),
        };

    public long GetInt64(int column) =>
        raw.sqlite3_column_type(statement, column) == raw.SQLITE_INTEGER
            ? raw.sqlite3_column_int64(statement, column)
            : throw Bad(column, "it is not a whole number");

    public double GetDouble(int column) =>
        raw.sqlite3_column_type(statement, column) is raw.SQLITE_FLOAT or raw.SQLITE_INTEGER
            ? raw.sqlite3_column_double(statement, column)
            : throw Bad(column, "it is not a number");

    public bool TryGetDecimal(int column, out decimal value)
    {
        // What is computed may be larger than any decimal, and is a number all the same.
        value = 0;
        if (
            raw.sqlite3_column_type(statement, column) == raw.SQLITE_FLOAT
            && Math.Abs(raw.sqlite3_column_double(statement, column)) >= 7.9e28
        )
            return false;
        value = GetDecimal(column);
        return true;
    }

    public string GetNumber(int column)
    {
        if (TryGetDecimal(column, out var small))
            return small.ToString(CultureInfo.InvariantCulture);
        var number = raw.sqlite3_column_double(statement, column);
        // The shortest digits that mean the number, as for all that is kept as one.
        var digits = number.ToString("R", CultureInfo.InvariantCulture);
        return LongDecimal.Parse(digits)?.Text ?? digits;
    }

    public decimal GetDecimal(int column)
    {
        switch (raw.sqlite3_column_type(statement, column))
        {
            case raw.SQLITE_INTEGER:
                return raw.sqlite3_column_int64(statement, column);
            case raw.SQLITE_FLOAT:
                var number = raw.sqlite3_column_double(statement, column);
                return Math.Abs(number) < 7.9e28 ? (decimal)number : throw Bad(column, "it is too large for a decimal");
            default:
                var text = GetUtf8(column);
                return Utf8Parser.TryParse(text, out decimal value, out var used) && used == text.Length
                    ? value
                    : throw Bad(column, "it is not a decimal number");
        }
    }

    public ReadOnlySpan<byte> GetUtf8(int column) =>
        raw.sqlite3_column_type(statement, column) == raw.SQLITE_BLOB
            ? throw Bad(column, "it is binary, not text")
            : raw.sqlite3_column_blob(statement, column);

    public ReadOnlySpan<byte> GetBytes(int column) => raw.sqlite3_column_blob(statement, column);

    public Guid GetGuid(int column) =>
        Guid.TryParse(GetUtf8(column), CultureInfo.InvariantCulture, out var value) ? value : throw Bad(column, "it is not a uuid");

    public DateOnly GetDate(int column) =>
        SqliteText.TryDate(GetUtf8(column), out var value) ? value : throw Bad(column, "it is not a date");

    public TimeOnly GetTimeOfDay(int column) =>
        SqliteText.TryTime(GetUtf8(column), out var value) ? value : throw Bad(column, "it is not a time of day");

    public DateTime GetInstant(int column) =>
        SqliteText.TryInstant(GetUtf8(column), out var value) ? value : throw Bad(column, "it is not a date with time");

    public TimeSpan GetDuration(int column)
    {
        var seconds = GetDouble(column);
        return Math.Abs(seconds) < TimeSpan.MaxValue.TotalSeconds
            ? TimeSpan.FromSeconds(seconds)
            : throw Bad(column, "it is too long for a duration");
    }

    public StoredValue GetStored(int column) =>
        raw.sqlite3_column_type(statement, column) switch
        {
            raw.SQLITE_NULL => StoredValue.Null,
            raw.SQLITE_INTEGER => StoredValue.From(raw.sqlite3_column_int64(statement, column)),
            raw.SQLITE_FLOAT => StoredValue.From(raw.sqlite3_column_double(statement, column)),
            raw.SQLITE_TEXT => StoredValue.From(raw.sqlite3_column_text(statement, column).utf8_to_string()),
            _ => StoredValue.From(raw.sqlite3_column_blob(statement, column).ToArray()),
        };

    public ValueTask DisposeAsync()
    {
        if (!_disposed)
            connection.Give(sql, statement);
        _disposed = true;
        return default;
    }

    private SourceException Bad(int column, string why)
    {
        var name = raw.sqlite3_column_name(statement, column).utf8_to_string();
        return new SourceException(
            SourceFaultKind.BadData,
            $"A value of column '{name}' cannot be served: {why} ('{SqliteText.Shown(raw.sqlite3_column_blob(statement, column))}')."
        );
    }
}
