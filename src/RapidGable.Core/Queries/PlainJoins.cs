using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>Joins of tables as they are, without rules.</summary>
internal static class PlainJoins
{
    /// <summary>The text that follows the first table; empty when there are none.</summary>
    public static string Of(IEnumerable<PlanJoin> joins, SqlDialect dialect) =>
        string.Concat(
            joins.Select(join =>
            {
                var pairs = join.On.Select(o =>
                    $"{join.Table.Alias}.{dialect.Quote(o.Target.Column)} = {join.LeftAlias}.{dialect.Quote(o.Own.Column)}"
                );
                return $" LEFT JOIN {dialect.From(join.Table.Source)} AS {join.Table.Alias} ON {string.Join(" AND ", pairs)}";
            })
        );
}
