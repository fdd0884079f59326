using System.Diagnostics;
using System.Globalization;
using System.Security.Cryptography;

namespace RapidGable.Service.Tests;

/// <summary>
/// Mutated requests over both faces, queries and statements, on every engine and one service each: nothing fails but by a declared limit,
/// nothing is dropped, and afterwards the first thousand are answered as before.
/// </summary>
[Collection("engines"), Trait("Category", "Attack")]
public sealed class HostileRequestTests(EnginesFixture engines)
{
    private const int AtOnce = 8;
    private const int Remembered = 1_000;

    /// <summary>Codes of 503 that a request can bring upon itself.</summary>
    private static readonly string[] OwnLimits = ["memory", "source-too-slow", "source-busy"];

    private static readonly string[] Rest =
    [
        "/rest/s/Stations?filter=id eq 1 or name eq 'Ashford Weir'&sort=-name&limit=3&fields=id,name",
        "/rest/s/Stations?filter=length(name) add id mul 2 gt 10 and not contains(code,'AB')&total=true",
        "/rest/s/Stations?name=A*,*Weir&opened_on=2010-01-01..2012-12-31&rows=3..9",
        "/rest/s/Stations?search=weir or mill&include=catchment&limit=2",
        "/rest/s/Stations/1?fields=id,datum_m",
        "/rest/s/Readings?value=1.5..&station_id=!null&limit=2&format=csv",
        "/rest/s/Sensors/station_id=1,sensor_no=1",
        "/rest/s/Stations?filter=ceiling(datum_m) mod 3 eq 1 and 100000000000000000000000000000 gt datum_m&limit=1",
        "/rest/s/Stations?filter=case(id gt 5:name,true:concat(code,name)) ne 'x'&limit=1",
        "/rest/asked/openapi.json",
    ];

    private static readonly string[] OData =
    [
        "/odata/s/Stations?$filter=id eq 1 or name eq 'Ashford Weir'&$orderby=name desc&$top=3&$select=id,name",
        "/odata/s/Stations?$filter=catchment/Stations/any(s:s/id gt id and not (s/name eq $it/name))&$top=1",
        "/odata/s/Stations?$compute=concat(concat(name,code),name) as x,id mul 3 as y&$filter=y gt 4&$select=x,y&$top=2",
        "/odata/s/Readings?$apply=filter(id lt 50)/groupby((station_id),aggregate(value with max as m,$count as n))&$orderby=m&$top=3",
        "/odata/s/Stations(1)?$expand=catchment($expand=Stations($top=2;$filter=id ne 1;$select=name))",
        "/odata/s/Stations?$filter=@a in (1,2,3) and @b&@a=id&@b=contains(name,@c)&@c='e'",
        "/odata/s/Stations?$search=\"weir\" NOT mill&$count=true&$top=1",
        "/odata/s/Sensors(station_id=1,sensor_no=1)/settings/$value",
        "/odata/s/$crossjoin(Stations,Sensors)?$filter=Stations/id eq Sensors/station_id&$top=1",
    ];

    private static readonly string[] Statements =
    [
        "SELECT code, name FROM Stations WHERE id BETWEEN 1 AND 9 ORDER BY code LIMIT 3",
        "SELECT s.code, COUNT(*) AS n FROM Stations s JOIN Readings r ON r.stationId = s.id GROUP BY s.code HAVING COUNT(*) > 2 ORDER BY 1 LIMIT 2",
        "SELECT CASE WHEN id IN (1, 2) THEN name || '-' || code ELSE upper(name) END AS x FROM Stations ORDER BY 1 LIMIT 3",
        "SELECT DISTINCT quality FROM Readings WHERE quality IS NOT NULL AND (value BETWEEN 1 AND 2) = TRUE ORDER BY 1 LIMIT 9",
        "SELECT COALESCE(name, 'x' || code) AS y, id + 1.5 AS z FROM Stations WHERE EXISTS (SELECT id FROM Visits WHERE id = 1) ORDER BY z LIMIT 1",
        "SELECT CAST(id AS varchar) AS t, -id % 7 AS m FROM Stations WHERE NOT (id = 3 OR name <> 'a') ORDER BY t LIMIT 2",
    ];

    private const string Signs = "()'\"|,*<>=-+%;: \0\u00e9";

    /// <summary>Requests for each engine: 100,000 with <c>make attack</c>.</summary>
    private static int Count =>
        int.TryParse(Environment.GetEnvironmentVariable("GABLE_HOSTILE"), NumberStyles.None, CultureInfo.InvariantCulture, out var count)
            ? count
            : 1_500;

    private static bool IsLong => Count >= 10_000;

    private sealed record Hostile(string Target, string? Statement);

    private static Hostile Make(int number)
    {
        // By its number alone, so that it can be sent again.
        var random = new Random(number * 7919 + 13);
        return random.Next(5) switch
        {
            0 => new Hostile("/rest/sent/sql", Mutated(random)),
            < 3 => new Hostile("/" + MutatedAddress.Of(Rest, random).TrimStart('/'), null),
            _ => new Hostile("/" + MutatedAddress.Of(OData, random).TrimStart('/'), null),
        };
    }

    private static string Mutated(Random random)
    {
        var text = Statements[random.Next(Statements.Length)];
        for (var changes = random.Next(4); changes > 0; changes--)
        {
            var other = Statements[random.Next(Statements.Length)];
            var (at, start) = (random.Next(text.Length), random.Next(other.Length));
            text = random.Next(3) switch
            {
                0 => text.Remove(at, Math.Min(random.Next(1, 8), text.Length - at)),
                1 => text.Insert(at, other.Substring(start, random.Next(Math.Min(40, other.Length - start)))),
                _ => text.Insert(at, Signs[random.Next(Signs.Length)].ToString()),
            };
        }
        return text;
    }

    private static async Task<(int Status, string Print)> SendAsync(RunningService service, Hostile request)
    {
        var began = Stopwatch.GetTimestamp();
        var answer = request.Statement is { } statement
            ? await service.SendAsync(request.Target, "POST", statement, ("Content-Type", "application/sql"))
            : await service.SendAsync(request.Target);
        var isOwnLimit =
            answer.Status == 503
            && OwnLimits.Any(c =>
                answer.Text.Contains($"\"{c}\"", StringComparison.Ordinal) || answer.Text.Contains($"/{c}\"", StringComparison.Ordinal)
            );
        Assert.True(answer.Status is < 500 or 501 || isOwnLimit, $"{request.Target}\n{request.Statement}\n{answer.Status} {answer.Text}");
        // A limit that a long attack is measured by; a short one runs beside other tests.
        if (IsLong)
            Assert.True(Stopwatch.GetElapsedTime(began).TotalSeconds < 5, $"{request.Target}\n{request.Statement}");
        return (answer.Status, Convert.ToHexString(SHA256.HashData(answer.Bytes)));
    }

    [Theory]
    [InlineData(0)]
    [InlineData(1)]
    [InlineData(2)]
    public async Task A_service_is_afterwards_what_it_was(int engine)
    {
        var service = engines.Services[engine];
        var first = new (int Status, string Print)[Math.Min(Remembered, Count)];
        var options = new ParallelOptions { MaxDegreeOfParallelism = AtOnce };
        await Parallel.ForAsync(0, Count, options, async (number, _) =>
        {
            var answer = await SendAsync(service, Make(number));
            if (number < first.Length)
                first[number] = answer;
        });
        // Some of both, or the requests are no test.
        Assert.True(
            first.Count(a => a.Status == 200) > first.Length / 10,
            $"{first.Count(a => a.Status == 200)} of {first.Length} are answered"
        );
        Assert.True(first.Count(a => a.Status >= 400) > first.Length / 10);
        await Parallel.ForAsync(0, first.Length, options, async (number, _) =>
        {
            var again = await SendAsync(service, Make(number));
            Assert.True(first[number] == again, $"{Make(number)}: {first[number].Status}, then {again.Status}");
        });
    }
}
