using System.Text.Json;

namespace RapidGable.Model;

/// <summary>Published values as plain JSON, for what is kept or made beside the payloads of the protocol.</summary>
public static class PublishedJson
{
    /// <param name="value">One of the kinds that <see cref="ValueConversion"/> lists; null = null. What JSON has no form for becomes
    /// its text.</param>
    public static void Write(Utf8JsonWriter json, object? value)
    {
        switch (value)
        {
            case LongDecimal number:
                json.WriteRawValue(number.Text);
                break;
            case null:
                json.WriteNullValue();
                break;
            case bool flag:
                json.WriteBooleanValue(flag);
                break;
            case long number:
                json.WriteNumberValue(number);
                break;
            case decimal number:
                json.WriteNumberValue(number);
                break;
            case double number when double.IsFinite(number):
                json.WriteNumberValue(number);
                break;
            case double number:
                json.WriteStringValue(ValueConversion.Text(number));
                break;
            default:
                json.WriteStringValue(ValueConversion.Text(value));
                break;
        }
    }
}
