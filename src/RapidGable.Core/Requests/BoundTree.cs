// The bound tree: names have become members of the model, every expression has a type. Literals are still slots, so
// one bound tree serves all requests of a shape.
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <param name="Type">Null only for <see cref="BoundNull"/> and <see cref="BoundRelated"/>.</param>
/// <param name="MayBeNull">Whether the value can be null for some row.</param>
public abstract record BoundExpression(EdmType? Type, bool MayBeNull);

/// <summary>A literal, to be sent as a value of <see cref="BoundExpression.Type"/>.</summary>
/// <param name="Conversion">How it becomes a stored value, when it meets a converted property; null = it is sent as it is.</param>
public sealed record BoundLiteral(int Slot, LiteralKind Kind, EdmType LiteralType, ValueConversion? Conversion = null) : BoundExpression(LiteralType, false);

/// <summary>A boolean property that is stored as something else, as a condition.</summary>
public sealed record BoundTruth(BoundProperty Operand) : BoundExpression(EdmType.Boolean, Operand.MayBeNull);

public sealed record BoundNull() : BoundExpression(null, true);

/// <summary>A property, reached over single-valued navigation when there are hops; null when a hop leads nowhere.</summary>
public sealed record BoundProperty(ImmutableArray<NavigationProperty> Hops, Property Property)
    : BoundExpression(Property.Type, Property.Nullable || Hops.Length > 0)
{
    /// <summary>Whose property it is: empty = the entity that is asked for, else that of a lambda.</summary>
    public string Scope { get; init; } = "";
}

/// <summary>A single-valued navigation itself, which can only be compared with null.</summary>
public sealed record BoundRelated(ImmutableArray<NavigationProperty> Hops, Property TargetKey) : BoundExpression(null, true)
{
    /// <summary>As in <see cref="BoundProperty.Scope"/>.</summary>
    public string Scope { get; init; } = "";
}

/// <summary>A way from the entity of a lambda to a single related one, which its condition needs.</summary>
/// <param name="Path">Names of the steps up to it, joined by slashes; its parent's is the same without the last.</param>
public sealed record LambdaJoin(string ParentPath, string Path, NavigationProperty Navigation, EntitySet Target);

/// <summary>Something of the entities that a relation leads to.</summary>
/// <param name="OuterScope">Scope of the entity that the relation starts from, after <paramref name="Hops"/>.</param>
/// <param name="Scope">Name of the scope of each related entity, unique in the request.</param>
public abstract record BoundOverRelated(
    string OuterScope, ImmutableArray<NavigationProperty> Hops, NavigationProperty Navigation, EntitySet Target, string Scope, EdmType ResultType) : BoundExpression(ResultType, false)
{
    /// <summary>What is asked of each; null = nothing.</summary>
    public BoundExpression? Condition { get; init; }

    public ImmutableArray<LambdaJoin> Joins { get; init; } = [];
}

/// <summary>Whether the condition holds for any, or for all, of them; without one, whether there are some.</summary>
public sealed record BoundLambda(
    string OuterScope, ImmutableArray<NavigationProperty> Hops, NavigationProperty Navigation, EntitySet Target, string Scope, bool IsAll)
    : BoundOverRelated(OuterScope, Hops, Navigation, Target, Scope, EdmType.Boolean);

/// <summary>How many there are.</summary>
public sealed record BoundCount(string OuterScope, ImmutableArray<NavigationProperty> Hops, NavigationProperty Navigation, EntitySet Target, string Scope)
    : BoundOverRelated(OuterScope, Hops, Navigation, Target, Scope, EdmType.Int64);

public sealed record BoundComparison(BinaryOperator Operator, BoundExpression Left, BoundExpression Right) : BoundExpression(EdmType.Boolean, false);

public sealed record BoundLogical(BinaryOperator Operator, BoundExpression Left, BoundExpression Right)
    : BoundExpression(EdmType.Boolean, Left.MayBeNull || Right.MayBeNull);

public sealed record BoundNot(BoundExpression Operand) : BoundExpression(EdmType.Boolean, Operand.MayBeNull);

public sealed record BoundNegation(BoundExpression Operand) : BoundExpression(Operand.Type, Operand.MayBeNull);

public sealed record BoundArithmetic(ArithmeticOperator Operator, BoundExpression Left, BoundExpression Right, EdmType ResultType)
    : BoundExpression(ResultType, Left.MayBeNull || Right.MayBeNull);

public sealed record BoundCall(CanonicalFunction Function, ImmutableArray<BoundExpression> Arguments, EdmType ResultType)
    : BoundExpression(ResultType, Arguments.Any(a => a.MayBeNull));

/// <param name="WithNull">Whether null is among the members.</param>
public sealed record BoundIn(BoundExpression Operand, ImmutableArray<BoundLiteral> Members, bool WithNull) : BoundExpression(EdmType.Boolean, false);

public sealed record BoundOrderTerm(BoundExpression Expression, bool Descending);

/// <summary>The key of one entity: every key property of its set with the literal that was given for it.</summary>
public sealed record BoundKey(ImmutableArray<(Property Property, BoundLiteral Value)> Parts);

/// <summary>A step from one entity over a navigation property, to one member when there is a key.</summary>
public sealed record BoundHop(NavigationProperty Navigation, EntitySet Target, BoundKey? Key);

public enum ResourceKind
{
    ServiceDocument, Metadata, Collection, Entity, PropertyValue, RawValue, Count,
}

/// <summary>What the path addresses.</summary>
/// <param name="Root">The set that the path starts in; null for the documents.</param>
/// <param name="Property">For a property's value.</param>
public sealed record BoundPath(ResourceKind Kind, EntitySet? Root, BoundKey? RootKey, ImmutableArray<BoundHop> Hops, Property? Property)
{
    /// <summary>The complex property that <see cref="Property"/> is a member of; null = none.</summary>
    public Property? Group { get; init; }

    /// <summary>The set whose entities, or whose property, is asked for.</summary>
    public EntitySet Target => Hops.Length > 0 ? Hops[^1].Target : Root!;
}

/// <summary>What of an entity is written.</summary>
/// <param name="Properties">In the order of the type.</param>
/// <param name="IsPartial">A selection was asked for, so that the context URL must name it.</param>
/// <param name="Navigations">Navigation properties that were selected without being expanded: only their links.</param>
public sealed record BoundSelect(ImmutableArray<Property> Properties, bool IsPartial, ImmutableArray<NavigationProperty> Navigations);

public sealed record BoundExpand(NavigationProperty Navigation, EntitySet Target, BoundSelect Select)
{
    public BoundExpression? Filter { get; init; }

    /// <summary>Properties of the related entities themselves.</summary>
    public ImmutableArray<OrderTerm> OrderBy { get; init; } = [];

    /// <summary>Slot of the nested <c>$top</c>; null = not given.</summary>
    public int? Top { get; init; }

    /// <summary>What a link to further related entities repeats.</summary>
    public ImmutableArray<NestedOption> Options { get; init; } = [];

    /// <summary>The asked order, or the set's own, made total by the key.</summary>
    public ImmutableArray<OrderTerm> TotalOrder
    {
        get
        {
            var asked = OrderBy.IsEmpty ? Target.DefaultOrder : OrderBy;
            return [.. asked, .. Target.Type.Key.Where(k => asked.All(o => o.Property != k)).Select(k => new OrderTerm(k, false))];
        }
    }
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

    public ImmutableArray<bool>? SkipTokenNulls { get; init; }

    /// <summary>The asked order with the key at its end, which makes it total, so that pages are exact (Protocol 11.2.6.2, 11.2.6.7).</summary>
    public ImmutableArray<BoundOrderTerm> TotalOrder =>
    [
        .. AskedOrder,
        .. Identity.Where(k => !AskedOrder.Any(o => o.Expression is BoundProperty { Hops.Length: 0 } p && p.Property == k))
            .Select(k => new BoundOrderTerm(new BoundProperty([], k), Descending: false)),
    ];

    private ImmutableArray<BoundOrderTerm> AskedOrder => OrderBy.IsEmpty ? [.. Path.Target.DefaultOrder.Select(o => new BoundOrderTerm(new BoundProperty([], o.Property), o.Descending))] : OrderBy;

    /// <summary>What tells one row from another; rows without a key are told by all that is seen of them, and alike ones are the same.</summary>
    private IEnumerable<Property> Identity => Path.Target.IsUnkeyed ? Path.Target.Type.Properties.SelectMany(p => p.Leaves) : Path.Target.Type.Key;

    /// <summary>Every set that the answer can tell something about.</summary>
    public IEnumerable<EntitySet> TouchedSets(EntityModel model)
    {
        if (Path.Root is { } root)
            yield return root;
        foreach (var hop in Path.Hops)
            yield return hop.Target;
        foreach (var expand in Expand)
            yield return expand.Target;
        var expressions = OrderBy.Select(o => o.Expression).Append(Filter).Concat(Expand.Select(e => e.Filter)).OfType<BoundExpression>().ToList();
        foreach (var hop in expressions.SelectMany(ExpressionPaths.Of).SelectMany(p => p))
            yield return model.Target(hop);
        foreach (var set in expressions.SelectMany(ExpressionPaths.OverRelated).SelectMany(l => l.Joins.Select(j => j.Target).Append(l.Target)))
            yield return set;
    }
}

/// <summary>Finds the navigation that expressions run over.</summary>
public static class ExpressionPaths
{
    /// <summary>The hops of each path from the entity that is asked for, in the order of the text; a path without hops gives an empty one.</summary>
    public static IEnumerable<ImmutableArray<NavigationProperty>> Of(BoundExpression expression) => expression switch
    {
        BoundProperty { Scope: "" } property => [property.Hops],
        BoundRelated { Scope: "" } related => [related.Hops],
        BoundOverRelated over => (over.Condition is null ? [] : Of(over.Condition)).Concat(over.OuterScope.Length == 0 ? [over.Hops] : []),
        BoundComparison comparison => Of(comparison.Left).Concat(Of(comparison.Right)),
        BoundLogical logical => Of(logical.Left).Concat(Of(logical.Right)),
        BoundArithmetic arithmetic => Of(arithmetic.Left).Concat(Of(arithmetic.Right)),
        BoundNot not => Of(not.Operand),
        BoundNegation negation => Of(negation.Operand),
        BoundTruth truth => Of(truth.Operand),
        BoundCall call => call.Arguments.SelectMany(Of),
        BoundIn isIn => Of(isIn.Operand),
        _ => [],
    };

    /// <summary>What an expression asks of related entities, with that inside of others.</summary>
    public static IEnumerable<BoundOverRelated> OverRelated(BoundExpression expression) => expression switch
    {
        BoundOverRelated over => (over.Condition is null ? [] : OverRelated(over.Condition)).Prepend(over),
        BoundComparison comparison => OverRelated(comparison.Left).Concat(OverRelated(comparison.Right)),
        BoundLogical logical => OverRelated(logical.Left).Concat(OverRelated(logical.Right)),
        BoundArithmetic arithmetic => OverRelated(arithmetic.Left).Concat(OverRelated(arithmetic.Right)),
        BoundNot not => OverRelated(not.Operand),
        BoundNegation negation => OverRelated(negation.Operand),
        BoundCall call => call.Arguments.SelectMany(OverRelated),
        BoundIn isIn => OverRelated(isIn.Operand),
        _ => [],
    };
}
