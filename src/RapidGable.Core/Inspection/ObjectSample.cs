using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Inspection;

/// <summary>Which rows of an object are looked at.</summary>
/// <param name="Rows">How many at most.</param>
/// <param name="Skip">Rows before them.</param>
/// <param name="Sort">A column; null = as the database gives them.</param>
/// <param name="Within">A column whose values as text contain <paramref name="Sought"/>; null = all rows.</param>
public sealed record SampleQuestion(
    int Rows,
    long Skip = 0,
    string? Sort = null,
    bool IsDescending = false,
    string? Within = null,
    string Sought = ""
);

/// <summary>How large an object is.</summary>
/// <param name="Bytes">With its indexes; null = the database does not tell.</param>
/// <param name="Definition">The SELECT of a view; null = it is none, or the database does not keep it.</param>
public sealed record ObjectExtent(long Rows, long? Bytes, string? Definition);

/// <summary>A few rows of an object as people look at them.</summary>
public static class ObjectSample
{
    private const int LongestText = 60;

    /// <summary>The first rows, each value as short text and null as null.</summary>
    /// <exception cref="SourceException">When the object cannot be read.</exception>
    public static Task<List<string?[]>> ReadAsync(ISource source, SourceObject item, int rows, CancellationToken cancellation) =>
        ReadAsync(source, item, new SampleQuestion(rows), cancellation);

    /// <summary>Counts all rows, and asks for the size and the definition.</summary>
    /// <exception cref="SourceException">When the object cannot be read.</exception>
    public static async Task<ObjectExtent> MeasureAsync(ISource source, SourceObject item, CancellationToken cancellation)
    {
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, cancellation);
        var definition = await ValueAsync(source.Dialect.DefinitionOf(item));
        var bytes = await ValueAsync(source.Dialect.SizeOf(item));
        var rows = await ValueAsync(new SourceStatement($"SELECT COUNT(*) FROM {source.Dialect.From(item)}", default));
        return new ObjectExtent(rows?.Int64 ?? 0, bytes?.Int64, definition is { Kind: StoredValueKind.Text } text ? text.Text : null);

        async Task<StoredValue?> ValueAsync(SourceStatement? statement)
        {
            if (statement is null)
                return null;
            await using var cursor = await session.QueryAsync(statement.Sql, statement.Parameters, cancellation);
            return await cursor.ReadAsync(cancellation) && !cursor.IsNull(0) ? cursor.GetStored(0) : null;
        }
    }

    /// <summary>Rows in a chosen order, from a position on; each value as short text and null as null.</summary>
    /// <exception cref="ArgumentException">The object has no such column.</exception>
    /// <exception cref="SourceException">When the object cannot be read.</exception>
    public static async Task<List<string?[]>> ReadAsync(
        ISource source,
        SourceObject item,
        SampleQuestion question,
        CancellationToken cancellation
    )
    {
        foreach (var name in new[] { question.Sort, question.Within }.OfType<string>())
        {
            if (item.Column(name) is null)
                throw new ArgumentException($"There is no column '{name}' in '{item.Name}'.");
        }
        var rows = question.Rows;
        var sample = new List<string?[]>();
        if (rows == 0 || item.Columns.Length == 0)
            return sample;
        // A column that is no text either has no way to be shown.
        var columns = string.Join(
            ", ",
            item.Columns.Select(c =>
                c.Type is null && c.TextForm is null
                    ? "NULL"
                    : source.Dialect.Column(source.Dialect.Quote(c.Name), c.Type is null ? c.TextForm : c.StorageForm)
            )
        );
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, cancellation);
        await using var cursor = await session.QueryAsync(
            $"SELECT {columns} FROM {source.Dialect.From(item)}{Where(source.Dialect, question)}{Order(source.Dialect, item, question)}"
                + $" LIMIT {rows} OFFSET {question.Skip}",
            question.Within is null ? default : new[] { StoredValue.From($"%{Escaped(question.Sought)}%") },
            cancellation
        );
        while (await cursor.ReadAsync(cancellation))
            sample.Add([.. Enumerable.Range(0, item.Columns.Length).Select(i => Shown(cursor.GetStored(i)))]);
        return sample;
    }

    private static string Where(SqlDialect dialect, SampleQuestion question) =>
        question.Within is not { } column
            ? ""
            : $" WHERE {dialect.Searched(dialect.Quote(column))} LIKE {dialect.Parameter(1, EdmType.String, null)} ESCAPE '!'";

    private static string Order(SqlDialect dialect, SourceObject item, SampleQuestion question) =>
        question.Sort is not { } column
            ? ""
            : " ORDER BY " + dialect.OrderTerm(dialect.Quote(column), question.IsDescending, item.Column(column)!.Nullable);

    private static string Escaped(string text) =>
        text.ToLowerInvariant()
            .Replace("!", "!!", StringComparison.Ordinal)
            .Replace("%", "!%", StringComparison.Ordinal)
            .Replace("_", "!_", StringComparison.Ordinal);

    internal static string? Shown(StoredValue value) =>
        value.Kind switch
        {
            StoredValueKind.Null => null,
            StoredValueKind.Text => value.Text.Length > LongestText ? value.Text[..LongestText] + "…" : value.Text,
            StoredValueKind.Blob => $"({value.Blob.Length} bytes)",
            _ => value.ToString(),
        };
}
