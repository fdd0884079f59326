using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Inspection;

/// <summary>Counts rows in the database itself, without any of the machinery that answers requests.</summary>
public sealed class DatabaseCounter(EntityModel model, IReadOnlyDictionary<string, ISource> sources)
{
    /// <summary>Rows of the object behind a set; null when there is no such set, it is a query with parameters, or rules leave a part
    /// of it.</summary>
    public async Task<long?> CountAsync(string set, CancellationToken cancellation)
    {
        if (model.FindSet(set) is not { } found || found.Source is not (TableSource or QuerySource { Parameters.IsEmpty: true }))
            return null;
        var source = sources[found.Source.Source];
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, cancellation);
        await using var cursor = await session.QueryAsync(
            $"SELECT COUNT(*) FROM {source.Dialect.From(found.Source)} AS q",
            default,
            cancellation
        );
        await cursor.ReadAsync(cancellation);
        return cursor.GetInt64(0);
    }
}
