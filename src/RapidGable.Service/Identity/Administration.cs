using System.Collections.Concurrent;
using System.Net;
using System.Security.Claims;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using RapidGable.Requests;
using RapidGable.Service.Auditing;

namespace RapidGable.Service.Identity;

/// <summary>Who signed in to the console, kept in memory: what the cookie holds is of no use once they signed out.</summary>
internal sealed class ConsoleSessions(TimeProvider time) : ITicketStore
{
    private const int Most = 1_000;

    private readonly ConcurrentDictionary<string, AuthenticationTicket> _tickets = new();

    public Task<string> StoreAsync(AuthenticationTicket ticket)
    {
        var now = time.GetUtcNow();
        foreach (var (old, _) in _tickets.Where(t => t.Value.Properties.ExpiresUtc <= now || _tickets.Count > Most))
            _tickets.TryRemove(old, out _);
        var key = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
        _tickets[key] = ticket;
        return Task.FromResult(key);
    }

    public Task RenewAsync(string key, AuthenticationTicket ticket)
    {
        _tickets.TryUpdate(key, ticket, _tickets.GetValueOrDefault(key)!);
        return Task.CompletedTask;
    }

    public Task<AuthenticationTicket?> RetrieveAsync(string key) => Task.FromResult(_tickets.GetValueOrDefault(key));

    public Task RemoveAsync(string key)
    {
        _tickets.TryRemove(key, out _);
        return Task.CompletedTask;
    }
}

/// <summary>
/// Who may use the management interface: administrators, by the cookie of the console or a key. As long as the workspace has none, whoever
/// works on the same machine; there the host is a loopback name too, so that no web page reaches it by another.
/// </summary>
internal sealed class Administration(AccountStore store, PasswordCheck passwords, AuditLog audit, TimeProvider time)
{
    public const string Scheme = "console";

    /// <summary>Who works on the same machine, before there are administrators.</summary>
    public const string LocalName = "local";

    private const string StampClaim = "stamp";
    private const string KeyClaim = "key";

    public static void Configure(IServiceCollection services)
    {
        services.AddSingleton<ConsoleSessions>().AddSingleton<Administration>();
        services.AddSingleton<IDataProtectionProvider, EphemeralDataProtectionProvider>();
        services.AddAuthentication().AddCookie(Scheme, cookie =>
        {
            cookie.Cookie.Name = "gable-console";
            cookie.Cookie.Path = "/manage";
            cookie.Cookie.HttpOnly = true;
            cookie.Cookie.SameSite = SameSiteMode.Strict;
            cookie.Cookie.SecurePolicy = CookieSecurePolicy.SameAsRequest;
            cookie.ExpireTimeSpan = TimeSpan.FromHours(8);
            cookie.SlidingExpiration = true;
            cookie.Events.OnValidatePrincipal = context =>
            {
                // A session ends with the account, and with its password.
                if (!context.HttpContext.RequestServices.GetRequiredService<Administration>().IsGood(context.Principal!))
                    context.RejectPrincipal();
                return Task.CompletedTask;
            };
        });
        services.AddOptions<CookieAuthenticationOptions>(Scheme).Configure<ConsoleSessions, TimeProvider>((cookie, sessions, time) => (cookie.SessionStore, cookie.TimeProvider) = (sessions, time));
    }

    /// <summary>Whether the workspace has administrators, who then sign in wherever they are.</summary>
    public bool IsRequired => store.Current is { } accounts && (ReferenceEquals(accounts, AccountFile.Unreadable) || !accounts.Administrators.IsEmpty || accounts.Keys.Values.Any(k => k.IsAdministrator));

    /// <summary>The administrator of a request; null = it is none's.</summary>
    public async Task<string?> NameOfAsync(HttpContext context)
    {
        if (!IsRequired)
            return IsLocal(context) ? LocalName : null;
        if (context.Request.Headers.Authorization is { Count: > 0 } header)
            return ByKey(context, header.ToString());
        return (await context.AuthenticateAsync(Scheme)) is { Succeeded: true, Principal.Identity.Name: { } name } ? name : null;
    }

    private string? ByKey(HttpContext context, string header)
    {
        const string Bearer = "Bearer ";
        if (!header.StartsWith(Bearer, StringComparison.OrdinalIgnoreCase) || header.Length > 300 || store.Current?.FindKey(header[Bearer.Length..].Trim(), time.GetUtcNow().UtcDateTime) is not { Key.IsAdministrator: true } found)
        {
            audit.Refused(context, AuditEvents.SignInRefused, null, 401, "sign-in", "a key that opens no management");
            return null;
        }
        audit.SignedIn(context, found.Key.Name, "key", found.Id);
        return found.Key.Name;
    }

    /// <summary>Signs in to the console; the answer sets its cookie.</summary>
    public async Task<RequestFault?> SignInAsync(HttpContext context, string name, string password)
    {
        if (SignIn.IsPlainFromAfar(context))
            return new RequestFault(401, "tls-needed", "Passwords are taken over TLS only; everybody on the way could have read this one.");
        var account = store.Current?.Administrators.GetValueOrDefault(name);
        if (await passwords.RefuseAsync(context, "administrator", name, password, account?.Password) is { } fault)
        {
            audit.Refused(context, fault.Status == 429 ? AuditEvents.Limited : AuditEvents.SignInRefused, null, fault.Status, fault.Code, "at the console");
            return fault;
        }
        var identity = new ClaimsIdentity([new Claim(ClaimTypes.Name, name), new Claim(StampClaim, StampOf(account!.Password))], Scheme);
        await context.SignInAsync(Scheme, new ClaimsPrincipal(identity));
        audit.SignedIn(context, name, "console");
        return null;
    }

    /// <summary>Signs in to the console with an administrator's key; the answer sets its cookie.</summary>
    public async Task<RequestFault?> SignInAsync(HttpContext context, string key)
    {
        if (ByKey(context, "Bearer " + key) is not { } name || store.Current?.FindKey(key.Trim(), time.GetUtcNow().UtcDateTime) is not { } found)
            return SignIn.Refused("The key is not an administrator's, is revoked, or its time is over.");
        var identity = new ClaimsIdentity([new Claim(ClaimTypes.Name, name), new Claim(KeyClaim, found.Id), new Claim(StampClaim, StampOf(found.Key.Secret))], Scheme);
        await context.SignInAsync(Scheme, new ClaimsPrincipal(identity));
        return null;
    }

    private bool IsGood(ClaimsPrincipal principal)
    {
        var stamp = principal.FindFirst(StampClaim)?.Value;
        if (principal.FindFirst(KeyClaim)?.Value is { } id)
            return store.Current?.Keys.GetValueOrDefault(id) is { IsAdministrator: true } key && !(key.Expires <= time.GetUtcNow().UtcDateTime) && stamp == StampOf(key.Secret);
        return principal.Identity?.Name is { } name && store.Current?.Administrators.GetValueOrDefault(name) is { } account && stamp == StampOf(account.Password);
    }

    /// <summary>Whether a request may hear what is only for those who run the service: administrators, and who works on its machine.</summary>
    public async Task<bool> IsInsiderAsync(HttpContext context) => IsFromHere(context) || await NameOfAsync(context) is not null;

    private static string StampOf(string hash) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(hash)));

    /// <summary>Whether a request that changes something comes from the console or the client, and not from the page of somebody else.</summary>
    public static bool IsOwnClient(HttpContext context)
    {
        var headers = context.Request.Headers;
        // A header that no form and no plain link can send, and what browsers say of where a request comes from.
        return headers.ContainsKey(ManagementInterface.ClientHeader) && headers["Sec-Fetch-Site"].ToString() is "" or "same-origin" or "none"
            && (headers.Origin.Count == 0 || headers.Origin.ToString().Equals($"{context.Request.Scheme}://{context.Request.Host}", StringComparison.OrdinalIgnoreCase));
    }

    private static bool IsFromHere(HttpContext context) =>
        Peer.Of(context) is { } address && IPAddress.IsLoopback(address) && context.Connection.RemoteIpAddress is { } client && IPAddress.IsLoopback(client) && !context.Request.Headers.ContainsKey("X-Forwarded-For");

    private static bool IsLocal(HttpContext context) => IsFromHere(context)
        && context.Request.Host.Host.Trim('[', ']') is var host
        && (host is "localhost" || (IPAddress.TryParse(host, out var named) && IPAddress.IsLoopback(named)));
}
