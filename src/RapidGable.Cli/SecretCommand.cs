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
        var keyFile = new Option<string>("--new-key-file") { Description = "The file that holds the new key.", Required = true };
        var rotate = new ExampleCommand(
            "rotate",
            $"Keep all secrets, and the keys of sessions, under another key. The one so far is in {SecretKeeper.KeyVariable} or the file "
                + $"of {SecretKeeper.KeyFileVariable}; give the new one to the service afterwards. What broke off half way is done again.",
            "gable secret rotate demo --new-key-file next-key.txt"
        )
        {
            workspace,
            keyFile,
        };
        rotate.SetAction(result => Rotate(result.GetValue(workspace)!, result.GetValue(keyFile)!));
        return new Command("secret", "Secrets of sources, kept encrypted in the workspace's state.") { set, list, remove, rotate };
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

    private static int Rotate(string folder, string keyFile)
    {
        var secrets = Of(folder);
        if (!secrets.HasKey)
            throw new UsageException($"Set {SecretKeeper.KeyVariable} or {SecretKeeper.KeyFileVariable} to the key so far.");
        if (!File.Exists(keyFile))
            throw new UsageException($"There is no file '{keyFile}'.");
        var changed = secrets.Rotate(name => name == SecretKeeper.KeyFileVariable ? keyFile : null);
        AccountOptions.Note(folder, $"key of secrets changed, {changed} kept anew");
        Terminal.Out.WriteLine($"{changed} kept under the new key. Start the service with it: the former one opens nothing any more.");
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
