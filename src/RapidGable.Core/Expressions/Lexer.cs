using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Xml;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>
/// Text -> tokens, for path segments and for options. Literals go into one list that the whole request shares, and
/// what is left of the text with each literal replaced by its kind is the request's shape.
/// </summary>
internal sealed class Lexer(string text, string target, List<Literal> literals, StringBuilder shape)
{
    private int _position;

    public List<Token> Read()
    {
        var tokens = new List<Token>();
        var words = 0;
        while (true)
        {
            var start = _position;
            while (_position < text.Length && text[_position] is ' ' or '\t')
                _position++;
            var blank = _position > start;
            if (_position == text.Length)
            {
                tokens.Add(new Token(TokenKind.End, "", _position, blank));
                return tokens;
            }
            var token = (Search(tokens) ?? Next()) with { Blank = blank };
            if (blank)
                shape.Append(' ');
            // Truths and levels decide which statements run, so their values belong to the shape.
            if (token.Kind == TokenKind.Literal && token.Literal != LiteralKind.Boolean && !IsLevels(tokens))
                shape.Append('\u0001').Append((char)('A' + (int)token.Literal));
            else
                shape.Append(token.Text);
            tokens.Add(token);
            // The members of a list have a limit of their own.
            if (token.Kind != TokenKind.Literal && !token.Is(','))
                words++;
            if (words > Limits.ExpressionNodes * 2 || tokens.Count > Limits.InMembers * 3)
                throw Fault("too-large", $"{Subject} has more than {Limits.ExpressionNodes * 2} words and signs.", _position);
        }
    }

    /// <summary>Reads the values of a JSON array as a list in parentheses.</summary>
    public List<Token> ReadArray()
    {
        var tokens = new List<Token> { new(TokenKind.Symbol, "(", 0, false) };
        shape.Append('(');
        foreach (var value in JsonItems())
        {
            if (tokens.Count > 1)
                tokens.Add(new Token(TokenKind.Symbol, ",", 0, false));
            if (tokens.Count > Limits.InMembers * 2)
                throw Fault("too-large", $"The array has more than {Limits.InMembers} members.", 0);
            if (value is null)
                tokens.Add(new Token(TokenKind.Null, "null", 0, false));
            else
            {
                var (kind, item) =
                    value is string plain ? (LiteralKind.Text, plain)
                    : value is bool flag ? (LiteralKind.Boolean, flag)
                    : Classify(((JsonElement)value).GetRawText()) ?? throw Fault("literal", $"{value} is too large a number.", 0);
                literals.Add(new Literal(kind, item, target, text, 0));
                tokens.Add(new Token(TokenKind.Literal, value.ToString()!, 0, false, literals.Count - 1, kind));
            }
            shape.Append(tokens[^1].Kind == TokenKind.Null ? "null" : $"\u0001{(char)('A' + (int)tokens[^1].Literal)}").Append(',');
        }
        tokens.Add(new Token(TokenKind.Symbol, ")", text.Length, false));
        tokens.Add(new Token(TokenKind.End, "", text.Length, false));
        return tokens;
    }

    private List<object?> JsonItems()
    {
        try
        {
            using var json = JsonDocument.Parse(text);
            return
            [
                .. json
                    .RootElement.EnumerateArray()
                    .Select(
                        object? (e) =>
                            e.ValueKind switch
                            {
                                JsonValueKind.Null => null,
                                JsonValueKind.String => e.GetString()!,
                                JsonValueKind.True or JsonValueKind.False => e.GetBoolean(),
                                JsonValueKind.Number => e.Clone(),
                                _ => throw new FaultException(
                                    RequestFault.NotImplemented("Objects and arrays inside of an array are not supported.", target, text, 0)
                                ),
                            }
                    ),
            ];
        }
        catch (JsonException)
        {
            throw Fault("literal", $"{target} is not a JSON array.", 0);
        }
    }

    private bool IsLevels(List<Token> tokens) => tokens.Count >= 2 && tokens[^1].Is('=') && IsOption(tokens[^2], "levels");

    private static bool IsOption(Token token, string name) =>
        token.Kind == TokenKind.Name && token.Text.TrimStart('$').Equals(name, StringComparison.OrdinalIgnoreCase);

    /// <summary>A search inside of another option, up to its end, as one token.</summary>
    private Token? Search(List<Token> tokens)
    {
        // The option of a nested relation or of $count, and the transformation.
        if (tokens.Count < 2 || !(tokens[^1].Is('=') || (target == "$apply" && tokens[^1].Is('('))) || !IsOption(tokens[^2], "search"))
            return null;
        var (start, depth, quoted) = (_position, 0, false);
        for (; _position < text.Length; _position++)
        {
            var c = text[_position];
            if (quoted && c == '\\')
                _position++;
            else if (c == '"')
                quoted = !quoted;
            else if (!quoted && c == '(')
                depth++;
            else if (!quoted && ((c == ')' && depth-- == 0) || (c == ';' && depth == 0)))
                break;
        }
        _position = Math.Min(_position, text.Length);
        return new Token(TokenKind.Search, text[start.._position], start, false);
    }

    private string Subject => target.StartsWith('$') ? target : "The path";

    private Token Next()
    {
        var c = text[_position];
        if (c == '\'')
            return QuotedString();
        if (char.IsAsciiHexDigit(c) && TryGuid(out var guid))
            return Add(LiteralKind.Guid, guid, 36);
        if (char.IsAsciiDigit(c) || (c == '-' && _position + 1 < text.Length && char.IsAsciiDigit(text[_position + 1])))
            return NumberOrTime();
        if (c == '-' && At(_position + 1, "INF") && !IsNamePart(_position + 4))
            return Add(LiteralKind.Double, double.NegativeInfinity, 4);
        if (IsNameStart(c))
            return Word();
        if (c is '(' or ')' or ',' or '/' or '=' or ';' or ':' or '*' or '-' or '@')
            return new Token(TokenKind.Symbol, c.ToString(), _position++, false);
        throw Fault("syntax", $"'{Shown(_position)}' cannot stand at position {_position} of {target}.", _position);
    }

    private Token Word()
    {
        var start = _position++;
        while (
            _position < text.Length
            && (IsNamePart(_position) || (text[_position] == '.' && _position + 1 < text.Length && IsNameStart(text[_position + 1])))
        )
            _position++;
        var word = text[start.._position];
        if (_position < text.Length && text[_position] == '\'')
            return Prefixed(word, start);
        _position = start;
        switch (word)
        {
            case "true" or "false":
                return Add(LiteralKind.Boolean, word == "true", word.Length);
            case "INF" or "NaN":
                return Add(LiteralKind.Double, word == "INF" ? double.PositiveInfinity : double.NaN, word.Length);
        }
        _position += word.Length;
        return new Token(word == "null" ? TokenKind.Null : TokenKind.Name, word, start, false);
    }

    private Token Prefixed(string word, int start)
    {
        var content = Quoted();
        var length = _position - start;
        _position = start;
        switch (word.ToLowerInvariant())
        {
            case "duration":
                return TryDuration(content, out var duration)
                    ? Add(LiteralKind.Duration, duration, length)
                    : throw Fault("literal", $"'{content}' is not a duration such as PT15M or P1DT2H.", start);
            case "binary":
                return TryBinary(content, out var bytes)
                    ? Add(LiteralKind.Binary, bytes, length)
                    : throw Fault("literal", "The binary literal is not base64url.", start);
            case "datetime" or "guid" or "time" or "datetimeoffset" or "x":
                return OlderLiteral.Read(word.ToLowerInvariant(), content) is { } older
                    ? Add(older.Kind, older.Value, length)
                    : throw Fault(
                        "literal",
                        $"{word}'…' is a literal of OData 2 whose value cannot be read; write it bare, such as {Bare(word)}.",
                        start
                    );
            case "geography" or "geometry":
                throw new FaultException(RequestFault.NotImplemented("Geographic literals are not supported.", target, text, start));
            case var _ when word.Contains('.'):
                return Add(LiteralKind.Enum, new EnumLiteral(word, content), length);
            default:
                throw Fault("literal", $"{word}'…' is not a literal of a type that this service knows.", start);
        }
    }

    private Token QuotedString()
    {
        var start = _position;
        var value = Quoted();
        var length = _position - start;
        _position = start;
        return Add(LiteralKind.String, value, length);
    }

    /// <summary>Reads from the quote at the position to its partner; doubled quotes stand for one.</summary>
    private string Quoted()
    {
        var start = _position;
        var value = new StringBuilder();
        for (_position++; _position < text.Length; _position++)
        {
            if (text[_position] != '\'')
                value.Append(text[_position]);
            else if (_position + 1 < text.Length && text[_position + 1] == '\'')
                value.Append(text[_position++]);
            else
            {
                _position++;
                return value.ToString();
            }
        }
        throw Fault("syntax", $"The text that starts at position {start} of {target} has no closing quote.", start);
    }

    private Token NumberOrTime()
    {
        var start = _position;
        var end = start + 1;
        while (
            end < text.Length
            && (
                char.IsAsciiLetterOrDigit(text[end])
                || text[end] == '.'
                || (text[end] == ':' && IsInTime(start, end))
                || (text[end] is '-' && char.IsAsciiDigit(text[end - 1]))
                || (text[end] is '+' or '-' && text[end - 1] is 'e' or 'E' && IsNumberSoFar(start, end - 1))
            )
        )
            end++;
        if (
            end - start >= 16
            && text[start..end].Contains('T')
            && end + 5 < text.Length + 0
            && text[end] is '+' or ' '
            && OffsetSign.IsAt(Encoding.ASCII.GetBytes(text[start..Math.Min(text.Length, end + 6)]), end - start)
        )
            end += 6;
        var word = text[start..end];
        return (Classify(word) ?? OlderLiteral.Number(word, Classify)) is { } found
            ? Add(found.Kind, found.Value, word.Length)
            : throw Fault(
                "literal",
                $"'{word}' at position {start} of {target} is neither a number nor a date or time.{LiteralHint(word)}",
                start
            );
    }

    /// <summary>Whether a colon stands between two digits each, as in a time; elsewhere it ends a condition of <c>case</c>.</summary>
    private bool IsInTime(int start, int colon) =>
        colon - start >= 2
        && colon + 2 < text.Length
        && char.IsAsciiDigit(text[colon - 1])
        && char.IsAsciiDigit(text[colon - 2])
        && char.IsAsciiDigit(text[colon + 1])
        && char.IsAsciiDigit(text[colon + 2]);

    private bool IsNumberSoFar(int start, int end) => text.AsSpan(start, end - start).IndexOfAnyExcept("0123456789.-") < 0;

    private static string LiteralHint(string word) =>
        word.Length >= 16 && word[10] == 'T' ? " A date with a time needs a zone: end it with Z or an offset such as +02:00." : "";

    private static string Bare(string word) => word == "guid" ? "21ec2020-3aea-1069-a2dd-08002b30309d" : "2024-05-01T12:00:00Z";

    private static (LiteralKind Kind, object Value)? Classify(string word)
    {
        const NumberStyles Integer = NumberStyles.AllowLeadingSign;
        if (long.TryParse(word, Integer, CultureInfo.InvariantCulture, out var integer))
            return (LiteralKind.Integer, integer);
        if (word.Length >= 10 && word[4] == '-' && word[7] == '-')
        {
            if (word.Length == 10)
                return DateOnly.TryParseExact(word, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var date)
                    ? (LiteralKind.Date, date)
                    : null;
            return TryInstant(word.Replace(' ', '+'), out var instant) ? (LiteralKind.DateTimeOffset, instant) : null;
        }
        if (word.Length >= 5 && word[2] == ':')
            return TryTime(word, out var time) ? (LiteralKind.TimeOfDay, time) : null;
        if (
            word.AsSpan().IndexOfAnyExcept("0123456789.-") < 0
            && !word.EndsWith('.')
            && decimal.TryParse(word, Integer | NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var number)
        )
            return (LiteralKind.Decimal, DecimalText.IsExact(word, number) ? number : LongDecimal.Parse(word)!);
        if (word.AsSpan().IndexOfAnyExcept("0123456789.-") < 0 && LongDecimal.Parse(word) is { } longNumber)
            return (LiteralKind.Decimal, longNumber);
        if (
            word.AsSpan().IndexOfAnyExcept("0123456789.-+eE") < 0
            && !word.EndsWith('.')
            && double.TryParse(
                word,
                Integer | NumberStyles.AllowDecimalPoint | NumberStyles.AllowExponent,
                CultureInfo.InvariantCulture,
                out var real
            )
            && double.IsFinite(real)
        )
            return (LiteralKind.Double, real);
        return null;
    }

    /// <summary>A text without quotes and prefixes as a value of a type; null when it is none.</summary>
    public static object? Plain(string text, EdmType type)
    {
        object? Of(LiteralKind kind) => Classify(text) is { } found && found.Kind == kind ? found.Value : null;
        return type.Kind switch
        {
            EdmKind.String => text,
            EdmKind.Enum => type.Enum!.Find(text)?.Name,
            EdmKind.Boolean => text switch
            {
                "true" => true,
                "false" => false,
                _ => null,
            },
            EdmKind.Guid => Guid.TryParseExact(text, "D", out var guid) ? guid : null,
            EdmKind.Duration => TryDuration(text, out var duration) ? duration : null,
            EdmKind.Date => Of(LiteralKind.Date),
            EdmKind.TimeOfDay => Of(LiteralKind.TimeOfDay),
            EdmKind.DateTimeOffset => Of(LiteralKind.DateTimeOffset),
            EdmKind.Decimal => Classify(text)?.Value switch
            {
                long number => (decimal)number,
                decimal number => number,
                LongDecimal number => number,
                _ => null,
            },
            EdmKind.Single or EdmKind.Double => Classify(text)?.Value switch
            {
                long number => (double)number,
                decimal number => StoredValue.Nearest(number),
                LongDecimal number => number.Nearest,
                double number => number,
                _ => null,
            },
            EdmKind.Binary => TryBinary(text, out var bytes) ? bytes : null,
            EdmKind.Byte or EdmKind.SByte or EdmKind.Int16 or EdmKind.Int32 or EdmKind.Int64 => Of(LiteralKind.Integer),
            _ => null,
        };
    }

    internal static bool TryInstant(string word, out DateTime utc)
    {
        utc = default;
        if (word[10] != 'T' || word.IndexOf('.') is var dot && dot > 0 && FractionDigits(word, dot) > 12)
            return false;
        if (!DateTimeOffset.TryParse(Shortened(word), CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var value))
            return false;
        if (!word.EndsWith('Z') && word[^6] is not ('+' or '-'))
            return false;
        utc = value.UtcDateTime;
        return true;
    }

    private static bool TryTime(string word, out TimeOnly time) =>
        TimeOnly.TryParseExact(
            Shortened(word),
            ["HH:mm", "HH:mm:ss", "HH:mm:ss.FFFFFFF"],
            CultureInfo.InvariantCulture,
            DateTimeStyles.None,
            out time
        );

    private static int FractionDigits(string word, int dot) => word.Skip(dot + 1).TakeWhile(char.IsAsciiDigit).Count();

    /// <summary>Fraction digits beyond the seventh are dropped: no source keeps them.</summary>
    private static string Shortened(string word)
    {
        var dot = word.IndexOf('.');
        var digits = dot < 0 ? 0 : FractionDigits(word, dot);
        return digits <= 7 ? word : word.Remove(dot + 8, digits - 7);
    }

    internal static bool TryDuration(string text, out TimeSpan duration)
    {
        duration = default;
        if (
            text.AsSpan().IndexOfAnyExcept("-PTDHMS.0123456789") >= 0
            || (text.IndexOf('M') is var m && m >= 0 && (text.IndexOf('T') is var t && (t < 0 || m < t)))
        )
            return false;
        try
        {
            duration = XmlConvert.ToTimeSpan(text);
            return true;
        }
        catch (Exception exception) when (exception is FormatException or OverflowException)
        {
            return false;
        }
    }

    private static bool TryBinary(string text, out byte[] bytes)
    {
        bytes = [];
        try
        {
            bytes = System.Buffers.Text.Base64Url.DecodeFromChars(text.TrimEnd('='));
            return true;
        }
        catch (FormatException)
        {
            return false;
        }
    }

    private bool TryGuid(out Guid guid)
    {
        guid = default;
        return _position + 36 <= text.Length
            && text[_position + 8] == '-'
            && text[_position + 13] == '-'
            && Guid.TryParseExact(text.AsSpan(_position, 36), "D", out guid)
            && !IsNamePart(_position + 36);
    }

    private Token Add(LiteralKind kind, object value, int length)
    {
        var start = _position;
        _position += length;
        literals.Add(new Literal(kind, value, target, text, start));
        return new Token(TokenKind.Literal, text.Substring(start, length), start, false, literals.Count - 1, kind);
    }

    private bool At(int position, string word) => string.CompareOrdinal(text, position, word, 0, word.Length) == 0;

    private static bool IsNameStart(char c) => char.IsLetter(c) || c is '_' or '$';

    private bool IsNamePart(int position) =>
        position < text.Length
        && (
            char.IsLetterOrDigit(text[position])
            || text[position] == '_'
            || char.IsSurrogate(text[position])
            || char.GetUnicodeCategory(text[position])
                is UnicodeCategory.NonSpacingMark
                    or UnicodeCategory.SpacingCombiningMark
                    or UnicodeCategory.ConnectorPunctuation
                    or UnicodeCategory.Format
        );

    private string Shown(int position) =>
        char.IsControl(text[position]) ? $"U+{(int)text[position]:X4}"
        : char.IsHighSurrogate(text[position]) && position + 1 < text.Length ? text.Substring(position, 2)
        : text[position].ToString();

    private FaultException Fault(string code, string message, int position) =>
        new(new RequestFault(400, code, message, target, text, position));
}
