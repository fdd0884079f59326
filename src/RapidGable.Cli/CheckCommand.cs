using System.CommandLine;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Service.Identity;
using RapidGable.Service.State;
using RapidGable.Service.Stores;
using RapidGable.UseCases;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable check</c>: holds the declaration against the database.</summary>
internal static class CheckCommand
{
    public static Command Create()
    {
        var workspace = CommonOptions.Workspace();
        var json = CommonOptions.Json();
        var resolved = new Option<bool>("--resolved")
        {
            Description = "Also print everything that the declaration left open, with what was taken and why.",
        };
        var keep = new Option<string?>("--keep") { Description = "Write what the services are now to a file, for --against." };
        var against = new Option<string?>("--against")
        {
            Description = "Compare with a file that --keep wrote, instead of the newest revision; what breaks consumers is a fault.",
        };
        var noData = new Option<bool>("--no-data") { Description = "Look at the catalog only; do not read rows to prove keys and types." };
        var command = new ExampleCommand(
            "check",
            "Hold the declaration against the database: names, keys, types and the data itself.",
            "gable check demo",
            "gable check demo --no-data",
            "gable check demo --keep services.json",
            "gable check demo --against services.json",
            "gable check demo --json"
        )
        {
            workspace,
            resolved,
            noData,
            keep,
            against,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(resolved),
                    !result.GetValue(noData),
                    result.GetValue(keep),
                    result.GetValue(against),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string folder,
        bool resolved,
        bool withData,
        string? keep,
        string? against,
        bool json,
        CancellationToken cancellation
    )
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        var options = new CheckOptions(withData, RolesOfAccounts(workspace));
        var report = await Terminal.WithStatusAsync(withData ? "Checking the data" : "Checking", json, progress =>
            new CheckWorkspace(workspace, options).RunAsync(progress, cancellation)
        );
        var comparison = await PublishedComparison.MakeAsync(workspace, keep, against, cancellation);
        var faults = report.Faults + comparison.Faults;
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    workspace = workspace.Declaration.Title,
                    ok = faults == 0,
                    findings = workspace.Diagnostics.Items.Select(Terminal.ForJson),
                    data = report
                        .Services.SelectMany(s => s.Proofs)
                        .Select(p => new
                        {
                            p.Service,
                            p.Set,
                            p.What,
                            p.Rows,
                            ok = p.Fault is null,
                            fault = p.Fault,
                            p.Examples,
                        }),
                    comparedWith = comparison.With,
                    changes = comparison.ForJson,
                    drift = comparison.Drift,
                    resolved = resolved
                        ? workspace.Services.Select(s => new { service = s.Model.Service, inferences = s.Inferences })
                        : null,
                }
            );
            return faults == 0 ? 0 : 1;
        }
        Terminal.WriteDiagnostics(workspace.Diagnostics);
        foreach (var service in report.Services)
            WriteService(service, workspace, resolved);
        comparison.Write();
        Terminal.Out.MarkupLine(faults == 0 ? "[green]No faults.[/]" : $"[red]{Terminal.Plural(faults, "fault")}.[/]");
        return faults == 0 ? 0 : 1;
    }

    /// <summary>The roles that users and keys have; accounts that cannot be read are a fault.</summary>
    private static List<string> RolesOfAccounts(LoadedWorkspace workspace)
    {
        try
        {
            var accounts = AccountsInState.Read(WorkspaceState.Of(workspace.Declaration)) ?? new AccountDirectory();
            return [.. accounts.Users.Values.SelectMany(u => u.Roles).Concat(accounts.Keys.Values.SelectMany(k => k.Roles))];
        }
        catch (StateException exception)
        {
            workspace.Diagnostics.Error("accounts", exception.Message, SourceLocation.WholeFile(AccountsInState.Name));
            return [];
        }
    }

    private static void WriteService(CheckedService found, LoadedWorkspace workspace, bool resolved)
    {
        var (service, proofs) = (found.Service, found.Proofs);
        Terminal.Out.MarkupLine(
            $"[bold]{Markup.Escape(service.Model.Service)}[/]: {Markup.Escape(service.Model.Title)}, "
                + $"{Terminal.Plural(service.Model.Sets.Length, "set")}"
        );
        var table = new Table().Border(TableBorder.None).AddColumns("", "set", "from", "key", "who", "data");
        var wrong = Faulty(service, workspace);
        foreach (var set in service.Model.Sets)
        {
            var own = proofs.Where(p => p.Set == set.Name).ToList();
            var faults = own.Where(p => p.Fault is not null).ToList();
            table.AddRow(
                faults.Count == 0 && !wrong.Contains(set.Name) ? "[green]ok[/]" : "[red]fault[/]",
                Markup.Escape(set.Name),
                set.IsAction ? "an action"
                    : set.IsQuery ? "a query"
                    : Markup.Escape(set.Source.ToString()),
                set.Gives == QueryResult.Nothing ? "[grey]nothing[/]"
                    : set.Gives != QueryResult.Rows ? $"[grey]one {set.Gives.ToString().ToLowerInvariant()}[/]"
                    : set.IsUnkeyed ? "[grey]none[/]"
                    : Markup.Escape(string.Join(", ", set.Type.Key.Select(k => k.Name))),
                Markup.Escape($"{Grant.Words(set.Use)}: {Grant.Describe(set.Rules, set.Use)}"),
                set.IsAction ? "[grey]prepared[/]"
                    : own.Count == 0 ? "not read"
                    : Terminal.Plural(own.Max(p => p.Rows), "row")
            );
        }
        Terminal.Out.Write(table);
        foreach (var fault in proofs.Where(p => p.Fault is not null))
        {
            Terminal.Out.MarkupLine($"[red]{Markup.Escape($"{fault.Set}: {fault.Fault}")}[/]");
            foreach (var example in fault.Examples)
                Terminal.Out.WriteLine("    " + example);
        }
        if (resolved)
            WriteInferences(service);
        Terminal.Out.WriteLine();
    }

    /// <summary>The sets in whose lines a fault was found, by the names that they are declared under or taken from.</summary>
    private static HashSet<string> Faulty(BuiltService service, LoadedWorkspace workspace)
    {
        var declaration = workspace.Declaration.Services.First(s => s.Name == service.Model.Service);
        var errors = workspace.Diagnostics.Items.Where(d =>
            d.Severity == Severity.Error && d.Location.File == declaration.Location.File && d.Location.Line > 0
        );
        return
        [
            .. errors
                .Select(e => declaration.Sets.LastOrDefault(s => s.Location.Line <= e.Location.Line))
                .OfType<SetDeclaration>()
                .Select(s =>
                    s.Name?.Value
                    ?? service
                        .Model.Sets.FirstOrDefault(m =>
                            m.Source.ToString() == s.From.Value || (m.Source as TableSource)?.Name == s.From.Value
                        )
                        ?.Name
                    ?? ""
                ),
        ];
    }

    private static void WriteInferences(BuiltService service)
    {
        Terminal.Out.WriteLine("Taken from the catalog:");
        var table = new Table().Border(TableBorder.None).HideHeaders().AddColumns("subject", "value", "reason");
        foreach (var item in service.Inferences)
            table.AddRow("  " + Markup.Escape(item.Subject), Markup.Escape(item.Value), $"[grey]{Markup.Escape(item.Reason)}[/]");
        Terminal.Out.Write(table);
    }
}
