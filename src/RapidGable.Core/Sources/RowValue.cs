using System.Text;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>Values of a row whose stored form is not the published one.</summary>
public static class RowValue
{
    /// <summary>
    /// The value of a column by its own type, as the conversions take it: bool, long, double, decimal, <see cref="LongDecimal"/>,
    /// string, Guid, DateOnly, TimeOnly, DateTime, TimeSpan or byte[].
    /// </summary>
    /// <exception cref="SourceException">When the stored value does not have the type.</exception>
    public static object Read(IRowCursor row, EdmType type, int column) =>
        type.Kind switch
        {
            EdmKind.Boolean => row.GetBoolean(column),
            EdmKind.Decimal => row.TryGetDecimal(column, out var number)
                ? number
                : LongDecimal.Parse(row.GetNumber(column)) ?? throw row.Odd(column),
            EdmKind.Single or EdmKind.Double => row.GetDouble(column),
            EdmKind.String or EdmKind.Enum => Encoding.UTF8.GetString(row.GetUtf8(column)),
            EdmKind.Guid => row.GetGuid(column),
            EdmKind.Date => row.GetDate(column),
            EdmKind.TimeOfDay => row.GetTimeOfDay(column),
            EdmKind.DateTimeOffset => row.GetInstant(column),
            EdmKind.Duration => row.GetDuration(column),
            EdmKind.Binary or EdmKind.Stream => row.GetBytes(column).ToArray(),
            _ => row.GetInt64(column),
        };

    /// <summary>The published value of a property; its value must not be null.</summary>
    /// <exception cref="SourceException">When the stored value stands for none.</exception>
    public static object Published(IRowCursor row, Property property, int column)
    {
        var stored = Read(row, property.StoredType, column);
        return property.Conversion is not { } conversion
            ? stored
            : conversion.Decode(stored)
                ?? throw new SourceException(
                    SourceFaultKind.BadData,
                    $"A value of column '{property.Column}' cannot be served: '{Shown(stored)}' does not fit {conversion.Description}."
                );
    }

    /// <summary>Writes a value that is kept as JSON text.</summary>
    /// <exception cref="SourceException">When the text does not hold what the property's type says.</exception>
    public static void WriteJson(
        Utf8JsonWriter json,
        IRowCursor row,
        Property property,
        int column,
        bool numbersAsText,
        string? typeMember = null
    )
    {
        try
        {
            using var document = JsonDocument.Parse(row.GetUtf8(column).ToArray());
            if (JsonValue.Write(json, document.RootElement, property.Type, property.Nullable, numbersAsText, typeMember) is { } fault)
                throw new SourceException(SourceFaultKind.BadData, $"A value of column '{property.Column}' cannot be served: {fault}.");
        }
        catch (JsonException)
        {
            throw new SourceException(SourceFaultKind.BadData, $"A value of column '{property.Column}' cannot be served: it is not JSON.");
        }
    }

    private static string Shown(object value)
    {
        var text = value is byte[] bytes
            ? $"{bytes.Length} bytes"
            : Convert.ToString(value, System.Globalization.CultureInfo.InvariantCulture)!;
        return text.Length > 60 ? text[..60] + "…" : text;
    }
}
