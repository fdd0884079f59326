using System.Collections.Concurrent;
using System.Security.Cryptography;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;

namespace RapidGable.Service.Stores;

/// <summary>Who signed in to the console, kept in memory: what the cookie holds is of no use once they signed out.</summary>
internal sealed class SessionsInMemory(TimeProvider time) : ITicketStore
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
