using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>The parameter aliases of a request, <c>@name=expression</c> (URL conventions 5.3).</summary>
internal sealed class ParameterAliases(LexedRequest request)
{
    private readonly HashSet<string> _open = [];
    private int _nodes;

    /// <summary>
    /// Whether all expressions together, with aliases written out at each use, are still within what one request may hold.
    /// </summary>
    public bool MayGrow() => ++_nodes <= 4 * Limits.ExpressionNodes;

    /// <summary>A reader over an alias's value; null when it is not given.</summary>
    public TokenReader? Tokens(string name)
    {
        var option = request.Options.FirstOrDefault(o => o.Name == name);
        return option.Tokens is null ? null : new TokenReader(option.Tokens, name, request.Texts[name]);
    }

    /// <summary>The expression that an alias stands for; null when it is not given.</summary>
    /// <param name="text">The alias's text, in which positions count.</param>
    public ExpressionSyntax? Expression(string name, out string text)
    {
        text = request.Texts.GetValueOrDefault(name, "");
        if (Tokens(name) is not { } reader)
            return null;
        if (reader.AtEnd)
            throw reader.Fault("alias", $"The parameter alias {name} has no value.", 0);
        if (!_open.Add(name))
            throw reader.Fault("alias", $"The parameter alias {name} refers to itself.", 0);
        if (reader.Current.Is('(') && text.TrimStart().StartsWith('['))
            throw reader.Fault("type", $"The parameter alias {name} is a list; a list stands after 'in'.", 0);
        var value = new ExpressionParser(reader, this).Parse();
        reader.ExpectEnd();
        _open.Remove(name);
        return value;
    }
}
