using System.CommandLine;
using RapidGable.Inspection;
using RapidGable.Sources;
using RapidGable.UseCases;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable keys</c>: which columns identify the rows of a table or view.</summary>
internal static class KeysCommand
{
    public static Command Create()
    {
        var workspace = new Argument<string>("workspace") { Description = "The workspace's folder." };
        var name = new Argument<string>("object") { Description = "A table or view." };
        var source = new Option<string?>("--source") { Description = "Which source, when the workspace has several." };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "keys",
            "Find the columns that identify the rows of a table or view, proved over all rows: up to three columns, the likeliest first.",
            "gable keys demo daily_summary",
            "gable keys demo station_latest --json"
        )
        {
            workspace,
            name,
            source,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(result.GetValue(workspace)!, result.GetValue(name)!, result.GetValue(source), result.GetValue(json), cancellation)
        );
        return command;
    }

    private static async Task<int> RunAsync(string folder, string name, string? sourceName, bool json, CancellationToken cancellation)
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        if (workspace.Catalogs.IsEmpty)
        {
            Terminal.WriteDiagnostics(workspace.Diagnostics);
            return 1;
        }
        try
        {
            var found = await Terminal.WithStatusAsync($"Counting {name}", json, progress =>
                new FindKeys(workspace).OfAsync(sourceName, name, progress, cancellation)
            );
            Write(name, found.Item, found.Findings, json);
            return found.HasKey ? 0 : 1;
        }
        catch (SourceException exception)
        {
            Console.Error.WriteLine($"gable: '{name}' cannot be read: {exception.Message}");
            return 1;
        }
    }

    private static void Write(string name, SourceObject item, KeyFindings findings, bool json)
    {
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    @object = name,
                    item.PrimaryKey,
                    item.UniqueKeys,
                    findings.Rows,
                    findings.Tried,
                    findings.IsComplete,
                    candidates = findings.Candidates.Select(c => new { c.Columns, c.Reason }),
                }
            );
            return;
        }
        Terminal.Out.MarkupLine(
            $"[bold]{Markup.Escape(name)}[/]: "
                + $"{Terminal.Plural(findings.Rows, "row")}"
                + $"{(item.PrimaryKey.IsEmpty ? "" : $", primary key {Markup.Escape(string.Join(", ", item.PrimaryKey))}")}"
        );
        var table = new Table().Border(TableBorder.None).HideHeaders().AddColumns("key", "reason");
        foreach (var candidate in findings.Candidates.Take(10))
            table.AddRow(
                $"  key: [[{Markup.Escape(string.Join(", ", candidate.Columns))}]]",
                $"[grey]{Markup.Escape(candidate.Reason)}[/]"
            );
        Terminal.Out.Write(table);
        if (findings.Candidates.IsEmpty)
            Terminal.Out.MarkupLine(
                "[olive]No one, two or three columns identify a row.[/] Publish it for reading only with 'keyless: true', or "
                    + "make a view that adds a key."
            );
        if (findings.Candidates.Length > 10)
            Terminal.Out.WriteLine($"  and {findings.Candidates.Length - 10} more");
        if (!findings.IsComplete)
            Terminal.Out.WriteLine($"Only the {findings.Tried} likeliest combinations were counted.");
        if (findings.Rows == 0)
            Terminal.Out.WriteLine("The object is empty, so any column would do; the data proves nothing.");
    }
}
