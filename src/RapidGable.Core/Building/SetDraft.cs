using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>A set on its way to the model, before it knows its relations.</summary>
internal sealed record SetDraft(
    string Name,
    string TypeName,
    SetDeclaration Declaration,
    SourceObject Item,
    ImmutableArray<Property> Visible,
    ImmutableArray<Property> Hidden,
    ImmutableArray<Property> Key
)
{
    public ChangeTracking? Changes { get; init; }

    public ChangeLog? Log { get; init; }

    public ImmutableDictionary<SetOperations, WriteCall> Writes { get; init; } = ImmutableDictionary<SetOperations, WriteCall>.Empty;

    public ImmutableArray<DerivedType> Derived { get; init; } = [];

    /// <summary>The property of a column, alone or in a group; null when the column has none.</summary>
    public Property? FindColumn(string column) => Visible.SelectMany(p => p.Leaves).Concat(Hidden).FirstOrDefault(p => p.Column == column);

    /// <summary>Whether some of these columns identify a row: they hold the key, or a unique key without nulls.</summary>
    public bool IsUnique(IEnumerable<string> columns)
    {
        var names = columns.ToHashSet();
        return Key.All(k => names.Contains(k.Column)) && !Key.IsEmpty
            || (!Item.PrimaryKey.IsEmpty && Item.PrimaryKey.All(names.Contains))
            || Item.UniqueKeys.Any(u => u.All(c => names.Contains(c) && Item.Column(c) is { Nullable: false }));
    }
}
