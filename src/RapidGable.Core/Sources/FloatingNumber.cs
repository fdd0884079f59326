using System.Globalization;

namespace RapidGable.Sources;

/// <summary>Floating numbers as people wrote them.</summary>
internal static class FloatingNumber
{
    /// <summary>A number of single precision as the double with the same shortest text: 0.1 stays 0.1.</summary>
    public static double Widened(float number)
    {
        // By decimal, which is faster, where it has all the digits.
        if (Math.Abs(number) is > 1e-5f and < 1e20f)
            return (double)(decimal)number;
        return float.IsFinite(number) && number != 0
            ? double.Parse(number.ToString("R", CultureInfo.InvariantCulture), CultureInfo.InvariantCulture)
            : number;
    }
}
