using RapidGable.Expressions;

namespace RapidGable.Requests.OData;

/// <summary>The parameter aliases of a request, <c>@name=expression</c> (URL conventions 5.3).</summary>
internal sealed class ParameterAliases(LexedRequest request) : NamedValues
{
    private readonly HashSet<string> _open = [];

    /// <summary>Of the request.</summary>
    public StepBudget Steps => request.Steps;

    public override TokenReader? List(NameSyntax name, TokenReader reader) => Tokens(name.Text);

    /// <summary>A reader over an alias's value; null when it is not given.</summary>
    public TokenReader? Tokens(string name)
    {
        var option = request.Options.FirstOrDefault(o => o.Name == name);
        return option.Tokens is null ? null : new TokenReader(option.Tokens, name, request.Texts[name]);
    }

    /// <summary>An alias that is not given counts as null (URL conventions 5.3).</summary>
    public override ExpressionSyntax Value(NameSyntax name)
    {
        var text = request.Texts.GetValueOrDefault(name.Text, "");
        if (Tokens(name.Text) is not { } reader)
            return new NullSyntax(name.Position);
        if (reader.AtEnd)
            throw reader.Fault("alias", $"The parameter alias {name.Text} has no value.", 0);
        if (!_open.Add(name.Text))
            throw reader.Fault("alias", $"The parameter alias {name.Text} refers to itself.", 0);
        if (reader.Current.Is('(') && text.TrimStart().StartsWith('['))
            throw reader.Fault("type", $"The parameter alias {name.Text} is a list; a list stands after 'in'.", 0);
        var value = new ExpressionParser(reader, this, Steps).Parse();
        reader.ExpectEnd();
        _open.Remove(name.Text);
        return new AliasSyntax(name.Text, value, text, name.Position);
    }
}
