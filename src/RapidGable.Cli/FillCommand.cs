using System.CommandLine;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Changes;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.UseCases;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable fill</c>: makes up entities that keep to types, keys, relations and rules.</summary>
internal static class FillCommand
{
    public static Command Create()
    {
        var set = new Argument<string>("set") { Description = "Service and set, such as fieldwork/Visits." };
        var workspace = new Option<string>("--workspace", "-w") { Description = "The workspace's folder.", DefaultValueFactory = _ => "." };
        var count = new Option<int>("-n", "--count") { Description = "How many.", DefaultValueFactory = _ => 10 };
        var seed = new Option<int?>("--seed")
        {
            Description = "The same seed makes the same entities; another one each time when left out.",
        };
        var (caller, attributes) = (AccountOptions.As(), AccountOptions.Attributes());
        var dry = new Option<bool>("--show") { Description = "Print the entities as JSON lines and write nothing." };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "fill",
            "Make up entities of a set that keep to types, keys, relations and rules, and write them, all or none.",
            "gable fill fieldwork/Visits -w demo -n 50 --as coordinator",
            "gable fill fieldwork/Technicians -w demo -n 3 --seed 7 --show"
        )
        {
            set,
            workspace,
            count,
            seed,
            caller,
            attributes,
            dry,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(set)!,
                    Math.Clamp(result.GetValue(count), 1, 100_000),
                    result.GetValue(seed) ?? Random.Shared.Next(1, 1_000_000),
                    AccountOptions.CallerOf(result.GetValue(workspace)!, result.GetValue(caller), result.GetValue(attributes)),
                    result.GetValue(dry),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string folder,
        string name,
        int count,
        int seed,
        Caller caller,
        bool shows,
        bool json,
        CancellationToken cancellation
    )
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        if (workspace.Diagnostics.HasErrors)
        {
            Terminal.WriteDiagnostics(workspace.Diagnostics);
            return 1;
        }
        var (service, set) = Find(workspace, name);
        var fill = new FillSet(service, set, caller, new ChangeEnvironment(TimeProvider.System, Random.Shared, Guid.NewGuid));
        var entity = await fill.MakerAsync(seed, cancellation);
        if (shows)
        {
            for (var i = 0; i < count; i++)
                Console.Out.WriteLine(entity(i));
            return 0;
        }
        var fault = await Terminal.WithStatusAsync("Filling", json, _ => fill.WriteAsync(count, entity, cancellation));
        if (json)
            Terminal.WriteJson(
                new
                {
                    ok = fault is null,
                    written = fault is null ? count : 0,
                    seed,
                    fault,
                }
            );
        else if (fault is not null)
            Console.Error.WriteLine($"gable: nothing is written, since {fault}");
        else
            Terminal.Out.MarkupLine(
                $"{(count == 1 ? "1 entity" : $"{count:N0} entities")} of {Markup.Escape(set.Name)} written  [grey]seed {seed}[/]"
            );
        return fault is null ? 0 : 1;
    }

    private static (PublishedService Service, EntitySet Set) Find(LoadedWorkspace workspace, string name)
    {
        var parts = name.Split('/');
        var built = workspace.Services.FirstOrDefault(s => s.Model.Service == parts[0])
            ?? throw new UsageException(
                $"There is no service "
                    + $"'{parts[0]}'.{NearestName.Hint(parts[0], workspace.Services.Select(s => s.Model.Service))} Write "
                    + $"service/set, such as {workspace.Services.FirstOrDefault()?.Model.Service}/…."
            );
        if (parts.Length != 2 || built.Model.FindSet(parts[1]) is not { } set)
            throw new UsageException(
                $"'{parts[0]}' has no set "
                    + $"'{parts.ElementAtOrDefault(1)}'."
                    + $"{NearestName.Hint(parts.ElementAtOrDefault(1) ?? "", built.Model.Sets.Select(s => s.Name))}"
            );
        if (set.ContainedIn is { } container)
            throw new UsageException($"'{set.Name}' are parts of {container}; they are made with it, or below it.");
        return !set.Operations.HasFlag(SetOperations.Create)
            ? throw new UsageException($"'{set.Name}' does not allow 'create'.")
            : (new PublishedService(built.Model, workspace.Sources, "fill"), set);
    }
}
