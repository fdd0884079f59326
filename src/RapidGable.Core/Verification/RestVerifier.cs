using System.Buffers.Text;
using System.Diagnostics;
using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Xml;
using System.Xml.Linq;

namespace RapidGable.Verification;

/// <summary>What is to be verified of a service on the plain REST face.</summary>
/// <param name="Title">Of the report.</param>
/// <param name="Root">Absolute service root, with a slash at its end.</param>
/// <param name="OData">By the path of a collection: the absolute address of the same set on the OData face.</param>
/// <param name="Closed">Paths of collections that the caller should not find.</param>
/// <param name="RowLimit">Rows of a collection that are walked at most.</param>
/// <param name="Answers">Whether each described answer is called forth.</param>
/// <param name="Progress">Hears what is looked at now.</param>
public sealed record RestVerificationOptions(
    string Title,
    string Root,
    IReadOnlyDictionary<string, string> OData,
    IReadOnlyList<string> Closed,
    long RowLimit,
    bool Answers = true,
    Action<string>? Progress = null
);

/// <summary>
/// Verifies a service on the plain REST face from outside: by its OpenAPI document, by what it answers, and by what the OData face answers.
/// </summary>
public sealed class RestVerifier
{
    // Rows that are held against those of the other face, and looked at value by value.
    private const int ComparedRows = 200;

    private readonly IRestProbe _probe;
    private readonly RestVerificationOptions _options;
    private readonly CancellationToken _cancellation;
    private readonly List<CheckResult> _results = [];

    private RestVerifier(IRestProbe probe, RestVerificationOptions options, CancellationToken cancellation) =>
        (_probe, _options, _cancellation) = (probe, options, cancellation);

    /// <summary>Runs all generated checks.</summary>
    public static async Task<ServiceReport> VerifyAsync(IRestProbe probe, RestVerificationOptions options, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var verifier = new RestVerifier(probe, options, cancellation);
        await verifier.RunAsync();
        return new ServiceReport(options.Title, options.Root, [.. verifier._results], clock.Elapsed);
    }

    private void Add(string check, string subject, string? failure, string success, long examined, string? url = null) =>
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

    private string UrlOf(string path) => _options.Root.TrimEnd('/') + path;

    private Task<RestResponse> GetAsync(string url, params (string, string)[] headers) =>
        _probe.SendAsync("GET", url, headers, null, _cancellation);

    private async Task RunAsync()
    {
        _options.Progress?.Invoke("OpenAPI");
        var url = UrlOf("/openapi.json");
        var answer = await GetAsync(url);
        if (answer.Status != 200)
        {
            Add("rest-openapi", "service", $"It answers {answer.Status}{answer.Failure}.", "", 1, url);
            return;
        }
        var description = OpenApiDescription.Read(answer.Body);
        foreach (var fault in description.Faults)
            Add("rest-openapi", "service", fault, "", 1, url);
        if (description.Faults.Count > 0)
            return;
        Add("rest-openapi", "service", null, $"{description.Operations.Count} operations, {description.Schemas} schemas", 1);
        foreach (var list in description.Operations.Where(o => o.Method == "GET" && o.Path != "/" && !o.PathParameters.Any()))
        {
            _options.Progress?.Invoke(list.Path);
            await new RestCollectionCheck(this, description, list).RunAsync();
        }
        if (_options.Answers)
            await new RestAnswersCheck(this, description).RunAsync();
        foreach (var path in _options.Closed)
            await AbsentAsync(path);
    }

    /// <summary>What is closed is told like what is not there.</summary>
    private async Task AbsentAsync(string path)
    {
        var other = new string('q', path.Length);
        var (closed, nothing) = (await GetAsync(UrlOf("/" + path)), await GetAsync(UrlOf("/" + other)));
        var isSame = closed.Status is 404 or 401 && closed.Status == nothing.Status && closed.Text.Replace(path, other) == nothing.Text;
        Add(
            "rest-absent",
            path,
            isSame ? null : $"It answers {closed.Status} '{Short(closed.Text)}', and what is not there {nothing.Status}.",
            "looks as if it were not there",
            2,
            UrlOf("/" + path)
        );
    }

    private static string Short(string text) => text.Length > 160 ? text[..160] + "…" : text;

    /// <summary>The rows of an answer as JSON.</summary>
    private static List<JsonElement> RowsOf(RestResponse answer)
    {
        var root = JsonDocument.Parse(answer.Body).RootElement;
        return [.. (root.ValueKind == JsonValueKind.Array ? root : root.GetProperty("rows")).EnumerateArray()];
    }

    private static string? NextOf(RestResponse answer) =>
        answer
            .Headers.GetValueOrDefault("Link", "")
            .Split(", <")
            .Where(l => l.Contains("rel=\"next\"", StringComparison.Ordinal))
            .Select(l => l.TrimStart('<').Split('>')[0])
            .FirstOrDefault();

    /// <summary>What is checked of a collection.</summary>
    private sealed class RestCollectionCheck(RestVerifier verifier, OpenApiDescription description, DescribedOperation list)
    {
        private string Path => list.Path.TrimStart('/');

        private string Url => verifier.UrlOf("/" + string.Join('/', Path.Split('/').Select(Uri.EscapeDataString)));

        private void Add(string check, string? failure, string success, long examined, string? url = null) =>
            verifier.Add(check, Path, failure, success, examined, url ?? Url);

        public async Task RunAsync()
        {
            var first = await verifier.GetAsync($"{Url}?format=json&limit={ComparedRows}");
            if (first.Status == 400 && first.Text.Contains("filter-required", StringComparison.Ordinal))
            {
                verifier._results.Add(new CheckResult("rest-pages", Path, CheckOutcome.Skipped, "is read with a condition only", 0));
                return;
            }
            if (first.Status != 200)
            {
                Add("rest-pages", $"It answers {first.Status}: {Short(first.Text)}", "", 1);
                return;
            }
            var rows = RowsOf(first);
            Values(rows);
            await PagesAsync();
            await SameAsODataAsync(rows);
            await FormatsAsync(rows, first);
        }

        private void Values(List<JsonElement> rows)
        {
            var schema = description.RowsOf(list.Row!.Value)!.Value;
            var faults = rows.Select(r => description.Misfit(r, schema)).OfType<string>().ToList();
            Add("rest-values", faults.FirstOrDefault(), "fit their schema", rows.Count);
        }

        /// <summary>Whether rows have an address of their own, so that no two are alike.</summary>
        private bool HasKey => description.Operations.Any(o => o.Path.StartsWith($"/{Path}/{{", StringComparison.Ordinal));

        /// <summary>Pages make the whole, each row once, and as many as the total says.</summary>
        private async Task PagesAsync()
        {
            var (seen, total, rows, pages) = (new HashSet<string>(), -1L, 0L, 0);
            var next = (string?)$"{Url}?format=json&total=true&limit=1000";
            while (next is not null && rows < verifier._options.RowLimit)
            {
                var answer = await verifier.GetAsync(next);
                if (answer.Status != 200)
                {
                    Add("rest-pages", $"A page answers {answer.Status}: {Short(answer.Text)}", "", pages, next);
                    return;
                }
                if (answer.Headers.TryGetValue("Total-Count", out var told))
                    total = long.Parse(told, CultureInfo.InvariantCulture);
                foreach (var row in RowsOf(answer))
                {
                    rows++;
                    seen.Add(row.GetRawText());
                }
                pages++;
                next = NextOf(answer);
            }
            var isWhole = next is null;
            var failure =
                HasKey && seen.Count != rows ? $"{rows - seen.Count} rows come twice."
                : !isWhole ? null
                : rows != total ? $"The pages hold {rows} rows, and the total is {total}."
                : null;
            Add("rest-pages", failure, $"{rows} rows on {pages} pages{(isWhole ? "" : ", and more")}", rows);
        }

        /// <summary>The other face gives the same values in the same order.</summary>
        private async Task SameAsODataAsync(List<JsonElement> rows)
        {
            if (!verifier._options.OData.TryGetValue(Path, out var odata))
                return;
            var address = $"{odata}?$top={rows.Count}";
            var answer = await verifier.GetAsync(address, ("Accept", "application/json;metadata=none"), ("OData-MaxVersion", "4.01"));
            if (answer.Status != 200)
            {
                Add("rest-same-as-odata", $"The OData face answers {answer.Status}.", "", 1, address);
                return;
            }
            var others = JsonDocument.Parse(answer.Body).RootElement.GetProperty("value").EnumerateArray().ToList();
            string Plain(JsonElement row) =>
                string.Join('|', row.EnumerateObject().Where(m => !m.Name.Contains('@')).Select(m => Bare(m.Value)));
            var different = rows.Zip(others).FirstOrDefault(p => Plain(p.First) != Plain(p.Second));
            var failure =
                rows.Count != others.Count ? $"The OData face has {others.Count} rows, and this one {rows.Count}."
                : different.First.ValueKind != JsonValueKind.Undefined
                    ? $"{Short(different.First.GetRawText())} is {Short(different.Second.GetRawText())} there."
                : null;
            Add("rest-same-as-odata", failure, "the same rows", rows.Count, address);
        }

        /// <summary>A value without the names of members, which each face may write in its own case.</summary>
        private static string Bare(JsonElement value) =>
            value.ValueKind == JsonValueKind.Object
                ? $"({string.Join('|', value.EnumerateObject().Select(m => Bare(m.Value)))})"
                : value.GetRawText();

        private async Task FormatsAsync(List<JsonElement> rows, RestResponse first)
        {
            var csv = await verifier.GetAsync($"{Url}?format=csv&limit={ComparedRows}");
            var cells = CsvRows(csv.Text);
            Add("rest-csv", CsvFault(csv, cells, rows), "the same rows", rows.Count, $"{Url}?format=csv");
            var isNext = NextOf(csv) is null == NextOf(first) is null;
            var lines = await verifier.GetAsync($"{Url}?format=jsonl&limit={ComparedRows}");
            var linesFit =
                lines.Status == 200
                && lines.Text.Split('\n', StringSplitOptions.RemoveEmptyEntries).SequenceEqual(rows.Select(r => r.GetRawText()));
            var xml = await verifier.GetAsync($"{Url}?format=xml&limit={ComparedRows}");
            var book = await verifier.GetAsync($"{Url}?format=xlsx&limit={ComparedRows}");
            var failure =
                !isNext ? "CSV goes on where JSON does not, or the other way round."
                : !linesFit ? "The rows of JSON Lines are not those of JSON."
                : xml.Status != 200 || Elements(xml.Text) != rows.Count ? "The rows of XML are not those of JSON."
                : book.Status != 200 || !book.Body.AsSpan().StartsWith("PK"u8) ? "XLSX is no workbook."
                : null;
            Add("rest-formats", failure, "JSON Lines, XML and XLSX", rows.Count);
        }

        private static string? CsvFault(RestResponse csv, List<List<string>> cells, List<JsonElement> rows)
        {
            if (csv.Status != 200)
                return $"It answers {csv.Status}: {Short(csv.Text)}";
            if (cells.Count != rows.Count + 1)
                return $"CSV has {cells.Count - 1} rows, and JSON {rows.Count}.";
            var names = cells[0];
            foreach (var (fields, row) in cells.Skip(1).Zip(rows))
            {
                if (
                    row.EnumerateObject().FirstOrDefault(m => !names.Exists(n => n.Split('/')[0] == m.Name)) is
                    { Value.ValueKind: not JsonValueKind.Undefined } lost
                )
                    return $"'{lost.Name}' has no column.";
                var expected = names.ConvertAll(n => Field(row, n));
                if (!fields.SequenceEqual(expected))
                    return $"{Short(string.Join('|', fields))} of CSV is {Short(string.Join('|', expected))} in JSON.";
            }
            return null;
        }

        /// <summary>What a column holds of a row: a value, or the JSON of what has no columns of its own.</summary>
        private static string Field(JsonElement row, string column)
        {
            foreach (var name in column.Split('/'))
            {
                if (row.ValueKind != JsonValueKind.Object || !row.TryGetProperty(name, out var value))
                    return "";
                row = value;
            }
            return row.ValueKind switch
            {
                JsonValueKind.Null => "",
                JsonValueKind.String => row.GetString()!,
                _ => row.GetRawText(),
            };
        }

        private static int Elements(string xml)
        {
            try
            {
                return XDocument.Parse(xml).Root!.Elements().Count();
            }
            catch (XmlException)
            {
                return -1;
            }
        }

        private static List<List<string>> CsvRows(string text)
        {
            var (rows, row, field, isQuoted) = (new List<List<string>>(), new List<string>(), new StringBuilder(), false);
            for (var i = 0; i < text.Length; i++)
            {
                var c = text[i];
                if (isQuoted && c == '"' && i + 1 < text.Length && text[i + 1] == '"')
                {
                    field.Append(c);
                    i++;
                }
                else if (c == '"')
                    isQuoted = !isQuoted;
                else if (isQuoted || c is not (',' or '\r' or '\n'))
                    field.Append(c);
                else if (c != '\r')
                {
                    row.Add(field.ToString());
                    field.Clear();
                    if (c != '\n')
                        continue;
                    rows.Add(row);
                    row = [];
                }
            }
            return rows;
        }
    }

    /// <summary>Whether each described answer is given, and each given one described; nothing is changed by it.</summary>
    private sealed class RestAnswersCheck(RestVerifier verifier, OpenApiDescription description)
    {
        private const string Nothing = "{\"no_property_is_called_so\":1}";

        // These are not called forth: what was changed, what depends on the row, and what comes when much is asked or something breaks.
        private static readonly string[] Elsewhere = ["default", "201", "204", "403", "429", "503"];

        private readonly Dictionary<string, Dictionary<string, JsonElement>?> _rows = [];

        public async Task RunAsync()
        {
            foreach (var operation in description.Operations)
            {
                verifier._options.Progress?.Invoke(operation.Id);
                await TryAsync(operation);
            }
        }

        private async Task TryAsync(DescribedOperation operation)
        {
            if (await PathAsync(operation, isThere: true) is not { } path)
            {
                verifier._results.Add(new CheckResult("rest-answers", operation.Id, CheckOutcome.Skipped, "there is no row to ask for", 0));
                return;
            }
            var missing = await PathAsync(operation, isThere: false);
            var wanted = operation.Statuses.Where(s => !Elsewhere.Contains(s) && !(s == "200" && operation.Method != "GET")).ToHashSet();
            var seen = new HashSet<string>();
            var faults = new List<string>();
            foreach (
                var (status, method, url, headers, content) in Tries(operation, path, missing, await WholeAsync(operation, path))
                    .Where(t => wanted.Contains(t.Status))
            )
            {
                var answer = await verifier._probe.SendAsync(method, url, headers, content, verifier._cancellation);
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
                yield return new Try("400", method, path + "?no_parameter_is_called_so=1", []);
                yield return new Try("406", method, path, [("Accept", "image/png")]);
                // Positions of another order, which has a value or several.
                for (var values = 1; values <= 8; values++)
                    yield return new Try("410", method, $"{path}?after={Position(values)}", []);
                yield break;
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
            if (
                isThere
                && operation.Row is null
                && operation.Method == "GET"
                && (await verifier.GetAsync(verifier.UrlOf(path))).Status == 404
            )
                return null;
            return verifier.UrlOf(path);
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
            var row = answer.Status == 200 ? RowsOf(answer).FirstOrDefault() : default;
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
}
