using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>Walks over the tokens of one option or segment, and makes its faults.</summary>
internal sealed class TokenReader(List<Token> tokens, string target, string text)
{
    private int _index;

    /// <summary>Number of the current token, from 0; the same in every request of a shape.</summary>
    public int Index => _index;

    public Token Current => tokens[_index];

    public Token Following => tokens[Math.Min(_index + 1, tokens.Count - 1)];

    public bool AtEnd => Current.Kind == TokenKind.End;

    public Token Take() => AtEnd ? Current : tokens[_index++];

    public bool TryTake(char symbol)
    {
        if (!Current.Is(symbol))
            return false;
        _index++;
        return true;
    }

    public void Expect(char symbol, string purpose)
    {
        if (!TryTake(symbol))
            throw Unexpected($"'{symbol}' {purpose}");
    }

    public NameSyntax ExpectName(string what)
    {
        if (Current.Kind != TokenKind.Name)
            throw Unexpected(what);
        var token = Take();
        return new NameSyntax(token.Text, token.Position);
    }

    public void ExpectEnd()
    {
        if (!AtEnd)
            throw Unexpected("the end");
    }

    public FaultException Unexpected(string expected)
    {
        var found = AtEnd ? "it ends there" : $"'{Current.Text}' stands there";
        return Fault("syntax", $"At position {Current.Position} of {target}: expected {expected}, but {found}.", Current.Position);
    }

    public FaultException Fault(string code, string message, int position) =>
        new(new RequestFault(400, code, message, target, text, position));

    public FaultException NotImplemented(string message, int position) => new(RequestFault.NotImplemented(message, target, text, position));

    public FaultException TooDeep() =>
        Fault("too-deep", $"{target} nests more than {Limits.ExpressionDepth} levels deep.", Current.Position);
}
