using System.Text;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>
/// The grammar of <c>$search</c> (URL conventions 5.1.8): words and phrases in double quotes, NOT before AND before OR,
/// parentheses, and a blank between two terms means AND. The three words are upper case in every version.
/// </summary>
/// <param name="literals">Receives the terms; null = they stay in the tree, because the whole text is part of the shape.</param>
internal sealed class SearchParser(string text, string target, List<Literal>? literals, StringBuilder? shape)
{
    private int _position;
    private int _terms;
    private int _depth;

    public SearchSyntax Read()
    {
        var result = Or();
        if (Peek() is { } left)
            throw Fault($"'{left}' cannot stand at position {_position} of {target}.");
        return result;
    }

    private SearchSyntax Or()
    {
        if (++_depth > Limits.ExpressionDepth)
            throw Fault($"{target} nests more than {Limits.ExpressionDepth} levels deep.");
        var left = And();
        while (TakeWord("OR"))
        {
            shape?.Append('|');
            left = new SearchPairSyntax(false, left, And());
        }
        _depth--;
        return left;
    }

    private SearchSyntax And()
    {
        var left = Not();
        while (Peek() is { } next && next != ')' && !IsWord("OR"))
        {
            TakeWord("AND");
            shape?.Append('&');
            left = new SearchPairSyntax(true, left, Not());
        }
        return left;
    }

    private SearchSyntax Not()
    {
        if (!TakeWord("NOT"))
            return Term();
        shape?.Append('!');
        return new SearchNotSyntax(Term());
    }

    private SearchSyntax Term()
    {
        var next = Peek() ?? throw Fault($"{target} ends where a word or a phrase is needed.");
        if (next == '(')
        {
            _position++;
            shape?.Append('(');
            var inner = Or();
            if (Peek() != ')')
                throw Fault($"A parenthesis in {target} is not closed.");
            _position++;
            shape?.Append(')');
            return inner;
        }
        if (next == ')')
            throw Fault($"')' at position {_position} of {target} closes nothing.");
        if (IsWord("AND") || IsWord("OR") || IsWord("NOT"))
            throw Fault(
                $"A word or a phrase is needed at position {_position} of {target}. To look for AND, OR or NOT, put it in double quotes."
            );
        var start = _position;
        return Add(next == '"' ? Phrase() : Word(), start);
    }

    private SearchTermSyntax Add(string term, int start)
    {
        if (++_terms > Limits.SearchTerms)
            throw Fault($"{target} has more than {Limits.SearchTerms} terms.");
        if (literals is null)
            return new SearchTermSyntax(null, term);
        shape!.Append('s');
        literals.Add(new Literal(LiteralKind.String, term, target, text, start));
        return new SearchTermSyntax(literals.Count - 1, null);
    }

    /// <summary>A backslash keeps a quote or itself inside of a phrase.</summary>
    private string Phrase()
    {
        var start = _position++;
        var phrase = new StringBuilder();
        for (; _position < text.Length; _position++)
        {
            if (text[_position] == '\\' && _position + 1 < text.Length && text[_position + 1] is '"' or '\\')
                phrase.Append(text[++_position]);
            else if (text[_position] != '"')
                phrase.Append(text[_position]);
            else
            {
                _position++;
                return phrase.Length > 0 ? phrase.ToString() : throw Fault($"The phrase at position {start} of {target} is empty.");
            }
        }
        throw Fault($"The phrase that starts at position {start} of {target} has no closing double quote.");
    }

    private string Word()
    {
        var start = _position;
        while (_position < text.Length && !char.IsWhiteSpace(text[_position]) && text[_position] is not ('(' or ')' or '"'))
            _position++;
        return text[start.._position];
    }

    private bool TakeWord(string word)
    {
        if (!IsWord(word))
            return false;
        _position += word.Length;
        return true;
    }

    private bool IsWord(string word)
    {
        Peek();
        var end = _position + word.Length;
        return string.CompareOrdinal(text, _position, word, 0, word.Length) == 0
            && (end == text.Length || char.IsWhiteSpace(text[end]) || text[end] is '(' or ')' or '"');
    }

    private char? Peek()
    {
        while (_position < text.Length && char.IsWhiteSpace(text[_position]))
            _position++;
        return _position < text.Length ? text[_position] : null;
    }

    private FaultException Fault(string message) =>
        new(new RequestFault(400, "syntax", message, target, text, Math.Min(_position, text.Length)));
}
