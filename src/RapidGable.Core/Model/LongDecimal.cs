using System.Globalization;
using System.Text.RegularExpressions;

namespace RapidGable.Model;

/// <summary>
/// A decimal number of more digits than <see cref="decimal"/> holds, as text: an optional sign, digits, and a point with digits.
/// </summary>
public sealed partial record LongDecimal
{
    /// <summary>Digits that a number may have; databases keep fewer or as many.</summary>
    public const int MostDigits = 1_000;

    private LongDecimal(string text) => Text = text;

    public string Text { get; }

    /// <summary>Digits before the point, without zeros at the start.</summary>
    public int WholeDigits => Text.TrimStart('-').Split('.')[0].TrimStart('0').Length;

    /// <summary>Digits after the point, without zeros at the end.</summary>
    public int Scale => Text.Split('.') is [_, var fraction] ? fraction.TrimEnd('0').Length : 0;

    /// <summary>Whether both are one number, whatever zeros they end with.</summary>
    public bool IsSameAs(LongDecimal other) => Plain == other.Plain;

    private string Plain => Text.Contains('.') ? Text.TrimEnd('0').TrimEnd('.') : Text;

    /// <summary>The nearest double, to compare with.</summary>
    public double Nearest => double.Parse(Text, CultureInfo.InvariantCulture);

    /// <summary>Reads a number as SQL or JSON writes it; null when it is none, or too long.</summary>
    public static LongDecimal? Parse(string text)
    {
        if (text.Length > MostDigits + 10 || Form().Match(text) is not { Success: true } match)
            return null;
        var (whole, fraction) = (match.Groups["whole"].Value, match.Groups["fraction"].Value);
        if (match.Groups["exponent"] is { Success: true } exponent)
        {
            if (
                !int.TryParse(exponent.ValueSpan, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var moved)
                || Math.Abs(moved) > MostDigits
            )
                return null;
            (whole, fraction) =
                moved >= 0
                    ? (whole + fraction.PadRight(moved, '0')[..moved], fraction.Length > moved ? fraction[moved..] : "")
                    : (
                        whole.PadLeft(1 - moved, '0')[..(Math.Max(whole.Length, 1 - moved) + moved)],
                        whole.PadLeft(1 - moved, '0')[(Math.Max(whole.Length, 1 - moved) + moved)..] + fraction
                    );
        }
        whole = whole.TrimStart('0') is { Length: > 0 } digits ? digits : "0";
        return new LongDecimal(match.Groups["sign"].Value + whole + (fraction.Length > 0 ? "." + fraction : ""));
    }

    public override string ToString() => Text;

    [GeneratedRegex(@"^(?<sign>-?)\+?(?<whole>\d+)(\.(?<fraction>\d+))?([eE](?<exponent>[+-]?\d{1,5}))?$")]
    private static partial Regex Form();
}
