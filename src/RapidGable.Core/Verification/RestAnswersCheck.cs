using System.Buffers.Text;
using System.Globalization;
using System.Text;
using System.Text.Json;

namespace RapidGable.Verification;

/// <summary>Whether each described answer is given, and each given one described; nothing is changed by it.</summary>
internal sealed class RestAnswersCheck(RestVerifier verifier, OpenApiDescription description)
{
    private const string Nothing = "{\"no_property_is_called_so\":1}";

    // These are not called forth: what was changed, what depends on the row, and what comes when much is asked or something breaks.
    private static readonly string[] Elsewhere = ["default", "201", "204", "403", "429", "503"];

    private readonly Dictionary<string, Dictionary<string, JsonElement>?> _rows = [];

    public async Task RunAsync()
    {
        foreach (var operation in description.Operations)
        {
            verifier.Options.Progress?.Invoke(operation.Id);
            await TryAsync(operation);
        }
    }

    private async Task TryAsync(DescribedOperation operation)
    {
        if (await PathAsync(operation, isThere: true) is not { } path)
        {
            verifier.Add(new CheckResult("rest-answers", operation.Id, CheckOutcome.Skipped, "there is no row to ask for", 0));
            return;
        }
        var missing = await PathAsync(operation, isThere: false);
        var wanted = operation.Statuses.Where(s => !Elsewhere.Contains(s) && !(s == "200" && operation.Method != "GET")).ToHashSet();
        // Which values a query gives nothing for is not known, and one that takes none gives a row or does not.
        if (operation.HasArguments || (missing is null && !operation.PathParameters.Any()))
            wanted.Remove("404");
        // Which calls break a rule of the database is not known.
        if (operation.IsCall)
            wanted.ExceptWith(operation.Takes.IsEmpty ? ["409", "422"] : ["409"]);
        var seen = new HashSet<string>();
        var faults = new List<string>();
        foreach (
            var (status, method, url, headers, content) in Tries(operation, path, missing, await WholeAsync(operation, path))
                .Where(t => wanted.Contains(t.Status))
        )
        {
            var answer = await verifier.SendAsync(method, url, headers, content);
            var told = answer.Status.ToString(CultureInfo.InvariantCulture);
            seen.Add(told);
            if (!operation.Statuses.Contains(told))
                faults.Add($"It answers {told} to {method} {url}, which is not described.");
            // A range that is not there is answered without a body.
            if (answer.Status >= 400 && answer.Status != 416 && (answer.MediaType != "application/problem+json" || !HasStatus(answer)))
                faults.Add($"The answer {told} to {method} {url} is no problem of that status.");
        }
        var never = wanted.Where(s => !seen.Contains(s)).Order().ToList();
        if (never.Count > 0)
            faults.Add($"{string.Join(", ", never)} {(never.Count == 1 ? "is" : "are")} described, and never came.");
        verifier.Add("rest-answers", operation.Id, faults.FirstOrDefault(), string.Join(", ", seen.Order()), seen.Count, path);
    }

    private static bool HasStatus(RestResponse answer)
    {
        try
        {
            return JsonDocument.Parse(answer.Body).RootElement.GetProperty("status").GetInt32() == answer.Status;
        }
        catch (Exception exception) when (exception is JsonException or KeyNotFoundException or InvalidOperationException)
        {
            return false;
        }
    }

    private sealed record Try(
        string Status,
        string Method,
        string Url,
        IReadOnlyList<(string, string)> Headers,
        (string Type, string Text)? Content = null
    );

    /// <summary>A body that changes nothing: for PUT the row as it is.</summary>
    private async Task<(string, string)?> WholeAsync(DescribedOperation operation, string path) =>
        operation.Method switch
        {
            "PUT" => ("application/json", (await verifier.GetAsync(path)).Text),
            "DELETE" => null,
            _ => ("application/json", "{}"),
        };

    private static IEnumerable<Try> Tries(DescribedOperation operation, string path, string? missing, (string, string)? whole)
    {
        var method = operation.Method;
        (string, string)? body = operation.Takes.IsEmpty ? null : ("application/json", Nothing);
        yield return new Try("401", method, path, [("Authorization", "Bearer no-key-is-called-so")], body);
        if (missing is not null)
            yield return new Try("404", method, missing, [], body);
        if (method == "GET")
        {
            yield return new Try("200", method, path, []);
            yield return new Try("304", method, path, [("If-None-Match", "*")]);
            yield return new Try("206", method, path, [("Range", "bytes=0-0")]);
            yield return new Try("416", method, path, [("Range", "bytes=999999999999-")]);
            var and = path.Contains('?') ? '&' : '?';
            yield return new Try("400", method, $"{path}{and}no_parameter_is_called_so=1", []);
            yield return new Try("406", method, path, [("Accept", "image/png")]);
            // Positions of another order, which has a value or several.
            for (var values = 1; operation.QueryParameters.Contains("after") && values <= 8; values++)
                yield return new Try("410", method, $"{path}{and}after={Position(values)}", []);
            yield break;
        }
        if (operation.IsCall)
        {
            yield return new Try("400", method, path + "?no_parameter_is_called_so=1", []);
            yield return new Try("406", method, path, [("Accept", "image/png")]);
        }
        yield return new Try("412", method, path, [("If-Match", "\"no-tag-is-called-so\"")], whole);
        yield return new Try("428", method, path, [], whole);
        if (body is null)
            yield break;
        yield return new Try("400", method, path, [], ("application/json", "{"));
        yield return new Try("406", method, path, [("Accept", "image/png")], body);
        yield return new Try("415", method, path, [], ("text/plain", "x"));
        yield return new Try("422", method, path, [("If-Match", "*")], body);
        yield return new Try("422", method, path, [], body);
        yield return new Try(
            "409",
            method,
            path,
            [("If-Match", "*")],
            ("application/json-patch+json", "[{\"op\":\"test\",\"path\":\"/no_property_is_called_so\",\"value\":1}]")
        );
    }

    private static string Position(int values) =>
        Base64Url.EncodeToString(Encoding.UTF8.GetBytes($"[\"x\"{string.Concat(Enumerable.Repeat(",1", values))}]"));

    /// <summary>An address of an operation: of a row that is there, or of one that is not; null = there is none.</summary>
    private async Task<string?> PathAsync(DescribedOperation operation, bool isThere)
    {
        if (operation is { IsCall: true, IsCalledByExamples: true })
            return isThere ? verifier.UrlOf(operation.Called().Path) : null;
        if (operation is { HasArguments: true, IsCalledByExamples: true })
            return isThere ? await CalledAsync(operation) : null;
        var names = operation.PathParameters.ToList();
        if (names.Count == 0)
            return isThere ? verifier.UrlOf(operation.Path) : null;
        var path = operation.Path;
        Values.Clear();
        foreach (var name in names)
        {
            // Rows are found below those that are there, whatever is asked in the end.
            var owner = OwnerOf(operation.Path, name);
            foreach (var (known, value) in Values)
                owner = owner.Replace("{" + known + "}", Uri.EscapeDataString(value), StringComparison.Ordinal);
            if (await RowAsync(owner) is not { } row || Value(row, name) is not { } found)
                return null;
            Values[name] = found;
            path = path.Replace("{" + name + "}", isThere ? Uri.EscapeDataString(found) : Other(found), StringComparison.Ordinal);
        }
        if (isThere && operation.Method == "GET" && operation.Row is not null && description.RowsOf(operation.Row.Value) is null)
        {
            // A related row or a stream may not be there for the first row.
            var answer = await verifier.GetAsync(verifier.UrlOf(path));
            if (answer.Status == 404)
                return null;
        }
        if (isThere && operation.Row is null && operation.Method == "GET" && (await verifier.GetAsync(verifier.UrlOf(path))).Status == 404)
            return null;
        return verifier.UrlOf(path);
    }

    /// <summary>The address of a query with its examples; null = it gives nothing with them, or not to this caller.</summary>
    private async Task<string?> CalledAsync(DescribedOperation operation)
    {
        var (path, query) = operation.Called();
        var url = verifier.UrlOf(path) + (query.Length > 0 ? "?" + query : "");
        return (await verifier.GetAsync(url)).Status is 403 or 404 ? null : url;
    }

    /// <summary>The values of the parameters of an operation that are found so far.</summary>
    private Dictionary<string, string> Values { get; } = [];

    /// <summary>The collection whose rows give the value of a parameter: the template before the key in which it stands.</summary>
    private static string OwnerOf(string template, string name)
    {
        var before = template[..template.IndexOf("{" + name + "}", StringComparison.Ordinal)];
        before = before[..(before.LastIndexOf('/') + 1)].TrimEnd('/');
        // The parts of a key of several stand one behind the other.
        while (before.Split('/')[^1].StartsWith('{'))
            before = before[..before.LastIndexOf('/')];
        return before;
    }

    private async Task<Dictionary<string, JsonElement>?> RowAsync(string collection)
    {
        if (_rows.TryGetValue(collection, out var known))
            return known;
        var answer = await verifier.GetAsync(verifier.UrlOf(collection) + "?format=json&limit=1");
        var row = answer.Status == 200 ? RestVerifier.RowsOf(answer).FirstOrDefault() : default;
        return _rows[collection] =
            row.ValueKind == JsonValueKind.Object ? row.EnumerateObject().ToDictionary(m => m.Name, m => m.Value) : null;
    }

    private static string? Value(Dictionary<string, JsonElement> row, string name) =>
        row.TryGetValue(name, out var value) || row.TryGetValue(name[(name.IndexOf('_') + 1)..], out value) ? value.ToString() : null;

    /// <summary>A value of the same type that no row has, as far as that can be said.</summary>
    private static string Other(string value) =>
        Guid.TryParse(value, out _) ? "00000000-0000-0000-0000-0000000000ff"
        : long.TryParse(value, out _) ? "1999999997"
        : DateOnly.TryParse(value, CultureInfo.InvariantCulture, out _) ? "1901-01-01"
        : "no-such-key";
}
