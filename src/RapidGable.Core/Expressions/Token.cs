using RapidGable.Model;

namespace RapidGable.Expressions;

internal enum TokenKind
{
    End,
    Name,
    Literal,
    Null,
    Symbol,

    /// <summary>A whole search expression.</summary>
    Search,
}

/// <summary>The forms of a literal in a URL (ABNF primitiveLiteral).</summary>
public enum LiteralKind
{
    Boolean,
    Integer,
    Decimal,
    Double,
    String,
    Guid,
    Date,
    TimeOfDay,
    DateTimeOffset,
    Duration,
    Binary,
    Enum,

    /// <summary>Text that takes the type of what it meets: a key as a segment, a string in a JSON array.</summary>
    Text,
}

/// <summary>A literal of an enumeration: its qualified type and its member, by name or number.</summary>
public sealed record EnumLiteral(string Type, string Member);

/// <summary>A literal's value with its place; the plan of a request knows only its slot.</summary>
/// <param name="Value">bool, long, decimal, <see cref="LongDecimal"/>, double, string, Guid, DateOnly, TimeOnly, DateTime (UTC),
/// TimeSpan, byte[] or <see cref="EnumLiteral"/>.</param>
/// <param name="Target">The option or path it stands in.</param>
public sealed record Literal(LiteralKind Kind, object Value, string Target, string Text, int Position);

/// <param name="Slot">For a literal: its number among the literals of the request.</param>
/// <param name="Blank">Whether a blank stands before it.</param>
internal readonly record struct Token(TokenKind Kind, string Text, int Position, bool Blank, int Slot = -1, LiteralKind Literal = default)
{
    public bool Is(char symbol) => Kind == TokenKind.Symbol && Text[0] == symbol;
}
