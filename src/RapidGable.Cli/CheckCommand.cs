using System.Collections.Immutable;
using System.CommandLine;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Service.Identity;
using RapidGable.Service.Stores;
using RapidGable.UseCases;
using RapidGable.Verification;
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
        var accept = new Option<bool>("--accept") { Description = "Keep today's metadata in accepted/, for later checks to compare with." };
        var noData = new Option<bool>("--no-data") { Description = "Look at the catalog only; do not read rows to prove keys and types." };
        var command = new ExampleCommand(
            "check",
            "Hold the declaration against the database: names, keys, types and the data itself.",
            "gable check demo",
            "gable check demo --no-data",
            "gable check demo --accept",
            "gable check demo --json"
        )
        {
            workspace,
            resolved,
            noData,
            accept,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(resolved),
                    !result.GetValue(noData),
                    result.GetValue(accept),
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
        bool accept,
        bool json,
        CancellationToken cancellation
    )
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        var options = new CheckOptions(withData, accept, RolesOfAccounts(workspace));
        var report = await Terminal.WithStatusAsync(withData ? "Checking the data" : "Checking", json, progress =>
            new CheckWorkspace(workspace, options).RunAsync(progress, cancellation)
        );
        foreach (var file in report.Accepted)
            Terminal.Error.WriteLine($"accepted: {file}");
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    workspace = workspace.Declaration.Title,
                    ok = report.Faults == 0,
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
                    drift = report
                        .Services.Where(s => s.Drift is not null)
                        .Select(s => new
                        {
                            service = s.Service.Model.Service,
                            changes = s.Drift!.Value.Select(c => new
                            {
                                c.Subject,
                                c.What,
                                c.Meaning,
                                c.IsBreaking,
                            }),
                        }),
                    opened = report
                        .Services.Where(s => s.Opened is not null)
                        .Select(s => new { service = s.Service.Model.Service, changes = s.Opened }),
                    resolved = resolved
                        ? workspace.Services.Select(s => new { service = s.Model.Service, inferences = s.Inferences })
                        : null,
                }
            );
            return report.Faults == 0 ? 0 : 1;
        }
        Terminal.WriteDiagnostics(workspace.Diagnostics);
        foreach (var service in report.Services)
            WriteService(service, workspace, resolved);
        Terminal.Out.MarkupLine(report.Faults == 0 ? "[green]No faults.[/]" : $"[red]{Terminal.Plural(report.Faults, "fault")}.[/]");
        return report.Faults == 0 ? 0 : 1;
    }

    /// <summary>The roles that users and keys have; accounts that cannot be read are a fault.</summary>
    private static List<string> RolesOfAccounts(LoadedWorkspace workspace)
    {
        try
        {
            var accounts = AccountsInFolder.Read(workspace.Declaration.Folder) ?? new AccountDirectory();
            return [.. accounts.Users.Values.SelectMany(u => u.Roles).Concat(accounts.Keys.Values.SelectMany(k => k.Roles))];
        }
        catch (InvalidDataException exception)
        {
            workspace.Diagnostics.Error("accounts", exception.Message, SourceLocation.WholeFile(AccountsInFolder.Name));
            return [];
        }
    }

    /// <summary>What has changed since the metadata was accepted, with what it means for consumers.</summary>
    private static void WriteDrift(ImmutableArray<CsdlDifference> changes)
    {
        if (changes.IsEmpty)
            return;
        Terminal.Out.WriteLine("Since its metadata was accepted:");
        foreach (var change in changes)
        {
            Terminal.Out.MarkupLine(
                $"  {(change.IsBreaking ? "[red]breaks[/]" : "[green]adds[/]  ")} [bold]{Markup.Escape(change.Subject)}[/]: "
                    + $"{Markup.Escape(change.What)}"
            );
            Terminal.Out.MarkupLine($"         [grey]{Markup.Escape(change.Meaning)}[/]");
        }
        Terminal.Out.MarkupLine("  [grey]If all of this is meant, 'gable check --accept' keeps it as what to compare with.[/]");
    }

    private static void WriteService(CheckedService found, LoadedWorkspace workspace, bool resolved)
    {
        var (service, proofs, drift, opened) = (found.Service, found.Proofs, found.Drift, found.Opened);
        Terminal.Out.MarkupLine(
            $"[bold]{Markup.Escape(service.Model.Service)}[/]: {Markup.Escape(service.Model.Title)}, "
                + $"{Terminal.Plural(service.Model.Sets.Length, "set")}"
        );
        var table = new Table().Border(TableBorder.None).AddColumns("", "set", "from", "key", "may read", "data");
        var wrong = Faulty(service, workspace);
        foreach (var set in service.Model.Sets)
        {
            var own = proofs.Where(p => p.Set == set.Name).ToList();
            var faults = own.Where(p => p.Fault is not null).ToList();
            table.AddRow(
                faults.Count == 0 && !wrong.Contains(set.Name) ? "[green]ok[/]" : "[red]fault[/]",
                Markup.Escape(set.Name),
                set.IsQuery ? "a query" : Markup.Escape(set.Source.ToString()),
                set.Gives != QueryResult.Rows ? $"[grey]one {set.Gives.ToString().ToLowerInvariant()}[/]"
                    : set.IsUnkeyed ? "[grey]none[/]"
                    : Markup.Escape(string.Join(", ", set.Type.Key.Select(k => k.Name))),
                Markup.Escape(Grant.Describe(set.Rules, SetOperations.Read)),
                own.Count == 0 ? "not read" : Terminal.Plural(own.Max(p => p.Rows), "row")
            );
        }
        Terminal.Out.Write(table);
        foreach (var fault in proofs.Where(p => p.Fault is not null))
        {
            Terminal.Out.MarkupLine($"[red]{Markup.Escape($"{fault.Set}: {fault.Fault}")}[/]");
            foreach (var example in fault.Examples)
                Terminal.Out.WriteLine("    " + example);
        }
        if (drift is { } changes)
            WriteDrift(changes);
        foreach (var text in opened ?? [])
            Terminal.Out.MarkupLine($"  [olive]opens[/] {Markup.Escape(text)}");
        if (opened is { IsEmpty: false })
            Terminal.Out.MarkupLine("  [grey]If this is meant, 'gable check --accept' keeps it as what to compare with.[/]");
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
