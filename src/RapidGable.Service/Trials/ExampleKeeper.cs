using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Nodes;
using RapidGable.Declarations;
using RapidGable.Payloads.Json;
using RapidGable.Service.Identity;

namespace RapidGable.Service.Trials;

/// <summary>
/// Keeps an answer beside its request, for documents that everybody sees who may send it. So it is read as the least privileged caller who
/// may, and what a more privileged one sees beyond that is not kept.
/// </summary>
public sealed class ExampleKeeper(TryRequests trying)
{
    private static readonly JsonSerializerOptions Json = new()
    {
        WriteIndented = true,
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    /// <param name="who">As whom the answer is wanted; null = as whoever may see least.</param>
    /// <param name="madeUp">Values are replaced by others of their kind.</param>
    /// <returns>The file in the workspace; null = it is not kept, for the reason.</returns>
    public async Task<(string? File, string? Fault)> RunAsync(
        string folder,
        KeptRequest request,
        string? who,
        bool madeUp,
        CancellationToken cancellation
    )
    {
        if (request.Changes)
            return (null, "Only what reads can be kept as an example.");
        if (await LeastAsync(request, cancellation) is not { } least)
            return (null, "Nobody gets an answer without a fault.");
        if (least.Answer!.Json is not { } body)
            return (null, "The answer is no JSON.");
        if ((who ?? request.As) is { } wanted && wanted != least.Caller)
        {
            var asked = (await trying.RunAsync([request], new TryRequests.Options(wanted, false), cancellation))[0];
            if (
                asked.Answer?.Json is { } more
                && JsonMembers.NamesOf(more).Except(JsonMembers.NamesOf(body)).FirstOrDefault() is { } hidden
            )
                return (null, $"'{hidden}' is not for {least.Caller}, who may send this too. Ask for fewer properties.");
        }
        var node = JsonNode.Parse(body.GetRawText())!;
        WithoutAddresses(node);
        if (madeUp)
            node = MadeUp(node);
        var kept = new JsonObject
        {
            ["request"] = request.Name,
            ["as"] = least.Caller,
            ["status"] = least.Answer.Status,
            ["body"] = node,
        };
        if (madeUp)
            kept["made-up"] = true;
        var file = $"requests/{request.Name}.example.json";
        await File.WriteAllTextAsync(Path.Combine(folder, file), kept.ToJsonString(Json) + "\n", cancellation);
        return (file, null);
    }

    /// <summary>The answer of who may see least: anonymous callers, then who is signed in, then each role alone.</summary>
    private async Task<TriedRequest?> LeastAsync(KeptRequest request, CancellationToken cancellation)
    {
        foreach (var caller in new[] { NamedCaller.Anonymous, "signed-in" }.Concat(trying.Roles))
        {
            var tried = (await trying.RunAsync([request], new TryRequests.Options(caller, false), cancellation))[0];
            if (tried.Answer is { Status: >= 200 and < 300 })
                return tried;
        }
        return null;
    }

    /// <summary>Links lead to a service that has ended.</summary>
    private static void WithoutAddresses(JsonNode node)
    {
        if (node is not JsonObject whole)
            return;
        foreach (var name in whole.Select(m => m.Key).Where(n => n is "next" or "@odata.nextLink" or "@odata.context").ToList())
            whole.Remove(name);
    }

    private static JsonNode MadeUp(JsonNode? node) =>
        node switch
        {
            JsonObject members => new JsonObject(
                members.Select(m => KeyValuePair.Create(m.Key, m.Value is null ? null : (JsonNode?)MadeUp(m.Value)))
            ),
            JsonArray list => new JsonArray([.. list.Select(i => i is null ? null : MadeUp(i))]),
            JsonValue value when value.GetValueKind() == JsonValueKind.Number => JsonValue.Create(1),
            JsonValue value when value.GetValueKind() == JsonValueKind.String => JsonValue.Create(MadeUp(value.GetValue<string>())),
            { } other => other.DeepClone(),
            null => JsonValue.Create("")!,
        };

    private static string MadeUp(string text) =>
        DateOnly.TryParseExact(text, "yyyy-MM-dd", out _) ? "2024-01-31"
        : text.Length >= 20 && DateTimeOffset.TryParse(text, out _) ? "2024-01-31T12:00:00Z"
        : Guid.TryParse(text, out _) ? "00000000-0000-4000-8000-000000000000"
        : "text";
}
