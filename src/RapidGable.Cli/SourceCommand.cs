using System.CommandLine;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Inspection;
using RapidGable.Model;
using RapidGable.Service.Stores;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable source test</c>: whether the sources of a workspace can be used.</summary>
internal static class SourceCommand
{
    public static Command Create() => new("source", "Work with the sources of a workspace.") { CreateTest() };

    private static ExampleCommand CreateTest()
    {
        var workspace = CommonOptions.Workspace();
        var name = new Argument<string?>("source") { Description = "One source; all when left out.", Arity = ArgumentArity.ZeroOrOne };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "test",
            "Connect to the sources and say in plain words what works and what does not, object by object.",
            "gable source test demo",
            "gable source test demo network --json"
        )
        {
            workspace,
            name,
            json,
        };
        command.SetAction(
            (result, cancellation) => RunAsync(result.GetValue(workspace)!, result.GetValue(name), result.GetValue(json), cancellation)
        );
        return command;
    }

    private static async Task<int> RunAsync(string folder, string? name, bool json, CancellationToken cancellation)
    {
        var (declaration, diagnostics) = WorkspaceReader.Read(new WorkspaceFolder(folder), WorkspaceState.Variables(folder));
        var names = declaration.Sources.Select(s => s.Name).ToList();
        if (name is not null && !names.Contains(name))
            throw new UsageException($"There is no source '{name}'.{NearestName.Hint(name, names)}");
        var trials = new List<SourceTrial>();
        foreach (var item in declaration.Sources.Where(s => name is null || s.Name == name))
        {
            if (WorkspaceLoader.Open(item, declaration.Folder, diagnostics) is not { } source)
                continue;
            await using (source)
                trials.Add(
                    await Terminal.WithStatusAsync($"Trying {item.Name}", json, progress =>
                        SourceProbe.TryAsync(source, progress, cancellation)
                    )
                );
        }
        // Faults of services are another command's business.
        var findings = new Diagnostics();
        foreach (
            var item in diagnostics.Items.Where(d =>
                !d.Location.File.StartsWith("services/", StringComparison.Ordinal) && d.Severity == Severity.Error
            )
        )
            findings.Error(item.Code, item.Message, item.Location, item.Advice);
        var isFaulty = findings.HasErrors || trials.Exists(t => t.Failure is not null || !t.Unreadable.IsEmpty);
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    ok = !isFaulty,
                    findings = findings.Items.Select(Terminal.ForJson),
                    sources = trials.Select(t => new
                    {
                        t.Source,
                        t.Address,
                        ok = t.Failure is null && t.Unreadable.IsEmpty,
                        t.Failure,
                        t.Objects,
                        unreadable = t.Unreadable.Select(u => new { u.Object, u.Why }),
                    }),
                }
            );
            return isFaulty ? 1 : 0;
        }
        Terminal.WriteDiagnostics(findings);
        trials.ForEach(Write);
        if (declaration.Sources.IsEmpty && !findings.HasErrors)
            Console.Error.WriteLine("gable: the workspace has no sources.");
        return isFaulty || declaration.Sources.IsEmpty ? 1 : 0;
    }

    private static void Write(SourceTrial trial)
    {
        Terminal.Out.MarkupLine($"[bold]{Markup.Escape(trial.Source)}[/]: {Markup.Escape(trial.Address)}");
        if (trial.Failure is { } failure)
        {
            Terminal.Out.MarkupLine($"  [red]{Markup.Escape(failure)}[/]");
            return;
        }
        Terminal.Out.MarkupLine(
            $"  [green]connected[/], {Terminal.Plural(trial.Objects, "object")} in {trial.Time.TotalSeconds:0.0} "
                + $"s{(trial.Unreadable.IsEmpty ? ", all of them readable" : "")}"
        );
        foreach (var (item, why) in trial.Unreadable)
            Terminal.Out.MarkupLine($"  [red]{Markup.Escape(item)}: {Markup.Escape(why)}[/]");
    }
}
