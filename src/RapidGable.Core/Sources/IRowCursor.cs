using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>
/// Rows of one statement, one at a time. The typed getters read the current row's column without boxing; a value
/// that does not have the asked type throws <see cref="SourceException"/> with <see cref="SourceFaultKind.BadData"/>.
/// Spans live until the next <see cref="ReadAsync"/>.
/// </summary>
public interface IRowCursor : IAsyncDisposable
{
    /// <summary>Moves to the next row; false after the last.</summary>
    ValueTask<bool> ReadAsync(CancellationToken cancellation);

    /// <summary>Number of columns.</summary>
    int Columns { get; }

    /// <summary>The name of a column, as the statement gives it.</summary>
    string Name(int column);

    /// <summary>Whether the current row has no value in a column, by its number from 0.</summary>
    bool IsNull(int column);

    /// <summary>A truth; only for a column that holds one and is not null.</summary>
    bool GetBoolean(int column);

    /// <summary>A whole number; only for a column that holds one and is not null.</summary>
    long GetInt64(int column);

    /// <summary>A floating-point number; only for a column that holds one and is not null.</summary>
    double GetDouble(int column);

    /// <summary>A decimal number; only for a column that holds one and is not null.</summary>
    decimal GetDecimal(int column);

    /// <summary>Text as UTF-8.</summary>
    ReadOnlySpan<byte> GetUtf8(int column);

    /// <summary>The bytes; only for a column that holds one and is not null.</summary>
    ReadOnlySpan<byte> GetBytes(int column);

    /// <summary>A uuid; only for a column that holds one and is not null.</summary>
    Guid GetGuid(int column);

    /// <summary>A date; only for a column that holds one and is not null.</summary>
    DateOnly GetDate(int column);

    /// <summary>A time of day; only for a column that holds one and is not null.</summary>
    TimeOnly GetTimeOfDay(int column);

    /// <summary>A point in time in UTC.</summary>
    DateTime GetInstant(int column);

    /// <summary>A span of time; only for a column that holds one and is not null.</summary>
    TimeSpan GetDuration(int column);

    /// <summary>
    /// A decimal; false when it has more digits than <see cref="decimal"/>, or is no finite number: then <see cref="GetNumber"/>
    /// has its text.
    /// </summary>
    bool TryGetDecimal(int column, out decimal value)
    {
        value = GetDecimal(column);
        return true;
    }

    /// <summary>A decimal as text, with all of its digits; or NaN, Infinity, -Infinity.</summary>
    string GetNumber(int column) => GetDecimal(column).ToString(System.Globalization.CultureInfo.InvariantCulture);

    /// <summary>A date; false when it is one that no payload has, such as year 0 or infinity.</summary>
    bool TryGetDate(int column, out DateOnly value)
    {
        value = GetDate(column);
        return true;
    }

    /// <summary>A point in time in UTC; false as in <see cref="TryGetDate"/>.</summary>
    bool TryGetInstant(int column, out DateTime value)
    {
        value = GetInstant(column);
        return true;
    }

    /// <summary>A duration; false when its length is not fixed, as that of a month.</summary>
    bool TryGetDuration(int column, out TimeSpan value)
    {
        value = GetDuration(column);
        return true;
    }

    /// <summary>The failure to serve a value that one of the getters gave no value for; it names the column and the value.</summary>
    SourceException Odd(int column) => new(SourceFaultKind.BadData, $"A value cannot be served: {GetStored(column)}.");

    /// <summary>The value as stored, for a next link's position.</summary>
    StoredValue GetStored(int column);
}
