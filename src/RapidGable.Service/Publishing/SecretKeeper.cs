using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using RapidGable.Service.State;

namespace RapidGable.Service.Publishing;

/// <summary>
/// Secrets that source files name as <c>${NAME}</c>, where the environment has none of that name. Each is a document, encrypted with
/// AES-256-GCM under a key that is not in the state: it comes from the environment, or from a file that the environment names.
/// </summary>
public sealed class SecretKeeper(IStateStore state, Func<string, string?> environment)
{
    /// <summary>The variable that holds the key.</summary>
    public const string KeyVariable = "GABLE_SECRETS_KEY";

    /// <summary>The variable that holds the path of the file with the key.</summary>
    public const string KeyFileVariable = "GABLE_SECRETS_KEY_FILE";

    /// <summary>Shorter keys could be guessed by who has the state.</summary>
    public const int ShortestKey = 32;

    private const string Ending = ".json";
    private const int LongestName = 100;
    private const int LongestValue = 16 * 1024;
    private const int NonceBytes = 12;
    private const int TagBytes = 16;

    /// <summary>A secret as it is kept.</summary>
    /// <param name="Key">What tells one key from another.</param>
    /// <param name="Text">Nonce, tag and cipher text, in base 64.</param>
    private sealed record Sealed(string Key, string Text);

    /// <summary>Secrets can be kept: there is a key for them.</summary>
    public bool HasKey => environment(KeyVariable) is { Length: > 0 } || environment(KeyFileVariable) is { Length: > 0 };

    public ImmutableArray<string> Names() =>
        [.. state.Names(StateRooms.Secrets).Where(n => n.EndsWith(Ending, StringComparison.Ordinal)).Select(n => n[..^Ending.Length])];

    /// <summary>Why a text cannot be the name of a secret; null = it can.</summary>
    public static string? NameFault(string name) =>
        name.Length is > 0 and <= LongestName && !char.IsAsciiDigit(name[0]) && name.All(c => char.IsAsciiLetterOrDigit(c) || c == '_')
            ? null
            : $"'{name}' cannot be the name of a secret: it takes letters, digits and '_', at most {LongestName}, and no digit first.";

    /// <summary>Why a text cannot be a secret; null = it can.</summary>
    public static string? ValueFault(string value) =>
        value.Length == 0 ? "A secret is not empty."
        : value.Any(char.IsControl) ? "A secret is one line, without control characters."
        : value.Length > LongestValue ? $"A secret has at most {LongestValue} characters."
        : null;

    /// <summary>Keeps a secret in the place of a former one.</summary>
    /// <exception cref="StateException">When there is no key, or the state cannot be written.</exception>
    public void Set(string name, string value)
    {
        var key = Key() ?? throw NoKey($"The secret '{name}' cannot be kept");
        var (nonce, text, tag) = (RandomNumberGenerator.GetBytes(NonceBytes), Encoding.UTF8.GetBytes(value), new byte[TagBytes]);
        var hidden = new byte[text.Length];
        using (var cipher = new AesGcm(key, TagBytes))
            cipher.Encrypt(nonce, text, hidden, tag, Encoding.UTF8.GetBytes(name));
        var kept = new Sealed(PrintOf(key), Convert.ToBase64String([.. nonce, .. tag, .. hidden]));
        state.Change<Sealed>(StateRooms.Secrets, name + Ending, _ => kept);
    }

    /// <summary>Removes a secret; false = there was none.</summary>
    public bool Remove(string name)
    {
        if (NameFault(name) is not null || state.VersionOf(StateRooms.Secrets, name + Ending) is null)
            return false;
        state.Remove(StateRooms.Secrets, name + Ending);
        return true;
    }

    /// <summary>A secret; null = there is none of that name.</summary>
    /// <exception cref="StateException">When it is there and cannot be read.</exception>
    public string? Find(string name)
    {
        if (NameFault(name) is not null || state.Read<Sealed>(StateRooms.Secrets, name + Ending) is not { } kept)
            return null;
        var key = Key() ?? throw NoKey($"The secret '{name}' cannot be read");
        if (PrintOf(key) != kept.Key)
            throw new StateException($"The secret '{name}' was kept with another key than the one in {KeyVariable}; set it again.");
        try
        {
            var bytes = Convert.FromBase64String(kept.Text);
            var text = new byte[bytes.Length - NonceBytes - TagBytes];
            using var cipher = new AesGcm(key, TagBytes);
            cipher.Decrypt(
                bytes.AsSpan(0, NonceBytes),
                bytes.AsSpan(NonceBytes + TagBytes),
                bytes.AsSpan(NonceBytes, TagBytes),
                text,
                Encoding.UTF8.GetBytes(name)
            );
            return Encoding.UTF8.GetString(text);
        }
        catch (Exception exception) when (exception is CryptographicException or FormatException or OverflowException)
        {
            throw new StateException($"The secret '{name}' is damaged; set it again.", exception);
        }
    }

    private static StateException NoKey(string what) =>
        new(
            $"{what}: there is no key. Set {KeyVariable} to at least {ShortestKey} random characters, or {KeyFileVariable} to a file that "
                + "holds them."
        );

    /// <summary>The key as it is used; null = none is set.</summary>
    private byte[]? Key()
    {
        var text = environment(KeyVariable) is { Length: > 0 } given ? given : KeyInFile();
        if (text is null)
            return null;
        if (text.Length < ShortestKey)
            throw new StateException($"The key of the secrets has at least {ShortestKey} characters, and this one has {text.Length}.");
        return HKDF.DeriveKey(HashAlgorithmName.SHA256, Encoding.UTF8.GetBytes(text), 32, info: "secrets of a workspace"u8.ToArray());
    }

    private string? KeyInFile()
    {
        if (environment(KeyFileVariable) is not { Length: > 0 } path)
            return null;
        try
        {
            return File.ReadAllText(path).Trim();
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            throw new StateException($"The key of the secrets cannot be read from the file in {KeyFileVariable}: {exception.Message}");
        }
    }

    private static string PrintOf(byte[] key) => Convert.ToHexStringLower(HMACSHA256.HashData(key, "print"u8).AsSpan(0, 8));
}
