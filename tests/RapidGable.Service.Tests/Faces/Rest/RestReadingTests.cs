using System.IO.Compression;
using System.Text;
using System.Text.Json;
using System.Xml.Linq;
using System.Xml.Schema;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Reading over the plain REST face: bodies, formats, headers, errors.</summary>
public sealed class RestReadingTests(NetworkService service) : IClassFixture<NetworkService>
{
    private Task<Answer> GetAsync(string target, params (string, string)[] headers) =>
        service.Http.SendAsync("/rest/s/" + target.Replace(" ", "%20"), "GET", headers);

    [Theory]
    [Proves("R-01")]
    [InlineData("Stations?fields=id,code&limit=100&id=..2", "{'rows':[{'id':1,'code':'AB-001'},{'id':2,'code':'AB-002'}]}")]
    [InlineData("Stations?id=0", "{'rows':[]}")]
    [InlineData("Stations?fields=id&rows=1..1&total=true", "{'total':120,'rows':[{'id':1}]}")]
    [InlineData("Stations?fields=id&rows=41..42", "{'rows':[{'id':41},{'id':42}]}")]
    [InlineData("Stations/1?fields=id,code", "{'id':1,'code':'AB-001'}")]
    [InlineData("Stations/1/catchment?fields=id,name", "{'id':3,'name':'Lower Alder'}")]
    [InlineData("Catchments?fields=id&id=1&include=parent", "{'rows':[{'id':1,'parent':null}]}")]
    [InlineData("Stations/1?fields=id,Sensors/kind&include=Sensors", "{'id':1,'Sensors':{'rows':[{'kind':'level'}]}}")]
    [InlineData("Stations/1?fields=id,catchment/name&include=catchment", "{'id':1,'catchment':{'name':'Lower Alder'}}")]
    [InlineData("Sensors/1/1?fields=kind", "{'kind':'level'}")]
    [InlineData("Stations/1/Sensors/1?fields=kind", "{'kind':'level'}")]
    [InlineData("Certificates/CAL%2F2?fields=code", "{'code':'CAL/2'}")]
    [InlineData("Certificates/First%2BAid?fields=code", "{'code':'First+Aid'}")]
    public async Task Rows_are_plain(string target, string expected)
    {
        var answer = await GetAsync(target);
        Assert.Equal((200, "application/json"), (answer.Status, answer.Header("Content-Type")));
        Assert.Equal(expected.Replace('\'', '"'), answer.Text);
    }

    [Theory]
    [Proves("R-06, R-20")]
    [InlineData("Nothing", 404, "not-found")]
    [InlineData("Stations/9999", 404, "not-found")]
    [InlineData("Stations/9999/Sensors", 404, "not-found")]
    [InlineData("Catchments/1/parent", 404, "not-found")]
    [InlineData("Stations/1/name", 404, "not-found")]
    [InlineData("Stations/x", 400, "type")]
    [InlineData("Stations?nope=1", 400, "unknown-parameter")]
    [InlineData("Stations/1?limit=5", 400, "parameter-not-here")]
    [InlineData("Stations?format=pdf", 400, "format")]
    [InlineData("Stations?format=csv;header=maybe", 400, "format")]
    [InlineData("Stations?rows=2..5&after=WyI5MDNmNmIyNSIsMl0&id=1", 400, "parameter")]
    [InlineData("Stations?after=WyJ4IiwyXQ", 410, "gone")]
    [InlineData("Stations?sort=name&after=WyJ4IiwyXQ", 400, "after")]
    [InlineData("Stations//1", 400, "path-syntax")]
    [InlineData("openapi.json?limit=1", 400, "parameter-not-here")]
    public async Task Problems_have_details(string target, int status, string code)
    {
        var answer = await GetAsync(target);
        Assert.Equal((status, "application/problem+json"), (answer.Status, answer.Header("Content-Type")));
        var problem = answer.Json;
        Assert.Equal(status, problem.GetProperty("status").GetInt32());
        Assert.Equal("/problems/" + code, problem.GetProperty("type").GetString());
        Assert.DoesNotContain("$", problem.GetProperty("detail").GetString());
        Assert.Equal(200, (await service.Http.SendAsync("/problems/" + code)).Status);
    }

    [Fact]
    [Proves("R-14, R-15, R-16")]
    public async Task Pages_make_the_whole_in_every_format()
    {
        foreach (var format in new[] { "json", "csv", "jsonl", "xml" })
        {
            var (ids, pages) = (new List<int>(), 0);
            for (var next = (string?)$"Stations?fields=id&sort=-name&limit=50&format={format}"; next is not null; pages++)
            {
                var answer = await GetAsync(next);
                Assert.Equal(200, answer.Status);
                ids.AddRange(
                    format switch
                    {
                        "json" => answer.Json.GetProperty("rows").EnumerateArray().Select(r => r.GetProperty("id").GetInt32()),
                        "csv" => answer.Text.Split("\r\n", StringSplitOptions.RemoveEmptyEntries).Skip(1).Select(int.Parse),
                        "jsonl" => answer
                            .Text.Split('\n', StringSplitOptions.RemoveEmptyEntries)
                            .Select(l => JsonDocument.Parse(l).RootElement.GetProperty("id").GetInt32()),
                        _ => XDocument.Parse(answer.Text).Root!.Elements().Select(e => (int)e.Element("id")!),
                    }
                );
                var link = LinkOf(answer, "next");
                if (format == "json")
                    Assert.Equal(link, answer.Json.TryGetProperty("next", out var inner) ? inner.GetString() : null);
                Assert.Equal(pages > 0, LinkOf(answer, "first") is not null);
                next = link?.Split("/rest/s/")[1];
            }
            Assert.Equal(3, pages);
            Assert.Equal(Enumerable.Range(1, 120), ids.Order());
        }
    }

    private static string? LinkOf(Answer answer, string relation) =>
        (answer.Header("Link") ?? "")
            .Split(", ")
            .Where(l => l.EndsWith($"rel=\"{relation}\"", StringComparison.Ordinal))
            .Select(l => l[1..l.IndexOf('>')])
            .SingleOrDefault();

    [Fact] // a window goes on as far as it was asked for
    public async Task A_window_ends_where_it_was_to_end()
    {
        var ids = new List<int>();
        for (var next = (string?)"Stations?fields=id&rows=11..115"; next is not null; )
        {
            var page = (await GetAsync(next)).Json;
            ids.AddRange(page.GetProperty("rows").EnumerateArray().Select(r => r.GetProperty("id").GetInt32()));
            next = page.TryGetProperty("next", out var link) ? link.GetString()!.Split("/rest/s/")[1] : null;
        }
        Assert.Equal(Enumerable.Range(11, 105), ids);
    }

    [Fact] // related rows beyond a page have a link of their own, and formats without a place for it say so
    public async Task Related_rows_go_on()
    {
        var station = (await GetAsync("Sensors/1/1?fields=station_id,Readings/id&include=Readings")).Json;
        var readings = station.GetProperty("Readings");
        Assert.Equal(100, readings.GetProperty("rows").GetArrayLength());
        var ids = readings.GetProperty("rows").EnumerateArray().Select(r => r.GetProperty("id").GetInt64()).ToList();
        for (var next = readings.GetProperty("next").GetString(); next is not null; )
        {
            var page = (await service.Http.SendAsync(next)).Json;
            ids.AddRange(page.GetProperty("rows").EnumerateArray().Select(r => r.GetProperty("id").GetInt64()));
            next = page.TryGetProperty("next", out var link) ? link.GetString() : null;
        }
        var all = (await service.Http.SendAsync("/odata/s/Sensors(station_id=1,sensor_no=1)/Readings/$count")).Text;
        Assert.Equal(int.Parse(all), ids.Distinct().Count());
        foreach (var format in new[] { "csv", "xml", "jsonl", "xlsx" })
            Assert.Equal(
                "related-cut",
                (await GetAsync($"Sensors?station_id=1&include=Readings&format={format}")).Json.GetProperty("code").GetString()
            );
    }

    [Theory]
    [Proves("R-22, R-23, R-24, R-25")]
    [InlineData("Stations?fields=id,closed_on,name&id=..2&format=csv", "id,name,closed_on|1,Ashford Weir,|2,Bramble Bridge,2023-06-22|")]
    [InlineData("Stations?fields=id&id=0&format=csv", "id|")]
    [InlineData("Stations?fields=id&id=1&format=text/csv;header=absent", "1|")]
    [InlineData("Stations?fields=id&id=1&include=catchment&format=csv&fields=id,catchment/name", null)]
    [InlineData("Stations?id=1&include=catchment&fields=id,catchment/name&format=csv", "id,catchment/name|1,Lower Alder|")]
    [InlineData("Catchments?id=1&include=parent&fields=id,parent/name,parent/id&format=csv", "id,parent/id,parent/name|1,,|")]
    [InlineData("Stations?id=1&include=Sensors&fields=id,Sensors/kind&format=csv", "id,Sensors|1,\"[{\"\"kind\"\":\"\"level\"\"}]\"|")]
    [InlineData("Stations/1?fields=id,name&format=csv", "id,name|1,Ashford Weir|")]
    [InlineData("Sensors?station_id=1&fields=settings&format=csv", "settings|\"{\"\"interval_s\"\":900,\"\"smoothing\"\":true}\"|")]
    public async Task Csv_is_as_the_RFC_has_it(string target, string? expected)
    {
        var answer = await GetAsync(target);
        if (expected is null)
        {
            Assert.Equal(400, answer.Status);
            return;
        }
        Assert.Equal(expected.Replace("|", "\r\n"), answer.Text);
        var header = target.Contains("absent") ? "absent" : "present";
        Assert.Equal("text/csv;charset=utf-8;header=" + header, answer.Header("Content-Type"));
        Assert.StartsWith("attachment; filename=", answer.Header("Content-Disposition"));
    }

    [Theory] // the OData face has CSV, too
    [InlineData("Stations?$select=id,name&$top=2&$format=csv", "id,name|1,Ashford Weir|2,Bramble Bridge|")]
    [InlineData("Stations?$apply=aggregate($count as n)&$format=csv", "n|120|")]
    [InlineData("Stations?$select=id&$top=1&$expand=Sensors/$count&$format=csv", "id,Sensors|1,1|")]
    public async Task OData_lists_are_CSV_as_well(string target, string expected)
    {
        var answer = await service.Http.SendAsync("/odata/s/" + target.Replace(" ", "%20"));
        Assert.Equal((200, expected.Replace("|", "\r\n")), (answer.Status, answer.Text));
        var page = await service.Http.SendAsync("/odata/s/Stations?$select=id&$format=csv");
        Assert.Contains("$skiptoken", LinkOf(page, "next"));
        Assert.Equal(501, (await service.Http.SendAsync("/odata/s/Stations/$ref?$format=csv")).Status);
    }

    [Fact]
    public async Task Xml_is_described_by_its_schema()
    {
        var schemas = new XmlSchemaSet();
        schemas.Add(null, System.Xml.XmlReader.Create(new MemoryStream((await GetAsync("schema.xsd")).Bytes)));
        foreach (
            var target in new[]
            {
                "Stations?total=true",
                "Stations?fields=name&sort=-name",
                "Stations/1?include=catchment,Sensors",
                "Readings?limit=500",
                "Technicians",
                "Visits?include=station,technician",
                "wide_form",
                "group",
            }
        )
        {
            var answer = await GetAsync(target, ("Accept", "application/xml"));
            Assert.True(answer.Status == 200, answer.Text);
            Assert.Equal("application/xml", answer.Header("Content-Type"));
            var faults = new List<string>();
            XDocument.Parse(answer.Text).Validate(schemas, (_, e) => faults.Add(e.Message));
            Assert.True(faults.Count == 0, $"{target}: {string.Join("; ", faults.Take(3))}");
        }
    }

    [Fact] // a workbook is a zip file with one sheet
    public async Task Xlsx_is_a_workbook()
    {
        var answer = await GetAsync("Stations?format=xlsx&limit=3");
        Assert.Equal("application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", answer.Header("Content-Type"));
        using var zip = new ZipArchive(new MemoryStream(answer.Bytes));
        using var sheet = zip.GetEntry("xl/worksheets/sheet1.xml")!.Open();
        Assert.Equal(4, XDocument.Load(sheet).Descendants().Count(e => e.Name.LocalName == "row"));
        var nothing = await GetAsync("Stations?format=xlsx&id=0");
        Assert.Equal(200, nothing.Status);
    }

    [Theory]
    [Proves("R-06")]
    [InlineData(null, 200, "application/json")]
    [InlineData("*/*", 200, "application/json")]
    [InlineData("text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8", 200, "application/json")]
    [InlineData("text/csv", 200, "text/csv;charset=utf-8;header=present")]
    [InlineData("text/csv;header=absent", 200, "text/csv;charset=utf-8;header=absent")]
    [InlineData("text/*", 200, "text/csv;charset=utf-8;header=present")]
    [InlineData("application/json;q=0.5, application/xml", 200, "application/xml")]
    [InlineData("application/json;q=0, */*", 200, "application/x-ndjson")]
    [InlineData("application/x-ndjson", 200, "application/x-ndjson")]
    [InlineData("image/png", 406, "application/problem+json")]
    [InlineData("application/json;charset=latin1", 406, "application/problem+json")]
    [InlineData("nonsense", 400, "application/problem+json")]
    public async Task Accept_chooses_the_format(string? accept, int status, string type)
    {
        var answer = await GetAsync("Stations?limit=1", accept is null ? [] : [("Accept", accept)]);
        Assert.Equal((status, type), (answer.Status, answer.Header("Content-Type")));
    }

    [Fact]
    [Proves("R-08, R-10, R-13")]
    public async Task Lists_are_known_again()
    {
        var first = await GetAsync("Stations?limit=5");
        Assert.Equal("no-cache", first.Header("Cache-Control"));
        Assert.Contains("Accept", first.Header("Vary"));
        var again = await GetAsync("Stations?limit=5", ("If-None-Match", first.Header("ETag")!));
        Assert.Equal((304, ""), (again.Status, again.Text));
        Assert.Equal(first.Header("ETag"), again.Header("ETag"));
        Assert.Equal(first.Header("Cache-Control"), again.Header("Cache-Control"));
        Assert.Equal(first.Header("Vary"), again.Header("Vary"));
        Assert.Equal(200, (await GetAsync("Stations?limit=6", ("If-None-Match", first.Header("ETag")!))).Status);
    }

    [Theory]
    [Proves("R-03, R-04")]
    [InlineData("OPTIONS", "Stations", 204, "GET, HEAD, OPTIONS")]
    [InlineData("POST", "Stations", 405, "GET, HEAD, OPTIONS")]
    [InlineData("DELETE", "Stations/1", 405, "GET, HEAD, OPTIONS")]
    [InlineData("PUT", "openapi.json", 405, "GET, HEAD, OPTIONS")]
    [InlineData("BREW", "Stations", 501, null)]
    [InlineData("HEAD", "Stations", 200, null)]
    public async Task Methods_are_told(string method, string target, int status, string? allow)
    {
        var answer = await service.Http.SendAsync("/rest/s/" + target, method);
        Assert.Equal((status, allow), (answer.Status, answer.Header("Allow")));
    }

    [Fact] // who may not see a set meets no trace of it
    public async Task Closed_things_are_absent()
    {
        var (closed, nothing) = (await service.Http.SendAsync("/rest/half/Visits"), await service.Http.SendAsync("/rest/half/Visitz"));
        Assert.Equal((404, 404), (closed.Status, nothing.Status));
        Assert.Equal(nothing.Text.Replace("Visitz", "Visits"), closed.Text);
        Assert.Equal(404, (await service.Http.SendAsync("/rest/closed/")).Status);
        foreach (var target in new[] { "", "openapi.json", "openapi.yaml", "schema.xsd", "Stations/1?include=Visits", "Stations?Visits=1" })
        {
            var answer = await service.Http.SendAsync("/rest/half/" + target);
            Assert.True(answer.Status == 400 || !answer.Text.Contains("Visit"), target);
        }
        Assert.DoesNotContain("Visit", (await service.Http.SendAsync("/services")).Text.Split("\"half\"")[1].Split("\"name\"")[0]);
    }

    [Fact] // an answer that is larger than what is kept in memory goes through a file, and its link is there all the same
    public async Task Large_pages_have_their_link()
    {
        var answer = await GetAsync("Readings?limit=1000&include=Sensor,Sensor/station,Sensor/station/catchment&format=csv");
        Assert.Equal(200, answer.Status);
        Assert.NotNull(LinkOf(answer, "next"));
        Assert.Equal(1001, Encoding.UTF8.GetString(answer.Bytes).Split("\r\n", StringSplitOptions.RemoveEmptyEntries).Length);
    }
}
