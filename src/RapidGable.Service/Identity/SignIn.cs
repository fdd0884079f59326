using System.Collections.Concurrent;
using System.Collections.Immutable;
using System.Net.Http.Headers;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;
using Microsoft.Net.Http.Headers;
using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Service.Identity;

/// <summary>
/// Finds out who asks, from the header Authorization: a name and a password (RFC 7617), or a key as a bearer token (RFC 6750). The accounts
/// are read again when their file changes, so a key that is revoked is refused from the next request on.
/// </summary>
internal sealed class SignIn(ServiceRegistry registry, TimeProvider time, ILogger<SignIn> log)
{
    private sealed record Known(AccountFile? File, DateTime Written, long Size);

    private sealed record Failures(int Count, DateTimeOffset Last);

    private readonly ConcurrentDictionary<string, Failures> _failures = new();
    private readonly ConcurrentDictionary<string, (Caller Caller, DateTimeOffset Until)> _verified = new();
    // The slow hash must not take all processors from those who need none.
    private readonly SemaphoreSlim _hashing = new(Math.Max(1, Environment.ProcessorCount / 2));
    private readonly byte[] _secret = RandomNumberGenerator.GetBytes(32);
    private Known? _known;

    /// <summary>Whether anybody can sign in at all.</summary>
    public bool IsOffered => Accounts is not null;

    /// <summary>What a caller who is not signed in is told to send.</summary>
    public string Challenge => $"Basic realm=\"{Quoted(registry.Workspace.Declaration.Title)}\", charset=\"UTF-8\"";

    private static string Quoted(string title) => new([.. title.Where(c => c is >= ' ' and < '\u007f' and not ('"' or '\\'))]);

    private AccountFile? Accounts
    {
        get
        {
            var folder = registry.Workspace.Declaration.Folder;
            var file = new FileInfo(Path.Combine(folder, AccountFile.Name));
            if (_known is { } known && (file.Exists ? (known.Written, known.Size) == (file.LastWriteTimeUtc, file.Length) : known.File is null))
                return known.File;
            try
            {
                _known = new Known(AccountFile.Read(folder), file.Exists ? file.LastWriteTimeUtc : default, file.Exists ? file.Length : 0);
            }
            catch (InvalidDataException exception)
            {
                // Nobody gets in by a file that cannot be read.
                log.LogError("{Message}", exception.Message);
                _known = new Known(new AccountFile(), file.LastWriteTimeUtc, file.Length);
            }
            _verified.Clear();
            return _known.File;
        }
    }

    /// <summary>The caller of a request; a fault when what is sent is not right.</summary>
    public async ValueTask<Result<Caller>> CallerOfAsync(HttpContext context)
    {
        var headers = context.Request.Headers.Authorization;
        if (headers.Count == 0)
            return Caller.Anonymous;
        if (Accounts is not { } accounts)
            return Refused("Nobody can sign in here.");
        if (headers.Count > 1 || !AuthenticationHeaderValue.TryParse(headers[0], out var header) || header.Parameter is not { } parameter)
            return Refused("The header Authorization cannot be read.");
        return header.Scheme.ToLowerInvariant() switch
        {
            "basic" => await PasswordAsync(accounts, parameter, context),
            "bearer" => Key(accounts, parameter),
            _ => Refused("Sign in with Basic, or with a key as a Bearer token."),
        };
    }

    private Result<Caller> Key(AccountFile accounts, string text)
    {
        if (text.Length > 200 || accounts.FindKey(text, time.GetUtcNow().UtcDateTime) is not { } key)
        {
            log.LogInformation("A key was refused");
            return Refused("The key is not known, is revoked, or its time is over.");
        }
        return new Caller(true, [.. key.Roles]) { Name = key.Name, Attributes = key.Attributes };
    }

    private async Task<Result<Caller>> PasswordAsync(AccountFile accounts, string parameter, HttpContext context)
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
        if (colon < 0 || text.Any(char.IsControl) || Encoding.UTF8.GetByteCount(text) > PasswordHash.MostBytes)
            return Refused("The header Authorization cannot be read.");
        var (name, password) = (text[..colon], text[(colon + 1)..]);
        var now = time.GetUtcNow();
        // The slow hash is made once for a while; what is kept of a password is of use to this process only.
        var proof = Convert.ToHexString(HMACSHA256.HashData(_secret, Encoding.UTF8.GetBytes(text)));
        if (_verified.TryGetValue(proof, out var verified) && verified.Until > now)
            return verified.Caller;
        var from = $"{name}\n{context.Connection.RemoteIpAddress}";
        if (_failures.TryGetValue(from, out var failures) && failures.Count >= Limits.SignInAttempts && failures.Last + TimeSpan.FromMinutes(Limits.SignInPauseMinutes) is var end && end > now)
        {
            context.Response.Headers[HeaderNames.RetryAfter] = $"{Math.Ceiling((end - now).TotalSeconds):0}";
            return new RequestFault(429, "too-many", "Too many wrong passwords. Wait a while before you try again.");
        }
        var account = accounts.Users.GetValueOrDefault(name);
        await _hashing.WaitAsync(context.RequestAborted);
        bool fits;
        try
        {
            fits = PasswordHash.Fits(password, account?.Password ?? PasswordHash.Nobody);
        }
        finally
        {
            _hashing.Release();
        }
        if (!fits || account is null)
        {
            Forget(now);
            _failures.AddOrUpdate(from, new Failures(1, now), (_, f) => new Failures(f.Last + TimeSpan.FromMinutes(Limits.SignInPauseMinutes) > now ? f.Count + 1 : 1, now));
            log.LogInformation("A password was refused");
            return Refused("The name or the password is wrong.");
        }
        _failures.TryRemove(from, out _);
        var caller = new Caller(true, [.. account.Roles]) { Name = name, Attributes = account.Attributes };
        if (_verified.Count < 10_000)
            _verified[proof] = (caller, now + TimeSpan.FromMinutes(5));
        return caller;
    }

    private void Forget(DateTimeOffset now)
    {
        if (_failures.Count < 1_000)
            return;
        foreach (var (from, _) in _failures.Where(f => f.Value.Last + TimeSpan.FromMinutes(Limits.SignInPauseMinutes) <= now))
            _failures.TryRemove(from, out _);
    }

    private static RequestFault Refused(string message) => new(401, "sign-in", message, "Authorization");
}
