using System.Buffers.Text;
using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>
/// The position in an ordered result after which the next page starts: the stored values of the sort terms of the last
/// row. It holds all that is needed, so any process of the same service can go on.
/// </summary>
/// <param name="Order">A fingerprint of the order that the values belong to.</param>
public sealed record PagePosition(string Order, ImmutableArray<StoredValue> Values)
{
    /// <summary>The token as it stands in a next link.</summary>
    public string Write()
    {
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream))
        {
            json.WriteStartArray();
            json.WriteStringValue(Order);
            foreach (var value in Values)
                Write(json, value);
            json.WriteEndArray();
        }
        return Base64Url.EncodeToString(stream.ToArray());
    }

    internal static void Write(Utf8JsonWriter json, StoredValue value)
    {
        switch (value.Kind)
        {
            case StoredValueKind.Null:
                json.WriteNullValue();
                break;
            case StoredValueKind.Int64:
                json.WriteNumberValue(value.Int64);
                break;
            case StoredValueKind.Double:
                json.WriteStringValue("d" + BitConverter.DoubleToInt64Bits(value.Double).ToString("x16"));
                break;
            case StoredValueKind.Text:
                json.WriteStringValue("t" + value.Text);
                break;
            default:
                json.WriteStringValue("b" + Convert.ToHexString(value.Blob));
                break;
        }
    }

    /// <summary>Reads a token; null when it was not made by <see cref="Write()"/>.</summary>
    public static PagePosition? Read(string text) =>
        Reading(text, items => new PagePosition(items[0].GetString() ?? "", [.. items.Skip(1).Select(Value)]));

    /// <summary>Reads the items of a token's array; null when it is none.</summary>
    public static T? Reading<T>(string text, Func<List<JsonElement>, T?> read)
        where T : class
    {
        try
        {
            using var json = JsonDocument.Parse(Encoding.UTF8.GetString(Base64Url.DecodeFromChars(text)));
            return read(json.RootElement.EnumerateArray().ToList());
        }
        catch (Exception exception)
            when (exception
                    is FormatException
                        or JsonException
                        or InvalidOperationException
                        or ArgumentException
                        or OverflowException
                        or IndexOutOfRangeException
            )
        {
            return null;
        }
    }

    internal static StoredValue Value(JsonElement element)
    {
        if (element.ValueKind == JsonValueKind.Null)
            return StoredValue.Null;
        if (element.ValueKind == JsonValueKind.Number)
            return StoredValue.From(element.GetInt64());
        var text = element.GetString()!;
        return text[0] switch
        {
            'd' => StoredValue.From(BitConverter.Int64BitsToDouble(Convert.ToInt64(text[1..], 16))),
            't' => StoredValue.From(text[1..]),
            'b' => StoredValue.From(Convert.FromHexString(text[1..])),
            _ => throw new FormatException(),
        };
    }
}
