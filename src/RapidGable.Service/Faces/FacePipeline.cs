using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;
using Microsoft.Net.Http.Headers;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Publishing;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Publishing;
using RapidGable.Service.State;
using RapidGable.Service.Traffic;
using RapidGable.Sources;

namespace RapidGable.Service.Faces;

/// <summary>What stands before the addresses in answers, where something in front of the service takes it away; empty = nothing.</summary>
internal sealed record AddressPrefix(string Text);

/// <summary>
/// What happens to every request of every face, in this order: who asks, whether they may ask that much, which service, whether they may
/// know of it, the face's own answer, and whatever goes wrong on the way; then counting and the log.
/// </summary>
internal sealed class FacePipeline(
    ServiceRegistry registry,
    SignIn signIn,
    RequestRateLimiter traffic,
    Allowances allowances,
    AuditLog audit,
    ServiceMeter meter,
    TrafficHistory history,
    SlowRequests slow,
    TimeProvider time,
    MemoryGuard memory,
    AddressPrefix prefix,
    ILogger<FacePipeline> log
)
{
    private static RequestFault NotSignedIn { get; } =
        new(401, "sign-in", "Sign in first: this does not exist, or is not open to anonymous callers.", "Authorization");

    /// <summary>What requests are held to.</summary>
    public RequestLimits Limits => registry.Workspace.Declaration.Traffic.Requests;

    /// <summary>401 for anonymous callers who could sign in; null = nobody can.</summary>
    public RequestFault? SignInFirst => signIn.IsOffered ? NotSignedIn : null;

    /// <summary>Whether answers differ by the origin of the page that asks.</summary>
    public bool VariesByOrigin => !registry.Workspace.Declaration.Transport.Origins.IsEmpty;

    public async Task HandleAsync(IFace face, HttpContext context)
    {
        context.Response.Headers.ContentSecurityPolicy = ContentPolicy.Untrusted;
        if (face.Greet(context) is { } unwelcome)
        {
            await FailAsync(face, context, unwelcome);
            return;
        }
        if (memory.IsScarce && !InnerExchange.Is(context))
        {
            await FailAsync(face, context, Faults.NoMemory);
            return;
        }
        if (!(await CallerOfAsync(context)).Is(out var caller, out var fault))
        {
            await RefuseAsync(face, context, fault);
            return;
        }
        // What one caller sees is not for a cache that others share (RFC 9111, 5.2.2.7); not every way to sign in sends Authorization.
        if (caller.IsSignedIn && !InnerExchange.Is(context))
            context.Response.Headers.CacheControl = "private, no-cache";
        using var pass = traffic.Enter(context, caller, out fault);
        if (fault is not null)
        {
            await RefuseAsync(face, context, fault);
            return;
        }
        var (path, query) = RawTarget.Of(context);
        var route = Versioned(face.Route(path)!);
        var name = route.Service;
        if (Find(face, name, caller) is not { } service)
        {
            await RefuseServiceAsync(face, context, name, caller);
            return;
        }
        if (route.MovedTo is not null || route.Rest is null)
        {
            var now = (route.MovedTo ?? route.Root) + (query.Length > 0 ? "?" + query : "");
            context.Response.Redirect(now, permanent: true, preserveMethod: route.MovedTo is not null);
            return;
        }
        if (service.OffOn(face.Name) is { } off)
        {
            await FailAsync(face, context, off.Fault);
            return;
        }
        var exchange = new Exchange(
            context,
            service,
            caller,
            $"{context.Request.Scheme}://{context.Request.Host}{prefix.Text}{route.Root}",
            route.Rest,
            query,
            InnerExchange.AllowanceOf(context) ?? allowances.For(context, caller),
            registry.Workspace.Declaration.Traffic
        )
        {
            NoteChange = service.Model.RequiresAudit ? NoteBefore(context, caller) : null,
        };
        TellDeprecation(face, exchange);
        var start = time.GetTimestamp();
        try
        {
            await AnswerAsync(face, exchange);
        }
        finally
        {
            meter.Count(name, context.Response.StatusCode);
            history.Count(name, KnownSet(face, exchange), context.Response.StatusCode, time.GetElapsedTime(start));
            NoteSlow(face, exchange);
            // What stands inside of another request holds what that one does.
            if (!InnerExchange.Is(context))
                exchange.Allowance.Dispose();
        }
    }

    /// <summary>A method of its own, so that requests of other services make no object for what it captures.</summary>
    private Action NoteBefore(HttpContext context, Caller caller) => () => audit.KeepChange(context, caller.Name);

    /// <summary>Writes a fault, or cuts an answer that has begun.</summary>
    public async Task FailAsync(IFace face, HttpContext context, RequestFault fault)
    {
        var response = context.Response;
        if (response.HasStarted)
        {
            // Half an answer must not look like a whole one (Protocol 8.3.1).
            context.Abort();
            return;
        }
        response.StatusCode = fault.Status;
        if (fault.Allow is { } allow)
            response.Headers.Allow = allow;
        if (fault.RetryAfter is { } seconds)
            response.Headers[HeaderNames.RetryAfter] = seconds.ToString(System.Globalization.CultureInfo.InvariantCulture);
        if (fault.Status is 503 or 429 && !response.Headers.ContainsKey(HeaderNames.RetryAfter))
            response.Headers[HeaderNames.RetryAfter] = fault.Code is "source-unavailable" or "source-changed" or "outcome-unknown"
                ? "5"
                : "1";
        response.Headers.Remove("Preference-Applied");
        response.Headers.Remove(HeaderNames.ETag);
        await face.WriteFaultAsync(context, fault);
    }

    /// <summary>
    /// Tells the log of a source's failure that a caller hears in other words; one that the catalog explains has it read again.
    /// </summary>
    public void Note(SourceException exception, PublishedService service, string set, string request)
    {
        log.LogError(
            "{Kind} at a source of {Service}/{Set}, request {Request}: {Message}",
            exception.Kind,
            service.Model.Service,
            set,
            request,
            exception.Message
        );
        if (exception.Kind == SourceFaultKind.Changed)
            registry.ReportChange(service, $"{service.Model.Service}/{set}: {exception.Message}");
    }

    /// <summary>Tells the log that the state could not be kept.</summary>
    public void Note(Exception exception, string request) => log.LogError("Request {Request}: {Message}", request, exception.Message);

    /// <summary>405 with what is allowed, or for OPTIONS just that.</summary>
    public static RequestFault? Refused(Exchange exchange, string allowed, string message)
    {
        exchange.Response.Headers.Allow = allowed;
        if (!HttpMethods.IsOptions(exchange.Request.Method))
            return new RequestFault(405, "method", message);
        exchange.Response.StatusCode = StatusCodes.Status204NoContent;
        return null;
    }

    /// <summary>The route of a version, where the first segment behind the name of a service is that of one.</summary>
    private FaceRoute Versioned(FaceRoute route)
    {
        if (route is not { Rest.Length: > 0, MovedTo: null })
            return route;
        var slash = route.Rest.IndexOf('/');
        var segment = slash < 0 ? route.Rest : route.Rest[..slash];
        return registry.FindVersion(route.Service, segment) is not { } version
            ? route
            : new FaceRoute(version.Model.Service, $"{route.Root}{segment}/", slash < 0 ? null : route.Rest[(slash + 1)..]);
    }

    /// <summary>The service, where the caller may know of it; null = it is not there, or not for them.</summary>
    private PublishedService? Find(IFace face, string name, Caller caller) =>
        registry.Find(name)?.On(face.Name) is { } service && service.IsOpenTo(caller) ? service : null;

    /// <summary>The caller of the request; of one inside of another that of the outer.</summary>
    private async ValueTask<Result<Caller>> CallerOfAsync(HttpContext context) =>
        InnerExchange.CallerOf(context) is { } outer ? outer : await signIn.CallerOfAsync(context);

    /// <summary>Says that the service, or the set that is asked for, will not stay.</summary>
    private static void TellDeprecation(IFace face, Exchange exchange)
    {
        if (!exchange.Service.HasDeprecations)
            return;
        var seen = exchange.Service.ModelFor(exchange.Caller);
        var set = seen.FindSet(face.SetOf(exchange));
        if ((seen.Deprecation ?? set?.Deprecation ?? PropertyOf(exchange, set)?.Deprecation) is not { } deprecation)
            return;
        exchange.Response.Headers["Deprecation"] = deprecation.Header;
        if (deprecation.Sunset is { } sunset)
            exchange.Response.Headers["Sunset"] = sunset;
    }

    /// <summary>The property that a request asks for by itself; null = it asks for something else.</summary>
    private static Property? PropertyOf(Exchange exchange, EntitySet? set)
    {
        var segments = exchange.Path.Split('/', StringSplitOptions.RemoveEmptyEntries);
        // Behind the name of the set alone stands a key, whatever it says.
        if (segments.Length < (segments.FirstOrDefault("").Contains('(') ? 2 : 3))
            return null;
        var last = segments is [.. _, var former, "$value"] ? former : segments.LastOrDefault("");
        return set?.Type.FindProperty(Uri.UnescapeDataString(last));
    }

    private async Task AnswerAsync(IFace face, Exchange exchange)
    {
        var context = exchange.Context;
        try
        {
            if (await face.AnswerAsync(exchange) is not { } refusal)
                return;
            if (refusal.Status is 400 or 403 or 404 && face.IsKeptByRules(exchange))
                audit.Refused(context, AuditEvents.Refused, exchange.Caller.Name, refusal.Status, refusal.Code);
            await RefuseAsync(face, context, IsClosed(face, exchange, refusal) ? NotSignedIn : refusal);
        }
        catch (OperationCanceledException) when (context.RequestAborted.IsCancellationRequested)
        {
            log.LogDebug("The caller went away.");
        }
        catch (SourceException exception)
        {
            using var scope = Scope(face, exchange);
            Note(exception, exchange.Service, face.SetOf(exchange), context.TraceIdentifier);
            await FailAsync(face, context, Faults.From(exception));
        }
        catch (SwitchedOffException exception)
        {
            await FailAsync(face, context, exception.Fault);
        }
        catch (MemoryExceededException exception)
        {
            await FailAsync(face, context, Faults.From(exception));
        }
        catch (StateException exception)
        {
            log.LogError("Request {Request}: {Message}", context.TraceIdentifier, exception.Message);
            await FailAsync(face, context, Faults.StateUnavailable);
        }
        catch (BadHttpRequestException exception)
        {
            await FailAsync(face, context, OfBody(exception));
        }
        catch (RelatedCutException exception)
        {
            await FailAsync(face, context, exception.Fault);
        }
        catch (AnswerTooLargeException)
        {
            await FailAsync(face, context, Faults.AnswerTooLarge);
        }
        catch (OutOfMemoryException)
        {
            log.LogError("Request {Request} found no memory left", context.TraceIdentifier);
            await FailAsync(face, context, Faults.NoMemory);
        }
        catch (Exception exception) when (exception is not OperationCanceledException)
        {
            using var scope = Scope(face, exchange);
            log.LogError(exception, "Request {Request} failed", context.TraceIdentifier);
            await FailAsync(face, context, Faults.Internal);
        }
    }

    private RequestFault OfBody(BadHttpRequestException exception) =>
        exception.StatusCode == 413
            ? new RequestFault(413, "too-large", $"The body is larger than {Limits.BodyBytes} bytes.")
            : new RequestFault(exception.StatusCode, "body", "The body cannot be read.");

    private static string NoService(string name) =>
        name.Length == 0 ? "The name of a service is missing; /services lists them." : $"There is no service '{name}'.";

    private async Task RefuseServiceAsync(IFace face, HttpContext context, string name, Caller caller)
    {
        if (registry.Find(name) is not null)
            audit.Refused(context, AuditEvents.Refused, caller.Name, 404, "not-found");
        // Who is not signed in cannot tell a service that is closed from one that is not there, if any is closed.
        if (!caller.IsSignedIn && signIn.IsOffered && registry.All.Any(s => !s.On(face.Name).IsOpenTo(caller)))
            await RefuseAsync(face, context, NotSignedIn);
        else
            await FailAsync(face, context, RequestFault.NotFound(NoService(Uri.UnescapeDataString(name))));
    }

    private Task RefuseAsync(IFace face, HttpContext context, RequestFault fault)
    {
        if (fault.Status == 401 && !context.Response.HasStarted)
            context.Response.Headers.WWWAuthenticate = signIn.Challenges(fault);
        return FailAsync(face, context, fault);
    }

    /// <summary>
    /// Whether a caller who is not signed in asks for a set that is not there for them, of a service that has sets for others. The name
    /// makes no difference: where nothing is kept from anybody, one that is not there is simply not there.
    /// </summary>
    private bool IsClosed(IFace face, Exchange exchange, RequestFault fault)
    {
        if (fault.Status != 404 || exchange.Caller.IsSignedIn || !signIn.IsOffered || !exchange.Service.HasMoreForOthers(exchange.Caller))
            return false;
        var first = face.SetOf(exchange);
        return face.IsSet(first) && exchange.Service.ModelFor(exchange.Caller).FindSet(first) is null;
    }

    /// <summary>What entries of the log about a request have in common. No value of a row and no query option is among it.</summary>
    private IDisposable? Scope(IFace face, Exchange exchange) =>
        log.BeginScope(
            new Dictionary<string, object>
            {
                ["request"] = exchange.Context.TraceIdentifier,
                ["service"] = exchange.Service.Model.Service,
                ["set"] = face.SetOf(exchange),
                ["caller"] = exchange.Caller.IsSignedIn ? "signed in" : "anonymous",
            }
        );

    /// <summary>The set that a request is about; empty = none that there is.</summary>
    private static string KnownSet(IFace face, Exchange exchange) =>
        exchange.Service.Model.FindSet(face.SetOf(exchange)) is { } set ? set.Name : "";

    private void NoteSlow(IFace face, Exchange exchange)
    {
        var seconds = exchange.Database.Elapsed.TotalSeconds;
        if (seconds < exchange.Traffic.SlowSeconds)
            return;
        if (HttpMethods.IsGet(exchange.Request.Method))
            _ = slow.NoteAsync(face, exchange, seconds);
        using var scope = Scope(face, exchange);
        log.LogWarning(
            "Slow: {Seconds:0.0} s in the database for {Method} {Service}/{Set}, request {Request}",
            seconds,
            exchange.Request.Method,
            exchange.Service.Model.Service,
            face.SetOf(exchange),
            exchange.Context.TraceIdentifier
        );
    }
}
