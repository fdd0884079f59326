using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Service.Identity;

/// <summary>
/// Checks names with passwords: at most so many wrong ones for a name, and from an address; a right one is remembered for a while, since
/// the hash is slow on purpose. Names that do not exist take as long as those that do.
/// </summary>
internal sealed class PasswordCheck(TimeProvider time) : IDisposable
{
    private sealed record Failures(int Count, DateTimeOffset Last);

    private static readonly TimeSpan Pause = TimeSpan.FromMinutes(Limits.SignInPauseMinutes);

    private readonly ConcurrentDictionary<string, Failures> _failures = new();
    private readonly ConcurrentDictionary<string, (string Hash, DateTimeOffset Until)> _verified = new();

    // The slow hash must not take all processors from those who need none.
    private readonly SemaphoreSlim _hashing = new(Math.Max(1, Environment.ProcessorCount / 2));
    private readonly byte[] _secret = RandomNumberGenerator.GetBytes(32);

    /// <summary>Null when the password is right; else the fault, of which 401 says nothing but that.</summary>
    /// <param name="kind">Tells names of one kind of account from those of another.</param>
    /// <param name="hash">The account's; null = there is no such account.</param>
    public async ValueTask<RequestFault?> RefuseAsync(HttpContext context, string kind, string name, string password, string? hash)
    {
        if (
            name.Any(char.IsControl)
            || password.Any(char.IsControl)
            || Encoding.UTF8.GetByteCount(name) + Encoding.UTF8.GetByteCount(password) >= PasswordHash.MostBytes
        )
            return SignIn.Refused("The name or the password cannot be read.");
        var now = time.GetUtcNow();
        // What is kept of a password is of use to this process only.
        var proof = Convert.ToHexString(HMACSHA256.HashData(_secret, Encoding.UTF8.GetBytes($"{kind}\n{name}\n{password}")));
        if (hash is not null && _verified.TryGetValue(proof, out var verified) && verified.Until > now && verified.Hash == hash)
            return null;
        var from = CallerNetwork.Of(context.Connection.RemoteIpAddress);
        var (forName, forAddress) = ($"{kind}\n{name}\n{from}", "\n" + from);
        if (Pausing(context, forName, forAddress, now) is { } early)
            return early;
        await _hashing.WaitAsync(context.RequestAborted);
        try
        {
            // Guesses that came together waited here for those before them to be counted.
            if (Pausing(context, forName, forAddress, now) is { } late)
                return late;
            if (!PasswordHash.Fits(password, hash ?? PasswordHash.Nobody) || hash is null)
            {
                Forget(now);
                Count(forName, now);
                Count(forAddress, now);
                return SignIn.Refused("The name or the password is wrong.");
            }
        }
        finally
        {
            _hashing.Release();
        }
        _failures.TryRemove(forName, out _);
        if (_verified.Count >= 10_000)
            _verified.Clear();
        _verified[proof] = (hash, now + TimeSpan.FromMinutes(5));
        return null;
    }

    private RequestFault? Pausing(HttpContext context, string forName, string forAddress, DateTimeOffset now)
    {
        if ((EndOf(forName, Limits.SignInAttempts, now) ?? EndOf(forAddress, Limits.SignInAddressAttempts, now)) is not { } end)
            return null;
        context.Response.Headers[HeaderNames.RetryAfter] = $"{Math.Ceiling((end - now).TotalSeconds):0}";
        return new RequestFault(429, "too-many", "Too many wrong passwords. Wait a while before you try again.");
    }

    private DateTimeOffset? EndOf(string from, int most, DateTimeOffset now) =>
        _failures.TryGetValue(from, out var failures) && failures.Count >= most && failures.Last + Pause is var end && end > now
            ? end
            : null;

    private void Count(string from, DateTimeOffset now) =>
        _failures.AddOrUpdate(from, new Failures(1, now), (_, f) => new Failures(f.Last + Pause > now ? f.Count + 1 : 1, now));

    private void Forget(DateTimeOffset now)
    {
        if (_failures.Count < 1_000)
            return;
        foreach (var (from, _) in _failures.Where(f => f.Value.Last + Pause <= now))
            _failures.TryRemove(from, out _);
    }

    public void Dispose() => _hashing.Dispose();
}
