using System.Globalization;
using System.Text.RegularExpressions;
using CsCheck;
using RapidGable.Expressions;

namespace RapidGable.Core.Tests;

/// <summary>Expressions as text, both ways: prefix form for comparing, URL form for parsing.</summary>
internal static partial class SyntaxText
{
    public static string Print(ExpressionSyntax expression, IReadOnlyList<Literal> literals) =>
        expression switch
        {
            LiteralSyntax literal => literals[literal.Slot].Value is string text
                ? $"'{text}'"
                : Convert.ToString(literals[literal.Slot].Value, CultureInfo.InvariantCulture)!,
            NullSyntax => "null",
            PathSyntax path => string.Join('/', path.Names.Select(n => n.Text)),
            UnarySyntax unary => $"({(unary.Operator == UnaryOperator.Not ? "not" : "neg")} {Print(unary.Operand, literals)})",
            BinarySyntax binary =>
                $"({binary.Operator.ToString().ToLowerInvariant()} {Print(binary.Left, literals)} {Print(binary.Right, literals)})",
            InSyntax isIn => $"(in {string.Join(' ', isIn.Members.Prepend(isIn.Operand).Select(m => Print(m, literals)))})",
            CallSyntax call => $"({call.Name} {string.Join(' ', call.Arguments.Select(a => Print(a, literals)))})",
            _ => throw new InvalidOperationException(),
        };

    /// <summary>Prefix form -> a URL expression with a parenthesis around everything.</summary>
    public static string ToUrl(string tree)
    {
        var tokens = new Queue<string>(Tokens().Matches(tree).Select(m => m.Value));
        return Node(tokens);
    }

    private static string Node(Queue<string> tokens)
    {
        var first = tokens.Dequeue();
        if (first != "(")
            return first is "True" or "False" ? first.ToLowerInvariant() : first;
        var word = tokens.Dequeue();
        var parts = new List<string>();
        while (tokens.Peek() != ")")
            parts.Add(Node(tokens));
        tokens.Dequeue();
        return word switch
        {
            "not" => $"(not {parts[0]})",
            "neg" => $"(-({parts[0]}))",
            "in" => $"({parts[0]} in ({string.Join(',', parts.Skip(1))}))",
            "contains" or "tolower" or "length" => $"{word}({string.Join(',', parts)})",
            _ => $"({parts[0]} {word} {parts[1]})",
        };
    }

    /// <summary>Random expressions as a caller would write them, with as few parentheses as may be.</summary>
    public static Gen<string> Random { get; } =
        Gen.Recursive<string>(
            (depth, inner) =>
                depth > 4
                    ? Leaf
                    : Gen.Frequency(
                        (2, Leaf),
                        (
                            4,
                            Gen.Select(
                                inner,
                                Gen.OneOf(
                                    Array.ConvertAll(
                                        new[] { "or", "and", "eq", "ne", "gt", "le", "add", "sub", "mul", "div", "mod", "divby" },
                                        Gen.Const
                                    )
                                ),
                                inner,
                                (a, op, b) => $"{a} {op} {b}"
                            )
                        ),
                        (1, inner.Select(a => $"not ({a})")),
                        (1, inner.Select(a => $"({a})")),
                        (1, inner.Select(a => $"contains({a},'x')")),
                        (1, Leaf.Select(a => $"{a} in (1,'two',null)")),
                        (1, inner.Select(a => $"-({a})"))
                    )
        );

    private static Gen<string> Leaf =>
        Gen.OneOf(Array.ConvertAll(new[] { "a", "b/c", "1", "-2.5", "'its'", "true", "null", "d/e/f" }, Gen.Const));

    [GeneratedRegex(@"\(|\)|'[^']*'|[^\s()]+")]
    private static partial Regex Tokens();
}
