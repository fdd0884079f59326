// The syntax tree of a request. It knows words and positions, and no model.
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <param name="Position">In characters from the start of the option or segment.</param>
public sealed record NameSyntax(string Text, int Position);

public abstract record ExpressionSyntax(int Position);

/// <summary>A literal by its slot; its value is not part of the tree.</summary>
public sealed record LiteralSyntax(int Slot, LiteralKind Kind, int Position) : ExpressionSyntax(Position);

public sealed record NullSyntax(int Position) : ExpressionSyntax(Position);

public sealed record PathSyntax(ImmutableArray<NameSyntax> Names) : ExpressionSyntax(Names[0].Position);

/// <summary><c>any</c> or <c>all</c> over related entities (URL conventions 5.1.1.13).</summary>
/// <param name="Path">The way to the collection.</param>
/// <param name="Variable">Stands for each of the entities; null for <c>any()</c>.</param>
public sealed record LambdaSyntax(ImmutableArray<NameSyntax> Path, bool IsAll, NameSyntax? Variable, ExpressionSyntax? Condition, int OperatorPosition) : ExpressionSyntax(Path[0].Position);

/// <summary>The number of entities in a collection (URL conventions 4.8).</summary>
public sealed record CountSyntax(ImmutableArray<NameSyntax> Path) : ExpressionSyntax(Path[0].Position);

public enum UnaryOperator
{
    Not, Negate,
}

public sealed record UnarySyntax(UnaryOperator Operator, ExpressionSyntax Operand, int Position) : ExpressionSyntax(Position);

public enum BinaryOperator
{
    Or, And, Eq, Ne, Gt, Ge, Lt, Le, Add, Sub, Mul, Div, DivBy, Mod,
}

/// <param name="OperatorPosition">Where the operator's word stands.</param>
public sealed record BinarySyntax(BinaryOperator Operator, ExpressionSyntax Left, ExpressionSyntax Right, int OperatorPosition)
    : ExpressionSyntax(Left.Position);

public sealed record InSyntax(ExpressionSyntax Operand, ImmutableArray<ExpressionSyntax> Members, int OperatorPosition) : ExpressionSyntax(Operand.Position);

public sealed record CallSyntax(CanonicalFunction Function, string Name, ImmutableArray<ExpressionSyntax> Arguments, int Position) : ExpressionSyntax(Position);

public sealed record OrderTermSyntax(ExpressionSyntax Expression, bool Descending);

/// <param name="All">An asterisk is among the items.</param>
public sealed record SelectSyntax(bool All, ImmutableArray<NameSyntax> Names);

/// <param name="Select">The nested <c>$select</c>; null = none.</param>
public sealed record ExpandItemSyntax(NameSyntax Name, SelectSyntax? Select)
{
    public ExpressionSyntax? Filter { get; init; }

    public ImmutableArray<OrderTermSyntax> OrderBy { get; init; } = [];

    /// <summary>Slot of the nested <c>$top</c>; null = not given.</summary>
    public int? Top { get; init; }

    /// <summary>Where the nested options stand, by their names; links to further related entities repeat them.</summary>
    public ImmutableArray<NestedOption> Options { get; init; } = [];
}

/// <summary>A nested option that a next link repeats: the tokens of its value, from the first to the one behind the last.</summary>
public sealed record NestedOption(string Name, int FirstToken, int EndToken);

/// <param name="Name">Null when the single value stands alone.</param>
public sealed record KeyPartSyntax(NameSyntax? Name, LiteralSyntax Value);

/// <summary>A path segment with a name, and a key predicate if it has one.</summary>
public sealed record SegmentSyntax(string Name, ImmutableArray<KeyPartSyntax>? Key)
{
    public bool IsSystem => Name.StartsWith('$');
}

/// <summary>A parsed request. Slots point into the literals that came with it.</summary>
public sealed record RequestSyntax(ImmutableArray<SegmentSyntax> Path)
{
    public ExpressionSyntax? Filter { get; init; }

    public ImmutableArray<OrderTermSyntax> OrderBy { get; init; } = [];

    public SelectSyntax? Select { get; init; }

    public ImmutableArray<ExpandItemSyntax> Expand { get; init; } = [];

    /// <summary>Slot of <c>$top</c>; null = not given.</summary>
    public int? Top { get; init; }

    public int? Skip { get; init; }

    public bool Count { get; init; }

    /// <summary>For each position value of the <c>$skiptoken</c>, whether it is null; null = no token.</summary>
    public ImmutableArray<bool>? SkipTokenNulls { get; init; }

    /// <summary>The system options that are present, by their canonical names.</summary>
    public ImmutableArray<string> Options { get; init; } = [];

    /// <summary>The decoded texts that positions refer to, by option name.</summary>
    public ImmutableDictionary<string, string> Texts { get; init; } = ImmutableDictionary<string, string>.Empty;
}
