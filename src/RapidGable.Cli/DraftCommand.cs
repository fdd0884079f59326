using System.CommandLine;
using RapidGable.Drafting;
using RapidGable.Sources;
using RapidGable.UseCases;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable draft</c>: writes sets for tables and views into a service file.</summary>
internal static class DraftCommand
{
    public static Command Create()
    {
        var workspace = new Argument<string>("workspace") { Description = "The workspace's folder." };
        var service = new Argument<string>("service") { Description = "The service; its file is made when it is not there." };
        var patterns = new Argument<string[]>("pattern")
        {
            Description = "Tables and views, by name or with * and ?; all when left out.",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var source = new Option<string?>("--source") { Description = "Which source, when the workspace has several." };
        var print = new Option<bool>("--print") { Description = "Print the file instead of writing it." };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "draft",
            "Write a short, commented declaration for tables and views. What stands in the file already is left as it is.",
            "gable draft demo stations 'station*' sensor --source network --print",
            "gable draft demo rivers"
        )
        {
            workspace,
            service,
            patterns,
            source,
            print,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(service)!,
                    result.GetValue(patterns) ?? [],
                    result.GetValue(source),
                    result.GetValue(print),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string folder,
        string service,
        string[] patterns,
        string? sourceName,
        bool print,
        bool json,
        CancellationToken cancellation
    )
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        var drafting = new DraftService(workspace, service);
        if (drafting.IsUnreadable || workspace.Catalogs.IsEmpty)
        {
            Terminal.WriteDiagnostics(workspace.Diagnostics);
            return 1;
        }
        try
        {
            var drafted = await Terminal.WithStatusAsync("Looking for keys", json, progress =>
                drafting.DraftAsync(patterns, sourceName, progress, cancellation)
            );
            if (!print)
                await drafting.SaveAsync(drafted, cancellation);
            Write(folder, drafted.File, drafted.Draft, print, json);
            return drafted.Draft.Refused.IsEmpty ? 0 : 1;
        }
        catch (Exception exception) when (exception is InvalidDataException or SourceException)
        {
            Console.Error.WriteLine($"gable: {drafting.File} is left as it is: {exception.Message}");
            return 1;
        }
    }

    private static void Write(string folder, string file, DraftResult draft, bool print, bool json)
    {
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    file,
                    written = !print,
                    draft.Added,
                    draft.Known,
                    leftOut = draft.LeftOut.Select(l => l.Object),
                    draft.Hidden,
                    refused = draft.Refused.Select(r => new { @object = r.Object, why = r.Why }),
                    text = print ? draft.Text : null,
                }
            );
            return;
        }
        if (print)
        {
            Console.Out.Write(draft.Text);
            return;
        }
        Terminal.Out.MarkupLine(
            $"[bold]{Markup.Escape($"{folder}/{file}")}[/]: {Terminal.Plural(draft.Added.Length, "set")} "
                + $"added{(draft.Known.IsEmpty ? "" : $", {draft.Known.Length} there already")}"
        );
        foreach (var name in draft.Added)
            Terminal.Out.WriteLine("  + " + name);
        DraftReport.Write(draft);
        if (!draft.Added.IsEmpty)
            Terminal.Out.WriteLine(
                $"\nNext: 'gable show {folder} {Path.GetFileNameWithoutExtension(file)}' prints what is taken from the "
                    + $"catalog, 'gable check {folder}' proves it."
            );
    }
}
