using System.Net;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;

namespace RapidGable.Service.Tests;

/// <summary>
/// Stands before the service and passes batches on, until one gets through whose answer is lost; then nothing gets through until it is
/// mended.
/// </summary>
internal sealed class BreakingProxy : IAsyncDisposable
{
    private readonly WebApplication _app;
    private int _batches;

    private BreakingProxy(WebApplication app) => _app = app;

    public string Address => _app.Urls.First();

    public bool IsBroken { get; private set; }

    public void Mend() => (IsBroken, _batches) = (false, int.MinValue);

    /// <param name="whole">Batches that are answered before the one that is not.</param>
    public static async Task<BreakingProxy> StartAsync(string service, int whole)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(k => k.Listen(IPAddress.Loopback, 0));
        var app = builder.Build();
        var proxy = new BreakingProxy(app);
        var client = new HttpClient();
        app.Run(context => proxy.PassAsync(context, client, service, whole));
        app.Lifetime.ApplicationStopped.Register(client.Dispose);
        await app.StartAsync();
        return proxy;
    }

    private async Task PassAsync(HttpContext context, HttpClient client, string service, int whole)
    {
        if (IsBroken)
        {
            context.Abort();
            return;
        }
        using var request = new HttpRequestMessage(
            new HttpMethod(context.Request.Method),
            service + context.Request.Path.Value! + context.Request.QueryString
        );
        if (context.Request.ContentType is { } type)
            request.Content = new StreamContent(context.Request.Body) { Headers = { { "Content-Type", type } } };
        foreach (
            var (name, values) in context.Request.Headers.Where(h =>
                h.Key.StartsWith("OData-", StringComparison.OrdinalIgnoreCase) || h.Key is "Prefer" or "Authorization" or "Accept"
            )
        )
            request.Headers.TryAddWithoutValidation(name, values.ToArray());
        using var response = await client.SendAsync(request);
        if (context.Request.Path.Value!.EndsWith("$batch", StringComparison.Ordinal) && _batches++ == whole)
        {
            IsBroken = true;
            context.Abort();
            return;
        }
        context.Response.StatusCode = (int)response.StatusCode;
        context.Response.ContentType = response.Content.Headers.ContentType?.ToString();
        await response.Content.CopyToAsync(context.Response.Body);
    }

    public ValueTask DisposeAsync() => _app.DisposeAsync();
}
