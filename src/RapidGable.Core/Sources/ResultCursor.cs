using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>The rows of an action's result, up to as many as an answer holds, with the columns that the answer is made of.</summary>
/// <param name="columns">Names of the columns, in the order in which this gives them; null = they come in that order.</param>
/// <param name="most">Rows at most; those that follow are not given.</param>
/// <param name="isStrict">Nobody asks at the end whether more would follow, so that they are a fault.</param>
internal sealed class ResultCursor(IRowCursor rows, ImmutableArray<string>? columns, int most, bool isStrict = false) : IRowCursor
{
    private int[]? _numbers;
    private int _count;

    /// <summary>There are more rows than are given; known once the last of these has been passed.</summary>
    public bool IsCut { get; private set; }

    public int Columns => columns?.Length ?? rows.Columns;

    public async ValueTask<bool> ReadAsync(CancellationToken cancellation)
    {
        if (IsCut || !await rows.ReadAsync(cancellation))
            return false;
        if (columns is { } named)
            _numbers ??= [.. named.Select(Find)];
        IsCut = _count++ == most;
        return IsCut && isStrict
            ? throw new SourceException(SourceFaultKind.BadData, $"There are more rows than the {most} that an answer holds.")
            : !IsCut;
    }

    /// <summary>The number of a column; the case of letters is looked at only where it makes a difference.</summary>
    private int Find(string column)
    {
        var names = Enumerable.Range(0, rows.Columns).Select(rows.Name).ToList();
        var found = names.IndexOf(column);
        if (found < 0)
            found = names.FindIndex(n => n.Equals(column, StringComparison.OrdinalIgnoreCase));
        return found >= 0
            ? found
            : throw new SourceException(
                SourceFaultKind.BadData,
                $"The result has no column '{column}'; it has {string.Join(", ", names)}."
            );
    }

    private int Of(int column) => _numbers?[column] ?? column;

    public string Name(int column) => columns?[column] ?? rows.Name(column);

    public bool IsNull(int column) => rows.IsNull(Of(column));

    public bool GetBoolean(int column) => rows.GetBoolean(Of(column));

    public long GetInt64(int column) => rows.GetInt64(Of(column));

    public double GetDouble(int column) => rows.GetDouble(Of(column));

    public decimal GetDecimal(int column) => rows.GetDecimal(Of(column));

    public ReadOnlySpan<byte> GetUtf8(int column) => rows.GetUtf8(Of(column));

    public ReadOnlySpan<byte> GetBytes(int column) => rows.GetBytes(Of(column));

    public Guid GetGuid(int column) => rows.GetGuid(Of(column));

    public DateOnly GetDate(int column) => rows.GetDate(Of(column));

    public TimeOnly GetTimeOfDay(int column) => rows.GetTimeOfDay(Of(column));

    public DateTime GetInstant(int column) => rows.GetInstant(Of(column));

    public TimeSpan GetDuration(int column) => rows.GetDuration(Of(column));

    public bool TryGetDecimal(int column, out decimal value) => rows.TryGetDecimal(Of(column), out value);

    public string GetNumber(int column) => rows.GetNumber(Of(column));

    public bool TryGetDate(int column, out DateOnly value) => rows.TryGetDate(Of(column), out value);

    public bool TryGetInstant(int column, out DateTime value) => rows.TryGetInstant(Of(column), out value);

    public bool TryGetDuration(int column, out TimeSpan value) => rows.TryGetDuration(Of(column), out value);

    public SourceException Odd(int column) => rows.Odd(Of(column));

    public StoredValue GetStored(int column) => rows.GetStored(Of(column));

    public ValueTask DisposeAsync() => rows.DisposeAsync();
}
