using System.CommandLine;
using System.Text;
using RapidGable.Declarations;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary>
/// <c>gable upgrade</c>: puts the words of today in the place of older ones; everything else of the files stays as it is.
/// </summary>
internal static class UpgradeCommand
{
    public static Command Create()
    {
        var workspace = new Argument<string>("workspace") { Description = "The workspace's folder." };
        var dryRun = new Option<bool>("--dry-run") { Description = "Only say what would change." };
        var json = new Option<bool>("--json") { Description = "Print the changes as JSON." };
        var command = new ExampleCommand(
            "upgrade",
            "Rewrite words of the workspace's files that have other names now. Comments and layout stay.",
            "gable upgrade rivers --dry-run",
            "gable upgrade rivers"
        )
        {
            workspace,
            dryRun,
            json,
        };
        command.SetAction(result => Run(result.GetValue(workspace)!, result.GetValue(dryRun), result.GetValue(json)));
        return command;
    }

    private static int Run(string folder, bool isDryRun, bool json)
    {
        var (_, diagnostics) = WorkspaceReader.Read(new WorkspaceFolder(folder), _ => "");
        if (diagnostics.Items.FirstOrDefault(d => d.Code is "no-workspace" or "unreadable") is { } missing)
            throw new UsageException(missing.Message);
        var changes = diagnostics.Items.Where(d => d is { Replacement: not null, Location.Line: > 0 }).ToList();
        if (!isDryRun)
        {
            foreach (var file in changes.GroupBy(c => c.Location.File))
                Rewrite(Path.Combine(folder, file.Key), [.. file]);
        }
        if (json)
            Terminal.WriteJson(new { written = !isDryRun, changes = changes.Select(ForJson) });
        else
            Report(changes, isDryRun);
        return 0;
    }

    private static void Report(List<Diagnostic> changes, bool isDryRun)
    {
        foreach (var change in changes)
            Terminal.Out.WriteLine($"{change.Location}: {Old(change)} -> {change.Replacement}");
        var words = Terminal.Plural(changes.Count, "word");
        if (changes.Count == 0)
            Terminal.Out.WriteLine("Every word is of today. Nothing is changed.");
        else
            Terminal.Out.WriteLine(isDryRun ? $"{words} would be rewritten." : $"{words} rewritten. 'gable check' proves the rest.");
    }

    private static object ForJson(Diagnostic change) =>
        new
        {
            change.Location.File,
            change.Location.Line,
            change.Location.Column,
            old = Old(change),
            @new = change.Replacement,
        };

    private static string Old(Diagnostic change) => change.Location.LineText.Substring(change.Location.Column - 1, change.Location.Length);

    /// <summary>Replaces from the end of the file to its start, so that no place moves before its turn.</summary>
    private static void Rewrite(string path, List<Diagnostic> changes)
    {
        var text = File.ReadAllText(path);
        foreach (var change in changes.OrderByDescending(c => (c.Location.Line, c.Location.Column)))
        {
            var start = StartOf(text, change.Location.Line) + change.Location.Column - 1;
            text = text.Remove(start, change.Location.Length).Insert(start, change.Replacement!);
        }
        File.WriteAllText(path, text, new UTF8Encoding(encoderShouldEmitUTF8Identifier: false));
    }

    private static int StartOf(string text, int line)
    {
        var start = 0;
        for (var passed = 1; passed < line; passed++)
            start = text.IndexOf('\n', start) + 1;
        return start;
    }
}
