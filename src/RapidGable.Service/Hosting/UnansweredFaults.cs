using System.Text.Json;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using RapidGable.Service.Faces;
using RapidGable.Service.Management;
using RapidGable.Service.State;

namespace RapidGable.Service.Hosting;

/// <summary>
/// Sees to it that no address outside of the faces, which have their own, answers an error without a body that says what it is.
/// </summary>
internal static class UnansweredFaults
{
    public static void Use(WebApplication app)
    {
        var log = app.Services.GetRequiredService<ILoggerFactory>().CreateLogger(typeof(UnansweredFaults).FullName!);
        app.Use(
            async (context, next) =>
            {
                IResult? answer;
                try
                {
                    await next(context);
                    answer = IsBare(context.Response) ? OfStatus(context.Response.StatusCode) : null;
                }
                catch (OperationCanceledException) when (context.RequestAborted.IsCancellationRequested)
                {
                    return;
                }
                catch (Exception exception) when (!context.Response.HasStarted)
                {
                    context.Response.Clear();
                    answer = Of(exception, context.TraceIdentifier, log);
                }
                if (answer is null)
                    return;
                context.Response.Headers.ContentSecurityPolicy = ContentPolicy.Untrusted;
                context.Response.Headers.XContentTypeOptions = "nosniff";
                await answer.ExecuteAsync(context);
            }
        );
    }

    private static bool IsBare(HttpResponse response) =>
        response is { StatusCode: >= 400, HasStarted: false, ContentType: null, ContentLength: null or 0 };

    private static IResult Of(Exception exception, string request, ILogger log)
    {
        switch (exception)
        {
            case BadHttpRequestException bad:
                return OfStatus(bad.StatusCode);
            case JsonException:
                return ManagementInterface.Problem(400, "body", "The body is no such JSON object.");
            case StateException state:
                log.LogError("Request {Request}: {Message}", request, state.Message);
                return ManagementInterface.Problem(503, "state", "The service cannot read or keep its state. Nothing was changed.");
            case OutOfMemoryException or Sources.MemoryExceededException:
                return ManagementInterface.Problem(503, "memory", "The service has no memory left for this at the moment.");
            default:
                log.LogError(exception, "Request {Request} failed", request);
                return ManagementInterface.Problem(500, "internal", "The service failed to answer. Its log says why.");
        }
    }

    private static IResult OfStatus(int status) =>
        status switch
        {
            400 => ManagementInterface.Problem(400, "parameter", "A parameter of the address is missing or has another type."),
            404 => ManagementInterface.Problem(404, "not-found", "There is no such address."),
            405 => ManagementInterface.Problem(405, "method", "This address does not take this method."),
            413 => ManagementInterface.Problem(413, "too-large", "The body is too large."),
            415 => ManagementInterface.Problem(415, "content-type", "The body is not of a type that is taken here."),
            _ => ManagementInterface.Problem(status, "refused", "The request was refused."),
        };
}
