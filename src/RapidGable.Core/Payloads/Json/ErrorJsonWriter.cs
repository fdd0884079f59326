using System.Text.Json;
using RapidGable.Expressions;

namespace RapidGable.Payloads.Json;

/// <summary>The standard's error body (JSON format 21.1).</summary>
public static class ErrorJsonWriter
{
    /// <summary>Writes the body; the place of a fault in the URL stands as a detail, the text and a caret below it.</summary>
    public static byte[] Write(RequestFault fault)
    {
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream, new JsonWriterOptions { Encoder = JsonText.Encoder }))
        {
            json.WriteStartObject();
            json.WriteStartObject("error");
            json.WriteString("code", fault.Code);
            json.WriteString("message", fault.Message);
            if (fault.Target is { } target)
                json.WriteString("target", target);
            if (fault.Pointer() is { } pointer)
            {
                json.WriteStartArray("details");
                json.WriteStartObject();
                json.WriteString("code", "position");
                json.WriteString("message", pointer);
                json.WriteString("target", $"{fault.Target ?? "path"} at {fault.Position}");
                json.WriteEndObject();
                json.WriteEndArray();
            }
            else if (!fault.Details.IsEmpty)
            {
                json.WriteStartArray("details");
                foreach (var detail in fault.Details)
                {
                    json.WriteStartObject();
                    json.WriteString("code", detail.Code);
                    json.WriteString("message", detail.Message);
                    if (detail.Target is { } at)
                        json.WriteString("target", at);
                    json.WriteEndObject();
                }
                json.WriteEndArray();
            }
            json.WriteEndObject();
            json.WriteEndObject();
        }
        return stream.ToArray();
    }
}
