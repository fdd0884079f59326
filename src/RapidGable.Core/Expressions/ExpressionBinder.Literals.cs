using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>What literals and attributes of the caller become where they meet something.</summary>
internal sealed partial class ExpressionBinder
{
    /// <summary>An expression where a condition is needed; an attribute of the caller is a boolean there.</summary>
    private BoundExpression BindTruth(ExpressionSyntax syntax) =>
        syntax is AttributeSyntax attribute ? new BoundLiteral(attribute.Slot, LiteralKind.Text, EdmType.Boolean) : Bind(syntax);

    /// <summary>An attribute of the caller takes the type that is computed with it: a number beside numbers, else a duration.</summary>
    private static BoundExpression AsOperand(BoundExpression expression, BoundExpression other) =>
        expression is BoundLiteral { Kind: LiteralKind.Text } attribute && other.Type is { } type
            ? new BoundLiteral(
                attribute.Slot,
                LiteralKind.Text,
                type.IsIntegral ? EdmType.Int64
                    : type.IsNumeric ? type
                    : EdmType.Duration
            )
            : expression;

    /// <summary>An attribute of the caller takes the first type that the parameter of a function takes.</summary>
    private static BoundExpression AsArgument(BoundExpression expression, FunctionSignature signature, int index)
    {
        if (expression is not BoundLiteral { Kind: LiteralKind.Text } attribute || index >= signature.Parameters.Length)
            return expression;
        EdmType[] types = [EdmType.String, EdmType.Int64, EdmType.Date, EdmType.TimeOfDay, EdmType.DateTimeOffset, EdmType.Duration];
        return types.FirstOrDefault(signature.Parameters[index]) is { } type
            ? new BoundLiteral(attribute.Slot, LiteralKind.Text, type)
            : attribute;
    }

    /// <summary>
    /// A point in time that is compared with a date, or a date with points in time, as many clients do: days begin at midnight in
    /// UTC.
    /// </summary>
    /// <param name="op">How the other is compared with the literal.</param>
    private static BoundExpression DateAndTime(BoundExpression expression, BoundExpression other, BinaryOperator op)
    {
        if (
            expression is not BoundLiteral { Conversion: null } literal
            || other is BoundLiteral or BoundProperty { Property.Conversion: not null }
        )
            return expression;
        return (literal.Kind, other.Type?.Kind) switch
        {
            (LiteralKind.Date, EdmKind.DateTimeOffset) => new BoundLiteral(
                literal.Slot,
                literal.Kind,
                EdmType.DateTimeOffset,
                new DateAsInstantConversion()
            ),
            (LiteralKind.DateTimeOffset, EdmKind.Date) => new BoundLiteral(
                literal.Slot,
                literal.Kind,
                EdmType.Date,
                new InstantAsDateConversion(
                    op switch
                    {
                        BinaryOperator.Lt or BinaryOperator.Ge => DayOfInstant.Ceiling,
                        BinaryOperator.Le or BinaryOperator.Gt => DayOfInstant.Floor,
                        _ => DayOfInstant.Same,
                    }
                )
            ),
            _ => expression,
        };
    }

    /// <summary>
    /// A literal takes the type of what it meets: 4.01 lets durations be written as plain text, and a whole number beside a double is
    /// one (URL conventions 5.1.1.1.1).
    /// </summary>
    private static (BoundExpression, BoundExpression) Adapt(BoundExpression left, BoundExpression right) =>
        (Adapted(left, right), Adapted(right, left));

    private static BoundExpression Adapted(BoundExpression expression, BoundExpression other)
    {
        if (expression is not BoundLiteral literal)
            return expression;
        var isOther =
            (literal.Kind, other.Type?.Kind)
            is
                (LiteralKind.String, EdmKind.Duration or EdmKind.Enum)
                or
                (LiteralKind.Enum, EdmKind.Enum)
                or
                (LiteralKind.Integer, EdmKind.Double)
                or
                (LiteralKind.Text, not null);
        return new BoundLiteral(
            literal.Slot,
            literal.Kind,
            isOther ? other.Type! : literal.LiteralType,
            other is BoundProperty { Property.Conversion: { Use: not ConvertedUse.Anything } conversion } ? conversion : null
        );
    }

    internal static EdmType TypeOf(LiteralKind kind) =>
        kind switch
        {
            LiteralKind.Boolean => EdmType.Boolean,
            LiteralKind.Integer => EdmType.Int64,
            LiteralKind.Decimal => EdmType.Decimal,
            LiteralKind.Double => EdmType.Double,
            LiteralKind.String or LiteralKind.Text => EdmType.String,
            LiteralKind.Guid => EdmType.Guid,
            LiteralKind.Date => EdmType.Date,
            LiteralKind.TimeOfDay => EdmType.TimeOfDay,
            LiteralKind.DateTimeOffset => EdmType.DateTimeOffset,
            LiteralKind.Duration => EdmType.Duration,
            // Of a type yet to be met.
            LiteralKind.Enum => new EdmType(EdmKind.Enum),
            _ => EdmType.Binary,
        };
}
