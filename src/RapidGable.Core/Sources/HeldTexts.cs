using System.Collections.Immutable;
using System.Text;
using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>One row of texts that are held in memory.</summary>
/// <param name="names">Names of the columns.</param>
internal sealed class HeldTexts(ImmutableArray<string> names, IReadOnlyList<string> texts) : IRowCursor
{
    private bool _isRead;

    public int Columns => texts.Count;

    public ValueTask<bool> ReadAsync(CancellationToken cancellation)
    {
        var isFirst = !_isRead;
        _isRead = true;
        return new(isFirst);
    }

    public string Name(int column) => names[column];

    public bool IsNull(int column) => false;

    public ReadOnlySpan<byte> GetUtf8(int column) => Encoding.UTF8.GetBytes(texts[column]);

    public StoredValue GetStored(int column) => StoredValue.From(texts[column]);

    public bool GetBoolean(int column) => throw Other(column);

    public long GetInt64(int column) => throw Other(column);

    public double GetDouble(int column) => throw Other(column);

    public decimal GetDecimal(int column) => throw Other(column);

    public ReadOnlySpan<byte> GetBytes(int column) => throw Other(column);

    public Guid GetGuid(int column) => throw Other(column);

    public DateOnly GetDate(int column) => throw Other(column);

    public TimeOnly GetTimeOfDay(int column) => throw Other(column);

    public DateTime GetInstant(int column) => throw Other(column);

    public TimeSpan GetDuration(int column) => throw Other(column);

    private SourceException Other(int column) => new(SourceFaultKind.BadData, $"'{names[column]}' is a text.");

    public ValueTask DisposeAsync() => default;
}
