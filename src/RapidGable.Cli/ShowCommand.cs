using System.CommandLine;
using RapidGable.Drafting;
using RapidGable.Model;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable show</c>: the declaration with nothing left open.</summary>
internal static class ShowCommand
{
    public static Command Create()
    {
        var workspace = CommonOptions.Workspace();
        var service = new Argument<string?>("service")
        {
            Description = "The service; all of them when left out.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var set = new Option<string?>("--set") { Description = "Only this set." };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "show",
            "Print a service's declaration with every value written out, and where each comes from. The output is itself a service file.",
            "gable show demo rivers",
            "gable show demo rivers --set Stations",
            "gable show demo rivers > copy.yaml"
        )
        {
            workspace,
            service,
            set,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(result.GetValue(workspace)!, result.GetValue(service), result.GetValue(set), result.GetValue(json), cancellation)
        );
        return command;
    }

    private static async Task<int> RunAsync(string folder, string? name, string? set, bool json, CancellationToken cancellation)
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        var names = workspace.Services.Select(s => s.Model.Service).ToList();
        if (name is not null && !workspace.Declaration.Services.Any(s => s.Name == name))
            throw new UsageException(
                $"There is no service '{name}'.{NearestName.Hint(name, workspace.Declaration.Services.Select(s => s.Name))}"
            );
        if (workspace.Diagnostics.HasErrors)
            Terminal.WriteDiagnostics(workspace.Diagnostics);
        var shown = workspace.Services.Where(s => name is null || s.Model.Service == name).ToList();
        if (set is not null && !shown.Exists(s => s.Model.FindSet(set) is not null))
            throw new UsageException(
                $"There is no set '{set}'.{NearestName.Hint(set, shown.SelectMany(s => s.Model.Sets.Select(e => e.Name)))}"
            );
        foreach (var service in shown)
        {
            var lines = Only(
                ResolvedDeclaration.Of(workspace.Declaration.Services.First(s => s.Name == service.Model.Service), service),
                set
            );
            if (json)
                Terminal.WriteJson(
                    new
                    {
                        service = service.Model.Service,
                        lines = lines.Select(l => new { l.Text, origin = l.Origin.Length == 0 ? null : l.Origin }),
                    }
                );
            else
                Write(service.Model.Service, lines, shown.Count > 1);
        }
        return workspace.Diagnostics.HasErrors ? 1 : 0;
    }

    /// <summary>The lines of one set; all when none is named.</summary>
    private static List<ResolvedLine> Only(IReadOnlyList<ResolvedLine> lines, string? set)
    {
        if (set is null)
            return [.. lines];
        bool Starts(ResolvedLine line) => line.Text.StartsWith("  - ", StringComparison.Ordinal);
        var name = lines.ToList().FindIndex(l => l.Text == $"    name: {set}");
        var first = lines.Take(name).ToList().FindLastIndex(Starts);
        return [.. lines.Skip(first).Take(1), .. lines.Skip(first + 1).TakeWhile(l => !Starts(l))];
    }

    private static void Write(string service, List<ResolvedLine> lines, bool withName)
    {
        if (withName)
            Terminal.Out.MarkupLine($"[bold]# services/{Markup.Escape(service)}.yaml[/]");
        // Origins stand in one column where there is room; what is longer pushes its own aside.
        var width = Math.Min(66, lines.Where(l => l.Origin.Length > 0).Select(l => l.Text.Length).DefaultIfEmpty(0).Max());
        foreach (var line in lines)
        {
            var text = Markup.Escape(line.Text);
            Terminal.Out.MarkupLine(
                line.Origin.Length == 0
                    ? text
                    : $"{text}{new string(' ', Math.Max(0, width - line.Text.Length))}  [grey]# {Markup.Escape(line.Origin)}[/]"
            );
        }
        if (withName)
            Terminal.Out.WriteLine();
    }
}
