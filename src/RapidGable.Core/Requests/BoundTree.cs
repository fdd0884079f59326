// The bound tree: names have become members of the model, every expression has a type. Literals are still slots, so
// one bound tree serves all requests of a shape.
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <param name="Type">Null only for <see cref="BoundNull"/> and <see cref="BoundRelated"/>.</param>
/// <param name="MayBeNull">Whether the value can be null for some row.</param>
public abstract record BoundExpression(EdmType? Type, bool MayBeNull)
{
    /// <summary>What it is made of, in the order of the text.</summary>
    internal virtual IEnumerable<BoundExpression> Operands => [];
}

/// <summary>A literal, to be sent as a value of <see cref="BoundExpression.Type"/>.</summary>
/// <param name="Conversion">How it becomes a stored value, when it meets a converted property; null = it is sent as it is.</param>
public sealed record BoundLiteral(int Slot, LiteralKind Kind, EdmType LiteralType, ValueConversion? Conversion = null)
    : BoundExpression(LiteralType, false);

/// <summary>A boolean property that is stored as something else, as a condition.</summary>
public sealed record BoundTruth(BoundProperty Operand) : BoundExpression(EdmType.Boolean, Operand.MayBeNull)
{
    internal override IEnumerable<BoundExpression> Operands => [Operand];
}

/// <summary>The literal null.</summary>
public sealed record BoundNull() : BoundExpression(null, true);

/// <summary>A property, reached over single-valued navigation when there are hops; null when a hop leads nowhere.</summary>
public sealed record BoundProperty(ImmutableArray<NavigationProperty> Hops, Property Property)
    : BoundExpression(Property.Type, Property.Nullable || Hops.Length > 0)
{
    /// <summary>The names by which a path led here, for groups.</summary>
    internal string[] PathNames { get; init; } = [];

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
    string OuterScope,
    ImmutableArray<NavigationProperty> Hops,
    NavigationProperty Navigation,
    EntitySet Target,
    string Scope,
    EdmType ResultType
) : BoundExpression(ResultType, false)
{
    /// <summary>What is asked of each; null = nothing.</summary>
    public BoundExpression? Condition { get; init; }

    internal override IEnumerable<BoundExpression> Operands => Condition is null ? [] : [Condition];

    public ImmutableArray<LambdaJoin> Joins { get; init; } = [];
}

/// <summary>Whether the condition holds for any, or for all, of them; without one, whether there are some.</summary>
public sealed record BoundLambda(
    string OuterScope,
    ImmutableArray<NavigationProperty> Hops,
    NavigationProperty Navigation,
    EntitySet Target,
    string Scope,
    bool IsAll
) : BoundOverRelated(OuterScope, Hops, Navigation, Target, Scope, EdmType.Boolean);

/// <summary>How many there are.</summary>
public sealed record BoundCount(
    string OuterScope,
    ImmutableArray<NavigationProperty> Hops,
    NavigationProperty Navigation,
    EntitySet Target,
    string Scope
) : BoundOverRelated(OuterScope, Hops, Navigation, Target, Scope, EdmType.Int64);

/// <summary>A comparison; one with null is a test for it.</summary>
public sealed record BoundComparison(BinaryOperator Operator, BoundExpression Left, BoundExpression Right)
    : BoundExpression(EdmType.Boolean, false)
{
    internal override IEnumerable<BoundExpression> Operands => [Left, Right];
}

/// <summary>Two conditions joined by and, or.</summary>
public sealed record BoundLogical(BinaryOperator Operator, BoundExpression Left, BoundExpression Right)
    : BoundExpression(EdmType.Boolean, Left.MayBeNull || Right.MayBeNull)
{
    internal override IEnumerable<BoundExpression> Operands => [Left, Right];
}

/// <summary>The opposite of a condition.</summary>
public sealed record BoundNot(BoundExpression Operand) : BoundExpression(EdmType.Boolean, Operand.MayBeNull)
{
    internal override IEnumerable<BoundExpression> Operands => [Operand];
}

/// <summary>The negative of a number or a duration.</summary>
public sealed record BoundNegation(BoundExpression Operand) : BoundExpression(Operand.Type, Operand.MayBeNull)
{
    internal override IEnumerable<BoundExpression> Operands => [Operand];
}

/// <summary>A computation with two operands.</summary>
public sealed record BoundArithmetic(ArithmeticOperator Operator, BoundExpression Left, BoundExpression Right, EdmType ResultType)
    : BoundExpression(ResultType, Left.MayBeNull || Right.MayBeNull)
{
    internal override IEnumerable<BoundExpression> Operands => [Left, Right];
}

/// <summary>A call of a canonical function.</summary>
public sealed record BoundCall(CanonicalFunction Function, ImmutableArray<BoundExpression> Arguments, EdmType ResultType)
    : BoundExpression(ResultType, Arguments.Any(a => a.MayBeNull) || IsStoredPart(Arguments))
{
    internal override IEnumerable<BoundExpression> Operands => Arguments;

    /// <summary>Where a part of a date is read from the text that stands for the date; null = it is not.</summary>
    internal TextPart? StoredPart =>
        Arguments is [BoundProperty { Property.Conversion: FormatConversion format }] ? format.Part(Function) : null;

    // A text that does not have the format has no parts.
    private static bool IsStoredPart(ImmutableArray<BoundExpression> arguments) =>
        arguments is [BoundProperty { Property.Conversion: FormatConversion }];
}

/// <param name="WithNull">Whether null is among the members.</param>
public sealed record BoundIn(BoundExpression Operand, ImmutableArray<BoundLiteral> Members, bool WithNull)
    : BoundExpression(EdmType.Boolean, false)
{
    internal override IEnumerable<BoundExpression> Operands => [Operand];
}

/// <summary>A value that is part of the request's shape: bool, string, DateTime in UTC.</summary>
public sealed record BoundConstant(object Value, EdmType ConstantType) : BoundExpression(ConstantType, false);

/// <summary>The value of the first condition that is true; null when there is none.</summary>
public sealed record BoundCase(ImmutableArray<(BoundExpression Condition, BoundExpression Value)> Branches, EdmType ResultType)
    : BoundExpression(ResultType, true)
{
    internal override IEnumerable<BoundExpression> Operands => Branches.SelectMany(b => new[] { b.Condition, b.Value });
}

/// <summary>A value as another type; null where it cannot be that.</summary>
public sealed record BoundCast(BoundExpression Operand, EdmType To) : BoundExpression(To, true)
{
    internal override IEnumerable<BoundExpression> Operands => [Operand];
}

/// <summary>Whether one of some text properties holds a word or phrase, in whatever case.</summary>
public sealed record BoundSearchTerm(ImmutableArray<BoundExpression> Texts, BoundExpression Term) : BoundExpression(EdmType.Boolean, false)
{
    /// <summary>The set whose full-text index is asked instead, for the entity of a scope; <see cref="Texts"/> are then its key.</summary>
    public EntitySet? Indexed { get; init; }

    internal override IEnumerable<BoundExpression> Operands => Texts;
}

/// <summary>A value of one entity of any set, or of one related to it; null when there is no such entity.</summary>
/// <param name="Key">Null = the entity of the request's own rows that the current one is nested in.</param>
/// <param name="Hops">Single steps from that entity, with where each leads.</param>
public sealed record BoundRootValue(
    EntitySet Set,
    BoundKey? Key,
    ImmutableArray<(NavigationProperty Navigation, EntitySet Target)> Hops,
    Property Property
) : BoundExpression(Property.Type, true);

/// <summary>One of the values of a collection property, inside of a condition over them.</summary>
public sealed record BoundItem(string Scope, EdmType ItemType) : BoundExpression(ItemType, true);

/// <summary>Whether a condition holds for any, or for all, values of a collection property, or how many there are.</summary>
/// <param name="Values">The property.</param>
public sealed record BoundOverValues(BoundProperty Values, string Scope, OverValues Asked, BoundExpression? Condition)
    : BoundExpression(Asked == OverValues.Count ? EdmType.Int64 : EdmType.Boolean, false)
{
    internal override IEnumerable<BoundExpression> Operands => Condition is null ? [Values] : [Values, Condition];
}

/// <summary>What is asked of the values of a collection property.</summary>
public enum OverValues
{
    Any,
    All,
    Count,
}

/// <summary>One term of <c>$orderby</c>.</summary>
public sealed record BoundOrderTerm(BoundExpression Expression, bool Descending);

/// <summary>The key of one entity: every key property of its set with the literal that was given for it.</summary>
public sealed record BoundKey(ImmutableArray<(Property Property, BoundLiteral Value)> Parts);

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

/// <summary>A property that a request computes.</summary>
/// <param name="Property">Its name and type; it has no column.</param>
public sealed record BoundComputed(Property Property, BoundExpression Expression);

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

    public ImmutableArray<bool>? SkipTokenNulls { get; init; }

    public BoundApply? Apply { get; init; }

    /// <summary>Only what has changed is asked for; the filter tells what has left the result.</summary>
    public bool IsDelta { get; init; }

    /// <summary>Whether the changes of the result can be followed.</summary>
    public bool CanTrack =>
        Path is { Kind: ResourceKind.Collection, Hops.IsEmpty: true, IsReference: false, IsCrossJoin: false }
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

/// <summary>Finds the navigation that expressions run over.</summary>
public static class ExpressionPaths
{
    /// <summary>The expression and all that it is made of.</summary>
    public static IEnumerable<BoundExpression> All(BoundExpression expression) => expression.Operands.SelectMany(All).Prepend(expression);

    /// <summary>The hops of each path from the entity that is asked for; a path without hops gives an empty one.</summary>
    public static IEnumerable<ImmutableArray<NavigationProperty>> Of(BoundExpression expression) => All(expression).SelectMany(Own);

    private static IEnumerable<ImmutableArray<NavigationProperty>> Own(BoundExpression expression) =>
        expression switch
        {
            BoundProperty { Scope: "" } property => [property.Hops],
            BoundRelated { Scope: "" } related => [related.Hops],
            BoundOverRelated { OuterScope: "" } over => [over.Hops],
            _ => [],
        };

    /// <summary>Every set that an expression reaches.</summary>
    public static IEnumerable<EntitySet> Sets(BoundExpression expression, EntityModel model) =>
        All(expression)
            .SelectMany(e =>
                e switch
                {
                    BoundProperty property => property.Hops.Select(model.Target),
                    BoundRelated related => related.Hops.Select(model.Target),
                    BoundOverRelated over => over.Hops.Select(model.Target).Concat(over.Joins.Select(j => j.Target)).Append(over.Target),
                    BoundRootValue root => root.Hops.Select(h => h.Target).Prepend(root.Set),
                    _ => [],
                }
            );
}
