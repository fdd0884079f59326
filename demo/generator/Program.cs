// gable-demo FOLDER [--readings N] [--postgresql CONNECTION | --mariadb CONNECTION]: makes network.db and lab.db of the demo
// workspace. The same seed gives the same rows.
// With a connection it copies the rows of network.db, which is there already, into an empty database of that server.
using System.Globalization;
using RapidGable.Demo;
using Spectre.Console;

var folder = "demo/data";
var readings = 50_000;
Action<string>? copy = null;
for (var i = 0; i < args.Length; i++)
{
    if (args[i] is "--postgresql" or "--mariadb" && i + 1 < args.Length)
    {
        var (engine, connection) = (args[i], args[++i]);
        copy = file => (engine == "--mariadb" ? (Action<string, string>)MariaDbDatabase.Make : PostgresDatabase.Make)(connection, file);
        continue;
    }
    if (args[i] is "--help" or "-h")
    {
        Console.WriteLine(
            "gable-demo [FOLDER] [--readings N] [--postgresql CONNECTION | --mariadb CONNECTION]\n\nMakes FOLDER/network.db "
                + "and FOLDER/lab.db (in demo/data when no folder is given), with N readings (50,000).\nWith a connection, "
                + "copies FOLDER/network.db into that empty database instead."
        );
        return 0;
    }
    if (args[i] == "--readings")
    {
        if (
            i + 1 < args.Length
            && int.TryParse(args[++i], NumberStyles.None, CultureInfo.InvariantCulture, out readings)
            && readings is > 0 and <= 100_000_000
        )
            continue;
        Console.Error.WriteLine("gable-demo: --readings needs a whole number from 1 to 100000000.");
        return 2;
    }
    if (args[i].StartsWith('-'))
    {
        Console.Error.WriteLine($"gable-demo: '{args[i]}' is not an option. Try --help.");
        return 2;
    }
    folder = args[i];
}

if (copy is not null)
{
    copy(Path.Combine(folder, "network.db"));
    return 0;
}
Directory.CreateDirectory(folder);
var lab = Path.Combine(folder, "lab.db");
File.Delete(lab + ".new");
LabDatabase.Make(lab + ".new");
File.Move(lab + ".new", lab, overwrite: true);
var target = Path.Combine(folder, "network.db");
var unfinished = target + ".new";
File.Delete(unfinished);
if (Console.IsErrorRedirected)
{
    Console.Error.WriteLine($"Making {target} with {readings:N0} readings …");
    NetworkDatabase.Make(unfinished, readings, _ => { });
}
else
{
    var console = AnsiConsole.Create(new AnsiConsoleSettings { Out = new AnsiConsoleOutput(Console.Error) });
    console
        .Progress()
        .Columns(new TaskDescriptionColumn(), new ProgressBarColumn(), new PercentageColumn(), new RemainingTimeColumn())
        .Start(progress =>
        {
            var task = progress.AddTask($"network.db, {readings:N0} readings", maxValue: readings);
            NetworkDatabase.Make(unfinished, readings, done => task.Value = done);
            task.Value = readings;
        });
}
File.Move(unfinished, target, overwrite: true);
return 0;
