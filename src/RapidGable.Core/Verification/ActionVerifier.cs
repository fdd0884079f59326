using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using RapidGable.Model;
using JsonValue = System.Text.Json.Nodes.JsonValue;

namespace RapidGable.Verification;

/// <summary>How a face spells the call of an action with sample values.</summary>
/// <param name="Path">Below the root, encoded.</param>
/// <param name="Body">The parameters that stand in the body.</param>
public sealed record SpelledCall(string Path, IReadOnlyList<OperationParameter> Body);

/// <summary>
/// Calls an action with its examples over HTTP, and holds what it gives to what is declared. The service that is tried undoes every call.
/// </summary>
/// <param name="unknown">The status for a body with an unknown parameter.</param>
/// <param name="add">Takes check, outcome, message and address; the address is null where nothing is wrong.</param>
internal sealed class ActionVerifier(
    EntitySet action,
    SpelledCall call,
    string root,
    IChangeProbe probe,
    int unknown,
    Action<string, CheckOutcome, string, string?> add,
    CancellationToken cancellation
)
{
    private string Url => root + call.Path;

    public async Task RunAsync()
    {
        await NotReadAsync();
        await RefusedAsync();
        await CalledAsync();
    }

    private void Add(string check, string? failure, string success) =>
        add(check, failure is null ? CheckOutcome.Passed : CheckOutcome.Failed, failure ?? success, failure is null ? null : Url);

    private async Task NotReadAsync()
    {
        var answer = await probe.SendAsync("GET", Url, null, null, cancellation);
        var isRight = answer.Status == 405 && answer.Allow?.Contains("POST", StringComparison.Ordinal) == true;
        Add("action-not-read", isRight ? null : $"GET answers {answer.Status} with Allow: {answer.Allow}.", "GET is refused");
    }

    private async Task RefusedAsync()
    {
        var body = Arguments();
        body["no_such_parameter_here"] = 1;
        var answer = await probe.SendAsync("POST", Url, body.ToJsonString(), null, cancellation);
        Add(
            "action-unknown",
            answer.Status == unknown ? null : $"An unknown parameter answers {answer.Status} where {unknown} is right.",
            "an unknown parameter is refused"
        );
    }

    private async Task CalledAsync()
    {
        var answer = await probe.SendAsync("POST", Url, Arguments().ToJsonString(), null, cancellation);
        if (answer.Status is 409 or 422)
        {
            add("action-called", CheckOutcome.Skipped, $"the database refuses the examples: {Short(answer.Body)}", null);
            return;
        }
        Add("action-called", Fault(answer), answer.Status == 204 ? "it gives nothing" : "it gives what is declared");
    }

    private JsonObject Arguments()
    {
        var body = new JsonObject();
        foreach (var parameter in call.Body.Where(p => p.IsRequired || p.Example is not null))
            body[parameter.Name] = Json(parameter);
        return body;
    }

    private static JsonNode Json(OperationParameter parameter) =>
        parameter.Type.IsNumeric || parameter.Type.Kind == EdmKind.Boolean
            ? JsonNode.Parse(parameter.Sample)!
            : JsonValue.Create(parameter.Sample);

    /// <summary>What is wrong with an answer; null = nothing.</summary>
    private string? Fault(ChangeResponse answer)
    {
        if (answer.Status == 204)
            return action.Gives == QueryResult.Rows ? "It answers 204, and a list may be empty and is there." : null;
        if (answer.Status != 200)
            return $"It answers {answer.Status}: {Short(answer.Body)}";
        try
        {
            using var json = JsonDocument.Parse(answer.Body);
            var value = json.RootElement;
            return action.Gives == QueryResult.Rows ? Rows(value).Select(Row).FirstOrDefault(f => f is not null)
                : action.Gives == QueryResult.Value && value.TryGetProperty("value", out _) ? null
                : Row(value);
        }
        catch (Exception exception) when (exception is JsonException or KeyNotFoundException or InvalidOperationException)
        {
            return "The answer is not what the action is declared to give.";
        }
    }

    private static IEnumerable<JsonElement> Rows(JsonElement answer) =>
        answer.ValueKind == JsonValueKind.Array ? answer.EnumerateArray()
        : answer.TryGetProperty("rows", out var rows) ? rows.EnumerateArray()
        : answer.GetProperty("value").EnumerateArray();

    private string? Row(JsonElement row)
    {
        var names = row.EnumerateObject().Select(p => p.Name).Where(n => !n.Contains('@')).ToHashSet();
        var declared = action.Type.Properties.Where(p => p.Type.Kind != EdmKind.Stream).ToList();
        if (!names.SetEquals(declared.Select(p => p.Name)))
            return $"A row has {string.Join(", ", names)}, and {string.Join(", ", declared.Select(p => p.Name))} are declared.";
        var wrong = declared.Find(p => !Fits(p, row.GetProperty(p.Name)));
        return wrong is null ? null : $"'{wrong.Name}' is {row.GetProperty(wrong.Name).GetRawText()}, and {wrong.Type.Name} is declared.";
    }

    private static bool Fits(Property property, JsonElement value) =>
        value.ValueKind switch
        {
            JsonValueKind.Null => property.Nullable,
            JsonValueKind.True or JsonValueKind.False => property.Type.Kind == EdmKind.Boolean,
            JsonValueKind.Number => property.Type.IsNumeric,
            JsonValueKind.Array => property.Type.IsCollection,
            JsonValueKind.Object => property.Type.Kind == EdmKind.Complex,
            // Numbers that JSON has no form for come as texts.
            _ => property.Type is not { Kind: EdmKind.Boolean or EdmKind.Complex, IsCollection: false },
        };

    private static string Short(byte[] body) =>
        Encoding.UTF8.GetString(body) is { Length: > 200 } text ? text[..200] + "…" : Encoding.UTF8.GetString(body);
}
