using System.Text;
using System.Text.Json;

namespace RapidGable.Verification;

/// <summary>All checks of one entity set.</summary>
internal sealed class SetVerifier(
    IServiceProbe probe,
    VerificationOptions options,
    string root,
    CsdlDocument document,
    CsdlSet set,
    CsdlType type,
    List<CheckResult> results,
    CancellationToken cancellation
)
{
    private readonly List<CsdlProperty> _properties = [.. document.PropertiesOf(type)];
    private readonly List<CsdlProperty> _key =
    [
        .. document.KeyOf(type).Select(k => document.PropertiesOf(type).FirstOrDefault(p => p.Name == k)).OfType<CsdlProperty>(),
    ];
    private readonly ValueChecker _values = new(document);
    private readonly Dictionary<string, string> _valueFaults = [];

    public async Task RunAsync()
    {
        var url = root + set.Address;
        if (set.RequiresFilter)
        {
            Skip("set-answers", "it is read with a filter only, as its metadata says");
            return;
        }
        var walk = await WalkAsync(url, checkValues: true);
        if (set.IsFunction && walk.FirstFault?.StartsWith("It answers 403", StringComparison.Ordinal) == true)
        {
            Skip("set-answers", "it needs to know of the caller what nobody told");
            return;
        }
        Add("set-answers", walk.FirstFault, Pages(walk), 1, url);
        if (walk.FirstFault is not null)
            return;
        foreach (var (property, fault) in _valueFaults)
            Add("values-fit", $"{property} {fault}.", "", walk.Rows, url);
        if (_valueFaults.Count == 0)
            Add(
                "values-fit",
                null,
                $"{walk.Values} values of {walk.Rows} rows have their declared type, nullability and facets",
                walk.Values
            );
        // Entities that a function gives have no address below it.
        if (_key.Count == 0 || set.IsFunction)
        {
            await CountAsync(url, walk);
            if (!set.Parameters.IsEmpty)
                await ErrorAsync("error-unknown-argument", $"{url[..^1]},No_such_parameter_here=1)", [400]);
            return;
        }
        Add(
            "keys-unique",
            walk.Repeated is { } repeated ? $"Two rows have the key {repeated}." : null,
            $"{walk.Keys.Count} different keys",
            walk.Rows,
            url
        );
        await KeysAsync(walk);
        await PagingAsync(url, walk);
        await CountAsync(url, walk);
        var payloads = new PayloadVerifier(probe, root, document, set, type, cancellation);
        results.AddRange(await payloads.RunAsync(walk.Samples));
        await ErrorsAsync(url, walk);
    }

    private void Add(string check, string? failure, string success, long examined, string? url = null) =>
        results.Add(
            new CheckResult(
                check,
                set.Name,
                failure is null ? CheckOutcome.Passed : CheckOutcome.Failed,
                failure ?? success,
                examined,
                failure is null ? null : url
            )
        );

    private static string Pages(Walk walk) => walk.Pages == 1 ? "1 page" : $"{walk.Pages} pages";

    private void Skip(string check, string reason) => results.Add(new CheckResult(check, set.Name, CheckOutcome.Skipped, reason, 0));

    /// <summary>What following the next links gave.</summary>
    private sealed class Walk
    {
        public HashSet<string> Keys { get; } = new(StringComparer.Ordinal);

        public List<string> Samples { get; } = [];

        public long Rows { get; set; }

        public long Values { get; set; }

        public int Pages { get; set; }

        public string? Repeated { get; set; }

        /// <summary>The first page did not come.</summary>
        public string? FirstFault { get; set; }

        /// <summary>A later page did not come, or a link was wrong.</summary>
        public string? LinkFault { get; set; }

        public string? FaultUrl { get; set; }

        public bool IsWhole { get; set; } = true;
    }

    /// <param name="prefer">Sent with every page; empty = nothing.</param>
    private async Task<Walk> WalkAsync(string url, bool checkValues, string prefer = "")
    {
        var walk = new Walk();
        var seenLinks = new HashSet<string>(StringComparer.Ordinal);
        for (string? next = url; next is not null; )
        {
            cancellation.ThrowIfCancellationRequested();
            if (walk.Rows >= options.RowLimit)
            {
                walk.IsWhole = false;
                break;
            }
            if (!seenLinks.Add(next))
            {
                (walk.LinkFault, walk.FaultUrl) = ("A next link leads back to a page that was read already.", next);
                break;
            }
            var response = await probe.GetAsync(next, "application/json", prefer, cancellation);
            var fault = Answers.Fault(response);
            string? following = null;
            if (fault is null)
                fault = ReadPage(response, walk, checkValues, out following);
            if (fault is not null)
            {
                if (walk.Pages == 0)
                    walk.FirstFault = fault;
                else
                    walk.LinkFault = $"Page {walk.Pages + 1} does not come: {fault}";
                walk.FaultUrl = next;
                break;
            }
            walk.Pages++;
            if (walk.Pages % 50 == 0)
                options.Progress?.Invoke($"{set.Name}, {walk.Rows:N0} rows");
            next =
                following is null ? null
                : new Uri(new Uri(next), following).AbsoluteUri is var absolute && following.StartsWith("http", StringComparison.Ordinal)
                    ? following
                : absolute;
        }
        return walk;
    }

    private string? ReadPage(ProbeResponse response, Walk walk, bool checkValues, out string? nextLink)
    {
        nextLink = null;
        try
        {
            using var json = JsonDocument.Parse(response.Body);
            foreach (var name in new[] { "@odata.nextLink", "@nextLink" })
            {
                if (json.RootElement.TryGetProperty(name, out var link))
                    nextLink = link.GetString();
            }
            foreach (var row in json.RootElement.GetProperty("value").EnumerateArray())
            {
                if (walk.Rows >= options.RowLimit)
                {
                    walk.IsWhole = false;
                    break;
                }
                walk.Rows++;
                ReadRow(row, walk, checkValues);
            }
            return null;
        }
        catch (Exception exception) when (exception is JsonException or KeyNotFoundException or InvalidOperationException)
        {
            return "It is not a collection, which is a JSON object with an array 'value'.";
        }
    }

    private void ReadRow(JsonElement row, Walk walk, bool checkValues)
    {
        if (KeyPredicate(row) is { } key)
        {
            if (!walk.Keys.Add(key))
                walk.Repeated ??= key;
            // Rows from all over the set, not only from its start: the distance doubles as the set goes on.
            else if (walk.Samples.Count < options.RowsByKey || walk.Rows % Math.Max(1, walk.Rows / options.RowsByKey) == 0)
                Sample(walk, key);
        }
        if (!checkValues)
            return;
        foreach (var property in _properties.Where(p => p.ItemType != "Edm.Stream"))
        {
            walk.Values++;
            var fault =
                row.TryGetProperty(property.Name, out var value) ? _values.Check(property, value)
                : type.IsOpen ? null
                : "is missing";
            if (fault is not null && _valueFaults.Count < 20)
                _valueFaults.TryAdd(property.Name, $"{fault} (in {set.Name}{KeyPredicate(row)})");
        }
    }

    private void Sample(Walk walk, string key)
    {
        if (walk.Samples.Count == options.RowsByKey)
            walk.Samples.RemoveAt((int)(walk.Rows % options.RowsByKey));
        walk.Samples.Add(key);
    }

    /// <summary>The row's key as it stands in an address; null when a part of it is missing.</summary>
    private string? KeyPredicate(JsonElement row)
    {
        var parts = new List<string>(_key.Count);
        foreach (var property in _key)
        {
            if (!row.TryGetProperty(property.Name, out var value) || Literal(property, value) is not { } literal)
                return null;
            parts.Add(_key.Count == 1 ? literal : $"{property.Name}={literal}");
        }
        return $"({string.Join(',', parts)})";
    }

    private string? Literal(CsdlProperty property, JsonElement value)
    {
        var text = value.ValueKind == JsonValueKind.String ? value.GetString()! : value.GetRawText();
        if (value.ValueKind is JsonValueKind.Null or JsonValueKind.Object or JsonValueKind.Array)
            return null;
        var kind = document.FindType(property.Type);
        return (kind?.Kind == CsdlTypeKind.Definition ? kind.Underlying : property.Type) switch
        {
            "Edm.String" => $"'{Uri.EscapeDataString(text.Replace("'", "''", StringComparison.Ordinal))}'",
            "Edm.Duration" => $"duration'{text}'",
            _ when kind?.Kind == CsdlTypeKind.Enum => $"{property.Type}'{text}'",
            _ => Uri.EscapeDataString(text),
        };
    }

    private async Task KeysAsync(Walk walk)
    {
        var failures = new List<(string Message, string Url)>();
        foreach (var key in walk.Samples)
        {
            var url = root + Uri.EscapeDataString(set.Name) + key;
            var response = await probe.GetAsync(url, "application/json", cancellation);
            var fault = Answers.Fault(response);
            if (fault is null)
            {
                try
                {
                    using var json = JsonDocument.Parse(response.Body);
                    if (KeyPredicate(json.RootElement) is var found && found != key)
                        fault = $"It answers with the entity {found}.";
                }
                catch (JsonException)
                {
                    fault = "The answer is not JSON.";
                }
            }
            if (fault is not null)
                failures.Add(($"{set.Name}{Uri.UnescapeDataString(key)}: {fault}", url));
        }
        var more = failures.Count > 1 ? $" And {failures.Count - 1} more." : "";
        Add(
            "found-by-key",
            failures.Count > 0 ? failures[0].Message + more : null,
            $"{walk.Samples.Count} rows found again by their key",
            walk.Samples.Count,
            failures.Count > 0 ? failures[0].Url : null
        );
    }

    private const int LargeSet = 2_000;

    private async Task PagingAsync(string url, Walk walk)
    {
        if (walk.LinkFault is { } fault)
        {
            Add("paging", fault, "", walk.Rows, walk.FaultUrl);
            return;
        }
        if (!walk.IsWhole)
        {
            Skip("paging", $"stopped after {options.RowLimit} rows; raise --rows to walk to the end");
            return;
        }
        // Once more in an order with ties and nulls, where pages are easily cut wrong.
        var sortable = set.IsSortable ? _properties.FindAll(p => !set.NotSortable.Contains(p.Name)) : [];
        var by = sortable.Find(p =>
            !_key.Contains(p) && !p.IsCollection && p.ItemType is "Edm.String" or "Edm.Date" or "Edm.Boolean" && p.IsNullable
        )
            ?? sortable.Find(p =>
                !_key.Contains(p) && !p.IsCollection && p.ItemType is "Edm.String" or "Edm.Int64" or "Edm.Int32" or "Edm.Date"
            );
        if (by is null)
        {
            Add("paging", null, $"{walk.Rows} rows over {Pages(walk)}", walk.Rows);
            return;
        }
        var orderedUrl =
            $"{url}?$select={string.Join(',', _key.Select(k => Uri.EscapeDataString(k.Name)))}&$orderby="
            + $"{Uri.EscapeDataString(by.Name)}%20desc";
        // The database may sort the whole set for each page, so those of a large one are larger.
        var ordered = await WalkAsync(orderedUrl, checkValues: false, walk.Rows > LargeSet ? "maxpagesize=1000" : "");
        var failure = ordered.FirstFault
            ?? ordered.LinkFault
            ?? (ordered.Repeated is { } twice ? $"In the order of {by.Name}, the row {twice} comes twice." : null)
            ?? (walk.Keys.Except(ordered.Keys).FirstOrDefault() is { } lost ? $"In the order of {by.Name}, the row {lost} is lost." : null)
            ?? (
                ordered.Keys.Except(walk.Keys).FirstOrDefault() is { } extra
                    ? $"In the order of {by.Name}, the row {extra} appears that was not there before."
                    : null
            );
        Add(
            "paging",
            failure,
            $"{walk.Rows} rows over {Pages(walk)}, and the same by {by.Name} descending",
            walk.Rows + ordered.Rows,
            ordered.FaultUrl ?? orderedUrl
        );
    }

    private async Task CountAsync(string url, Walk walk)
    {
        if (!walk.IsWhole || walk.LinkFault is not null)
        {
            Skip("count", "not all rows were walked");
            return;
        }
        var countUrl = url + "/$count";
        var response = await probe.GetAsync(countUrl, null, cancellation);
        var text = Encoding.UTF8.GetString(response.Body).Trim('\uFEFF');
        string? failure;
        if (response.Status == 501)
        {
            Skip("count", "the service does not offer $count");
            failure = null;
        }
        else
        {
            failure = Answers.Fault(response)
                ?? (
                    !long.TryParse(text, out var count) ? $"It answers '{text[..Math.Min(40, text.Length)]}', not a number."
                    : count != walk.Rows ? $"It says {count}, and {walk.Rows} rows were walked."
                    : null
                );
            Add("count", failure, $"{walk.Rows} rows, as /$count says", 1, countUrl);
        }
        if (options.DatabaseCount is null || await options.DatabaseCount(set.Name, cancellation) is not { } stored)
            return;
        Add(
            "database-count",
            stored != walk.Rows ? $"The database holds {stored} rows, and {walk.Rows} were served." : null,
            $"{stored} rows in the database",
            1,
            url
        );
    }

    private async Task ErrorsAsync(string url, Walk walk)
    {
        await ErrorAsync("error-unknown-property", $"{url}?$filter=No_such_property_here%20eq%201", [400]);
        if (walk.Samples.Count > 0)
            await ErrorAsync(
                "error-unknown-segment",
                root + Uri.EscapeDataString(set.Name) + walk.Samples[0] + "/No_such_property_here",
                [404]
            );
        if (UnknownKey(walk) is { } key)
            await ErrorAsync("error-unknown-key", root + Uri.EscapeDataString(set.Name) + key, [404]);
    }

    /// <summary>A well-formed key that no row has; null when the types do not let us make one.</summary>
    private string? UnknownKey(Walk walk)
    {
        var parts = _key.Select(p =>
                (
                    p.Name,
                    Value: p.Type switch
                    {
                        "Edm.String" => p.Number("MaxLength") is < 12 ? "'~'" : "'no such key ~'",
                        "Edm.Guid" => "00000000-0000-4000-8000-00000000abcd",
                        "Edm.Int64" or "Edm.Int32" => "-2147483641",
                        "Edm.Int16" => "-32761",
                        "Edm.Date" => "0001-01-02",
                        "Edm.DateTimeOffset" => "0001-01-02T00:00:00Z",
                        _ => null,
                    }
                )
            )
            .ToList();
        if (parts.Exists(p => p.Value is null) || !walk.IsWhole)
            return null;
        var key = parts.Count == 1 ? $"({parts[0].Value})" : $"({string.Join(',', parts.Select(p => $"{p.Name}={p.Value}"))})";
        return walk.Keys.Contains(key) ? null : key.Replace(" ", "%20", StringComparison.Ordinal);
    }

    private async Task ErrorAsync(string check, string url, int[] statuses)
    {
        var response = await probe.GetAsync(url, "application/json", cancellation);
        Add(check, Answers.ErrorFault(response, statuses), $"answers {response.Status} with an error body", 1, url);
    }
}
