using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>Properties by paths: what is reached over others stands inside of a value with their names.</summary>
internal static class PathProperties
{
    public static ImmutableArray<Property> Of(IEnumerable<(string[] Names, Property Property)> paths, string schemaNamespace) =>
        [
            .. paths
                .GroupBy(p => p.Names[0])
                .Select(g =>
                {
                    if (g.First().Names.Length == 1)
                        return g.First().Property with { Name = g.Key };
                    var members = Of(g.Select(p => (p.Names[1..], p.Property)), schemaNamespace);
                    return new Property(
                        g.Key,
                        new EdmType(EdmKind.Complex) { Complex = new ComplexType(schemaNamespace, g.Key, members, false) },
                        true,
                        ""
                    )
                    {
                        Members = members,
                        IsDynamic = true,
                    };
                }),
        ];

    /// <summary>The properties that have a column, with the names that lead to them.</summary>
    public static IEnumerable<(string[] Names, Property Property)> Paths(IEnumerable<Property> properties) =>
        properties
            .Where(p => p.Type.Kind != EdmKind.Stream)
            .SelectMany(p => p.IsGroup ? Paths(p.Members).Select(m => ((string[])[p.Name, .. m.Names], m.Property)) : [([p.Name], p)]);
}
