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
        var set = new ExampleCommand(
            "set",
            "Make an administrator, or give one another password, which is asked for, or read from standard input; only its hash is kept.",
            "gable administrator set demo ada",
            "gable administrator set demo ada < password.txt"
        )
        {
            workspace,
            name,
        };
        set.SetAction(result => Set(result.GetValue(workspace)!, result.GetValue(name)!));
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

    private static int Set(string folder, string name)
    {
        AccountOptions.CheckName(name);
        AccountOptions.Read(folder);
        var account = new AdministratorAccount(PasswordHash.Make(AccountOptions.AskPassword(name)));
        AccountOptions.Change(
            folder,
            f => f with { Administrators = f.Administrators.SetItem(name, account) },
            $"administrator {name} set"
        );
        Terminal.Out.WriteLine($"{name} may sign in to the console. From now on everybody must, also on this machine.");
        return 0;
    }

    private static int List(string folder, bool json)
    {
        var accounts = AccountOptions.Read(folder);
        if (json)
            Terminal.WriteJson(new { administrators = accounts.Administrators.Keys });
        else
            Terminal.Out.Write(
                accounts.Administrators.Keys.Aggregate(new Table().Border(TableBorder.None).AddColumns("administrator"), (table, n) =>
                    table.AddRow(Markup.Escape(n))
                )
            );
        return 0;
    }

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
