using System.Text.Json;
using RapidGable.Expressions;

namespace RapidGable.Payloads.Plain;

/// <summary>Problem details (RFC 9457).</summary>
public static class ProblemWriter
{
    /// <summary>The media type.</summary>
    public const string MediaType = "application/problem+json";

    /// <summary>What the addresses of problem types start with; the code follows.</summary>
    public const string Types = "/problems/";

    /// <summary>Writes a fault.</summary>
    /// <param name="title">The phrase of its status.</param>
    /// <param name="isOfBody">It is about the content of the body, so that targets are places in it.</param>
    public static byte[] Write(RequestFault fault, string title, bool isOfBody)
    {
        // No property has a hyphen in its name, and the headers that faults are about have one.
        isOfBody = isOfBody && fault.Target?.Contains('-', StringComparison.Ordinal) != true;
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream, new JsonWriterOptions { Encoder = JsonText.Encoder }))
        {
            json.WriteStartObject();
            json.WriteString("type", Types + Uri.EscapeDataString(fault.Code));
            json.WriteString("title", title);
            json.WriteNumber("status", fault.Status);
            json.WriteString("detail", fault.Message);
            json.WriteString("code", fault.Code);
            if (!isOfBody && fault.Target is { } target)
                json.WriteString("parameter", target);
            if (fault.Pointer() is { } excerpt)
            {
                json.WriteNumber("position", fault.Position!.Value);
                json.WriteString("excerpt", excerpt);
            }
            if (isOfBody)
                WriteErrors(json, fault);
            json.WriteEndObject();
        }
        return stream.ToArray();
    }

    /// <summary>An entry for each thing that is wrong, with its place as a JSON pointer in a fragment (RFC 6901, 6).</summary>
    private static void WriteErrors(Utf8JsonWriter json, RequestFault fault)
    {
        var errors = fault.Details.IsEmpty ? [fault] : fault.Details.AsEnumerable();
        json.WriteStartArray("errors");
        foreach (var error in errors)
        {
            json.WriteStartObject();
            json.WriteString("detail", error.Message);
            json.WriteString("code", error.Code);
            json.WriteString("pointer", Pointer(error.Target));
            json.WriteEndObject();
        }
        json.WriteEndArray();
    }

    private static string Pointer(string? path) =>
        path is null
            ? "#"
            : "#/" + string.Join('/', path.Split('/').Select(p => Uri.EscapeDataString(p.Replace("~", "~0", StringComparison.Ordinal))));
}
