using System.CommandLine;
using RapidGable.Model;
using RapidGable.Service.Auditing;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable audit</c>: who signed in, was refused, and changed something.</summary>
internal static class AuditCommand
{
    public static Command Create()
    {
        var workspace = new Argument<string>("workspace") { Description = "The workspace's folder." };
        var kind = new Option<string?>("--event") { Description = $"Only this: {string.Join(", ", AuditEvents.All)}." };
        var caller = new Option<string?>("--caller") { Description = "Only what this caller did." };
        var days = new Option<int>("--days") { Description = "Only the last so many days.", DefaultValueFactory = _ => 7 };
        var count = new Option<int>("--count") { Description = "So many lines at most.", DefaultValueFactory = _ => 50 };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "audit",
            "Show what the audit log holds, newest first: sign-ins, refusals and what administrators did.",
            "gable audit demo",
            "gable audit demo --event refused --caller tom --days 30"
        )
        {
            workspace,
            kind,
            caller,
            days,
            count,
            json,
        };
        command.SetAction(result =>
            Run(
                result.GetValue(workspace)!,
                result.GetValue(kind),
                result.GetValue(caller),
                result.GetValue(days),
                result.GetValue(count),
                result.GetValue(json)
            )
        );
        return command;
    }

    private static int Run(string path, string? kind, string? caller, int days, int count, bool json)
    {
        if (kind is not null && !AuditEvents.All.Contains(kind))
            throw new UsageException(
                $"'{kind}' is not a kind of event.{NearestName.Hint(kind, AuditEvents.All)} Kinds: {string.Join(", ", AuditEvents.All)}."
            );
        if (days < 1 || count < 1)
            throw new UsageException("--days and --count take numbers from 1.");
        AccountOptions.Read(path);
        if (AccountOptions.AuditOf(path) is not { } folder)
        {
            Console.Error.WriteLine("gable: the workspace keeps no audit log: 'audit' in workspace.yaml is false.");
            return 1;
        }
        var since = TimeProvider.System.GetUtcNow().UtcDateTime.AddDays(-days);
        var events = folder
            .Read()
            .TakeWhile(e => e.Time >= since)
            .Where(e => (kind is null || e.Event == kind) && (caller is null || e.Caller == caller))
            .Take(count)
            .ToList();
        if (json)
        {
            Terminal.WriteJson(new { events });
            return 0;
        }
        if (events.Count == 0)
        {
            Terminal.Out.WriteLine("Nothing of that kind is noted.");
            return 0;
        }
        var table = new Table().Border(TableBorder.None).AddColumns("time (UTC)", "event", "caller", "from", "what");
        foreach (var e in events)
        {
            var what = string.Join(
                ' ',
                new[]
                {
                    e.By is { } by && e.Event == AuditEvents.SignIn ? $"by {by}" : null,
                    e.Status?.ToString(System.Globalization.CultureInfo.InvariantCulture),
                    e.Method,
                    e.Event == AuditEvents.Management ? null : e.Path,
                    e.Detail,
                    e is { Count: { } more, Event: not AuditEvents.Lost } ? $"and {more} like it" : null,
                }.OfType<string>()
            );
            table.AddRow(
                $"{e.Time:yyyy-MM-dd HH:mm:ss}",
                e.Event is AuditEvents.SignIn or AuditEvents.Management ? e.Event : $"[red]{e.Event}[/]",
                Markup.Escape(e.Caller ?? "-"),
                Markup.Escape(e.Address ?? "-"),
                Markup.Escape(what)
            );
        }
        Terminal.Out.Write(table);
        return 0;
    }
}
