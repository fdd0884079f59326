using System.Text.Json;
using RapidGable.Model;
using RapidGable.Payloads;

namespace RapidGable.Metadata;

/// <summary>The service document in JSON (JSON format 5).</summary>
public static class ServiceDocumentWriter
{
    /// <summary>The service document of what a caller may know (JSON format 5).</summary>
    public static byte[] Write(EntityModel model, PayloadFormat format, string serviceRoot)
    {
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream, new JsonWriterOptions { Encoder = JsonText.Encoder }))
        {
            json.WriteStartObject();
            if (format.HasContext)
                json.WriteString(format.Control("context"), serviceRoot + "$metadata");
            json.WriteStartArray("value");
            foreach (
                var set in model.Sets.Where(s =>
                    s is { ContainedIn: null, IsAction: false, Binding: null } && !s.Parameters.Any(p => p.IsRequired)
                )
            )
                Entry(json, set.Name, set.IsFunction ? "FunctionImport" : "EntitySet");
            foreach (var operation in model.DeclaredOperations.Where(o => o.IsInServiceDocument))
                Entry(json, operation.Name, "FunctionImport");
            json.WriteEndArray();
            json.WriteEndObject();
        }
        return stream.ToArray();
    }

    private static void Entry(Utf8JsonWriter json, string name, string kind)
    {
        json.WriteStartObject();
        json.WriteString("name", name);
        json.WriteString("kind", kind);
        json.WriteString("url", Uri.EscapeDataString(name));
        json.WriteEndObject();
    }
}
