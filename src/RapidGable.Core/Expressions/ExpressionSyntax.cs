// The syntax tree of a request. It knows words and positions, and no model.
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <param name="Position">In characters from the start of the option or segment.</param>
public sealed record NameSyntax(string Text, int Position);

/// <summary>An expression as it is written.</summary>
public abstract record ExpressionSyntax(int Position);

/// <summary>A literal by its slot; its value is not part of the tree.</summary>
public sealed record LiteralSyntax(int Slot, LiteralKind Kind, int Position) : ExpressionSyntax(Position);

/// <summary>The literal null.</summary>
public sealed record NullSyntax(int Position) : ExpressionSyntax(Position);

/// <summary>Names joined by slashes.</summary>
public sealed record PathSyntax(ImmutableArray<NameSyntax> Names) : ExpressionSyntax(Names[0].Position);

/// <summary><c>any</c> or <c>all</c> over related entities (URL conventions 5.1.1.13).</summary>
/// <param name="Path">The way to the collection.</param>
/// <param name="Variable">Stands for each of the entities; null for <c>any()</c>.</param>
public sealed record LambdaSyntax(
    ImmutableArray<NameSyntax> Path,
    bool IsAll,
    NameSyntax? Variable,
    ExpressionSyntax? Condition,
    int OperatorPosition
) : ExpressionSyntax(Path[0].Position);

/// <summary>The number of entities in a collection (URL conventions 4.8).</summary>
/// <param name="Filter">Which of them count; null = all.</param>
public sealed record CountSyntax(ImmutableArray<NameSyntax> Path, ExpressionSyntax? Filter, SearchSyntax? Search)
    : ExpressionSyntax(Path[0].Position);

/// <summary>An attribute of the caller.</summary>
/// <param name="Slot">Of the literal that stands for it.</param>
public sealed record AttributeSyntax(int Slot, int Position) : ExpressionSyntax(Position);

/// <summary>A parameter alias with the expression that stands for it (URL conventions 5.3).</summary>
/// <param name="Text">The alias's value, in which the expression's positions count.</param>
public sealed record AliasSyntax(string Name, ExpressionSyntax Value, string Text, int Position) : ExpressionSyntax(Position);

/// <summary><c>cast</c> or <c>isof</c> (URL conventions 5.1.1.10).</summary>
/// <param name="Operand">Null = the current instance.</param>
public sealed record TypeCallSyntax(bool IsTest, ExpressionSyntax? Operand, NameSyntax Type, int Position) : ExpressionSyntax(Position);

/// <summary><c>case</c>: the value of the first condition that holds (URL conventions 5.1.1.11).</summary>
public sealed record CaseSyntax(ImmutableArray<(ExpressionSyntax Condition, ExpressionSyntax Value)> Branches, int Position)
    : ExpressionSyntax(Position);

/// <summary>A value of another resource of the service, after <c>$root</c> (URL conventions 5.1.1.14.2).</summary>
public sealed record RootSyntax(NameSyntax Set, ImmutableArray<KeyPartSyntax> Key, ImmutableArray<NameSyntax> Path, int Position)
    : ExpressionSyntax(Position);

/// <summary>The operators before one operand.</summary>
public enum UnaryOperator
{
    Not,
    Negate,
}

/// <summary>An operator with its one operand.</summary>
public sealed record UnarySyntax(UnaryOperator Operator, ExpressionSyntax Operand, int Position) : ExpressionSyntax(Position);

/// <summary>The operators between two operands (URL conventions 5.1.1).</summary>
public enum BinaryOperator
{
    Or,
    And,
    Eq,
    Ne,
    Gt,
    Ge,
    Lt,
    Le,
    Add,
    Sub,
    Mul,
    Div,
    DivBy,
    Mod,
    Has,
}

/// <param name="OperatorPosition">Where the operator's word stands.</param>
public sealed record BinarySyntax(BinaryOperator Operator, ExpressionSyntax Left, ExpressionSyntax Right, int OperatorPosition)
    : ExpressionSyntax(Left.Position);

/// <summary>A value that is one of a list (URL conventions 5.1.1.1.12).</summary>
public sealed record InSyntax(ExpressionSyntax Operand, ImmutableArray<ExpressionSyntax> Members, int OperatorPosition)
    : ExpressionSyntax(Operand.Position)
{
    /// <summary>The collection property that stands instead of a list; null = a list.</summary>
    public PathSyntax? Collection { get; init; }
}

/// <summary>A call of a canonical function.</summary>
public sealed record CallSyntax(CanonicalFunction Function, string Name, ImmutableArray<ExpressionSyntax> Arguments, int Position)
    : ExpressionSyntax(Position);

/// <summary>A value that a property is held against: alone, or as one end of a range.</summary>
/// <param name="Slot">Of its text, which takes the type of the property.</param>
/// <param name="Day">
/// For a text in the form of a date: the slot of the date itself, which the next day's follows; a point in time is held against the whole
/// day. Null = it has another form.
/// </param>
public sealed record MatchValueSyntax(int Slot, int? Day);

/// <summary>What a property's value may be.</summary>
public abstract record MatchTermSyntax;

/// <summary>It is null.</summary>
public sealed record MatchNullSyntax : MatchTermSyntax;

/// <summary>It is this value.</summary>
public sealed record MatchEqualSyntax(MatchValueSyntax Value) : MatchTermSyntax;

/// <summary>It is between two values, which belong to the range.</summary>
/// <param name="From">Null = no lower end.</param>
/// <param name="To">Null = no upper end.</param>
public sealed record MatchRangeSyntax(MatchValueSyntax? From, MatchValueSyntax? To) : MatchTermSyntax;

/// <summary>It is a text that has another at its start, at its end, or somewhere.</summary>
public sealed record MatchPartSyntax(CanonicalFunction Function, int Slot) : MatchTermSyntax;

/// <summary>A property that is held against values, as a query parameter of its name does: one of the terms holds, or none.</summary>
/// <param name="Parameter">The parameter's name as it was written.</param>
/// <param name="Text">The parameter's value.</param>
/// <param name="IsNegated">None of the terms holds.</param>
/// <param name="OtherNames">What else may stand where the first name of the path does.</param>
public sealed record MatchSyntax(
    PathSyntax Path,
    ImmutableArray<MatchTermSyntax> Terms,
    bool IsNegated,
    string Parameter,
    string Text,
    ImmutableArray<string> OtherNames
) : ExpressionSyntax(0);

/// <summary>One term of <c>$orderby</c> as it is written.</summary>
public sealed record OrderTermSyntax(ExpressionSyntax Expression, bool Descending);

/// <summary>What a search looks for (URL conventions 5.1.8).</summary>
public abstract record SearchSyntax;

/// <summary>A word or phrase: a slot, or the text itself where it is part of the shape.</summary>
public sealed record SearchTermSyntax(int? Slot, string? Text) : SearchSyntax;

/// <summary>A search expression that must not be found.</summary>
public sealed record SearchNotSyntax(SearchSyntax Operand) : SearchSyntax;

/// <summary>Two search expressions joined by AND or OR.</summary>
public sealed record SearchPairSyntax(bool IsAnd, SearchSyntax Left, SearchSyntax Right) : SearchSyntax;

/// <param name="Name">Null when the single value stands alone.</param>
public sealed record KeyPartSyntax(NameSyntax? Name, LiteralSyntax Value);

/// <summary><c>expression as Name</c> (URL conventions 5.1.9).</summary>
public sealed record ComputeItemSyntax(ExpressionSyntax Expression, NameSyntax Alias);
