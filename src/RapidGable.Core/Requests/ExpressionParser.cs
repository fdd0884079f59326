using System.Collections.Frozen;
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>The expression grammar of <c>$filter</c> and <c>$orderby</c>, by precedence climbing (URL conventions 5.1.1.17).</summary>
internal sealed class ExpressionParser(TokenReader reader)
{
    private static readonly FrozenDictionary<string, (BinaryOperator Operator, int Precedence)> Operators =
        new Dictionary<string, (BinaryOperator, int)>(StringComparer.OrdinalIgnoreCase)
        {
            ["or"] = (BinaryOperator.Or, 1),
            ["and"] = (BinaryOperator.And, 2),
            ["eq"] = (BinaryOperator.Eq, 3),
            ["ne"] = (BinaryOperator.Ne, 3),
            ["gt"] = (BinaryOperator.Gt, 4),
            ["ge"] = (BinaryOperator.Ge, 4),
            ["lt"] = (BinaryOperator.Lt, 4),
            ["le"] = (BinaryOperator.Le, 4),
            ["add"] = (BinaryOperator.Add, 5),
            ["sub"] = (BinaryOperator.Sub, 5),
            ["mul"] = (BinaryOperator.Mul, 6),
            ["div"] = (BinaryOperator.Div, 6),
            ["divby"] = (BinaryOperator.DivBy, 6),
            ["mod"] = (BinaryOperator.Mod, 6),
        }.ToFrozenDictionary(StringComparer.OrdinalIgnoreCase);

    private static readonly FrozenDictionary<string, CanonicalFunction> Functions =
        Enum.GetValues<CanonicalFunction>().ToFrozenDictionary(f => f.ToString(), StringComparer.OrdinalIgnoreCase);

    private static readonly FrozenSet<string> LaterFunctions = FrozenSet.Create(StringComparer.OrdinalIgnoreCase,
        "substring", "matchespattern", "hassubset", "hassubsequence", "totaloffsetminutes", "totalseconds", "mindatetime", "maxdatetime",
        "cast", "isof", "geo.distance", "geo.length", "geo.intersects", "case");

    private int _depth;
    private int _nodes;

    public ExpressionSyntax Parse()
    {
        var expression = Binary(1);
        return expression;
    }

    private ExpressionSyntax Binary(int least)
    {
        if (++_depth > Limits.ExpressionDepth)
            throw reader.TooDeep();
        var left = Unary();
        while (reader.Current is { Kind: TokenKind.Name, Blank: true } token)
        {
            if (token.Text.Equals("in", StringComparison.OrdinalIgnoreCase))
            {
                left = In(left);
                continue;
            }
            if (token.Text.Equals("has", StringComparison.OrdinalIgnoreCase))
                throw reader.NotImplemented("The operator has is not supported: this service has no flag types.", token.Position);
            if (!Operators.TryGetValue(token.Text, out var found) || found.Precedence < least)
                break;
            reader.Take();
            if (!reader.Current.Blank && !reader.AtEnd)
                throw reader.Fault("syntax", $"A blank is needed after '{token.Text}' at position {token.Position}.", token.Position);
            var right = Binary(found.Precedence + 1);
            left = Node(new BinarySyntax(found.Operator, left, right, token.Position));
        }
        _depth--;
        return left;
    }

    private InSyntax In(ExpressionSyntax operand)
    {
        var word = reader.Take();
        if (!reader.Current.Is('('))
            throw reader.Current.Kind == TokenKind.Name
                ? reader.NotImplemented("The operator in is supported with a list of values in parentheses.", reader.Current.Position)
                : reader.Unexpected("a list in parentheses after 'in'");
        reader.Take();
        var members = ImmutableArray.CreateBuilder<ExpressionSyntax>();
        while (!reader.TryTake(')'))
        {
            if (members.Count > 0)
                reader.Expect(',', "or ')' in the list");
            members.Add(reader.Current.Kind is TokenKind.Literal or TokenKind.Null ? Primary() : throw reader.Unexpected("a literal value in the list"));
            if (members.Count > Limits.InMembers)
                throw reader.Fault("too-large", $"The list after 'in' has more than {Limits.InMembers} members.", word.Position);
        }
        return (InSyntax)Node(new InSyntax(operand, members.ToImmutable(), word.Position));
    }

    private ExpressionSyntax Unary()
    {
        var token = reader.Current;
        var isNot = token.Kind == TokenKind.Name && token.Text.Equals("not", StringComparison.OrdinalIgnoreCase)
            && (reader.Following.Blank || reader.Following.Is('('));
        if (!isNot && !token.Is('-'))
            return Primary();
        if (++_depth > Limits.ExpressionDepth)
            throw reader.TooDeep();
        reader.Take();
        var operand = Unary();
        // 'in' binds closer than 'not' (URL conventions 5.1.1.17): not x in (1,2) negates the whole test.
        if (isNot && reader.Current is { Kind: TokenKind.Name, Blank: true } next && next.Text.Equals("in", StringComparison.OrdinalIgnoreCase))
            operand = In(operand);
        _depth--;
        return Node(new UnarySyntax(isNot ? UnaryOperator.Not : UnaryOperator.Negate, operand, token.Position));
    }

    private ExpressionSyntax Primary()
    {
        var token = reader.Current;
        switch (token.Kind)
        {
            case TokenKind.Literal:
                reader.Take();
                return Node(new LiteralSyntax(token.Slot, token.Literal, token.Position));
            case TokenKind.Null:
                reader.Take();
                return Node(new NullSyntax(token.Position));
            case TokenKind.Name when reader.Following.Is('('):
                return Call();
            case TokenKind.Name:
                return Path();
            case TokenKind.Symbol when token.Is('('):
                reader.Take();
                var inner = Binary(1);
                reader.Expect(')', "to close the parenthesis");
                return inner;
            case TokenKind.Symbol when token.Is('@'):
                throw reader.NotImplemented("Parameter aliases are not supported.", token.Position);
            default:
                throw reader.Unexpected("a property, a value or '('");
        }
    }

    private ExpressionSyntax Call()
    {
        var name = reader.Take();
        if (LaterFunctions.Contains(name.Text))
            throw reader.NotImplemented($"The function {name.Text} is not supported.", name.Position);
        if (!Functions.TryGetValue(name.Text, out var function))
            throw reader.Fault("unknown-function", $"There is no function '{name.Text}'.{NearestName.Hint(name.Text, Functions.Keys.Select(k => k.ToLowerInvariant()))}", name.Position);
        reader.Take();
        var arguments = ImmutableArray.CreateBuilder<ExpressionSyntax>();
        while (!reader.TryTake(')'))
        {
            if (arguments.Count > 0)
                reader.Expect(',', $"or ')' in the call of {name.Text}");
            arguments.Add(Binary(1));
        }
        return Node(new CallSyntax(function, name.Text.ToLowerInvariant(), arguments.ToImmutable(), name.Position));
    }

    private ExpressionSyntax Path()
    {
        var names = ImmutableArray.CreateBuilder<NameSyntax>();
        do
        {
            var name = reader.ExpectName("a name");
            if (name.Text == "$count" && names.Count > 0)
                return Count(names.ToImmutable());
            if (name.Text.StartsWith('$') && !(name.Text == "$it" && names.Count == 0 && reader.Current.Is('/')))
                throw reader.NotImplemented($"'{name.Text}' in an expression is not supported.", name.Position);
            if (name.Text.Contains('.'))
                throw reader.NotImplemented($"The type cast or annotation '{name.Text}' is not supported.", name.Position);
            if (reader.Current.Is('(') && names.Count > 0)
                return Lambda(names.ToImmutable(), name);
            names.Add(name);
            if (names.Count > Limits.PathHops + 1)
                throw reader.Fault("too-deep", $"A path has more than {Limits.PathHops} steps.", name.Position);
        }
        while (reader.TryTake('/'));
        return Node(new PathSyntax(names.ToImmutable()));
    }

    private ExpressionSyntax Count(ImmutableArray<NameSyntax> path) => !reader.Current.Is('(') && !reader.Current.Is('/') ? Node(new CountSyntax(path))
        : throw reader.NotImplemented("Options of $count in an expression are not supported.", reader.Current.Position);

    private ExpressionSyntax Lambda(ImmutableArray<NameSyntax> path, NameSyntax word)
    {
        if (word.Text is not ("any" or "all"))
            throw LaterFunctions.Contains(word.Text) ? reader.NotImplemented($"'{word.Text}' after a path is not supported.", word.Position)
                : reader.Fault("unknown-function", $"'{word.Text}(…)' cannot follow a path.{NearestName.Hint(word.Text, ["any", "all"])}", word.Position);
        if (++_depth > Limits.ExpressionDepth)
            throw reader.TooDeep();
        reader.Take();
        NameSyntax? variable = null;
        ExpressionSyntax? condition = null;
        if (word.Text == "all" || !reader.Current.Is(')'))
        {
            variable = reader.ExpectName("a name for each of the entities, as in any(s:s/code eq 'x')");
            reader.Expect(':', $"after the name '{variable.Text}'");
            condition = Binary(1);
        }
        reader.Expect(')', $"to close {word.Text}");
        _depth--;
        return Node(new LambdaSyntax(path, word.Text == "all", variable, condition, word.Position));
    }

    private ExpressionSyntax Node(ExpressionSyntax node) => ++_nodes <= Limits.ExpressionNodes
        ? node
        : throw reader.Fault("too-large", $"The expression has more than {Limits.ExpressionNodes} parts.", node.Position);
}
