using System.Text.Json;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Addresses, names and lists as services declare them, and what stands on which face.</summary>
public sealed class RestShapeTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private RunningService _service = null!;

    public async Task InitializeAsync()
    {
        _folder
            .Write("workspace.yaml", "title: W\nfaces: { rest: [water, 'plain/stat*'] }\n")
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .WithDatabase(
                """
                CREATE TABLE station (id INTEGER PRIMARY KEY, opened_on DATE, name TEXT NOT NULL, "sort" TEXT, lat REAL, lon REAL, version INTEGER NOT NULL DEFAULT 1);
                CREATE TABLE sensor (station_id INTEGER NOT NULL REFERENCES station, sensor_no INTEGER NOT NULL, unit_word TEXT, PRIMARY KEY (station_id, sensor_no));
                CREATE TABLE loose (word TEXT, amount DECIMAL(30,0));
                INSERT INTO station VALUES (1, '2020-01-01', 'Alder', 'x', 1.5, 2, 1), (2, NULL, 'Birch', 'y', NULL, NULL, 1);
                INSERT INTO sensor VALUES (1, 1, 'm'), (1, 2, 'm³/s'), (2, 1, NULL);
                INSERT INTO loose VALUES ('a', 123456789012345), ('a', 5);
                """
            )
            .Write(
                "services/water.yaml",
                """
                title: Water
                source: main
                rules: { read: anyone, create: anyone, update: anyone, delete: anyone }
                rest:
                  base: /water/v1
                  former-bases: [/rest/water, /old]
                  names: camel-case
                  paths: kebab-case
                  keys: named
                  lists: array
                  format: jsonl
                sets:
                  - from: station
                    name: GaugingStations
                    allow: [read, create, update, delete]
                    version: version
                    group: { map_place: { type: Place, columns: [lat, lon] } }
                    columns: { name: { min-length: 3 } }
                    valid: [{ where: "name ne 'Nobody'", column: name, message: No such name. }]
                    rest: { path: stations, former-paths: [gauging-stations], format: json, cache-seconds: 60 }
                  - { from: sensor, name: Sensors, allow: [read, create, update, delete] }
                  - { from: loose, name: LooseWords, keyless: true }
                """
            )
            .Write("services/plain.yaml", "title: Plain\nsource: main\nrules: { read: anyone }\nsets: [station, sensor]\n")
            .Write("services/closed.yaml", "title: Closed\nsource: main\nrules: { read: anyone }\nsets: [station]\n");
        _service = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _service.DisposeAsync();
        _folder.Dispose();
    }

    private Task<Answer> SendAsync(string target, string method = "GET", string? body = null) => _service.SendAsync(target, method, body);

    [Theory]
    [InlineData(
        "/water/v1/stations/id=1",
        "{'id':1,'openedOn':'2020-01-01','name':'Alder','sort':'x','mapPlace':{'lat':1.5,'lon':2},'version':1}"
    )]
    [InlineData("/water/v1/stations?fields=id,mapPlace/lat", "[{'id':1,'mapPlace':{'lat':1.5}},{'id':2,'mapPlace':{'lat':null}}]")]
    [InlineData("/water/v1/stations?openedOn=null&fields=id", "[{'id':2}]")]
    [InlineData("/water/v1/stations?mapPlace/lat=1..2&fields=id", "[{'id':1}]")]
    [InlineData("/water/v1/stations?./sort=y&fields=id", "[{'id':2}]")]
    [InlineData("/water/v1/stations?filter=openedOn eq 2020-01-01&fields=id&sort=-openedOn", "[{'id':1}]")]
    [InlineData("/water/v1/sensors/station_id=1,sensor_no=2", null)]
    [InlineData("/water/v1/sensors/stationId=1,sensorNo=2", "{'stationId':1,'sensorNo':2,'unitWord':'m³/s'}")]
    [InlineData("/water/v1/sensors/sensorNo=2,stationId=1?fields=unitWord", "{'unitWord':'m³/s'}")]
    [InlineData("/water/v1/stations/id=1/sensors?fields=sensorNo", "{'sensorNo':1}|{'sensorNo':2}|")]
    [InlineData("/water/v1/stations/id=1/sensors/sensorNo=2?fields=unitWord", "{'unitWord':'m³/s'}")]
    [InlineData("/water/v1/loose-words?amount=5&format=json", "[{'word':'a','amount':5}]")]
    [InlineData("/water/v1/loose-words?format=csv", "word,amount~a,5~a,123456789012345~")]
    public async Task A_declared_shape_is_kept(string target, string? expected)
    {
        var answer = await SendAsync(target.Replace(" ", "%20"));
        if (expected is null)
            Assert.Equal(400, answer.Status);
        else
            Assert.Equal(
                expected.Replace('\'', '"').Replace('|', '\n').Replace("~", "\r\n").Split('\n').Order(),
                answer.Text.Split('\n').Order()
            );
    }

    [Theory]
    [InlineData("/old/stations/id=1", "/water/v1/stations/id=1")]
    [InlineData("/rest/water/stations?limit=1", "/water/v1/stations?limit=1")]
    [InlineData("/water/v1", "/water/v1/")]
    [InlineData("/water/v1/gauging-stations/id=1?fields=id", "/water/v1/stations/id=1?fields=id")]
    public async Task Former_addresses_redirect(string target, string now)
    {
        var answer = await SendAsync(target);
        Assert.Contains(answer.Status, new[] { 301, 308 });
        Assert.EndsWith(now, answer.Header("Location"));
        if (target.StartsWith("/old", StringComparison.Ordinal))
            Assert.Equal(308, (await SendAsync(target, "PATCH", "{}")).Status);
    }

    [Theory] // what does not stand on a face is not there
    [InlineData("/rest/plain/station", 200)]
    [InlineData("/rest/plain/sensor", 404)]
    [InlineData("/rest/plain/station/1/sensor", 404)]
    [InlineData("/rest/plain/station?sensor/unit_word=m", 400)]
    [InlineData("/odata/plain/sensor", 200)]
    [InlineData("/rest/closed/", 404)]
    [InlineData("/rest/closed/station", 404)]
    [InlineData("/odata/closed/station", 200)]
    [InlineData("/water/v1/GaugingStations", 404)]
    [InlineData("/rest/plain/openapi.json", 200)]
    public async Task Faces_show_what_stands_on_them(string target, int status)
    {
        var answer = await SendAsync(target);
        Assert.Equal(status, answer.Status);
        if (target.EndsWith("openapi.json", StringComparison.Ordinal))
            Assert.DoesNotContain("sensor", answer.Text);
    }

    [Fact] // names of the face go in and out, and rules speak of them
    public async Task Writing_uses_the_names_of_the_face()
    {
        var made = await SendAsync("/water/v1/stations", "POST", """{"name":"Cedar","openedOn":"2024-05-01","mapPlace":{"lat":7}}""");
        Assert.Equal(201, made.Status);
        Assert.EndsWith("/water/v1/stations/id=3", made.Header("Location"));
        Assert.Contains("\"openedOn\":\"2024-05-01\"", made.Text);
        var changed = await SendAsync("/water/v1/stations/id=3", "PATCH", """{"openedOn":null}""");
        Assert.Contains("\"openedOn\":null", changed.Text);
        foreach (
            var (body, pointer) in new[]
            {
                ("""{"opened_on":null}""", "#/opened_on"),
                ("""{"mapPlace":{"lat":"x"}}""", "#/mapPlace/lat"),
                ("""{"name":"ab"}""", "#/name"),
                ("""{"name":"Nobody"}""", "#/name"),
            }
        )
        {
            var refused = await SendAsync("/water/v1/stations/id=3", "PATCH", body);
            Assert.Equal(422, refused.Status);
            Assert.Equal(pointer, refused.Json.GetProperty("errors")[0].GetProperty("pointer").GetString());
        }
        var several = await _service.SendAsync(
            "/water/v1/sensors",
            "POST",
            "stationId,sensorNo\r\n3,1\r\n3,2\r\n",
            ("Content-Type", "text/csv")
        );
        Assert.Equal((201, JsonValueKind.Array), (several.Status, several.Json.ValueKind));
        // The OData face keeps the names of the declaration.
        Assert.Contains("\"opened_on\":null", (await SendAsync("/odata/water/GaugingStations(3)")).Text);
    }

    [Fact]
    [Proves("R-10, R-11")]
    public async Task Public_rows_may_be_kept_as_long_as_declared()
    {
        Assert.Equal("public, max-age=60", (await SendAsync("/water/v1/stations")).Header("Cache-Control"));
        Assert.Equal("no-cache", (await SendAsync("/water/v1/sensors")).Header("Cache-Control"));
        Assert.Equal("no-cache", (await SendAsync("/water/v1/stations/id=1/sensors")).Header("Cache-Control"));
    }

    [Fact]
    public async Task The_directory_knows_every_endpoint()
    {
        var services = (await SendAsync("/services")).Json.GetProperty("services").EnumerateArray().ToList();
        var urls = services
            .SelectMany(s => s.GetProperty("endpoints").EnumerateArray())
            .Select(e => $"{e.GetProperty("face").GetString()} {e.GetProperty("url").GetString()!.Replace(_service.Address, "")}")
            .ToList();
        Assert.Contains("rest /water/v1/stations", urls);
        Assert.Contains("rest /rest/plain/station", urls);
        Assert.Contains("odata /odata/water/LooseWords()", urls);
        Assert.DoesNotContain("rest /rest/plain/sensor", urls);
        foreach (var url in urls.Select(u => u.Split(' ')[1]))
            Assert.Equal(200, (await SendAsync(url)).Status);
        var catalog = await SendAsync("/.well-known/api-catalog");
        Assert.StartsWith("application/linkset+json", catalog.Header("Content-Type"));
        var links = catalog.Json.GetProperty("linkset").EnumerateArray().ToList();
        Assert.Equal(5, links.Count);
        foreach (
            var href in links
                .SelectMany(l => l.GetProperty("service-desc").EnumerateArray())
                .Select(d => d.GetProperty("href").GetString()!)
        )
            Assert.Equal(200, (await SendAsync(href)).Status);
        var listed = await Gable.RunAsync(_folder.Folder, "endpoints", _service.Address, "--face", "rest");
        Assert.Contains("/water/v1/stations", listed.Output);
        Assert.DoesNotContain("/odata/", listed.Output);
    }
}
