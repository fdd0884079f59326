using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Inspection;

/// <summary>Columns that identify the rows of an object, proved over all of them.</summary>
/// <param name="Reason">Why it ranks where it does.</param>
/// <param name="IsLikely">A column is named like a key; else it may be chance.</param>
public sealed record KeyCandidate(ImmutableArray<string> Columns, string Reason, bool IsLikely);

/// <summary>What was found for an object.</summary>
/// <param name="Candidates">The best first; empty when no three columns identify a row.</param>
/// <param name="Rows">Rows of the object.</param>
/// <param name="Tried">Combinations that were counted.</param>
/// <param name="IsComplete">Every combination was looked at; else the most likely ones only.</param>
public sealed record KeyFindings(ImmutableArray<KeyCandidate> Candidates, long Rows, int Tried, bool IsComplete);

/// <summary>
/// Proposes keys of up to three columns for an object that has none. A combination counts only if no row has a null in it
/// and all rows differ in it; one that holds a smaller key is no key of its own.
/// </summary>
public sealed class KeyFinder
{
    private const int MostColumns = 3;
    private const int MostTries = 400;

    private readonly ISource _source;
    private readonly SourceObject _object;
    private readonly HashSet<string> _knownKeys;
    private readonly SourceCatalog _catalog;
    private readonly Dictionary<string, ColumnOrigin> _keyOrigins = [];
    private readonly CancellationToken _cancellation;
    private long _rows;
    private int _tried;

    private KeyFinder(ISource source, SourceObject item, SourceCatalog catalog, CancellationToken cancellation)
    {
        _source = source;
        _object = item;
        _cancellation = cancellation;
        _catalog = catalog;
        _knownKeys = catalog
            .Objects.SelectMany(o => o.PrimaryKey.SelectMany(k => new[] { k, $"{o.Name}_{k}" }))
            .Where(k => k != "id")
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
    }

    /// <exception cref="SourceException">When the object cannot be read.</exception>
    public static Task<KeyFindings> FindAsync(
        ISource source,
        SourceObject item,
        SourceCatalog catalog,
        Action<string> progress,
        CancellationToken cancellation
    ) => new KeyFinder(source, item, catalog, cancellation).FindAsync(progress);

    private async Task<KeyFindings> FindAsync(Action<string> progress)
    {
        if (_object.Kind is SourceObjectKind.View or SourceObjectKind.MaterializedView)
        {
            foreach (var (name, origin) in await _source.OriginsAsync(_object, _cancellation))
            {
                if (_catalog.Objects.Any(o => o.Name == origin.Table && o.PrimaryKey.Contains(origin.Column)))
                    _keyOrigins[name] = origin;
            }
        }
        var columns = _object.Columns.Where(c => c.MayBeKey).ToList();
        progress("columns");
        var distinct = await CountAsync(columns);
        // Likely columns first, so that the best is found even where not everything can be tried.
        var usable = columns
            .Where(c => distinct.ContainsKey(c.Name))
            .OrderByDescending(Likelihood)
            .ThenByDescending(c => distinct[c.Name])
            .ToList();
        var found = new List<ImmutableArray<string>>();
        foreach (var column in usable.Where(c => distinct[c.Name] == _rows))
            found.Add([column.Name]);
        var isComplete = true;
        for (var size = 2; size <= MostColumns; size++)
        {
            foreach (var names in Combinations([.. usable.Select(c => c.Name)], size))
            {
                if (found.Exists(f => f.All(names.Contains)) || names.Aggregate(1.0, (product, n) => product * distinct[n]) < _rows)
                    continue;
                if (_tried == MostTries)
                {
                    isComplete = false;
                    break;
                }
                progress(string.Join(", ", names));
                if (await DistinctAsync(names) == _rows)
                    found.Add([.. names]);
            }
        }
        var ranked = found
            .OrderBy(f => f.Length)
            .ThenByDescending(f => f.Sum(n => Likelihood(_object.Column(n)!)))
            .ThenBy(f => f.Sum(n => Position(n)));
        return new KeyFindings(
            [.. ranked.Select(f => new KeyCandidate([.. f.OrderBy(Position)], Reason(f), f.Any(c => Likelihood(_object.Column(c)!) >= 3)))],
            _rows,
            _tried,
            isComplete
        );
    }

    private int Position(string name) => _object.Columns.IndexOf(_object.Column(name)!);

    /// <summary>How much a column looks like part of a key: by its name, and by the keys of other tables.</summary>
    private int Likelihood(SourceColumn column)
    {
        var name = column.Name.ToLowerInvariant();
        if (_keyOrigins.ContainsKey(column.Name))
            return 5;
        if (name == "id" || _knownKeys.Contains(name))
            return 4;
        if (
            name.EndsWith("id", StringComparison.Ordinal)
            || name.EndsWith("_code", StringComparison.Ordinal)
            || name.EndsWith("_no", StringComparison.Ordinal)
            || name is "code" or "key"
        )
            return 3;
        return column.Type!.Kind is EdmKind.Date or EdmKind.Guid || name is "day" or "year" or "month" or "date" ? 2
            : column.Type.Kind is EdmKind.Decimal or EdmKind.DateTimeOffset || name.Contains("count", StringComparison.Ordinal) ? 0
            : 1;
    }

    private string Reason(ImmutableArray<string> columns)
    {
        var origins = columns.Where(_keyOrigins.ContainsKey).ToList();
        var known = columns.Where(c => _knownKeys.Contains(c) && !origins.Contains(c)).ToList();
        var looks = columns.Where(c => !known.Contains(c) && !origins.Contains(c) && Likelihood(_object.Column(c)!) >= 3).ToList();
        var parts = new List<string> { "no nulls and no two rows alike" };
        if (origins.Count > 0)
            parts.Add(string.Join(", ", origins.Select(c => $"{c} is {_keyOrigins[c].Table}.{_keyOrigins[c].Column}")) + ", of a key");
        if (known.Count > 0)
            parts.Add($"{string.Join(", ", known)} named like the key of a table");
        if (looks.Count > 0)
            parts.Add($"{string.Join(", ", looks)} named like a key");
        if (origins.Count + known.Count + looks.Count == 0)
            parts.Add("by the data alone, so it may be chance");
        return string.Join("; ", parts);
    }

    private string Table => _source.Dialect.From(_object);

    /// <summary>Different values of each column that holds no null, in one pass over the rows.</summary>
    private async Task<Dictionary<string, long>> CountAsync(List<SourceColumn> columns)
    {
        var counts = columns
            .Select(c => _source.Dialect.Column(_source.Dialect.Quote(c.Name), c.StorageForm))
            .Select(c => $", COUNT({c}), COUNT(DISTINCT {c})");
        await using var session = await _source.OpenSessionAsync(SessionKind.Plain, _cancellation);
        await using var cursor = await session.QueryAsync($"SELECT COUNT(*){string.Concat(counts)} FROM {Table}", default, _cancellation);
        await cursor.ReadAsync(_cancellation);
        _rows = cursor.GetInt64(0);
        var distinct = new Dictionary<string, long>();
        for (var i = 0; i < columns.Count; i++)
        {
            if (cursor.GetInt64(1 + (2 * i)) == _rows)
                distinct[columns[i].Name] = cursor.GetInt64(2 + (2 * i));
        }
        return distinct;
    }

    private async Task<long> DistinctAsync(IReadOnlyList<string> names)
    {
        _tried++;
        var columns = string.Join(
            ", ",
            names.Select((n, i) => _source.Dialect.Column(_source.Dialect.Quote(n), _object.Column(n)!.StorageForm) + $" AS k{i}")
        );
        await using var session = await _source.OpenSessionAsync(SessionKind.Plain, _cancellation);
        await using var cursor = await session.QueryAsync(
            $"SELECT COUNT(*) FROM (SELECT DISTINCT {columns} FROM {Table}) AS d",
            default,
            _cancellation
        );
        await cursor.ReadAsync(_cancellation);
        return cursor.GetInt64(0);
    }

    private static IEnumerable<List<string>> Combinations(List<string> names, int size)
    {
        if (size == 0)
            return
            [
                [],
            ];
        return Enumerable
            .Range(0, names.Count)
            .SelectMany(i =>
                Combinations(names.GetRange(i + 1, names.Count - i - 1), size - 1).Select(rest => rest.Prepend(names[i]).ToList())
            );
    }
}
