using System.Collections.Immutable;
using RapidGable.Sources;

namespace RapidGable.Inspection;

/// <summary>Values that stand in several rows.</summary>
/// <param name="Values">One for each column; null = a null.</param>
public sealed record DoubledKey(ImmutableArray<string?> Values, long Rows);

/// <summary>Why some columns do not identify rows.</summary>
/// <param name="Groups">How many different values stand in several rows.</param>
/// <param name="Examples">Those in most rows first.</param>
/// <param name="Nulls">Rows in which one of the columns is null.</param>
public sealed record DoubledKeys(long Groups, ImmutableArray<DoubledKey> Examples, long Nulls)
{
    private const int ExamplesShown = 20;

    /// <summary>Looks at all rows.</summary>
    /// <param name="columns">At least one, of the object.</param>
    /// <exception cref="SourceException">When the object cannot be read.</exception>
    public static async Task<DoubledKeys> FindAsync(
        ISource source,
        SourceObject item,
        IReadOnlyList<SourceColumn> columns,
        CancellationToken cancellation
    )
    {
        var (dialect, table) = (source.Dialect, source.Dialect.From(item));
        var values = columns.Select(c => dialect.Column(dialect.Quote(c.Name), c.StorageForm)).ToList();
        var named = string.Join(", ", values.Select((v, i) => $"{v} AS k{i}"));
        var inner = $"SELECT {named} FROM {table}";
        var keys = string.Join(", ", values.Select((_, i) => $"k{i}"));
        var doubled = $"SELECT {keys}, COUNT(*) AS n FROM ({inner}) AS d GROUP BY {keys} HAVING COUNT(*) > 1";
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, cancellation);
        var nulls = await NumberAsync($"SELECT COUNT(*) FROM ({inner}) AS d WHERE {Any(values.Count)}");
        var groups = await NumberAsync($"SELECT COUNT(*) FROM ({doubled}) AS g");
        var examples = ImmutableArray.CreateBuilder<DoubledKey>();
        await using var cursor = await session.QueryAsync(
            $"SELECT * FROM ({doubled}) AS g ORDER BY n DESC LIMIT {ExamplesShown}",
            default,
            cancellation
        );
        while (await cursor.ReadAsync(cancellation))
            examples.Add(
                new DoubledKey([.. values.Select((_, i) => ObjectSample.Shown(cursor.GetStored(i)))], cursor.GetInt64(values.Count))
            );
        return new DoubledKeys(groups, examples.ToImmutable(), nulls);

        async Task<long> NumberAsync(string sql)
        {
            await using var one = await session.QueryAsync(sql, default, cancellation);
            await one.ReadAsync(cancellation);
            return one.GetInt64(0);
        }
    }

    private static string Any(int columns) => string.Join(" OR ", Enumerable.Range(0, columns).Select(i => $"k{i} IS NULL"));
}
