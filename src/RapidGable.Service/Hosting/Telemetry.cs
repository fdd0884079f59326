using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Console;
using OpenTelemetry.Metrics;
using OpenTelemetry.Trace;
using RapidGable.Service.Identity;

namespace RapidGable.Service.Hosting;

/// <summary>How the log is written.</summary>
public enum LogFormat
{
    /// <summary>A line of text for each entry.</summary>
    Text,

    /// <summary>A JSON object on a line for each entry, with its fields and those of its request.</summary>
    Json,
}

/// <summary>
/// Logs, metrics and traces, by OpenTelemetry. Where a collector is, is said as everywhere: by <c>OTEL_EXPORTER_OTLP_ENDPOINT</c> and its
/// sisters. Metrics and traces hold no value of a row.
/// </summary>
internal static class Telemetry
{
    /// <summary>The variable that names a collector.</summary>
    private const string CollectorVariable = "OTEL_EXPORTER_OTLP_ENDPOINT";

    public static void Configure(WebApplicationBuilder builder, ServiceOptions options, Func<string, string?> environment)
    {
        Logs(builder.Logging, options);
        var telemetry = builder.Services.AddOpenTelemetry();
        var hasCollector = !options.IsTrial && environment(CollectorVariable) is { Length: > 0 };
        telemetry.WithMetrics(metrics =>
        {
            metrics.AddMeter(options.MeterName).AddPrometheusExporter(p => p.ScrapeResponseCacheDurationMilliseconds = 0);
            if (hasCollector)
                metrics.AddAspNetCoreInstrumentation().AddOtlpExporter();
        });
        // Traces cost something for each request, so there are none unless somebody collects them.
        if (hasCollector)
            telemetry.WithTracing(traces =>
                traces
                    .AddAspNetCoreInstrumentation(o =>
                        o.EnrichWithHttpRequest = (activity, request) => activity.SetTag("url.path", WithoutKeys(request.Path))
                    )
                    .AddOtlpExporter()
            );
    }

    /// <summary>Metrics as text, for who runs the service; for others there is nothing here.</summary>
    public static void MapMetrics(WebApplication app) =>
        app.UseWhen(
            // The exporter by itself would answer everything below its path, too.
            context => context.Request.Path == "/metrics" && IsReading(context.Request.Method),
            metrics =>
                metrics
                    .Use(
                        async (context, next) =>
                        {
                            if (await context.RequestServices.GetRequiredService<Administration>().IsInsiderAsync(context))
                                await next(context);
                            else
                                context.Response.StatusCode = StatusCodes.Status404NotFound;
                        }
                    )
                    .UseOpenTelemetryPrometheusScrapingEndpoint(_ => true)
        );

    private static bool IsReading(string method) => HttpMethods.IsGet(method) || HttpMethods.IsHead(method);

    /// <summary>A path up to the name of the set: what follows are values of rows.</summary>
    private static string WithoutKeys(string path)
    {
        var segments = path.Split('/', 5);
        var set = segments.ElementAtOrDefault(3) ?? "";
        var key = set.IndexOf('(');
        return string.Join('/', segments.Take(3).Append(key < 0 ? set : set[..key])).TrimEnd('/');
    }

    private static void Logs(ILoggingBuilder logging, ServiceOptions options)
    {
        logging.ClearProviders().SetMinimumLevel(LogLevel.Warning).AddFilter("RapidGable", LogLevel.Information);
        // Its scope holds the path of each request, keys of rows and all.
        logging.AddFilter("Microsoft.AspNetCore.Hosting.Diagnostics", LogLevel.None);
        // Keys of cookies are kept with the sessions that they protect, readable by the same owner.
        logging.AddFilter("Microsoft.AspNetCore.DataProtection", LogLevel.Error);
        logging.Configure(o => o.ActivityTrackingOptions = ActivityTrackingOptions.TraceId | ActivityTrackingOptions.SpanId);
        if (options.IsQuiet)
            return;
        if (options.Log == LogFormat.Json)
            logging.AddJsonConsole(console =>
            {
                console.IncludeScopes = true;
                console.UseUtcTimestamp = true;
                console.TimestampFormat = "yyyy-MM-dd'T'HH:mm:ss.fff'Z'";
            });
        else
            logging.AddSimpleConsole(console => console.SingleLine = true);
        logging.Services.Configure<ConsoleLoggerOptions>(o => o.LogToStandardErrorThreshold = LogLevel.Trace);
    }
}
