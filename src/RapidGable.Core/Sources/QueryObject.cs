using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>A SELECT of a declaration as an object of its source.</summary>
internal static class QueryObject
{
    public const string Several = "it is more than one statement.";

    /// <exception cref="SourceException">When two columns have one name, so that neither could be named.</exception>
    public static SourceObject Of(string name, string select, ReadOnlyMemory<StoredValue> arguments, IEnumerable<SourceColumn> columns)
    {
        var all = columns.ToList();
        if (all.GroupBy(c => c.Name, StringComparer.OrdinalIgnoreCase).FirstOrDefault(g => g.Count() > 1) is { } twice)
            throw new SourceException(
                SourceFaultKind.Broken,
                $"two of its columns are called '{twice.Key}'; give one another name with AS."
            );
        if (all.Find(c => c.Name.Length == 0 || c.Name == "?column?") is not null)
            throw new SourceException(SourceFaultKind.Broken, "a column of it has no name; give it one with AS.");
        return new SourceObject(null, name, SourceObjectKind.Query, [.. all], [], [], [])
        {
            Query = select,
            Arguments = [.. arguments.Span],
        };
    }
}
