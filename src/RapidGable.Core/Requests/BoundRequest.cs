using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>What a path addresses.</summary>
public enum ResourceKind
{
    ServiceDocument,
    Metadata,
    Collection,
    Entity,
    PropertyValue,
    RawValue,
    Count,

    /// <summary>How many values a collection property holds.</summary>
    ValueCount,
}

/// <summary>What of an entity is written.</summary>
/// <param name="Properties">In the order of the type; a complex one with the chosen members.</param>
/// <param name="IsPartial">A selection was asked for, so that the context URL must name it.</param>
/// <param name="Navigations">Navigation properties that were selected without being expanded: only their links.</param>
public sealed record BoundSelect(ImmutableArray<Property> Properties, bool IsPartial, ImmutableArray<NavigationProperty> Navigations)
{
    /// <summary>Nothing of it.</summary>
    public static BoundSelect Nothing { get; } = new([], false, []);

    public ImmutableArray<BoundComputed> Computed { get; init; } = [];

    /// <summary>Of entities of derived types: what is written of what these add.</summary>
    public ImmutableArray<(DerivedType Type, ImmutableArray<Property> Properties)> Derived { get; init; } = [];

    /// <summary>As the context URL lists them.</summary>
    public ImmutableArray<string> Paths { get; init; } = [];
}

/// <summary>Related entities, as they are to be written below each entity.</summary>
public sealed record BoundExpand(NavigationProperty Navigation, EntitySet Target, BoundSelect Select)
{
    public ExpandKind Kind { get; init; }

    /// <summary>Only entities of this type have them; null = all.</summary>
    public DerivedType? Cast { get; init; }

    /// <summary>Whether something of it is about the entity of the request's own rows, <c>$it</c>.</summary>
    public bool NeedsRoot =>
        new[] { Filter, Count?.Condition }
            .OfType<BoundExpression>()
            .Concat(OrderBy.Select(o => o.Expression))
            .Concat(Select.Computed.Select(c => c.Expression))
            .SelectMany(ExpressionPaths.All)
            .Any(e => e is BoundRootValue { Key: null });

    public BoundExpression? Filter { get; init; }

    /// <summary>The number of related entities that fulfil the filter; null = not asked for.</summary>
    public BoundCount? Count { get; init; }

    /// <summary>The asked order, without the key that makes it total.</summary>
    public ImmutableArray<BoundOrderTerm> OrderBy { get; init; } = [];

    public ImmutableArray<BoundExpand> Expand { get; init; } = [];

    /// <summary>Slot of the nested <c>$top</c>; null = not given.</summary>
    public int? Top { get; init; }

    public int? Skip { get; init; }

    /// <summary>What a link to further related entities repeats.</summary>
    public ImmutableArray<NestedOption> Options { get; init; } = [];

    /// <summary>How often the relation is followed from here on; 1 = no more than this once.</summary>
    public int Levels { get; init; } = 1;

    /// <summary>The asked order, or the set's own, made total by the key.</summary>
    public ImmutableArray<BoundOrderTerm> TotalOrder =>
        Navigation.IsCollection || Navigation.IsRemote ? TotalOrders.Of(Target, OrderBy) : [];

    /// <summary>This and all below it.</summary>
    public IEnumerable<BoundExpand> WithNested => Expand.SelectMany(e => e.WithNested).Prepend(this);
}

/// <summary>Orders with the key at their end, which makes them total, so that pages are exact (Protocol 11.2.6.2, 11.2.6.7).</summary>
internal static class TotalOrders
{
    public static ImmutableArray<BoundOrderTerm> Of(EntitySet set, ImmutableArray<BoundOrderTerm> asked)
    {
        if (asked.IsEmpty)
            asked = [.. set.DefaultOrder.Select(o => new BoundOrderTerm(new BoundProperty([], o.Property), o.Descending))];
        return
        [
            .. asked,
            .. Identity(set)
                .Where(k => !asked.Any(o => o.Expression is BoundProperty { Hops.Length: 0, Scope: "" } p && p.Property == k))
                .Select(k => new BoundOrderTerm(new BoundProperty([], k), Descending: false)),
        ];
    }

    /// <summary>
    /// What tells one row from another; rows without a key are told by all that is seen of them, and alike ones are the same.
    /// </summary>
    private static IEnumerable<Property> Identity(EntitySet set) =>
        set.IsUnkeyed ? set.Type.Properties.SelectMany(p => p.Leaves).Where(p => !p.Type.IsCollection) : set.Type.Key;
}

/// <summary>A request whose every name is resolved and whose every type is checked.</summary>
public sealed record BoundRequest(BoundPath Path, BoundSelect? Select)
{
    public BoundExpression? Filter { get; init; }

    public ImmutableArray<BoundOrderTerm> OrderBy { get; init; } = [];

    public ImmutableArray<BoundExpand> Expand { get; init; } = [];

    public int? Top { get; init; }

    public int? Skip { get; init; }

    public bool Count { get; init; }

    public ImmutableArray<bool>? PositionNulls { get; init; }

    public BoundApply? Apply { get; init; }

    /// <summary>Only what has changed is asked for; the filter tells what has left the result.</summary>
    public bool IsDelta { get; init; }

    /// <summary>Whether the changes of the result can be followed.</summary>
    public bool CanTrack =>
        Path is { Kind: ResourceKind.Collection, Hops.IsEmpty: true, IsReference: false, IsCrossJoin: false, IsOfFunction: false }
        && Apply is null
        && Target.Changes is not null
        && Expand.IsEmpty
        && Top is null
        && Skip is null
        && OrderBy.IsEmpty;

    /// <summary>The rows that the other options are about: those of the path, or what <c>$apply</c> made of them.</summary>
    public EntitySet Target => Apply?.Result ?? Path.Target;

    /// <summary>The asked order, made total.</summary>
    public ImmutableArray<BoundOrderTerm> TotalOrder => TotalOrders.Of(Target, OrderBy);

    /// <summary>All expanded relations, nested ones among them.</summary>
    public IEnumerable<BoundExpand> AllExpands => Expand.SelectMany(e => e.WithNested);

    /// <summary>Every expression of it, wherever it stands.</summary>
    internal IEnumerable<BoundExpression> Expressions =>
        new[]
        {
            Path.Hops.SelectMany(h => h.Before),
            Path.Filters,
            [Filter],
            OrderBy.Select(o => o.Expression),
            Select?.Computed.Select(c => c.Expression) ?? [],
            Apply?.Stages.SelectMany(s => s.Expressions) ?? [],
            AllExpands.SelectMany(e =>
                e.OrderBy.Select(o => o.Expression).Append(e.Filter).Append(e.Count).Concat(e.Select.Computed.Select(c => c.Expression))
            ),
        }
            .SelectMany(e => e)
            .OfType<BoundExpression>();

    /// <summary>Every set that the answer can tell something about.</summary>
    public IEnumerable<EntitySet> TouchedSets(EntityModel model)
    {
        if (Path.Root is { } root)
            yield return root;
        if (Path.BoundEntity is { Root: { } asked })
            yield return asked;
        foreach (var hop in Path.Hops)
            yield return hop.Target;
        foreach (var joined in Path is { IsCrossJoin: true, Root: { } combined } ? combined.Type.Navigations : [])
            yield return model.Target(joined);
        foreach (var expand in AllExpands)
            yield return expand.Target;
        foreach (var set in Expressions.SelectMany(e => ExpressionPaths.Sets(e, model)))
            yield return set;
    }
}
