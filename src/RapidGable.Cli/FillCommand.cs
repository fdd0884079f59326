using System.CommandLine;
using System.Text.Json;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Changes;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Verification;
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
        var related = new Dictionary<NavigationProperty, IReadOnlyList<SampleTarget>>();
        foreach (var navigation in set.Type.Navigations.Where(n => n is { IsCollection: false, IsHeldByTarget: false }))
            related[navigation] = await TargetsAsync(service, navigation, caller, cancellation);
        var maker = new SampleMaker(set, new Random(seed), 1_000_000L * (1 + (seed % 900)));
        string Body(int n) => maker.Make(n, navigation => related.GetValueOrDefault(navigation, []));
        if (shows)
        {
            for (var i = 0; i < count; i++)
                Console.Out.WriteLine(Body(i));
            return 0;
        }
        var fault = await Terminal.WithStatusAsync("Filling", json, _ => WriteAsync(service, set, caller, count, Body, cancellation));
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

    /// <summary>Entities that new ones may be related to: the first of those that the caller sees.</summary>
    private static async Task<IReadOnlyList<SampleTarget>> TargetsAsync(
        PublishedService service,
        NavigationProperty navigation,
        Caller caller,
        CancellationToken cancellation
    )
    {
        var lexed = LexedRequest.Read(RequestAddress.Read(navigation.TargetSet, "$top=200").Value!).Value!;
        if (
            !service.Prepare(lexed, caller).Is(out var prepared, out _)
            || !QueryValues.Make(prepared.Request, lexed, 200, DateTime.UtcNow, caller).Is(out var values, out _)
            || !(await QueryRun.StartAsync(prepared, values, cancellation)).Is(out var run, out _)
        )
            return [];
        await using (run)
        {
            using var bytes = new MemoryStream();
            using (
                var output = new Payloads.PayloadOutput(
                    (piece, _) =>
                    {
                        bytes.Write(piece.Span);
                        return default;
                    }
                )
            )
                await Payloads
                    .ODataJsonWriter.For(
                        prepared,
                        new Payloads.PayloadFormat(Payloads.ODataVersion.V401, Payloads.MetadataLevel.None, false)
                    )
                    .WriteAsync(run, new Payloads.LinkBuilder("", RequestAddress.Read("x", "").Value!), output, cancellation);
            using var document = JsonDocument.Parse(bytes.ToArray());
            return
            [
                .. document
                    .RootElement.GetProperty("value")
                    .EnumerateArray()
                    .Select(r => new SampleTarget(
                        System.Collections.Immutable.ImmutableDictionary.CreateRange(
                            r.EnumerateObject().Where(p => !p.Name.Contains('@')).Select(p => KeyValuePair.Create(p.Name, p.Value.Clone()))
                        )
                    )),
            ];
        }
    }

    /// <returns>Why nothing is written; null = all is.</returns>
    private static async Task<string?> WriteAsync(
        PublishedService service,
        EntitySet set,
        Caller caller,
        int count,
        Func<int, string> body,
        CancellationToken cancellation
    )
    {
        var lexed = LexedRequest.Read(RequestAddress.Read(Uri.EscapeDataString(set.Name), "").Value!).Value!;
        await using var unit = new ChangeUnit(service, caller, DateTime.UtcNow);
        RequestFault? fault = null;
        var (made, tries) = (0, 0);
        if (service.PrepareChange(lexed, caller).Is(out var change, out fault))
        {
            // Rules that lead from one value to another are met by trying again.
            while (made < count && tries < (count * 20) + 100)
            {
                using var document = JsonDocument.Parse(body(tries++));
                var request = new ChangeRequest(
                    ChangeVerb.Post,
                    change,
                    lexed,
                    document.RootElement,
                    null,
                    null,
                    new BodyForm(false, false),
                    Preconditions.None,
                    reference => reference
                );
                if (
                    (
                        await unit.StepAsync(service.SourceOf(set), () => ChangeRunner.RunAsync(unit, request, cancellation), cancellation)
                    ).Is(out _, out fault)
                )
                    made++;
                else if (fault.Status is not (422 or 409))
                    break;
            }
        }
        if (made < count)
        {
            var message =
                fault is null ? "no entity could be made"
                : fault.Details.IsEmpty ? fault.Message
                : string.Join(' ', fault.Details.Select(d => d.Message));
            return $"entity {made + 1} is refused: {message}{(fault?.Status is 403 or 404 ? " Say with --as who writes." : "")}";
        }
        await unit.CommitAsync(cancellation);
        return null;
    }
}
