using System.Globalization;
using System.Text;
using Npgsql;
using NpgsqlTypes;
using RapidGable.Model;

namespace RapidGable.Sources.PostgreSql;

/// <summary>What both kinds of cursor share: values of a row by their types.</summary>
internal abstract class PostgresRows : IRowCursor
{
    private byte[] _text = new byte[256];

    public abstract ValueTask<bool> ReadAsync(CancellationToken cancellation);

    public abstract ValueTask DisposeAsync();

    public abstract int Columns { get; }

    public abstract bool IsNull(int column);

    protected abstract T Get<T>(int column);

    public abstract string Name(int column);

    /// <summary>Name of the column's type on the server.</summary>
    protected abstract string TypeName(int column);

    public bool GetBoolean(int column) => Read<bool>(column);

    public long GetInt64(int column) => Read<long>(column);

    public double GetDouble(int column) => TypeName(column) == "real" ? FloatingNumber.Widened(Read<float>(column)) : Read<double>(column);

    public decimal GetDecimal(int column) => TryGetDecimal(column, out var value) ? value : throw Odd(column);

    public abstract bool TryGetDecimal(int column, out decimal value);

    public abstract string GetNumber(int column);

    public virtual ReadOnlySpan<byte> GetUtf8(int column)
    {
        var text = Read<string>(column);
        var most = Encoding.UTF8.GetMaxByteCount(text.Length);
        return Room(most).AsSpan(0, Encoding.UTF8.GetBytes(text, _text));
    }

    /// <summary>An array for the bytes of a text; the former one's is used again.</summary>
    protected byte[] Room(int bytes)
    {
        if (_text.Length < bytes)
            _text = new byte[Math.Max(bytes, 2 * _text.Length)];
        return _text;
    }

    public ReadOnlySpan<byte> GetBytes(int column) => Read<byte[]>(column);

    public Guid GetGuid(int column) => Read<Guid>(column);

    public DateOnly GetDate(int column) => TryGetDate(column, out var value) ? value : throw Odd(column);

    public bool TryGetDate(int column, out DateOnly value) => PostgresTime.TryDate(Read<int>(column), out value);

    public TimeOnly GetTimeOfDay(int column) => Read<TimeOnly>(column);

    // A value without a zone is in UTC, as declared.
    public DateTime GetInstant(int column) => TryGetInstant(column, out var value) ? value : throw Odd(column);

    public bool TryGetInstant(int column, out DateTime value) => PostgresTime.TryInstant(Read<long>(column), out value);

    public TimeSpan GetDuration(int column) => TryGetDuration(column, out var value) ? value : throw Odd(column);

    public bool TryGetDuration(int column, out TimeSpan value) => PostgresTime.TryDuration(Read<NpgsqlInterval>(column), out value);

    public SourceException Odd(int column) => Bad(column, $"no payload has a value for {GetStored(column)}");

    /// <summary>Values in the text forms that the dialect's casts take back.</summary>
    public StoredValue GetStored(int column)
    {
        if (IsNull(column))
            return StoredValue.Null;
        var type = TypeName(column);
        var bracket = type.IndexOf('(');
        return (bracket < 0 ? type : type[..bracket]) switch
        {
            "smallint" or "integer" or "bigint" => StoredValue.From(Read<long>(column)),
            "boolean" => StoredValue.From(Read<bool>(column) ? "true" : "false"),
            "numeric" => StoredValue.From(GetNumber(column)),
            "real" => StoredValue.From(Read<float>(column).ToString("R", CultureInfo.InvariantCulture)),
            "double precision" => StoredValue.From(Read<double>(column).ToString("R", CultureInfo.InvariantCulture)),
            "uuid" => StoredValue.From(Read<Guid>(column).ToString()),
            "date" => StoredValue.From(PostgresTime.Text(Read<int>(column))),
            var t when t.StartsWith("timestamp", StringComparison.Ordinal) => StoredValue.From(PostgresTime.Text(Read<long>(column))),
            "time without time zone" or "time" => StoredValue.From(
                Read<TimeOnly>(column).ToString("HH:mm:ss.ffffff", CultureInfo.InvariantCulture)
            ),
            "interval" => StoredValue.From(PostgresTime.Text(Read<NpgsqlInterval>(column))),
            "bytea" => StoredValue.From(Read<byte[]>(column)),
            _ => StoredValue.From(Read<string>(column)),
        };
    }

    private T Read<T>(int column)
    {
        try
        {
            return Get<T>(column);
        }
        catch (Exception exception) when (exception is InvalidCastException or OverflowException or FormatException or ArgumentException)
        {
            throw Bad(column, $"it does not fit the type {typeof(T).Name}");
        }
    }

    private SourceException Bad(int column, string why) =>
        new(SourceFaultKind.BadData, $"A value of column '{Name(column)}' cannot be served: {why}.");
}

/// <summary>Rows straight from the connection.</summary>
internal sealed class PostgresCursor(PostgresSource source, NpgsqlDataReader reader) : PostgresRows
{
    private bool[]? _isText;

    public override async ValueTask<bool> ReadAsync(CancellationToken cancellation)
    {
        try
        {
            return await reader.ReadAsync(cancellation);
        }
        catch (Exception exception) when (exception is not OperationCanceledException)
        {
            throw source.Fault(exception);
        }
    }

    public override int Columns => reader.FieldCount;

    public override bool IsNull(int column) => reader.IsDBNull(column);

    /// <summary>Texts come as the bytes that the server sends, without a string between.</summary>
    public override ReadOnlySpan<byte> GetUtf8(int column)
    {
        _isText ??=
        [
            .. Enumerable
                .Range(0, Columns)
                .Select(c => TypeName(c) is "text" or "citext" || TypeName(c).StartsWith("character", StringComparison.Ordinal)),
        ];
        if (!_isText[column])
            return base.GetUtf8(column);
        var length = (int)reader.GetBytes(column, 0, null, 0, 0);
        return Room(length).AsSpan(0, (int)reader.GetBytes(column, 0, Room(length), 0, length));
    }

    public override bool TryGetDecimal(int column, out decimal value)
    {
        try
        {
            value = reader.GetDecimal(column);
            return true;
        }
        catch (Exception exception) when (exception is InvalidCastException or OverflowException)
        {
            value = 0;
            return false;
        }
    }

    public override string GetNumber(int column) => NumberOf(reader, column);

    /// <summary>A numeric of any length, from the bytes that the server sends.</summary>
    internal static string NumberOf(NpgsqlDataReader reader, int column)
    {
        var bytes = new byte[reader.GetBytes(column, 0, null, 0, 0)];
        reader.GetBytes(column, 0, bytes, 0, bytes.Length);
        return PostgresNumber.Text(bytes);
    }

    protected override T Get<T>(int column) => reader.GetFieldValue<T>(column);

    public override string Name(int column) => reader.GetName(column);

    protected override string TypeName(int column) => reader.GetDataTypeName(column);

    public override ValueTask DisposeAsync() => reader.DisposeAsync();
}

/// <summary>Rows that are held.</summary>
internal class PostgresHeldRows(RequestAllowance request) : PostgresRows
{
    private long _bytes;
    private readonly List<object[]> _rows = [];
    private string[] _names = [];
    private string[] _types = [];
    private int _position = -1;

    /// <summary>Holds all rows of the reader's current result.</summary>
    public static async Task<PostgresHeldRows> ReadAllAsync(
        NpgsqlDataReader reader,
        RequestAllowance request,
        CancellationToken cancellation
    )
    {
        var rows = new PostgresHeldRows(request);
        await rows.HoldAsync(reader, cancellation);
        return rows;
    }

    public override ValueTask<bool> ReadAsync(CancellationToken cancellation) => new(++_position < _rows.Count);

    /// <summary>Replaces what is held; the first row is not the current one yet.</summary>
    /// <returns>How many rows there are now.</returns>
    protected async Task<int> HoldAsync(NpgsqlDataReader reader, CancellationToken cancellation)
    {
        _rows.Clear();
        GiveBack();
        _position = -1;
        if (_names.Length == 0)
        {
            _names = [.. Enumerable.Range(0, reader.FieldCount).Select(reader.GetName)];
            _types = [.. Enumerable.Range(0, reader.FieldCount).Select(reader.GetDataTypeName)];
        }
        while (await reader.ReadAsync(cancellation))
        {
            var row = new object[_names.Length];
            for (var i = 0; i < row.Length; i++)
                row[i] = reader.IsDBNull(i) ? DBNull.Value : Value(reader, i);
            var bytes = HeldRow.Bytes(row);
            request.Take(bytes);
            _bytes += bytes;
            _rows.Add(row);
        }
        return _rows.Count;
    }

    /// <summary>The value as the type that the getters ask for, where that is not the library's first choice.</summary>
    private object Value(NpgsqlDataReader reader, int column) =>
        _types[column] switch
        {
            "smallint" or "integer" => reader.GetFieldValue<long>(column),
            "date" => reader.GetFieldValue<int>(column),
            "interval" => reader.GetFieldValue<NpgsqlInterval>(column),
            var type
                when type.StartsWith("time ", StringComparison.Ordinal)
                    || type is "time"
                    || type.StartsWith("time(", StringComparison.Ordinal) => reader.GetFieldValue<TimeOnly>(column),
            var type when type.StartsWith("timestamp", StringComparison.Ordinal) => reader.GetFieldValue<long>(column),
            var type when type.StartsWith("numeric", StringComparison.Ordinal) => Number(reader, column),
            _ => reader.GetValue(column),
        };

    /// <summary>A number, or its text where it has more digits.</summary>
    private static object Number(NpgsqlDataReader reader, int column)
    {
        try
        {
            return reader.GetDecimal(column);
        }
        catch (Exception exception) when (exception is InvalidCastException or OverflowException)
        {
            return PostgresCursor.NumberOf(reader, column);
        }
    }

    public override bool TryGetDecimal(int column, out decimal value)
    {
        value = _rows[_position][column] is decimal number ? number : 0;
        return _rows[_position][column] is decimal;
    }

    public override string GetNumber(int column) => Convert.ToString(_rows[_position][column], CultureInfo.InvariantCulture)!;

    public override int Columns => _names.Length;

    public override bool IsNull(int column) => _rows[_position][column] is DBNull;

    protected override T Get<T>(int column) => (T)_rows[_position][column];

    public override string Name(int column) => _names[column];

    protected override string TypeName(int column) => _types[column];

    public override ValueTask DisposeAsync()
    {
        GiveBack();
        return default;
    }

    private void GiveBack()
    {
        request.Give(_bytes);
        _bytes = 0;
    }
}

/// <summary>
/// Rows from a cursor on the server, a batch at a time, so that several can be read in turn over one connection. It goes with its
/// transaction.
/// </summary>
internal sealed class PostgresBatchCursor(PostgresSource source, NpgsqlConnection connection, RequestAllowance request, string name)
    : PostgresHeldRows(request)
{
    private const int BatchRows = 200;

    private bool _ended;

    public override async ValueTask<bool> ReadAsync(CancellationToken cancellation)
    {
        if (await base.ReadAsync(cancellation))
            return true;
        if (_ended)
            return false;
        try
        {
            await using var command = new NpgsqlCommand($"FETCH {BatchRows} FROM {name}", connection);
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            _ended = await HoldAsync(reader, cancellation) < BatchRows;
        }
        catch (Exception exception) when (exception is not (OperationCanceledException or MemoryExceededException))
        {
            throw source.Fault(exception);
        }
        return await base.ReadAsync(cancellation);
    }
}
