using System.Text.Json;
using Microsoft.AspNetCore.Http;
using RapidGable.Service.Management.Contracts;
using RapidGable.Sources;
using RapidGable.UseCases;

namespace RapidGable.Service.Management;

/// <summary>
/// The answer of something that reads many rows. A caller who accepts JSON Lines is told how far it is, a line at a time, before the
/// result; who goes away cancels it.
/// </summary>
internal static class ProgressAnswer
{
    private const string Lines = "application/x-ndjson";

    /// <summary>How long nothing is said at least, so that few lines are sent.</summary>
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(250);

    /// <param name="work">Is given what tells of its progress, in words.</param>
    /// <param name="about">What is read, for people.</param>
    public static async Task<IResult> RunAsync(
        HttpContext context,
        string about,
        TimeProvider time,
        Func<Action<string>, CancellationToken, Task<object>> work
    )
    {
        if (!context.Request.Headers.Accept.ToString().Contains(Lines, StringComparison.OrdinalIgnoreCase))
        {
            var (result, problem, status) = await OutcomeAsync(work, _ => { }, about, context.RequestAborted);
            return problem is null ? ManagementInterface.Json(result!) : ManagementInterface.Problem(status, problem.Code, problem.Message);
        }
        context.Response.ContentType = Lines;
        // Nothing in between may hold lines back until there are many.
        context.Features.Get<Microsoft.AspNetCore.Http.Features.IHttpResponseBodyFeature>()?.DisableBuffering();
        var newest = "";
        var told = "";
        var running = OutcomeAsync(work, text => Volatile.Write(ref newest, text), about, context.RequestAborted);
        while (!running.IsCompleted)
        {
            await Task.WhenAny(running, Task.Delay(Pause, time, context.RequestAborted));
            if (running.IsCompleted || Volatile.Read(ref newest) is not { } text || text == told)
                continue;
            told = text;
            await WriteAsync(context, new ProgressLine(told, null, null));
        }
        var (found, fault, _) = await running;
        await WriteAsync(context, new ProgressLine(null, found, fault));
        return Results.Empty;
    }

    private static async Task WriteAsync(HttpContext context, ProgressLine line)
    {
        byte[] bytes = [.. JsonSerializer.SerializeToUtf8Bytes(line, ManagementInterface.JsonOptions), (byte)'\n'];
        await context.Response.Body.WriteAsync(bytes, context.RequestAborted);
        await context.Response.Body.FlushAsync(context.RequestAborted);
    }

    private static async Task<(object? Result, ProblemDetail? Problem, int Status)> OutcomeAsync(
        Func<Action<string>, CancellationToken, Task<object>> work,
        Action<string> progress,
        string about,
        CancellationToken cancellation
    )
    {
        try
        {
            return (await work(progress, cancellation), null, 200);
        }
        catch (NotPossibleException exception)
        {
            return (
                null,
                new ProblemDetail(exception.IsAbsent ? "not-found" : "not-possible", exception.Message),
                exception.IsAbsent ? 404 : 409
            );
        }
        catch (InvalidDataException exception)
        {
            return (null, new ProblemDetail("not-possible", exception.Message), 409);
        }
        catch (SourceException exception)
        {
            return (null, new ProblemDetail("source", $"{about} cannot be read: {exception.Message}"), 503);
        }
    }
}
