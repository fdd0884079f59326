using RapidGable.Access;
using RapidGable.Model;

namespace RapidGable.Service.Identity;

/// <summary>Callers as texts name them.</summary>
public static class NamedCaller
{
    public const string Anonymous = "anonymous";

    /// <summary>A user of the workspace, else roles joined by commas; no text = anonymous. Null = it cannot be either.</summary>
    public static Caller? Of(AccountDirectory? accounts, string? name)
    {
        if (string.IsNullOrWhiteSpace(name) || name is Anonymous or "anyone")
            return Caller.Anonymous;
        if (accounts?.Users.GetValueOrDefault(name) is { } user)
            return new Caller(true, [.. user.Roles]) { Name = name, Attributes = user.Attributes };
        if (name == "signed-in")
            return new Caller(true, []) { Name = name };
        var roles = name.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        return roles.Length > 0 && roles.All(AccessRule.IsRole) ? new Caller(true, [.. roles]) { Name = name } : null;
    }
}
