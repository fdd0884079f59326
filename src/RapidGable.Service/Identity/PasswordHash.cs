using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace RapidGable.Service.Identity;

/// <summary>Passwords as they are kept: <c>pbkdf2-sha256$ROUNDS$SALT$HASH</c> (RFC 8018), the last two in base 64.</summary>
public static class PasswordHash
{
    private const string Algorithm = "pbkdf2-sha256";
    private const int Rounds = 600_000;

    /// <summary>The longest password, in bytes.</summary>
    public const int MostBytes = 1_024;

    /// <summary>What no password has the hash of, to be as slow for names that do not exist.</summary>
    public static string Nobody { get; } = Make(Convert.ToBase64String(RandomNumberGenerator.GetBytes(32)));

    public static string Make(string password)
    {
        var salt = RandomNumberGenerator.GetBytes(16);
        return $"{Algorithm}${Rounds}${Convert.ToBase64String(salt)}${Convert.ToBase64String(Hash(password, salt, Rounds))}";
    }

    /// <summary>Whether a password has the hash; false also when that is not one of ours.</summary>
    public static bool Fits(string password, string hash)
    {
        if (
            hash.Split('$') is not [Algorithm, var rounds, var salt, var kept]
            || !int.TryParse(rounds, NumberStyles.None, CultureInfo.InvariantCulture, out var count)
            || count is < 1 or > 10_000_000
        )
            return false;
        try
        {
            return CryptographicOperations.FixedTimeEquals(
                Hash(password, Convert.FromBase64String(salt), count),
                Convert.FromBase64String(kept)
            );
        }
        catch (FormatException)
        {
            return false;
        }
    }

    private static byte[] Hash(string password, byte[] salt, int rounds) =>
        Rfc2898DeriveBytes.Pbkdf2(Encoding.UTF8.GetBytes(password), salt, rounds, HashAlgorithmName.SHA256, 32);
}
