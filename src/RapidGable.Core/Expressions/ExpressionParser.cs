using System.Collections.Frozen;
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>The expression grammar of <c>$filter</c> and <c>$orderby</c>, by precedence climbing (URL conventions 5.1.1.17).</summary>
/// <param name="steps">Of the request that the expression belongs to.</param>
internal sealed class ExpressionParser(TokenReader reader, NamedValues names, StepBudget steps)
{
    private static readonly FrozenDictionary<string, (BinaryOperator Operator, int Precedence)> Operators = new Dictionary<
        string,
        (BinaryOperator, int)
    >(StringComparer.OrdinalIgnoreCase)
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

    private static readonly FrozenDictionary<string, CanonicalFunction> Functions = Enum.GetValues<CanonicalFunction>()
        .ToFrozenDictionary(f => f.ToString(), StringComparer.OrdinalIgnoreCase);

    private static readonly FrozenSet<string> LaterFunctions = FrozenSet.Create(
        StringComparer.OrdinalIgnoreCase,
        "hassubset",
        "hassubsequence",
        "geo.distance",
        "geo.length",
        "geo.intersects"
    );

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
            {
                reader.Take();
                left = Node(new BinarySyntax(BinaryOperator.Has, left, Primary(), token.Position));
                continue;
            }
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
        if (reader.Current.Is('@'))
        {
            var name = AtName();
            return names.List(name, reader) is not { } list
                ? (InSyntax)Node(new InSyntax(operand, [], word.Position))
                : (InSyntax)Node(new InSyntax(operand, Members(list, name.Text), word.Position));
        }
        if (reader.Current.Kind == TokenKind.Name && Path() is var path)
        {
            return path is PathSyntax collection
                ? (InSyntax)Node(new InSyntax(operand, [], word.Position) { Collection = collection })
                : throw reader.Fault("syntax", "A list in parentheses or a collection property follows 'in'.", word.Position);
        }
        if (!reader.Current.Is('('))
            throw reader.Unexpected("a list in parentheses after 'in'");
        var members = Members(reader, "'in'");
        return (InSyntax)Node(new InSyntax(operand, members, word.Position));
    }

    /// <summary>The members of a list in parentheses.</summary>
    private ImmutableArray<ExpressionSyntax> Members(TokenReader list, string of)
    {
        list.Expect('(', "to start a list");
        var members = ImmutableArray.CreateBuilder<ExpressionSyntax>();
        while (!list.TryTake(')'))
        {
            if (members.Count > 0)
                list.Expect(',', "or ')' in the list");
            var token = list.Current;
            if (token.Is('@') && names.MayBeMembers)
            {
                members.Add(names.Value(AtName()));
                continue;
            }
            members.Add(
                token.Kind switch
                {
                    TokenKind.Literal => new LiteralSyntax(token.Slot, token.Literal, token.Position),
                    TokenKind.Null => new NullSyntax(token.Position),
                    _ => throw list.Unexpected("a literal value in the list"),
                }
            );
            list.Take();
            if (members.Count > Limits.InMembers)
                throw list.Fault("too-large", $"The list of {of} has more than {Limits.InMembers} members.", token.Position);
        }
        return members.ToImmutable();
    }

    private NameSyntax AtName()
    {
        var at = reader.Take();
        var name = reader.ExpectName("the name of a parameter alias after '@'");
        return name.Text.Contains('.')
            ? throw reader.NotImplemented($"The annotation '@{name.Text}' in an expression is not supported.", at.Position)
            : new NameSyntax("@" + name.Text, at.Position);
    }

    private ExpressionSyntax Unary()
    {
        var token = reader.Current;
        var isNot =
            token.Kind == TokenKind.Name
            && token.Text.Equals("not", StringComparison.OrdinalIgnoreCase)
            && (reader.Following.Blank || reader.Following.Is('('));
        if (!isNot && !token.Is('-'))
            return Primary();
        if (++_depth > Limits.ExpressionDepth)
            throw reader.TooDeep();
        reader.Take();
        var operand = Unary();
        // 'in' binds closer than 'not' (URL conventions 5.1.1.17): not x in (1,2) negates the whole test.
        if (
            isNot
            && reader.Current is { Kind: TokenKind.Name, Blank: true } next
            && next.Text.Equals("in", StringComparison.OrdinalIgnoreCase)
        )
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
                return Node(names.Value(AtName()));
            default:
                throw reader.Unexpected("a property, a value or '('");
        }
    }

    private ExpressionSyntax Call()
    {
        var name = reader.Take();
        switch (name.Text.ToLowerInvariant())
        {
            case "cast" or "isof":
                return TypeCall(name);
            case "case":
                return Case(name);
        }
        if (LaterFunctions.Contains(name.Text))
            throw reader.NotImplemented($"The function {name.Text} is not supported.", name.Position);
        if (!Functions.TryGetValue(name.Text, out var function))
            throw reader.Fault(
                "unknown-function",
                $"There is no function '{name.Text}'.{NearestName.Hint(name.Text, Functions.Keys.Select(k => k.ToLowerInvariant()))}",
                name.Position
            );
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

    private ExpressionSyntax TypeCall(Token name)
    {
        reader.Take();
        ExpressionSyntax? operand = null;
        if (reader.Current is not { Kind: TokenKind.Name } type || !type.Text.Contains('.') || !reader.Following.Is(')'))
        {
            operand = Binary(1);
            reader.Expect(',', $"and a type in {name.Text}");
        }
        var target = reader.ExpectName("a type such as Edm.String");
        if (reader.Current.Is('('))
            throw reader.NotImplemented($"{name.Text} to a collection is not supported.", target.Position);
        reader.Expect(')', $"to close {name.Text}");
        return Node(new TypeCallSyntax(name.Text.Equals("isof", StringComparison.OrdinalIgnoreCase), operand, target, name.Position));
    }

    private ExpressionSyntax Case(Token name)
    {
        reader.Take();
        var branches = ImmutableArray.CreateBuilder<(ExpressionSyntax, ExpressionSyntax)>();
        do
        {
            var condition = Binary(1);
            reader.Expect(':', "between a condition of case and its value");
            branches.Add((condition, Binary(1)));
        } while (reader.TryTake(','));
        reader.Expect(')', "or ',' in case");
        return Node(new CaseSyntax(branches.ToImmutable(), name.Position));
    }

    /// <summary><c>$root/Set(key)/property</c>.</summary>
    private ExpressionSyntax Root(NameSyntax root)
    {
        reader.Expect('/', "after $root");
        var set = reader.ExpectName("an entity set after $root");
        if (!reader.TryTake('('))
            throw reader.NotImplemented(
                "$root leads to one entity by its key, as in $root/Stations(1)/name; anything else after it is not supported.",
                set.Position
            );
        var key = Key(reader, names);
        var path = ImmutableArray.CreateBuilder<NameSyntax>();
        while (reader.TryTake('/'))
            path.Add(reader.ExpectName("a property"));
        return Node(new RootSyntax(set, key, path.ToImmutable(), root.Position));
    }

    private ExpressionSyntax Path()
    {
        var names = ImmutableArray.CreateBuilder<NameSyntax>();
        do
        {
            var name = reader.ExpectName("a name");
            if (name.Text == "$count" && names.Count > 0)
                return Count(names.ToImmutable());
            if (name.Text == "$root" && names.Count == 0)
                return Root(name);
            if (name.Text.StartsWith('$') && !(name.Text is "$it" or "$this" && names.Count == 0))
                throw reader.NotImplemented($"'{name.Text}' in an expression is not supported.", name.Position);
            if (reader.Current.Is('(') && names.Count > 0)
                return Lambda(names.ToImmutable(), name);
            names.Add(name);
            if (names.Count > Limits.PathHops + 1)
                throw reader.Fault("too-deep", $"A path has more than {Limits.PathHops} steps.", name.Position);
        } while (reader.TryTake('/'));
        return Node(new PathSyntax(names.ToImmutable()));
    }

    private ExpressionSyntax Count(ImmutableArray<NameSyntax> path)
    {
        if (!reader.TryTake('('))
            return Node(new CountSyntax(path, null, null));
        var count = new CountSyntax(path, null, null);
        do
        {
            var option = reader.ExpectName("$filter or $search");
            var name = "$" + option.Text.TrimStart('$').ToLowerInvariant();
            if ((name == "$filter" && count.Filter is not null) || (name == "$search" && count.Search is not null))
                throw reader.Fault("option-twice", $"The option {name} of $count is given twice.", option.Position);
            if (name is not ("$filter" or "$search"))
                throw reader.Fault(
                    "option-not-here",
                    $"{option.Text} is not an option of $count; $filter and $search are.",
                    option.Position
                );
            reader.Expect('=', "after " + option.Text);
            count =
                name == "$filter"
                    ? count with
                    {
                        Filter = Binary(1),
                    }
                    : count with
                    {
                        Search = new SearchParser(reader.Take().Text, "$search", null, null).Read(),
                    };
        } while (reader.TryTake(';'));
        reader.Expect(')', "to close the options of $count");
        return Node(count);
    }

    private ExpressionSyntax Lambda(ImmutableArray<NameSyntax> path, NameSyntax word)
    {
        if (word.Text is not ("any" or "all"))
            throw LaterFunctions.Contains(word.Text)
                ? reader.NotImplemented($"'{word.Text}' after a path is not supported.", word.Position)
                : reader.Fault(
                    "unknown-function",
                    $"'{word.Text}(…)' cannot follow a path.{NearestName.Hint(word.Text, ["any", "all"])}",
                    word.Position
                );
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

    private ExpressionSyntax Node(ExpressionSyntax node) =>
        ++_nodes <= Limits.ExpressionNodes && steps.TryAddPart()
            ? node
            : throw reader.Fault("too-large", $"The expression has more than {Limits.ExpressionNodes} parts.", node.Position);

    /// <summary>A key predicate behind its opening parenthesis.</summary>
    internal static ImmutableArray<KeyPartSyntax> Key(TokenReader reader, NamedValues names)
    {
        var parts = ImmutableArray.CreateBuilder<KeyPartSyntax>();
        while (!reader.TryTake(')'))
        {
            if (parts.Count > 0)
                reader.Expect(',', "or ')' in the key");
            parts.Add(KeyPart(reader, names));
        }
        return parts.ToImmutable();
    }

    private static KeyPartSyntax KeyPart(TokenReader reader, NamedValues names)
    {
        NameSyntax? name = null;
        if (reader.Current.Kind == TokenKind.Name && reader.Following.Is('='))
        {
            name = reader.ExpectName("a key property");
            reader.Take();
        }
        if (reader.Current.Is('@') && reader.Following.Kind == TokenKind.Name)
        {
            var at = reader.Take();
            var alias = "@" + reader.Take().Text;
            return names.Value(new NameSyntax(alias, at.Position)) switch
            {
                AliasSyntax { Value: LiteralSyntax literal } => new KeyPartSyntax(name, literal),
                AttributeSyntax own => new KeyPartSyntax(name, new LiteralSyntax(own.Slot, LiteralKind.Text, at.Position)),
                _ => throw reader.Fault(
                    "key",
                    $"The parameter alias {alias} is a literal value when it stands for a key, and never null.",
                    at.Position
                ),
            };
        }
        if (reader.Current.Kind == TokenKind.Null)
            throw reader.Fault("key", "A key value is never null.", reader.Current.Position);
        if (reader.Current.Kind != TokenKind.Literal)
            throw reader.Unexpected("a key value such as 1 or 'AB-001'");
        var token = reader.Take();
        return new KeyPartSyntax(name, new LiteralSyntax(token.Slot, token.Literal, token.Position));
    }
}
