using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Text.Json.Serialization;

namespace RapidGable.Service.Identity;

/// <summary>Somebody who signs in with a name and a password.</summary>
/// <param name="Password">In the form of <see cref="PasswordHash"/>.</param>
public sealed record UserAccount(string Password)
{
    public ImmutableArray<string> Roles { get; init; } = [];

    public ImmutableDictionary<string, string> Attributes { get; init; } = ImmutableDictionary<string, string>.Empty;
}

/// <summary>A key that a program sends instead of a password.</summary>
/// <param name="Name">What it is for; callers with it go by this name.</param>
/// <param name="Secret">Hash of its secret part, as hexadecimal digits.</param>
/// <param name="Made">When it was made, in UTC.</param>
public sealed record ApiKey(string Name, string Secret, DateTime Made)
{
    public ImmutableArray<string> Roles { get; init; } = [];

    public ImmutableDictionary<string, string> Attributes { get; init; } = ImmutableDictionary<string, string>.Empty;

    /// <summary>The first instant at which it is no longer taken, in UTC; null = never.</summary>
    public DateTime? Expires { get; init; }
}

/// <summary>Users by name and keys by id, in a file of the workspace. No password and no key can be read from it.</summary>
public sealed record AccountFile
{
    /// <summary>The file's name in the workspace's folder.</summary>
    public const string Name = "accounts.json";

    /// <summary>What every key starts with, so that it is recognised where it should not be.</summary>
    public const string KeyPrefix = "gablekey";

    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web) { WriteIndented = true, DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull, UnmappedMemberHandling = JsonUnmappedMemberHandling.Disallow, RespectNullableAnnotations = true };

    public ImmutableSortedDictionary<string, UserAccount> Users { get; init; } = ImmutableSortedDictionary<string, UserAccount>.Empty;

    public ImmutableSortedDictionary<string, ApiKey> Keys { get; init; } = ImmutableSortedDictionary<string, ApiKey>.Empty;

    /// <summary>Null = the workspace has none, and nobody can sign in.</summary>
    /// <exception cref="InvalidDataException">When it is not one.</exception>
    public static AccountFile? Read(string folder)
    {
        var path = Path.Combine(folder, Name);
        try
        {
            if (!File.Exists(path))
                return null;
            var read = JsonSerializer.Deserialize<AccountFile>(File.ReadAllBytes(path), Json);
            return read is not null && read.Users.Values.All(u => u is { Roles.IsDefault: false }) && read.Keys.Values.All(k => k is { Roles.IsDefault: false }) ? read : throw new JsonException("A value is null.");
        }
        catch (Exception exception) when (exception is JsonException or IOException or UnauthorizedAccessException or ArgumentException)
        {
            throw new InvalidDataException($"{Name} cannot be read: {exception.Message}", exception);
        }
    }

    /// <summary>Replaces the file as a whole; only its owner may read it.</summary>
    public void Write(string folder)
    {
        var path = Path.Combine(folder, Name);
        var next = path + ".new";
        File.Delete(next);
        var options = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write };
        if (!OperatingSystem.IsWindows())
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        using (var stream = new FileStream(next, options))
            JsonSerializer.Serialize(stream, this, Json);
        File.Move(next, path, overwrite: true);
    }

    /// <summary>The file with a new key, the key's id, and the key itself, which cannot be had again.</summary>
    public (AccountFile File, string Id, string Key) WithKey(string name, IEnumerable<string> roles, ImmutableDictionary<string, string> attributes, DateTime now, DateTime? expires)
    {
        var id = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(6));
        var secret = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
        var key = new ApiKey(name, HashOf(secret), now) { Roles = [.. roles], Attributes = attributes, Expires = expires };
        return (this with { Keys = Keys.SetItem(id, key) }, id, $"{KeyPrefix}_{id}_{secret}");
    }

    /// <summary>The account of a key that somebody sends; null when it is none of these, or its time is over.</summary>
    public ApiKey? FindKey(string text, DateTime now)
    {
        var parts = text.Split('_');
        if (parts is not [KeyPrefix, var id, var secret] || !Keys.TryGetValue(id, out var key))
            return null;
        // A secret of 256 random bits needs no slow hash.
        var isSame = CryptographicOperations.FixedTimeEquals(Encoding.ASCII.GetBytes(HashOf(secret)), Encoding.ASCII.GetBytes(key.Secret));
        return isSame && (key.Expires is not { } expires || now < expires) ? key : null;
    }

    private static string HashOf(string secret) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(secret)));
}
