using System.Collections.Immutable;
using System.CommandLine;
using RapidGable.Service.Identity;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable administrator</c>: who signs in to the console.</summary>
internal static class AdministratorCommand
{
    public static Command Create()
    {
        var workspace = new Argument<string>("workspace") { Description = "The workspace's folder." };
        var name = new Argument<string>("name") { Description = "The administrator's name." };
        var rights = RightsOption();
        var set = new ExampleCommand(
            "set",
            "Make an administrator, or give one another password, which is asked for, or read from standard input; only its hash is kept.",
            "gable administrator set demo ada",
            "gable administrator set demo ada < password.txt",
            "gable administrator set demo bo --right look --right write"
        )
        {
            workspace,
            name,
            rights,
        };
        set.SetAction(result => Set(result.GetValue(workspace)!, result.GetValue(name)!, RightsOf(result.GetValue(rights))));
        var json = CommonOptions.Json();
        var list = new ExampleCommand("list", "List the administrators.", "gable administrator list demo") { workspace, json };
        list.SetAction(result => List(result.GetValue(workspace)!, result.GetValue(json)));
        var remove = new ExampleCommand(
            "remove",
            "Remove an administrator; their sessions end. Without any, the link that 'gable serve' prints opens the console.",
            "gable administrator remove demo ada"
        )
        {
            workspace,
            name,
        };
        remove.SetAction(result => Remove(result.GetValue(workspace)!, result.GetValue(name)!));
        return new Command("administrator", "Who signs in to the console; callers of services are users.") { set, list, remove };
    }

    /// <summary>The option for what somebody may do with the console and the management interface.</summary>
    public static Option<string[]> RightsOption() =>
        new("--right")
        {
            Description =
                "A right of management: look, write, publish or administer; all when left out for a new one. May be given several "
                + "times, and whoever has one may look.",
        };

    /// <summary>The rights of the option; null = it was left out.</summary>
    public static ImmutableArray<string>? RightsOf(string[]? given)
    {
        if (given?.FirstOrDefault(r => !ManagementRightWords.All.Contains(r)) is { } wrong)
            throw new UsageException(
                $"'{wrong}' is not a right.{Model.NearestName.Hint(wrong, ManagementRightWords.All)} Rights: "
                    + $"{string.Join(", ", ManagementRightWords.All)}."
            );
        return given is null or [] ? null : [.. ManagementRightWords.All.Where(given.Contains)];
    }

    private static int Set(string folder, string name, ImmutableArray<string>? rights)
    {
        AccountOptions.CheckName(name);
        var known = AccountOptions.Read(folder).Administrators.GetValueOrDefault(name);
        // Another password does not change what somebody may do.
        rights ??= known?.Rights;
        if (ManagementRightWords.Of(rights) is var asked && !asked.HasFlag(ManagementRights.Administer))
            CheckOthers(folder, name);
        var account = new AdministratorAccount(PasswordHash.Make(AccountOptions.AskPassword(name))) { Rights = rights };
        AccountOptions.Change(
            folder,
            f => f with { Administrators = f.Administrators.SetItem(name, account) },
            $"administrator {name} set"
        );
        Terminal.Out.WriteLine(
            $"{name} may sign in to the console, with the rights {string.Join(", ", ManagementRightWords.Of(asked))}. From now on "
                + "everybody must sign in, also on this machine."
        );
        return 0;
    }

    /// <summary>Somebody must be able to give rights.</summary>
    private static void CheckOthers(string folder, string name)
    {
        var accounts = AccountOptions.Read(folder);
        var others = accounts.Administrators.Where(a => a.Key != name).Select(a => a.Value.Rights);
        if (!others.Any(r => ManagementRightWords.Of(r).HasFlag(ManagementRights.Administer)))
            throw new UsageException(
                $"'{name}' would be the only administrator, and could not manage accounts. Make one with the right 'administer' first."
            );
    }

    private static int List(string folder, bool json)
    {
        var accounts = AccountOptions.Read(folder);
        if (json)
            Terminal.WriteJson(
                new { administrators = accounts.Administrators.Select(a => new { name = a.Key, rights = RightsOf(a.Value) }) }
            );
        else
            Terminal.Out.Write(
                accounts.Administrators.Aggregate(new Table().Border(TableBorder.None).AddColumns("administrator", "rights"), (table, a) =>
                    table.AddRow(Markup.Escape(a.Key), string.Join(", ", RightsOf(a.Value)))
                )
            );
        return 0;
    }

    private static ImmutableArray<string> RightsOf(AdministratorAccount account) =>
        ManagementRightWords.Of(ManagementRightWords.Of(account.Rights));

    private static int Remove(string folder, string name)
    {
        var accounts = AccountOptions.Read(folder);
        if (!accounts.Administrators.ContainsKey(name))
        {
            Console.Error.WriteLine(
                $"gable: there is no administrator '{name}'.{Model.NearestName.Hint(name, accounts.Administrators.Keys)}"
            );
            return 1;
        }
        AccountOptions.Change(folder, f => f with { Administrators = f.Administrators.Remove(name) }, $"administrator {name} removed");
        Terminal.Out.WriteLine($"{name} may no longer sign in to the console.");
        return 0;
    }
}
