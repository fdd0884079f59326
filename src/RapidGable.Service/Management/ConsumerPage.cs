using System.Collections.Concurrent;
using System.Net;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Publishing;
using RapidGable.Service.Identity;
using RapidGable.Service.Publishing;
using RapidGable.Service.Traffic;
using RapidGable.Sources;
using RapidGable.UseCases;

namespace RapidGable.Service.Management;

/// <summary>
/// <c>/handover/NAME</c>: the page about a service that its declaration opens to consumers. Each gets the one that is made for them; to
/// everybody else it is not there.
/// </summary>
internal sealed class ConsumerPage(
    ServiceRegistry registry,
    SignIn signIn,
    RequestRateLimiter traffic,
    HandoverWork work,
    TimeProvider time
)
{
    /// <summary>Pages that are kept; one is made by a dozen requests, and asked for often.</summary>
    private const int MostKept = 50;

    private const int MostWaiting = 16;

    /// <summary>Pages that are made at a time; each asks the service itself a dozen times.</summary>
    private const int MostMaking = 2;

    /// <summary>Bytes of all pages that are kept, of the memory of the process.</summary>
    private const long MostBytes = 16 * 1024 * 1024;

    /// <summary>Stands in a page that is kept for the address by which it is asked for.</summary>
    private const string AnyOrigin = "https://origin.invalid";

    private static readonly TimeSpan Kept = TimeSpan.FromMinutes(10);

    private sealed record Page(string Html, DateTimeOffset Made)
    {
        public long Bytes => 2L * Html.Length;
    }

    private readonly ByteBudget _bytes = new(MostBytes, registry.Memory);
    private readonly Lock _keeping = new();

    private readonly ConcurrentDictionary<string, Page> _pages = new(StringComparer.Ordinal);
    private readonly SemaphoreSlim _making = new(MostMaking);
    private readonly ConcurrentDictionary<string, Lazy<Task<string>>> _beingMade = new(StringComparer.Ordinal);
    private int _waiting;

    public static void Map(WebApplication app) =>
        app.MapGet("/handover/{service}", (string service, HttpContext context, ConsumerPage page) => page.AnswerAsync(service, context));

    private async Task<IResult> AnswerAsync(string name, HttpContext context)
    {
        context.Response.Headers.CacheControl = "private, no-cache";
        if (!(await signIn.CallerOfAsync(context)).Is(out var caller, out var fault))
            return Refused(context, fault);
        using var pass = traffic.Enter(context, caller, out fault);
        if (fault is not null)
            return Refused(context, fault);
        if (registry.Find(name) is not { } service || !service.MayOpenHandover(caller) || IsOff(service))
            return !caller.IsSignedIn && signIn.IsOffered
                ? Refused(
                    context,
                    new RequestFault(401, "sign-in", "Sign in first: this does not exist, or is not open to anonymous callers.")
                )
                : Missing(name);
        // A page is made once for all names of the service, so that no header of a request makes another one.
        var origin = WebUtility.HtmlEncode($"{context.Request.Scheme}://{context.Request.Host}");
        try
        {
            return await HtmlAsync(service.Model.Service, service.Revision, caller, context.RequestAborted) is { } html
                ? ManagementInterface.Page(context, html.Replace(AnyOrigin, origin, StringComparison.Ordinal))
                : ManagementInterface.Problem(503, "busy", "Many of these pages are being made. Come back in a while.");
        }
        catch (NotPossibleException)
        {
            return Missing(name);
        }
        catch (InvalidDataException)
        {
            return ManagementInterface.Problem(503, "busy", "The service is being changed. Come back in a while.");
        }
    }

    private static bool IsOff(PublishedService service) => service.OffOn("odata") is not null && service.OffOn("rest") is not null;

    private static IResult Missing(string name) => ManagementInterface.Problem(404, "not-found", $"There is no page about '{name}'.");

    private IResult Refused(HttpContext context, RequestFault fault)
    {
        if (fault.Status == 401)
            context.Response.Headers.WWWAuthenticate = signIn.Challenges(fault);
        return ManagementInterface.Problem(fault.Status, fault.Code, fault.Message);
    }

    /// <summary>The page; null = too many wait for theirs.</summary>
    private async Task<string?> HtmlAsync(string service, string revision, Caller caller, CancellationToken cancellation)
    {
        var key = KeyOf(service, revision, caller);
        if (Fresh(key) is { } known)
            return known;
        if (Interlocked.Increment(ref _waiting) > MostWaiting)
        {
            Interlocked.Decrement(ref _waiting);
            return null;
        }
        try
        {
            // Whoever wants the same page waits for the one that is being made, and nobody's leaving ends it for the others.
            var made = _beingMade.GetOrAdd(key, _ => new Lazy<Task<string>>(() => MakeAsync(key, service, caller)));
            return await made.Value.WaitAsync(cancellation);
        }
        finally
        {
            Interlocked.Decrement(ref _waiting);
        }
    }

    private async Task<string> MakeAsync(string key, string service, Caller caller)
    {
        try
        {
            await _making.WaitAsync();
            try
            {
                var html = await work(service, NameOf(caller), caller, AnyOrigin, CancellationToken.None);
                Keep(key, html);
                return html;
            }
            finally
            {
                _making.Release();
            }
        }
        finally
        {
            _beingMade.TryRemove(key, out _);
        }
    }

    private string? Fresh(string key) => _pages.TryGetValue(key, out var page) && time.GetUtcNow() - page.Made < Kept ? page.Html : null;

    private void Keep(string key, string html)
    {
        var page = new Page(html, time.GetUtcNow());
        lock (_keeping)
        {
            if (_pages.TryRemove(key, out var former))
                _bytes.Give(former.Bytes);
            while (_pages.Count >= MostKept || !_bytes.TryTake(page.Bytes))
            {
                // A page for which there is no room is made again the next time.
                if (_pages.IsEmpty)
                    return;
                var oldest = _pages.MinBy(p => p.Value.Made);
                _pages.TryRemove(oldest);
                _bytes.Give(oldest.Value.Bytes);
            }
            _pages[key] = page;
        }
    }

    private static string NameOf(Caller caller) =>
        !caller.IsSignedIn ? NamedCaller.Anonymous : caller.Name ?? string.Join(',', caller.Roles.Order(StringComparer.Ordinal));

    /// <summary>All that rules can tell one caller from another by.</summary>
    private static string KeyOf(string service, string revision, Caller caller) =>
        System.Text.Json.JsonSerializer.Serialize(
            new
            {
                service,
                revision,
                caller.IsSignedIn,
                caller.Name,
                scope = caller.Scope.ToString(),
                roles = caller.Roles.Order(StringComparer.Ordinal),
                attributes = caller.Attributes.OrderBy(a => a.Key, StringComparer.Ordinal).Select(a => new { a.Key, a.Value }),
            }
        );
}
