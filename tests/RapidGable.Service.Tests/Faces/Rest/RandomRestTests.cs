using System.Globalization;
using System.Text.Json;
using CsvHelper;
using CsvHelper.Configuration;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Random questions in the words of both faces give the same rows, as JSON, page by page, and as CSV, on every engine.</summary>
[Collection("engines")]
public sealed class RandomRestTests(EnginesFixture engines)
{
    /// <param name="One">Relations to one row, with a property of it.</param>
    /// <param name="Many">Relations to several, with a property of them.</param>
    private sealed record Asked(
        string Set,
        string[] Properties,
        (string Name, string Property)[] One,
        (string Name, string Property)[] Many
    );

    private static readonly Asked[] Sets =
    [
        new(
            "Stations",
            ["id", "code", "name", "catchment_id", "opened_on", "closed_on", "telemetered", "datum_m", "changed_at"],
            [("catchment", "name")],
            [("Sensors", "kind")]
        ),
        new("Sensors", ["station_id", "sensor_no", "kind", "unit", "firmware"], [("station", "code")], []),
        new("Readings", ["id", "station_id", "taken_at", "value", "quality", "note"], [("Sensor", "unit")], []),
        new(
            "Visits",
            ["id", "station_id", "technician_id", "planned_for", "done_at", "purpose"],
            [("station", "name"), ("technician", "full_name")],
            [("VisitTasks", "task")]
        ),
    ];

    private static readonly string[] Texts = ["code", "name", "kind", "unit", "firmware", "quality", "note", "purpose"];

    /// <summary>A question, as parameters and as options.</summary>
    private sealed record Question(string Set, List<string> Rest, List<string> OData, bool IsFlat)
    {
        public override string ToString() => $"/rest/s/{Set}?{string.Join('&', Rest)}  /odata/s/{Set}?{string.Join('&', OData)}";
    }

    [Fact]
    public async Task Both_faces_give_the_same_rows()
    {
        var random = new Random(2031);
        var rows = new Dictionary<string, List<JsonElement>>();
        foreach (var asked in Sets)
            rows[asked.Set] = [.. (await ODataAsync(engines.Services[0], asked.Set, "$top=100")).GetProperty("value").EnumerateArray()];
        var found = 0;
        for (var i = 0; i < 200 * Soak.Times; i++)
        {
            var asked = Sets[random.Next(Sets.Length)];
            var question = Make(asked, rows[asked.Set], random);
            var service = engines.Services[i % 3];
            var expected = await ODataAsync(service, asked.Set, string.Join('&', question.OData));
            var rest = await service.SendAsync($"/rest/s/{asked.Set}?{Encoded(question.Rest)}");
            Assert.True(rest.Status == 200, $"{question}: {rest.Text}");
            var written = expected.GetProperty("value").EnumerateArray().Select(Plain).ToList();
            Assert.Equal(written, rest.Json.GetProperty("rows").EnumerateArray().Select(Plain));
            if (expected.TryGetProperty("@count", out var count))
                Assert.Equal(count.GetInt64(), rest.Json.GetProperty("total").GetInt64());
            await SameAsCsvAsync(service, question, rest.Json);
            if (i % 5 == 0)
                await SameInPagesAsync(service, question, expected);
            found += written.Count;
        }
        Assert.True(found > 1_000, $"{found} rows were found.");
    }

    private static Question Make(Asked asked, List<JsonElement> rows, Random random)
    {
        T Any<T>(IReadOnlyList<T> all) => all[random.Next(all.Count)];
        var (rest, odata, conditions) = (new List<string>(), new List<string>(), new List<string>());
        foreach (var property in asked.Properties.OrderBy(_ => random.Next()).Take(random.Next(3)))
        {
            var (parameter, condition) = Condition(property, Any(rows).GetProperty(property), Any(rows).GetProperty(property), random);
            rest.Add($"{property}={parameter}");
            conditions.Add(condition);
        }
        if (random.Next(4) == 0)
        {
            var (relation, property) = Any(asked.One);
            rest.Add($"filter={relation}/{property} ne null");
            conditions.Add($"({relation}/{property} ne null)");
        }
        if (conditions.Count > 0)
            odata.Add("$filter=" + string.Join(" and ", conditions));
        var sorted = asked
            .Properties.OrderBy(_ => random.Next())
            .Take(random.Next(3))
            .Select(p => (Name: p, IsDown: random.Next(2) == 0))
            .ToList();
        if (sorted.Count > 0)
        {
            rest.Add("sort=" + string.Join(',', sorted.Select(s => (s.IsDown ? "-" : "") + s.Name)));
            odata.Add("$orderby=" + string.Join(',', sorted.Select(s => s.Name + (s.IsDown ? " desc" : ""))));
        }
        var fields = random.Next(2) == 0 ? [] : asked.Properties.OrderBy(_ => random.Next()).Take(1 + random.Next(3)).ToList();
        var related = asked.One.Concat(asked.Many).OrderBy(_ => random.Next()).Take(random.Next(3)).ToList();
        var narrowed = fields.Count > 0 && random.Next(2) == 0 ? related.Take(1).ToList() : [];
        if (fields.Count > 0)
        {
            rest.Add("fields=" + string.Join(',', fields.Concat(narrowed.Select(n => $"{n.Name}/{n.Property}"))));
            odata.Add("$select=" + string.Join(',', fields));
        }
        if (related.Count > 0)
        {
            rest.Add("include=" + string.Join(',', related.Select(r => r.Name)));
            odata.Add(
                "$expand=" + string.Join(',', related.Select(r => narrowed.Contains(r) ? $"{r.Name}($select={r.Property})" : r.Name))
            );
        }
        var (first, size) = (1 + random.Next(20), 1 + random.Next(30));
        if (random.Next(2) == 0)
        {
            rest.Add($"rows={first}..{first + size - 1}");
            odata.Add($"$skip={first - 1}&$top={size}");
        }
        else
        {
            rest.Add($"limit={size}");
            odata.Add($"$top={size}");
        }
        if (random.Next(3) == 0)
        {
            rest.Add("total=true");
            odata.Add("$count=true");
        }
        return new Question(asked.Set, rest, odata, !related.Exists(asked.Many.Contains));
    }

    /// <summary>A condition about a property, from two of its values.</summary>
    private static (string Parameter, string Condition) Condition(string property, JsonElement one, JsonElement other, Random random)
    {
        if (one.ValueKind == JsonValueKind.Null || other.ValueKind == JsonValueKind.Null)
            return random.Next(2) == 0 ? ("null", $"({property} eq null)") : ("!null", $"({property} ne null)");
        var isText = Texts.Contains(property);
        string Term(JsonElement value) =>
            isText ? $"\"{value.GetString()!.Replace("\"", "\"\"")}\""
            : value.ValueKind == JsonValueKind.String ? value.GetString()!
            : value.GetRawText();
        string Literal(JsonElement value) => isText ? $"'{value.GetString()!.Replace("'", "''")}'" : Term(value);
        var (a, b, x, y) = (Term(one), Term(other), Literal(one), Literal(other));
        var isRanged =
            one.ValueKind is not (JsonValueKind.True or JsonValueKind.False)
            && !property.EndsWith("technician_id", StringComparison.Ordinal);
        return (random.Next(5), isText, isRanged) switch
        {
            (0, _, _) => (a, $"({property} eq {x})"),
            (1, true, _) => ($"{one.GetString()![..1]}*", $"startswith({property},'{one.GetString()![..1]}')"),
            (2, _, true) => ($"{a}..{b}", $"({property} ge {x} and {property} le {y})"),
            (3, _, true) => ($"{a}..", $"({property} ge {x})"),
            (4, _, _) => ($"!{a},{b}", $"({property} eq null or not ({property} eq {x} or {property} eq {y}))"),
            _ => ($"{a},{b}", $"({property} eq {x} or {property} eq {y})"),
        };
    }

    /// <summary>A row without what a face says about it, so that only values are left.</summary>
    private static string Plain(JsonElement value) =>
        value.ValueKind switch
        {
            JsonValueKind.Object when value.TryGetProperty("rows", out var rows) => Plain(rows),
            JsonValueKind.Object => $"{{{string.Join(',', value.EnumerateObject().Where(m => !m.Name.Contains('@')).Select(Plain))}}}",
            JsonValueKind.Array => $"[{string.Join(',', value.EnumerateArray().Select(Plain))}]",
            _ => value.GetRawText(),
        };

    private static string Plain(JsonProperty member) => $"{member.Name}:{Plain(member.Value)}";

    /// <summary>The columns of CSV are the values of JSON.</summary>
    private static async Task SameAsCsvAsync(RunningService service, Question question, JsonElement json)
    {
        if (!question.IsFlat)
            return;
        var answer = await service.SendAsync($"/rest/s/{question.Set}?{Encoded(question.Rest)}&format=csv");
        Assert.True(answer.Status == 200, $"{question}: {answer.Text}");
        var settings = new CsvConfiguration(CultureInfo.InvariantCulture) { IgnoreBlankLines = false };
        using var csv = new CsvParser(new StringReader(answer.Text), settings);
        Assert.True(await csv.ReadAsync());
        var names = csv.Record!;
        foreach (var row in json.GetProperty("rows").EnumerateArray())
        {
            Assert.True(await csv.ReadAsync(), $"{question}");
            Assert.True(
                names.Select(n => Cell(row, n)).SequenceEqual(csv.Record!),
                $"{question}: {string.Join(',', csv.Record!)} is {row}"
            );
        }
        Assert.False(await csv.ReadAsync());
    }

    private static string Cell(JsonElement row, string column)
    {
        foreach (var name in column.Split('/'))
        {
            if (row.ValueKind == JsonValueKind.Null)
                return "";
            row = row.GetProperty(name);
        }
        return row.ValueKind is JsonValueKind.Null ? ""
            : row.ValueKind == JsonValueKind.String ? row.GetString()!
            : row.GetRawText();
    }

    /// <summary>Pages of three make the same rows.</summary>
    private static async Task SameInPagesAsync(RunningService service, Question question, JsonElement whole)
    {
        var top = question.OData.Find(o => o.StartsWith("$top", StringComparison.Ordinal));
        if (top is null)
            return;
        var wanted = whole.GetProperty("value").EnumerateArray().Select(Plain).ToList();
        var (rows, next) = (
            new List<string>(),
            (string?)$"/rest/s/{question.Set}?{Encoded(question.Rest.Where(r => !r.StartsWith("limit")))}&limit=3"
        );
        while (next is not null && rows.Count < wanted.Count)
        {
            var page = (await service.SendAsync(next)).Json;
            rows.AddRange(page.GetProperty("rows").EnumerateArray().Select(Plain));
            next = page.TryGetProperty("next", out var link) ? link.GetString() : null;
        }
        Assert.Equal(wanted, rows.Take(wanted.Count));
    }

    private static string Encoded(IEnumerable<string> parameters) =>
        string.Join('&', parameters.Select(p => p.Split('=', 2) is var parts ? $"{parts[0]}={Uri.EscapeDataString(parts[1])}" : ""));

    private static async Task<JsonElement> ODataAsync(RunningService service, string set, string options)
    {
        var target = $"/odata/s/{set}?{Encoded(options.Split('&'))}";
        var answer = await service.SendAsync(target, "GET", ("Accept", "application/json;metadata=none"), ("OData-MaxVersion", "4.01"));
        Assert.True(answer.Status == 200, $"{options}: {answer.Text}");
        return answer.Json;
    }
}
