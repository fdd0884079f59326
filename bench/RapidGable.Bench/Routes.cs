using System.Globalization;
using System.Text.Json;

/// <summary>One question in the words of the service and of the program written by hand, over values from all of the data.</summary>
/// <param name="Targets">What is asked of the service and of the others, in pairs that give the same rows.</param>
/// <param name="Face">The face of the service that is asked.</param>
internal sealed record Route(string Name, IReadOnlyList<(string Gable, string ByHand)> Targets, string Face = "odata");

/// <summary>The questions that are compared.</summary>
internal static class Routes
{
    private const int Variants = 500;

    /// <param name="root">The service's address, which is asked for positions of deep pages.</param>
    public static async Task<List<Route>> OfAsync(HttpClient client, string root, int readings)
    {
        using var counted = JsonDocument.Parse(
            await client.GetStringAsync(new Uri(root + "Sensors?$select=station_id,sensor_no&$top=5000"))
        );
        var sensors = counted.RootElement.GetProperty("value").EnumerateArray().ToList();
        var deep = await DeepAsync(client, root, readings);
        return
        [
            Varied("one entity by key", i => ($"Stations({1 + (i % 120)})", $"station/{1 + (i % 120)}")),
            Varied("filtered, ordered page of 100 with count", i =>
            {
                var (on, after) = (i % 2 == 0 ? "true" : "false", i % 40);
                return (
                    $"Stations?$filter=telemetered%20eq%20{on}%20and%20id%20gt%20{after}&$orderby=name&$top=100&$count=true",
                    $"stations?on={on}&after={after}"
                );
            }),
            Varied("page of 100 with its parent", i =>
                ($"Stations?$filter=id%20gt%20{i % 20}&$top=100&$expand=catchment", $"stations-with-catchment?after={i % 20}")
            ),
            Varied("page of 50 with their sensors", i =>
                ($"Stations?$filter=id%20gt%20{i % 70}&$top=50&$expand=Sensors", $"stations-with-sensors?after={i % 70}")
            ),
            Varied("one parent with its 50 newest children", i =>
            {
                var sensor = sensors[i * 7 % sensors.Count];
                var (station, number) = (sensor.GetProperty("station_id").GetInt64(), sensor.GetProperty("sensor_no").GetInt64());
                return (
                    $"Sensors(station_id={station},sensor_no={number})?$expand=Readings($orderby=taken_at%20desc;$top=50)",
                    $"sensor-with-newest?station={station}&sensor={number}"
                );
            }),
            Varied("page of 100 of readings", i =>
            {
                var after = i * 7919L % (readings - 200);
                return ($"Readings?$filter=id%20gt%20{after}&$top=100", $"readings?after={after}&rows=100");
            }),
            new Route("deep page by position", deep),
            .. Rest(readings),
        ];
    }

    /// <summary>Questions to the plain REST face.</summary>
    private static IEnumerable<Route> Rest(int readings)
    {
        long After(int i) => i * 7919L % (readings - 2_000);
        yield return Varied("rest: one row by key", i => ($"Stations/{1 + (i % 120)}", $"station/{1 + (i % 120)}")) with
        {
            Face = "rest",
        };
        yield return Varied("rest: chosen, sorted page of 100 with total", i =>
        {
            var (on, after) = (i % 2 == 0 ? "true" : "false", i % 40);
            return ($"Stations?telemetered={on}&id={after + 1}..&sort=name&limit=100&total=true", $"stations?on={on}&after={after}");
        }) with
        {
            Face = "rest",
        };
        yield return Varied("rest: query with a parameter", i =>
        {
            var code = string.Create(CultureInfo.InvariantCulture, $"AB-{1 + (i % 120):000}");
            return ($"StationSummary?station={code}", $"summary?station={code}");
        }) with
        {
            Face = "rest",
        };
        yield return Varied("rest: page of 100 of readings", i =>
            ($"Readings?id={After(i) + 1}..&limit=100", $"readings?after={After(i)}&rows=100")
        ) with
        {
            Face = "rest",
        };
        yield return Varied("rest: page of 1,000 of readings as CSV", i =>
            ($"Readings?id={After(i) + 1}..&limit=1000&format=csv", $"readings-csv?after={After(i)}&rows=1000")
        ) with
        {
            Face = "rest",
        };
    }

    private static Route Varied(string name, Func<int, (string, string)> target) =>
        new(name, [.. Enumerable.Range(0, Variants).Select(target)]);

    /// <summary>Next links from all over the set, without the filter by which they were found.</summary>
    private static async Task<List<(string, string)>> DeepAsync(HttpClient client, string root, int readings)
    {
        var targets = new List<(string, string)>();
        for (var i = 0; i < 100; i++)
        {
            var before = readings / 2 + (i * 9_973L % (readings / 2 - 1_000));
            var page = await client.GetStringAsync(
                new Uri(string.Create(CultureInfo.InvariantCulture, $"{root}Readings?$filter=id%20gt%20{before}"))
            );
            using var json = JsonDocument.Parse(page);
            var link = json.RootElement.GetProperty("@odata.nextLink").GetString()!;
            var last = json.RootElement.GetProperty("value").EnumerateArray().Last().GetProperty("id").GetInt64();
            var position = link[link.IndexOf("$skiptoken=", StringComparison.Ordinal)..];
            targets.Add(("Readings?" + position, $"readings?after={last}&rows=100"));
        }
        return targets;
    }
}
