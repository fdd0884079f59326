using System.Text.Json;
using System.Text.Json.Nodes;

namespace RapidGable.Verification;

/// <summary>
/// Checks that the payloads of one set say the same in all their forms: contexts, metadata levels, expanded and followed relations,
/// changes.
/// </summary>
internal sealed class PayloadVerifier(
    IServiceProbe probe,
    string root,
    CsdlDocument document,
    CsdlSet set,
    CsdlType type,
    CancellationToken cancellation
)
{
    private const int Entities = 3;
    private const string LinesType = "application/x-ndjson";

    private readonly List<CheckResult> _results = [];
    private readonly string _url = root + Uri.EscapeDataString(set.Name);

    /// <param name="keys">Key predicates of some entities, as they stand in addresses.</param>
    public async Task<List<CheckResult>> RunAsync(IReadOnlyList<string> keys)
    {
        if (keys.Count == 0)
            return _results;
        await ContextsAsync(keys[0]);
        await LevelsAsync(keys[0]);
        await LinesAsync();
        foreach (var navigation in type.Navigations.Where(n => !n.ContainsTarget))
            await ExpandAsync(navigation, keys.Take(Entities).ToList());
        if (set.TracksChanges)
            await ChangesAsync();
        return _results;
    }

    private void Add(string check, string subject, string? failure, string success, long examined, string url) =>
        _results.Add(
            new CheckResult(
                check,
                subject,
                failure is null ? CheckOutcome.Passed : CheckOutcome.Failed,
                failure ?? success,
                examined,
                failure is null ? null : url
            )
        );

    /// <param name="level">A metadata level; status 406 when the answer does not state it.</param>
    private async Task<(JsonObject? Body, string? Fault, int Status)> GetAsync(string url, string level = "")
    {
        var accept = level.Length == 0 ? "application/json" : $"application/json;metadata={level}";
        var response = await probe.GetAsync(url, accept, cancellation);
        if (response.Status == 204)
            return (null, null, 204);
        if (Answers.Fault(response) is { } fault)
            return (null, fault, response.Status);
        if (level.Length > 0 && response.ContentType?.Contains("metadata=" + level, StringComparison.OrdinalIgnoreCase) != true)
            return (null, null, 406);
        try
        {
            return JsonNode.Parse(response.Body) is JsonObject body
                ? (body, null, response.Status)
                : (null, "The answer is no JSON object.", response.Status);
        }
        catch (JsonException)
        {
            return (null, "The answer is not JSON.", response.Status);
        }
    }

    private static string? Control(JsonObject body, string name) => (string?)(body["@" + name] ?? body["@odata." + name]);

    /// <summary>A context URL names what the payload holds (Protocol 10).</summary>
    private async Task ContextsAsync(string key)
    {
        var first = document.KeyOf(type).First();
        var cases = new[]
        {
            (_url, set.Name),
            ($"{_url}{key}", $"{set.Name}/$entity"),
            ($"{_url}{key}?$select={Uri.EscapeDataString(first)}", $"{set.Name}({first})/$entity"),
        };
        foreach (var (url, fragment) in cases)
        {
            var (body, fault, _) = await GetAsync(url);
            var context = body is null ? null : Control(body, "context");
            var found = context is null ? "" : Uri.UnescapeDataString(context[(context.IndexOf('#') + 1)..]);
            if (fault is null && found != fragment)
                fault = $"Its context is '{context}', and it ends in '#{fragment}' by the rules.";
            if (fault is null)
                continue;
            Add("context-urls", set.Name, fault, "", cases.Length, url);
            return;
        }
        Add("context-urls", set.Name, null, $"{cases.Length} payloads say what they hold", cases.Length, _url);
    }

    /// <summary>The metadata level changes the control information and never the values (JSON format 3.1).</summary>
    private async Task LevelsAsync(string key)
    {
        var url = _url + key;
        var (minimal, fault, _) = await GetAsync(url);
        var looked = 1;
        foreach (var level in new[] { "full", "none" })
        {
            if (fault is not null)
                break;
            var (body, wrong, status) = await GetAsync(url, level);
            if (status is 406 or 415)
                continue;
            looked++;
            fault = wrong
                ?? (
                    !JsonNode.DeepEquals(Values(minimal!), Values(body!))
                        ? $"Its values at metadata={level} are not those at metadata=minimal."
                    : level == "none" && Control(body!, "context") is not null ? "It has a context at metadata=none."
                    : level == "full"
                    && Control(body!, "id") is null
                    && Control(body!, "readLink") is null
                    && Control(body!, "editLink") is null
                        ? "It has neither id nor link at metadata=full."
                    : null
                );
        }
        Add("metadata-levels", set.Name, fault, $"the same values at {looked} metadata levels", looked, url);
    }

    /// <summary>JSON Lines hold the entities that JSON holds. A service that does not offer them is not asked for them.</summary>
    private async Task LinesAsync()
    {
        var url = $"{_url}?$top={Entities}";
        var response = await probe.GetAsync(url, LinesType, cancellation);
        if (response.Status is 406 or 415 || response.ContentType?.StartsWith(LinesType, StringComparison.OrdinalIgnoreCase) != true)
            return;
        var (body, fault, _) = await GetAsync(url);
        var entities = (body?["value"] as JsonArray ?? []).OfType<JsonObject>().Select(Values).ToList();
        fault ??= Answers.Fault(response)
            ?? (
                Lines(response.Body) is not { } lines ? "A line is no JSON object."
                : lines.Count != entities.Count || lines.Zip(entities).Any(p => !JsonNode.DeepEquals(p.First, p.Second))
                    ? "Its lines are not the entities of the JSON answer."
                : null
            );
        Add("json-lines", set.Name, fault, $"{entities.Count} lines hold what JSON holds", entities.Count, url);
    }

    /// <summary>The entities of JSON Lines: the lines that hold more than control information; null = one cannot be read.</summary>
    private static List<JsonObject>? Lines(byte[] body)
    {
        var lines = System.Text.Encoding.UTF8.GetString(body).Split('\n', StringSplitOptions.RemoveEmptyEntries);
        try
        {
            return lines
                .Select(l => JsonNode.Parse(l) as JsonObject ?? throw new JsonException())
                .Where(l => l.Count == 0 || l.Any(m => !m.Key.StartsWith('@')))
                .Select(Values)
                .ToList();
        }
        catch (JsonException)
        {
            return null;
        }
    }

    /// <summary>The members that are no control information.</summary>
    private static JsonObject Values(JsonObject entity) =>
        new(
            entity
                .Where(m => !m.Key.Contains('@'))
                .Select(m => KeyValuePair.Create(m.Key, m.Value is JsonObject inner ? Values(inner) : m.Value?.DeepClone()))
        );

    /// <summary>A relation gives the same when it is expanded and when it is followed.</summary>
    private async Task ExpandAsync(CsdlNavigation navigation, List<string> keys)
    {
        var subject = $"{set.Name}/{navigation.Name}";
        var name = Uri.EscapeDataString(navigation.Name);
        foreach (var key in keys)
        {
            var url = $"{_url}{key}?$expand={name}";
            var (expanded, fault, status) = await GetAsync(url);
            if (status == 501)
            {
                _results.Add(new CheckResult("expand-agrees", subject, CheckOutcome.Skipped, "the service does not expand it", 0));
                return;
            }
            var (followed, wrong, _) = await GetAsync($"{_url}{key}/{name}");
            fault ??= wrong ?? Difference(expanded!, followed, navigation);
            if (fault is null)
                continue;
            Add("expand-agrees", subject, $"{set.Name}{Uri.UnescapeDataString(key)}: {fault}", "", keys.Count, url);
            return;
        }
        Add("expand-agrees", subject, null, $"the same expanded and followed, for {keys.Count} entities", keys.Count, _url);
    }

    private static string? Difference(JsonObject entity, JsonObject? followed, CsdlNavigation navigation)
    {
        if (!entity.TryGetPropertyValue(navigation.Name, out var inner))
            return $"'{navigation.Name}' is not in the answer, though it was expanded.";
        if (!navigation.IsCollection)
        {
            return (inner, followed) switch
            {
                (null, null) => null,
                (JsonObject one, { } other) => JsonNode.DeepEquals(Values(one), Values(other))
                    ? null
                    : $"'{navigation.Name}' has other values expanded than followed.",
                _ => $"'{navigation.Name}' is null in one of both answers only.",
            };
        }
        if (inner is not JsonArray many || followed?["value"] is not JsonArray whole)
            return $"'{navigation.Name}' is not a list.";
        var least = Math.Min(many.Count, whole.Count);
        if (
            many.Count != whole.Count
            && Control(followed, "nextLink") is null
            && !entity.Any(m => m.Key.EndsWith("nextLink", StringComparison.Ordinal))
        )
            return $"'{navigation.Name}' has {many.Count} entities expanded and {whole.Count} followed.";
        for (var i = 0; i < least; i++)
        {
            if (!JsonNode.DeepEquals(Values(many[i]!.AsObject()), Values(whole[i]!.AsObject())))
                return $"Entity {i + 1} of '{navigation.Name}' is another one expanded than followed.";
        }
        return null;
    }

    /// <summary>A set whose changes can be followed ends in a delta link, and nothing has changed right after (Protocol 11.3).</summary>
    private async Task ChangesAsync()
    {
        var url = _url;
        string? fault = null;
        var pages = 0;
        string? delta = null;
        for (string? next = url; next is not null && fault is null && pages < 1_000; pages++)
        {
            var response = await probe.GetAsync(next, "application/json", "track-changes", cancellation);
            fault = Answers.Fault(response);
            if (fault is not null)
                break;
            var body = JsonNode.Parse(response.Body)!.AsObject();
            (next, delta) = (Control(body, "nextLink"), Control(body, "deltaLink"));
        }
        if (fault is null && delta is null)
            fault = "The last page has no delta link, though the metadata says that changes can be followed.";
        if (fault is null)
        {
            var (body, wrong, _) = await GetAsync(delta!);
            fault = wrong
                ?? (
                    Control(body!, "deltaLink") is null && Control(body!, "nextLink") is null
                        ? "The changes end without a new delta link."
                        : null
                );
        }
        Add("delta", set.Name, fault, $"a delta link after {pages} pages, which is answered", pages, url);
    }
}
