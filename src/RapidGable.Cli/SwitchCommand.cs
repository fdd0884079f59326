using System.CommandLine;
using System.Globalization;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Service.Publishing;
using RapidGable.Service.Stores;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable switch</c>: switches a service, a face, a group of queries or a set off and on while it is served.</summary>
internal static class SwitchCommand
{
    public static Command Create()
    {
        var workspace = CommonOptions.Workspace();
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "switch",
            "List what is switched off, or switch a service, a face, a group of queries or a set off and on.",
            "gable switch demo",
            "gable switch off demo rivers/Stations --message \"The stations are being moved\" --retry-after 1800",
            "gable switch off demo fieldwork --face rest --absent",
            "gable switch on demo rivers/Stations"
        )
        {
            workspace,
            json,
            Off(),
            On(),
        };
        command.SetAction(result => List(result.GetValue(workspace)!, result.GetValue(json)));
        return command;
    }

    private static Argument<string> Target() => new("target") { Description = "A service, or SERVICE/SET; a query is meant as a set is." };

    private static Option<string?> Face()
    {
        var face = new Option<string?>("--face") { Description = "Only one face of the service: odata or rest." };
        face.AcceptOnlyFromAmong("odata", "rest");
        return face;
    }

    private static Option<string?> Group() => new("--group") { Description = "The title of a group of queries of the service." };

    private static ExampleCommand Off()
    {
        var (workspace, target, face, group) = (CommonOptions.Workspace(), Target(), Face(), Group());
        var message = new Option<string?>("--message") { Description = "What callers are told." };
        var retry = new Option<int>("--retry-after")
        {
            Description = "Seconds after which callers may come back.",
            DefaultValueFactory = _ => SwitchedOff.UsualRetryAfter,
        };
        var absent = new Option<bool>("--absent") { Description = "As if it were not there, instead of 503 with the message." };
        var command = new ExampleCommand(
            "off",
            "Switch something off. A running service takes it within a second.",
            "gable switch off demo rivers/Stations --message \"The stations are being moved\" --retry-after 1800"
        )
        {
            workspace,
            target,
            face,
            group,
            message,
            retry,
            absent,
        };
        command.SetAction(result =>
        {
            var folder = result.GetValue(workspace)!;
            var off = Meant(result.GetValue(target)!, result.GetValue(face), result.GetValue(group)) with
            {
                IsAbsent = result.GetValue(absent),
                Message = MessageOf(result.GetValue(message)),
                RetryAfter = result.GetValue(retry) is > 0 and <= 31_536_000 and var seconds
                    ? seconds
                    : throw new UsageException("--retry-after takes seconds from 1 to 31536000."),
            };
            CheckName(folder, off);
            BoardOf(folder).Off(off);
            AccountOptions.Note(folder, $"switched off {off.Target}");
            Terminal.Out.MarkupLine($"[olive]off[/] {Markup.Escape(off.Target)}");
            return 0;
        });
        return command;
    }

    private static ExampleCommand On()
    {
        var (workspace, target, face, group) = (CommonOptions.Workspace(), Target(), Face(), Group());
        var command = new ExampleCommand("on", "Switch something on again.", "gable switch on demo rivers/Stations")
        {
            workspace,
            target,
            face,
            group,
        };
        command.SetAction(result =>
        {
            var folder = result.GetValue(workspace)!;
            var what = Meant(result.GetValue(target)!, result.GetValue(face), result.GetValue(group));
            if (!BoardOf(folder).On(what))
                throw new UsageException($"{what.Target} is not switched off; 'gable switch {folder}' lists what is.");
            AccountOptions.Note(folder, $"switched on {what.Target}");
            Terminal.Out.MarkupLine($"[green]on[/] {Markup.Escape(what.Target)}");
            return 0;
        });
        return command;
    }

    private static int List(string folder, bool json)
    {
        var off = BoardOf(folder).Read();
        if (json)
        {
            Terminal.WriteJson(new { off });
            return 0;
        }
        if (off.IsEmpty)
        {
            Terminal.Out.WriteLine("Nothing is switched off.");
            return 0;
        }
        var table = new Table().Border(TableBorder.None).AddColumns("off", "how", "message", "by", "since (UTC)");
        foreach (var one in off)
            table.AddRow(
                $"[bold]{Markup.Escape(one.Target)}[/]",
                one.IsAbsent ? "as if absent" : $"503, retry after {one.RetryAfter} s",
                Markup.Escape(one.Message ?? ""),
                Markup.Escape(one.By),
                one.At.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture)
            );
        Terminal.Out.Write(table);
        return 0;
    }

    private static SwitchBoard BoardOf(string folder)
    {
        if (!File.Exists(Path.Combine(folder, "workspace.yaml")))
            throw new UsageException($"'{folder}' is not a workspace: it has no workspace.yaml.");
        return new SwitchBoard(WorkspaceState.Of(folder));
    }

    private static string? MessageOf(string? message) =>
        message is { Length: > 500 } || message?.Any(char.IsControl) == true
            ? throw new UsageException("A message has up to 500 characters in one line.")
            : message;

    private static SwitchedOff Meant(string target, string? face, string? group)
    {
        var parts = target.Split('/', 2);
        if ((parts.Length > 1 || group is not null) && face is not null)
            throw new UsageException("A face is switched off for a whole service.");
        if (parts.Length > 1 && group is not null)
            throw new UsageException("Name a set or a group, not both.");
        return new SwitchedOff(parts[0], Environment.UserName, TimeProvider.System.GetUtcNow().UtcDateTime)
        {
            Set = parts.Length > 1 ? parts[1] : null,
            Face = face,
            Group = group,
        };
    }

    /// <summary>A service that the files do not name is a mistake; sets have their names only once the catalog is read.</summary>
    private static void CheckName(string folder, SwitchedOff off)
    {
        var (workspace, _) = WorkspaceReader.Read(new WorkspaceFolder(folder), _ => "");
        var service = workspace.Services.FirstOrDefault(s => s.Name == off.Service);
        if (service is null)
        {
            var names = workspace.Services.Select(s => s.Name);
            throw new UsageException($"There is no service '{off.Service}'.{NearestName.Hint(off.Service, names)}");
        }
        var groups = service.Sets.Select(s => s.Query?.Group?.Title).OfType<string>().Distinct().ToList();
        if (off.Group is { } group && !groups.Contains(group))
            throw new UsageException($"'{off.Service}' has no group of queries '{group}'.{NearestName.Hint(group, groups)}");
    }
}
