using System.Globalization;

namespace RapidGable.Expressions;

/// <summary>Decimal numbers as they are written.</summary>
internal static class DecimalText
{
    /// <summary>A decimal holds 28 digits; what is longer is rounded by the parser, which must not go unseen.</summary>
    public static bool IsExact(string raw, decimal number)
    {
        var mantissa = raw.AsSpan();
        if (mantissa.IndexOfAny('e', 'E') is >= 0 and var end)
            mantissa = mantissa[..end];
        var digits = 0;
        var pending = 0;
        foreach (var c in mantissa)
        {
            if (!char.IsAsciiDigit(c))
                continue;
            if (c == '0')
            {
                if (digits > 0)
                    pending++;
                continue;
            }
            digits += pending + 1;
            pending = 0;
        }
        return digits <= 28 && (digits == 0) == (number == 0)
            || (raw.AsSpan().IndexOfAny('e', 'E') < 0 && digits == 29 && number.ToString(CultureInfo.InvariantCulture) == raw);
    }
}
