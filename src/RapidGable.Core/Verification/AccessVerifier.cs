using System.Collections.Immutable;
using System.Diagnostics;
using System.Text;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Verification;

/// <summary>
/// Tries over HTTP what each kind of caller finds of each set, and holds it against what the declaration leaves them: rows and values,
/// what should look as if it were not there, operations that should be refused; and looks for hidden values in every answer on the way.
/// </summary>
public sealed partial class AccessVerifier
{
    private static readonly (string Method, SetOperations Operation)[] Writes =
    [
        ("POST", SetOperations.Create),
        ("PATCH", SetOperations.Update),
        ("DELETE", SetOperations.Delete),
        ("POST", SetOperations.Call),
    ];

    private readonly string _root;
    private readonly AccessCase _case;
    private readonly CancellationToken _cancellation;
    private readonly List<CheckResult> _results;
    private readonly List<(string Value, string Url)> _leaks = [];
    private long _answers;

    private AccessVerifier(string root, AccessCase asked, List<CheckResult> results, CancellationToken cancellation) =>
        (_root, _case, _results, _cancellation) = (root, asked, results, cancellation);

    /// <summary>The whole matrix of callers and sets.</summary>
    /// <param name="root">Absolute service root, with a slash at its end.</param>
    public static async Task<ServiceReport> VerifyAsync(
        string service,
        string root,
        IEnumerable<AccessCase> cases,
        Action<string>? progress,
        CancellationToken cancellation
    )
    {
        var clock = Stopwatch.StartNew();
        var results = new List<CheckResult>();
        foreach (var asked in cases)
        {
            progress?.Invoke(asked.Name);
            await new AccessVerifier(root, asked, results, cancellation).RunAsync();
        }
        return new ServiceReport($"{service}: who may do what", root, [.. results], clock.Elapsed);
    }

    private async Task RunAsync()
    {
        await DocumentsAsync();
        foreach (var expected in _case.Sets)
        {
            if (!expected.MayRead)
                await AbsentAsync(expected);
            else if (expected.Set.ContainedIn is null)
                await PresentAsync(expected);
            await RefusedAsync(expected);
        }
        if (_case.Sql is { } sql)
            await SqlAsync(sql);
        _results.Add(
            new CheckResult(
                "access-leaks",
                _case.Name,
                _leaks.Count == 0 ? CheckOutcome.Passed : CheckOutcome.Failed,
                _leaks.Count == 0
                    ? $"none of {_case.HiddenValues.Count} hidden values is in {_answers} answers"
                    : $"The hidden value '{Cut(_leaks[0].Value)}' is in the answer of {_leaks[0].Url}.",
                _answers,
                _leaks.FirstOrDefault().Url
            )
        );
    }

    private void Add(string check, EntitySet set, string? failure, string success, long examined, string? url) =>
        _results.Add(
            new CheckResult(
                check,
                $"{set.Name} for {_case.Name}",
                failure is null ? CheckOutcome.Passed : CheckOutcome.Failed,
                failure ?? success,
                examined,
                failure is null ? null : url
            )
        );

    private async Task<ProbeResponse> GetAsync(string url, string accept = "application/json;odata.metadata=none")
    {
        var answer = await _case.Probe.GetAsync(url, accept, _cancellation);
        Inspect(answer, url);
        return answer;
    }

    /// <summary>Looks for hidden values, as values of JSON and as parts of any other text.</summary>
    private void Inspect(ProbeResponse answer, string url)
    {
        _answers++;
        if (answer.Body.Length == 0 || _case.HiddenValues.Count == 0)
            return;
        if (answer.Status == 200 && answer.ContentType?.Contains("json", StringComparison.Ordinal) == true)
        {
            var reader = new Utf8JsonReader(answer.Body);
            while (TryRead(ref reader))
            {
                if (reader.TokenType == JsonTokenType.String && reader.GetString() is { } value && _case.HiddenValues.Contains(value))
                {
                    _leaks.Add((value, url));
                    return;
                }
            }
            return;
        }
        var text = Encoding.UTF8.GetString(answer.Body);
        // Most answers hold none, which one pass over the text tells for all values together.
        if (text.AsSpan().IndexOfAny(_case.HiddenTexts) < 0)
            return;
        var asked = Uri.UnescapeDataString(url);
        if (
            _case.DistinctTexts.FirstOrDefault(v =>
                text.Contains(v, StringComparison.Ordinal) && !asked.Contains(v, StringComparison.Ordinal)
            ) is
            { } found
        )
            _leaks.Add((found, url));
    }

    private static bool TryRead(ref Utf8JsonReader reader)
    {
        try
        {
            return reader.Read();
        }
        catch (JsonException)
        {
            return false;
        }
    }

    /// <summary>The documents name what the caller may read, and nothing else.</summary>
    private async Task DocumentsAsync()
    {
        var (service, metadata) = (await GetAsync(_root, "application/json"), await GetAsync(_root + "$metadata", "application/xml"));
        var names = service.Status == 200 ? Names(service) : [];
        var document = metadata.Status == 200 ? Encoding.UTF8.GetString(metadata.Body) : "";
        var isEmpty = _case.Sets.All(s => !s.MayRead);
        string? Fault(ExpectedSet s)
        {
            // What is contained has a type and no set of its own.
            var isShown =
                document.Contains(
                    s.Set.ContainedIn is null ? $"\"{s.Set.Name}\"" : $"<EntityType Name=\"{s.Set.Type.Name}\"",
                    StringComparison.Ordinal
                ) || names.Contains(s.Set.Name);
            if (isShown != s.MayRead)
                return $"The documents {(isShown ? "name" : "do not name")} '{s.Set.Name}'.";
            var type = document.IndexOf($"<EntityType Name=\"{s.Set.Type.Name}\"", StringComparison.Ordinal);
            var end = type < 0 ? -1 : document.IndexOf("</EntityType>", type, StringComparison.Ordinal);
            return
                s.MayRead
                && end > 0
                && s.Hidden.FirstOrDefault(p =>
                    document.AsSpan(type, end - type).Contains($"<Property Name=\"{p}\"", StringComparison.Ordinal)
                )
                    is { } hidden
                ? $"The metadata names the hidden property '{s.Set.Name}.{hidden}'."
                : null;
        }

        var failure =
            isEmpty && service.Status is not (401 or 404)
                ? $"No set may be read, and the service document answers {service.Status}."
                : _case.Sets.Select(Fault).OfType<string>().FirstOrDefault();
        _results.Add(
            new CheckResult(
                "access-documents",
                _case.Name,
                failure is null ? CheckOutcome.Passed : CheckOutcome.Failed,
                failure ?? "they name what may be read, and nothing else",
                _case.Sets.Length,
                failure is null ? null : _root + "$metadata"
            )
        );
    }

    private static HashSet<string> Names(ProbeResponse service)
    {
        try
        {
            using var json = JsonDocument.Parse(service.Body);
            return [.. json.RootElement.GetProperty("value").EnumerateArray().Select(v => v.GetProperty("name").GetString()!)];
        }
        catch (Exception exception) when (exception is JsonException or KeyNotFoundException or InvalidOperationException)
        {
            return [];
        }
    }

    private int[] Missing => _case.IsSignedIn ? [404] : [401, 404];

    /// <summary>A set that may not be read looks as if it were not there, from wherever one looks.</summary>
    private async Task AbsentAsync(ExpectedSet expected)
    {
        string? failure = null;
        var (asked, at) = (0, "");
        async Task ExpectAsync(string path, int[] statuses)
        {
            asked++;
            if (failure is null && Answers.ErrorFault(await GetAsync(_root + path), statuses) is { } fault)
                (failure, at) = ($"/{path}: {fault}", _root + path);
        }

        await ExpectAsync(Address(expected.Set), Missing);
        if (!expected.Set.IsAction)
            await ExpectAsync(Address(expected.Set) + "/$count", Missing);
        foreach (var from in _case.Sets.Where(s => s is { MayRead: true, Set.ContainedIn: null }))
        {
            foreach (var navigation in from.Set.Type.Navigations.Where(n => n.TargetSet == expected.Set.Name))
            {
                await ExpectAsync($"{Address(from.Set)}?$expand={navigation.Name}", [400, 404]);
                await ExpectAsync(
                    $"{Address(from.Set)}?$filter="
                        + $"{(navigation.IsCollection ? navigation.Name + "/any()" : navigation.Name + "%20ne%20null")}",
                    [400, 404]
                );
            }
        }
        Add("access-absent", expected.Set, failure, "it looks as if it were not there", asked, at);
    }

    /// <summary>Whether the rows of a set are the same for everybody, as far as rules let them be seen, and many.</summary>
    public static bool IsCompared(EntitySet set) =>
        set is { Gives: QueryResult.Rows, TakesFromCaller: false, IsAction: false, EntitiesOf: null };

    /// <summary>A query that is not compared answers, or says what it would have to know of the caller.</summary>
    private async Task AnsweredAsync(EntitySet set)
    {
        if (set.IsAction)
        {
            await CallableAsync(set);
            return;
        }
        var url = _root + Address(set);
        var answer = await GetAsync(url);
        int[] right = set.TakesFromCaller ? [200, 204, 403] : [200, 204];
        var failure = right.Contains(answer.Status) ? null : Answers.Fault(answer) ?? $"It answers {answer.Status}.";
        Add("access-rows", set, failure, $"the query answers {answer.Status}", 1, url);
    }

    /// <summary>A body that cannot be read is refused for what it is, once the rules have let the call through.</summary>
    private async Task CallableAsync(EntitySet action)
    {
        var url = _root + Address(action);
        var answer = await _case.Probe.SendAsync("POST", url, "{", _cancellation);
        Inspect(answer, url);
        Add("access-call", action, Answers.ErrorFault(answer, [400]), "it may be called", 1, url);
    }

    private async Task PresentAsync(ExpectedSet expected)
    {
        var set = expected.Set;
        if (!IsCompared(set))
        {
            await AnsweredAsync(set);
            return;
        }
        var order = set.IsUnkeyed ? "" : "&$orderby=" + string.Join(',', set.Type.Key.Select(k => k.Name));
        var filter = set.RequiresFilter ? "&$filter=" + (set.Type.Key.Length > 0 ? $"{set.Type.Key[0].Name}%20ne%20null" : "true") : "";
        var next = $"{_root}{Address(set)}?{(order + filter).TrimStart('&')}";
        var first = next;
        var seen = new List<ExpectedRow>();
        string? failure = null;
        while (next is not null && failure is null && seen.Count <= expected.Rows.Count)
        {
            var page = await GetAsync(next);
            failure = Answers.Fault(page);
            next = failure is null ? Take(page, seen, ref failure) : null;
        }
        if (set.IsUnkeyed)
            seen = [.. seen.OrderBy(r => r.ToString(), StringComparer.Ordinal)];
        var rows = set.IsUnkeyed ? expected.Rows.OrderBy(r => r.ToString(), StringComparer.Ordinal).ToList() : expected.Rows;
        // A page may hold more than what was looked at.
        var most = expected.IsWhole ? seen.Count : Math.Min(seen.Count, rows.Count);
        for (var i = 0; failure is null && i < Math.Max(most, rows.Count); i++)
        {
            if (i >= rows.Count || i >= most)
                failure = i >= rows.Count ? $"A row comes that should not: {Short(seen[i])}." : $"A row is missing: {Short(rows[i])}.";
            else if (seen[i].ToString() != rows[i].ToString())
                failure = $"This comes: {Short(seen[i])}; and this should: {Short(rows[i])}.";
        }
        Add(
            "access-rows",
            set,
            failure,
            $"{rows.Count}{(expected.IsWhole ? "" : " or more")} rows, and in each what may be seen of it",
            rows.Count,
            first
        );
        await HiddenAsync(expected, filter);
        foreach (var navigation in set.Type.Navigations.Where(n => _case.Sets.Any(s => s.MayRead && s.Set.Name == n.TargetSet)))
            await GetAsync($"{_root}{Address(set)}?$top=50&$expand={navigation.Name}{filter}");
    }

    private async Task HiddenAsync(ExpectedSet expected, string filter)
    {
        string? failure = null;
        var (asked, at) = (0, "");
        foreach (var property in expected.Hidden)
        {
            foreach (
                var option in new[]
                {
                    $"$select={property}",
                    $"$filter={property}%20eq%20null",
                    $"$orderby={property}",
                    $"$apply=groupby(({property}))",
                    $"$compute={property}%20as%20x",
                }
            )
            {
                asked++;
                var url =
                    $"{_root}{Address(expected.Set)}?{option}{(option.StartsWith("$filter", StringComparison.Ordinal) ? "" : filter)}";
                if (failure is null && Answers.ErrorFault(await GetAsync(url), [400, 404]) is { } fault)
                    (failure, at) = ($"{option}: {fault}", url);
            }
        }
        if (expected.Hidden.Length > 0)
            Add(
                "access-hidden",
                expected.Set,
                failure,
                $"{string.Join(", ", expected.Hidden)}: not there, whatever asks for it",
                asked,
                at
            );
    }

    /// <summary>
    /// Operations that the caller may not carry out are refused before anything is looked at; the others are not tried, since they
    /// would write.
    /// </summary>
    private async Task RefusedAsync(ExpectedSet expected)
    {
        string? failure = null;
        var (asked, at) = (0, "");
        foreach (var (method, operation) in Refused(expected))
        {
            asked++;
            var url =
                _root
                + (expected.Set.IsQuery ? Address(expected.Set) : expected.Set.Name)
                + (
                    operation == SetOperations.Create || expected.Rows.Count == 0 || expected.Set.IsFunction
                        ? ""
                        : KeyOf(expected.Set, expected.Rows[0])
                );
            // A body that cannot be read: were it looked at, nothing would be written.
            var answer = await _case.Probe.SendAsync(method, url, "{", _cancellation);
            Inspect(answer, url);
            if (failure is null && Answers.ErrorFault(answer, [401, 403, 404, 405]) is { } fault)
                (failure, at) = ($"{method}: {fault}", url);
        }
        var refused = Refused(expected).Select(w => w.Operation.ToString().ToLowerInvariant());
        if (asked > 0)
            Add("access-refused", expected.Set, failure, $"{string.Join(", ", refused)} are refused", asked, at);
    }

    /// <summary>What a caller may not do: the calls of an action, and the changes of a set.</summary>
    private static IEnumerable<(string Method, SetOperations Operation)> Refused(ExpectedSet expected) =>
        Writes.Where(w =>
            !expected.May.HasFlag(w.Operation)
            && (expected.Set.IsAction ? w.Operation != SetOperations.Create : w.Operation != SetOperations.Call)
        );

    private static string KeyOf(EntitySet set, ExpectedRow row)
    {
        string Literal(Property key) =>
            row.Values.GetValueOrDefault(key.Name) is { } json
                ? json.StartsWith('"') && key.Type.Kind is EdmKind.String
                    ? $"'{Uri.EscapeDataString(JsonSerializer.Deserialize<string>(json)!.Replace("'", "''", StringComparison.Ordinal))}'"
                    : json.Trim('"')
                : "0";
        return set.Type.Key is [var only]
            ? $"({Literal(only)})"
            : $"({string.Join(',', set.Type.Key.Select(k => $"{k.Name}={Literal(k)}"))})";
    }

    /// <summary>Unkeyed rows come by a function.</summary>
    private static string Address(EntitySet set) => SampleCall.OData(set);

    private string? Take(ProbeResponse page, List<ExpectedRow> rows, ref string? failure)
    {
        try
        {
            using var json = JsonDocument.Parse(page.Body);
            rows.AddRange(json.RootElement.GetProperty("value").EnumerateArray().Select(RowOf));
            return
                json.RootElement.TryGetProperty("@nextLink", out var next) || json.RootElement.TryGetProperty("@odata.nextLink", out next)
                ? next.GetString()
                : null;
        }
        catch (Exception exception) when (exception is JsonException or KeyNotFoundException or InvalidOperationException)
        {
            failure = "The answer is not a collection.";
            return null;
        }
    }

    /// <summary>A row of an answer, without its annotations.</summary>
    public static ExpectedRow RowOf(JsonElement row) =>
        new(
            row.EnumerateObject()
                .Where(p => !p.Name.Contains('@'))
                .ToImmutableSortedDictionary(p => p.Name, p => p.Value.GetRawText(), StringComparer.Ordinal)
        );

    private static string Cut(string text) => text.Length > 60 ? text[..60] + "…" : text;

    private static string Short(ExpectedRow row) => row.ToString() is { Length: > 160 } text ? text[..160] + "…" : row.ToString();

    /// <summary>The kept expectations.</summary>
    public static async Task<ServiceReport> CheckAsync(
        string service,
        string root,
        IEnumerable<AccessCheck> checks,
        CancellationToken cancellation
    )
    {
        var clock = Stopwatch.StartNew();
        var results = ImmutableArray.CreateBuilder<CheckResult>();
        foreach (var check in checks)
        {
            var (failure, url) =
                check.Fault is { } fault ? (fault, null)
                : check.Operation == SetOperations.Read ? await ReadAsync(root, check, cancellation)
                : await WriteAsync(root, check, cancellation);
            results.Add(
                new CheckResult(
                    "saved",
                    check.Title,
                    failure is null ? CheckOutcome.Passed : CheckOutcome.Failed,
                    failure ?? $"tried as {check.Caller}",
                    1,
                    url
                )
            );
        }
        return new ServiceReport($"{service}: saved checks", root, results.ToImmutable(), clock.Elapsed);
    }

    private static async Task<(string? Failure, string? Url)> ReadAsync(string root, AccessCheck check, CancellationToken cancellation)
    {
        var set = check.Set!;
        var keys = set.Type.Key.Select(k => k.Name).ToList();
        string? next =
            $"{root}{Address(set)}?$select={string.Join(',', keys.Append(check.Property).OfType<string>().Distinct())}"
            + $"{(keys.Count == 0 ? "" : "&$orderby=" + string.Join(',', keys))}";
        var first = next;
        var found = 0L;
        while (next is not null)
        {
            var page = await check.Probe.GetAsync(next, "application/json;odata.metadata=none", cancellation);
            if (page.Status is 401 or 404 or 400)
                break;
            if (Answers.Fault(page) is { } fault)
                return (fault, first);
            using var json = JsonDocument.Parse(page.Body);
            foreach (var row in json.RootElement.GetProperty("value").EnumerateArray().Select(RowOf))
            {
                if (
                    (check.Keys?.Contains(string.Join(", ", keys.Select(k => row.Values.GetValueOrDefault(k)))) ?? true)
                    && (check.Property is null || row.Values.GetValueOrDefault(check.Property) is not (null or "null"))
                )
                    found++;
            }
            next =
                json.RootElement.TryGetProperty("@nextLink", out var link) || json.RootElement.TryGetProperty("@odata.nextLink", out link)
                    ? link.GetString()
                    : null;
        }
        var what = check.Property is null ? "such rows" : $"such rows with a '{check.Property}'";
        return check.Can == found > 0
            ? (null, null)
            : (check.Can ? $"{check.Caller} can see no {what}." : $"{check.Caller} can see {found} {what}.", first);
    }

    private static async Task<(string? Failure, string? Url)> WriteAsync(string root, AccessCheck check, CancellationToken cancellation)
    {
        // None is deleted, and all the same it is told whether any may be.
        var url = root + check.Set!.Name + (check.Operation == SetOperations.Delete ? "/$filter(false)/$each" : "");
        var answer = await check.Probe.SendAsync(Writes.First(w => w.Operation == check.Operation).Method, url, "{", cancellation);
        // What is refused for its body is let through by the rules.
        var isRefused = answer.Status is 401 or 403 or 404 or 405;
        return check.Can != isRefused
            ? (null, null)
            : ($"{check.Caller} {(isRefused ? "is refused" : "is not refused")}: it answers {answer.Status}.", url);
    }
}
