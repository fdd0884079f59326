using System.Text;
using System.Text.Json;
using NJsonSchema;
using NSwag;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The demo, and services whose columns have all that a document can say.</summary>
public sealed class DescribedService : IAsyncLifetime
{
    public const string Password = "clear-water-7";

    private readonly TestWorkspace _folder = new();

    public RunningService Http { get; private set; } = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithDemo()
            .Write("sources/own.yaml", "engine: sqlite\nfile: own.db\nread-only: false\n")
            .Write(
                "services/gauges.yaml",
                """
                title: Gauges
                source: own
                namespace: Own
                rules: { read: anyone, update: anyone, create: anyone, delete: signed-in }
                sets:
                  - from: gauge
                    name: Gauges
                    type: Gauge
                    description: What stands at the river.
                    allow: [read, create, update, delete]
                    version: version
                    require-version: true
                    columns:
                      code: { pattern: "[A-Z]{2}-[0-9]+" }
                      kind: { values: [level, flow] }
                      reach: { type: int16, minimum: 1, maximum: 250, measured-in: km }
                      height: { measured-in: m, description: Above the datum }
                      photo: { stream: true, media-type: image/png }
                    compute: { title: "concat(code,name)" }
                """
            )
            .Write(
                "services/alike.yaml",
                """
                title: Alike
                source: own
                rules: { read: anyone }
                sets:
                  - { from: a_b, name: a_b, type: A, keyless: true, hide: [id] }
                  - { from: a_b, name: aB, type: B }
                """
            );
        await _folder.WithInesAsync(Password);
        await Gable.RunWithAsync(
            Password,
            _folder.Folder,
            "user",
            "set",
            ".",
            "tom",
            "--role",
            "technician",
            "--attribute",
            "region=north"
        );
        using (var own = new TestWorkspace())
        {
            own.WithDatabase(
                """
                CREATE TABLE gauge (code VARCHAR(12) PRIMARY KEY, name VARCHAR(40) NOT NULL, kind VARCHAR(10) NOT NULL DEFAULT 'level',
                    reach SMALLINT, height DECIMAL(8,2), flow DOUBLE, big BIGINT, opened DATE, seen TIMESTAMP, raw BLOB, photo BLOB,
                    ok BOOLEAN NOT NULL, version INTEGER NOT NULL DEFAULT 1);
                CREATE TABLE a_b (id INTEGER PRIMARY KEY, word TEXT);
                INSERT INTO gauge (code, name, kind, ok, photo) VALUES ('AB-1', 'Alder Bridge', 'flow', 1, x'89504E47');
                """
            );
            File.Copy(Path.Combine(own.Folder, "data.db"), Path.Combine(_folder.Folder, "own.db"));
        }
        Http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await Http.DisposeAsync();
        _folder.Dispose();
    }

    /// <summary>The same workspace with another declaration of the gauges.</summary>
    public async Task<RunningService> RunAsync(Func<string, string> changed)
    {
        var file = Path.Combine(_folder.Folder, "services/gauges.yaml");
        var text = await File.ReadAllTextAsync(file);
        await File.WriteAllTextAsync(file, changed(text));
        try
        {
            return await RunningService.StartAsync(_folder.Folder);
        }
        finally
        {
            await File.WriteAllTextAsync(file, text);
        }
    }
}

/// <summary>OpenAPI documents of the plain REST face: what they say of rows, operations and callers, and how they are served.</summary>
public sealed class OpenApiTests(DescribedService described) : IClassFixture<DescribedService>
{
    private readonly RunningService _service = described.Http;

    private Task<Answer> GetAsync(string target, string? user = null) =>
        _service.SendAsync(
            target,
            "GET",
            user is null
                ? []
                : [("Authorization", "Basic " + Convert.ToBase64String(Encoding.UTF8.GetBytes($"{user}:{DescribedService.Password}")))]
        );

    private static JsonElement At(JsonElement document, string path)
    {
        foreach (var name in path.Split(" > "))
            document = document.ValueKind == JsonValueKind.Array ? document[int.Parse(name)] : document.GetProperty(name);
        return document;
    }

    private static IEnumerable<(string Path, string Method, JsonElement Operation)> Operations(JsonElement document) =>
        from path in document.GetProperty("paths").EnumerateObject()
        from operation in path.Value.EnumerateObject()
        select (path.Name, operation.Name, operation.Value);

    private static string Ids(JsonElement document) =>
        string.Join(' ', Operations(document).Select(o => o.Operation.GetProperty("operationId").GetString()));

    [Theory]
    [Proves("R-31, R-32, R-33, R-34, R-35, R-36")]
    [InlineData("openapi", "\"3.1.2\"")]
    [InlineData("info > title", "\"Gauges\"")]
    [InlineData("tags > 0", """{"name":"Gauges","description":"What stands at the river."}""")]
    [InlineData("components > schemas > Gauge > properties > code", """{"maxLength":12,"type":"string"}""")]
    [InlineData("components > schemas > Gauge > properties > name", """{"maxLength":40,"type":"string"}""")]
    [InlineData("components > schemas > Gauge > properties > kind", """{"maxLength":10,"type":"string","default":"level"}""")]
    [InlineData(
        "components > schemas > Gauge > properties > reach",
        """{"type":["null","integer"],"description":"Measured in km.","format":"int16","minimum":-32768,"maximum":32767,"x-unit":"km"}"""
    )]
    [InlineData(
        "components > schemas > Gauge > properties > height",
        """{"type":["null","number"],"description":"Above the datum. Measured in m.","format":"decimal","x-unit":"m"}"""
    )]
    [InlineData("components > schemas > Gauge > properties > flow", """{"type":["null","number"],"format":"double"}""")]
    [InlineData("components > schemas > Gauge > properties > big", """{"type":["null","integer"],"format":"int64"}""")]
    [InlineData("components > schemas > Gauge > properties > opened", """{"type":["null","string"],"format":"date"}""")]
    [InlineData("components > schemas > Gauge > properties > seen", """{"type":["null","string"],"format":"date-time"}""")]
    [InlineData("components > schemas > Gauge > properties > raw", """{"type":["null","string"],"contentEncoding":"base64url"}""")]
    [InlineData("components > schemas > Gauge > properties > ok", """{"type":"boolean"}""")]
    [InlineData("components > schemas > Gauge > properties > title", """{"type":["null","string"],"readOnly":true}""")]
    [InlineData(
        "components > schemas > GaugeCreate > properties > kind",
        """{"maxLength":10,"type":"string","default":"level","enum":["level","flow"]}"""
    )]
    [InlineData(
        "components > schemas > GaugeCreate > properties > code",
        """{"maxLength":12,"pattern":"^(?:[A-Z]{2}-[0-9]+)$","type":"string"}"""
    )]
    [InlineData(
        "components > schemas > GaugeCreate > properties > reach",
        """{"type":["null","integer"],"description":"Measured in km.","format":"int16","minimum":1,"maximum":250,"x-unit":"km"}"""
    )]
    [InlineData("components > schemas > GaugeCreate > required", """["code","name","ok"]""")]
    [InlineData("components > schemas > GaugeCreate > additionalProperties", "false")]
    [InlineData("components > schemas > GaugeUpdate > additionalProperties", "false")]
    [InlineData("components > schemas > GaugeReplace > required", """["name","ok"]""")]
    public async Task Documents_say_what_is_known(string path, string expected)
    {
        var found = At((await GetAsync("/rest/gauges/openapi.json")).Json, path);
        Assert.True(JsonElement.DeepEquals(JsonDocument.Parse(expected).RootElement, found), found.GetRawText());
    }

    [Fact]
    [Proves("R-33, R-34")]
    public async Task Bodies_have_schemas_of_their_own()
    {
        var schemas = (await GetAsync("/rest/gauges/openapi.json")).Json.GetProperty("components").GetProperty("schemas");
        Assert.False(schemas.GetProperty("GaugeUpdate").TryGetProperty("required", out _));
        Assert.False(schemas.GetProperty("Gauge").TryGetProperty("additionalProperties", out _));
        foreach (var name in new[] { "title", "photo", "version" })
        foreach (var body in new[] { "GaugeCreate", "GaugeReplace", "GaugeUpdate" })
            Assert.False(schemas.GetProperty(body).GetProperty("properties").TryGetProperty(name, out _), $"{body} {name}");
        Assert.False(schemas.GetProperty("GaugeUpdate").GetProperty("properties").TryGetProperty("code", out _));
    }

    [Theory]
    [Proves("R-37, R-38, R-39, R-40")]
    [InlineData("/Gauges", "get", "200 304 400 401 406 410 429 503 default")]
    [InlineData("/Gauges", "post", "201 400 401 406 415 422 429 503 default")]
    [InlineData("/Gauges/{code}", "get", "200 304 400 401 404 406 429 503 default")]
    [InlineData("/Gauges/{code}", "put", "200 201 204 400 401 406 412 415 422 428 429 503 default")]
    [InlineData("/Gauges/{code}", "patch", "200 204 400 401 404 406 409 412 415 422 428 429 503 default")]
    [InlineData("/Gauges/{code}/photo", "get", "200 206 304 400 401 404 416 429 503 default")]
    [InlineData("/Gauges/{code}/photo", "put", "204 401 404 412 415 428 429 503 default")]
    [InlineData("/Gauges/{code}/photo", "delete", "204 401 404 412 428 429 503 default")]
    public async Task Operations_list_their_answers(string path, string method, string statuses)
    {
        var document = (await GetAsync("/rest/gauges/openapi.json")).Json;
        var operation = document.GetProperty("paths").GetProperty(path).GetProperty(method);
        Assert.Equal(statuses, string.Join(' ', operation.GetProperty("responses").EnumerateObject().Select(r => r.Name)));
        Assert.False(operation.TryGetProperty("security", out _), "Anyone may do it, as the root says.");
        Assert.Equal("[{\"basic\":[]},{\"key\":[]},{}]", document.GetProperty("security").GetRawText().Replace("\n", "").Replace(" ", ""));
    }

    [Fact] // what is told of a list, of a new row, and of a refusal
    [Proves("R-39")]
    public async Task Answers_list_their_headers()
    {
        var document = (await GetAsync("/rest/gauges/openapi.json")).Json;
        string HeadersOf(string at) => string.Join(' ', At(document, at + " > headers").EnumerateObject().Select(h => h.Name).Order());
        Assert.Equal("Cache-Control ETag Link Total-Count", HeadersOf("paths > /Gauges > get > responses > 200"));
        Assert.Equal("ETag Location Preference-Applied", HeadersOf("paths > /Gauges > post > responses > 201"));
        Assert.Equal("WWW-Authenticate", HeadersOf("components > responses > Problem401"));
        Assert.Equal("Retry-After", HeadersOf("components > responses > Problem429"));
        var types = At(document, "paths > /Gauges > get > responses > 200 > content").EnumerateObject().Select(c => c.Name);
        Assert.Equal(5, types.Count());
    }

    [Fact] // generators of clients cut ids at '_', and need each only once
    [Proves("R-37")]
    public async Task Operations_have_ids_of_their_own()
    {
        var ids = Ids((await GetAsync("/rest/gauges/openapi.json")).Json);
        Assert.Equal(
            "describe listGauges createGauges getGauge replaceGauge updateGauge getPhotoOfGauge replacePhotoOfGauge deletePhotoOfGauge",
            ids
        );
        Assert.Equal("describe listAB listAB2 getB", Ids((await GetAsync("/rest/alike/openapi.json")).Json));
        foreach (var user in new[] { "ines", "tom" })
        {
            var all = Ids((await GetAsync("/rest/fieldwork/openapi.json", user)).Json).Split(' ');
            Assert.Equal(all.Length, all.Distinct().Count());
            Assert.DoesNotContain(all, id => id.Contains('_'));
        }
    }

    [Fact]
    [Proves("R-38")]
    public async Task Parameters_stand_in_their_paths()
    {
        foreach (var (target, user) in new[] { ("gauges", null), ("rivers", null), ("fieldwork", "ines") })
        {
            var document = (await GetAsync($"/rest/{target}/openapi.json", user)).Json;
            foreach (var (path, _, operation) in Operations(document))
            {
                var parameters = operation.TryGetProperty("parameters", out var all) ? all.EnumerateArray().ToList() : [];
                var known = parameters.ConvertAll(p =>
                    p.TryGetProperty("$ref", out var reference) ? At(document, reference.GetString()![2..].Replace("/", " > ")) : p
                );
                var names = known.ConvertAll(p => p.GetProperty("in").GetString() + " " + p.GetProperty("name").GetString());
                Assert.Equal(names.Count, names.Distinct().Count());
                foreach (var parameter in known.Where(p => p.GetProperty("in").GetString() == "path"))
                {
                    Assert.True(parameter.GetProperty("required").GetBoolean());
                    Assert.Contains("{" + parameter.GetProperty("name").GetString() + "}", path);
                }
                Assert.Equal(path.Count(c => c == '{'), names.Count(n => n.StartsWith("path ", StringComparison.Ordinal)));
                foreach (var list in known.Where(p => At(p, "schema").TryGetProperty("type", out var t) && t.ValueEquals("array")))
                    Assert.False(list.GetProperty("explode").GetBoolean());
            }
        }
    }

    [Fact] // who may do less sees less, and who may do nothing sees nothing
    public async Task Each_caller_sees_what_they_may_do()
    {
        var (ines, tom) = (
            (await GetAsync("/rest/fieldwork/openapi.json", "ines")).Json,
            (await GetAsync("/rest/fieldwork/openapi.json", "tom")).Json
        );
        Assert.Contains(" deleteVisit ", Ids(ines));
        Assert.DoesNotContain("deleteVisit ", Ids(tom));
        Assert.Contains(" createTechnicians ", Ids(ines));
        Assert.DoesNotContain("createTechnicians", Ids(tom));
        Assert.True(
            ines.GetProperty("components")
                .GetProperty("schemas")
                .GetProperty("Technician")
                .GetProperty("properties")
                .TryGetProperty("email", out _)
        );
        Assert.DoesNotContain("email", tom.GetRawText());
        Assert.Equal(401, (await GetAsync("/rest/fieldwork/openapi.json")).Status);
        Assert.True(
            tom.GetProperty("paths").GetProperty("/Visits").GetProperty("post").GetProperty("responses").TryGetProperty("403", out _)
        );
        Assert.Equal(
            "[{\"basic\":[]},{\"key\":[]}]",
            tom.GetProperty("paths")
                .GetProperty("/Visits")
                .GetProperty("get")
                .GetProperty("security")
                .GetRawText()
                .Replace("\n", "")
                .Replace(" ", "")
        );
        var gauges = (await GetAsync("/rest/gauges/openapi.json", "tom")).Json;
        Assert.Contains(" deleteGauge ", Ids(gauges));
    }

    [Fact] // held to the schemas by a validator of others
    [Proves("R-42")]
    public async Task Examples_and_rows_fit_their_schemas()
    {
        foreach (var (service, user) in new[] { ("gauges", null), ("rivers", null), ("fieldwork", "ines"), ("fieldwork", "tom") })
        {
            var text = (await GetAsync($"/rest/{service}/openapi-3.0.json", user)).Text;
            var document = await OpenApiDocument.FromJsonAsync(text);
            var examples = 0;
            foreach (var (name, schema) in document.Definitions)
            {
                if (schema.Example is not { } example)
                    continue;
                examples++;
                AssertFits(schema, example.ToString()!, $"{service} {name}");
            }
            Assert.True(examples > 3, $"{service}: {examples}");
            foreach (var (path, item) in document.Paths.Where(p => p.Value.ContainsKey("get") && !p.Key.Contains('{') && p.Key != "/"))
            {
                var given = item["get"].ActualParameters.Where(p => p is { Kind: OpenApiParameterKind.Query, IsRequired: true }).ToList();
                var query = given.Count == 0 ? "limit=20" : string.Join('&', given.Select(p => $"{p.Name}={p.Example}"));
                var rows = await GetAsync($"/rest/{service}{path}?{query}", user);
                AssertFits(item["get"].ActualResponses["200"].Content["application/json"].Schema.ActualSchema, rows.Text, path);
            }
        }
    }

    private static void AssertFits(JsonSchema schema, string json, string what)
    {
        var faults = schema.Validate(json);
        Assert.True(faults.Count == 0, $"{what}: {string.Join("; ", faults.Take(3))}\n{json}");
    }

    [Theory]
    [Proves("R-42")]
    [InlineData("openapi.json", "application/json")]
    [InlineData("openapi.yaml", "application/yaml")]
    [InlineData("openapi-3.0.json", "application/json")]
    [InlineData("openapi-3.0.yaml", "application/yaml")]
    public async Task Documents_are_known_again(string file, string type)
    {
        foreach (var face in new[] { "rest", "odata" })
        {
            var first = await GetAsync($"/{face}/rivers/{file}");
            Assert.Equal((200, type), (first.Status, first.Header("Content-Type")));
            var again = await _service.SendAsync($"/{face}/rivers/{file}", "GET", ("If-None-Match", first.Header("ETag")!));
            Assert.Equal(304, again.Status);
            Assert.Equal(first.Header("ETag"), again.Header("ETag"));
        }
    }

    [Fact] // addresses and names as declared
    public async Task The_declared_shape_is_described()
    {
        await using var shaped = await described.RunAsync(text =>
            text.Replace("sets:\n", "rest: { base: /water/v2, names: camel-case, paths: kebab-case, keys: named, lists: array }\nsets:\n")
        );
        var document = (await shaped.SendAsync("/water/v2/openapi.json")).Json;
        Assert.Equal(shaped.Address + "/water/v2", document.GetProperty("servers")[0].GetProperty("url").GetString());
        Assert.Contains("/gauges/code={code}", document.GetProperty("paths").EnumerateObject().Select(p => p.Name));
        Assert.Equal("array", At(document, "components > schemas > GaugeList > type").GetString());
    }
}
