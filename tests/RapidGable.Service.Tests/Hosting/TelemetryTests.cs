using System.Collections.Concurrent;
using System.Diagnostics;
using System.Net;
using System.Text;
using System.Text.Json;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.Extensions.Logging;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>What a running service tells those who run it: traces and metrics to a collector, and a log that programs read.</summary>
public sealed class TelemetryTests : IAsyncLifetime
{
    private const string Trace = "0af7651916cd43dd8448eb211c80319c";

    private readonly ConcurrentQueue<(string Path, byte[] Body)> _collected = new();
    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase("CREATE TABLE item (code TEXT PRIMARY KEY NOT NULL); INSERT INTO item VALUES ('secret-code');")
        .WithService("  - { from: item, name: Items }");
    private WebApplication _collector = null!;
    private Process? _serve;

    public async Task InitializeAsync()
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(k => k.Listen(IPAddress.Loopback, 0));
        _collector = builder.Build();
        _collector.Run(async context =>
        {
            using var body = new MemoryStream();
            await context.Request.Body.CopyToAsync(body);
            _collected.Enqueue((context.Request.Path, body.ToArray()));
        });
        await _collector.StartAsync();
    }

    public async Task DisposeAsync()
    {
        if (_serve is not null)
        {
            _serve.Kill(entireProcessTree: true);
            await _serve.WaitForExitAsync();
            _serve.Dispose();
        }
        await _collector.DisposeAsync();
        _folder.Dispose();
    }

    private async Task<HttpClient> ServeAsync(IReadOnlyDictionary<string, string> environment, params string[] options)
    {
        _serve = Gable.StartWith(environment, _folder.Folder, ["serve", ".", "--port", "0", .. options]);
        var ready = await _serve.StandardOutput.ReadLineAsync() ?? await _serve.StandardError.ReadToEndAsync();
        Assert.StartsWith("Ready: ", ready);
        return new HttpClient { BaseAddress = new Uri(ready["Ready: ".Length..]) };
    }

    private async Task<byte[]> CollectedAsync(string path, string holding)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        while (true)
        {
            foreach (var (at, body) in _collected)
            {
                if (at == path && body.AsSpan().IndexOf(Encoding.UTF8.GetBytes(holding)) >= 0)
                    return body;
            }
            await Task.Delay(50, limit.Token);
        }
    }

    [Fact] // W3C traceparent: a trace that began at the caller goes on here
    public async Task A_collector_gets_traces_and_metrics_without_values_of_rows()
    {
        using var client = await ServeAsync(
            new Dictionary<string, string>
            {
                ["OTEL_EXPORTER_OTLP_ENDPOINT"] = _collector.Urls.First(),
                ["OTEL_EXPORTER_OTLP_PROTOCOL"] = "http/protobuf",
                ["OTEL_METRIC_EXPORT_INTERVAL"] = "300",
                ["OTEL_BSP_SCHEDULE_DELAY"] = "100",
            }
        );
        client.DefaultRequestHeaders.Add("traceparent", $"00-{Trace}-b7ad6b7169203331-01");
        var answer = await client.GetAsync("odata/s/Items('secret-code')?$select=code");
        Assert.Equal(HttpStatusCode.OK, answer.StatusCode);
        Assert.Equal(HttpStatusCode.OK, (await client.GetAsync("odata/s/Items?$filter=code eq 'secret-code'")).StatusCode);
        var traces = await CollectedAsync("/v1/traces", "/odata/s/Items");
        Assert.True(traces.AsSpan().IndexOf(Convert.FromHexString(Trace)) >= 0);
        await CollectedAsync("/v1/metrics", "gable.requests");
        Assert.All(_collected, c => Assert.Equal(-1, c.Body.AsSpan().IndexOf("secret-code"u8)));
    }

    [Fact]
    public async Task A_log_as_JSON_has_the_fields_of_its_request()
    {
        using var client = await ServeAsync(new Dictionary<string, string>(), "--log", "json");
        _folder.WithDatabase("DROP TABLE item;");
        Assert.Equal(HttpStatusCode.ServiceUnavailable, (await client.GetAsync("odata/s/Items('secret-code')")).StatusCode);
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        while (await _serve!.StandardError.ReadLineAsync(limit.Token) is { } line)
        {
            if (!line.StartsWith('{'))
                continue;
            using var entry = JsonDocument.Parse(line);
            if (entry.RootElement.GetProperty("LogLevel").GetString() != "Error")
                continue;
            Assert.DoesNotContain("secret-code", line);
            var scope = entry.RootElement.GetProperty("Scopes").EnumerateArray().Last(s => s.TryGetProperty("service", out _));
            Assert.Equal(
                ("s", "Items", "anonymous"),
                (scope.GetProperty("service").GetString(), scope.GetProperty("set").GetString(), scope.GetProperty("caller").GetString())
            );
            Assert.NotEmpty(scope.GetProperty("request").GetString()!);
            return;
        }
        Assert.Fail("No error is logged.");
    }
}
