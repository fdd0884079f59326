using System.CommandLine;
using System.CommandLine.Invocation;

namespace RapidGable.Cli;

/// <summary>Arguments and options that several commands share, with one wording.</summary>
internal static class CommonOptions
{
    public static Option<bool> Json() => new("--json") { Description = "Print the result as JSON." };

    public static Argument<string> Workspace()
    {
        var argument = new Argument<string>("workspace")
        {
            Description = "The workspace's folder.",
            DefaultValueFactory = _ => ".",
            Arity = ArgumentArity.ZeroOrOne,
        };
        // A mistyped option would otherwise be taken for a folder.
        argument.Validators.Add(result =>
        {
            if (result.Tokens is [{ Value: ['-', ..] option }])
                result.AddError($"There is no option '{option}'.");
        });
        return argument;
    }
}

/// <summary>A command whose help ends with examples.</summary>
internal sealed class ExampleCommand(string name, string description, params string[] examples) : Command(name, description)
{
    public IReadOnlyList<string> Examples => examples;
}

/// <summary>The usual help, with a command's examples below it.</summary>
internal sealed class HelpWithExamples(SynchronousCommandLineAction usual) : SynchronousCommandLineAction
{
    public override int Invoke(ParseResult parseResult)
    {
        var code = usual.Invoke(parseResult);
        if (parseResult.CommandResult.Command is ExampleCommand command)
            Console.Out.WriteLine($"Examples:\n{string.Join('\n', command.Examples.Select(e => "  " + e))}\n");
        return code;
    }
}
