using System.Net.Http.Headers;
using System.Text;

namespace RapidGable.Verification;

/// <summary>An answer of an HTTP interface.</summary>
/// <param name="Status">0 = nothing came.</param>
/// <param name="Failure">Why nothing, or not all, came; null = all came.</param>
public sealed record RestResponse(int Status, IReadOnlyDictionary<string, string> Headers, byte[] Body, string? Failure = null)
{
    /// <summary>The media type without its parameters; empty = not said.</summary>
    public string MediaType => Headers.GetValueOrDefault("Content-Type", "").Split(';')[0].Trim();

    /// <summary>The body as text.</summary>
    public string Text => Encoding.UTF8.GetString(Body);
}

/// <summary>Asks an HTTP interface, as any client would.</summary>
public interface IRestProbe
{
    /// <summary>Sends a request; never throws for what the service or the network does.</summary>
    /// <param name="content">The body with its media type; null = none.</param>
    Task<RestResponse> SendAsync(
        string method,
        string url,
        IReadOnlyList<(string Name, string Value)> headers,
        (string Type, string Text)? content,
        CancellationToken cancellation
    );
}

/// <summary>Asks over HTTP.</summary>
/// <param name="authorization">What the header says of who asks; null = nothing.</param>
public sealed class RestProbe(HttpClient client, string? authorization = null) : IRestProbe
{
    public async Task<RestResponse> SendAsync(
        string method,
        string url,
        IReadOnlyList<(string Name, string Value)> headers,
        (string Type, string Text)? content,
        CancellationToken cancellation
    )
    {
        try
        {
            using var request = new HttpRequestMessage(new HttpMethod(method), ProbeAddress.Of(url));
            if (authorization is not null && headers.All(h => h.Name != "Authorization"))
                request.Headers.TryAddWithoutValidation("Authorization", authorization);
            foreach (var (name, value) in headers)
                request.Headers.TryAddWithoutValidation(name, value);
            if (content is { } sent)
                request.Content = new StringContent(sent.Text, Encoding.UTF8)
                {
                    Headers = { ContentType = new MediaTypeHeaderValue(sent.Type) },
                };
            using var response = await client.SendAsync(request, cancellation);
            var told = response
                .Headers.NonValidated.Concat(response.Content.Headers.NonValidated)
                .ToDictionary(h => h.Key, h => string.Join(", ", h.Value), StringComparer.OrdinalIgnoreCase);
            return new RestResponse((int)response.StatusCode, told, await response.Content.ReadAsByteArrayAsync(cancellation));
        }
        catch (Exception exception)
            when (exception is HttpRequestException or IOException or UriFormatException
                || (exception is TaskCanceledException && !cancellation.IsCancellationRequested)
            )
        {
            return new RestResponse(0, new Dictionary<string, string>(), [], exception.Message);
        }
    }
}
