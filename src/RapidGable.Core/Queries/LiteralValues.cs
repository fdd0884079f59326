using System.Text.RegularExpressions;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>Literals of requests as published values and as parameters of statements.</summary>
internal static class LiteralValues
{
    /// <summary>A literal as a value of a type.</summary>
    public static Result<object> Published(Literal literal, EdmType type) =>
        Converted(literal, type) is { } value
            ? Result<object>.Of(value)
            : new RequestFault(400, "type", NoValue(literal, type), literal.Target, literal.Text, literal.Position);

    /// <summary>The fault of a number that must not be negative.</summary>
    public static RequestFault Negative(Literal literal) =>
        new(400, "number", $"A number of at least 0 is needed, not {literal.Value}.", literal.Target, literal.Text, literal.Position);

    /// <summary>A regular expression as a parameter's value, or what is wrong with it.</summary>
    public static RequestFault? BindPattern(Literal literal, SqlDialect dialect, out StoredValue value)
    {
        value = dialect.Encode(dialect.Pattern((string)literal.Value), EdmType.String, null);
        return IsPattern((string)literal.Value)
            ? null
            : new RequestFault(
                400,
                "pattern",
                $"'{literal.Value}' is not a regular expression of ECMAScript.",
                literal.Target,
                literal.Text,
                literal.Position
            );
    }

    /// <summary>A literal as a parameter's value, or what is wrong with it.</summary>
    public static RequestFault? Bind(Literal literal, LiteralParameter parameter, SqlDialect dialect, out StoredValue value)
    {
        value = StoredValue.Null;
        if (Converted(literal, parameter.Type) is not { } published)
            return new RequestFault(400, "type", NoValue(literal, parameter.Type), literal.Target, literal.Text, literal.Position);
        if (published is double number && !dialect.Has(number))
            return RequestFault.NotImplemented($"This database has no {ValueConversion.Text(number)} to compare with.", literal.Target);
        if (published is LongDecimal digits && !dialect.Has(digits))
            return RequestFault.NotImplemented("This database has no decimal numbers of so many digits.", literal.Target);
        if (parameter.Conversion is not { } conversion)
        {
            value = dialect.Encode(published, parameter.Type, parameter.StorageForm);
            return null;
        }
        if (conversion.Encode(published) is not { } stored)
            return conversion.MayLackStored
                ? null
                : new RequestFault(
                    400,
                    "type",
                    $"'{literal.Value}' stands for no stored value: {conversion.Description}.",
                    literal.Target,
                    literal.Text,
                    literal.Position
                );
        value = dialect.Encode(stored, conversion.Parameter, parameter.StorageForm);
        return null;
    }

    private static bool IsPattern(string text)
    {
        try
        {
            _ = new Regex(text, RegexOptions.ECMAScript);
            return text.Length <= Limits.PatternLength;
        }
        catch (ArgumentException)
        {
            return false;
        }
    }

    private static string NoValue(Literal literal, EdmType type)
    {
        if (type.Enum is not { } enumeration)
            return $"'{literal.Value}' is not a value of {type.Name}.";
        var sent = literal.Value is EnumLiteral member ? member.Member : literal.Value;
        var isOther = literal.Value is EnumLiteral other && other.Type != enumeration.QualifiedName;
        var start = isOther ? $", and its literals start with {enumeration.QualifiedName}" : "";
        var members = string.Join(", ", enumeration.Members.Select(m => m.Name));
        return $"{enumeration.Name} has no member '{sent}'{start}. Its members: {members}.";
    }

    private static object? Converted(Literal literal, EdmType type) =>
        type.Kind switch
        {
            EdmKind.Enum => literal.Value switch
            {
                string text => type.Enum!.Find(text)?.Name,
                EnumLiteral member when member.Type == type.Enum!.QualifiedName => type.Enum.Find(member.Member)?.Name,
                _ => null,
            },
            _ when literal.Kind == LiteralKind.Text => Lexer.Plain((string)literal.Value, type),
            EdmKind.Duration when literal.Value is string text => Lexer.TryDuration(text, out var duration) ? duration : null,
            EdmKind.Decimal when literal.Value is long number => (decimal)number,
            EdmKind.Single or EdmKind.Double => literal.Value switch
            {
                long number => (double)number,
                decimal number => StoredValue.Nearest(number),
                LongDecimal number => number.Nearest,
                var number => number,
            },
            _ => literal.Value,
        };
}
