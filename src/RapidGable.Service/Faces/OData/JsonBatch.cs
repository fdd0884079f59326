using System.Buffers.Text;
using System.Text;
using System.Text.Json;
using RapidGable.Expressions;
using RapidGable.Payloads;

namespace RapidGable.Service.Faces.OData;

/// <summary>The JSON format of a batch (JSON format 19).</summary>
internal static class JsonBatch
{
    private static readonly JsonDocumentOptions Options = new() { MaxDepth = 64 };

    public static Result<Batch> Read(byte[] body, int most)
    {
        try
        {
            using var document = JsonDocument.Parse(body, Options);
            if (UnpairedSurrogates.Find(body) is { } half)
                return Fault($"A name or text in the batch is not valid Unicode: an unpaired surrogate follows byte {half}.");
            if (
                document.RootElement.ValueKind != JsonValueKind.Object
                || !document.RootElement.TryGetProperty("requests", out var requests)
                || requests.ValueKind != JsonValueKind.Array
            )
                return Fault("A JSON batch is an object with an array 'requests'.");
            var read = new List<BatchRequest>();
            foreach (var item in requests.EnumerateArray())
            {
                if (read.Count > most)
                    break;
                if (!Request(item, read.Count + 1).Is(out var request, out var fault))
                    return fault;
                read.Add(request);
            }
            return new Batch(read, AnswersAll: true);
        }
        catch (JsonException exception)
        {
            return Fault($"The batch is not JSON: line {exception.LineNumber + 1}, byte {exception.BytePositionInLine + 1}.");
        }
    }

    private static Result<BatchRequest> Request(JsonElement item, int number)
    {
        if (item.ValueKind != JsonValueKind.Object)
            return Fault($"Request {number} is not an object.");
        var members = new Dictionary<string, JsonElement>();
        foreach (var member in item.EnumerateObject())
        {
            if (!members.TryAdd(member.Name, member.Value))
                return Fault($"'{member.Name}' is given twice in request {number}.");
        }
        string? Text(string name) =>
            members.TryGetValue(name, out var value) && value.ValueKind == JsonValueKind.String ? value.GetString() : null;
        if (Text("id") is not { Length: > 0 } id || Text("method") is not { Length: > 0 } method || Text("url") is not { } url)
            return Fault($"Request {number} needs 'id', 'method' and 'url', each a text.");
        if (members.ContainsKey("if"))
            return RequestFault.NotImplemented($"The condition 'if' of the request '{id}' is not supported.");
        var headers = new List<(string, string)>();
        if (members.TryGetValue("headers", out var given))
        {
            if (
                given.ValueKind != JsonValueKind.Object
                || given.EnumerateObject().Any(h => h.Value.ValueKind != JsonValueKind.String || !IsHeader(h.Name, h.Value.GetString()!))
            )
                return Fault($"The headers of the request '{id}' are an object of names and texts.");
            headers.AddRange(given.EnumerateObject().Select(h => (h.Name, h.Value.GetString()!)));
        }
        var dependsOn = new List<string>();
        if (members.TryGetValue("dependsOn", out var depends))
        {
            if (depends.ValueKind != JsonValueKind.Array || depends.EnumerateArray().Any(d => d.ValueKind != JsonValueKind.String))
                return Fault($"'dependsOn' of the request '{id}' is an array of ids.");
            dependsOn.AddRange(depends.EnumerateArray().Select(d => d.GetString()!));
        }
        var type = headers.FirstOrDefault(h => h.Item1.Equals("Content-Type", StringComparison.OrdinalIgnoreCase)).Item2
            ?? "application/json";
        if (!Body(members.GetValueOrDefault("body"), type, id).Is(out var body, out var fault))
            return fault;
        return new BatchRequest(id, method, url, headers, body, Text("atomicityGroup"), dependsOn);
    }

    private static Result<byte[]> Body(JsonElement body, string type, string id)
    {
        if (body.ValueKind == JsonValueKind.Undefined)
            return Array.Empty<byte>();
        if (IsJson(type))
            return Encoding.UTF8.GetBytes(body.GetRawText());
        if (body.ValueKind != JsonValueKind.String)
            return Fault($"The body of the request '{id}' is a text, since its type is {type}.");
        if (type.StartsWith("text/", StringComparison.OrdinalIgnoreCase))
            return Encoding.UTF8.GetBytes(body.GetString()!);
        try
        {
            return Base64Url.DecodeFromChars(body.GetString()!);
        }
        catch (FormatException)
        {
            return Fault($"The body of the request '{id}' is not base64url.");
        }
    }

    private static bool IsHeader(string name, string value) =>
        name.Length > 0 && name.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '_' or '.') && !value.Any(char.IsControl);

    private static bool IsJson(string type) =>
        type.Split(';')[0].Trim() is var media
        && (
            media.Equals("application/json", StringComparison.OrdinalIgnoreCase)
            || media.EndsWith("+json", StringComparison.OrdinalIgnoreCase)
        );

    private static RequestFault Fault(string message) => new(400, "batch", message);

    internal static bool IsJsonType(string? type) => type is not null && IsJson(type);
}

/// <summary>The answer to a batch in JSON (JSON format 19.4).</summary>
internal sealed class JsonBatchWriter : IBatchWriter
{
    private bool _hasBegun;

    public string ContentType => "application/json";

    public byte[] Write(IReadOnlyList<BatchResponse> responses)
    {
        using var stream = new MemoryStream();
        foreach (var (request, response) in responses)
        {
            stream.Write(_hasBegun ? ","u8 : "{\"responses\":["u8);
            _hasBegun = true;
            using var json = new Utf8JsonWriter(stream);
            json.WriteStartObject();
            json.WriteString("id", request.Id);
            if (request.Group is { } group)
                json.WriteString("atomicityGroup", group);
            json.WriteNumber("status", response.Status);
            json.WriteStartObject("headers");
            foreach (
                var header in response
                    .Headers.Where(h => !h.Name.Equals("Content-Length", StringComparison.OrdinalIgnoreCase))
                    .GroupBy(h => h.Name.ToLowerInvariant())
            )
                json.WriteString(header.Key, string.Join(", ", header.Select(h => h.Value)));
            json.WriteEndObject();
            if (response.Body.Length > 0)
                WriteBody(json, response);
            json.WriteEndObject();
        }
        return stream.ToArray();
    }

    private static void WriteBody(Utf8JsonWriter json, InnerResponse response)
    {
        json.WritePropertyName("body");
        if (JsonBatch.IsJsonType(response.ContentType))
            json.WriteRawValue(response.Body, skipInputValidation: true);
        else if (response.ContentType?.StartsWith("text/", StringComparison.OrdinalIgnoreCase) == true)
            json.WriteStringValue(response.Body);
        else
            json.WriteStringValue(Base64Url.EncodeToString(response.Body));
    }

    public byte[] End() => Encoding.UTF8.GetBytes(_hasBegun ? "]}" : "{\"responses\":[]}");
}
