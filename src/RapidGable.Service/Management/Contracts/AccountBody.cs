using System.Collections.Immutable;
using System.Text.Json.Serialization;
using RapidGable.Model;

namespace RapidGable.Service.Management.Contracts;

/// <summary>A user or a key that is set.</summary>
internal sealed record AccountBody
{
    public string Name { get; init; } = "";

    /// <summary>Only when a user is set.</summary>
    public string? Password { get; init; }

    public ImmutableArray<string> Roles { get; init; } = [];

    public ImmutableDictionary<string, ImmutableArray<string>> Attributes { get; init; } =
        ImmutableDictionary<string, ImmutableArray<string>>.Empty;

    /// <summary>The services that a key is good for; missing = all.</summary>
    public ImmutableArray<string>? Services { get; init; }

    /// <summary>The operations that a key is good for; missing = all.</summary>
    public ImmutableArray<string>? May { get; init; }

    /// <summary>How long a key is taken; missing = for ever.</summary>
    public int? Days { get; init; }

    /// <summary>What is wrong with it; null = nothing.</summary>
    [JsonIgnore]
    public string? Fault =>
        Name.Length is 0 or > 100 || Name.Any(char.IsControl) || Name.Contains(':')
            ? "A name has up to 100 characters, without ':' and control characters."
        : Roles.IsDefault || Roles.FirstOrDefault(r => r is null || !AccessRule.IsRole(r)) is not null
            ? "A role takes small letters, digits and '-'."
        : Attributes.Any(a =>
            !SimpleIdentifier.IsValid(a.Key)
            || a.Key == "user"
            || a.Value.IsDefaultOrEmpty
            || a.Value.Any(v => v is null || v.Any(char.IsControl))
        )
            ? "An attribute is a name with texts, such as region with north."
        : May is { } may && may.Any(m => !Grant.OperationWords.Contains(m)) ? $"Operations: {string.Join(", ", Grant.OperationWords)}."
        : Days is < 1 or > 36_500 ? "A key is taken for 1 to 36500 days."
        : null;
}
