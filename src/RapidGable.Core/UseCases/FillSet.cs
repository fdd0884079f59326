using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using RapidGable.Access;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests.OData;
using RapidGable.Verification;

namespace RapidGable.UseCases;

/// <summary>Makes up entities of a set that keep to its types, keys, relations and rules.</summary>
/// <param name="service">Its caller is <paramref name="caller"/>: what they may not see is not related to.</param>
/// <param name="set">One that allows <c>create</c>.</param>
/// <param name="caller">Who writes.</param>
/// <param name="environment">Its time is that of the change.</param>
public sealed class FillSet(PublishedService service, EntitySet set, Caller caller, ChangeEnvironment environment)
{
    /// <summary>How many entities of another set new ones may be related to.</summary>
    private const int MostTargets = 200;

    /// <summary>Gives the JSON of the n-th entity, from 0. The same seed gives the same entities while the related ones stay.</summary>
    public async Task<Func<int, string>> MakerAsync(int seed, CancellationToken cancellation)
    {
        var related = new Dictionary<NavigationProperty, IReadOnlyList<SampleTarget>>();
        foreach (var navigation in set.Type.Navigations.Where(n => n is { IsCollection: false, IsHeldByTarget: false }))
            related[navigation] = await TargetsAsync(navigation, cancellation);
        var maker = new SampleMaker(set, new Random(seed), 1_000_000L * (1 + (seed % 900)));
        return n => maker.Make(n, navigation => related.GetValueOrDefault(navigation, []));
    }

    /// <summary>Writes entities in one transaction, all or none.</summary>
    /// <param name="entity">The JSON of the n-th; one that rules refuse is followed by another.</param>
    /// <returns>Why nothing is written; null = all is.</returns>
    public async Task<string?> WriteAsync(int count, Func<int, string> entity, CancellationToken cancellation)
    {
        var lexed = LexedRequest.Read(Uri.EscapeDataString(set.Name), "").Value!;
        await using var unit = new ChangeUnit(service, caller, environment);
        var (made, tries) = (0, 0);
        if (service.PrepareChange(lexed, caller).Is(out var change, out var fault))
        {
            // Rules that lead from one value to another are met by trying again.
            while (made < count && tries < (count * 20) + 100)
            {
                using var body = ODataJsonBody.Parse(Encoding.UTF8.GetBytes(entity(tries++)), ODataJsonForm.V401).Value!;
                var request = new ChangeRequest(
                    ChangeVerb.Post,
                    change,
                    lexed,
                    body,
                    null,
                    null,
                    Preconditions.None,
                    ODataAddresses.Relative
                );
                var result = await unit.StepAsync(
                    service.SourceOf(set),
                    () => ChangeRunner.RunAsync(unit, request, cancellation),
                    cancellation
                );
                if (result.Is(out _, out fault))
                    made++;
                else if (fault.Status is not (422 or 409))
                    break;
            }
        }
        if (made < count)
            return Refusal(made + 1, fault);
        await unit.CommitAsync(cancellation);
        return null;
    }

    private static string Refusal(int number, RequestFault? fault)
    {
        var message =
            fault is null ? "no entity could be made"
            : fault.Details.IsEmpty ? fault.Message
            : string.Join(' ', fault.Details.Select(d => d.Message));
        return $"entity {number} is refused: {message}{(fault?.Status is 403 or 404 ? " Say with --as who writes." : "")}";
    }

    /// <summary>Entities that new ones may be related to: the first of those that the caller sees.</summary>
    private async Task<IReadOnlyList<SampleTarget>> TargetsAsync(NavigationProperty navigation, CancellationToken cancellation)
    {
        var lexed = LexedRequest.Read(navigation.TargetSet, $"$top={MostTargets}").Value!;
        if (
            !service.Prepare(lexed, caller).Is(out var prepared, out _)
            || !QueryValues.Make(prepared.Request, lexed, MostTargets, environment.Now, caller).Is(out var values, out _)
            || !(await QueryRun.StartAsync(prepared, values, cancellation)).Is(out var run, out _)
        )
            return [];
        await using (run)
        {
            using var bytes = new MemoryStream();
            ValueTask Keep(ReadOnlyMemory<byte> piece, CancellationToken _)
            {
                bytes.Write(piece.Span);
                return default;
            }
            using (var output = new PayloadOutput(Keep))
                await ODataJsonWriter
                    .For(prepared, new PayloadFormat(ODataVersion.V401, MetadataLevel.None, false))
                    .WriteAsync(run, new LinkBuilder("", lexed), output, cancellation);
            using var document = JsonDocument.Parse(bytes.ToArray());
            return [.. document.RootElement.GetProperty("value").EnumerateArray().Select(Target)];
        }
    }

    private static SampleTarget Target(JsonElement entity) =>
        new(
            ImmutableDictionary.CreateRange(
                entity.EnumerateObject().Where(p => !p.Name.Contains('@')).Select(p => KeyValuePair.Create(p.Name, p.Value.Clone()))
            )
        );
}
