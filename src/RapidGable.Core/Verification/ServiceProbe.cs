using System.Diagnostics;
using System.Net.Http.Headers;

namespace RapidGable.Verification;

/// <summary>An answer as it came.</summary>
/// <param name="Status">HTTP status; 0 when nothing came.</param>
/// <param name="Failure">Why nothing, or not all, came; null = all came.</param>
public sealed record ProbeResponse(
    int Status,
    string? ContentType,
    string? ODataVersion,
    byte[] Body,
    TimeSpan Time,
    string? Failure = null
);

/// <summary>Asks a service, as any client would.</summary>
public interface IServiceProbe
{
    /// <summary>GETs an absolute URL; never throws for what the service or the network does.</summary>
    Task<ProbeResponse> GetAsync(string url, string? accept, CancellationToken cancellation);

    /// <summary>As the other, with a preference.</summary>
    Task<ProbeResponse> GetAsync(string url, string? accept, string prefer, CancellationToken cancellation) =>
        GetAsync(url, accept, cancellation);

    /// <summary>Sends a body as JSON with another method; never throws for what the service or the network does.</summary>
    Task<ProbeResponse> SendAsync(string method, string url, string body, CancellationToken cancellation) =>
        Task.FromResult(new ProbeResponse(0, null, null, [], TimeSpan.Zero, "nothing was sent"));
}

/// <summary>Asks over HTTP, as a client of OData 4.01.</summary>
/// <param name="authorization">What the header says of who asks; null = nothing.</param>
public sealed class HttpProbe(HttpClient client, string? authorization = null) : IServiceProbe
{
    public Task<ProbeResponse> GetAsync(string url, string? accept, CancellationToken cancellation) =>
        GetAsync(url, accept, "", cancellation);

    public Task<ProbeResponse> GetAsync(string url, string? accept, string prefer, CancellationToken cancellation) =>
        AskAsync(HttpMethod.Get, url, accept, prefer, null, cancellation);

    public Task<ProbeResponse> SendAsync(string method, string url, string body, CancellationToken cancellation) =>
        AskAsync(
            new HttpMethod(method),
            url,
            "application/json",
            "",
            new StringContent(body, System.Text.Encoding.UTF8, "application/json"),
            cancellation
        );

    private async Task<ProbeResponse> AskAsync(
        HttpMethod method,
        string url,
        string? accept,
        string prefer,
        HttpContent? content,
        CancellationToken cancellation
    )
    {
        var clock = Stopwatch.StartNew();
        try
        {
            using var request = new HttpRequestMessage(method, ProbeAddress.Of(url)) { Content = content };
            if (authorization is not null)
                request.Headers.TryAddWithoutValidation("Authorization", authorization);
            if (accept is not null)
                request.Headers.Accept.Add(MediaTypeWithQualityHeaderValue.Parse(accept));
            request.Headers.Add("OData-MaxVersion", "4.01");
            if (prefer.Length > 0)
                request.Headers.Add("Prefer", prefer);
            using var response = await client.SendAsync(request, cancellation);
            var body = await response.Content.ReadAsByteArrayAsync(cancellation);
            var version = response.Headers.TryGetValues("OData-Version", out var values) ? values.First() : null;
            return new ProbeResponse(
                (int)response.StatusCode,
                response.Content.Headers.ContentType?.ToString(),
                version,
                body,
                clock.Elapsed
            );
        }
        catch (Exception exception)
            when (exception is HttpRequestException or IOException
                || (exception is TaskCanceledException && !cancellation.IsCancellationRequested)
            )
        {
            return new ProbeResponse(
                0,
                null,
                null,
                [],
                clock.Elapsed,
                exception is TaskCanceledException ? "no answer in time" : exception.Message
            );
        }
        catch (UriFormatException)
        {
            return new ProbeResponse(0, null, null, [], clock.Elapsed, "this is not an address");
        }
    }
}
