using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Http.Features;
using RapidGable.Expressions;

namespace RapidGable.Service.Faces;

/// <summary>Bodies of requests, read whole within a limit, and of answers.</summary>
internal static class Bodies
{
    public static async Task<Result<byte[]>> ReadAsync(Exchange exchange)
    {
        var most = exchange.Service.Model.Limits.BodyBytes;
        var tooLarge = new RequestFault(413, "too-large", $"The body is larger than {most} bytes.");
        var request = exchange.Request;
        if (request.Headers.ContentEncoding.Count > 0 && request.Headers.ContentEncoding != "identity")
            return new RequestFault(415, "content-encoding", "Encoded bodies are not read; send the body as it is.", "Content-Encoding");
        if (request.ContentLength > most)
            return tooLarge;
        if (exchange.Context.Features.Get<IHttpMaxRequestBodySizeFeature>() is { IsReadOnly: false } size)
            size.MaxRequestBodySize = most + 1L;
        using var buffer = new MemoryStream();
        var chunk = new byte[16 * 1024];
        int count;
        while ((count = await request.Body.ReadAsync(chunk, exchange.Cancellation)) > 0)
        {
            exchange.Allowance.Take(count);
            buffer.Write(chunk, 0, count);
            if (buffer.Length > most)
                return tooLarge;
        }
        return buffer.ToArray();
    }

    /// <summary>Sends a body that is there as a whole.</summary>
    public static async Task SendAsync(HttpContext context, string contentType, byte[] body)
    {
        context.Response.ContentType = contentType;
        context.Response.ContentLength = body.Length;
        await context.Response.Body.WriteAsync(body, context.RequestAborted);
    }
}
