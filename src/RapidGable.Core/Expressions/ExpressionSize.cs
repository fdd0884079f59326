using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>
/// How large an expression becomes once every computed value that it names stands in it. A value that is named twice by each of ten
/// others is written a thousand times, however short the request is; so this is what is limited, and not the characters.
/// </summary>
internal sealed class ExpressionSize
{
    private readonly Dictionary<BoundExpression, (long Parts, long Texts)> _known = new(ReferenceEqualityComparer.Instance);

    /// <summary>The size of a property that an expression computes.</summary>
    public static PropertySize Of(BoundExpression expression) =>
        new ExpressionSize().Measure(expression) is var (parts, texts) ? new PropertySize(parts, texts) : default!;

    /// <summary>What is wrong with an expression; null = it is small enough.</summary>
    /// <param name="option">The query option that it stands in.</param>
    public static RequestFault? Fault(BoundExpression expression, string option)
    {
        string? target = option.Length > 0 ? option : null;
        var size = Of(expression);
        if (size.Parts > Limits.BoundParts)
            return new RequestFault(
                400,
                "too-large",
                $"With the computed values that it names, the expression has more than {Limits.BoundParts} parts.",
                target
            );
        return size.Texts > Limits.JoinedTexts
            ? new RequestFault(
                400,
                "too-large",
                $"With the computed values that it names, a text is put together from more than {Limits.JoinedTexts} others.",
                target
            )
            : null;
    }

    /// <summary>What is wrong with all expressions of a request together; null = nothing.</summary>
    public static RequestFault? Fault(IEnumerable<BoundExpression> expressions)
    {
        var (size, parts) = (new ExpressionSize(), 0L);
        foreach (var expression in expressions)
        {
            var (own, texts) = size.Measure(expression);
            parts += own;
            if (parts > Limits.BoundParts || texts > Limits.JoinedTexts)
                return Fault(expression, "")
                    ?? new RequestFault(
                        400,
                        "too-large",
                        $"The expressions of the request have more than {Limits.BoundParts} parts, with the computed values that they name."
                    );
        }
        return null;
    }

    private (long Parts, long Texts) Measure(BoundExpression expression)
    {
        // A value is shared by all that name it, so each is measured once.
        if (_known.TryGetValue(expression, out var known))
            return known;
        long parts = 1,
            texts = 1;
        if (expression is BoundProperty { Property.Size: { } size })
            (parts, texts) = (size.Parts, size.Texts);
        long joined = 0,
            longest = 0;
        foreach (var operand in expression.Operands)
        {
            var (own, text) = Measure(operand);
            parts = Math.Min(parts + own, int.MaxValue);
            (joined, longest) = (Math.Min(joined + text, int.MaxValue), Math.Max(longest, text));
        }
        if (expression is BoundCall { Function: CanonicalFunction.Concat })
            texts = joined;
        else
            texts = Math.Max(texts, longest);
        return _known[expression] = (parts, texts);
    }
}
