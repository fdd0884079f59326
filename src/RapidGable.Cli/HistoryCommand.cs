using System.Collections.Immutable;
using System.CommandLine;
using System.Globalization;
using System.Text;
using RapidGable.Publishing;
using RapidGable.Service.Publishing;
using RapidGable.Service.Revisions;
using RapidGable.Service.Stores;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable history</c>: lists, shows and compares revisions, and goes back to one.</summary>
internal static class HistoryCommand
{
    public static Command Create()
    {
        var workspace = CommonOptions.Workspace();
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "history",
            "List the revisions of a workspace, look at one, compare two, or go back to one.",
            "gable history demo",
            "gable history show demo 3",
            "gable history diff demo 2 3",
            "gable history back demo 2 --message \"The codes are needed as they were\""
        )
        {
            workspace,
            json,
            Show(),
            Diff(),
            Back(),
        };
        command.SetAction(result => List(result.GetValue(workspace)!, result.GetValue(json)));
        return command;
    }

    private static Argument<int> Number(string name, string what) => new(name) { Description = what };

    private static ExampleCommand Show()
    {
        var workspace = CommonOptions.Workspace();
        var number = Number("revision", "Its number.");
        var text = new Option<string?>("--text") { Description = "Print one text of it, such as services/rivers.yaml." };
        var metadata = new Option<string?>("--metadata") { Description = "Print the metadata document of one of its services." };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "show",
            "Show a revision: who made it and why, what it changed, and its texts.",
            "gable history show demo 3",
            "gable history show demo 3 --text services/rivers.yaml"
        )
        {
            workspace,
            number,
            text,
            metadata,
            json,
        };
        command.SetAction(result =>
            Show(
                result.GetValue(workspace)!,
                result.GetValue(number),
                result.GetValue(text),
                result.GetValue(metadata),
                result.GetValue(json)
            )
        );
        return command;
    }

    private static ExampleCommand Diff()
    {
        var workspace = CommonOptions.Workspace();
        var (first, second) = (Number("from", "The earlier revision."), Number("to", "The later revision."));
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "diff",
            "Say what differs between two revisions, for consumers and callers.",
            "gable history diff demo 2 3"
        )
        {
            workspace,
            first,
            second,
            json,
        };
        command.SetAction(result =>
            Diff(result.GetValue(workspace)!, result.GetValue(first), result.GetValue(second), result.GetValue(json))
        );
        return command;
    }

    private static ExampleCommand Back()
    {
        var workspace = CommonOptions.Workspace();
        var number = Number("revision", "The revision to go back to.");
        var message = new Option<string>("--message") { Description = "Why, in a few words.", Required = true };
        var breaking = new Option<bool>("--allow-breaking") { Description = "Agree that consumers may break." };
        var opened = new Option<bool>("--allow-opened") { Description = "Agree that more becomes visible or possible." };
        var command = new ExampleCommand(
            "back",
            "Publish once more what a revision said. The files stay as they are.",
            "gable history back demo 2 --message \"The codes are needed as they were\""
        )
        {
            workspace,
            number,
            message,
            breaking,
            opened,
        };
        command.SetAction(
            (result, cancellation) =>
                BackAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(number),
                    new PublishConsent(Environment.UserName, result.GetValue(message)!, result.GetValue(breaking), result.GetValue(opened)),
                    cancellation
                )
        );
        return command;
    }

    private static int List(string folder, bool json)
    {
        var revisions = PublishCommand.ArchiveOf(folder).List(Console.Error.WriteLine);
        if (json)
        {
            Terminal.WriteJson(new { revisions });
            return 0;
        }
        if (revisions.IsEmpty)
        {
            Terminal.Out.WriteLine("Nothing was published yet; 'gable publish' makes the first revision.");
            return 0;
        }
        var table = new Table().Border(TableBorder.None).AddColumns("", "published (UTC)", "by", "message", "changes", "kept until");
        foreach (var revision in revisions)
            table.AddRow(
                $"[bold]{revision.Number}[/]",
                Time(revision.At),
                Markup.Escape(revision.By),
                Markup.Escape(revision.Message.Split('\n')[0]),
                ChangesOf(revision),
                revision.Number == revisions[0].Number ? "while it is the newest"
                    : revision.KeptUntil is { } until ? until.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)
                    : "for good"
            );
        Terminal.Out.Write(table);
        return 0;
    }

    private static string Time(DateTime at) => at.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);

    private static string ChangesOf(RevisionSummary revision)
    {
        var parts = new[]
        {
            revision.BackTo is { } back ? $"back to {back}" : null,
            revision.Breaking.Length > 0 ? $"[red]breaks {revision.Breaking.Length}[/]" : null,
            revision.Opened.Length > 0 ? $"[olive]opens {revision.Opened.Length}[/]" : null,
            Terminal.Plural(revision.Changes.Length, "change"),
        };
        return string.Join(", ", parts.OfType<string>());
    }

    private static RevisionSummary Find(RevisionArchive archive, int number) =>
        archive.Find(number)
        ?? throw new UsageException(
            archive.NewestNumber is > 0 and var newest
                ? $"There is no revision {number}; the newest is {newest}."
                : "Nothing was published yet; 'gable publish' makes the first revision."
        );

    private static int Show(string folder, int number, string? text, string? metadata, bool json)
    {
        var archive = PublishCommand.ArchiveOf(folder);
        var revision = Find(archive, number);
        if (text is not null || metadata is not null)
        {
            var content = archive.Read(number);
            var printed = text is not null
                ? content.Texts.TryGetValue(text, out var bytes)
                    ? Encoding.UTF8.GetString(bytes)
                    : null
                : content.Services.GetValueOrDefault(metadata!)?.Metadata;
            Console.Out.Write(
                printed
                    ?? throw new UsageException(
                        text is not null
                            ? $"The revision has no text '{text}'. It has: {string.Join(", ", content.Texts.Keys)}."
                            : $"The revision has no service '{metadata}' with a metadata document."
                    )
            );
            return 0;
        }
        if (json)
        {
            Terminal.WriteJson(revision);
            return 0;
        }
        Terminal.Out.MarkupLine(
            $"[bold]Revision {number}[/], published {Time(revision.At)} UTC by {Markup.Escape(revision.By)}, version {revision.Program}"
        );
        Terminal.Out.WriteLine(revision.Message);
        foreach (var service in revision.Services)
            Terminal.Out.MarkupLine(
                $"  [bold]{Markup.Escape(service.Name)}[/] {service.Identity}: {Markup.Escape(service.Title)}, "
                    + Terminal.Plural(service.Sets, "set")
            );
        WriteLines("It changed:", revision.Changes);
        WriteLines("It broke:", revision.Breaking);
        WriteLines("It opened:", revision.Opened);
        WriteLines("The checks said:", revision.Findings);
        return 0;
    }

    private static void WriteLines(string title, ImmutableArray<string> lines)
    {
        if (lines.IsEmpty)
            return;
        Terminal.Out.WriteLine(title);
        foreach (var line in lines)
            Terminal.Out.WriteLine("  " + line);
    }

    private static int Diff(string folder, int first, int second, bool json)
    {
        var archive = PublishCommand.ArchiveOf(folder);
        Find(archive, first);
        Find(archive, second);
        var reviews = PublishWorkspace.Compare(archive.Read(first), archive.Read(second)).ToList();
        if (json)
            Terminal.WriteJson(
                new
                {
                    from = first,
                    to = second,
                    services = reviews.Select(s => new
                    {
                        s.Name,
                        change = s.Change.ToString().ToLowerInvariant(),
                        s.Differences,
                        faces = s.Faces.Select(f => new { f.Face, f.Differences }),
                        s.Opened,
                    }),
                }
            );
        else if (reviews.Count == 0)
            Terminal.Out.WriteLine("Their services are the same.");
        else
            foreach (var review in reviews)
                PublishCommand.Write(review, first);
        return 0;
    }

    private static async Task<int> BackAsync(string folder, int number, PublishConsent consent, CancellationToken cancellation)
    {
        if (PublishWorkspace.MessageFault(consent.Message) is { } wrong)
            throw new UsageException(wrong);
        var archive = PublishCommand.ArchiveOf(folder);
        Find(archive, number);
        var reader = new RevisionReader(Path.GetFullPath(folder), archive, WorkspaceState.Variables(folder));
        var (revision, refusal, faults) = await PublishWorkspace.BackToAsync(
            archive,
            reader,
            number,
            consent,
            TimeProvider.System,
            cancellation
        );
        foreach (var fault in faults)
            Console.Error.WriteLine($"  {fault}");
        if (revision is null)
        {
            Terminal.Out.MarkupLine($"[red]{Markup.Escape(refusal!.Message)}[/]");
            return 1;
        }
        AccountOptions.Note(folder, $"went back to revision {number}, as revision {revision.Number}: {revision.Message}");
        Terminal.Out.MarkupLine($"[green]Published as revision {revision.Number}.[/] The files were left as they are.");
        return 0;
    }
}
