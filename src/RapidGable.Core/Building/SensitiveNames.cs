using System.Collections.Frozen;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>
/// Tells by their names which tables and columns probably hold secrets or what concerns a person. A guess, so it is always said
/// and never enforced.
/// </summary>
internal static class SensitiveNames
{
    private static readonly FrozenSet<string> SecretTables =
    [
        "session",
        "token",
        "password",
        "credential",
        "secret",
        "cookie",
        "apikey",
        "passkey",
        "otp",
    ];

    private static readonly FrozenSet<string> SecretWords =
    [
        "password",
        "passwd",
        "pwd",
        "pass",
        "passphrase",
        "passcode",
        "secret",
        "token",
        "salt",
        "credential",
        "cookie",
        "otp",
        "apikey",
        "sessionid",
        "psk",
        "totp",
    ];

    // Nobody writes these inside of another word.
    private static readonly string[] SecretParts =
    [
        "password",
        "passwd",
        "passphrase",
        "secret",
        "apikey",
        "authtoken",
        "sessionid",
        "privatekey",
    ];

    private static readonly string[] SecretKeys =
    [
        "api",
        "private",
        "auth",
        "access",
        "secret",
        "encryption",
        "signing",
        "session",
        "ssh",
        "license",
    ];

    private static readonly FrozenSet<string> PersonalWords =
    [
        "email",
        "mail",
        "phone",
        "telephone",
        "mobile",
        "birthday",
        "birthdate",
        "dob",
        "ssn",
        "iban",
        "passport",
        "birth",
    ];

    private static readonly string[] PersonalParts = ["email", "birthdate", "phonenumber"];

    /// <summary>Why a table should be looked at before it is published: the word that says so; null = nothing does.</summary>
    public static string? SecretTable(string table) => Words(table).FirstOrDefault(SecretTables.Contains) ?? KeyPhrase(Words(table));

    /// <summary>The word in a column's name by which it may hold a secret; null = it does not look so.</summary>
    public static string? SecretColumn(SourceColumn column)
    {
        // A number of tokens and the time of a password's change are no secrets.
        if (column.Type is not (null or { Kind: EdmKind.String or EdmKind.Binary or EdmKind.Guid }))
            return null;
        var words = Words(column.Name);
        return words.FirstOrDefault(SecretWords.Contains) ?? KeyPhrase(words) ?? Part(column.Name, SecretParts);
    }

    /// <summary>The word in a column's name by which it may concern a person; null = it does not look so.</summary>
    public static string? PersonalColumn(SourceColumn column) =>
        column.Type is { Kind: EdmKind.Boolean }
            ? null
            : Words(column.Name).FirstOrDefault(PersonalWords.Contains) ?? Part(column.Name, PersonalParts);

    /// <summary>Such as <c>api key</c>.</summary>
    private static string? KeyPhrase(List<string> words)
    {
        for (var i = 1; i < words.Count; i++)
        {
            if (words[i] == "key" && SecretKeys.Contains(words[i - 1]))
                return $"{words[i - 1]} key";
        }
        return null;
    }

    private static string? Part(string name, string[] parts) =>
        Array.Find(parts, p => name.Replace("_", "", StringComparison.Ordinal).Contains(p, StringComparison.OrdinalIgnoreCase));

    /// <summary>The words of a name in small letters and in the singular.</summary>
    private static List<string> Words(string name) =>
        [
            .. Casings
                .Words(name)
                .Select(w => w.ToLowerInvariant())
                .Select(w => w.Length > 3 && w[^1] == 's' && !w.EndsWith("ss", StringComparison.Ordinal) ? w[..^1] : w),
        ];
}
