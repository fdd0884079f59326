using System.Globalization;
using System.Text;
using Microsoft.AspNetCore.WebUtilities;
using Microsoft.Net.Http.Headers;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Service;

/// <summary>The multipart format of a batch (Protocol 11.7.7): each part is a request as it would go over a connection; a part that is multipart itself is a change set.</summary>
internal static class MultipartBatch
{
    public static async Task<Result<Batch>> ReadAsync(byte[] body, string boundary, CancellationToken cancellation)
    {
        if (boundary.Length == 0)
            return Fault("The Content-Type multipart/mixed needs a boundary.");
        try
        {
            var read = new List<BatchRequest>();
            return await PartsAsync(body, boundary, null, read, cancellation) is { } fault ? fault : new Batch(read, AnswersAll: false);
        }
        catch (Exception exception) when (exception is IOException or InvalidDataException or ArgumentException)
        {
            return Fault($"The batch is not multipart text with the boundary '{boundary}': a part or the end of it is missing.");
        }
    }

    private static async Task<RequestFault?> PartsAsync(byte[] body, string boundary, string? group, List<BatchRequest> read, CancellationToken cancellation)
    {
        var reader = new MultipartReader(boundary, new MemoryStream(body)) { HeadersCountLimit = 50, HeadersLengthLimit = 16 * 1024 };
        var sets = 0;
        while (await reader.ReadNextSectionAsync(cancellation) is { } section)
        {
            if (read.Count > Limits.BatchRequests)
                return null;
            using var content = new MemoryStream();
            await section.Body.CopyToAsync(content, cancellation);
            if (!MediaTypeHeaderValue.TryParse(section.ContentType, out var type))
                return Fault($"Part {read.Count + 1} has no Content-Type; it is application/http, or multipart/mixed for a change set.");
            if (type.MediaType.Equals("multipart/mixed", StringComparison.OrdinalIgnoreCase))
            {
                if (group is not null)
                    return Fault("A change set holds no other change set.");
                var inner = HeaderUtilities.RemoveQuotes(type.Boundary).ToString();
                if (inner.Length == 0)
                    return Fault("A change set needs a boundary of its own.");
                if (await PartsAsync(content.ToArray(), inner, $"set {++sets}", read, cancellation) is { } fault)
                    return fault;
                continue;
            }
            if (!type.MediaType.Equals("application/http", StringComparison.OrdinalIgnoreCase))
                return Fault($"Part {read.Count + 1} is {type.MediaType}; it is application/http, or multipart/mixed for a change set.");
            var id = section.Headers?.TryGetValue("Content-ID", out var ids) == true ? ids.ToString() : "";
            if (!Request(content.ToArray(), id, group, read.Count + 1).Is(out var request, out var wrong))
                return wrong;
            if (group is not null && request.Method is "GET" or "HEAD")
                return Fault($"Part {read.Count + 1} reads inside of a change set, which holds changes only.");
            read.Add(request);
        }
        return null;
    }

    private static Result<BatchRequest> Request(byte[] content, string id, string? group, int number)
    {
        var text = content.AsSpan();
        var line = Line(ref text);
        var words = line?.Split(' ') ?? [];
        if (words is not [var method, var url, "HTTP/1.1" or "HTTP/1.0"] || method.Length == 0 || !method.All(char.IsAsciiLetter))
            return Fault($"Part {number} does not start with a request line such as 'GET Stations HTTP/1.1'.");
        var headers = new List<(string Name, string Value)>();
        while (Line(ref text) is { Length: > 0 } header)
        {
            var colon = header.IndexOf(':');
            if (colon <= 0 || header.Any(char.IsControl))
                return Fault($"Part {number} has the line '{header}', which is no header.");
            headers.Add((header[..colon].Trim(), header[(colon + 1)..].Trim()));
        }
        if (headers.Find(h => h.Name.Equals("Content-Length", StringComparison.OrdinalIgnoreCase)).Value is { } stated)
        {
            if (!int.TryParse(stated, NumberStyles.None, CultureInfo.InvariantCulture, out var length) || length > text.Length)
                return Fault($"Part {number} states a length of {stated} bytes, and {text.Length} follow.");
            text = text[..length];
        }
        var host = headers.Find(h => h.Name.Equals("Host", StringComparison.OrdinalIgnoreCase)).Value;
        headers.RemoveAll(h => h.Name.ToLowerInvariant() is "host" or "content-length" or "transfer-encoding");
        return new BatchRequest(id, method, host is not null && url.StartsWith('/') ? url : url, headers, text.ToArray(), group, []);
    }

    /// <summary>The next line without its end; null when nothing is left.</summary>
    private static string? Line(ref Span<byte> text)
    {
        if (text.IsEmpty)
            return null;
        var end = text.IndexOf((byte)'\n');
        var line = end < 0 ? text : text[..end];
        text = end < 0 ? [] : text[(end + 1)..];
        return Encoding.UTF8.GetString(line.TrimEnd((byte)'\r'));
    }

    private static RequestFault Fault(string message) => new(400, "batch", message);
}

/// <summary>
/// The answer to a batch as multipart text; a change set is one part, which is a single error when it failed (Protocol 11.7.7.5).
/// </summary>
internal sealed class MultipartBatchWriter : IBatchWriter
{
    private readonly string _boundary = "answer-" + Guid.NewGuid().ToString("N");

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
            var inner = "set-" + Guid.NewGuid().ToString("N");
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
        Text(stream, $"--{boundary}\r\nContent-Type: application/http\r\nContent-Transfer-Encoding: binary\r\n{(withId && response.Request.Id.Length > 0 ? $"Content-ID: {response.Request.Id}\r\n" : "")}\r\n");
        stream.Write(StatusMonitors.HttpText(response.Response));
        Text(stream, "\r\n");
    }

    private static void Text(MemoryStream stream, string text) => stream.Write(Encoding.UTF8.GetBytes(text));
}
