using System.Collections.Immutable;
using System.Text.RegularExpressions;

namespace RapidGable.Model;

/// <summary>Whom a rule lets in, before roles are looked at.</summary>
public enum AccessScope
{
    Nobody,
    Anyone,
    SignedIn,
    Roles,
}

/// <summary>Who may do one operation on one set; a set without a rule lets nobody in.</summary>
/// <param name="Scope">The kind of rule.</param>
/// <param name="Roles">The role names when <paramref name="Scope"/> is <see cref="AccessScope.Roles"/>; else empty.</param>
public sealed partial record AccessRule(AccessScope Scope, ImmutableArray<string> Roles)
{
    public static readonly AccessRule Nobody = new(AccessScope.Nobody, []);
    public static readonly AccessRule Anyone = new(AccessScope.Anyone, []);
    public static readonly AccessRule SignedIn = new(AccessScope.SignedIn, []);

    /// <summary>Callers that have one of the roles.</summary>
    public static AccessRule ForRoles(IEnumerable<string> roles) => new(AccessScope.Roles, [.. roles]);

    /// <summary>Whether a text can name a role.</summary>
    public static bool IsRole(string text) => RoleName().IsMatch(text);

    [GeneratedRegex("^[a-z][a-z0-9-]{0,62}$")]
    private static partial Regex RoleName();

    /// <summary>The rule in the words of a declaration.</summary>
    public override string ToString() =>
        Scope switch
        {
            AccessScope.Nobody => "nobody",
            AccessScope.Anyone => "anyone",
            AccessScope.SignedIn => "signed-in",
            _ => string.Join(", ", Roles),
        };
}
