using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;

namespace RapidGable.Model;

/// <summary>Published values as plain JSON, for what is kept or made beside the payloads of the protocol.</summary>
public static class PublishedJson
{
    private static readonly JsonWriterOptions Relaxed = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    /// <summary>The text of an object with a member for each property; a value that is kept as JSON stands as it is.</summary>
    /// <param name="values">Published values, in the order of the properties.</param>
    /// <param name="only">Whether each is written; null = all are.</param>
    public static string Object(IReadOnlyList<Property> properties, object?[] values, bool[]? only = null)
    {
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream, Relaxed))
        {
            json.WriteStartObject();
            for (var i = 0; i < properties.Count; i++)
            {
                if (only is not null && !only[i])
                    continue;
                json.WritePropertyName(properties[i].Name);
                if (values[i] is string text && properties[i].Conversion is JsonConversion)
                    json.WriteRawValue(text);
                else
                    Write(json, values[i]);
            }
            json.WriteEndObject();
        }
        return Encoding.UTF8.GetString(stream.ToArray());
    }

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
