using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Access;

/// <summary>Who asks: an anonymous caller, or one with roles and attributes.</summary>
public sealed record Caller(bool IsSignedIn, ImmutableHashSet<string> Roles)
{
    public static readonly Caller Anonymous = new(false, []);

    /// <summary>Every operation that a rule can be about.</summary>
    public const SetOperations Everything =
        SetOperations.Read | SetOperations.Create | SetOperations.Update | SetOperations.Delete | SetOperations.Call;

    /// <summary>What the caller signed in as; null = anonymous.</summary>
    public string? Name { get; init; }

    /// <summary>What is known of the caller besides, such as regions, for the conditions of rules.</summary>
    public ImmutableDictionary<string, ImmutableArray<string>> Attributes { get; init; } =
        ImmutableDictionary<string, ImmutableArray<string>>.Empty;

    /// <summary>What the caller signed in with is good for these services only; null = for all.</summary>
    public ImmutableHashSet<string>? Services { get; init; }

    /// <summary>What the caller signed in with is good for these operations only, whatever rules let them do.</summary>
    public SetOperations Scope { get; init; } = Everything;

    /// <summary>The same text for callers who may do the same by the same name: two keys of one name may open different things.</summary>
    public string Identity =>
        JsonSerializer.Serialize<object?[]>([
            Name,
            IsSignedIn,
            Roles.Order(StringComparer.Ordinal),
            Attributes.OrderBy(a => a.Key, StringComparer.Ordinal).Select(a => new { a.Key, a.Value }),
            Services?.Order(StringComparer.Ordinal),
            Scope,
        ]);

    /// <summary>A signed-in caller with roles and without attributes.</summary>
    public static Caller WithRoles(params string[] roles) => new(true, [.. roles]);

    /// <summary>The values of an attribute by name; <c>user</c> is the name. Empty = there is none.</summary>
    public ImmutableArray<string> Attribute(string name) =>
        Attributes.TryGetValue(name, out var values) ? values
        : name == "user" && Name is { } own ? [own]
        : [];

    /// <summary>The caller as one service knows them.</summary>
    public Caller Within(string service) =>
        Services is null || Services.Contains(service) ? this : this with { Scope = SetOperations.None };

    /// <summary>Attributes from pairs, of which several may have one name.</summary>
    public static ImmutableDictionary<string, ImmutableArray<string>> AttributesOf(IEnumerable<(string Name, string Value)> pairs) =>
        pairs.GroupBy(p => p.Name, p => p.Value).ToImmutableDictionary(g => g.Key, g => g.Distinct().ToImmutableArray());
}
