using System.Collections.Immutable;

namespace RapidGable.Service.Identity;

/// <summary>What somebody may do with the management interface. Rights add up; whoever has one may look.</summary>
[Flags]
public enum ManagementRights
{
    None = 0,

    /// <summary>See everything but accounts, secrets and the audit log; run nothing.</summary>
    Look = 1,

    /// <summary>Edit the draft, try it on rows, preview and verify.</summary>
    Write = 2,

    /// <summary>Publish, go back, switch on and off, and send requests that change rows for real.</summary>
    Publish = 4,

    /// <summary>Accounts, keys, secrets and the audit log.</summary>
    Administer = 8,

    All = Look | Write | Publish | Administer,
}

/// <summary>Rights as words, as accounts keep them and commands take them.</summary>
public static class ManagementRightWords
{
    /// <summary>All words, from what allows least to what allows most.</summary>
    public static ImmutableArray<string> All { get; } = ["look", "write", "publish", "administer"];

    /// <summary>The rights that some words mean; null words = all rights, as accounts had before there were any.</summary>
    /// <exception cref="FormatException">A word is none.</exception>
    public static ManagementRights Of(ImmutableArray<string>? words)
    {
        if (words is not { IsDefault: false } given)
            return ManagementRights.All;
        return given.Select(One).Aggregate(ManagementRights.Look, (all, right) => all | right);
    }

    /// <summary>The words of some rights.</summary>
    public static ImmutableArray<string> Of(ManagementRights rights) => [.. All.Where(w => rights.HasFlag(One(w)))];

    private static ManagementRights One(string word) =>
        All.Contains(word)
            ? Enum.Parse<ManagementRights>(word, ignoreCase: true)
            : throw new FormatException($"'{word}' is no right. Rights: {string.Join(", ", All)}.");
}

/// <summary>Who manages.</summary>
internal sealed record Manager(string Name, ManagementRights Rights);
