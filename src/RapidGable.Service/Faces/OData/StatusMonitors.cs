using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Service.Traffic;

namespace RapidGable.Service.Faces.OData;

/// <summary>Requests that are answered later, and the resources that tell how far they are (Protocol 11.6).</summary>
internal sealed class StatusMonitors(IServiceProvider services, IPendingAnswerStore pendings, Allowances allowances)
{
    /// <summary>First segment of a monitor's address below the service root.</summary>
    public const string Segment = "$async/";

    /// <summary>
    /// Starts the request of an exchange; answers at once when it is ready within the time that the caller is willing to wait.
    /// </summary>
    public async Task<RequestFault?> StartAsync(ODataExchange exchange, ODataFace face)
    {
        var who = exchange.Allowance.Who;
        if (pendings.Count >= Limits.PendingRequests || pendings.CountOf(who) >= Limits.PendingRequestsOfOne)
        {
            exchange.Response.Headers[HeaderNames.RetryAfter] = "10";
            return pendings.Count >= Limits.PendingRequests
                ? new RequestFault(
                    503,
                    "too-many",
                    $"{Limits.PendingRequests} requests wait for their answers to be fetched. Try again later, or ask without "
                        + $"respond-async."
                )
                : new RequestFault(
                    429,
                    "too-many",
                    $"{Limits.PendingRequestsOfOne} of your requests wait for their answers to be fetched. Fetch or delete "
                        + $"them first, or ask without respond-async."
                );
        }
        if (!(await Bodies.ReadAsync(exchange)).Is(out var body, out var fault))
            return fault;
        var context = exchange.Context;
        var (path, query) = RawTarget.Of(context);
        var headers = context
            .Request.Headers.Where(h => !h.Key.Equals("Host", StringComparison.OrdinalIgnoreCase))
            .SelectMany(h => h.Value.Select(v => (h.Key, v ?? "")))
            .ToList();
        var cancellation = new CancellationTokenSource();
        var request = new InnerRequest(context.Request.Method, query.Length == 0 ? path : $"{path}?{query}", headers, body);
        // The outer context ends before the answer is ready; only what does not change is taken from it.
        var outer = new DefaultHttpContext { RequestServices = services };
        (outer.Request.Scheme, outer.Request.Host) = (context.Request.Scheme, context.Request.Host);
        // The answer outlives this request, so it draws on an allowance of its own.
        var allowance = allowances.For(context, exchange.Caller);
        var task = Task.Run(() =>
            InnerExchange.RunAsync(outer, exchange.Caller, request, face, face.Pipeline, allowance, cancellation.Token)
        );
        if (
            exchange.Preferences.Wait is { } seconds
            && await Task.WhenAny(task, Task.Delay(TimeSpan.FromSeconds(Math.Min(seconds, Limits.StatementSeconds)), exchange.Cancellation))
                == task
        )
        {
            using (allowance)
                await WriteAsync(context, await task);
            return null;
        }
        var id = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16));
        pendings.Add(id, new PendingAnswer(exchange.Service.Model.Service, exchange.Caller.Identity, who, task, cancellation, allowance));
        exchange.Preferences.Apply("respond-async");
        exchange.Response.Headers["Preference-Applied"] = exchange.Preferences.Applied;
        Accepted(exchange, id);
        return null;
    }

    private static void Accepted(ODataExchange exchange, string id)
    {
        exchange.Response.StatusCode = StatusCodes.Status202Accepted;
        exchange.Response.Headers.Location = exchange.Root + Segment + id;
        exchange.Response.Headers[HeaderNames.RetryAfter] = "1";
    }

    /// <summary>Answers a request to a monitor.</summary>
    public async Task<RequestFault?> AnswerAsync(ODataExchange exchange, string id)
    {
        if (
            pendings.Find(id) is not { } pending
            || pending.Service != exchange.Service.Model.Service
            || pending.Caller != exchange.Caller.Identity
        )
            return RequestFault.NotFound("There is no such status monitor; it has been deleted, or its time is over.");
        var method = exchange.Request.Method;
        if (HttpMethods.IsDelete(method))
        {
            pendings.Remove(id);
            exchange.Response.StatusCode = StatusCodes.Status204NoContent;
            return null;
        }
        if (!HttpMethods.IsGet(method) && !HttpMethods.IsHead(method))
            return FacePipeline.Refused(exchange, "GET, HEAD, DELETE, OPTIONS", $"{method} is not allowed on a status monitor.");
        if (!pending.Task.IsCompleted)
        {
            Accepted(exchange, id);
            return null;
        }
        var answer = await pending.Task;
        exchange.Response.Headers["AsyncResult"] = answer.Status.ToString();
        if (TakesHttp(exchange.Request.Headers))
            await Bodies.SendAsync(exchange.Context, "application/http", HttpText(answer));
        else
        {
            // The answer itself; its status is in the header (Protocol 11.6).
            await WriteAsync(exchange.Context, answer with { Status = StatusCodes.Status200OK });
        }
        return null;
    }

    private static bool TakesHttp(IHeaderDictionary headers) =>
        headers.Accept.Count == 0
        || (
            MediaTypeHeaderValue.TryParseList([.. headers.Accept.OfType<string>()], out var list)
            && list.Any(a => a.MatchesAllTypes || a.MediaType.Equals("application/http", StringComparison.OrdinalIgnoreCase))
        );

    /// <summary>A response as it would go over a connection.</summary>
    internal static byte[] HttpText(InnerResponse answer)
    {
        var head = new StringBuilder(
            $"HTTP/1.1 {answer.Status} {Microsoft.AspNetCore.WebUtilities.ReasonPhrases.GetReasonPhrase(answer.Status)}\r\n"
        );
        foreach (var (name, value) in answer.Headers)
            head.Append($"{name}: {value}\r\n");
        return [.. Encoding.UTF8.GetBytes(head.Append("\r\n").ToString()), .. answer.Body];
    }

    private static async Task WriteAsync(HttpContext context, InnerResponse answer)
    {
        context.Response.StatusCode = answer.Status;
        foreach (var (name, value) in answer.Headers)
            context.Response.Headers[name] = value;
        // A 204 takes no body, not even an empty one.
        if (answer.Body.Length > 0)
            await context.Response.Body.WriteAsync(answer.Body, context.RequestAborted);
    }
}
