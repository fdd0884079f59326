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

    bool IsNull(int column);

    bool GetBoolean(int column);

    long GetInt64(int column);

    double GetDouble(int column);

    decimal GetDecimal(int column);

    /// <summary>Text as UTF-8.</summary>
    ReadOnlySpan<byte> GetUtf8(int column);

    ReadOnlySpan<byte> GetBytes(int column);

    Guid GetGuid(int column);

    DateOnly GetDate(int column);

    TimeOnly GetTimeOfDay(int column);

    /// <summary>A point in time in UTC.</summary>
    DateTime GetInstant(int column);

    TimeSpan GetDuration(int column);

    /// <summary>The value as stored, for a next link's position.</summary>
    StoredValue GetStored(int column);
}
