using System.Collections.Immutable;
using System.CommandLine;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Inspection;
using RapidGable.Metadata;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Publishing;
using RapidGable.Service.Identity;
using RapidGable.Service.Publishing;
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
        IndexAdvice.Add(workspace, workspace.Diagnostics);
        var drift = workspace.Services.ToDictionary(s => s, s => Drift(workspace, s));
        var proofs = withData
            ? await Terminal.WithStatusAsync("Checking the data", json, progress => DataProof.ProveAsync(workspace, progress, cancellation))
            : [];
        if (accept && !workspace.Diagnostics.HasErrors)
        {
            foreach (var service in workspace.Services)
                Terminal.Error.WriteLine(
                    $"accepted: {AcceptedMetadata.Accept(workspace.Declaration.Folder, service.Model.Service, Metadata(service))}"
                );
        }
        WarnOfRoles(workspace);
        var registry = new ServiceRegistry(workspace);
        var opened = workspace.Diagnostics.HasErrors
            ? []
            : workspace.Services.ToDictionary(s => s.Model.Service, s => Opened(workspace, registry, s, accept));
        var hasErrors =
            workspace.Diagnostics.HasErrors
            || proofs.Any(p => p.Fault is not null)
            || (!accept && drift.Values.Any(d => d?.Any(c => c.IsBreaking) == true));
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    workspace = workspace.Declaration.Title,
                    ok = !hasErrors,
                    findings = workspace.Diagnostics.Items.Select(Terminal.ForJson),
                    data = proofs.Select(p => new
                    {
                        p.Service,
                        p.Set,
                        p.What,
                        p.Rows,
                        ok = p.Fault is null,
                        fault = p.Fault,
                        p.Examples,
                    }),
                    drift = drift
                        .Where(d => d.Value is not null)
                        .Select(d => new
                        {
                            service = d.Key.Model.Service,
                            changes = d.Value!.Value.Select(c => new
                            {
                                c.Subject,
                                c.What,
                                c.Meaning,
                                c.IsBreaking,
                            }),
                        }),
                    opened = opened.Where(o => o.Value is not null).Select(o => new { service = o.Key, changes = o.Value }),
                    resolved = resolved
                        ? workspace.Services.Select(s => new { service = s.Model.Service, inferences = s.Inferences })
                        : null,
                }
            );
            return hasErrors ? 1 : 0;
        }
        Terminal.WriteDiagnostics(workspace.Diagnostics);
        foreach (var service in workspace.Services)
            WriteService(service, workspace, proofs, drift[service], opened.GetValueOrDefault(service.Model.Service), resolved);
        var errors =
            workspace.Diagnostics.Items.Count(d => d.Severity == Severity.Error)
            + proofs.Count(p => p.Fault is not null)
            + (accept ? 0 : drift.Values.Sum(d => d?.Count(c => c.IsBreaking) ?? 0));
        Terminal.Out.MarkupLine(errors == 0 ? "[green]No faults.[/]" : $"[red]{Terminal.Plural(errors, "fault")}.[/]");
        return hasErrors ? 1 : 0;
    }

    private static ImmutableArray<CsdlDifference>? Drift(LoadedWorkspace workspace, BuiltService service)
    {
        try
        {
            return AcceptedMetadata.Compare(workspace.Declaration.Folder, service.Model.Service, Metadata(service));
        }
        catch (InvalidDataException exception)
        {
            workspace.Diagnostics.Error(
                "accepted",
                exception.Message,
                SourceLocation.WholeFile($"accepted/{service.Model.Service}.xml"),
                "Delete it, or write it anew with 'gable check --accept'."
            );
            return null;
        }
    }

    /// <summary>A role that was renamed in the rules, and not in the accounts, opens nothing.</summary>
    private static void WarnOfRoles(LoadedWorkspace workspace)
    {
        var place = SourceLocation.WholeFile(AccountFile.Name);
        try
        {
            var accounts = AccountFile.Read(workspace.Declaration.Folder) ?? new AccountFile();
            foreach (
                var text in AccountOptions.Unnamed(
                    workspace.Declaration,
                    accounts.Users.Values.SelectMany(u => u.Roles).Concat(accounts.Keys.Values.SelectMany(k => k.Roles))
                )
            )
                workspace.Diagnostics.Warning(
                    "role",
                    text,
                    place,
                    "Rename it in the accounts, with 'gable user set' or a new key, or in the rules."
                );
        }
        catch (InvalidDataException exception)
        {
            workspace.Diagnostics.Error("accounts", exception.Message, place);
        }
    }

    /// <summary>What became visible or possible since it was accepted; null when nothing was. Accepting keeps what is.</summary>
    private static ImmutableArray<string>? Opened(LoadedWorkspace workspace, ServiceRegistry registry, BuiltService service, bool accept)
    {
        var (folder, name) = (workspace.Declaration.Folder, service.Model.Service);
        var now = AccessVisibility.Of(registry.Find(name)!);
        if (accept)
        {
            Terminal.Error.WriteLine($"accepted: {now.Accept(folder, name)}");
            return [];
        }
        try
        {
            return AccessVisibility.Accepted(folder, name) is { } before ? now.NewSince(before) : null;
        }
        catch (InvalidDataException exception)
        {
            workspace.Diagnostics.Error(
                "accepted",
                exception.Message,
                SourceLocation.WholeFile($"accepted/{name}.access.json"),
                "Delete it, or write it anew with 'gable check --accept'."
            );
            return null;
        }
    }

    private static byte[] Metadata(BuiltService service) => CsdlXmlWriter.Write(service.Model, ODataVersion.V401);

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

    private static void WriteService(
        BuiltService service,
        LoadedWorkspace workspace,
        IReadOnlyList<DataFinding> proofs,
        ImmutableArray<CsdlDifference>? drift,
        ImmutableArray<string>? opened,
        bool resolved
    )
    {
        Terminal.Out.MarkupLine(
            $"[bold]{Markup.Escape(service.Model.Service)}[/]: {Markup.Escape(service.Model.Title)}, "
                + $"{Terminal.Plural(service.Model.Sets.Length, "set")}"
        );
        var table = new Table().Border(TableBorder.None).AddColumns("", "set", "from", "key", "may read", "data");
        var wrong = Faulty(service, workspace);
        foreach (var set in service.Model.Sets)
        {
            var own = proofs.Where(p => p.Service == service.Model.Service && p.Set == set.Name).ToList();
            var faults = own.Where(p => p.Fault is not null).ToList();
            table.AddRow(
                faults.Count == 0 && !wrong.Contains(set.Name) ? "[green]ok[/]" : "[red]fault[/]",
                Markup.Escape(set.Name),
                Markup.Escape(set.Source.ToString()),
                set.IsUnkeyed ? "[grey]none[/]" : Markup.Escape(string.Join(", ", set.Type.Key.Select(k => k.Name))),
                Markup.Escape(Grant.Describe(set.Rules, SetOperations.Read)),
                own.Count == 0 ? "not read" : Terminal.Plural(own.Max(p => p.Rows), "row")
            );
        }
        Terminal.Out.Write(table);
        foreach (var fault in proofs.Where(p => p.Service == service.Model.Service && p.Fault is not null))
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
