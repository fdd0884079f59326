using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>Whether an entity is of a derived type, as a condition.</summary>
public static class DerivedTypes
{
    /// <param name="hops">The single steps that lead to the entity.</param>
    /// <param name="scope">As in <see cref="BoundProperty.Scope"/>.</param>
    public static BoundExpression Test(DerivedType derived, ImmutableArray<NavigationProperty> hops, string scope = "")
    {
        if (derived.Table is { } table)
            return new BoundComparison(
                BinaryOperator.Ne,
                new BoundRelated(hops.Add(table), derived.Rows!.Type.Key[0]) { Scope = scope },
                new BoundNull()
            );
        var column = new BoundProperty(hops, derived.Discriminator!) { Scope = scope };
        return derived
            .Values.Select(
                BoundExpression (v) =>
                    new BoundComparison(BinaryOperator.Eq, column, new BoundConstant(v, v is string ? EdmType.String : EdmType.Int64))
            )
            .Aggregate((a, b) => new BoundLogical(BinaryOperator.Or, a, b));
    }

    /// <summary>The derived type of a qualified name; null = the name is another's.</summary>
    public static DerivedType? Find(EntityType type, string qualified, string schemaNamespace) =>
        qualified.StartsWith(schemaNamespace + ".", StringComparison.Ordinal)
            ? type.Derived.FirstOrDefault(d => d.Name == qualified[(schemaNamespace.Length + 1)..])
            : null;
}
