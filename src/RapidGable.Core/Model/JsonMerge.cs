using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace RapidGable.Model;

/// <summary>Changes members of a complex value that is kept as JSON.</summary>
internal static class JsonMerge
{
    private static readonly JsonSerializerOptions Relaxed = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    /// <param name="current">JSON text; null, or what is not an object, is taken as an empty one.</param>
    /// <param name="change">The members that change.</param>
    public static string Of(string? current, string change)
    {
        JsonObject? whole = null;
        try
        {
            whole = current is null ? null : JsonNode.Parse(current) as JsonObject;
        }
        catch (JsonException)
        {
            // What cannot be read has no members to keep.
        }
        return Merged(whole ?? [], (JsonObject)JsonNode.Parse(change)!).ToJsonString(Relaxed);
    }

    private static JsonObject Merged(JsonObject current, JsonObject change)
    {
        foreach (var (name, value) in change)
            current[name] =
                value is JsonObject inner && current[name] is JsonObject there
                    ? Merged((JsonObject)there.DeepClone(), inner)
                    : value?.DeepClone();
        return current;
    }
}
