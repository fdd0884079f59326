using System.CommandLine;
using RapidGable.Declarations;
using RapidGable.Service.Publishing;
using RapidGable.Service.Stores;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable secret</c>: secrets that source files name as <c>${NAME}</c>, kept encrypted in the workspace's state.</summary>
internal static class SecretCommand
{
    public static Command Create()
    {
        var workspace = new Argument<string>("workspace") { Description = "The workspace's folder." };
        var name = new Argument<string>("name") { Description = "The name between the braces, such as ARCHIVE_PASSWORD." };
        var set = new ExampleCommand(
            "set",
            $"Keep a secret, or replace one. It is asked for, or read from standard input. Encrypted with the key in "
                + $"{SecretKeeper.KeyVariable}, or in the file that {SecretKeeper.KeyFileVariable} names.",
            "gable secret set demo ARCHIVE_PASSWORD < password.txt"
        )
        {
            workspace,
            name,
        };
        set.SetAction(result => Set(result.GetValue(workspace)!, result.GetValue(name)!));
        var json = CommonOptions.Json();
        var list = new ExampleCommand("list", "List the names of the secrets, and who uses them.", "gable secret list demo")
        {
            workspace,
            json,
        };
        list.SetAction(result => List(result.GetValue(workspace)!, result.GetValue(json)));
        var remove = new ExampleCommand("remove", "Remove a secret.", "gable secret remove demo ARCHIVE_PASSWORD") { workspace, name };
        remove.SetAction(result => Remove(result.GetValue(workspace)!, result.GetValue(name)!));
        return new Command("secret", "Secrets of sources, kept encrypted in the workspace's state.") { set, list, remove };
    }

    private static SecretKeeper Of(string folder)
    {
        AccountOptions.Read(folder);
        return new SecretKeeper(WorkspaceState.Of(folder), Environment.GetEnvironmentVariable);
    }

    private static int Set(string folder, string name)
    {
        if (SecretKeeper.NameFault(name) is { } fault)
            throw new UsageException(fault);
        var secrets = Of(folder);
        var value = Console.IsInputRedirected
            ? Console.In.ReadLine() ?? ""
            : Terminal.Out.Prompt(new TextPrompt<string>($"{name}:").Secret());
        if (SecretKeeper.ValueFault(value) is { } bad)
            throw new UsageException(bad);
        secrets.Set(name, value);
        AccountOptions.Note(folder, $"secret {name} set");
        Terminal.Out.WriteLine($"The secret {name} is kept. Source files name it as ${{{name}}}.");
        return 0;
    }

    private static int List(string folder, bool json)
    {
        var names = Of(folder).Names();
        var texts = new WorkspaceFolder(folder).Read();
        if (json)
        {
            Terminal.WriteJson(new { secrets = names.Select(n => new { name = n, usedBy = texts.Naming(n) }) });
            return 0;
        }
        if (names.IsEmpty)
            Terminal.Out.WriteLine("No secret is kept. 'gable secret set' keeps one.");
        foreach (var name in names)
        {
            var used = string.Join(", ", texts.Naming(name));
            Terminal.Out.WriteLine($"{name}  {(used.Length > 0 ? used : "not used")}");
        }
        return 0;
    }

    private static int Remove(string folder, string name)
    {
        if (!Of(folder).Remove(name))
        {
            Console.Error.WriteLine($"gable: there is no secret '{name}'. 'gable secret list' shows their names.");
            return 1;
        }
        AccountOptions.Note(folder, $"secret {name} removed");
        Terminal.Out.WriteLine($"The secret {name} is removed.");
        return 0;
    }
}
