using System.Text.Json.Nodes;

namespace RapidGable.Declarations;

public static partial class FileSchemas
{
    private static JsonObject Described(string? description, JsonObject schema)
    {
        if (description is not null)
            schema["description"] = description;
        return schema;
    }

    private static JsonObject Text(string? description) => Described(description, new JsonObject { ["type"] = "string" });

    /// <summary>A text that YAML may read as something else.</summary>
    private static JsonObject Scalar(string? description) =>
        Described(description, new JsonObject { ["type"] = new JsonArray("string", "number", "boolean") });

    private static JsonObject Name(string? description) =>
        Described(description, new JsonObject { ["type"] = "string", ["pattern"] = Identifier });

    private static JsonObject Flag(string description) => Described(description, new JsonObject { ["type"] = "boolean" });

    private static JsonObject Number(string description, int least, int most) =>
        Described(
            description,
            new JsonObject
            {
                ["type"] = "integer",
                ["minimum"] = least,
                ["maximum"] = most,
            }
        );

    private static JsonObject Words(string? description, params string[] words) =>
        Described(description, new JsonObject { ["enum"] = new JsonArray([.. words.Select(w => (JsonNode)w)]) });

    private static JsonObject List(string description, JsonObject items) =>
        Described(description, new JsonObject { ["type"] = "array", ["items"] = items });

    private static JsonObject Texts(string description) => List(description, Scalar(null));

    private static JsonObject OneOrMany(string description) =>
        Described(description, OneOf(Scalar(null), new JsonObject { ["type"] = "array", ["items"] = Scalar(null) }));

    private static JsonObject OneOf(params JsonObject[] schemas) => new() { ["anyOf"] = new JsonArray([.. schemas]) };

    private static JsonObject Map(string description, JsonObject values, string? names)
    {
        var map = Described(description, new JsonObject { ["type"] = "object", ["additionalProperties"] = values });
        if (names is not null)
            map["propertyNames"] = new JsonObject { ["pattern"] = names };
        return map;
    }

    private static JsonObject Object(string[] required, params (string Name, JsonObject Schema)[] properties)
    {
        var schema = new JsonObject
        {
            ["type"] = "object",
            ["additionalProperties"] = false,
            ["properties"] = new JsonObject([.. properties.Select(p => KeyValuePair.Create(p.Name, (JsonNode?)p.Schema))]),
        };
        if (required.Length > 0)
            schema["required"] = new JsonArray([.. required.Select(r => (JsonNode)r)]);
        return schema;
    }
}
