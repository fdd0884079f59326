using Microsoft.AspNetCore.Http.Features;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Service;

/// <summary>Bodies of requests, read whole within a limit.</summary>
internal static class Bodies
{
    public static async Task<Result<byte[]>> ReadAsync(Exchange exchange)
    {
        var tooLarge = new RequestFault(413, "too-large", $"The body is larger than {Limits.BodyBytes} bytes.");
        var request = exchange.Request;
        if (request.Headers.ContentEncoding.Count > 0 && request.Headers.ContentEncoding != "identity")
            return new RequestFault(415, "content-encoding", "Encoded bodies are not read; send the body as it is.", "Content-Encoding");
        if (request.ContentLength > Limits.BodyBytes)
            return tooLarge;
        if (exchange.Context.Features.Get<IHttpMaxRequestBodySizeFeature>() is { IsReadOnly: false } size)
            size.MaxRequestBodySize = Limits.BodyBytes + 1;
        using var buffer = new MemoryStream();
        var chunk = new byte[16 * 1024];
        int count;
        while ((count = await request.Body.ReadAsync(chunk, exchange.Cancellation)) > 0)
        {
            exchange.Allowance.Take(count);
            buffer.Write(chunk, 0, count);
            if (buffer.Length > Limits.BodyBytes)
                return tooLarge;
        }
        return buffer.ToArray();
    }
}
