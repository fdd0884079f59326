// The `gable` command. Exit codes: 0 all is well, 1 what it looked at has faults, 2 it was called wrongly.
using System.CommandLine;
using System.CommandLine.Help;
using System.CommandLine.Invocation;
using RapidGable.Cli;
using RapidGable.UseCases;

var root = new RootCommand(
    """
    Rapid Gable publishes database tables and views as OData and plain REST, from a few lines of text.

    A first walk:
      gable new rivers --database network.db     make a workspace for a database
      gable look rivers                          see what the database offers
      gable check rivers                         hold the declaration against the database
      gable serve rivers                         serve it, and follow its files
      gable verify rivers                        prove that it answers right
      gable publish rivers                       make a revision, for 'gable serve --published'
    """
)
{
    NewCommand.Create(),
    SourceCommand.Create(),
    LookCommand.Create(),
    KeysCommand.Create(),
    DraftCommand.Create(),
    ShowCommand.Create(),
    SchemaCommand.Create(),
    UpgradeCommand.Create(),
    CheckCommand.Create(),
    PublishCommand.Create(),
    HistoryCommand.Create(),
    SwitchCommand.Create(),
    ServeCommand.Create(),
    RefreshCommand.Create(),
    EndpointsCommand.Create(),
    CallCommand.Create(),
    SqlCommand.Create(),
    GetCommand.Create(),
    SendCommand.Create(),
    FillCommand.Create(),
    ExplainCommand.Create(),
    TryCommand.Create(),
    CompareCommand.Create(),
    VerifyCommand.Create(),
    HandoverCommand.Create(),
    AccessCommand.Create(),
    UserCommand.Create(),
    ApiKeyCommand.Create(),
    AdministratorCommand.Create(),
    SecretCommand.Create(),
    AuditCommand.Create(),
};

var help = root.Options.OfType<HelpOption>().First();
help.Action = new HelpWithExamples((SynchronousCommandLineAction)help.Action!);

var parsed = root.Parse(args);
if (parsed.Errors.Count > 0 && parsed.Action is not HelpWithExamples)
{
    foreach (var error in parsed.Errors)
        Console.Error.WriteLine($"gable: {UsageText.Of(error.Message)}");
    var command = parsed.CommandResult.Command;
    Console.Error.WriteLine($"See 'gable {(command is RootCommand ? "" : command.Name + " ")}--help'.");
    return 2;
}
try
{
    return await parsed.InvokeAsync(new InvocationConfiguration { EnableDefaultExceptionHandler = false });
}
catch (OperationCanceledException)
{
    return 130;
}
catch (Exception exception)
    when (exception is not (UsageException or NotPossibleException or RapidGable.Service.State.StateException)
        && Environment.GetEnvironmentVariable("GABLE_STACKS") is null
    )
{
    Console.Error.WriteLine($"gable: this should not happen: {exception.Message} (set GABLE_STACKS=1 to see where)");
    return 1;
}
catch (NotPossibleException exception)
{
    Console.Error.WriteLine($"gable: {exception.Message}");
    return exception.IsAbsent ? 1 : 2;
}
catch (RapidGable.Service.State.StateException exception)
{
    Console.Error.WriteLine($"gable: {exception.Message}");
    return 1;
}
catch (UsageException exception)
{
    Console.Error.WriteLine($"gable: {exception.Message}");
    return 2;
}
