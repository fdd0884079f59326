using System.Collections.Frozen;
using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>A member of an enumeration.</summary>
/// <param name="Value">Its number (CSDL 10.2).</param>
/// <param name="Stored">What the source keeps for it, as text.</param>
public sealed record EnumMember(string Name, int Value, string Stored);

/// <summary>An enumeration (CSDL 10); the sets of a service share it.</summary>
public sealed class EnumType
{
    private readonly FrozenDictionary<string, EnumMember> _byName;
    private readonly FrozenDictionary<string, EnumMember> _byStored;

    /// <param name="members">At least one; names and stored values are unique.</param>
    public EnumType(string schemaNamespace, string name, ImmutableArray<EnumMember> members, string? description = null)
    {
        Name = name;
        QualifiedName = $"{schemaNamespace}.{name}";
        Members = members;
        Description = description;
        _byName = members.ToFrozenDictionary(m => m.Name, StringComparer.Ordinal);
        _byStored = members.ToFrozenDictionary(m => m.Stored, StringComparer.Ordinal);
    }

    public string Name { get; }

    public string QualifiedName { get; }

    public ImmutableArray<EnumMember> Members { get; }

    public string? Description { get; }

    /// <summary>The member of a name or of a number written as text; null = none.</summary>
    public EnumMember? Find(string text) =>
        _byName.GetValueOrDefault(text) ?? (int.TryParse(text, out var number) ? Members.FirstOrDefault(m => m.Value == number) : null);

    /// <summary>The member that a stored value stands for; null = none.</summary>
    public EnumMember? FindStored(string stored) => _byStored.GetValueOrDefault(stored);
}

/// <summary>A name for a primitive type with its facets (CSDL 11); the sets of a service share it.</summary>
/// <param name="Underlying">The primitive type; not a collection.</param>
public sealed record TypeDefinition(string Namespace, string Name, EdmType Underlying, string? Description = null)
{
    public string QualifiedName => $"{Namespace}.{Name}";
}

/// <summary>A structured type without identity (CSDL 9); the sets of a service share it.</summary>
/// <param name="Properties">Where values are kept as JSON, <see cref="Property.Column"/> is the member's name there.</param>
/// <param name="IsOpen">Values may hold members that are not declared.</param>
public sealed record ComplexType(
    string Namespace,
    string Name,
    ImmutableArray<Property> Properties,
    bool IsOpen,
    string? Description = null
)
{
    public string QualifiedName => $"{Namespace}.{Name}";

    /// <summary>The property of a name; null = there is none. Names are case-sensitive.</summary>
    public Property? FindProperty(string name) => Properties.FirstOrDefault(p => p.Name == name);
}
