using System.Collections.Immutable;
using System.CommandLine;
using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Service.Identity;

namespace RapidGable.Cli;

/// <summary>Roles, attributes and callers as several commands take them.</summary>
internal static class AccountOptions
{
    public static Option<string[]> Roles() => new("--role") { Description = "A role; may be given several times." };

    public static Option<string[]> Attributes() => new("--attribute") { Description = "What is known besides, as name=value; rules ask for it as @name. May be given several times." };

    public static Option<string?> As() => new("--as") { Description = "A user of the workspace, or roles joined by commas; nobody known when left out." };

    public static ImmutableArray<string> RolesOf(string[]? given)
    {
        foreach (var role in given ?? [])
        {
            if (!AccessRule.IsRole(role))
                throw new UsageException($"'{role}' cannot be a role: it takes small letters, digits and '-'.");
        }
        return [.. given ?? []];
    }

    public static ImmutableDictionary<string, string> AttributesOf(string[]? given)
    {
        var found = ImmutableDictionary.CreateBuilder<string, string>();
        foreach (var pair in given ?? [])
        {
            var parts = pair.Split('=', 2);
            if (parts.Length < 2 || !SimpleIdentifier.IsValid(parts[0]) || parts[0] == "user")
                throw new UsageException($"'{pair}' is no attribute; write name=value, such as region=north.");
            found[parts[0]] = parts[1];
        }
        return found.ToImmutable();
    }

    public static AccountFile Read(string folder)
    {
        if (!File.Exists(Path.Combine(folder, "workspace.yaml")))
            throw new UsageException($"'{folder}' is no workspace: it holds no workspace.yaml.");
        try
        {
            return AccountFile.Read(folder) ?? new AccountFile();
        }
        catch (InvalidDataException exception)
        {
            throw new UsageException(exception.Message);
        }
    }

    /// <summary>The caller that <c>--as</c> means: a user, else roles; with more attributes.</summary>
    public static Caller CallerOf(string folder, string? name, string[]? attributes)
    {
        if (name is null)
            return attributes is null or [] ? Caller.Anonymous : throw new UsageException("Attributes belong to somebody: say who with --as.");
        if (Read(folder).Users.GetValueOrDefault(name) is { } user)
            return new Caller(true, [.. user.Roles]) { Name = name, Attributes = user.Attributes.SetItems(AttributesOf(attributes)) };
        return new Caller(true, [.. RolesOf(name.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries))]) { Attributes = AttributesOf(attributes) };
    }
}
