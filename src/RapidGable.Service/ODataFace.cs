using System.Diagnostics;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Http.Features;
using Microsoft.Extensions.Logging;
using Microsoft.Net.Http.Headers;
using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Traffic;
using RapidGable.Sources;

namespace RapidGable.Service;

/// <summary>One request to one service.</summary>
/// <param name="Root">The service's absolute address, with a slash at its end.</param>
/// <param name="Allowance">What the request may take of memory and of sessions.</param>
/// <param name="Traffic">What the workspace declares of how much callers may ask.</param>
internal sealed record Exchange(
    HttpContext Context,
    PublishedService Service,
    Caller Caller,
    ODataVersion Version,
    string Root,
    Preferences Preferences,
    RequestAllowance Allowance,
    Declarations.TrafficDeclaration Traffic
)
{
    public CancellationToken Cancellation => Context.RequestAborted;

    /// <summary>Runs while the database is asked, until its first row is there.</summary>
    public Stopwatch Database { get; } = new();

    public HttpRequest Request => Context.Request;

    public HttpResponse Response => Context.Response;
}

/// <summary>The OData 4.0 and 4.01 face: <c>/odata/{service}/…</c>.</summary>
internal sealed class ODataFace(
    ServiceRegistry registry,
    SignIn signIn,
    TrafficGate traffic,
    Allowances allowances,
    AuditLog audit,
    RequestCounters counters,
    StatusMonitors monitors,
    RepeatMemory repeats,
    TimeProvider time,
    ILogger<ODataFace> log
)
{
    public const string Prefix = "/odata/";

    public async Task HandleAsync(HttpContext context)
    {
        var response = context.Response;
        var (path, query) = RawTarget(context);
        var rest = path[Prefix.Length..];
        var slash = rest.IndexOf('/');
        var name = slash < 0 ? rest : rest[..slash];
        response.Headers["OData-Version"] = "4.0";
        response.Headers.Vary = registry.Workspace.Declaration.Transport.Origins.IsEmpty
            ? "Accept, OData-MaxVersion, Prefer, Authorization"
            : "Accept, OData-MaxVersion, Prefer, Authorization, Origin";
        if (!Negotiation.TryVersion(context.Request.Headers, out var version, out var fault))
        {
            await FailAsync(context, fault!);
            return;
        }
        response.Headers["OData-Version"] = version == ODataVersion.V40 ? "4.0" : "4.01";
        if (context.Request.Headers["OData-Version"].ToString().Trim() is { Length: > 0 } own and not ("4.0" or "4.01"))
        {
            await FailAsync(
                context,
                new RequestFault(
                    400,
                    "version",
                    $"The request says OData-Version '{own}', and this service reads 4.0 and 4.01.",
                    "OData-Version"
                )
            );
            return;
        }
        if (context.Request.Headers.ContainsKey("OData-Isolation") || context.Request.Headers.ContainsKey("Isolation"))
        {
            await FailAsync(
                context,
                new RequestFault(
                    412,
                    "isolation",
                    "Pages from one snapshot are not offered; ask without the isolation header.",
                    "OData-Isolation"
                )
            );
            return;
        }
        if (!(await CallerOfAsync(context)).Is(out var caller, out fault))
        {
            await RefuseAsync(context, fault);
            return;
        }
        // What one caller sees is not for a cache that others share (RFC 9111, 5.2.2.7); not every way to sign in sends Authorization.
        if (caller.IsSignedIn && !InnerExchange.Is(context))
            response.Headers.CacheControl = "private, no-cache";
        using var pass = traffic.Enter(context, caller, out fault);
        if (fault is not null)
        {
            await RefuseAsync(context, fault);
            return;
        }
        if (registry.Find(name) is not { } service || !service.IsOpenTo(caller))
        {
            if (registry.Find(name) is not null)
                audit.Refused(context, AuditEvents.Refused, caller.Name, 404, "not-found");
            // Who is not signed in cannot tell a service that is closed from one that is not there, if any is closed.
            if (!caller.IsSignedIn && signIn.IsOffered && registry.All.Any(s => !s.IsOpenTo(caller)))
                await RefuseAsync(context, NotSignedIn);
            else
                await FailAsync(context, RequestFault.NotFound($"There is no service '{Uri.UnescapeDataString(name)}'."));
            return;
        }
        if (slash < 0)
        {
            response.Redirect($"{Prefix}{name}/{(query.Length > 0 ? "?" + query : "")}", permanent: true);
            return;
        }
        var exchange = new Exchange(
            context,
            service,
            caller,
            version,
            $"{context.Request.Scheme}://{context.Request.Host}{Prefix}{name}/",
            new Preferences(context.Request.Headers),
            InnerExchange.AllowanceOf(context) ?? allowances.For(context, caller),
            registry.Workspace.Declaration.Traffic
        );
        try
        {
            if (await AnswerAsync(exchange, rest[(slash + 1)..], query) is { } refusal)
            {
                if (refusal.Status is 400 or 403 or 404 && service.IsKeptByRules(rest[(slash + 1)..], query, caller))
                    audit.Refused(context, AuditEvents.Refused, caller.Name, refusal.Status, refusal.Code);
                await RefuseAsync(context, IsClosed(exchange, refusal, rest[(slash + 1)..]) ? NotSignedIn : refusal);
            }
        }
        catch (OperationCanceledException) when (context.RequestAborted.IsCancellationRequested)
        {
            log.LogDebug("The caller went away.");
        }
        catch (SourceException exception)
        {
            Note(exception, exchange, rest[(slash + 1)..]);
            await FailAsync(context, Faults.From(exception));
        }
        catch (MemoryExceededException exception)
        {
            await FailAsync(context, Faults.From(exception));
        }
        catch (BadHttpRequestException exception)
        {
            await FailAsync(
                context,
                new RequestFault(
                    exception.StatusCode,
                    exception.StatusCode == 413 ? "too-large" : "body",
                    exception.StatusCode == 413 ? $"The body is larger than {Limits.BodyBytes} bytes." : "The body cannot be read."
                )
            );
        }
        catch (Exception exception) when (exception is not OperationCanceledException)
        {
            log.LogError(exception, "A request failed");
            await FailAsync(context, Faults.Internal);
        }
        finally
        {
            counters.Count(name, response.StatusCode);
            NoteSlow(exchange, rest[(slash + 1)..]);
            // What stands inside of another request holds what that one does.
            if (!InnerExchange.Is(context))
                exchange.Allowance.Dispose();
        }
    }

    /// <summary>The instant of what begins now, in UTC.</summary>
    internal DateTime Now => time.GetUtcNow().UtcDateTime;

    /// <summary>
    /// Tells the log of a source's failure that a caller hears in other words; one that the catalog explains has it read again.
    /// </summary>
    /// <param name="path">Below the service's root, as it was sent.</param>
    internal void Note(SourceException exception, Exchange exchange, string path) =>
        Note(exception, exchange.Service.Model.Service, SetOf(path), exchange.Context.TraceIdentifier);

    internal void Note(SourceException exception, string service, string set, string request)
    {
        log.LogError(
            "{Kind} at a source of {Service}/{Set}, request {Request}: {Message}",
            exception.Kind,
            service,
            set,
            request,
            exception.Message
        );
        if (exception.Kind == SourceFaultKind.Changed)
            registry.ReportChange($"{service}/{set}: {exception.Message}");
    }

    private void NoteSlow(Exchange exchange, string path)
    {
        var seconds = exchange.Database.Elapsed.TotalSeconds;
        if (seconds >= exchange.Traffic.SlowSeconds)
            log.LogWarning(
                "Slow: {Seconds:0.0} s in the database for {Method} {Service}/{Set}, request {Request}",
                seconds,
                exchange.Request.Method,
                exchange.Service.Model.Service,
                SetOf(path),
                exchange.Context.TraceIdentifier
            );
    }

    /// <summary>The first segment of a path: a set's name, or another resource of the service.</summary>
    private static string SetOf(string path)
    {
        var end = path.AsSpan().IndexOfAny('/', '(');
        return Uri.UnescapeDataString(end < 0 ? path : path[..end]);
    }

    private static RequestFault NotSignedIn { get; } =
        new(401, "sign-in", "Sign in first: this is not open to everybody, or not there.", "Authorization");

    /// <summary>The caller of the request; of one inside of another that of the outer.</summary>
    private async ValueTask<Result<Caller>> CallerOfAsync(HttpContext context) =>
        InnerExchange.CallerOf(context) is { } outer ? outer : await signIn.CallerOfAsync(context);

    /// <summary>
    /// Whether a caller who is not signed in asks for a set that is not there for them, of a service that has sets for others. The name
    /// makes no difference: where nothing is kept from anybody, one that is not there is simply not there.
    /// </summary>
    private bool IsClosed(Exchange exchange, RequestFault fault, string path)
    {
        if (fault.Status != 404 || exchange.Caller.IsSignedIn || !signIn.IsOffered || !exchange.Service.HasMoreForOthers(exchange.Caller))
            return false;
        var first = SetOf(path);
        return !first.StartsWith('$') && exchange.Service.ModelFor(exchange.Caller).FindSet(first) is null;
    }

    private Task RefuseAsync(HttpContext context, RequestFault fault)
    {
        if (fault.Status == 401 && !context.Response.HasStarted)
            context.Response.Headers.WWWAuthenticate = signIn.Challenges(fault);
        return FailAsync(context, fault);
    }

    /// <summary>The path and query as the client sent them, before anything decodes them.</summary>
    internal static (string Path, string Query) RawTarget(HttpContext context)
    {
        var target = context.Features.Get<IHttpRequestFeature>()!.RawTarget;
        if (!target.StartsWith('/') && Uri.TryCreate(target, UriKind.Absolute, out var absolute))
            target = target[(target.IndexOf(absolute.Authority, StringComparison.OrdinalIgnoreCase) + absolute.Authority.Length)..];
        var mark = target.IndexOf('?');
        return mark < 0 ? (target, "") : (target[..mark], target[(mark + 1)..]);
    }

    private async Task<RequestFault?> AnswerAsync(Exchange exchange, string path, string query)
    {
        // Some clients encode the sign of the resources that are told apart here.
        if (path.Equals("%24batch", StringComparison.OrdinalIgnoreCase))
            path = "$batch";
        else if (path.EndsWith("/%24query", StringComparison.OrdinalIgnoreCase))
            path = path[..^"%24query".Length] + "$query";
        if (path.StartsWith(StatusMonitors.Segment, StringComparison.Ordinal))
            return await monitors.AnswerAsync(exchange, path[StatusMonitors.Segment.Length..]);
        if (exchange.Preferences.RespondAsync && !InnerExchange.Is(exchange.Context))
            return await monitors.StartAsync(exchange, this);
        if (path == "$batch")
            return await BatchRunner.AnswerAsync(exchange, query, this);
        var method = exchange.Request.Method;
        var isRead = HttpMethods.IsGet(method) || HttpMethods.IsHead(method);
        var isQuery = path.EndsWith("/$query", StringComparison.Ordinal);
        if (isQuery && HttpMethods.IsPost(method))
        {
            if (!(await QueryBodyAsync(exchange, query)).Is(out var merged, out var wrong))
                return wrong;
            (path, query, isRead) = (path[..^"/$query".Length], merged, true);
        }
        if (
            !RequestAddress.Read(path, isRead ? query : "").Is(out var address, out var fault)
            || (isRead && !address.ResolveEntityId(exchange.Root).Is(out address, out fault))
        )
            return fault;
        if (AllEntities.Is(path))
            return await new AllEntities(exchange, this, isRead).AnswerAsync(address);
        if (isQuery && !isRead)
            return Refused(exchange, "POST, OPTIONS", $"{method} is not allowed here; $query takes POST.");
        if (isQuery && address.Segments[^1].Text == "$query")
            return Refused(exchange, "POST, OPTIONS", "$query takes POST, with the query options as its body.");
        if (!isRead)
        {
            var change = new ODataChange(exchange, repeats, time);
            var refusal = await change.AnswerAsync(path, query, () => signIn.IsOffered ? NotSignedIn : null);
            if (refusal is null && !HttpMethods.IsOptions(method))
                audit.Changed(exchange.Context, exchange.Caller.Name, exchange.Response.StatusCode);
            return refusal;
        }
        if (exchange.Request.Headers.Range.ToString().TrimStart().StartsWith("items", StringComparison.OrdinalIgnoreCase))
            return RequestFault.NotImplemented(
                "Ranges of items are not supported; ask with $top and $skip, and follow the next link.",
                "Range"
            );
        if (
            !LexedRequest.Read(address).Is(out var lexed, out fault)
            || !exchange.Service.Prepare(lexed, exchange.Caller).Is(out var prepared, out fault)
        )
            return fault;
        if (lexed.SchemaVersion is { } schema && schema != "*")
            return RequestFault.NotFound(
                $"There is no schema version '{schema}'; this service has one, which $schemaversion=* asks for.",
                "$schemaversion"
            );
        return await new ODataAnswer(exchange, time).WriteAsync(address, lexed, prepared);
    }

    /// <summary>405 with what is allowed, or for OPTIONS just that.</summary>
    internal static RequestFault? Refused(Exchange exchange, string allowed, string message)
    {
        exchange.Response.Headers.Allow = allowed;
        if (!HttpMethods.IsOptions(exchange.Request.Method))
            return new RequestFault(405, "method", message);
        exchange.Response.StatusCode = StatusCodes.Status204NoContent;
        return null;
    }

    /// <summary>The options of a POST to <c>$query</c>: those of the address and those of the body (URL conventions 4.17).</summary>
    private static async Task<Result<string>> QueryBodyAsync(Exchange exchange, string query)
    {
        if (
            !MediaTypeHeaderValue.TryParse(exchange.Request.ContentType, out var type)
            || !type.MediaType.Equals("text/plain", StringComparison.OrdinalIgnoreCase)
        )
            return new RequestFault(
                415,
                "content-type",
                "The body of $query is text/plain: the query options as they would stand in the address.",
                "Content-Type"
            );
        if (!(await Bodies.ReadAsync(exchange)).Is(out var body, out var fault))
            return fault;
        if (!System.Text.Unicode.Utf8.IsValid(body))
            return new RequestFault(400, "encoding", "The body of $query is not valid UTF-8.");
        var text = System.Text.Encoding.UTF8.GetString(body).Trim('\r', '\n');
        if (text.Length + query.Length > Limits.UrlLength)
            return new RequestFault(413, "too-large", $"The query is longer than {Limits.UrlLength} characters.");
        return query.Length == 0 ? text
            : text.Length == 0 ? query
            : $"{query}&{text}";
    }

    internal static async Task FailAsync(HttpContext context, RequestFault fault)
    {
        if (context.Response.HasStarted)
        {
            // Half an answer must not look like a whole one (Protocol 8.3.1).
            context.Abort();
            return;
        }
        context.Response.StatusCode = fault.Status;
        if (fault.Status is 503 or 429 && !context.Response.Headers.ContainsKey(HeaderNames.RetryAfter))
            context.Response.Headers[HeaderNames.RetryAfter] = fault.Code is "source-unavailable" or "source-changed" or "outcome-unknown"
                ? "5"
                : "1";
        context.Response.Headers.Remove("Preference-Applied");
        context.Response.Headers.Remove(HeaderNames.ETag);
        await ODataAnswer.SendAsync(context, "application/json", ErrorJsonWriter.Write(fault));
    }
}
