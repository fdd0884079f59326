using System.Collections.Immutable;
using System.Text.Json;
using System.Text.RegularExpressions;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Service.Hosting;
using RapidGable.Service.Identity;
using RapidGable.Service.Trials;

namespace RapidGable.Service.UseCases;

/// <summary>A request that was sent to the published revision and to the draft.</summary>
/// <param name="Differences">In words; empty = the answers are the same.</param>
public sealed record ComparedRequest(TriedRequest Before, TriedRequest Now, ImmutableArray<string> Differences);

/// <summary>Sends requests to what is published and to the draft, as the same callers, and tells how the answers differ.</summary>
public static partial class CompareStates
{
    private const int MostDifferences = 10;

    /// <exception cref="InvalidDataException">When a caller that is named can be none.</exception>
    public static async Task<ImmutableArray<ComparedRequest>> RunAsync(
        LoadedWorkspace published,
        LoadedWorkspace draft,
        AccountDirectory? accounts,
        IReadOnlyCollection<KeptRequest> requests,
        string? who,
        CancellationToken cancellation
    )
    {
        var options = new TryRequests.Options(who, Writes: false);
        var before = await SettledAsync(new TryRequests(published, accounts, ServiceHost.Trial), requests, options, cancellation);
        var now = await SettledAsync(new TryRequests(draft, accounts, ServiceHost.Trial), requests, options, cancellation);
        return [.. before.Zip(now, (b, n) => new ComparedRequest(b, n, [.. Differences(b, n)]))];
    }

    /// <summary>The first answers take longer than those that follow, so the second ones are compared.</summary>
    private static async Task<ImmutableArray<TriedRequest>> SettledAsync(
        TryRequests trying,
        IReadOnlyCollection<KeptRequest> requests,
        TryRequests.Options options,
        CancellationToken cancellation
    ) => (await trying.RunAsync([.. requests, .. requests], options, cancellation))[requests.Count..];

    private static IEnumerable<string> Differences(TriedRequest before, TriedRequest now)
    {
        if (before.Answer is not { } was || now.Answer is not { } answer)
            yield break;
        if (was.Status != answer.Status)
        {
            yield return $"the status was {was.Status} and is {answer.Status}";
            yield break;
        }
        if (MediaType(was.ContentType) != MediaType(answer.ContentType))
            yield return $"the media type was {was.ContentType} and is {answer.ContentType}";
        if (was.Rows?.Length is { } rows && answer.Rows?.Length is { } others && rows != others)
            yield return $"there were {rows} rows and are {others}";
        if (was.Json is { } first && answer.Json is { } second)
        {
            // What differs alike in many rows is told once.
            var differences = Values(first, second, "").GroupBy(d => Index().Replace(d.Place, "[]")).Take(MostDifferences);
            foreach (var alike in differences)
            {
                var (place, what) = alike.First();
                yield return alike.Count() == 1 ? $"{place} {what}" : $"{alike.Key} {what}, {alike.Count()} times";
            }
        }
        else if (!was.Body.AsSpan().SequenceEqual(answer.Body))
            yield return $"the body had {was.Body.Length} bytes and has {answer.Body.Length}";
    }

    private static string? MediaType(string? type) => type?.Split(';')[0];

    /// <summary>What differs between two values, with the places; links are left out, since they name the host.</summary>
    private static IEnumerable<(string Place, string What)> Values(JsonElement before, JsonElement now, string path)
    {
        if (before.ValueKind != now.ValueKind)
            yield return (Place(path), $"was {Short(before)} and is {Short(now)}");
        else if (before.ValueKind == JsonValueKind.Object)
        {
            var names = before
                .EnumerateObject()
                .Select(m => m.Name)
                .Union(now.EnumerateObject().Select(m => m.Name))
                .Where(n => !IsLink(n));
            foreach (var name in names)
            {
                var place = path.Length == 0 ? name : $"{path}.{name}";
                if (!now.TryGetProperty(name, out var other))
                    yield return (place, "is gone");
                else if (!before.TryGetProperty(name, out var own))
                    yield return (place, "is new");
                else
                    foreach (var difference in Values(own, other, place))
                        yield return difference;
            }
        }
        else if (before.ValueKind == JsonValueKind.Array)
        {
            for (var i = 0; i < Math.Min(before.GetArrayLength(), now.GetArrayLength()); i++)
            {
                foreach (var difference in Values(before[i], now[i], $"{path}[{i}]"))
                    yield return difference;
            }
        }
        else if (before.GetRawText() != now.GetRawText())
            yield return (Place(path), $"was {Short(before)} and is {Short(now)}");
    }

    [GeneratedRegex(@"\[\d+\]")]
    private static partial Regex Index();

    private static bool IsLink(string name) =>
        name is "next" or "@odata.context" or "@odata.nextLink" or "@odata.deltaLink" or "@context" or "@nextLink" or "@deltaLink";

    private static string Place(string path) => path.Length == 0 ? "the value" : path;

    private static string Short(JsonElement value)
    {
        var text =
            value.ValueKind is JsonValueKind.Object ? "an object"
            : value.ValueKind == JsonValueKind.Array ? "a list"
            : value.GetRawText();
        return text.Length > 40 ? text[..40] + "…" : text;
    }
}
