using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>What types numbers become when they meet (URL conventions 5.1.1.16.1).</summary>
internal static class NumericPromotion
{
    /// <summary>The type that holds the values of both.</summary>
    public static EdmType Common(EdmType left, EdmType right) => Result(ArithmeticOperator.Add, left, right);

    public static EdmType Result(ArithmeticOperator op, EdmType left, EdmType right)
    {
        if (left.IsFloating || right.IsFloating)
            return EdmType.Double;
        if (left.IsIntegral && right.IsIntegral)
            return op == ArithmeticOperator.DivBy ? EdmType.Decimal : EdmType.Int64;
        return new EdmType(
            EdmKind.Decimal,
            Scale: op switch
            {
                ArithmeticOperator.Add or ArithmeticOperator.Sub or ArithmeticOperator.Mod => Scale(left) is { } a && Scale(right) is { } b
                    ? Math.Max(a, b)
                    : null,
                ArithmeticOperator.Mul => Scale(left) is { } a && Scale(right) is { } b ? a + b : null,
                _ => null,
            }
        );
    }

    // A literal's scale is not known to the plan, which serves many literals.
    private static int? Scale(EdmType type) => type.IsIntegral ? 0 : type.Scale;
}

/// <summary>What dates, times and durations become when they meet (URL conventions 5.1.1.2).</summary>
internal static class TemporalPromotion
{
    /// <summary>The type of the result; null when the operator does not take these.</summary>
    public static EdmType? Result(BinaryOperator op, EdmType left, EdmType right) =>
        (op, left.Kind, right.Kind) switch
        {
            (BinaryOperator.Add or BinaryOperator.Sub, EdmKind.DateTimeOffset, EdmKind.Duration) => EdmType.DateTimeOffset,
            (BinaryOperator.Add or BinaryOperator.Sub, EdmKind.Date, EdmKind.Duration) => EdmType.Date,
            (BinaryOperator.Add or BinaryOperator.Sub, EdmKind.Duration, EdmKind.Duration) => EdmType.Duration,
            (BinaryOperator.Sub, EdmKind.DateTimeOffset, EdmKind.DateTimeOffset) or (BinaryOperator.Sub, EdmKind.Date, EdmKind.Date) =>
                EdmType.Duration,
            (BinaryOperator.Mul, EdmKind.Duration, _) when right.IsNumeric => EdmType.Duration,
            (BinaryOperator.Mul, _, EdmKind.Duration) when left.IsNumeric => EdmType.Duration,
            (BinaryOperator.Div or BinaryOperator.DivBy, EdmKind.Duration, _) when right.IsNumeric => EdmType.Duration,
            _ => null,
        };
}

/// <summary>Parameters and result of a built-in function.</summary>
internal sealed record FunctionSignature(
    ImmutableArray<Func<EdmType, bool>> Parameters,
    ImmutableArray<string> Meanings,
    Func<ImmutableArray<BoundExpression>, EdmType> Result
)
{
    /// <summary>Arguments that cannot be left out.</summary>
    public int Required { get; private init; } = Parameters.Length;

    private static readonly FunctionSignature TextTest = Of(EdmType.Boolean, Text, Text);
    private static readonly FunctionSignature TextChange = Of(EdmType.String, Text);
    private static readonly FunctionSignature DayPart = Of(EdmType.Int32, Day);
    private static readonly FunctionSignature ClockPart = Of(EdmType.Int32, Clock);
    private static readonly FunctionSignature Rounding = new([Number.Fits], [Number.Meaning], a =>
        a[0].Type!.IsFloating ? EdmType.Double : new EdmType(EdmKind.Decimal, Scale: 0)
    );

    public static FunctionSignature Of(CanonicalFunction function) =>
        function switch
        {
            CanonicalFunction.Contains or CanonicalFunction.StartsWith or CanonicalFunction.EndsWith => TextTest,
            CanonicalFunction.ToLower or CanonicalFunction.ToUpper or CanonicalFunction.Trim => TextChange,
            CanonicalFunction.Concat => Of(EdmType.String, Text, Text),
            CanonicalFunction.Length => Of(EdmType.Int32, Text),
            CanonicalFunction.IndexOf => Of(EdmType.Int32, Text, Text),
            CanonicalFunction.Substring => Of(EdmType.String, Text, Whole, Whole) with { Required = 2 },
            CanonicalFunction.MatchesPattern => TextTest,
            CanonicalFunction.TotalOffsetMinutes => Of(EdmType.Int32, Instant),
            CanonicalFunction.TotalSeconds => Of(new EdmType(EdmKind.Decimal, Scale: 7), (t => t.Kind == EdmKind.Duration, "a duration")),
            CanonicalFunction.MinDateTime or CanonicalFunction.MaxDateTime => Of(EdmType.DateTimeOffset),
            CanonicalFunction.Year or CanonicalFunction.Month or CanonicalFunction.Day => DayPart,
            CanonicalFunction.Hour or CanonicalFunction.Minute or CanonicalFunction.Second => ClockPart,
            CanonicalFunction.FractionalSeconds => Of(new EdmType(EdmKind.Decimal, Scale: 7), Clock),
            CanonicalFunction.Date => Of(EdmType.Date, Instant),
            CanonicalFunction.Time => Of(EdmType.TimeOfDay, Instant),
            CanonicalFunction.Now => Of(EdmType.DateTimeOffset),
            CanonicalFunction.Round or CanonicalFunction.Floor or CanonicalFunction.Ceiling => Rounding,
            _ => throw new ArgumentOutOfRangeException(nameof(function)),
        };

    private static (Func<EdmType, bool> Fits, string Meaning) Text => (t => t.Kind == EdmKind.String, "text");

    private static (Func<EdmType, bool> Fits, string Meaning) Whole => (t => t.IsIntegral, "a whole number");

    private static (Func<EdmType, bool> Fits, string Meaning) Number => (t => t.IsNumeric, "a number");

    private static (Func<EdmType, bool> Fits, string Meaning) Day => (t => t.Kind is EdmKind.Date or EdmKind.DateTimeOffset, "a date");

    private static (Func<EdmType, bool> Fits, string Meaning) Clock =>
        (t => t.Kind is EdmKind.TimeOfDay or EdmKind.DateTimeOffset, "a time");

    private static (Func<EdmType, bool> Fits, string Meaning) Instant => (t => t.Kind == EdmKind.DateTimeOffset, "a date with time");

    private static FunctionSignature Of(EdmType result, params (Func<EdmType, bool> Fits, string Meaning)[] parameters) =>
        new([.. parameters.Select(p => p.Fits)], [.. parameters.Select(p => p.Meaning)], _ => result);
}
