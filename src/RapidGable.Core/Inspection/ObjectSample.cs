using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Inspection;

/// <summary>A few rows of an object as people look at them.</summary>
public static class ObjectSample
{
    private const int LongestText = 60;

    /// <summary>The first rows, each value as short text and null as null.</summary>
    /// <exception cref="SourceException">When the object cannot be read.</exception>
    public static async Task<List<string?[]>> ReadAsync(ISource source, SourceObject item, int rows, CancellationToken cancellation)
    {
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
            $"SELECT {columns} FROM {source.Dialect.From(item)} LIMIT {rows}",
            default,
            cancellation
        );
        while (await cursor.ReadAsync(cancellation))
            sample.Add([.. Enumerable.Range(0, item.Columns.Length).Select(i => Shown(cursor.GetStored(i)))]);
        return sample;
    }

    private static string? Shown(StoredValue value) =>
        value.Kind switch
        {
            StoredValueKind.Null => null,
            StoredValueKind.Text => value.Text.Length > LongestText ? value.Text[..LongestText] + "…" : value.Text,
            StoredValueKind.Blob => $"({value.Blob.Length} bytes)",
            _ => value.ToString(),
        };
}
