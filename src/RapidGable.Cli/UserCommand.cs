using System.CommandLine;
using RapidGable.Service.Identity;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable user</c>: who signs in with a name and a password.</summary>
internal static class UserCommand
{
    public static Command Create()
    {
        var workspace = new Argument<string>("workspace") { Description = "The workspace's folder." };
        var name = new Argument<string>("name") { Description = "The user's name." };
        var (roles, attributes) = (AccountOptions.Roles(), AccountOptions.Attributes());
        var add = new ExampleCommand(
            "set",
            "Make a user, or replace one. The password is asked for, or read from standard input; only its hash is kept.",
            "gable user set demo ines --role office",
            "gable user set demo tom --role field-staff --attribute region=north < password.txt"
        )
        {
            workspace,
            name,
            roles,
            attributes,
        };
        add.SetAction(result =>
            Set(result.GetValue(workspace)!, result.GetValue(name)!, result.GetValue(roles), result.GetValue(attributes))
        );
        var json = CommonOptions.Json();
        var list = new ExampleCommand("list", "List the users with their roles and attributes.", "gable user list demo")
        {
            workspace,
            json,
        };
        list.SetAction(result => List(result.GetValue(workspace)!, result.GetValue(json)));
        var remove = new ExampleCommand(
            "remove",
            "Remove a user; a running service refuses them from the next request on.",
            "gable user remove demo tom"
        )
        {
            workspace,
            name,
        };
        remove.SetAction(result => Remove(result.GetValue(workspace)!, result.GetValue(name)!));
        return new Command("user", "Users who sign in with a name and a password.") { add, list, remove };
    }

    private static int Set(string folder, string name, string[]? roles, string[]? attributes)
    {
        AccountOptions.CheckName(name);
        AccountOptions.Read(folder);
        var (known, told) = (AccountOptions.RolesOf(roles), AccountOptions.AttributesOf(attributes));
        var password = AccountOptions.AskPassword(name);
        var user = new UserAccount(PasswordHash.Make(password)) { Roles = known, Attributes = told };
        AccountOptions.Change(folder, f => f with { Users = f.Users.SetItem(name, user) }, $"user {name} set");
        Terminal.Out.WriteLine($"{name} may sign in{(user.Roles.IsEmpty ? ", without a role" : " as " + string.Join(", ", user.Roles))}.");
        AccountOptions.WarnOfRoles(folder, user.Roles);
        return 0;
    }

    private static int List(string folder, bool json)
    {
        var accounts = AccountOptions.Read(folder);
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    users = accounts.Users.Select(u => new
                    {
                        name = u.Key,
                        u.Value.Roles,
                        u.Value.Attributes,
                    }),
                }
            );
            return 0;
        }
        var table = new Table().Border(TableBorder.None).AddColumns("user", "roles", "attributes");
        foreach (var (name, user) in accounts.Users)
            table.AddRow(
                Markup.Escape(name),
                Markup.Escape(string.Join(", ", user.Roles)),
                Markup.Escape(AccountOptions.Words(user.Attributes))
            );
        Terminal.Out.Write(table);
        return 0;
    }

    private static int Remove(string folder, string name)
    {
        var accounts = AccountOptions.Read(folder);
        if (!accounts.Users.ContainsKey(name))
        {
            Console.Error.WriteLine($"gable: there is no user '{name}'.{Model.NearestName.Hint(name, accounts.Users.Keys)}");
            return 1;
        }
        AccountOptions.Change(folder, f => f with { Users = f.Users.Remove(name) }, $"user {name} removed");
        Terminal.Out.WriteLine($"{name} may no longer sign in.");
        return 0;
    }
}
