using System.Security.Cryptography;
using System.Text;
using System.Xml.Linq;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.DataProtection.Repositories;
using Microsoft.Extensions.Logging;
using RapidGable.Service.Publishing;
using RapidGable.Service.State;

namespace RapidGable.Service.Stores;

/// <summary>
/// Who signed in to the console, so that a restart ends no session: what the cookie holds is of no use once they signed out. Documents are
/// named by a hash of what the cookie holds, which nobody can send.
/// </summary>
internal sealed class SessionsInState(IStateStore state, TimeProvider time) : ITicketStore
{
    private const string Ending = ".ticket";
    private const int Most = 1_000;

    public Task<string> StoreAsync(AuthenticationTicket ticket)
    {
        RemoveOld();
        var key = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
        state.Write(StateRooms.Sessions, NameOf(key), TicketSerializer.Default.Serialize(ticket), null);
        return Task.FromResult(key);
    }

    public Task RenewAsync(string key, AuthenticationTicket ticket)
    {
        // A session that ended in the meantime stays ended.
        if (state.VersionOf(StateRooms.Sessions, NameOf(key)) is { } version)
            state.Write(StateRooms.Sessions, NameOf(key), TicketSerializer.Default.Serialize(ticket), version);
        return Task.CompletedTask;
    }

    public Task<AuthenticationTicket?> RetrieveAsync(string key) => Task.FromResult(Find(NameOf(key)));

    public Task RemoveAsync(string key)
    {
        state.Remove(StateRooms.Sessions, NameOf(key));
        return Task.CompletedTask;
    }

    private static string NameOf(string key) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(key))) + Ending;

    private AuthenticationTicket? Find(string name)
    {
        if (state.Find(StateRooms.Sessions, name) is not { } kept)
            return null;
        try
        {
            return TicketSerializer.Default.Deserialize(kept.Bytes.ToArray());
        }
        catch (Exception exception) when (exception is IOException or FormatException or ArgumentException or OverflowException)
        {
            // One that is damaged lets nobody in.
            return null;
        }
    }

    private void RemoveOld()
    {
        var now = time.GetUtcNow();
        var names = state.Names(StateRooms.Sessions).Where(n => n.EndsWith(Ending, StringComparison.Ordinal)).ToList();
        foreach (var name in names.Where(n => names.Count > Most || !(Find(n)?.Properties.ExpiresUtc > now)))
            state.Remove(StateRooms.Sessions, name);
    }
}

/// <summary>
/// The keys that encrypt cookies, as documents of the state. Where there is a key for secrets they are kept under it; a service without it
/// makes new ones, and sessions end.
/// </summary>
internal sealed class CookieKeysInState(IStateStore state, StateCipher cipher, ILogger<CookieKeysInState> log) : IXmlRepository
{
    private const string Ending = ".key.xml";

    /// <summary>What names of those end with that are encrypted.</summary>
    public const string SealedEnding = ".key.json";

    public IReadOnlyCollection<XElement> GetAllElements() =>
        [
            .. state
                .Names(StateRooms.Sessions)
                .Select(n =>
                    n.EndsWith(Ending, StringComparison.Ordinal) ? Plain(n)
                    : n.EndsWith(SealedEnding, StringComparison.Ordinal) ? Opened(n)
                    : null
                )
                .OfType<XElement>(),
        ];

    private XElement? Plain(string name) =>
        state.Find(StateRooms.Sessions, name) is { } kept ? XElement.Parse(Encoding.UTF8.GetString(kept.Bytes.Span)) : null;

    private XElement? Opened(string name)
    {
        try
        {
            return state.Read<SealedText>(StateRooms.Sessions, name) is { } kept ? XElement.Parse(cipher.Open(name, kept)) : null;
        }
        catch (StateException exception)
        {
            log.LogWarning("A key of sessions cannot be used, so that they end: {Message}", exception.Message);
            return null;
        }
    }

    public void StoreElement(XElement element, string friendlyName)
    {
        if (!cipher.HasKey)
        {
            state.Write(StateRooms.Sessions, friendlyName + Ending, Encoding.UTF8.GetBytes(element.ToString()), null);
            return;
        }
        var name = friendlyName + SealedEnding;
        state.Write(StateRooms.Sessions, name, StateDocuments.ToBytes(cipher.Seal(name, element.ToString())), null);
    }
}
