// What a statement says, before any name in it is known. Positions are characters from 0.
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests.Statements;

/// <summary>A name as it is written.</summary>
/// <param name="IsQuoted">It stands in double quotes and means just that name; others match whatever the case of their letters.</param>
public sealed record StatementName(string Text, bool IsQuoted, int Position);

/// <summary>Something with a value. The kinds are those of this file.</summary>
public abstract record TermSyntax(int Position);

/// <summary>A column, or in ORDER BY the name of a column of the result.</summary>
/// <param name="Table">The table or its alias; null = any table.</param>
public sealed record ColumnSyntax(StatementName? Table, StatementName Name) : TermSyntax(Table?.Position ?? Name.Position);

/// <param name="Value">long, decimal, <see cref="LongDecimal"/>, double, string or bool; null = NULL.</param>
public sealed record ValueSyntax(object? Value, int Position) : TermSyntax(Position);

/// <summary>A value with its type before it, such as <c>DATE '2024-05-31'</c>.</summary>
public sealed record TypedValueSyntax(EdmType Type, string Text, int Position) : TermSyntax(Position);

/// <summary><c>:name</c>.</summary>
public sealed record ParameterSyntax(string Name, int Position) : TermSyntax(Position);

/// <summary>Operators between two terms.</summary>
public enum StatementOperator
{
    And,
    Or,
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    Add,
    Subtract,
    Multiply,
    Divide,
    Modulo,
    Concat,
}

/// <param name="Position">That of the operator.</param>
public sealed record OperatorSyntax(StatementOperator Operator, TermSyntax Left, TermSyntax Right, int Position) : TermSyntax(Position);

/// <summary>NOT before a condition.</summary>
public sealed record NotSyntax(TermSyntax Operand, int Position) : TermSyntax(Position);

/// <summary>A minus before a term.</summary>
public sealed record MinusSyntax(TermSyntax Operand, int Position) : TermSyntax(Position);

/// <summary>IS NULL, or IS NOT NULL.</summary>
public sealed record IsNullSyntax(TermSyntax Operand, bool IsNegated, int Position) : TermSyntax(Position);

/// <summary>BETWEEN, both ends included.</summary>
public sealed record BetweenSyntax(TermSyntax Operand, TermSyntax Low, TermSyntax High, bool IsNegated, int Position)
    : TermSyntax(Position);

/// <summary>IN with a list.</summary>
public sealed record InListSyntax(TermSyntax Operand, ImmutableArray<TermSyntax> Members, bool IsNegated, int Position)
    : TermSyntax(Position);

/// <summary>IN with a SELECT.</summary>
public sealed record InSelectSyntax(TermSyntax Operand, SelectSyntax Select, bool IsNegated, int Position) : TermSyntax(Position);

/// <summary>EXISTS.</summary>
public sealed record ExistsSyntax(SelectSyntax Select, int Position) : TermSyntax(Position);

/// <summary>A function or an aggregate.</summary>
/// <param name="IsStar"><c>COUNT(*)</c>.</param>
public sealed record CallSyntax(string Name, ImmutableArray<TermSyntax> Arguments, bool IsStar, bool IsDistinct, int Position)
    : TermSyntax(Position);

/// <param name="Otherwise">Null = NULL.</param>
public sealed record CaseSyntax(ImmutableArray<(TermSyntax When, TermSyntax Then)> Branches, TermSyntax? Otherwise, int Position)
    : TermSyntax(Position);

/// <summary>CAST.</summary>
public sealed record CastSyntax(TermSyntax Operand, EdmType Type, int Position) : TermSyntax(Position);

/// <summary>A column of the result.</summary>
/// <param name="Term">Null = <c>*</c>, of one table or of all.</param>
public sealed record ItemSyntax(TermSyntax? Term, StatementName? Table, StatementName? Alias, int Position);

/// <param name="Name">Of a set.</param>
public sealed record TableSyntax(StatementName Name, StatementName? Alias);

/// <summary>A set with what ties it to those before.</summary>
public sealed record JoinSyntax(TableSyntax Table, TermSyntax On, bool IsOuter);

/// <summary>A term of the order.</summary>
public sealed record OrderSyntax(TermSyntax Term, bool IsDescending);

/// <summary>A SELECT.</summary>
public sealed record SelectSyntax(ImmutableArray<ItemSyntax> Items, TableSyntax From, int Position)
{
    public bool IsDistinct { get; init; }

    public ImmutableArray<JoinSyntax> Joins { get; init; } = [];

    public TermSyntax? Where { get; init; }

    public ImmutableArray<TermSyntax> GroupBy { get; init; } = [];

    public TermSyntax? Having { get; init; }

    public ImmutableArray<OrderSyntax> OrderBy { get; init; } = [];

    /// <summary>A number or a parameter; null = not written.</summary>
    public TermSyntax? Limit { get; init; }

    public TermSyntax? Offset { get; init; }
}
