using System.Collections.Immutable;
using System.Net.Http.Headers;
using System.Text;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Primitives;
using RapidGable.Access;
using RapidGable.Declarations;
using RapidGable.Expressions;
using RapidGable.Metadata.OpenApi;
using RapidGable.Service.Auditing;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Identity;

/// <summary>
/// Finds out who asks. The header Authorization decides where there is one: a name and a password (RFC 7617), or a key or a token (RFC
/// 6750);
/// then the certificate that the caller came with, then a proxy that is believed.
/// </summary>
internal sealed class SignIn(
    ServiceRegistry registry,
    IAccountStore store,
    PasswordCheck passwords,
    TokenSignIn tokens,
    CertificateSignIn certificates,
    LentKeys lent,
    AuditLog audit,
    TimeProvider time
)
{
    private SignInDeclaration Ways => registry.Workspace.Declaration.SignIn;

    /// <summary>Whether anybody can sign in at all.</summary>
    public bool IsOffered =>
        store.Current is not null || lent.Any || Ways is not { Tokens.IsEmpty: true, Certificates.IsEmpty: true, Proxy: null };

    /// <summary>What a caller who is not signed in is told to send (RFC 9110, 11.6.1).</summary>
    public StringValues Challenges(RequestFault fault)
    {
        var realm = $"realm=\"{Quoted(registry.Workspace.Declaration.Title)}\"";
        var (basic, bearer) = (
            $"Basic {realm}, charset=\"UTF-8\"",
            $"Bearer {realm}{(fault.Code == "token" ? ", error=\"invalid_token\"" : "")}"
        );
        return store.Current is null ? bearer : new StringValues([basic, bearer]);
    }

    /// <summary>The ways to sign in, as descriptions name them; empty = nobody can.</summary>
    public ImmutableArray<OpenApiSignIn> Described =>
        !IsOffered
            ? []
            :
            [
                .. store.Current is null ? [] : new[] { OpenApiSignIn.Basic, OpenApiSignIn.ApiKey },
                .. Ways.Tokens.IsEmpty ? [] : new[] { OpenApiSignIn.Token },
                .. Ways.Certificates.IsEmpty ? [] : new[] { OpenApiSignIn.Certificate },
            ];

    private static string Quoted(string title) => new([.. title.Where(c => c is >= ' ' and < '\u007f' and not ('"' or '\\'))]);

    /// <summary>The caller of a request; a fault when what is sent is not right.</summary>
    public async ValueTask<Result<Caller>> CallerOfAsync(HttpContext context)
    {
        var found = await FindAsync(context);
        if (found.Fault is { } fault)
            audit.Refused(
                context,
                fault.Status == 429 ? AuditEvents.Limited : AuditEvents.SignInRefused,
                null,
                fault.Status,
                fault.Code,
                fault.Message
            );
        return found;
    }

    private ValueTask<Result<Caller>> FindAsync(HttpContext context)
    {
        var headers = context.Request.Headers.Authorization;
        if (headers.Count > 0)
            return AuthorizedAsync(context, headers);
        if (Ways is { Certificates.IsEmpty: false } && context.Connection.ClientCertificate is { } certificate)
            return ValueTask.FromResult(Noted(context, certificates.CallerOf(certificate), "certificate"));
        if (Ways.Proxy is { } proxy && ProxySignIn.CallerOf(context, proxy) is { } told)
            return ValueTask.FromResult(Noted(context, told, "proxy"));
        return ValueTask.FromResult<Result<Caller>>(Caller.Anonymous);
    }

    private async ValueTask<Result<Caller>> AuthorizedAsync(HttpContext context, StringValues headers)
    {
        if (!IsOffered)
            return Refused("Nobody can sign in here.");
        if (headers.Count > 1 || !AuthenticationHeaderValue.TryParse(headers[0], out var header) || header.Parameter is not { } parameter)
            return Refused("The header Authorization cannot be read.");
        if (IsPlainFromAfar(context))
            return new RequestFault(
                401,
                "tls-needed",
                "Passwords, keys and tokens are taken over TLS only; everybody on the way could have read this one.",
                "Authorization"
            );
        return header.Scheme.ToLowerInvariant() switch
        {
            "basic" => await PasswordAsync(parameter, context),
            "bearer" when TokenSignIn.IsToken(parameter) && !Ways.Tokens.IsEmpty => Noted(
                context,
                await tokens.CallerOfAsync(parameter, context.RequestAborted),
                "token"
            ),
            "bearer" => Key(context, parameter),
            _ => Refused("Sign in with Basic, or with a key or a token as Bearer."),
        };
    }

    private Result<Caller> Key(HttpContext context, string text)
    {
        if (lent.Find(text) is { } guest)
            return guest;
        if (text.Length > 200 || store.Current?.FindKey(text, time.GetUtcNow().UtcDateTime) is not { } found || found.Key.IsAdministrator)
            return Refused("The key is not known, is revoked, or its time is over.");
        audit.SignedIn(context, found.Key.Name, "key", found.Id);
        return found.Key.Caller;
    }

    private async ValueTask<Result<Caller>> PasswordAsync(string parameter, HttpContext context)
    {
        string text;
        try
        {
            text = new UTF8Encoding(false, throwOnInvalidBytes: true).GetString(Convert.FromBase64String(parameter));
        }
        catch (Exception exception) when (exception is FormatException or ArgumentException)
        {
            return Refused("The header Authorization cannot be read.");
        }
        var colon = text.IndexOf(':');
        if (colon < 0)
            return Refused("The header Authorization cannot be read.");
        var (name, password) = (text[..colon], text[(colon + 1)..]);
        var account = store.Current?.Users.GetValueOrDefault(name);
        if (await passwords.RefuseAsync(context, "user", name, password, account?.Password) is { } fault)
            return fault;
        audit.SignedIn(context, name, "password");
        return new Caller(true, [.. account!.Roles]) { Name = name, Attributes = account.Attributes };
    }

    /// <summary>Whether what is sent could be read on its way here.</summary>
    internal static bool IsPlainFromAfar(HttpContext context) =>
        !context.Request.IsHttps && !(context.Connection.RemoteIpAddress is { } address && System.Net.IPAddress.IsLoopback(address));

    private Result<Caller> Noted(HttpContext context, Result<Caller> found, string by)
    {
        if (found.Is(out var caller, out _))
            audit.SignedIn(context, caller.Name, by);
        return found;
    }

    internal static RequestFault Refused(string message) => new(401, "sign-in", message, "Authorization");
}
