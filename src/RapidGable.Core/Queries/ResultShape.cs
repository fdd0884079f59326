using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Queries;

/// <summary>A property and the column of the result that holds its value.</summary>
public sealed record ShapeCell(Property Property, int Column);

/// <summary>A related entity in the same row.</summary>
/// <param name="PresenceColumn">Null in this column means that there is none.</param>
public sealed record SingleShape(NavigationProperty Navigation, int PresenceColumn, EntityShape Entity);

/// <summary>Related entities from a statement of their own.</summary>
/// <param name="Child">Number of that statement among the plan's children.</param>
public sealed record ManyShape(NavigationProperty Navigation, int Child, EntityShape Entity);

/// <summary>Where in the columns of a result an entity's parts are.</summary>
/// <param name="Key">All key properties, selected or not.</param>
/// <param name="NeedsId">A key property is not among the cells, so the entity must carry its id (Protocol 11.2.5.1).</param>
public sealed record EntityShape(
    EntitySet Set, BoundSelect Select, ImmutableArray<ShapeCell> Cells, ImmutableArray<ShapeCell> Key,
    ImmutableArray<SingleShape> Singles, ImmutableArray<ManyShape> Many)
{
    public bool NeedsId => Key.Any(k => Cells.All(c => c.Property != k.Property));
}

/// <summary>What the rows of a request's main statement mean.</summary>
/// <param name="Value">For a property: where it is.</param>
/// <param name="OrderColumns">For a collection: the columns of the sort terms, whose values make a next link.</param>
public sealed record ResultShape(ResourceKind Kind, EntityShape Entity, ShapeCell? Value, ImmutableArray<int> OrderColumns);
