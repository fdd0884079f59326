using System.CommandLine;
using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Service;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable access</c>: who may do what to which set of a service.</summary>
internal static class AccessCommand
{
    private static readonly SetOperations[] Operations = [SetOperations.Read, SetOperations.Create, SetOperations.Update, SetOperations.Delete];

    /// <summary>What one kind of caller may do with one set.</summary>
    private sealed record Cell(string Set, string Caller, string May, string? Rows, IReadOnlyList<string> NotShown, IReadOnlyList<string> Masked);

    public static Command Create()
    {
        var workspace = new Argument<string>("workspace") { Description = "The workspace's folder." };
        var service = new Argument<string>("service") { Description = "The service." };
        var (caller, attributes, json) = (AccountOptions.As(), AccountOptions.Attributes(), CommonOptions.Json());
        var command = new ExampleCommand("access", "Show who may do what to which set of a service: for everybody that its rules name, or for one caller.",
            "gable access demo rivers", "gable access demo fieldwork --as field-staff --attribute region=north") { workspace, service, caller, attributes, json };
        command.SetAction((result, cancellation) => RunAsync(result.GetValue(workspace)!, result.GetValue(service)!, result.GetValue(caller), result.GetValue(attributes), result.GetValue(json), cancellation));
        return command;
    }

    private static async Task<int> RunAsync(string folder, string name, string? asked, string[]? attributes, bool json, CancellationToken cancellation)
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        if (workspace.Diagnostics.HasErrors)
        {
            Terminal.WriteDiagnostics(workspace.Diagnostics);
            return 1;
        }
        if (new ServiceRegistry(workspace).Find(name) is not { } service)
            throw new UsageException($"The workspace has no service '{name}'.{NearestName.Hint(name, workspace.Services.Select(s => s.Model.Service))}");
        var cells = asked is not null ? Of(service, asked, AccountOptions.CallerOf(folder, asked, attributes), holdsAll: false).ToList() : Callers(service).SelectMany(c => Of(service, c.Name, c.Caller, holdsAll: true)).ToList();
        if (json)
        {
            Terminal.WriteJson(new { service = name, access = cells });
            return 0;
        }
        var table = new Table().Border(TableBorder.None).AddColumns("set", "caller", "may", "rows", "not shown", "always null");
        foreach (var set in service.Model.Sets)
        {
            var first = true;
            foreach (var cell in cells.Where(c => c.Set == set.Name))
            {
                table.AddRow(first ? Markup.Escape(set.Name) : "", Markup.Escape(cell.Caller), cell.May.Length == 0 ? "[grey]nothing[/]" : Markup.Escape(cell.May), Markup.Escape(cell.Rows ?? (cell.May.Contains("read", StringComparison.Ordinal) ? "all" : "")),
                    Markup.Escape(string.Join(", ", cell.NotShown)), Markup.Escape(string.Join(", ", cell.Masked)));
                first = false;
            }
        }
        Terminal.Out.Write(table);
        return 0;
    }

    /// <summary>Nobody known, somebody without a role, and each role that a rule names.</summary>
    private static IEnumerable<(string Name, Caller Caller)> Callers(PublishedService service) =>
        new[] { ("not signed in", Caller.Anonymous), ("signed in", Caller.WithRoles()) }.Concat(service.Model.Sets.SelectMany(s => s.Rules).SelectMany(r => r.Who.Roles).Distinct().Order(StringComparer.Ordinal).Select(r => (r, Caller.WithRoles(r))));

    /// <param name="holdsAll">The caller is taken to have every attribute that a rule asks for.</param>
    private static IEnumerable<Cell> Of(PublishedService service, string name, Caller caller, bool holdsAll)
    {
        SetOperations May(EntitySet set) => Operations.Where(o => set.Operations.HasFlag(o) && AccessGate.Applying(o, caller, service.RulesOf(set), holdsAll) is { Allowing.IsEmpty: false, DeniesAll: false }).Aggregate(SetOperations.None, (all, o) => all | o);
        foreach (var set in service.Model.Sets)
        {
            var rules = service.RulesOf(set);
            // What is contained is reached over its container only.
            var may = set.ContainedIn is { } container && !May(service.Model.FindSet(container)!).HasFlag(SetOperations.Read) ? SetOperations.None : May(set);
            var (reading, denying, _) = AccessGate.Applying(SetOperations.Read, caller, rules, holdsAll);
            var mayRead = may.HasFlag(SetOperations.Read);
            var shown = mayRead ? reading : [];
            var covered = shown.SelectMany(r => r.Grant.Hide.Concat(r.Grant.Mask)).Distinct().Where(c => shown.All(r => r.Grant.Hide.Contains(c) || r.Grant.Mask.Contains(c))).ToList();
            var gone = covered.Where(c => shown.All(r => r.Grant.Hide.Contains(c))).ToList();
            yield return new Cell(set.Name, name, Grant.Words(may), mayRead ? Rows(shown, denying) : null, gone, [.. covered.Except(gone)]);
        }
    }

    /// <summary>The condition on the rows in words; null = all of them.</summary>
    private static string? Rows(IEnumerable<BoundRule> allowing, IEnumerable<BoundRule> denying)
    {
        var wanted = allowing.Any(r => r.Grant.Rows is null) ? null : string.Join(" or ", allowing.Select(r => r.Grant.Rows));
        var unwanted = string.Join(" or ", denying.Select(r => r.Grant.Rows));
        return unwanted.Length == 0 ? wanted : wanted is null ? $"not ({unwanted})" : $"({wanted}) and not ({unwanted})";
    }
}
