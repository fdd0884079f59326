using System.Globalization;
using System.Text;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>
/// Published values -> what a column is set to. A value that the column cannot keep exactly is a fault: nothing is cut or rounded
/// (M-19, M-21).
/// </summary>
internal static class StoredValues
{
    /// <summary>The parameter for a column, or why there is none.</summary>
    /// <param name="path">Of the value in the body.</param>
    public static (StoredValue Value, RequestFault? Fault) Of(object? value, Property property, SqlDialect dialect, string path)
    {
        if (value is null)
            return (StoredValue.Null, null);
        var stored = value;
        if (property.Conversion is { } conversion)
        {
            if (conversion.Encode(value) is not { } encoded)
                return Wrong($"'{path}' cannot be kept: no stored value stands for it ({conversion.Description}).");
            stored = encoded is decimal number && property.StoredType.IsFloating ? StoredValue.Nearest(number) : encoded;
            if (conversion is not (JsonConversion or StreamConversion or NumberConversion) && !Equals(conversion.Decode(stored), value))
                return Wrong($"'{path}' is finer than what is kept of it: {conversion.Description}.");
        }
        switch (stored)
        {
            case decimal number when property.StoredType.IsIntegral:
                if (!decimal.IsInteger(number) || number is < long.MinValue or > long.MaxValue)
                    return Wrong(
                        $"'{path}' is not a whole number of what is stored: "
                            + $"{property.Conversion?.Description ?? property.StoredType.ToString()}."
                    );
                stored = (long)number;
                break;
            case LongDecimal when !dialect.KeepsLongNumbers:
                return Wrong($"'{path}' has more digits than this database keeps of a number.");
            case decimal number when dialect.Kept(number) is null:
                return Wrong($"'{path}' has more digits than this database keeps of a number.");
            case double number when !dialect.Has(number):
                return Wrong($"'{path}' cannot be kept: this database has no {ValueConversion.Text(number)}.");
            case long number when property.StoredType.Kind == EdmKind.Decimal:
                stored = (decimal)number;
                break;
            case decimal or long or double when property.StoredType.Kind == EdmKind.String:
                stored = Convert.ToString(stored, CultureInfo.InvariantCulture)!;
                break;
            case byte[] bytes when property.StoredType.Kind == EdmKind.String:
                stored = Encoding.UTF8.GetString(bytes);
                break;
            case string text when property.StoredType.Kind == EdmKind.Binary:
                stored = Encoding.UTF8.GetBytes(text);
                break;
        }
        return (dialect.Encode(stored, property.StoredType, property.StorageForm), null);

        (StoredValue, RequestFault?) Wrong(string message) => (StoredValue.Null, new RequestFault(400, "not-kept", message, path));
    }
}
