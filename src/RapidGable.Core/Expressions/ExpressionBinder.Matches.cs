using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>Properties that are held against values: they become the comparisons that the expression language has.</summary>
internal sealed partial class ExpressionBinder
{
    private BoundExpression BindMatch(MatchSyntax match)
    {
        var first = match.Path.Names[0].Text;
        if (set.Type.FindProperty(first) is null && set.Type.FindNavigation(first) is null)
            throw new FaultException(
                new RequestFault(
                    400,
                    "unknown-parameter",
                    $"'{first}' is no parameter and no property of {set.Name}."
                        + NearestName.Hint(first, match.OtherNames.Concat(set.Type.MemberNames).Concat(set.Parameters.Select(p => p.Name))),
                    match.Parameter
                )
            );
        try
        {
            var operand = Bind(match.Path);
            if (operand is BoundRelated)
                throw Type($"'{match.Parameter}' is a related entity; name one of its properties: {match.Parameter}/…", 0);
            var any = Alternatives(match, operand).Aggregate((left, right) => new BinarySyntax(BinaryOperator.Or, left, right, 0));
            return Bind(match.IsNegated ? Negated(match, any) : any);
        }
        catch (FaultException exception) when (exception.Fault.Target == target)
        {
            throw new FaultException(exception.Fault with { Target = match.Parameter, Text = match.Text, Position = null });
        }
    }

    /// <summary>None of the terms holds; of a value that is null none but null itself does.</summary>
    private static ExpressionSyntax Negated(MatchSyntax match, ExpressionSyntax any)
    {
        var none = new UnarySyntax(UnaryOperator.Not, any, 0);
        return match.Terms.Any(t => t is MatchNullSyntax)
            ? none
            : new BinarySyntax(BinaryOperator.Or, new BinarySyntax(BinaryOperator.Eq, match.Path, new NullSyntax(0), 0), none, 0);
    }

    private IEnumerable<ExpressionSyntax> Alternatives(MatchSyntax match, BoundExpression operand)
    {
        var type = operand.Type!;
        // Several plain values are one list.
        var plain = match.Terms.OfType<MatchEqualSyntax>().Where(t => !IsDay(t.Value, type)).ToImmutableArray();
        if (plain.Length > 0)
            yield return new InSyntax(match.Path, [.. plain.Select(t => (ExpressionSyntax)Literal(t.Value.Slot))], 0);
        foreach (var term in match.Terms.Except(plain))
            yield return term switch
            {
                MatchNullSyntax => new BinarySyntax(BinaryOperator.Eq, match.Path, new NullSyntax(0), 0),
                MatchEqualSyntax equal => Range(match.Path, equal.Value, equal.Value, type),
                MatchRangeSyntax range => Range(match.Path, range.From, range.To, type),
                MatchPartSyntax part when type is { Kind: EdmKind.String, IsCollection: false } => new CallSyntax(
                    part.Function,
                    part.Function.ToString().ToLowerInvariant(),
                    [match.Path, Literal(part.Slot)],
                    0
                ),
                MatchPartSyntax => throw Fault(
                    "type",
                    $"'{match.Parameter}' is {type.Name}, and * stands for any text; write a value, or a range such as 1..5.",
                    0
                ),
                _ => throw new InvalidOperationException(term.GetType().Name),
            };
    }

    private static ExpressionSyntax Range(PathSyntax path, MatchValueSyntax? from, MatchValueSyntax? to, EdmType type)
    {
        var ends = new List<ExpressionSyntax>();
        if (from is not null)
            ends.Add(
                new BinarySyntax(
                    BinaryOperator.Ge,
                    path,
                    IsDay(from, type) ? new LiteralSyntax(from.Day!.Value, LiteralKind.Date, 0) : Literal(from.Slot),
                    0
                )
            );
        if (to is not null)
            // A day ends where the next one begins.
            ends.Add(
                IsDay(to, type)
                    ? new BinarySyntax(BinaryOperator.Lt, path, new LiteralSyntax(to.Day!.Value + 1, LiteralKind.Date, 0), 0)
                    : new BinarySyntax(BinaryOperator.Le, path, Literal(to.Slot), 0)
            );
        return ends.Aggregate((left, right) => new BinarySyntax(BinaryOperator.And, left, right, 0));
    }

    private static LiteralSyntax Literal(int slot) => new(slot, LiteralKind.Text, 0);

    private static bool IsDay(MatchValueSyntax value, EdmType type) => value.Day is not null && type.Kind == EdmKind.DateTimeOffset;
}
