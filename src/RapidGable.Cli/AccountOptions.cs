using System.Collections.Immutable;
using System.CommandLine;
using RapidGable.Access;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.State;
using RapidGable.Service.Stores;
using RapidGable.UseCases;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary>Roles, attributes and callers as several commands take them.</summary>
internal static class AccountOptions
{
    private const int ShortestPassword = 8;

    public static Option<string[]> Roles() => new("--role") { Description = "A role; may be given several times." };

    public static Option<string[]> Attributes() =>
        new("--attribute")
        {
            Description =
                "What is known besides, as name=value; rules ask for it as @name. May be given several times, also with one name.",
        };

    public static Option<string?> As() =>
        new("--as") { Description = "A user of the workspace, or roles joined by commas; anonymous when left out." };

    public static ImmutableArray<string> RolesOf(string[]? given)
    {
        foreach (var role in given ?? [])
        {
            if (!AccessRule.IsRole(role))
                throw new UsageException($"'{role}' cannot be a role: it takes small letters, digits and '-'.");
        }
        return [.. given ?? []];
    }

    public static ImmutableDictionary<string, ImmutableArray<string>> AttributesOf(string[]? given)
    {
        var found = new List<(string, string)>();
        foreach (var pair in given ?? [])
        {
            var parts = pair.Split('=', 2);
            if (parts.Length < 2 || !SimpleIdentifier.IsValid(parts[0]) || parts[0] == "user")
                throw new UsageException($"'{pair}' is no attribute; write name=value, such as region=north.");
            found.Add((parts[0], parts[1]));
        }
        return Caller.AttributesOf(found);
    }

    /// <summary>Attributes in words.</summary>
    public static string Words(ImmutableDictionary<string, ImmutableArray<string>> attributes) =>
        string.Join(", ", attributes.OrderBy(a => a.Key, StringComparer.Ordinal).Select(a => $"{a.Key}={string.Join("|", a.Value)}"));

    public static AccountDirectory Read(string folder)
    {
        if (!File.Exists(Path.Combine(folder, "workspace.yaml")))
            throw new UsageException($"'{folder}' is not a workspace: it has no workspace.yaml.");
        try
        {
            return AccountsInState.Read(WorkspaceState.Of(folder)) ?? new AccountDirectory();
        }
        catch (StateException exception)
        {
            throw new UsageException(exception.Message);
        }
    }

    /// <exception cref="UsageException">When it cannot be the name of an account.</exception>
    public static void CheckName(string name)
    {
        if (name.Length is 0 or > 100 || name.Contains(':') || name.Any(char.IsControl))
            throw new UsageException("A name has up to 100 characters, without ':' and control characters.");
    }

    /// <summary>Says which roles mean nothing, after an account was made with them.</summary>
    public static void WarnOfRoles(string folder, IEnumerable<string> roles)
    {
        foreach (var text in RoleNames.Unnamed(WorkspaceReader.Read(new WorkspaceFolder(folder), _ => "").Workspace, roles))
            Terminal.Error.MarkupLine($"[olive]{Markup.Escape(text)}[/]");
    }

    /// <summary>Asks for a password, or reads it from standard input.</summary>
    public static string AskPassword(string name)
    {
        var password = Console.IsInputRedirected
            ? Console.In.ReadLine() ?? ""
            : Terminal.Out.Prompt(new TextPrompt<string>($"Password of {Markup.Escape(name)}:").Secret());
        return
            password.Length >= ShortestPassword
            && System.Text.Encoding.UTF8.GetByteCount($"{name}:{password}") <= PasswordHash.MostBytes
            && !password.Any(char.IsControl)
            ? password
            : throw new UsageException(
                $"A password has at least {ShortestPassword} characters, no more than about {PasswordHash.MostBytes}, and no "
                    + $"control characters."
            );
    }

    /// <summary>Changes the accounts and notes it in the audit log.</summary>
    public static void Change(string folder, Func<AccountDirectory, AccountDirectory> change, string note)
    {
        try
        {
            AccountsInState.Change(WorkspaceState.Of(folder), change);
        }
        catch (StateException exception)
        {
            throw new UsageException(exception.Message);
        }
        Note(folder, note);
    }

    /// <summary>The audit log of a workspace; null = it keeps none.</summary>
    public static AuditInState? AuditOf(string folder)
    {
        var (workspace, _) = WorkspaceReader.Read(new WorkspaceFolder(folder), Environment.GetEnvironmentVariable);
        return workspace.Audit.IsKept ? new AuditInState(WorkspaceState.Of(workspace)) : null;
    }

    /// <summary>Notes in the workspace's audit log what was done by a command.</summary>
    public static void Note(string folder, string detail)
    {
        if (AuditOf(folder) is not { } audit)
            return;
        try
        {
            audit.Append([
                new AuditEvent(TimeProvider.System.GetUtcNow().UtcDateTime, AuditEvents.Management)
                {
                    Caller = Environment.UserName,
                    By = "command",
                    Detail = detail,
                },
            ]);
        }
        catch (StateException exception)
        {
            Console.Error.WriteLine($"gable: this is done, but cannot be noted in the audit log: {exception.Message}");
        }
    }

    /// <summary>When keys were last used, by their ids, as far as the audit log knows; to ten minutes.</summary>
    public static Dictionary<string, DateTime> LastUses(string folder) =>
        AuditOf(folder)
            ?.Read()
            .Where(e => e.Event == AuditEvents.SignIn && e.Key is not null)
            .GroupBy(e => e.Key!)
            .ToDictionary(g => g.Key, g => g.Max(e => e.Time))
        ?? [];

    /// <summary>The caller that <c>--as</c> means: a user, else roles; with more attributes.</summary>
    public static Caller CallerOf(string folder, string? name, string[]? attributes)
    {
        if (name is null)
            return attributes is null or []
                ? Caller.Anonymous
                : throw new UsageException("Attributes belong to somebody: say who with --as.");
        if (Read(folder).Users.GetValueOrDefault(name) is { } user)
            return new Caller(true, [.. user.Roles]) { Name = name, Attributes = user.Attributes.SetItems(AttributesOf(attributes)) };
        return new Caller(true, [.. RolesOf(name.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries))])
        {
            Attributes = AttributesOf(attributes),
        };
    }
}
