using System.Globalization;
using System.Text;
using MySqlConnector;
using RapidGable.Model;

namespace RapidGable.Sources.MariaDb;

/// <summary>Values of a row by their types, from whatever holds the row.</summary>
internal abstract class MariaDbRows : IRowCursor
{
    private byte[] _text = new byte[256];

    public abstract ValueTask<bool> ReadAsync(CancellationToken cancellation);

    public abstract ValueTask DisposeAsync();

    public abstract int Columns { get; }

    public abstract bool IsNull(int column);

    protected abstract object Value(int column);

    public abstract string Name(int column);

    public bool GetBoolean(int column) =>
        GetInt64(column) switch
        {
            0 => false,
            1 => true,
            var other => throw Bad(column, $"{other} is neither 0 nor 1"),
        };

    public virtual long GetInt64(int column) => Read(column, v => Convert.ToInt64(v, CultureInfo.InvariantCulture));

    public virtual double GetDouble(int column) =>
        Read(column, v => v is float single ? FloatingNumber.Widened(single) : Convert.ToDouble(v, CultureInfo.InvariantCulture));

    public decimal GetDecimal(int column) => TryGetDecimal(column, out var value) ? value : throw Odd(column);

    public virtual bool TryGetDecimal(int column, out decimal value)
    {
        value = Value(column) is LongNumber ? 0 : Read(column, v => Convert.ToDecimal(v, CultureInfo.InvariantCulture));
        return Value(column) is not LongNumber;
    }

    public virtual string GetNumber(int column) => Convert.ToString(Value(column), CultureInfo.InvariantCulture)!;

    public ReadOnlySpan<byte> GetUtf8(int column)
    {
        var text = Read(column, v => v as string ?? Convert.ToString(v, CultureInfo.InvariantCulture)!);
        var most = Encoding.UTF8.GetMaxByteCount(text.Length);
        if (_text.Length < most)
            _text = new byte[most];
        return _text.AsSpan(0, Encoding.UTF8.GetBytes(text, _text));
    }

    public ReadOnlySpan<byte> GetBytes(int column) => Read(column, v => (byte[])v);

    public Guid GetGuid(int column) => Read(column, v => v is Guid guid ? guid : Guid.Parse((string)v));

    public DateOnly GetDate(int column) => TryGetDate(column, out var value) ? value : throw Odd(column);

    public bool TryGetDate(int column, out DateOnly value)
    {
        var isThere = TryGetInstant(column, out var instant);
        value = DateOnly.FromDateTime(instant);
        return isThere;
    }

    public TimeOnly GetTimeOfDay(int column) => Read(column, v => TimeOnly.FromTimeSpan((TimeSpan)v));

    public DateTime GetInstant(int column) => TryGetInstant(column, out var value) ? value : throw Odd(column);

    public bool TryGetInstant(int column, out DateTime value)
    {
        var stored = Read(column, v => (MySqlDateTime)v);
        // Zero dates, and dates with a zero in them, are no points in time.
        value = stored.IsValidDateTime ? DateTime.SpecifyKind(stored.GetDateTime(), DateTimeKind.Utc) : default;
        return stored.IsValidDateTime;
    }

    public SourceException Odd(int column) => Bad(column, $"no payload has a value for {GetStored(column)}");

    public TimeSpan GetDuration(int column) => Read(column, v => (TimeSpan)v);

    /// <summary>Values in the forms that the dialect's casts take back.</summary>
    public StoredValue GetStored(int column) =>
        IsNull(column)
            ? StoredValue.Null
            : Value(column) switch
            {
                sbyte or byte or short or ushort or int or uint or long => StoredValue.From(GetInt64(column)),
                ulong number => StoredValue.From(number.ToString(CultureInfo.InvariantCulture)),
                bool flag => StoredValue.From(flag ? 1L : 0L),
                decimal number => StoredValue.From(number.ToString(CultureInfo.InvariantCulture)),
                double or float => StoredValue.From(GetDouble(column)),
                MySqlDateTime time => StoredValue.From(MariaDbDialect.Text(time)),
                LongNumber number => StoredValue.From(number.Text),
                TimeSpan duration => StoredValue.From(MariaDbDialect.Text(duration)),
                byte[] bytes => StoredValue.From(bytes),
                var other => StoredValue.From(Convert.ToString(other, CultureInfo.InvariantCulture)!),
            };

    /// <summary>
    /// A column's name for messages. The library reads it from a buffer that a statement which runs again may have overwritten.
    /// </summary>
    protected static string NameOf(MySqlDataReader reader, int column)
    {
        try
        {
            return reader.GetName(column);
        }
        catch (Exception exception)
            when (exception
                    is ArgumentException
                        or IndexOutOfRangeException
                        or InvalidOperationException
                        or System.Text.DecoderFallbackException
            )
        {
            return $"number {column + 1}";
        }
    }

    private T Read<T>(int column, Func<object, T> convert)
    {
        try
        {
            return convert(Value(column));
        }
        catch (Exception exception) when (exception is InvalidCastException or OverflowException or FormatException or ArgumentException)
        {
            throw Bad(column, $"it does not fit the type {typeof(T).Name}");
        }
    }

    private SourceException Bad(int column, string why) =>
        new(SourceFaultKind.BadData, $"A value of column '{Name(column)}' cannot be served: {why}.");
}

/// <summary>A decimal of more digits than <see cref="decimal"/> has.</summary>
internal sealed record LongNumber(string Text)
{
    public override string ToString() => Text;
}

/// <summary>Rows straight from the connection.</summary>
internal sealed class MariaDbCursor(MariaDbSource source, MySqlDataReader reader) : MariaDbRows
{
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

    public override long GetInt64(int column) => reader.GetValue(column) is ulong ? base.GetInt64(column) : reader.GetInt64(column);

    protected override object Value(int column) => ValueOf(reader, column);

    /// <summary>A value as the library gives it, except for decimals that it has no type for.</summary>
    internal static object ValueOf(MySqlDataReader reader, int column)
    {
        try
        {
            return reader.GetValue(column);
        }
        catch (Exception exception) when (exception is OverflowException or FormatException)
        {
            return new LongNumber(reader.GetMySqlDecimal(column).ToString());
        }
    }

    public override string Name(int column) => NameOf(reader, column);

    public override ValueTask DisposeAsync() => reader.DisposeAsync();
}

/// <summary>All rows of a statement, held.</summary>
internal sealed class MariaDbPage(RequestAllowance request) : MariaDbRows
{
    private long _bytes;
    private readonly List<object[]> _rows = [];
    private string[] _names = [];
    private int _position = -1;

    public static async Task<MariaDbPage> ReadAsync(
        MariaDbSource source,
        MySqlDataReader reader,
        RequestAllowance request,
        CancellationToken cancellation
    )
    {
        var page = new MariaDbPage(request);
        await using (reader)
        {
            var cursor = new MariaDbCursor(source, reader);
            page._names = [.. Enumerable.Range(0, reader.FieldCount).Select(i => NameOf(reader, i))];
            while (await cursor.ReadAsync(cancellation))
            {
                var row = new object[reader.FieldCount];
                for (var i = 0; i < row.Length; i++)
                    row[i] = MariaDbCursor.ValueOf(reader, i);
                var bytes = HeldRow.Bytes(row);
                request.Take(bytes);
                page._bytes += bytes;
                page._rows.Add(row);
            }
        }
        return page;
    }

    public override ValueTask<bool> ReadAsync(CancellationToken cancellation) => new(++_position < _rows.Count);

    public override int Columns => _names.Length;

    public override bool IsNull(int column) => _rows[_position][column] is DBNull;

    protected override object Value(int column) => _rows[_position][column];

    public override string Name(int column) => _names[column];

    public override ValueTask DisposeAsync()
    {
        request.Give(_bytes);
        _bytes = 0;
        return default;
    }
}
