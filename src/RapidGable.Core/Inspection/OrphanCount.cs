using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Inspection;

/// <summary>Rows that refer to nothing.</summary>
/// <param name="Holder">The set whose rows refer.</param>
/// <param name="Referring">Rows in which all of the referring columns have a value.</param>
/// <param name="Orphans">Those among them that no row of the other set answers to.</param>
/// <param name="Examples">Values that are not found, each joined by commas.</param>
public sealed record OrphanFindings(string Holder, long Referring, long Orphans, ImmutableArray<string> Examples);

/// <summary>Counts the rows of a relation that refer to nothing, also over two databases.</summary>
public static class OrphanCount
{
    private const int ExamplesShown = 10;

    /// <summary>Different keys that are held in memory for a relation into another database.</summary>
    public const int MostKeys = 5_000_000;

    /// <summary>Why a relation cannot be counted; null = it can.</summary>
    public static string? Obstacle(EntitySet set, NavigationProperty navigation, EntitySet target) =>
        navigation.Link is not null ? "A relation over a link table has its foreign keys there."
        : navigation.Joins.IsEmpty ? "The relation has no columns."
        : set.Source is QuerySource { Parameters.IsEmpty: false } || target.Source is QuerySource { Parameters.IsEmpty: false }
            ? "A query with parameters has no rows of its own."
        : null;

    /// <summary>Looks at all rows of both sets, whatever callers may see of them.</summary>
    /// <exception cref="SourceException">When a source cannot be read.</exception>
    /// <exception cref="InvalidDataException">When there are more different keys than are held.</exception>
    public static async Task<OrphanFindings> RunAsync(
        EntitySet set,
        NavigationProperty navigation,
        EntitySet target,
        IReadOnlyDictionary<string, ISource> sources,
        CancellationToken cancellation
    )
    {
        var isHeldThere = navigation.IsHeldByTarget || navigation.IsCollection;
        var (holder, other) = isHeldThere ? (target, set) : (set, target);
        var joins = navigation.Joins.Select(j => isHeldThere ? (Own: j.Target, Other: j.Own) : (j.Own, Other: j.Target)).ToList();
        return holder.Source.Source == other.Source.Source
            ? await WithinAsync(holder, other, joins, sources[holder.Source.Source], cancellation)
            : await AcrossAsync(holder, other, joins, sources, cancellation);
    }

    private static async Task<OrphanFindings> WithinAsync(
        EntitySet holder,
        EntitySet other,
        List<(Property Own, Property Other)> joins,
        ISource source,
        CancellationToken cancellation
    )
    {
        var dialect = source.Dialect;
        string Of(string alias, Property property) => $"{alias}.{dialect.Quote(property.Column)}";
        var filled = string.Join(" AND ", joins.Select(j => Of("h", j.Own) + " IS NOT NULL"));
        // Two columns may keep the same value in different forms.
        var equal = string.Join(
            " AND ",
            joins.Select(j =>
            {
                var (left, right) = dialect.Comparable(
                    new SqlOperand(Of("o", j.Other), j.Other.StoredType, j.Other.StorageForm),
                    new SqlOperand(Of("h", j.Own), j.Own.StoredType, j.Own.StorageForm)
                );
                return $"{left} = {right}";
            })
        );
        var rows = $"{dialect.From(holder.Source)} AS h WHERE {filled}";
        var missing = $"{rows} AND NOT EXISTS (SELECT 1 FROM {dialect.From(other.Source)} AS o WHERE {equal})";
        var columns = string.Join(", ", joins.Select(j => dialect.Column(Of("h", j.Own), j.Own)));
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, cancellation);
        var referring = await NumberAsync(session, $"SELECT COUNT(*) FROM {rows}", cancellation);
        var orphans = await NumberAsync(session, $"SELECT COUNT(*) FROM {missing}", cancellation);
        var examples = new List<string>();
        await using var cursor = await session.QueryAsync(
            $"SELECT DISTINCT {columns} FROM {missing} LIMIT {ExamplesShown}",
            default,
            cancellation
        );
        while (await cursor.ReadAsync(cancellation))
            examples.Add(Shown(cursor, joins.Count));
        return new OrphanFindings(holder.Name, referring, orphans, [.. examples]);
    }

    private static async Task<OrphanFindings> AcrossAsync(
        EntitySet holder,
        EntitySet other,
        List<(Property Own, Property Other)> joins,
        IReadOnlyDictionary<string, ISource> sources,
        CancellationToken cancellation
    )
    {
        var known = new HashSet<string>(StringComparer.Ordinal);
        await foreach (var (key, _) in KeysAsync(other, [.. joins.Select(j => j.Other)], sources[other.Source.Source], cancellation))
        {
            if (known.Count == MostKeys)
                throw new InvalidDataException($"'{other.Name}' has more than {MostKeys:N0} different keys.");
            known.Add(key);
        }
        long referring = 0,
            orphans = 0;
        var examples = new List<string>();
        await foreach (var (key, rows) in KeysAsync(holder, [.. joins.Select(j => j.Own)], sources[holder.Source.Source], cancellation))
        {
            referring += rows;
            if (known.Contains(key))
                continue;
            orphans += rows;
            if (examples.Count < ExamplesShown)
                examples.Add(key);
        }
        return new OrphanFindings(holder.Name, referring, orphans, [.. examples]);
    }

    /// <summary>The different keys, each with its rows; without nulls.</summary>
    private static async IAsyncEnumerable<(string Key, long Rows)> KeysAsync(
        EntitySet set,
        List<Property> properties,
        ISource source,
        [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken cancellation
    )
    {
        var dialect = source.Dialect;
        var columns = properties.Select(p => dialect.Column("h." + dialect.Quote(p.Column), p)).ToList();
        var filled = string.Join(" AND ", properties.Select(p => $"h.{dialect.Quote(p.Column)} IS NOT NULL"));
        var named = string.Join(", ", columns.Select((c, i) => $"{c} AS k{i}"));
        var keys = string.Join(", ", columns.Select((_, i) => $"k{i}"));
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, cancellation);
        await using var cursor = await session.QueryAsync(
            $"SELECT {keys}, COUNT(*) FROM (SELECT {named} FROM {dialect.From(set.Source)} AS h WHERE {filled}) AS d GROUP BY {keys}",
            default,
            cancellation
        );
        while (await cursor.ReadAsync(cancellation))
            yield return (PublishedKey(cursor, properties), cursor.GetInt64(properties.Count));
    }

    /// <summary>Two databases keep the same value in different forms; published, they are alike.</summary>
    private static string PublishedKey(IRowCursor cursor, List<Property> properties) =>
        string.Join(", ", properties.Select((p, i) => ValueConversion.Text(RowValue.Published(cursor, p, i))));

    private static string Shown(IRowCursor cursor, int columns) =>
        string.Join(", ", Enumerable.Range(0, columns).Select(i => ObjectSample.Shown(cursor.GetStored(i))));

    private static async Task<long> NumberAsync(ISourceSession session, string sql, CancellationToken cancellation)
    {
        await using var cursor = await session.QueryAsync(sql, default, cancellation);
        await cursor.ReadAsync(cancellation);
        return cursor.GetInt64(0);
    }
}
