using System.Globalization;
using System.Text;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests.Statements;

internal enum StatementTokenKind
{
    End,
    Word,
    QuotedName,
    Text,
    Number,
    Parameter,
    Symbol,
}

/// <param name="Text">A word, name or text without its quotes; a parameter without its colon.</param>
/// <param name="Value">Of a number: long, decimal, <see cref="LongDecimal"/> or double.</param>
internal sealed record StatementToken(StatementTokenKind Kind, string Text, int Position, object? Value = null)
{
    public bool Is(string word) =>
        Kind switch
        {
            StatementTokenKind.Word => Text.Equals(word, StringComparison.OrdinalIgnoreCase),
            StatementTokenKind.Symbol => Text == word,
            _ => false,
        };
}

/// <summary>The text of a statement -> its words and signs. Comments and blanks are passed over.</summary>
internal sealed class StatementLexer(string text)
{
    private static readonly string[] Signs =
    [
        "<>",
        "!=",
        "<=",
        ">=",
        "||",
        "(",
        ")",
        ",",
        ".",
        "*",
        "+",
        "-",
        "/",
        "%",
        "=",
        "<",
        ">",
        ";",
    ];

    private int _position;

    /// <exception cref="FaultException">A character belongs to nothing, or something does not end.</exception>
    public List<StatementToken> Read()
    {
        var tokens = new List<StatementToken>();
        while (true)
        {
            PassBlanks();
            var token = Next();
            tokens.Add(token);
            if (token.Kind == StatementTokenKind.End)
                return tokens;
            if (tokens.Count > Limits.StatementWords)
                throw Fault("too-large", $"The statement has more than {Limits.StatementWords} words and signs.", token.Position);
        }
    }

    private void PassBlanks()
    {
        while (_position < text.Length)
        {
            if (char.IsWhiteSpace(text[_position]))
                _position++;
            else if (At("--"))
                _position = text.IndexOf('\n', _position) is var end and >= 0 ? end : text.Length;
            else if (At("/*"))
                _position = text.IndexOf("*/", _position + 2, StringComparison.Ordinal) is var end and >= 0
                    ? end + 2
                    : throw Fault("syntax", "The comment has no end.", _position);
            else
                return;
        }
    }

    private bool At(string sign) => string.CompareOrdinal(text, _position, sign, 0, sign.Length) == 0;

    private StatementToken Next()
    {
        var start = _position;
        if (start == text.Length)
            return new StatementToken(StatementTokenKind.End, "", start);
        var c = text[start];
        if (IsWordStart(c))
            return new StatementToken(StatementTokenKind.Word, Word(start), start);
        if (c == ':' && start + 1 < text.Length && IsWordStart(text[start + 1]))
            return new StatementToken(StatementTokenKind.Parameter, Word(start + 1), start);
        if (char.IsAsciiDigit(c))
            return Number(start);
        if (c == '\'')
            return new StatementToken(StatementTokenKind.Text, Quoted('\'', "text"), start);
        if (c == '"')
            return new StatementToken(StatementTokenKind.QuotedName, Quoted('"', "name"), start);
        if (Array.Find(Signs, At) is not { } sign)
            throw Fault("syntax", $"'{c}' is no part of a statement.{Meant(c)}", start);
        _position += sign.Length;
        return new StatementToken(StatementTokenKind.Symbol, sign, start);
    }

    private static string Meant(char c) =>
        c switch
        {
            '?' or '$' or '@' => " A parameter is written as ':name'.",
            '`' or '[' => " A name with special characters stands in double quotes.",
            _ => "",
        };

    private static bool IsWordStart(char c) => char.IsLetter(c) || c == '_';

    private string Word(int start)
    {
        _position = start;
        while (_position < text.Length && (char.IsLetterOrDigit(text[_position]) || text[_position] == '_'))
            _position++;
        return text[start.._position];
    }

    private StatementToken Number(int start)
    {
        void Digits()
        {
            while (_position < text.Length && char.IsAsciiDigit(text[_position]))
                _position++;
        }
        Digits();
        if (_position + 1 < text.Length && text[_position] == '.' && char.IsAsciiDigit(text[_position + 1]))
        {
            _position++;
            Digits();
        }
        var mark = _position;
        if (_position < text.Length && text[_position] is 'e' or 'E')
        {
            _position++;
            if (_position < text.Length && text[_position] is '+' or '-')
                _position++;
            var digits = _position;
            Digits();
            if (digits == _position)
                _position = mark;
        }
        var written = text[start.._position];
        if (_position < text.Length && IsWordStart(text[_position]))
            throw Fault("syntax", $"A number ends where '{text[_position]}' stands.", _position);
        var value = StatementValues.Number(written) ?? throw Fault("syntax", $"{written} is too large a number.", start);
        return new StatementToken(StatementTokenKind.Number, written, start, value);
    }

    private string Quoted(char quote, string what)
    {
        var start = _position++;
        var content = new StringBuilder();
        while (_position < text.Length)
        {
            var c = text[_position++];
            if (c != quote)
                content.Append(c);
            else if (_position < text.Length && text[_position] == quote)
                content.Append(text[_position++]);
            else
                return content.ToString();
        }
        throw Fault("syntax", $"The {what} has no {quote} at its end.", start);
    }

    private FaultException Fault(string code, string message, int position) => StatementFaults.Of(code, message, text, position);
}

/// <summary>Faults of a statement.</summary>
internal static class StatementFaults
{
    /// <summary>What faults call it.</summary>
    public const string Target = "statement";

    public static FaultException Of(string code, string message, string text, int position) =>
        new(new RequestFault(400, code, message, Target, text, position));

    public static FaultException NotSupported(string message, string text, int position) =>
        new(RequestFault.NotImplemented(message, Target, text, position));
}

/// <summary>Values as statements write them.</summary>
internal static class StatementValues
{
    /// <summary>A number without a sign; null = it is too large to be one.</summary>
    public static object? Number(string text)
    {
        if (text.AsSpan().IndexOfAny('e', 'E') >= 0)
            return double.Parse(text, CultureInfo.InvariantCulture) is var number && double.IsFinite(number) ? number : null;
        return Lexer.Plain(text, EdmType.Int64) ?? Lexer.Plain(text, EdmType.Decimal);
    }

    /// <summary>The type that a value has by itself.</summary>
    public static EdmType TypeOf(object value) =>
        value switch
        {
            bool => EdmType.Boolean,
            long => EdmType.Int64,
            double => EdmType.Double,
            decimal or LongDecimal => EdmType.Decimal,
            _ => EdmType.String,
        };
}
