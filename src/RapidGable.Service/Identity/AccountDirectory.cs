using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Serialization;
using RapidGable.Access;
using RapidGable.Model;

namespace RapidGable.Service.Identity;

/// <summary>Somebody who signs in with a name and a password.</summary>
/// <param name="Password">In the form of <see cref="PasswordHash"/>.</param>
public sealed record UserAccount(string Password)
{
    public ImmutableArray<string> Roles { get; init; } = [];

    /// <summary>Each with one value or several.</summary>
    [JsonConverter(typeof(OneOrManyTexts))]
    public ImmutableDictionary<string, ImmutableArray<string>> Attributes { get; init; } =
        ImmutableDictionary<string, ImmutableArray<string>>.Empty;
}

/// <summary>A key that a program sends instead of a password.</summary>
/// <param name="Name">What it is for; callers with it go by this name.</param>
/// <param name="Secret">Hash of its secret part, as hexadecimal digits.</param>
/// <param name="Made">When it was made, in UTC.</param>
public sealed record ApiKey(string Name, string Secret, DateTime Made)
{
    public ImmutableArray<string> Roles { get; init; } = [];

    /// <summary>Each with one value or several.</summary>
    [JsonConverter(typeof(OneOrManyTexts))]
    public ImmutableDictionary<string, ImmutableArray<string>> Attributes { get; init; } =
        ImmutableDictionary<string, ImmutableArray<string>>.Empty;

    /// <summary>The services that it is good for; null = all.</summary>
    public ImmutableArray<string>? Services { get; init; }

    /// <summary>The operations that it is good for, whatever rules let its roles do; null = all.</summary>
    public ImmutableArray<string>? May { get; init; }

    /// <summary>It is an administrator's: it opens the management interface, and no service.</summary>
    public bool IsAdministrator { get; init; }

    /// <summary>For an administrator's: what it may do, as <see cref="ManagementRightWords"/>; null = everything.</summary>
    public ImmutableArray<string>? Rights { get; init; }

    /// <summary>The first instant at which it is no longer taken, in UTC; null = never.</summary>
    public DateTime? Expires { get; init; }

    /// <summary>Who comes with it.</summary>
    internal Caller Caller =>
        new(true, [.. Roles])
        {
            Name = Name,
            Attributes = Attributes,
            Services = Services is { } services ? [.. services] : null,
            Scope = May is { } may
                ? may.Select(m => Enum.TryParse<SetOperations>(m, ignoreCase: true, out var found) ? found : SetOperations.None)
                    .Aggregate(SetOperations.None, (all, o) => all | o)
                : Caller.Everything,
        };
}

/// <summary>Somebody who sees and changes what is published; a caller of no service.</summary>
/// <param name="Password">In the form of <see cref="PasswordHash"/>.</param>
public sealed record AdministratorAccount(string Password)
{
    /// <summary>What they may do, as <see cref="ManagementRightWords"/>; null = everything.</summary>
    public ImmutableArray<string>? Rights { get; init; }
}

/// <summary>
/// Users and administrators by name and keys by id. No password and no key can be read from it.
/// </summary>
public sealed record AccountDirectory
{
    /// <summary>What every key starts with, so that it is recognised where it should not be.</summary>
    public const string KeyPrefix = KeyText.Prefix;

    /// <summary>Stands for accounts that cannot be read: nobody is in it.</summary>
    internal static AccountDirectory Unreadable { get; } = new();

    public ImmutableSortedDictionary<string, UserAccount> Users { get; init; } = ImmutableSortedDictionary<string, UserAccount>.Empty;

    public ImmutableSortedDictionary<string, AdministratorAccount> Administrators { get; init; } =
        ImmutableSortedDictionary<string, AdministratorAccount>.Empty;

    public ImmutableSortedDictionary<string, ApiKey> Keys { get; init; } = ImmutableSortedDictionary<string, ApiKey>.Empty;

    /// <summary>The accounts with a new key, the key's id, and the key itself, which cannot be had again.</summary>
    /// <param name="made">The key without its secret.</param>
    public (AccountDirectory Accounts, string Id, string Key) WithKey(ApiKey made)
    {
        var id = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(6));
        var secret = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
        return (this with { Keys = Keys.SetItem(id, made with { Secret = HashOf(secret) }) }, id, $"{KeyPrefix}_{id}_{secret}");
    }

    /// <summary>The id and account of a key that somebody sends; null when it is none of these, or its time is over.</summary>
    public (string Id, ApiKey Key)? FindKey(string text, DateTime now)
    {
        var parts = text.Split('_');
        if (parts is not [KeyPrefix, var id, var secret] || !Keys.TryGetValue(id, out var key))
            return null;
        // A secret of 256 random bits needs no slow hash.
        var isSame = CryptographicOperations.FixedTimeEquals(Encoding.ASCII.GetBytes(HashOf(secret)), Encoding.ASCII.GetBytes(key.Secret));
        return isSame && (key.Expires is not { } expires || now < expires) ? (id, key) : null;
    }

    private static string HashOf(string secret) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(secret)));
}
