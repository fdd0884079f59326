using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

internal sealed partial class ExpressionBinder
{
    private BoundExpression BindUnary(UnarySyntax unary)
    {
        var operand = unary.Operator == UnaryOperator.Not ? BindTruth(unary.Operand) : Bind(unary.Operand);
        if (unary.Operator == UnaryOperator.Not)
        {
            return IsBoolean(operand)
                ? new BoundNot(AsCondition(operand))
                : throw Type(
                    $"'not' needs a condition, and {Describe(operand)} follows. Put a comparison in parentheses: not (a eq b).",
                    unary.Operand.Position
                );
        }
        if (operand is BoundNull)
            return operand;
        NotConverted(operand, "computed with", unary.Operand.Position);
        return operand.Type is { IsNumeric: true } or { Kind: EdmKind.Duration }
            ? new BoundNegation(operand)
            : throw Type($"'-' needs a number, and {Describe(operand)} follows.", unary.Operand.Position);
    }

    private BoundExpression BindBinary(BinarySyntax binary)
    {
        var isLogical = binary.Operator is BinaryOperator.And or BinaryOperator.Or;
        var left = isLogical ? BindTruth(binary.Left) : Bind(binary.Left);
        var right = isLogical ? BindTruth(binary.Right) : Bind(binary.Right);
        var word = binary.Operator.ToString().ToLowerInvariant();
        switch (binary.Operator)
        {
            case BinaryOperator.And or BinaryOperator.Or:
                if (!IsBoolean(left))
                    throw Type($"'{word}' needs conditions on both sides, and {Describe(left)} is on the left.", binary.Left.Position);
                if (!IsBoolean(right))
                    throw Type($"'{word}' needs conditions on both sides, and {Describe(right)} is on the right.", binary.Right.Position);
                return new BoundLogical(binary.Operator, AsCondition(left), AsCondition(right));
            case BinaryOperator.Has:
                throw left.Type?.Kind == EdmKind.Enum || left is BoundNull
                    ? new FaultException(
                        RequestFault.NotImplemented(
                            "The operator has is not supported: no enumeration of this service has flags. Use eq.",
                            target,
                            text,
                            binary.OperatorPosition
                        )
                    )
                    : Type($"'has' asks for members of an enumeration, and {Describe(left)} is on the left.", binary.OperatorPosition);
            case BinaryOperator.Eq or BinaryOperator.Ne or BinaryOperator.Gt or BinaryOperator.Ge or BinaryOperator.Lt or BinaryOperator.Le:
                return BindComparison(binary, left, right, word);
            default:
                return BindArithmetic(binary, left, right, word);
        }
    }

    private BoundComparison BindComparison(BinarySyntax binary, BoundExpression left, BoundExpression right, string word)
    {
        if (left is BoundRelated || right is BoundRelated)
        {
            return binary.Operator is BinaryOperator.Eq or BinaryOperator.Ne && (left is BoundNull || right is BoundNull)
                ? new BoundComparison(binary.Operator, left, right)
                : throw Type("A related entity can only be compared with null, by eq or ne.", binary.OperatorPosition);
        }
        (left, right) = Adapt(left, right);
        (left, right) = (DateAndTime(left, right, Mirrored(binary.Operator)), DateAndTime(right, left, binary.Operator));
        if (left is not BoundNull && right is not BoundNull && !AreComparable(left.Type!, right.Type!))
            throw Type($"'{word}' cannot compare {Describe(left)} with {Describe(right)}.", binary.OperatorPosition);
        var isEquality = binary.Operator is BinaryOperator.Eq or BinaryOperator.Ne;
        if (left.Type?.Kind == EdmKind.Enum && !isEquality && left is not BoundNull && right is not BoundNull)
            throw Type($"The members of an enumeration have no order; compare them by eq, ne or in.", binary.OperatorPosition);
        CheckConverted(left, right, isEquality, binary.Left.Position);
        CheckConverted(right, left, isEquality, binary.Right.Position);
        return new BoundComparison(binary.Operator, left, right);
    }

    /// <summary>
    /// A converted property is compared in its stored form: with literals, which are brought to it, and with others of the same form.
    /// </summary>
    private void CheckConverted(BoundExpression expression, BoundExpression other, bool isEquality, int position)
    {
        if (
            expression is not BoundProperty { Property: { Conversion: { Use: not ConvertedUse.Anything } conversion } property }
            || other is BoundNull
        )
            return;
        if (conversion.Use == ConvertedUse.Read || (conversion.Use is ConvertedUse.Equality or ConvertedUse.Sorting && !isEquality))
            throw Converted(property, isEquality ? "compared" : "compared by order", position);
        if (other is not BoundLiteral && (other as BoundProperty)?.Property.Conversion != conversion)
            throw Converted(property, "compared with an expression", position);
    }

    private static BinaryOperator Mirrored(BinaryOperator op) =>
        op switch
        {
            BinaryOperator.Lt => BinaryOperator.Gt,
            BinaryOperator.Gt => BinaryOperator.Lt,
            BinaryOperator.Le => BinaryOperator.Ge,
            BinaryOperator.Ge => BinaryOperator.Le,
            _ => op,
        };

    private BoundExpression BindArithmetic(BinarySyntax binary, BoundExpression left, BoundExpression right, string word)
    {
        if (left is BoundNull || right is BoundNull)
            return new BoundNull();
        (left, right) = (AsOperand(left, right), AsOperand(right, left));
        NotConverted(left, "computed with", binary.Left.Position);
        NotConverted(right, "computed with", binary.Right.Position);
        var (a, b) = (left.Type, right.Type);
        if (a is { IsNumeric: true } && b is { IsNumeric: true })
        {
            var op = Enum.Parse<ArithmeticOperator>(binary.Operator.ToString());
            return new BoundArithmetic(op, left, right, NumericPromotion.Result(op, a, b));
        }
        if (a is not null && b is not null && TemporalPromotion.Result(binary.Operator, a, b) is { } temporal)
            return new BoundArithmetic(Enum.Parse<ArithmeticOperator>(binary.Operator.ToString()), left, right, temporal);
        throw Type($"'{word}' needs numbers, and it stands between {Describe(left)} and {Describe(right)}.", binary.OperatorPosition);
    }

    private BoundExpression BindIn(InSyntax isIn)
    {
        var operand = Bind(isIn.Operand);
        if (operand is BoundNull or BoundRelated)
            throw Type("'in' needs a value on its left.", isIn.Operand.Position);
        if (isIn.Collection is { } collection)
            return BindInValues(operand, collection, isIn.OperatorPosition);
        var most = model.Limits.InMembers;
        if (isIn.Members.Length > most)
            throw Fault("too-large", $"The list of 'in' has more than {most} members.", isIn.Members[most].Position);
        var members = ImmutableArray.CreateBuilder<BoundLiteral>();
        var withNull = false;
        foreach (var member in isIn.Members)
        {
            if (Adapted(Bind(member), operand) is not BoundLiteral literal)
            {
                withNull = true;
                continue;
            }
            if (!AreComparable(operand.Type!, literal.LiteralType))
                throw Type($"'in' cannot compare {Describe(operand)} with {Describe(literal)}.", member.Position);
            members.Add(literal);
            CheckConverted(operand, literal, isEquality: true, isIn.Operand.Position);
        }
        return new BoundIn(operand, members.ToImmutable(), withNull);
    }

    /// <summary>One of the values of a collection property.</summary>
    private BoundOverValues BindInValues(BoundExpression operand, PathSyntax collection, int position)
    {
        if (Collection(collection.Names) is not { Property: { } property } found)
            throw Type("A list or a collection of values follows 'in'.", collection.Position);
        var item = new BoundItem($"v{++_lambdas}", property.Type with { IsCollection = false });
        (operand, _) = Adapt(operand, item);
        return AreComparable(operand.Type!, item.ItemType)
            ? new BoundOverValues(found.Values, item.Scope, OverValues.Any, new BoundComparison(BinaryOperator.Eq, item, operand))
            : throw Type($"'in' cannot compare {Describe(operand)} with values of type {item.ItemType.Name}.", position);
    }
}
