using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Queries;

/// <summary>A property and the column of the result that holds its value.</summary>
/// <param name="Column">-1 for a complex value that is made of columns.</param>
public sealed record ShapeCell(Property Property, int Column)
{
    /// <summary>Column that says whether the row has the property; null = every row has.</summary>
    public int? Presence { get; init; }

    /// <summary>The parts of such a value.</summary>
    public ImmutableArray<ShapeCell> Members { get; init; } = [];
}

/// <summary>A related entity in the same row.</summary>
/// <param name="PresenceColumn">Null in this column means that there is none.</param>
public sealed record SingleShape(BoundExpand Expand, int PresenceColumn, EntityShape Entity)
{
    /// <summary>Null in this column means that the entity is not of the type that has the relation; null = every entity has it.</summary>
    public int? TypeColumn { get; init; }

    public NavigationProperty Navigation => Expand.Navigation;
}

/// <summary>Related entities from a statement of their own.</summary>
/// <param name="Child">Number of that statement among the plan's children; null = only the number is asked for.</param>
/// <param name="Order">Columns of the order in which they come, whose values make a next link.</param>
/// <param name="CountColumn">Column of the parent's row with the number of related entities; null = not asked for.</param>
public sealed record ManyShape(BoundExpand Expand, int? Child, EntityShape Entity, ImmutableArray<int> Order, int? CountColumn)
{
    /// <summary>As in <see cref="SingleShape.TypeColumn"/>.</summary>
    public int? TypeColumn { get; init; }

    public NavigationProperty Navigation => Expand.Navigation;
}

/// <summary>Related entities in another source, fetched for a whole page before its rows are written.</summary>
/// <param name="Remote">Number among the plan's remote relations.</param>
/// <param name="Own">What the entity is related by.</param>
public sealed record RemoteShape(
    BoundExpand Expand,
    int Remote,
    ImmutableArray<ShapeCell> Own,
    EntityShape Entity,
    ImmutableArray<int> Order
)
{
    /// <summary>As in <see cref="SingleShape.TypeColumn"/>.</summary>
    public int? TypeColumn { get; init; }

    public NavigationProperty Navigation => Expand.Navigation;
}

/// <summary>How a contained entity is reached: the container's set, the relation, and the columns that hold the container's key.</summary>
public sealed record ContainerShape(EntitySet Set, NavigationProperty Navigation, ImmutableArray<ShapeCell> Key);

/// <summary>Where in the columns of a result an entity's parts are.</summary>
/// <param name="Key">All key properties, selected or not.</param>
/// <param name="NeedsId">A key property is not among the cells, so the entity must carry its id (Protocol 11.2.5.1).</param>
public sealed record EntityShape(
    EntitySet Set,
    BoundSelect Select,
    ImmutableArray<ShapeCell> Cells,
    ImmutableArray<ShapeCell> Key,
    ImmutableArray<SingleShape> Singles,
    ImmutableArray<ManyShape> Many
)
{
    public bool NeedsId => Key.Any(k => Cells.All(c => c.Property != k.Property));

    public ImmutableArray<RemoteShape> Remotes { get; init; } = [];

    /// <summary>Properties that the request computes.</summary>
    public ImmutableArray<ShapeCell> Computed { get; init; } = [];

    /// <summary>The value that changes with the row; null = there is none.</summary>
    public ShapeCell? Version { get; init; }

    /// <summary>All values of the row, which make its ETag where no single one does; empty = entities have none by this way.</summary>
    public ImmutableArray<ShapeCell> RowState { get; init; } = [];

    /// <summary>Whether the entities have an ETag.</summary>
    public bool HasVersion => Version is not null || !RowState.IsEmpty;

    /// <summary>Derived types, each with the column that is not null when the entity is of it.</summary>
    public ImmutableArray<(DerivedType Type, int Column)> Types { get; init; } = [];

    /// <summary>The column of a type; null = every entity is of it.</summary>
    public int? TypeColumn(DerivedType? type) => type is null ? null : Types.First(t => t.Type == type).Column;

    /// <summary>For a combination of a cross join: the entities that it is made of.</summary>
    public ImmutableArray<(NavigationProperty Navigation, EntityShape Entity)> Joined { get; init; } = [];

    /// <summary>Only a reference to the entity is written.</summary>
    public bool IsReference { get; init; }

    /// <summary>Whether rows of other statements belong to this entity or to one in the same row.</summary>
    public bool HasRows => Many.Any(m => m.Child is not null) || Singles.Any(s => s.Entity.HasRows);

    /// <summary>All relations with a statement of their own, nested ones among them.</summary>
    public IEnumerable<ManyShape> AllMany =>
        Singles.SelectMany(s => s.Entity.AllMany).Concat(Many.SelectMany(m => m.Entity.AllMany.Prepend(m)));

    /// <summary>For a contained entity; null = its set is found by its name.</summary>
    public ContainerShape? Container { get; init; }
}

/// <summary>What the rows of a request's main statement mean.</summary>
/// <param name="Value">For a property: where it is.</param>
/// <param name="OrderColumns">For a collection: the columns of the sort terms, whose values make a next link.</param>
/// <param name="MediaTypeColumn">For a stream whose media type is kept beside it; null = it is the same for all.</param>
public sealed record ResultShape(
    ResourceKind Kind,
    EntityShape Entity,
    ShapeCell? Value,
    ImmutableArray<int> OrderColumns,
    int? MediaTypeColumn = null
)
{
    /// <summary>For a query that gives one row: the column with the number of its rows; null = any number is right.</summary>
    public int? TotalColumn { get; init; }

    /// <summary>For changes: the column that says whether the row is part of the result; null = every row is.</summary>
    public int? MatchColumn { get; init; }
}
