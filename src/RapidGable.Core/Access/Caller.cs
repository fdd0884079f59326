using System.Collections.Immutable;

namespace RapidGable.Access;

/// <summary>Who asks: nobody known, or somebody with roles.</summary>
public sealed record Caller(bool IsSignedIn, ImmutableHashSet<string> Roles)
{
    public static readonly Caller Anonymous = new(false, []);

    public static Caller WithRoles(params string[] roles) => new(true, [.. roles]);
}
