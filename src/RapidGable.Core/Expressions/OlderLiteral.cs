using System.Globalization;

namespace RapidGable.Expressions;

/// <summary>
/// Literals in the forms of OData 2 and 3, which clients of several versions send whatever answers: they are understood where they
/// can mean one thing only.
/// </summary>
internal static class OlderLiteral
{
    /// <summary>
    /// A number with the letter of its type at the end: <c>1L</c>, <c>200m</c>, <c>2.5d</c>, <c>1f</c>; null when it is none.
    /// </summary>
    /// <param name="classify">Reads a number without a letter.</param>
    public static (LiteralKind Kind, object Value)? Number(string word, Func<string, (LiteralKind Kind, object Value)?> classify)
    {
        if (word.Length < 2 || classify(word[..^1]) is not { Kind: LiteralKind.Integer or LiteralKind.Decimal or LiteralKind.Double } plain)
            return null;
        return char.ToUpperInvariant(word[^1]) switch
        {
            'L' when plain.Kind == LiteralKind.Integer => plain,
            'M' when plain.Kind != LiteralKind.Double => plain,
            'D' or 'F' => plain.Value switch
            {
                long whole => (LiteralKind.Double, (double)whole),
                decimal number => (LiteralKind.Double, Model.StoredValue.Nearest(number)),
                _ => plain,
            },
            _ => null,
        };
    }

    /// <summary>A quoted value behind the name of its type; null when it is none.</summary>
    /// <param name="word">guid, datetime, datetimeoffset, time or x.</param>
    public static (LiteralKind Kind, object Value)? Read(string word, string content)
    {
        switch (word)
        {
            case "guid" when Guid.TryParseExact(content, "D", out var guid):
                return (LiteralKind.Guid, guid);
            // Without a zone it is in UTC, as the values of such columns are.
            case "datetime" or "datetimeoffset" when Instant(content) is { } instant:
                return (LiteralKind.DateTimeOffset, instant);
            case "time" when Lexer.TryDuration(content, out var duration) && duration >= TimeSpan.Zero && duration < TimeSpan.FromDays(1):
                return (LiteralKind.TimeOfDay, TimeOnly.FromTimeSpan(duration));
            case "time" when TimeOnly.TryParse(content, CultureInfo.InvariantCulture, out var time):
                return (LiteralKind.TimeOfDay, time);
            case "x" when content.Length % 2 == 0 && !content.AsSpan().ContainsAnyExcept("0123456789abcdefABCDEF"):
                return (LiteralKind.Binary, Convert.FromHexString(content));
            default:
                return null;
        }
    }

    private static DateTime? Instant(string text)
    {
        var hasZone = text.EndsWith('Z') || (text.Length > 16 && text.AsSpan(16).IndexOfAny('+', '-') >= 0);
        return text.Length >= 16 && Lexer.TryInstant(hasZone ? text : text + "Z", out var instant) ? instant : null;
    }
}
