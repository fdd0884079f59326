using System.Text.Json;
using System.Text.Json.Nodes;

namespace RapidGable.Verification;

/// <summary>What is checked where statements over sets are sent: the example of the description, and what must be refused.</summary>
internal sealed class RestSqlCheck(RestVerifier verifier, DescribedOperation operation)
{
    private const string Check = "rest-sql";

    private string Url => verifier.UrlOf(operation.Path);

    public async Task RunAsync()
    {
        if (operation.Example is not { } example)
        {
            verifier.Add(new CheckResult(Check, "sql", CheckOutcome.Skipped, "there is no set that a statement can read", 0));
            return;
        }
        var answer = await verifier.SendAsync("POST", Url, [], ("application/json", example));
        var failure = Fault(answer, out var rows);
        verifier.Add(Check, "sql", failure, $"{rows} rows, each with the columns that are told", rows, Url);
        foreach (var statement in new[] { "DELETE FROM nothing", "SELECT 1; SELECT 1", "SELECT * FROM no_such_set_here" })
        {
            var body = new JsonObject { ["statement"] = statement }.ToJsonString();
            var refused = await verifier.SendAsync("POST", Url, [], ("application/json", body));
            verifier.Add(
                Check,
                "sql",
                refused.Status is 400 or 501 ? null : $"'{statement}' answers {refused.Status}.",
                $"'{statement}' is refused",
                1,
                Url
            );
        }
    }

    private static string? Fault(RestResponse answer, out int rows)
    {
        rows = 0;
        if (answer.Status != 200)
            return $"It answers {answer.Status}: {RestVerifier.Short(answer.Text)}";
        using var json = JsonDocument.Parse(answer.Body);
        var columns = json.RootElement.GetProperty("columns").EnumerateArray().Select(c => (Name(c), Type(c))).ToList();
        foreach (var row in json.RootElement.GetProperty("rows").EnumerateArray())
        {
            rows++;
            var members = row.EnumerateObject().ToList();
            if (!members.Select(m => m.Name).SequenceEqual(columns.Select(c => c.Item1)))
                return $"A row has {string.Join(", ", members.Select(m => m.Name))}, and not the columns that are told.";
            var wrong = members.Zip(columns).FirstOrDefault(p => !Fits(p.First.Value, p.Second.Item2));
            if (wrong.First.Value.ValueKind != JsonValueKind.Undefined)
                return $"'{wrong.First.Name}' is {wrong.First.Value.GetRawText()}, and is told to be {wrong.Second.Item2}.";
        }
        return null;
    }

    private static string Name(JsonElement column) => column.GetProperty("name").GetString()!;

    private static string Type(JsonElement column) => column.GetProperty("type").GetString()!;

    private static bool Fits(JsonElement value, string type) =>
        value.ValueKind switch
        {
            JsonValueKind.Null => true,
            JsonValueKind.True or JsonValueKind.False => type == "boolean",
            // Numbers that JSON has no form for come as texts.
            JsonValueKind.Number => type is "byte" or "sbyte" or "int16" or "int32" or "int64" or "decimal" or "single" or "double",
            _ => type != "boolean",
        };
}
