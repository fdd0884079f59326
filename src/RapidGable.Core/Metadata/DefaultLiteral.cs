using System.Globalization;
using RapidGable.Model;

namespace RapidGable.Metadata;

/// <summary>Defaults of columns as literals of their properties' types (CSDL 7.2.6).</summary>
internal static class DefaultLiteral
{
    /// <param name="value">The source's own text, without quotes.</param>
    /// <returns>Null when it is no value of the type.</returns>
    public static string? Of(EdmType type, string value)
    {
        var invariant = CultureInfo.InvariantCulture;
        return type.Kind switch
        {
            _ when type.IsCollection => null,
            EdmKind.Boolean => value switch
            {
                "0" or "false" => "false",
                "1" or "true" => "true",
                _ => null,
            },
            EdmKind.String => value,
            EdmKind.Enum => type.Enum!.Find(value)?.Name,
            EdmKind.Guid => Guid.TryParse(value, invariant, out var guid) ? guid.ToString() : null,
            EdmKind.Date => DateOnly.TryParseExact(value, "yyyy-MM-dd", invariant, DateTimeStyles.None, out _) ? value : null,
            EdmKind.TimeOfDay => TimeOnly.TryParse(value, invariant, out var time) ? time.ToString("HH:mm:ss.FFFFFFF", invariant) : null,
            EdmKind.DateTimeOffset => Instant(value),
            EdmKind.Single or EdmKind.Double => double.TryParse(value, NumberStyles.Float, invariant, out var real) && double.IsFinite(real)
                ? value
                : null,
            EdmKind.Decimal => decimal.TryParse(value, NumberStyles.AllowLeadingSign | NumberStyles.AllowDecimalPoint, invariant, out _)
                ? value
                : null,
            _ when type.IsIntegral => decimal.TryParse(value, NumberStyles.Number, invariant, out var whole) && decimal.IsInteger(whole)
                ? whole.ToString("0", invariant)
                : null,
            // Durations and bytes are spelt by each engine in its own way.
            _ => null,
        };
    }

    private static string? Instant(string value) =>
        DateTime.TryParse(
            value,
            CultureInfo.InvariantCulture,
            DateTimeStyles.AdjustToUniversal | DateTimeStyles.AssumeUniversal,
            out var instant
        )
            ? instant.ToString("yyyy-MM-dd'T'HH:mm:ss.FFFFFFF'Z'", CultureInfo.InvariantCulture)
            : null;
}
