using System.Text.Json.Nodes;
using RapidGable.Model;
using JsonValue = System.Text.Json.Nodes.JsonValue;

namespace RapidGable.Metadata.OpenApi;

/// <summary>Made-up values that keep to types, facets and rules: the same for the same property.</summary>
internal static class ExampleValues
{
    private static readonly string[] Texts =
    [
        "Alder Bridge",
        "alder",
        "AB-001",
        "AB001",
        "A1",
        "ines@example.org",
        "https://example.org/alder",
        "2024-05-01",
        "12345",
        "12",
        "1",
        "a",
        "A",
    ];

    /// <summary>An object with a value for each property; null = none can be made up for one of them.</summary>
    public static JsonObject? Of(IEnumerable<Property> properties)
    {
        var example = new JsonObject();
        foreach (var property in properties.Where(p => p.Type.Kind != EdmKind.Stream))
        {
            if (Of(property) is not { } value)
                return null;
            example[property.Name] = value;
        }
        return example;
    }

    /// <summary>A value; null = none can be made up.</summary>
    public static JsonNode? Of(Property property)
    {
        if (property.IsGroup)
            return Of(property.Members);
        if (property.Type.IsCollection)
            return new JsonArray();
        if (property.Type.Complex is not null)
            return null;
        var rules = property.Rules;
        if (!rules.Values.IsEmpty)
            return OpenApiSchemas.Constant(ValueConversion.Text(rules.Values[0]), property.Type);
        if (!property.AllowedValues.IsEmpty)
            return JsonValue.Create(property.AllowedValues[0]);
        var bound = rules.Minimum ?? rules.Maximum;
        if (bound is not null && property.Type.Kind != EdmKind.String)
            return OpenApiSchemas.Constant(ValueConversion.Text(bound), property.Type);
        return property.Type.Kind switch
        {
            EdmKind.Boolean => JsonValue.Create(true),
            EdmKind.Guid => JsonValue.Create("0d9b3f5e-6c1a-4e8b-9f42-7a5c8d2e1b30"),
            EdmKind.Date => JsonValue.Create("2024-05-01"),
            EdmKind.TimeOfDay => JsonValue.Create("14:30:00"),
            EdmKind.DateTimeOffset => JsonValue.Create("2024-05-01T14:30:00Z"),
            EdmKind.Duration => JsonValue.Create("PT15M"),
            EdmKind.Binary => JsonValue.Create(""),
            EdmKind.Enum => JsonValue.Create(property.Type.Enum!.Members[0].Name),
            EdmKind.String => Text(property),
            EdmKind.Decimal when property.Type.Scale is null or > 0 => JsonValue.Create(1.5m),
            EdmKind.Single or EdmKind.Double => JsonValue.Create(1.5),
            _ => JsonValue.Create(1),
        };
    }

    private static JsonNode? Text(Property property)
    {
        if (property.MediaType == "application/json")
            return JsonValue.Create("{}");
        var (least, most) = (property.Rules.MinLength ?? 0, property.Rules.MaxLength ?? int.MaxValue);
        most = Math.Min(most, property.Type.MaxLength ?? int.MaxValue);
        var text = Texts
            .Select(t => t.Length > most && property.Rules.Pattern is null ? t[..most] : t)
            .Select(t => t.Length < least && property.Rules.Pattern is null ? t + new string('a', least - t.Length) : t)
            .FirstOrDefault(t => t.Length >= least && t.Length <= most && property.Rules.Fault(t) is null);
        return text is null ? null : JsonValue.Create(text);
    }
}
