using System.Text.Json;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Queries with parameters, called over every face and on every engine.</summary>
[Collection("engines")]
public sealed class NamedQueryTests(EnginesFixture engines)
{
    public const string Service = """
        title: Questions
        source: main
        namespace: Asked
        rules: { read: anyone }
        types:
          Quality: { members: { good: A, doubtful: B, missing: C } }
        sets:
          - { from: station, name: Stations, type: Station, hide: [photo] }
        queries:
          - name: ReadingsOf
            description: Readings of some stations.
            select: |
              SELECT r.id, r.station_id, r.sensor_no, r.taken_at, r.value, r.quality, r.note -- not :this
              FROM reading r WHERE r.station_id BETWEEN :first AND :last
            parameters:
              first: { type: int32, minimum: 1, description: The first station, example: 1 }
              last: { type: int32, default: 120 }
            key: id
            columns: { quality: Quality, taken_at: datetimeoffset(3) }
            page: 20
            largest-page: 1000
            rest: { path: "readings/{first}" }
          - name: Visits
            select: |
              SELECT v.id, v.planned_for, v.purpose FROM visit v
              WHERE (:since IS NULL OR v.planned_for >= :since) AND v.purpose <> :but
            parameters:
              since: { type: date, required: false }
              but: { type: string(30), pattern: "[^%]*", default: "it's nothing", message: has a percent sign }
          - name: StationOf
            gives: row
            select: SELECT s.id, s.code, s.name FROM station s WHERE s.code LIKE :code
            parameters: { code: { type: string(40), example: AB-001 } }
          - name: HowMany
            gives: value
            select: SELECT COUNT(*) AS readings FROM reading r WHERE r.quality = :quality AND r.taken_at >= :since
            parameters:
              quality: Quality
              since: { type: datetimeoffset(3), default: 2000-01-01T00:00:00Z }
          - name: Typed
            gives: row
            select: SELECT :flag AS flag, :big AS big, :number AS number, :day AS day, :word AS word FROM catchment c WHERE c.id = 1
            parameters:
              flag: { type: boolean, example: true }
              big: { type: int64, example: 9007199254740993 }
              number: { type: "decimal(9,2)", example: 1.5 }
              day: { type: date, example: 2024-02-29 }
              word: { type: string, example: a }
            columns: { flag: boolean, big: int64, number: "decimal(9,2)", day: date, word: string }
          - name: Sized
            gives: value
            select: SELECT :size AS size FROM catchment c WHERE c.id = 1
            parameters: { size: { type: double, minimum: 0, example: 1.5 } }
            columns: { size: double }
          - name: Hidden
            select: SELECT s.id, s.code FROM station s WHERE s.code = :secret
            parameters: { secret: string }
            rest: { path: "nobody/{secret}" }
            rules: { read: nobody }
          - name: Some
            description: A rule about the rows that a query gives.
            select: SELECT s.id, s.code, s.name FROM station s WHERE s.id <= :most
            parameters: { most: { type: int32, default: 10 } }
            key: id
            rules: [ { who: anyone, may: read, rows: id gt 5, mask: name } ]
        """;

    private Task<string> SameAsync(string target) => EnginesTests.SameAsync(engines, target);

    private async Task<JsonElement> JsonAsync(string target) => JsonDocument.Parse(await SameAsync(target)).RootElement;

    [Theory]
    [InlineData("readings/3?last=3&fields=id&limit=2", "{'rows':[{'id':", null)]
    [InlineData("StationOf?code=AB-004", "{'id':4,'code':'AB-004','name':", null)]
    [InlineData("StationOf?code=ab-999", "There is no such row", 404)]
    [InlineData("StationOf?code=AB-00%25", "declared to give one row", 500)]
    [InlineData("HowMany?quality=good&since=2030-01-01T00:00:00Z", "{'readings':0}", null)]
    [InlineData("HowMany?quality=worse", "no member 'worse'", 400)]
    [InlineData("HowMany", "'quality' is missing", 400)]
    [InlineData("HowMany?quality=good&qualty=good", "Did you mean", 400)]
    [InlineData("HowMany?quality=good&quality=good", "given twice", 400)]
    [InlineData("Visits?since=yesterday", "'yesterday' is not a value", 400)]
    [InlineData("Visits?but=50%25", "has a percent sign", 400)]
    [InlineData("StationOf?code=12345678901234567890123456789012345678901", "has 41 characters", 400)]
    [InlineData("Visits?since=2024-05-01&since=2024-05-01", "given twice", 400)]
    [InlineData("readings/0", "'first' is less than 1", 400)]
    [InlineData("readings/x", "'x' is not a value", 400)]
    [InlineData("readings/99999999999", "must be a whole number from -2147483648 to 2147483647", 400)]
    [InlineData("readings/99999999999999999999999", "is not a value", 400)]
    [InlineData("Sized?size=1e400", "is not a value", 400)]
    [InlineData("Sized?size=-1", "is less than 0", 400)]
    [InlineData("readings/1?first=2", "given twice", 400)]
    [InlineData("readings", "There is no resource 'readings'", 404)]
    [InlineData("readings/1/2", "no key", 404)]
    [InlineData("ReadingsOf?first=1", "There is no resource 'ReadingsOf'", 404)]
    [InlineData("nobody/AB-001", "There is no resource", 404)]
    [InlineData("Some?fields=id,name&limit=2", "{'rows':[{'id':6,'name':null},{'id':7,'name':null}]", null)]
    [InlineData("Some?most=5", "{'rows':[]}", null)]
    public async Task Plain_rest_calls_queries(string target, string part, int? status)
    {
        var text = await SameAsync("/rest/asked/" + target);
        Assert.Contains(part.Replace('\'', status is null ? '"' : '\''), text);
        foreach (var service in engines.Services)
            Assert.Equal(status ?? 200, (await service.SendAsync("/rest/asked/" + target)).Status);
    }

    [Theory]
    [Proves("U-40, U-41, U-42, J-14")]
    [InlineData("ReadingsOf(first=3,last=3)?$select=id&$top=1", 200, "\"value\":[{\"id\":")]
    [InlineData("ReadingsOf(first=3)/$count", 200, "")]
    [InlineData("ReadingsOf(last=3,first=@f)?@f=3&$top=1&$count=true", 200, "@odata.count")]
    [InlineData("Visits?$top=1", 200, "value")]
    [InlineData("Visits()?$top=1", 200, "value")]
    [InlineData("StationOf(code='AB-004')", 200, "\"code\":\"AB-004\"")]
    [InlineData("StationOf(code='AB-004')/name", 200, "\"value\":")]
    [InlineData("StationOf(code='AB-004')/name/$value", 200, "")]
    [InlineData("StationOf(code='none')", 204, "")]
    [InlineData("StationOf(code='AB-00%25')", 500, "declared to give one row")]
    [InlineData("HowMany(quality='good')", 200, "\"value\":")]
    [InlineData("HowMany(quality='good')/$value", 200, "")]
    [InlineData("HowMany(quality=Asked.Quality'good')", 200, "\"value\":")]
    [InlineData("HowMany(quality='good',since=2030-01-01T00:00:00Z)", 200, "\"value\":0")]
    [InlineData("HowMany()", 400, "'quality' is missing")]
    [InlineData("HowMany", 400, "'quality' is missing")]
    [InlineData("HowMany('good')", 400, "needs its name")]
    [InlineData("HowMany(quality='good',quality='good')", 400, "given twice")]
    [InlineData("HowMany(quality=1)", 400, "is Asked.Quality")]
    [InlineData("HowMany(quality='good',limit=1)", 400, "no parameter 'limit'")]
    [InlineData("ReadingsOf(first=0)", 400, "'first' is less than 1")]
    [InlineData("ReadingsOf(first=1)(2)", 400, "")]
    [InlineData("ReadingsOf(first=1)/2", 404, "")]
    [InlineData("ReadingsOf(first=99999999999)", 400, "must be a whole number from")]
    [InlineData("Sized(size=0.5)", 200, "\"value\":0.5")]
    [InlineData("Sized(size=1)", 200, "\"value\":1")]
    [InlineData("Sized(size=1e1)", 200, "\"value\":10")]
    [InlineData("Sized(size=-0.5)", 400, "is less than 0")]
    [InlineData("Hidden(secret='AB-001')", 404, "")]
    [InlineData("Hiddn(secret='AB-001')", 404, "")]
    public async Task OData_calls_queries(string target, int status, string part)
    {
        Assert.Contains(part, await SameAsync("/odata/asked/" + target));
        foreach (var service in engines.Services)
            Assert.Equal(status, (await service.SendAsync("/odata/asked/" + target)).Status);
    }

    [Fact] // each value reaches the statement as its type
    public async Task Values_are_bound_as_their_types()
    {
        var row = await JsonAsync("/rest/asked/Typed?flag=true&big=9007199254740993&number=-12.25&day=2024-02-29&word=it's%20%3Ax");
        Assert.Equal(
            "true 9007199254740993 -12.25 2024-02-29 it's :x",
            string.Join(' ', row.EnumerateObject().Select(m => m.Value.ToString().ToLowerInvariant()))
        );
    }

    [Theory] // what follows a call is done by the database, as with the table itself
    [InlineData("$filter=value gt 5&$orderby=value desc,id&$top=7&$select=id,value")]
    [InlineData("$filter=quality eq 'good' and note eq null&$orderby=id&$skip=5&$top=10&$select=id,quality&$count=true")]
    [InlineData("$filter=contains(note,'ice') or sensor_no eq 2&$orderby=taken_at desc,id&$top=20&$select=id,taken_at")]
    [InlineData("$orderby=id&$select=id&$count=true&$top=1000")]
    [InlineData("$apply=groupby((station_id),aggregate(value with max as most,$count as number))&$orderby=station_id&$top=1000")]
    [InlineData("$apply=filter(value gt 1)/aggregate($count as number)")]
    public async Task Options_compose(string options)
    {
        var composed = await JsonAsync($"/odata/asked/ReadingsOf(first=10,last=30)?{options}".Replace(" ", "%20"));
        var words = options.Replace("quality eq 'good'", "quality eq 'A'");
        var filtered =
            words.Contains("$filter=", StringComparison.Ordinal)
                ? words.Replace("$filter=", "$filter=station_id ge 10 and station_id le 30 and (").Replace("&$orderby", ")&$orderby")
            : words.Contains("$apply=", StringComparison.Ordinal)
                ? words.Replace("$apply=", "$apply=filter(station_id ge 10 and station_id le 30)/")
            : words + "&$filter=station_id ge 10 and station_id le 30";
        var whole = await JsonAsync($"/odata/s/Readings?{filtered}".Replace(" ", "%20"));
        Assert.Equal(Rows(whole).Select(r => r.Replace("\"A\"", "\"good\"")), Rows(composed));
        if (composed.TryGetProperty("@odata.count", out var count))
            Assert.Equal(whole.GetProperty("@odata.count").GetInt64(), count.GetInt64());
        Assert.NotEmpty(Rows(composed));
    }

    private static IEnumerable<string> Rows(JsonElement answer) =>
        answer
            .GetProperty("value")
            .EnumerateArray()
            .Select(r =>
                string.Join(',', r.EnumerateObject().Where(m => !m.Name.Contains('@')).Select(m => $"{m.Name}:{m.Value.GetRawText()}"))
            );

    [Fact] // pages go on by the key of the query, and keep what it was called with
    public async Task Pages_make_the_whole()
    {
        foreach (var service in engines.Services)
        {
            var (ids, pages) = (new List<long>(), 0);
            for (var next = (string?)"/rest/asked/readings/40?last=60&fields=id"; next is not null; pages++)
            {
                var page = (await service.SendAsync(next)).Json;
                ids.AddRange(page.GetProperty("rows").EnumerateArray().Select(r => r.GetProperty("id").GetInt64()));
                next = page.TryGetProperty("next", out var link) ? new Uri(link.GetString()!).PathAndQuery : null;
            }
            var count = int.Parse((await service.SendAsync("/odata/asked/ReadingsOf(first=40,last=60)/$count")).Text.Trim('\uFEFF'));
            Assert.Equal(count, ids.Distinct().Count());
            Assert.Equal(ids.Order(), ids);
            Assert.Equal((count + 19) / 20, pages);
        }
    }

    [Theory]
    [InlineData("csv", "id,code,name\r\n4,AB-004,")]
    [InlineData("jsonl", "{\"id\":4,")]
    [InlineData("xml", "<code>AB-004</code>")]
    public async Task Every_format_holds_a_row(string format, string part) =>
        Assert.Contains(part, await SameAsync($"/rest/asked/StationOf?code=AB-004&format={format}"));

    [Fact]
    [Proves("U-03, A-15, C-35, C-38")]
    public async Task Documents_describe_calls()
    {
        foreach (var service in engines.Services)
            await DescribesCallsAsync(service);
    }

    private static async Task DescribesCallsAsync(RunningService service)
    {
        var metadata = (await service.SendAsync("/odata/asked/$metadata")).Text;
        Assert.Contains("<Function Name=\"ReadingsOf\" IsComposable=\"true\">", metadata);
        Assert.Contains("<Parameter Name=\"first\" Type=\"Edm.Int32\" Nullable=\"false\">", metadata);
        Assert.Contains("<ReturnType Type=\"Edm.Int64\"", metadata);
        Assert.Contains("Core.OptionalParameter", metadata);
        Assert.DoesNotContain("secret", metadata);
        var listed = (await service.SendAsync("/odata/asked/")).Text;
        Assert.Contains("\"Visits\"", listed);
        Assert.DoesNotContain("ReadingsOf", listed);
        var openapi = (await service.SendAsync("/rest/asked/openapi.json")).Json;
        var paths = openapi.GetProperty("paths");
        Assert.True(paths.TryGetProperty("/readings/{first}", out var readings));
        Assert.DoesNotContain("secret", openapi.GetRawText());
        var parameters = readings.GetProperty("get").GetProperty("parameters").EnumerateArray().ToList();
        Assert.Contains(parameters, p =>
            p.TryGetProperty("in", out var place)
            && place.GetString() == "path"
            && p.GetProperty("schema").GetProperty("minimum").GetInt32() == 1
        );
    }

    [Fact] // mutated calls: an answer or a client's error, never a fault of ours
    public async Task Mutated_calls_never_break_the_service()
    {
        string[] seeds =
        [
            "odata/asked/ReadingsOf(first=3,last=30)?$filter=value gt 1.5 and quality eq 'good'&$orderby=taken_at desc&$top=3&$count=true",
            "odata/asked/ReadingsOf(first=@f)/$count?@f=3",
            "odata/asked/HowMany(quality='good',since=2024-05-01T10:00:00.5Z)/$value",
            "odata/asked/StationOf(code='AB-004')/name",
            "odata/asked/Sized(size=1.5e3)",
            "odata/asked/Typed(flag=true,big=9007199254740993,number=1.5,day=2024-02-29,word='it''s')",
            "rest/asked/readings/3?last=30&quality=good,doubtful&sort=-taken_at&limit=3&total=true",
            "rest/asked/StationOf?code=AB-004&fields=id,name&format=csv",
            "rest/asked/HowMany?quality=good&since=2024-05-01T10:00:00Z",
            "rest/asked/Typed?flag=true&big=9007199254740993&number=1.5&day=2024-02-29&word=a:b",
            "rest/asked/Visits?since=2024-05-01&but=x&rows=2..5",
        ];
        var random = new Random(17);
        var (good, bad) = (0, 0);
        for (var i = 0; i < 1_200 * Soak.Times; i++)
        {
            var target = "/" + MutatedAddress.Of(seeds, random);
            var answer = await engines.Services[i % 3].SendAsync(target);
            var isOurs = answer.Status >= 500 && answer.Status != 501 && !answer.Text.Contains("several-rows", StringComparison.Ordinal);
            Assert.False(isOurs, $"{i % 3} {target}: {answer.Status} {answer.Text}");
            (good, bad) = answer.Status < 300 ? (good + 1, bad) : (good, bad + 1);
        }
        Assert.True(good > 100 && bad > 300, $"{good} and {bad}");
    }

    [Fact] // whoever may not call a query cannot tell it from one that is not there
    public async Task A_closed_query_leaves_no_trace()
    {
        var service = engines.Services[0];
        foreach (
            var (closed, absent) in new[]
            {
                ("/rest/asked/nobody/1", "/rest/asked/nobdy/1"),
                ("/rest/asked/nobody/1?secret=2", "/rest/asked/nobdy/1?secret=2"),
                ("/rest/asked/nobody?secret=a,", "/rest/asked/nobdy?secret=a,"),
                ("/odata/asked/Hidden(secret='a')", "/odata/asked/Hiddem(secret='a')"),
                ("/odata/asked/Hidden(secrt='a')", "/odata/asked/Hiddem(secrt='a')"),
                ("/odata/asked/Hidden", "/odata/asked/Hiddem"),
            }
        )
        {
            var (one, other) = (await service.SendAsync(closed), await service.SendAsync(absent));
            Assert.Equal(other.Status, one.Status);
            Assert.Equal(other.Text.Replace("nobdy", "nobody").Replace("Hiddem", "Hidden"), one.Text);
        }
    }
}
