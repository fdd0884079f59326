using System.Globalization;
using System.Text.RegularExpressions;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Changes;

/// <summary>
/// Texts -> published values of a type, whichever format they come in. Nothing is cut or rounded: a value that does not fit is a fault
/// (M-21).
/// </summary>
internal static partial class TypedText
{
    /// <summary>A value of a type as the protocol writes it in a text.</summary>
    /// <param name="fault">What is wrong, to follow the name of the property; null = nothing.</param>
    public static object? Parse(string text, EdmType type, out string? fault)
    {
        fault = null;
        if (type.Kind == EdmKind.String)
        {
            if (text.Contains('\0'))
                fault = "holds the character U+0000, which no text may hold";
            else if (type.MaxLength is { } most && text.Length > most && text.EnumerateRunes().Count() is var length && length > most)
                fault = $"has {length} characters, and takes at most {most}";
            return fault is null ? text : null;
        }
        if (
            type.Kind is EdmKind.DateTimeOffset or EdmKind.TimeOfDay or EdmKind.Duration
            && FractionDigits(text) is var digits
            && digits > (type.Precision ?? 7)
        )
        {
            fault = $"has {digits} digits in its fraction of a second, and {type.Precision ?? 7} are kept";
            return null;
        }
        if (type.Kind == EdmKind.Date)
            text = WithoutMidnight(text);
        if (Lexer.Plain(text, type) is not { } value)
        {
            fault = type.Enum is { } enumeration
                ? $"is '{Cut(text)}', which is not a member of {enumeration.Name}: "
                    + $"{string.Join(", ", enumeration.Members.Select(m => m.Name))}"
                : $"is '{Cut(text)}', which is not a value of {type.Name}{Example(type)}";
            return null;
        }
        if (value is byte[] bytes && bytes.Length > type.MaxLength)
        {
            fault = $"has {bytes.Length} bytes, and takes at most {type.MaxLength}";
            return null;
        }
        if (value is LongDecimal longNumber)
            return Fitting(longNumber, type, out fault);
        return value is decimal number ? Fitting(number, type, out fault)
            : value is long whole ? InRange(whole, type, out fault)
            : value;
    }

    /// <summary>A date with a time is a date when that is midnight, wherever: clients without a type for dates send it so.</summary>
    private static string WithoutMidnight(string text) => Midnight().IsMatch(text) ? text[..10] : text;

    [GeneratedRegex(@"^\d{4}-\d\d-\d\dT00:00(:00(\.0+)?)?(Z|[+-]\d\d:\d\d)?$")]
    private static partial Regex Midnight();

    private static string Example(EdmType type) =>
        type.Kind switch
        {
            EdmKind.Date => " such as 2024-05-01",
            EdmKind.TimeOfDay => " such as 14:30:00",
            EdmKind.DateTimeOffset => " such as 2024-05-01T14:30:00Z",
            EdmKind.Duration => " such as PT15M",
            EdmKind.Binary => ", which is base64url",
            _ => "",
        };

    public static object? InRange(long number, EdmType type, out string? fault)
    {
        fault = new NumberConversion(EdmType.Int64, type).Decode(number) is null ? $"is {number}, which is outside of {type.Name}" : null;
        return fault is null ? number : null;
    }

    /// <summary>A decimal within the precision and scale of its type.</summary>
    public static object? Fitting(decimal number, EdmType type, out string? fault)
    {
        fault = null;
        // Zeros at the end say nothing.
        var plain = number / 1.000000000000000000000000000000000m;
        var scale = plain.Scale;
        var whole = decimal.Truncate(Math.Abs(plain));
        var wholeDigits = whole == 0 ? 0 : whole.ToString(CultureInfo.InvariantCulture).Length;
        if (type.Scale is { } most && scale > most)
            fault = $"has {scale} digits after the point, and {most} are kept";
        else if (
            type.Precision is { } precision
            && (type.Scale is { } fixedScale ? wholeDigits > precision - fixedScale : wholeDigits + scale > precision)
        )
            fault = $"is {number.ToString(CultureInfo.InvariantCulture)}, which has more digits than {type} takes";
        return fault is null ? number : null;
    }

    public static object? Fitting(LongDecimal number, EdmType type, out string? fault)
    {
        fault = null;
        if (type.Scale is { } most && number.Scale > most)
            fault = $"has {number.Scale} digits after the point, and {most} are kept";
        else if (type.Precision is { } precision && number.WholeDigits + (type.Scale ?? number.Scale) > precision)
            fault = $"is {Cut(number.Text)}, which has more digits than {type} takes";
        return fault is null ? number : null;
    }

    private static int FractionDigits(string text)
    {
        var dot = text.IndexOf('.');
        if (dot < 0)
            return 0;
        var digits = text.AsSpan(dot + 1);
        var end = digits.IndexOfAnyExceptInRange('0', '9');
        return (end < 0 ? digits : digits[..end]).TrimEnd('0').Length;
    }

    /// <summary>A text that is short enough for a message.</summary>
    public static string Cut(string text) => text.Length > 60 ? text[..60] + "…" : text;
}
