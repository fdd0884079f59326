using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Xml;
using System.Xml.Linq;

namespace RapidGable.Verification;

/// <summary>What is checked of a collection.</summary>
internal sealed class RestCollectionCheck(RestVerifier verifier, OpenApiDescription description, DescribedOperation list)
{
    private string Path => list.Path.TrimStart('/');

    private string Url => verifier.UrlOf(list.Called().Path);

    /// <summary>The address with what it is called with, and with more.</summary>
    private string With(string options) => $"{Url}?{(list.Called().Query is { Length: > 0 } query ? $"{query}&" : "")}{options}";

    private void Add(string check, string? failure, string success, long examined, string? url = null) =>
        verifier.Add(check, Path, failure, success, examined, url ?? Url);

    public async Task RunAsync()
    {
        if (description.RowsOf(list.Row!.Value) is null)
        {
            await SingleAsync();
            return;
        }
        var first = await verifier.GetAsync(With($"format=json&limit={RestVerifier.ComparedRows}"));
        if (first.Status == 403 && list.Statuses.Contains("403"))
        {
            verifier.Add(new CheckResult("rest-pages", Path, CheckOutcome.Skipped, "needs to know of the caller what nobody told", 0));
            return;
        }
        if (first.Status == 400 && first.Text.Contains("filter-required", StringComparison.Ordinal))
        {
            verifier.Add(new CheckResult("rest-pages", Path, CheckOutcome.Skipped, "is read with a condition only", 0));
            return;
        }
        if (first.Status != 200)
        {
            Add("rest-pages", $"It answers {first.Status}: {RestVerifier.Short(first.Text)}", "", 1);
            return;
        }
        var rows = RestVerifier.RowsOf(first);
        Values(rows);
        if (list.QueryParameters.Contains("total"))
        {
            await PagesAsync();
            await SameAsODataAsync(rows);
        }
        await FormatsAsync(rows, first);
    }

    /// <summary>A query that gives one row, or none.</summary>
    private async Task SingleAsync()
    {
        var answer = await verifier.GetAsync(With("format=json"));
        if (answer.Status is 403 or 404)
            verifier.Add(new CheckResult("rest-values", Path, CheckOutcome.Skipped, $"there is no row; it answers {answer.Status}", 0));
        else if (answer.Status != 200)
            Add("rest-values", $"It answers {answer.Status}: {RestVerifier.Short(answer.Text)}", "", 1);
        else
            Add("rest-values", description.Misfit(JsonDocument.Parse(answer.Body).RootElement, list.Row!.Value), "fits its schema", 1);
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
        var next = (string?)With("format=json&total=true&limit=1000");
        while (next is not null && rows < verifier.Options.RowLimit)
        {
            var answer = await verifier.GetAsync(next);
            if (answer.Status != 200)
            {
                Add("rest-pages", $"A page answers {answer.Status}: {RestVerifier.Short(answer.Text)}", "", pages, next);
                return;
            }
            if (answer.Headers.TryGetValue("Total-Count", out var told))
                total = long.Parse(told, CultureInfo.InvariantCulture);
            foreach (var row in RestVerifier.RowsOf(answer))
            {
                rows++;
                seen.Add(row.GetRawText());
            }
            pages++;
            next = RestVerifier.NextOf(answer);
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
        if (!verifier.Options.OData.TryGetValue(Path, out var odata))
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
                ? $"{RestVerifier.Short(different.First.GetRawText())} is {RestVerifier.Short(different.Second.GetRawText())} there."
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
        var csv = await verifier.GetAsync(With($"format=csv&limit={RestVerifier.ComparedRows}"));
        var cells = CsvRows(csv.Text);
        Add("rest-csv", CsvFault(csv, cells, rows), "the same rows", rows.Count, With("format=csv"));
        var isNext = RestVerifier.NextOf(csv) is null == RestVerifier.NextOf(first) is null;
        var lines = await verifier.GetAsync(With($"format=jsonl&limit={RestVerifier.ComparedRows}"));
        var linesFit =
            lines.Status == 200
            && lines.Text.Split('\n', StringSplitOptions.RemoveEmptyEntries).SequenceEqual(rows.Select(r => r.GetRawText()));
        var xml = await verifier.GetAsync(With($"format=xml&limit={RestVerifier.ComparedRows}"));
        var book = await verifier.GetAsync(With($"format=xlsx&limit={RestVerifier.ComparedRows}"));
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
            return $"It answers {csv.Status}: {RestVerifier.Short(csv.Text)}";
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
            {
                var (found, wanted) = (RestVerifier.Short(string.Join('|', fields)), RestVerifier.Short(string.Join('|', expected)));
                return $"{found} of CSV is {wanted} in JSON.";
            }
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
