using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>
/// Conditions of rules compare texts exactly, whatever the collation of a column. An equality keeps the column's index for that; an order
/// of texts cannot, since the index is sorted in another one.
/// </summary>
internal static class RuleIndexAdvice
{
    /// <summary>A column whose index a condition could use if it did not have to compare exactly; null = there is none.</summary>
    public static string? Of(
        BoundExpression condition,
        EntitySet set,
        EntityModel model,
        Func<string, SqlDialect> dialectOf,
        ImmutableDictionary<string, SourceCatalog> catalogs
    )
    {
        foreach (var side in Ordered(condition))
        {
            var (property, of) = (side.Property, side.Hops.Aggregate(set, (_, hop) => model.Target(hop)));
            var isExact = dialectOf(of.Source.Source).Exact(new SqlOperand("", EdmType.String, property.StorageForm)) is null;
            if (!isExact && IsIndexed(property, of, catalogs))
                return property.Column;
        }
        return null;
    }

    /// <summary>Texts that the condition compares by their order.</summary>
    private static IEnumerable<BoundProperty> Ordered(BoundExpression condition) =>
        ExpressionPaths
            .All(condition)
            .OfType<BoundComparison>()
            .Where(c => c.Operator is not (BinaryOperator.Eq or BinaryOperator.Ne))
            .SelectMany(c => new[] { c.Left, c.Right })
            .OfType<BoundProperty>()
            .Where(p => p is { Scope: "", Property.Type: { Kind: EdmKind.String, IsCollection: false } });

    private static bool IsIndexed(Property property, EntitySet set, ImmutableDictionary<string, SourceCatalog> catalogs) =>
        catalogs
            .GetValueOrDefault(set.Source.Source)
            ?.Objects.FirstOrDefault(o => set.Source.Equals(new TableSource(set.Source.Source, o.Schema, o.Name)))
            is { } table
        && table.UniqueKeys.Concat(table.Indexes).Append(table.PrimaryKey).Any(i => !i.IsEmpty && i[0] == property.Column);
}
