using System.Text.Json.Nodes;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>
/// Random changes of related entities, one after the other: creating with related ones, changing, replacing, deleting, links, lists of
/// changes, filters, groups. Every
/// engine answers the same and is left with the same rows, and what is refused leaves everything as it was.
/// </summary>
[Collection("writing")]
public sealed class RandomChangesTests(WritingFixture engines) : IAsyncLifetime
{
    private const string Root = "/odata/s/";
    private static readonly string[] Codes = ["A/1", "B", "C", "D'1", "é"];

    private static int Changes => 300 * Soak.Times;

    public Task InitializeAsync() => engines.ResetAsync();

    public Task DisposeAsync() => Task.CompletedTask;

    private sealed record Change(string Method, string Url, JsonNode? Body, params (string Name, string Value)[] Headers);

    private static readonly (string, string) Later = ("OData-Version", "4.01");

    private static int Id(Random random) => random.Next(1, 7);

    private static string Gauge(Random random) => $"Gauges('{Uri.EscapeDataString(Codes[random.Next(Codes.Length)].Replace("'", "''"))}')";

    private static JsonObject Basin(Random random, int depth = 0)
    {
        var basin = new JsonObject { ["id"] = Id(random), ["name"] = $"N{random.Next(9)}" };
        switch (random.Next(4))
        {
            case 0:
                basin["parent_id"] = Id(random);
                break;
            case 1:
                basin["parent@odata.bind"] = $"Basins({Id(random)})";
                break;
            case 2 when depth < 2:
                basin["parent"] = Basin(random, depth + 1);
                break;
        }
        return basin;
    }

    private static JsonObject Tag(Random random) => new() { ["id"] = Id(random), ["label"] = $"L{random.Next(9)}" };

    private static JsonObject Part(Random random) => new() { ["line"] = random.Next(1, 5), ["title"] = $"T{random.Next(9)}" };

    private static List<JsonNode> Some(Random random, Func<Random, JsonNode> make) =>
        [.. Enumerable.Range(0, random.Next(3)).Select(_ => make(random))];

    /// <summary>Some of a gauge's values and relations; of a new one, a change, or an item of a list.</summary>
    private static JsonObject Values(Random random, bool isNew, bool isLater)
    {
        var gauge = new JsonObject();
        if (random.Next(2) == 0)
            gauge["level"] = new JsonNode?[] { 1.25, 0, null, -1, 1.23456, 99999 }[random.Next(6)]
                ?.DeepClone();
        if (random.Next(3) == 0)
            gauge["online"] = random.Next(2) == 0;
        if (random.Next(3) == 0)
            gauge["opened"] = new[] { "2001-02-03", "1999-12-31", "2001-02-30" }[random.Next(3)];
        if (random.Next(4) == 0)
            gauge["place"] = new JsonObject { ["lat"] = random.Next(-90, 90), ["lon"] = 1.5 };
        switch (random.Next(isNew ? 3 : 6))
        {
            case 0:
                gauge["basin_id"] = Id(random);
                break;
            case 1:
                gauge["basin@odata.bind"] = $"Basins({Id(random)})";
                break;
            case 2 when isNew || isLater:
                gauge["basin"] = isNew || random.Next(2) == 0 ? Basin(random) : new JsonObject { ["@id"] = $"Basins({Id(random)})" };
                break;
        }
        if (isNew || isLater)
        {
            if (random.Next(3) == 0)
                gauge["parts"] = new JsonArray([.. Some(random, Part)]);
            if (random.Next(3) == 0)
                gauge["tags"] = new JsonArray([
                    .. Some(random, r => isLater && r.Next(2) == 0 ? new JsonObject { ["@id"] = $"Tags({Id(r)})" } : Tag(r)),
                ]);
        }
        if (!isNew && isLater && random.Next(4) == 0)
        {
            gauge.Remove("tags");
            gauge["tags@delta"] = new JsonArray(
                Tag(random),
                new JsonObject
                {
                    ["@removed"] = new JsonObject { ["reason"] = random.Next(2) == 0 ? "changed" : "deleted" },
                    ["@id"] = $"Tags({Id(random)})",
                }
            );
        }
        return gauge;
    }

    private static Change One(Random random)
    {
        var isLater = random.Next(2) == 0;
        (string, string)[] version = isLater ? [Later] : [];
        switch (random.Next(20))
        {
            case 0:
                return new Change("POST", "Basins", Basin(random), version);
            case 1 or 2:
                var made = Values(random, true, isLater);
                made["code"] = Codes[random.Next(Codes.Length)];
                return new Change("POST", "Gauges", made, version);
            case 3 or 4:
                return new Change("PATCH", Gauge(random), Values(random, false, isLater), version);
            case 5:
                return new Change("PUT", Gauge(random), Values(random, true, isLater), version);
            case 6:
                return new Change(
                    "PATCH",
                    Gauge(random),
                    Values(random, false, isLater),
                    [.. version, ("If-Match", new[] { "W/\"1\"", "W/\"2\"", "*", "W/\"1\",W/\"3\"" }[random.Next(4)])]
                );
            case 7:
                return new Change(
                    "DELETE",
                    new[]
                    {
                        Gauge(random),
                        $"Tags({Id(random)})",
                        $"Basins({Id(random)})",
                        $"{Gauge(random)}/parts(line={random.Next(1, 5)})",
                    }[random.Next(4)],
                    null
                );
            case 8:
                return new Change("POST", $"{Gauge(random)}/tags/$ref", new JsonObject { ["@odata.id"] = $"Tags({Id(random)})" });
            case 9:
                return new Change(
                    "DELETE",
                    random.Next(2) == 0 ? $"{Gauge(random)}/tags({Id(random)})/$ref" : $"{Gauge(random)}/tags/$ref?$id=Tags({Id(random)})",
                    null
                );
            case 10:
                return new Change(
                    "PUT",
                    random.Next(2) == 0 ? $"{Gauge(random)}/basin/$ref" : $"Basins({Id(random)})/parent/$ref",
                    new JsonObject { ["@odata.id"] = $"Basins({Id(random)})" }
                );
            case 11:
                return new Change(
                    "DELETE",
                    random.Next(2) == 0 ? $"{Gauge(random)}/basin/$ref" : $"Basins({Id(random)})/parent/$ref",
                    null
                );
            case 12:
                return new Change("POST", $"{Gauge(random)}/parts", Part(random), version);
            case 13:
                return new Change("POST", $"{Gauge(random)}/tags", Tag(random), version);
            case 14:
                return new Change(
                    "PATCH",
                    $"{Gauge(random)}/parts(line={random.Next(1, 5)})",
                    new JsonObject { ["title"] = $"P{random.Next(9)}" },
                    version
                );
            case 15:
                return new Change(
                    "PATCH",
                    "Tags",
                    new JsonObject
                    {
                        ["@context"] = "#$delta",
                        ["value"] = new JsonArray([
                            .. Some(random, Tag),
                            new JsonObject { ["@removed"] = new JsonObject(), ["@id"] = $"Tags({Id(random)})" },
                        ]),
                    },
                    Later
                );
            case 16:
                return new Change(
                    "PATCH",
                    $"Tags/$filter(@f)/$each?@f=id gt {Id(random)}",
                    new JsonObject { ["label"] = $"E{random.Next(9)}" },
                    Later
                );
            case 17:
                return new Change("DELETE", $"{Gauge(random)}/parts/$filter(@f)/$each?@f=line gt {random.Next(1, 5)}", null, Later);
            case 18:
                return random.Next(2) == 0
                    ? new Change("PUT", $"{Gauge(random)}/level", new JsonObject { ["value"] = random.Next(-1, 9) })
                    : new Change(
                        "DELETE",
                        $"{Gauge(random)}/{new[] { "level", "place", "online", "opened/$value" }[random.Next(4)]}",
                        null
                    );
            default:
                // The insert half of an update, or an update.
                return new Change("PATCH", $"Tags({Id(random)})", new JsonObject { ["label"] = $"U{random.Next(9)}" }, version);
        }
    }

    private static Change Batch(Random random)
    {
        var isWhole = random.Next(3) > 0;
        var requests = Enumerable
            .Range(1, random.Next(2, 5))
            .Select(n =>
            {
                var change = One(random);
                var headers = new JsonObject([
                    .. change.Headers.Select(h => KeyValuePair.Create(h.Name.ToLowerInvariant(), (JsonNode?)h.Value)),
                ]);
                if (change.Body is not null)
                    headers["content-type"] = "application/json";
                var request = new JsonObject
                {
                    ["id"] = $"r{n}",
                    ["method"] = change.Method,
                    ["url"] = change.Url.Replace(" ", "%20"),
                    ["headers"] = headers,
                };
                if (change.Body is not null)
                    request["body"] = change.Body.DeepClone();
                if (isWhole)
                    request["atomicityGroup"] = "g";
                return (JsonNode)request;
            });
        return new Change(
            "POST",
            "$batch",
            new JsonObject { ["requests"] = new JsonArray([.. requests]) },
            random.Next(2) == 0 ? [("Prefer", "continue-on-error")] : []
        );
    }

    private async Task<string> StateAsync(string what)
    {
        var state = new List<string>();
        foreach (
            var target in new[]
            {
                "Basins?$orderby=id",
                "Gauges?$orderby=code&$expand=parts($orderby=line),tags($orderby=id)",
                "Tags?$orderby=id",
            }
        )
        {
            try
            {
                state.Add((await engines.SameAsync("GET", Root + target, null)).Text);
            }
            catch (Xunit.Sdk.XunitException exception)
            {
                Assert.Fail($"The engines differ after {what}\n{exception.Message}");
            }
        }
        return string.Join('\n', state);
    }

    /// <summary>What an answer says, without the words of errors.</summary>
    private static string Told(Answer answer, RunningService service)
    {
        if (answer.Bytes.Length == 0)
            return $"{answer.Status}";
        var json = JsonNode.Parse(answer.Bytes)!;
        return $"{answer.Status} {Told(json)}".Replace(service.Address, "", StringComparison.Ordinal);
    }

    private static string Told(JsonNode? node) =>
        node switch
        {
            JsonObject error when error["error"] is { } fault => $"error {fault["code"]}",
            JsonObject entity => "{" + string.Join(',', entity.Select(p => $"{p.Key}:{Told(p.Value)}")) + "}",
            JsonArray items => "[" + string.Join(',', items.Select(Told)) + "]",
            // A decimal may be written with more zeros.
            JsonValue number when number.GetValueKind() == System.Text.Json.JsonValueKind.Number => decimal.Parse(
                    number.ToJsonString(),
                    System.Globalization.NumberStyles.Float,
                    System.Globalization.CultureInfo.InvariantCulture
                )
                .ToString("0.############", System.Globalization.CultureInfo.InvariantCulture),
            _ => node?.ToJsonString() ?? "null",
        };

    [Theory]
    [InlineData(1)]
    [InlineData(2)]
    public async Task Every_engine_does_the_same_wholly_or_not_at_all(int seed)
    {
        var random = new Random(seed);
        var (done, refused, groups) = (0, 0, 0);
        var before = await StateAsync("nothing");
        for (var n = 0; n < Changes; n++)
        {
            var change = random.Next(6) == 0 ? Batch(random) : One(random);
            var what = $"change {n}: {change.Method} {change.Url} {string.Join(' ', change.Headers)}\n{change.Body?.ToJsonString()}";
            var told = new List<string>();
            Answer? answer = null;
            foreach (var service in engines.Services)
            {
                answer = await service.SendAsync(
                    Root + change.Url.Replace(" ", "%20"),
                    change.Method,
                    change.Body?.ToJsonString(),
                    change.Headers
                );
                Assert.True(answer.Status < 500, $"{what}\n{answer.Status} {answer.Text}");
                told.Add(Told(answer, service));
            }
            Assert.True(told.Distinct().Count() == 1, $"{what}\n{string.Join('\n', told)}");
            var after = await StateAsync(what);
            var statuses =
                change.Url == "$batch"
                    ? [.. answer!.Json.GetProperty("responses").EnumerateArray().Select(r => r.GetProperty("status").GetInt32())]
                    : new[] { answer!.Status };
            Assert.True(Array.TrueForAll(statuses, s => s < 500), $"{what}\n{answer.Text}");
            var isWhole = change.Url != "$batch" || change.Body!["requests"]![0]!["atomicityGroup"] is not null;
            if (isWhole && Array.Exists(statuses, s => s >= 400))
            {
                refused++;
                Assert.True(before == after, $"{what}\n{answer.Text}\nbefore {before}\nafter {after}");
            }
            else
            {
                done++;
                groups += change.Url == "$batch" ? 1 : 0;
            }
            before = after;
        }
        Assert.True(done > Changes / 5 && refused > Changes / 5 && groups > 5, $"{done} done, {refused} refused, {groups} groups");
    }
}
