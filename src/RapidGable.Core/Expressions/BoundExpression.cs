// The bound tree: names have become members of the model, every expression has a type. Literals are still slots, so
// one bound tree serves all requests of a shape.
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

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

/// <summary>Whether the entity is among those that a query names by their keys.</summary>
/// <param name="Rows">The query.</param>
/// <param name="Key">The key of the entity, with the columns of the query that hold the same.</param>
public sealed record BoundAmong(QuerySource Rows, ImmutableArray<(BoundProperty Own, string Column)> Key)
    : BoundExpression(EdmType.Boolean, false)
{
    internal override IEnumerable<BoundExpression> Operands => Key.Select(k => k.Own);
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

/// <summary>A property that a request computes.</summary>
/// <param name="Property">Its name and type; it has no column.</param>
public sealed record BoundComputed(Property Property, BoundExpression Expression);
