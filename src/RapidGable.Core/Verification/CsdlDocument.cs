using System.Collections.Immutable;

namespace RapidGable.Verification;

/// <summary>A metadata document as any service may publish it, read without trust: what it says, right or wrong.</summary>
/// <param name="Version">Of the Edmx element.</param>
/// <param name="References">Namespaces and aliases that are included from elsewhere.</param>
public sealed record CsdlDocument(string Version, ImmutableArray<CsdlSchema> Schemas, ImmutableArray<string> References)
{
    public IEnumerable<CsdlType> Types => Schemas.SelectMany(s => s.Types);

    public IEnumerable<CsdlContainer> Containers => Schemas.SelectMany(s => s.Containers);

    /// <summary>Finds a type by its qualified name, by namespace or alias.</summary>
    public CsdlType? FindType(string qualifiedName)
    {
        var dot = qualifiedName.LastIndexOf('.');
        if (dot < 0)
            return null;
        var (prefix, name) = (qualifiedName[..dot], qualifiedName[(dot + 1)..]);
        return Schemas.Where(s => s.Namespace == prefix || s.Alias == prefix).SelectMany(s => s.Types).FirstOrDefault(t => t.Name == name);
    }

    /// <summary>The type and its base types, nearest first.</summary>
    public IEnumerable<CsdlType> Lineage(CsdlType type)
    {
        var seen = new HashSet<CsdlType>();
        for (
            CsdlType? current = type;
            current is not null && seen.Add(current);
            current = current.BaseType is { } name ? FindType(name) : null
        )
            yield return current;
    }

    /// <summary>The properties of a type, inherited ones first.</summary>
    public IEnumerable<CsdlProperty> PropertiesOf(CsdlType type) => Lineage(type).Reverse().SelectMany(t => t.Properties);

    /// <summary>The navigation properties of a type, inherited ones first.</summary>
    public IEnumerable<CsdlNavigation> NavigationsOf(CsdlType type) => Lineage(type).Reverse().SelectMany(t => t.Navigations);

    /// <summary>The key of a type, its own or inherited; empty = it has none.</summary>
    public ImmutableArray<string> KeyOf(CsdlType type) => Lineage(type).Select(t => t.Key).FirstOrDefault(k => !k.IsEmpty, []);
}

/// <summary>A schema of a metadata document.</summary>
public sealed record CsdlSchema(string Namespace, string? Alias, ImmutableArray<CsdlType> Types, ImmutableArray<CsdlContainer> Containers);

/// <summary>What a type of a metadata document is.</summary>
public enum CsdlTypeKind
{
    Entity,
    Complex,
    Enum,
    Definition,
}

/// <param name="Underlying">Underlying type of an enumeration or type definition.</param>
/// <param name="Members">Names and values of an enumeration; the value is null when it is left out.</param>
public sealed record CsdlType(
    CsdlTypeKind Kind,
    string Name,
    string? BaseType,
    bool IsAbstract,
    ImmutableArray<string> Key,
    ImmutableArray<CsdlProperty> Properties,
    ImmutableArray<CsdlNavigation> Navigations
)
{
    public string? Underlying { get; init; }

    public bool IsFlags { get; init; }

    public bool IsOpen { get; init; }

    public ImmutableArray<(string Name, string? Value)> Members { get; init; } = [];
}

/// <param name="Facets">All other attributes, as written.</param>
public sealed record CsdlProperty(string Name, string Type, string? NullableText, ImmutableDictionary<string, string> Facets)
{
    public bool IsNullable => NullableText != "false";

    public bool IsCollection => Type.StartsWith("Collection(", StringComparison.Ordinal);

    public string ItemType => IsCollection ? Type[11..^1] : Type;

    /// <summary>The value of a numeric facet; null = it is not given, or no number.</summary>
    public int? Number(string facet) => Facets.TryGetValue(facet, out var text) && int.TryParse(text, out var number) ? number : null;
}

/// <summary>A navigation property of a metadata document.</summary>
public sealed record CsdlNavigation(
    string Name,
    string Type,
    string? NullableText,
    string? Partner,
    bool ContainsTarget,
    ImmutableArray<(string Own, string Target)> Constraints
)
{
    public bool IsCollection => Type.StartsWith("Collection(", StringComparison.Ordinal);

    public string ItemType => IsCollection ? Type[11..^1] : Type;
}

/// <summary>An entity container of a metadata document.</summary>
public sealed record CsdlContainer(string Name, ImmutableArray<CsdlSet> Sets);

/// <summary>A parameter of a function.</summary>
/// <param name="Example">A value to try it with (Core.Example, or its default); null = none is told.</param>
/// <param name="IsOptional">It may be left out (Core.OptionalParameter).</param>
public sealed record CsdlParameter(string Name, string Type, string? Example, bool IsOptional)
{
    private string Quoted => $"'{Example?.Replace("'", "''", StringComparison.Ordinal)}'";

    /// <summary>The example as a literal of an address, percent-encoded.</summary>
    public string Literal =>
        Uri.EscapeDataString(
            Type switch
            {
                "Edm.Duration" => $"duration'{Example}'",
                "Edm.Binary" => $"binary'{Example}'",
                "Edm.String" => Quoted,
                // The members of enumerations are written like text (4.01).
                _ => Type.StartsWith("Edm.", StringComparison.Ordinal) ? Example ?? "" : Quoted,
            }
        );
}

/// <param name="IsSingleton">A singleton, not a set.</param>
public sealed record CsdlSet(
    string Name,
    string Type,
    bool IsSingleton,
    bool IsListed,
    ImmutableArray<(string Path, string Target)> Bindings
)
{
    /// <summary>A function that returns a collection of <see cref="Type"/>.</summary>
    public bool IsFunction { get; init; }

    /// <summary>What a function takes.</summary>
    public ImmutableArray<CsdlParameter> Parameters { get; init; } = [];

    /// <summary>The address that reads it, percent-encoded; a function is called with its examples.</summary>
    public string Address =>
        Parameters.IsEmpty
            ? Uri.EscapeDataString(Name)
            : $"{Uri.EscapeDataString(Name)}({string.Join(',', Parameters.Select(p => $"{p.Name}={p.Literal}"))})";

    /// <summary>A function that returns one <see cref="Type"/> or none, not a collection.</summary>
    public bool IsSingle { get; init; }

    /// <summary>Properties that the service says it does not sort by.</summary>
    public ImmutableArray<string> NotSortable { get; init; } = [];

    /// <summary>The service says that it is read with a filter only.</summary>
    public bool RequiresFilter { get; init; }

    /// <summary>The service says that its changes can be followed.</summary>
    public bool TracksChanges { get; init; }

    /// <summary>The service says that it sorts at all.</summary>
    public bool IsSortable { get; init; } = true;
}
