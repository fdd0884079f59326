using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Json.Serialization;

namespace RapidGable.Service.Identity;

/// <summary>Names with one text or a list of them; a list of one is written as the text alone.</summary>
internal sealed class OneOrManyTexts : JsonConverter<ImmutableDictionary<string, ImmutableArray<string>>>
{
    public override ImmutableDictionary<string, ImmutableArray<string>> Read(
        ref Utf8JsonReader reader,
        Type typeToConvert,
        JsonSerializerOptions options
    )
    {
        using var document = JsonDocument.ParseValue(ref reader);
        if (document.RootElement.ValueKind != JsonValueKind.Object)
            throw new JsonException("Attributes are names with texts.");
        return document
            .RootElement.EnumerateObject()
            .ToImmutableDictionary(
                p => p.Name,
                p =>
                    p.Value.ValueKind == JsonValueKind.Array
                        ? [.. p.Value.EnumerateArray().Select(Text)]
                        : ImmutableArray.Create(Text(p.Value))
            );
    }

    private static string Text(JsonElement element) =>
        element.ValueKind == JsonValueKind.String
            ? element.GetString()!
            : throw new JsonException("An attribute is a text, or a list of texts.");

    public override void Write(
        Utf8JsonWriter writer,
        ImmutableDictionary<string, ImmutableArray<string>> value,
        JsonSerializerOptions options
    )
    {
        writer.WriteStartObject();
        foreach (var (name, values) in value.OrderBy(v => v.Key, StringComparer.Ordinal))
        {
            writer.WritePropertyName(name);
            if (values.Length != 1)
                writer.WriteStartArray();
            foreach (var text in values)
                writer.WriteStringValue(text);
            if (values.Length != 1)
                writer.WriteEndArray();
        }
        writer.WriteEndObject();
    }
}
