using System.Security.Claims;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.DataProtection.KeyManagement;
using Microsoft.AspNetCore.DataProtection.Repositories;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using RapidGable.Expressions;
using RapidGable.Service.Auditing;

namespace RapidGable.Service.Identity;

/// <summary>
/// Who may use the management interface: administrators, by the cookie of the console or a key. As long as the workspace has none, the
/// link that the service prints at its start lets people in.
/// </summary>
internal sealed class Administration(IAccountStore store, PasswordCheck passwords, ConsoleLink link, AuditLog audit, TimeProvider time)
{
    /// <summary>What clients of our own send with requests that do something.</summary>
    public const string ClientHeader = "Gable-Client";

    public const string Scheme = "console";

    /// <summary>Who came by the link, before there are administrators.</summary>
    public const string LinkName = "link";

    private const string StampClaim = "stamp";
    private const string KeyClaim = "key";

    public static void Configure(IServiceCollection services)
    {
        services.AddSingleton<Administration>();
        services.AddDataProtection().SetApplicationName("gable");
        services.AddOptions<KeyManagementOptions>().Configure<IXmlRepository>((keys, repository) => keys.XmlRepository = repository);
        services
            .AddAuthentication()
            .AddCookie(Scheme, cookie =>
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
        services
            .AddOptions<CookieAuthenticationOptions>(Scheme)
            .Configure<ITicketStore, TimeProvider>(
                (cookie, sessions, time) => (cookie.SessionStore, cookie.TimeProvider) = (sessions, time)
            );
    }

    /// <summary>Whether the workspace has administrators, who then sign in wherever they are.</summary>
    public bool IsRequired =>
        store.Current is { } accounts
        && (
            ReferenceEquals(accounts, AccountDirectory.Unreadable)
            || !accounts.Administrators.IsEmpty
            || accounts.Keys.Values.Any(k => k.IsAdministrator)
        );

    /// <summary>The administrator of a request, with the rights of this moment; null = it is none's.</summary>
    public async Task<Manager?> FindAsync(HttpContext context)
    {
        if (context.Request.Headers.Authorization is { Count: > 0 } header)
            return ByKey(context, header.ToString());
        return (await context.AuthenticateAsync(Scheme)) is { Succeeded: true, Principal: { Identity.Name: { } name } principal }
            ? new Manager(name, RightsOf(principal, name))
            : null;
    }

    /// <summary>What a session may do: what its account or key may now, and not when it began.</summary>
    private ManagementRights RightsOf(ClaimsPrincipal principal, string name)
    {
        if (!IsRequired)
            return ManagementRights.All;
        var accounts = store.Current;
        if (principal.FindFirst(KeyClaim)?.Value is { } id)
            return accounts?.Keys.GetValueOrDefault(id) is { } key ? ManagementRightWords.Of(key.Rights) : ManagementRights.None;
        return accounts?.Administrators.GetValueOrDefault(name) is { } account
            ? ManagementRightWords.Of(account.Rights)
            : ManagementRights.None;
    }

    private Manager? ByKey(HttpContext context, string header)
    {
        const string Bearer = "Bearer ";
        var key =
            header.StartsWith(Bearer, StringComparison.OrdinalIgnoreCase) && header.Length <= 300 ? header[Bearer.Length..].Trim() : "";
        if (SignIn.IsPlainFromAfar(context))
            audit.Refused(context, AuditEvents.SignInRefused, null, 401, "tls-needed", "a key of management over plain HTTP");
        else if (!IsRequired && link.Is(key))
            return new Manager(LinkName, ManagementRights.All);
        else if (key.Length > 0 && store.Current?.FindKey(key, time.GetUtcNow().UtcDateTime) is { Key.IsAdministrator: true } found)
        {
            audit.SignedIn(context, found.Key.Name, "key", found.Id);
            return new Manager(found.Key.Name, ManagementRightWords.Of(found.Key.Rights));
        }
        else
            audit.Refused(context, AuditEvents.SignInRefused, null, 401, "sign-in", "a key that opens no management");
        return null;
    }

    /// <summary>
    /// Signs in to the console of a workspace without administrators by the link that the service told; the answer sets its cookie.
    /// </summary>
    public async Task<RequestFault?> SignInByLinkAsync(HttpContext context, string token)
    {
        if (SignIn.IsPlainFromAfar(context))
            return PlainFromAfar;
        if (IsRequired || !link.Use(token))
        {
            audit.Refused(context, AuditEvents.SignInRefused, null, 401, "sign-in", "a link that opens nothing");
            return SignIn.Refused(
                IsRequired
                    ? "The workspace has administrators, who sign in with their password or a key."
                    : "The link has been used, or is that of another start of the service. The file 'console-link' in the "
                        + "workspace's folder holds the one that opens the console now."
            );
        }
        var identity = new ClaimsIdentity([new Claim(ClaimTypes.Name, LinkName), new Claim(StampClaim, link.Stamp)], Scheme);
        await context.SignInAsync(Scheme, new ClaimsPrincipal(identity));
        audit.SignedIn(context, LinkName, "link");
        return null;
    }

    private static RequestFault PlainFromAfar =>
        new(401, "tls-needed", "Passwords, keys and links are taken over TLS only; everybody on the way could have read this one.");

    /// <summary>Signs in to the console; the answer sets its cookie.</summary>
    public async Task<RequestFault?> SignInAsync(HttpContext context, string name, string password)
    {
        if (SignIn.IsPlainFromAfar(context))
            return PlainFromAfar;
        var account = store.Current?.Administrators.GetValueOrDefault(name);
        if (await passwords.RefuseAsync(context, "administrator", name, password, account?.Password) is { } fault)
        {
            audit.Refused(
                context,
                fault.Status == 429 ? AuditEvents.Limited : AuditEvents.SignInRefused,
                null,
                fault.Status,
                fault.Code,
                "at the console"
            );
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
        if (SignIn.IsPlainFromAfar(context))
            return PlainFromAfar;
        if (
            ByKey(context, "Bearer " + key) is not { Name: var name }
            || store.Current?.FindKey(key.Trim(), time.GetUtcNow().UtcDateTime) is not { } found
        )
            return SignIn.Refused("The key is not an administrator's, is revoked, or its time is over.");
        var identity = new ClaimsIdentity(
            [new Claim(ClaimTypes.Name, name), new Claim(KeyClaim, found.Id), new Claim(StampClaim, StampOf(found.Key.Secret))],
            Scheme
        );
        await context.SignInAsync(Scheme, new ClaimsPrincipal(identity));
        return null;
    }

    private bool IsGood(ClaimsPrincipal principal)
    {
        var stamp = principal.FindFirst(StampClaim)?.Value;
        if (principal.Identity?.Name == LinkName && stamp == link.Stamp)
            return !IsRequired;
        if (principal.FindFirst(KeyClaim)?.Value is { } id)
            return store.Current?.Keys.GetValueOrDefault(id) is { IsAdministrator: true } key
                && !(key.Expires <= time.GetUtcNow().UtcDateTime)
                && stamp == StampOf(key.Secret);
        return principal.Identity?.Name is { } name
            && store.Current?.Administrators.GetValueOrDefault(name) is { } account
            && stamp == StampOf(account.Password);
    }

    /// <summary>Whether a request may hear what is only for those who run the service.</summary>
    public async Task<bool> IsInsiderAsync(HttpContext context) =>
        (context.Request.Headers.Authorization.Count > 0 || context.Request.Headers.Cookie.Count > 0)
        && await FindAsync(context) is not null;

    private static string StampOf(string hash) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(hash)));

    /// <summary>
    /// Whether a browser sent the request for the console, or for a person who opened the address. Programs are no browsers, and say
    /// nothing of where they come from.
    /// </summary>
    public static bool IsFromConsole(HttpContext context)
    {
        var headers = context.Request.Headers;
        var isPerson = headers["Sec-Fetch-Dest"].ToString() == "document" && HttpMethods.IsGet(context.Request.Method);
        return headers["Sec-Fetch-Site"].ToString() switch
        {
            "" => true,
            "none" => isPerson,
            // A page of the service that is not the console has no business here, whoever wrote it.
            "same-origin" => isPerson || headers["Sec-Fetch-Dest"].ToString() is "" or "empty" && IsConsolePage(context, headers.Referer),
            _ => false,
        };
    }

    private static bool IsConsolePage(HttpContext context, string? referer) =>
        referer?.StartsWith($"{context.Request.Scheme}://{context.Request.Host}/console/", StringComparison.OrdinalIgnoreCase) == true;

    /// <summary>
    /// Whether a request that changes something comes from the console or the client, and not from the page of somebody else.
    /// </summary>
    public static bool IsOwnClient(HttpContext context)
    {
        if (!IsFromConsole(context))
            return false;
        var headers = context.Request.Headers;
        // A header that no form and no plain link can send, and what browsers say of where a request comes from.
        return headers.ContainsKey(ClientHeader)
            && headers["Sec-Fetch-Site"].ToString() is "" or "same-origin" or "none"
            && (
                headers.Origin.Count == 0
                || headers
                    .Origin.ToString()
                    .Equals($"{context.Request.Scheme}://{context.Request.Host}", StringComparison.OrdinalIgnoreCase)
            );
    }
}
