using System.Security.Cryptography;
using System.Text;
using RapidGable.Service.State;

namespace RapidGable.Service.Publishing;

/// <summary>A text as it is kept under a key.</summary>
/// <param name="Key">What tells one key from another.</param>
/// <param name="Text">Nonce, tag and cipher text, in base 64.</param>
/// <param name="Version">1 = the key was made of the passphrase at once; 2 = slowly, with a salt.</param>
public sealed record SealedText(string Key, string Text, int Version = 1);

/// <summary>
/// Encrypts what the state keeps (AES-256-GCM) under a key that is not in the state: its passphrase comes from the environment, or from a
/// file that the environment names. The key is derived slowly and with a salt (PBKDF2, RFC 8018), so that whoever has the state cannot try
/// passphrases fast.
/// </summary>
public sealed class StateCipher(IStateStore state, Func<string, string?> environment)
{
    /// <summary>The variable that holds the passphrase.</summary>
    public const string KeyVariable = "GABLE_SECRETS_KEY";

    /// <summary>The variable that holds the path of the file with the passphrase.</summary>
    public const string KeyFileVariable = "GABLE_SECRETS_KEY_FILE";

    /// <summary>Shorter ones could be guessed all the same.</summary>
    public const int ShortestKey = 32;

    private const string DerivationName = "derivation";
    private const int Iterations = 600_000;
    private const int SaltBytes = 16;
    private const int NonceBytes = 12;
    private const int TagBytes = 16;

    private readonly Lock _deriving = new();
    private (string Passphrase, string Salt, byte[] Key)? _derived;

    /// <summary>How keys are derived; kept beside what they encrypt.</summary>
    private sealed record Derivation(string Algorithm, int Iterations, string Salt);

    /// <summary>There is a passphrase.</summary>
    public bool HasKey => environment(KeyVariable) is { Length: > 0 } || environment(KeyFileVariable) is { Length: > 0 };

    /// <param name="name">What the text is kept as; it cannot be put in the place of another one.</param>
    /// <exception cref="StateException">When there is no passphrase, or the state cannot be written.</exception>
    public SealedText Seal(string name, string value)
    {
        var key = Key(2) ?? throw NoKey($"'{name}' cannot be kept");
        var (nonce, text, tag) = (RandomNumberGenerator.GetBytes(NonceBytes), Encoding.UTF8.GetBytes(value), new byte[TagBytes]);
        var hidden = new byte[text.Length];
        using var cipher = new AesGcm(key, TagBytes);
        cipher.Encrypt(nonce, text, hidden, tag, Encoding.UTF8.GetBytes(name));
        return new SealedText(PrintOf(key), Convert.ToBase64String([.. nonce, .. tag, .. hidden]), 2);
    }

    /// <exception cref="StateException">When there is no passphrase, it is another one, or the text is damaged.</exception>
    public string Open(string name, SealedText kept)
    {
        if (kept.Version is not (1 or 2))
            throw new StateException($"'{name}' was kept by a later version of Rapid Gable.");
        var key = Key(kept.Version) ?? throw NoKey($"'{name}' cannot be read");
        if (PrintOf(key) != kept.Key)
            throw new StateException($"'{name}' was kept with another key than the one in {KeyVariable}; set it again.");
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
            throw new StateException($"'{name}' is damaged; set it again.", exception);
        }
    }

    /// <summary>Whether a text is kept under the passphrase as it is now.</summary>
    public bool Opens(SealedText kept) => Key(kept.Version) is { } key && PrintOf(key) == kept.Key;

    private static StateException NoKey(string what) =>
        new(
            $"{what}: there is no key. Set {KeyVariable} to at least {ShortestKey} random characters, or {KeyFileVariable} to a file that "
                + "holds them."
        );

    /// <summary>The key as it is used; null = there is no passphrase.</summary>
    private byte[]? Key(int version)
    {
        var text = environment(KeyVariable) is { Length: > 0 } given ? given : KeyInFile();
        if (text is null)
            return null;
        if (text.Length < ShortestKey)
            throw new StateException($"The key of the secrets has at least {ShortestKey} characters, and this one has {text.Length}.");
        if (version == 1)
            return HKDF.DeriveKey(HashAlgorithmName.SHA256, Encoding.UTF8.GetBytes(text), 32, info: "secrets of a workspace"u8.ToArray());
        lock (_deriving)
        {
            var how = HowKeysAreDerived();
            if (_derived is { } known && known.Passphrase == text && known.Salt == how.Salt)
                return known.Key;
            var key = Rfc2898DeriveBytes.Pbkdf2(text, Convert.FromBase64String(how.Salt), how.Iterations, HashAlgorithmName.SHA256, 32);
            _derived = (text, how.Salt, key);
            return key;
        }
    }

    private Derivation HowKeysAreDerived()
    {
        var made = new Derivation("pbkdf2-sha256", Iterations, Convert.ToBase64String(RandomNumberGenerator.GetBytes(SaltBytes)));
        var kept = state.Read<Derivation>(StateRooms.Secrets, DerivationName)
            ?? state.Change<Derivation>(StateRooms.Secrets, DerivationName, known => known ?? made)!;
        return kept.Algorithm == made.Algorithm && kept.Iterations >= Iterations
            ? kept
            : throw new StateException("How keys of secrets are derived is not known to this version of Rapid Gable.");
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
