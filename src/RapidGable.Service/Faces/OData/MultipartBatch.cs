using System.Globalization;
using System.Text;
using Microsoft.Net.Http.Headers;
using RapidGable.Expressions;

namespace RapidGable.Service.Faces.OData;

/// <summary>
/// The multipart format of a batch (Protocol 11.7.7): each part is a request as it would go over a connection; a part that is multipart
/// itself is a change set.
/// </summary>
internal static class MultipartBatch
{
    public static Result<Batch> Read(byte[] body, string boundary, int most)
    {
        if (boundary.Length == 0)
            return Fault("The Content-Type multipart/mixed needs a boundary.");
        var read = new List<BatchRequest>();
        return ReadParts(body, boundary, null, read, most) is { } fault ? fault : new Batch(read, AnswersAll: false);
    }

    private static RequestFault? ReadParts(ReadOnlyMemory<byte> body, string boundary, string? group, List<BatchRequest> read, int most)
    {
        if (MultipartText.Split(body, boundary) is not { } parts)
            return Fault($"The batch is not multipart text with the boundary '{boundary}': a part or the end of it is missing.");
        var sets = 0;
        foreach (var part in parts)
        {
            if (read.Count > most)
                return null;
            if (!MediaTypeHeaderValue.TryParse(part.Headers.GetValueOrDefault("Content-Type"), out var type))
                return Fault($"Part {read.Count + 1} has no Content-Type; it is application/http, or multipart/mixed for a change set.");
            if (type.MediaType.Equals("multipart/mixed", StringComparison.OrdinalIgnoreCase))
            {
                if (group is not null)
                    return Fault("A change set holds no other change set.");
                var inner = HeaderUtilities.RemoveQuotes(type.Boundary).ToString();
                if (inner.Length == 0)
                    return Fault("A change set needs a boundary of its own.");
                if (ReadParts(part.Content, inner, $"set {++sets}", read, most) is { } fault)
                    return fault;
                continue;
            }
            if (!type.MediaType.Equals("application/http", StringComparison.OrdinalIgnoreCase))
                return Fault($"Part {read.Count + 1} is {type.MediaType}; it is application/http, or multipart/mixed for a change set.");
            if (!Request(part, group, read.Count + 1).Is(out var request, out var wrong))
                return wrong;
            if (group is not null && request.Method is "GET" or "HEAD")
                return Fault($"Part {read.Count + 1} reads inside of a change set, which holds changes only.");
            read.Add(request);
        }
        return null;
    }

    private static Result<BatchRequest> Request(MultipartPart part, string? group, int number)
    {
        var text = part.Content;
        var words = MultipartText.TakeLine(ref text)?.Split(' ') ?? [];
        if (words is not [var method, var url, "HTTP/1.1" or "HTTP/1.0"] || method.Length == 0 || !method.All(char.IsAsciiLetter))
            return Fault($"Part {number} does not start with a request line such as 'GET Stations HTTP/1.1'.");
        var headers = new List<(string Name, string Value)>();
        while (MultipartText.TakeLine(ref text) is { Length: > 0 } header)
        {
            var colon = header.IndexOf(':');
            if (colon <= 0 || header.Any(char.IsControl))
                return Fault($"Part {number} has the line '{header}', which is not a header.");
            headers.Add((header[..colon].Trim(), header[(colon + 1)..].Trim()));
        }
        string? Header(string name) => headers.Find(h => h.Name.Equals(name, StringComparison.OrdinalIgnoreCase)).Value;
        if (Header("Content-Length") is { } stated)
        {
            if (!int.TryParse(stated, NumberStyles.None, CultureInfo.InvariantCulture, out var length) || length > text.Length)
                return Fault($"Part {number} states a length of {stated} bytes, and {text.Length} follow.");
            text = text[..length];
        }
        // The id stands before the request, or among its own headers.
        var id = part.Headers.GetValueOrDefault("Content-ID") ?? Header("Content-ID") ?? "";
        headers.RemoveAll(h => h.Name.ToLowerInvariant() is "host" or "content-length" or "transfer-encoding" or "content-id");
        return new BatchRequest(id, method, url, headers, text.ToArray(), group, []);
    }

    private static RequestFault Fault(string message) => new(400, "batch", message);
}

/// <summary>
/// The answer to a batch as multipart text; a change set is one part, which is a single error when it failed (Protocol 11.7.7.5).
/// </summary>
internal sealed class MultipartBatchWriter : IBatchWriter
{
    private readonly string _boundary = "batchresponse_" + Guid.NewGuid().ToString("N");

    public string ContentType => $"multipart/mixed;boundary={_boundary}";

    public byte[] Write(IReadOnlyList<BatchResponse> responses)
    {
        using var stream = new MemoryStream();
        if (responses[0].Request.Group is null)
        {
            foreach (var response in responses)
                Part(stream, response, _boundary, withId: true);
        }
        else if (responses.FirstOrDefault(r => !r.Response.IsSuccess && r.Response.Status != 424) is { } failed)
            Part(stream, failed, _boundary, withId: false);
        else
        {
            var inner = "changesetresponse_" + Guid.NewGuid().ToString("N");
            Text(stream, $"--{_boundary}\r\nContent-Type: multipart/mixed;boundary={inner}\r\n\r\n");
            foreach (var response in responses)
                Part(stream, response, inner, withId: true);
            Text(stream, $"--{inner}--\r\n");
        }
        return stream.ToArray();
    }

    public byte[] End() => Encoding.UTF8.GetBytes($"--{_boundary}--\r\n");

    private static void Part(MemoryStream stream, BatchResponse response, string boundary, bool withId)
    {
        Text(
            stream,
            $"--{boundary}\r\nContent-Type: application/http\r\nContent-Transfer-Encoding: "
                + $"binary\r\n{(withId && response.Request.Id.Length > 0 ? $"Content-ID: {response.Request.Id}\r\n" : "")}\r\n"
        );
        stream.Write(StatusMonitors.HttpText(response.Response));
        Text(stream, "\r\n");
    }

    private static void Text(MemoryStream stream, string text) => stream.Write(Encoding.UTF8.GetBytes(text));
}
