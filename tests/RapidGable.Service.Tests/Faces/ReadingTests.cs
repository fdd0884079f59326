using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Reading over HTTP: documents, entities, values, pages.</summary>
public class ReadingTests(NetworkService service) : IClassFixture<NetworkService>
{
    private const string Root = "/odata/s/";

    private Task<Answer> GetAsync(string target, params (string, string)[] headers) =>
        service.Http.SendAsync(Root + target, "GET", headers);

    [Fact]
    [Proves("P-01, P-09, P-12, U-01, U-02, J-01")]
    public async Task The_service_document_lists_the_sets()
    {
        var answer = await GetAsync("");
        Assert.Equal(
            (200, "4.0", "application/json;odata.metadata=minimal"),
            (answer.Status, answer.Header("OData-Version"), answer.Header("Content-Type"))
        );
        Assert.Equal(service.Http.Address + "/odata/s/$metadata", answer.Json.GetProperty("@odata.context").GetString());
        Assert.Equal(12, answer.Json.GetProperty("value").GetArrayLength());
        Assert.Equal("""{"name":"Catchments","kind":"EntitySet","url":"Catchments"}""", answer.Json.GetProperty("value")[0].GetRawText());
        var redirect = await service.Http.SendAsync("/odata/s");
        Assert.Equal((301, "/odata/s/"), (redirect.Status, redirect.Header("Location")));
    }

    [Theory]
    [InlineData(null, "4.0")]
    [InlineData("4.0", "4.0")]
    [InlineData("4.01", "4.01")]
    [InlineData("5.0", "4.01")]
    [Proves("P-02, U-04, C-01")]
    public async Task The_metadata_document_has_the_asked_version(string? asked, string expected)
    {
        var answer = await GetAsync("$metadata", asked is null ? [] : [("OData-MaxVersion", asked)]);
        Assert.Equal((200, "application/xml", expected), (answer.Status, answer.Header("Content-Type"), answer.Header("OData-Version")));
        Assert.Contains($"Version=\"{expected}\"", answer.Text);
    }

    [Theory] // what an address gives, whole
    [InlineData("Stations(1)?$select=id,code", """{"@odata.context":"~$metadata#Stations(id,code)/$entity","id":1,"code":"AB-001"}""")]
    [InlineData(
        "Stations(1)?$select=code",
        """{"@odata.context":"~$metadata#Stations(code)/$entity","@odata.id":"Stations(1)","code":"AB-001"}"""
    )]
    [InlineData("Stations?$select=id&$top=2", """{"@odata.context":"~$metadata#Stations(id)","value":[{"id":1},{"id":2}]}""")]
    [InlineData("Stations?$select=*&$filter=id eq 0", """{"@odata.context":"~$metadata#Stations(*)","value":[]}""")]
    [InlineData("Stations(1)/name", """{"@odata.context":"~$metadata#Stations(1)/name","value":"Ashford Weir"}""")]
    [InlineData("Stations(1)/catchment/name", """{"@odata.context":"~$metadata#Catchments(3)/name","value":"Lower Alder"}""")]
    [InlineData(
        "Stations(1)/catchment?$select=id,name",
        """{"@odata.context":"~$metadata#Catchments(id,name)/$entity","id":3,"name":"Lower Alder"}"""
    )]
    [InlineData("Catchments(3)/Stations?$select=id&$top=1", """{"@odata.context":"~$metadata#Stations(id)","value":[{"id":1}]}""")]
    [InlineData(
        "Catchments(3)/Stations(1)/Sensors(station_id=1,sensor_no=1)?$select=kind,sensor_no",
        """{"@odata.context":"~$metadata#Sensors(kind,sensor_no)/$entity","@odata.id":"Sensors(station_id=1,sensor_no=1)","sensor_no":1,"kind":"level"}"""
    )]
    [InlineData(
        "Certificates('CAL%2F2')",
        """{"@odata.context":"~$metadata#Certificates/$entity","code":"CAL/2","name":"Calibration, second level","valid_months":24}"""
    )]
    [InlineData(
        "Certificates('BOAT''S')?$select=name",
        """{"@odata.context":"~$metadata#Certificates(name)/$entity","@odata.id":"Certificates('BOAT%27%27S')","name":"Small boats"}"""
    )]
    [InlineData(
        "Certificates('BOAT%27%27S')/valid_months",
        """{"@odata.context":"~$metadata#Certificates('BOAT%27%27S')/valid_months","value":60}"""
    )]
    [InlineData(
        "Certificates(code='Safety%20%26%20Rope')/name",
        """{"@odata.context":"~$metadata#Certificates('Safety%20%26%20Rope')/name","value":"Working on steep banks"}"""
    )]
    [InlineData(
        "Certificates('H%E2%82%82O%20100%25')/valid_months",
        """{"@odata.context":"~$metadata#Certificates('H%E2%82%82O%20100%25')/valid_months","value":18}"""
    )]
    [InlineData(
        "Certificates('First+Aid')?$select=code",
        """{"@odata.context":"~$metadata#Certificates(code)/$entity","code":"First+Aid"}"""
    )] // a plus in a path is a plus
    [InlineData("Stations?$count=true&$top=0", """{"@odata.context":"~$metadata#Stations","@odata.count":120,"value":[]}""")]
    [InlineData(
        "Stations?$count=true&$top=1&$skip=1&$filter=id lt 10&$select=id",
        """{"@odata.context":"~$metadata#Stations(id)","@odata.count":9,"value":[{"id":2}]}"""
    )]
    [InlineData(
        "Stations?$top=1&$expand=catchment($select=id)&$select=id",
        """{"@odata.context":"~$metadata#Stations(id,catchment(id))","value":[{"id":1,"catchment":{"id":3}}]}"""
    )]
    [InlineData(
        "Catchments?$top=1&$expand=parent&$select=id",
        """{"@odata.context":"~$metadata#Catchments(id,parent())","value":[{"id":1,"parent":null}]}"""
    )]
    [InlineData(
        "Stations?$filter=id in (1,100)&$expand=Sensors($select=sensor_no,kind)&$select=id",
        """{"@odata.context":"~$metadata#Stations(id,Sensors(sensor_no,kind))","value":[{"id":1,"Sensors":[{"@odata.id":"Sensors(station_id=1,sensor_no=1)","sensor_no":1,"kind":"level"}]},{"id":100,"Sensors":[{"@odata.id":"Sensors(station_id=100,sensor_no=1)","sensor_no":1,"kind":"level"}]}]}"""
    )]
    [InlineData(
        "group?$orderby=order desc&$select=id,größe_m_s&$top=2",
        """{"@odata.context":"~$metadata#group(id,gr%C3%B6%C3%9Fe_m_s)","value":[{"id":3,"größe_m_s":null},{"id":2,"größe_m_s":0.75}]}"""
    )]
    [InlineData("VisitTasks(visit_id=1,line_no=1)?$select=minutes,done", "*\"minutes\":\"PT")]
    [InlineData("Technicians?$top=1&$filter=full_name eq 'Iris Calder'&$select=email", "*\"email\":\"iris.calder@example.org\"")]
    [Proves(
        "U-07, U-11, U-20, U-21, U-24, Q-75 to Q-77, Q-82, Q-83, Q-91, J-02, J-03, J-06, J-08, J-10, J-13, J-30, J-35, X-09, "
            + "X-16, X-19, X-25"
    )]
    public async Task An_address_gives_its_answer(string target, string expected)
    {
        var answer = await GetAsync(target.Replace(" ", "%20").Replace("größe", "gr%C3%B6%C3%9Fe"));
        Assert.True(answer.Status == 200, answer.Text);
        if (expected.StartsWith('*'))
            Assert.Contains(expected[1..], answer.Text);
        else
            Assert.Equal(expected.Replace("~", service.Http.Address + Root), answer.Text);
    }

    [Fact] // uuid keys
    [Proves("U-12")]
    public async Task A_uuid_finds_its_row_in_any_case()
    {
        var id = (await GetAsync("Technicians?$top=1")).Json.GetProperty("value")[0].GetProperty("id").GetString()!;
        Assert.Equal(200, (await GetAsync($"Technicians({id.ToUpperInvariant()})")).Status);
        Assert.Equal(id, (await GetAsync($"Technicians({id})/id/$value")).Text);
    }

    [Theory]
    [InlineData("Stations(1)/name/$value", "Ashford Weir", "text/plain")]
    [InlineData("Stations(1)/telemetered/$value", "true", "text/plain")]
    [InlineData("Stations(1)/opened_on/$value", "2010-06-18", "text/plain")]
    [InlineData("Stations(1)/datum_m/$value", "237.346", "text/plain")]
    [InlineData("Sensors(station_id=1,sensor_no=1)/settings/$value", """{"interval_s":900,"smoothing":true}""", "application/json")]
    [InlineData("Stations/$count", "120", "text/plain")]
    [InlineData("Stations/$count?$filter=id%20le%2010", "10", "text/plain")]
    [InlineData("Stations/$count?$filter=id%20le%2010&$top=1&$skip=5", "10", "text/plain")]
    [InlineData("Catchments(3)/Stations/$count", "15", "text/plain")]
    [Proves("P-08, U-26, U-29, X-10")]
    public async Task A_raw_value_is_only_the_value(string target, string expected, string type)
    {
        var answer = await GetAsync(target);
        Assert.Equal((200, expected, type), (answer.Status, answer.Text, answer.Header("Content-Type")));
    }

    [Theory]
    [InlineData("Stations(1)/closed_on", 204)]
    [InlineData("Stations(1)/closed_on/$value", 204)]
    [InlineData("Catchments(1)/parent", 204)]
    [InlineData("Catchments(1)/parent/name", 404)]
    [InlineData("Stations(9999)", 404)]
    [InlineData("Stations(9999)/name", 404)]
    [InlineData("Stations(9999)/catchment", 404)]
    [InlineData("Stations(9999)/Sensors", 404)]
    [InlineData("Stations(9999)/Sensors/$count", 404)]
    [InlineData("Catchments(3)/Stations(2)", 404)]
    [InlineData("Catchments(4)/Stations?$filter=id%20eq%200", 200)]
    [InlineData("Certificates('CAL/2')", 400)]
    [InlineData("Stations(1)/Sensors(station_id=2,sensor_no=1)", 404)]
    [Proves("U-20, U-22 to U-24, U-50")]
    public async Task What_is_missing_is_told_from_what_is_empty(string target, int status)
    {
        var answer = await GetAsync(target);
        Assert.Equal(status, answer.Status);
        if (status == 204)
            Assert.Empty(answer.Bytes);
    }

    [Theory]
    [InlineData(null, "application/json;odata.metadata=minimal", 200)]
    [InlineData("*/*", "application/json;odata.metadata=minimal", 200)]
    [InlineData("application/json", "application/json;odata.metadata=minimal", 200)]
    [InlineData("application/json;odata.metadata=none", "application/json;odata.metadata=none", 200)]
    [InlineData("application/json;metadata=none", "application/json;odata.metadata=none", 200)]
    [InlineData("APPLICATION/JSON;OData.Metadata=NONE", "application/json;odata.metadata=none", 200)]
    [InlineData("application/json;IEEE754Compatible=true", "application/json;odata.metadata=minimal;IEEE754Compatible=true", 200)]
    [InlineData("application/json;odata.streaming=true", "application/json;odata.metadata=minimal", 200)]
    [InlineData("application/json;charset=utf-8", "application/json;odata.metadata=minimal;charset=utf-8", 200)]
    [InlineData("text/html,application/xhtml+xml,*/*;q=0.8", "application/json;odata.metadata=minimal", 200)]
    [InlineData("application/json;odata.metadata=none, application/json;q=0.5", "application/json;odata.metadata=none", 200)]
    [InlineData("application/json;odata.metadata=full", "application/json;odata.metadata=full", 200)]
    [InlineData("application/json;odata.metadata=much", "", 406)]
    [InlineData("application/json;colour=red", "", 406)]
    [InlineData("application/atom+xml", "", 406)]
    [InlineData("application/json;q=0", "", 406)]
    [InlineData("application/json;q=0,*/*", "", 406)]
    [Proves("P-08 to P-18, P-21, P-54, X-14")]
    public async Task Accept_is_honoured(string? accept, string type, int status)
    {
        var answer = await GetAsync("Stations?$top=1", accept is null ? [] : [("Accept", accept)]);
        Assert.Equal(status, answer.Status);
        Assert.Equal(status == 200 ? type : "application/json", answer.Header("Content-Type"));
        Assert.Contains("Accept", answer.Header("Vary"));
    }

    [Theory]
    [InlineData("Stations?$format=json", 200)]
    [InlineData("Stations?$format=application/json;odata.metadata=none", 200)]
    [InlineData("Stations?$format=xml", 406)]
    [InlineData("Stations?$format=atom", 406)]
    [InlineData("Stations?$format=json;odata.metadata=none", 400)]
    [InlineData("Stations?$format=nonsense", 400)]
    [InlineData("$metadata?$format=xml", 200)]
    [InlineData("$metadata?$format=application/xml", 200)]
    [InlineData("$metadata?$format=json", 200)]
    [InlineData("$metadata?$format=atom", 406)]
    [InlineData("Stations(1)/name/$value?$format=text/plain", 200)]
    [InlineData("Stations(1)/name/$value?$format=json", 406)]
    [Proves("P-10, U-05")]
    public async Task Format_beats_accept(string target, int status) =>
        Assert.Equal(status, (await GetAsync(target, ("Accept", status == 200 ? "application/atom+xml" : "*/*"))).Status);

    [Theory]
    [InlineData(null, "4.0", "@odata.context", "application/json;odata.metadata=minimal")]
    [InlineData("4.0", "4.0", "@odata.context", "application/json;odata.metadata=minimal")]
    [InlineData("4.01", "4.01", "@context", "application/json;metadata=minimal")]
    [InlineData("7.0", "4.01", "@context", "application/json;metadata=minimal")]
    [Proves("P-01 to P-04, P-12")]
    public async Task The_version_decides_the_names(string? asked, string version, string name, string type)
    {
        var answer = await GetAsync("Stations?$top=1&$count=true", asked is null ? [] : [("OData-MaxVersion", asked)]);
        Assert.Equal((version, type), (answer.Header("OData-Version"), answer.Header("Content-Type")));
        Assert.True(answer.Json.TryGetProperty(name, out _));
    }

    [Theory]
    [InlineData("3.0")]
    [InlineData("new")]
    [InlineData("-4")]
    [Proves("P-04")]
    public async Task A_version_that_cannot_be_honoured_is_refused(string asked)
    {
        var answer = await GetAsync("Stations", ("OData-MaxVersion", asked));
        Assert.Equal((400, "version"), (answer.Status, answer.Json.GetProperty("error").GetProperty("code").GetString()));
    }

    [Theory]
    [InlineData("OData-Isolation")]
    [InlineData("Isolation")]
    [Proves("P-55")]
    public async Task Isolation_that_is_not_offered_is_refused(string header) =>
        Assert.Equal(412, (await GetAsync("Stations", (header, "snapshot"))).Status);

    [Fact] // nothing but next link and count remains
    [Proves("P-14")]
    public async Task No_metadata_leaves_only_what_is_needed()
    {
        var answer = await GetAsync("Stations?$select=name&$count=true", ("Accept", "application/json;odata.metadata=none"));
        Assert.Equal(["@odata.count", "value", "@odata.nextLink"], answer.Json.EnumerateObject().Select(p => p.Name));
        Assert.Equal(["name"], answer.Json.GetProperty("value")[0].EnumerateObject().Select(p => p.Name));
    }

    [Fact]
    [Proves("P-17, J-21, J-32")]
    public async Task Large_numbers_become_text_on_request()
    {
        var row = (await GetAsync("Readings?$top=1&$count=true", ("Accept", "application/json;IEEE754Compatible=true"))).Json;
        Assert.Equal("50000", row.GetProperty("@odata.count").GetString());
        Assert.Equal("1", row.GetProperty("value")[0].GetProperty("id").GetString());
        Assert.Equal("2.8398", row.GetProperty("value")[0].GetProperty("value").GetString());
    }

    [Theory]
    [InlineData("maxpagesize=7", "maxpagesize=7", 7)]
    [InlineData("odata.maxpagesize=7", "odata.maxpagesize=7", 7)]
    [InlineData("handling=strict, odata.maxpagesize=3, odata.maxpagesize=9", "odata.maxpagesize=3", 3)]
    [InlineData("maxpagesize=5000", "maxpagesize=5000", 100)] // never above what the set allows
    [InlineData("maxpagesize=0", null, 50)]
    [InlineData("maxpagesize=many", null, 50)]
    [InlineData("nonsense", null, 50)]
    [Proves("P-26 to P-28, P-32")]
    public async Task A_page_size_can_be_asked_for(string prefer, string? applied, int rows)
    {
        var answer = await GetAsync("Stations", ("Prefer", prefer));
        Assert.Equal((applied, rows), (answer.Header("Preference-Applied"), answer.Json.GetProperty("value").GetArrayLength()));
    }

    [Fact] // all 50,000, none lost, none twice
    [Proves("Q-113, J-22, X-05, X-07, X-08")]
    public async Task Next_links_lead_through_everything()
    {
        var ids = new HashSet<long>();
        var pages = 0;
        for (
            string? next =
                Root
                + "Readings?$select=id,value&$filter=sensor_no%20ge%200&$orderby=quality%20desc,value&$count=true&$expand=Sensor($select=kind)";
            next is not null;
            pages++
        )
        {
            var page = (await service.Http.SendAsync(next, "GET", ("Prefer", "maxpagesize=1000"))).Json;
            Assert.Equal(NetworkService.Readings, page.GetProperty("@odata.count").GetInt64());
            foreach (var row in page.GetProperty("value").EnumerateArray())
            {
                Assert.True(ids.Add(row.GetProperty("id").GetInt64()));
                Assert.Equal(["id", "value", "Sensor"], row.EnumerateObject().Select(p => p.Name));
            }
            next = page.TryGetProperty("@odata.nextLink", out var link) ? link.GetString() : null;
        }
        Assert.Equal((NetworkService.Readings, 50), (ids.Count, pages));
    }

    [Fact]
    [Proves("Q-13, Q-76")]
    public async Task Top_and_skip_span_pages()
    {
        var ids = new List<long>();
        string? next = Root + "Stations?$skip=5&$top=120&$select=id";
        while (next is not null)
        {
            var page = (await service.Http.SendAsync(next)).Json;
            ids.AddRange(page.GetProperty("value").EnumerateArray().Select(r => r.GetProperty("id").GetInt64()));
            next = page.TryGetProperty("@odata.nextLink", out var link) ? link.GetString() : null;
        }
        Assert.Equal(Enumerable.Range(6, 115).Select(i => (long)i), ids);
        var exact = (await GetAsync("Stations?$top=50&$select=id")).Json;
        Assert.False(exact.TryGetProperty("@odata.nextLink", out _));
    }

    [Fact] // an expanded collection has pages of its own
    [Proves("P-32, Q-91")]
    public async Task An_expanded_collection_is_paged()
    {
        var page = (
            await service.Http.SendAsync(
                Root + "Sensors?$top=2&$expand=Readings($select=id)&$select=sensor_no",
                "GET",
                ("Prefer", "maxpagesize=10")
            )
        ).Json;
        foreach (var sensor in page.GetProperty("value").EnumerateArray())
        {
            var ids = sensor.GetProperty("Readings").EnumerateArray().Select(r => r.GetProperty("id").GetInt64()).ToList();
            Assert.Equal(10, ids.Count);
            var next = sensor.GetProperty("Readings@odata.nextLink").GetString();
            while (next is not null)
            {
                var more = (await service.Http.SendAsync(next)).Json;
                Assert.Equal(["id"], more.GetProperty("value")[0].EnumerateObject().Select(p => p.Name));
                ids.AddRange(more.GetProperty("value").EnumerateArray().Select(r => r.GetProperty("id").GetInt64()));
                next = more.TryGetProperty("@odata.nextLink", out var link) ? link.GetString() : null;
            }
            var key = sensor.GetProperty("@odata.id").GetString();
            Assert.Equal(ids.Order(), ids);
            Assert.Equal((await GetAsync(key + "/Readings/$count")).Text, ids.Distinct().Count().ToString());
        }
    }

    [Fact] // a page of 4.01 names its next link so
    public async Task Version_401_drops_the_prefix_everywhere()
    {
        var page = (
            await GetAsync("Stations?$select=name&$count=true&$expand=Sensors", ("OData-MaxVersion", "4.01"), ("Prefer", "maxpagesize=1"))
        ).Text;
        Assert.DoesNotContain("odata.", page.Replace("/odata/", ""));
        Assert.Contains("\"@nextLink\":", page);
    }

    [Fact] // one instant for the whole request
    [Proves("Q-50")]
    public async Task Now_is_the_time_of_the_request() =>
        Assert.Equal("50000", (await GetAsync("Readings/$count?$filter=taken_at%20lt%20now()%20or%20taken_at%20ge%20now()")).Text);

    [Theory]
    [InlineData("POST", 405)]
    [InlineData("PUT", 405)]
    [InlineData("PATCH", 405)]
    [InlineData("DELETE", 405)]
    [InlineData("OPTIONS", 204)]
    [InlineData("HEAD", 200)]
    [Proves("P-25, U-51, L-21")]
    public async Task Only_reading_methods_are_allowed(string method, int status)
    {
        var answer = await service.Http.SendAsync(Root + "Stations(1)", method);
        Assert.Equal(status, answer.Status);
        Assert.Equal(status == 200 ? null : "GET, HEAD, OPTIONS", answer.Header("Allow"));
        if (method == "HEAD")
            Assert.Equal((0, "application/json;odata.metadata=minimal"), (answer.Bytes.Length, answer.Header("Content-Type")));
        Assert.Equal(404, (await service.Http.SendAsync(Root + "Nothing", method)).Status);
    }

    [Fact] // closed by default, and a closed service looks like a missing one
    public async Task What_is_closed_looks_missing()
    {
        var closed = await service.Http.SendAsync("/odata/closed/");
        var missing = await service.Http.SendAsync("/odata/absent/");
        Assert.Equal((404, missing.Text.Replace("absent", "closed")), (closed.Status, closed.Text));
        Assert.Equal(
            ["Stations"],
            (await service.Http.SendAsync("/odata/half/"))
                .Json.GetProperty("value")
                .EnumerateArray()
                .Select(e => e.GetProperty("name").GetString())
        );
        Assert.DoesNotContain("Visit", (await service.Http.SendAsync("/odata/half/$metadata")).Text);
        foreach (var target in new[] { "Visits", "Stations(1)/Visits", "Visits/$count" })
            Assert.Equal(404, (await service.Http.SendAsync("/odata/half/" + target)).Status);
        Assert.Equal(400, (await service.Http.SendAsync("/odata/half/Stations?$expand=Visits")).Status);
        Assert.Equal(
            ["half", "s"],
            (await service.Http.SendAsync("/services"))
                .Json.GetProperty("services")
                .EnumerateArray()
                .Select(s => s.GetProperty("name").GetString())
        );
    }

    [Fact]
    public async Task Sets_of_one_service_come_from_two_sources()
    {
        using var folder = new Core.Tests.TestWorkspace();
        folder
            .WithSource()
            .WithNetwork()
            .WithLab()
            .WithService(
                "  - { from: station, name: Stations, hide: [photo] }\n  - { from: sample, source: lab }\n  - { from: result, "
                    + "source: lab }\n"
            );
        await using var http = await RunningService.StartAsync(folder.Folder);
        Assert.Equal("120", (await http.SendAsync("/odata/s/Stations/$count")).Text);
        Assert.Equal("300", (await http.SendAsync("/odata/s/sample/$count")).Text);
        var sample = (await http.SendAsync("/odata/s/sample?$top=1&$expand=result")).Json.GetProperty("value")[0];
        Assert.True(sample.GetProperty("result").GetArrayLength() > 0);
        var verify = await Gable.RunAsync(folder.Folder, "verify", "--json");
        Assert.True(verify.Code == 0, verify.Output);
        folder.WithService("  - { from: sample, source: labb }\n");
        await using var workspace = await folder.LoadAsync();
        Assert.Contains("Did you mean 'lab'?", Assert.Single(workspace.Diagnostics.Items).Message);
    }

    [Fact]
    public async Task The_list_of_services_gives_addresses_that_answer()
    {
        foreach (var listed in (await service.Http.SendAsync("/services")).Json.GetProperty("services").EnumerateArray())
        {
            Assert.Equal(200, (await service.Http.SendAsync(listed.GetProperty("faces").GetProperty("odata").GetString()!)).Status);
            Assert.Matches("^[0-9a-f]{8}$", listed.GetProperty("revision").GetString());
        }
    }

    [Fact]
    public async Task Health_and_metrics_answer()
    {
        await GetAsync("Stations");
        Assert.Equal("live", (await service.Http.SendAsync("/health/live")).Text);
        Assert.Equal("ready", (await service.Http.SendAsync("/health/ready")).Text);
        Assert.Matches("gable_requests_total{[^}]*service=\"s\",status=\"200\"} [1-9]", (await service.Http.SendAsync("/metrics")).Text);
    }

    [Fact]
    public async Task Management_explains_a_request()
    {
        var explained = await service.Http.SendAsync(
            "/manage/explain?url="
                + Uri.EscapeDataString(service.Http.Address + Root + "Stations?$filter=name eq 'x'&$count=true".Replace(" ", "%20"))
        );
        var statements = explained.Json.GetProperty("statements");
        Assert.Equal(2, statements.GetArrayLength());
        Assert.Equal("'x'", statements[1].GetProperty("parameters")[0].GetProperty("value").GetString());
        Assert.Equal(
            400,
            (await service.Http.SendAsync("/manage/explain?url=" + Uri.EscapeDataString("/odata/s/Stations?$filter=nam%20eq%201"))).Status
        );
        Assert.Equal(12, (await service.Http.SendAsync("/manage/services/s")).Json.GetProperty("sets").GetArrayLength());
    }

    [Fact] // in spirit: the same model through the management interface and the metadata document
    [Proves("C-54")]
    public async Task Management_and_metadata_agree()
    {
        var sets = (await service.Http.SendAsync("/manage/services/s")).Json.GetProperty("sets").EnumerateArray().ToList();
        var metadata = (await GetAsync("$metadata")).Text;
        foreach (var property in sets.SelectMany(s => s.GetProperty("properties").EnumerateArray()))
            Assert.Contains(
                $"<Property Name=\"{property.GetProperty("name").GetString()}\" Type=\"{property.GetProperty("type").GetString()}\"",
                metadata
            );
        Assert.DoesNotContain("photo", metadata);
        Assert.Contains(sets, s => s.GetProperty("hidden").EnumerateArray().Any(h => h.GetString() == "photo"));
    }
}
