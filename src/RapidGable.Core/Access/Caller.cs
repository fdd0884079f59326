using System.Collections.Immutable;

namespace RapidGable.Access;

/// <summary>Who asks: nobody known, or somebody with roles and attributes.</summary>
public sealed record Caller(bool IsSignedIn, ImmutableHashSet<string> Roles)
{
    public static readonly Caller Anonymous = new(false, []);

    /// <summary>What the caller signed in as; null = nobody known.</summary>
    public string? Name { get; init; }

    /// <summary>What is known of the caller besides, such as a region, for the conditions of rules.</summary>
    public ImmutableDictionary<string, string> Attributes { get; init; } = ImmutableDictionary<string, string>.Empty;

    public static Caller WithRoles(params string[] roles) => new(true, [.. roles]);

    /// <summary>An attribute by name; <c>user</c> is the name. Null = there is none.</summary>
    public string? Attribute(string name) => Attributes.GetValueOrDefault(name) ?? (name == "user" ? Name : null);
}
