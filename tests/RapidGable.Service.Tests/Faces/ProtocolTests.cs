using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using RapidGable.Core.Tests;
using RapidGable.Model;

namespace RapidGable.Service.Tests;

/// <summary>What stands around the rows: control information, tags, references, batches, and answers that are fetched later.</summary>
public sealed class ProtocolTests(NetworkService network) : IClassFixture<NetworkService>
{
    private const string Root = "/odata/s/";

    private Task<Answer> GetAsync(string target, params (string, string)[] headers) =>
        network.Http.SendAsync(Root + target.Replace(" ", "%20"), "GET", headers);

    private string Address => network.Http.Address + Root;

    [Theory]
    [InlineData("Stations?$top=1", "Stations")]
    [InlineData("Stations(1)", "Stations/$entity")]
    [InlineData("Stations(1)/catchment", "Catchments/$entity")]
    [InlineData("Stations?$top=1&$select=name,code", "Stations(name,code)")]
    [InlineData("Stations?$top=1&$select=*,catchment", "Stations(*,catchment)")]
    [InlineData("Stations?$top=1&$expand=Sensors", "Stations(Sensors())")]
    [InlineData("Stations?$top=1&$select=name&$expand=Sensors($select=kind;$expand=Readings)", "Stations(name,Sensors(kind,Readings()))")]
    [InlineData("Stations?$top=1&$expand=Sensors/$ref,Visits/$count", "Stations")]
    [InlineData("Catchments?$top=1&$expand=parent($levels=3)", "Catchments(parent+())")]
    [InlineData("Catchments?$top=1&$expand=parent($levels=3;$select=name)", "Catchments(parent+(name))")]
    [InlineData("Stations/$ref?$top=1", "Collection($ref)")]
    [InlineData("Stations(1)/catchment/$ref", "$ref")]
    [InlineData("Stations(1)/name", "Stations(1)/name")]
    [InlineData("Stations?$apply=groupby((catchment/name,telemetered),aggregate($count as n))", "Stations(catchment(name),telemetered,n)")]
    [InlineData("Stations?$top=1&$compute=id add 1 as more&$select=more", "Stations(more)")]
    [InlineData("$crossjoin(Stations,Catchments)?$top=1", "Collection(Edm.ComplexType)")]
    [Proves("U-45, J-01 to J-17")]
    public async Task A_context_url_names_what_is_there(string target, string fragment) =>
        Assert.Equal($"{Address}$metadata#{fragment}", (await GetAsync(target)).Json.GetProperty("@odata.context").GetString());

    [Fact]
    [Proves("P-16, J-19, J-23, J-25")]
    public async Task Full_metadata_spells_everything_out()
    {
        var json = (
            await GetAsync(
                "Stations(1)?$select=name,opened_on,catchment&$expand=Sensors($top=1)",
                ("Accept", "application/json;odata.metadata=full")
            )
        ).Json;
        Assert.Equal("#T.Station", json.GetProperty("@odata.type").GetString());
        Assert.Equal("Stations(1)", json.GetProperty("@odata.id").GetString());
        Assert.Equal("Stations(1)", json.GetProperty("@odata.readLink").GetString());
        Assert.Equal("#Date", json.GetProperty("opened_on@odata.type").GetString());
        Assert.False(json.TryGetProperty("name@odata.type", out _));
        Assert.Equal("Stations(1)/catchment", json.GetProperty("catchment@odata.navigationLink").GetString());
        Assert.Equal("Stations(1)/catchment/$ref", json.GetProperty("catchment@odata.associationLink").GetString());
        Assert.Equal("Sensors(station_id=1,sensor_no=1)", json.GetProperty("Sensors")[0].GetProperty("@odata.id").GetString());
        var newer = (await GetAsync("Stations(1)", ("Accept", "application/json;metadata=full"), ("OData-MaxVersion", "4.01"))).Json;
        Assert.Equal("#T.Station", newer.GetProperty("@type").GetString());
    }

    [Fact] // none keeps counts and links only
    [Proves("P-14")]
    public async Task No_metadata_keeps_counts_and_next_links()
    {
        var json = (
            await GetAsync(
                "Stations?$count=true&$select=name&$expand=Sensors($count=true;$select=kind)",
                ("Accept", "application/json;odata.metadata=none"),
                ("Prefer", "maxpagesize=1")
            )
        ).Json;
        Assert.Equal(["@odata.count", "value", "@odata.nextLink"], json.EnumerateObject().Select(p => p.Name));
        Assert.All(json.GetProperty("value")[0].EnumerateObject(), p =>
            Assert.True(!p.Name.Contains('@') || p.Name.EndsWith("count") || p.Name.EndsWith("nextLink"), p.Name)
        );
    }

    [Fact] // selected and not expanded
    [Proves("Q-81")]
    public async Task A_selected_relation_shows_its_link() =>
        Assert.Equal(
            "Stations(1)/Sensors",
            (await GetAsync("Stations(1)?$select=name,Sensors")).Json.GetProperty("Sensors@odata.navigationLink").GetString()
        );

    [Fact]
    [Proves("U-33, J-12, J-17")]
    public async Task References_are_read_alone()
    {
        var refs = (await GetAsync("Catchments(3)/Stations/$ref?$top=2&$orderby=name&$count=true")).Json;
        Assert.Equal(2, refs.GetProperty("value").GetArrayLength());
        Assert.All(refs.GetProperty("value").EnumerateArray(), r => Assert.Equal(["@odata.id"], r.EnumerateObject().Select(p => p.Name)));
        Assert.Equal("Catchments(3)", (await GetAsync("Stations(1)/catchment/$ref")).Json.GetProperty("@odata.id").GetString());
        Assert.Equal(204, (await GetAsync("Catchments(1)/parent/$ref")).Status);
        Assert.Equal(404, (await GetAsync("Stations(0)/$ref")).Status);
        Assert.Equal(
            Address + "Stations(1)",
            (await GetAsync("Stations(1)/$ref", ("Accept", "application/json;odata.metadata=none")))
                .Json.GetProperty("@odata.id")
                .GetString()
        );
    }

    [Theory]
    [InlineData("Stations/1", "Stations(1)")]
    [InlineData("Sensors/1/1", "Sensors(station_id=1,sensor_no=1)")]
    [InlineData("Stations/1/Sensors/1/1", "Stations(1)/Sensors(station_id=1,sensor_no=1)")]
    [InlineData("Certificates/CAL%2F2", "Certificates('CAL%2F2')")]
    [InlineData("Stations(@k)?@k=1", "Stations(1)")]
    [InlineData("Sensors(station_id=@a,sensor_no=@b)?@a=1&@b=1", "Sensors(station_id=1,sensor_no=1)")]
    [InlineData("$entity?$id=Stations(1)", "Stations(1)")]
    [InlineData("$entity?$id=Certificates('CAL%2F2')", "Certificates('CAL%2F2')")]
    [InlineData("$all/T.Station?$format=application/json;metadata=none&$top=20", "Stations?$format=application/json;metadata=none&$top=20")]
    [InlineData("Stations?$filter=id eq 3", "Stations/$filter(id eq 3)")]
    [InlineData("Stations?$filter=id lt 3 and name ne null", "Stations/$filter(id lt 3)/$filter(name ne null)")]
    [InlineData("Stations/$count?$filter=id lt 9", "Stations/$filter(id lt @p)/$count?@p=9")]
    [Proves("U-13, U-16, U-18, U-35, U-47, Q-115")]
    public async Task Another_address_gives_the_same(string one, string other)
    {
        var (a, b) = (await GetAsync(one), await GetAsync(other));
        Assert.Equal((200, a.Text), (b.Status, b.Text));
    }

    [Fact]
    [Proves("U-44, J-16")]
    public async Task All_entities_come_set_by_set()
    {
        var root = (await GetAsync(""))
            .Json.GetProperty("value")
            .EnumerateArray()
            .Where(e => e.GetProperty("kind").GetString() == "EntitySet")
            .Select(e => e.GetProperty("url").GetString()!)
            .ToList();
        var counts = new Dictionary<string, int>();
        foreach (var set in root)
            counts[set] = int.Parse((await GetAsync(set + "/$count")).Text);
        // From the second entity on, and then past nearly all of the largest set to the end.
        var largest = counts.MaxBy(c => c.Value).Key;
        var before = root.TakeWhile(r => r != largest).Sum(r => counts[r]) + counts[largest] - 150;
        var start = await WalkAsync($"{Root}$all?$count=true&$skip=1&$top=350", counts.Values.Sum());
        Assert.Equal(350, start.Values.Sum());
        Assert.Equal(counts[root[0]] - 1, start[root[0]]);
        var end = await WalkAsync($"{Root}$all?$count=true&$skip={before}", counts.Values.Sum());
        Assert.Equal(150, end[largest]);
        foreach (var set in root.SkipWhile(r => r != largest).Skip(1))
            Assert.Equal(counts[set], end.GetValueOrDefault(set));

        async Task<Dictionary<string, int>> WalkAsync(string? link, int all)
        {
            var seen = new Dictionary<string, int>();
            while (link is not null)
            {
                var page = await network.Http.SendAsync(link, "GET", ("Prefer", "maxpagesize=700"));
                Assert.Equal((200, "maxpagesize=700"), (page.Status, page.Header("Preference-Applied")));
                Assert.Equal(Address + "$metadata#Collection(Edm.EntityType)", page.Json.GetProperty("@odata.context").GetString());
                var entities = page
                    .Json.GetProperty("value")
                    .EnumerateArray()
                    .Select(e => e.GetProperty("@odata.context").GetString()!.Split('#')[1].Split('/')[0])
                    .ToList();
                // The smallest of the largest pages of all sets holds.
                Assert.True(entities.Count <= 100, $"{entities.Count} entities");
                foreach (var set in entities)
                    seen[set] = seen.GetValueOrDefault(set) + 1;
                Assert.Equal(all, page.Json.GetProperty("@odata.count").GetInt32());
                link = page.Json.TryGetProperty("@odata.nextLink", out var next) ? next.GetString() : null;
            }
            return seen;
        }
    }

    [Theory]
    [InlineData("$all?$top=2&$search=weir", 200, "#Stations/$entity")]
    [InlineData("$all/T.Station?$top=1", 200, "#Collection(T.Station)")]
    [InlineData("$all/T.Station?$top=0&$count=true", 200, "count\":120")]
    [InlineData("$all?$top=1&$format=application/json;metadata=none", 200, "{\"value\":[{\"id\":1,")]
    [InlineData("$all/T.Nothing", 404, "no entity type")]
    [InlineData("$all/T.Station/name", 404, "Nothing follows")]
    [InlineData("$all?$filter=true", 501, "ask a set for it")]
    [InlineData("$all?$top=x", 400, "whole number")]
    [InlineData("$all?$top=1&$top=2", 400, "given twice")]
    [InlineData("$all?$skiptoken=abc", 400, "Follow the next link")]
    [InlineData("$all?$skiptoken=WyJOb3BlIixudWxsLDFd", 410, "")]
    [InlineData("$all?$skiptoken=WyJTdGF0aW9ucyIsIngiLDFd", 400, "")]
    [InlineData("$all?$nothing=1", 400, "not a query option")]
    [Proves("U-44")]
    public async Task Entities_of_all_types_take_few_options(string target, int status, string said)
    {
        var answer = await GetAsync(target);
        Assert.Equal(status, answer.Status);
        Assert.Contains(said, answer.Text);
    }

    [Fact]
    public async Task An_absolute_id_is_resolved() =>
        Assert.Equal("AB-001", (await GetAsync($"$entity?$id={Address}Stations(1)&$select=code")).Json.GetProperty("code").GetString());

    [Theory] // wrong keys as segments
    [InlineData("Stations/99999", 404)]
    [InlineData("Stations/x", 400)]
    [InlineData("Technicians/x", 400)]
    [InlineData("Certificates/nothing", 404)]
    [Proves("U-15, U-16")]
    public async Task A_wrong_key_segment_is_refused(string target, int status) => Assert.Equal(status, (await GetAsync(target)).Status);

    private async Task<(int Status, string Text, HttpResponseHeaders Headers)> PostAsync(
        string target,
        string body,
        string type,
        params (string Name, string Value)[] headers
    )
    {
        using var client = new HttpClient();
        using var request = new HttpRequestMessage(HttpMethod.Post, Address + target)
        {
            Content = new ByteArrayContent(Encoding.UTF8.GetBytes(body)),
        };
        Assert.True(request.Content.Headers.TryAddWithoutValidation("Content-Type", type));
        foreach (var (name, value) in headers)
            request.Headers.TryAddWithoutValidation(name, value);
        using var response = await client.SendAsync(request);
        return ((int)response.StatusCode, await response.Content.ReadAsStringAsync(), response.Headers);
    }

    [Fact]
    [Proves("P-05, P-06, P-22, P-23, U-48")]
    public async Task A_query_may_stand_in_the_body()
    {
        var expected = (await GetAsync("Stations?$filter=id lt 4&$select=name&$orderby=name desc")).Text;
        var (status, text, _) = await PostAsync("Stations/$query?$select=name", "$filter=id%20lt%204&$orderby=name%20desc", "text/plain");
        Assert.Equal((200, expected), (status, text));
        Assert.Equal(400, (await PostAsync("Stations/%24query?%24select=name", "$select=code", "text/plain")).Status);
        Assert.Equal(415, (await PostAsync("Stations/$query", "{}", "application/json")).Status);
        Assert.Contains(
            "\"@context\"",
            (await PostAsync("Stations/$query", "$top=1", "text/plain", ("OData-Version", "4.0"), ("OData-MaxVersion", "4.01"))).Text
        );
        Assert.Equal(400, (await PostAsync("Stations/$query", "$top=1", "text/plain", ("OData-Version", "5.0"))).Status);
        Assert.Equal(413, (await PostAsync("Stations/$query", new string('x', RequestLimits.Standard.BodyBytes + 1), "text/plain")).Status);
        Assert.Equal(405, (await GetAsync("Stations/$query")).Status);
        Assert.Equal(200, (await PostAsync("Stations/$count/$query", "$filter=id%20lt%204", "text/plain")).Status);
    }

    [Fact]
    [Proves("P-49 to P-51, P-53")]
    public async Task Documents_have_tags()
    {
        foreach (var target in new[] { "", "$metadata", "$metadata?$format=json" })
        {
            var first = await GetAsync(target);
            var tag = first.Header("ETag")!;
            Assert.StartsWith("W/\"", tag);
            Assert.Equal(304, (await GetAsync(target, ("If-None-Match", tag))).Status);
            Assert.Equal(304, (await GetAsync(target, ("If-None-Match", "\"other\", " + tag[2..]))).Status);
            Assert.Equal(200, (await GetAsync(target, ("If-None-Match", "\"a,b\""))).Status);
            Assert.Equal(400, (await GetAsync(target, ("If-None-Match", "naked"))).Status);
        }
        Assert.NotEqual(
            (await GetAsync("$metadata")).Header("ETag"),
            (await GetAsync("$metadata", ("OData-MaxVersion", "4.01"))).Header("ETag")
        );
    }

    [Fact]
    [Proves("C-44 to C-54, L-52")]
    public async Task Both_metadata_documents_say_the_same()
    {
        var json = JsonNode.Parse((await GetAsync("$metadata", ("Accept", "application/json"), ("OData-MaxVersion", "4.01"))).Text)!;
        var xml = System.Xml.Linq.XDocument.Parse((await GetAsync("$metadata")).Text).Root!;
        System.Xml.Linq.XNamespace edm = "http://docs.oasis-open.org/odata/ns/edm";
        Assert.Equal("4.01", (string?)json["$Version"]);
        var schema = json["T"]!.AsObject();
        foreach (var type in xml.Descendants(edm + "EntityType"))
        {
            var other = schema[(string)type.Attribute("Name")!]!;
            Assert.Equal("EntityType", (string?)other["$Kind"]);
            Assert.Equal(
                type.Element(edm + "Key")!.Elements().Select(k => (string?)k.Attribute("Name")),
                other["$Key"]!.AsArray().Select(k => (string?)k)
            );
            foreach (var property in type.Elements(edm + "Property"))
            {
                var same = other[(string)property.Attribute("Name")!]!;
                Assert.Equal((string?)property.Attribute("Type"), (string?)same["$Type"] ?? "Edm.String");
                Assert.Equal((string?)property.Attribute("Nullable") != "false", (bool?)same["$Nullable"] ?? false);
                Assert.Equal((string?)property.Attribute("MaxLength"), same["$MaxLength"]?.ToString());
                Assert.Equal(
                    (string?)property.Attribute("Scale") ?? (property.Attribute("Type")!.Value == "Edm.Decimal" ? "0" : null),
                    same["$Scale"]?.ToString() ?? (property.Attribute("Type")!.Value == "Edm.Decimal" ? "variable" : null)
                );
            }
            foreach (var navigation in type.Elements(edm + "NavigationProperty"))
            {
                var same = other[(string)navigation.Attribute("Name")!]!;
                var target = (string)navigation.Attribute("Type")!;
                Assert.Equal(target.StartsWith("Collection("), (bool?)same["$Collection"] ?? false);
                Assert.Equal(target.Replace("Collection(", "").TrimEnd(')'), (string?)same["$Type"]);
                Assert.Equal((string?)navigation.Attribute("Partner"), (string?)same["$Partner"]);
                Assert.Equal(
                    navigation
                        .Elements(edm + "ReferentialConstraint")
                        .ToDictionary(c => (string)c.Attribute("Property")!, c => (string)c.Attribute("ReferencedProperty")!),
                    same["$ReferentialConstraint"]?.AsObject().ToDictionary(c => c.Key, c => (string)c.Value!) ?? []
                );
            }
        }
        var container = schema["Container"]!.AsObject();
        Assert.Equal(
            xml.Descendants(edm + "EntitySet").Select(s => (string)s.Attribute("Name")!),
            container.Where(c => c.Value is JsonObject o && (bool?)o["$Collection"] == true).Select(c => c.Key)
        );
        Assert.Equal("Advanced", (string?)container["@Capabilities.ConformanceLevel"]);
        foreach (var set in xml.Descendants(edm + "EntitySet"))
            Assert.Equal(
                set.Elements(edm + "Annotation").Select(a => "@" + (string)a.Attribute("Term")!),
                container[(string)set.Attribute("Name")!]!.AsObject().Select(m => m.Key).Where(k => k.StartsWith('@'))
            );
    }

    [Fact]
    [Proves("P-07, A-01, A-17 to A-22, A-27 to A-29, A-31 to A-33, A-49")]
    public async Task The_metadata_says_what_can_be_done()
    {
        var json = JsonNode.Parse((await GetAsync("$metadata?$format=json")).Text)!["T"]!["Container"]!.AsObject();
        Assert.Equal("4.0 4.01", (string?)json["@Core.ODataVersions"]);
        foreach (
            var term in new[]
            {
                "Core.ConventionalIDs",
                "Core.DereferenceableIDs",
                "Capabilities.AsynchronousRequestsSupported",
                "Capabilities.BatchSupported",
                "Capabilities.KeyAsSegmentSupported",
                "Capabilities.QuerySegmentSupported",
                "Capabilities.CrossJoinSupported",
            }
        )
            Assert.True((bool?)json["@" + term], term);
        Assert.Contains("application/json", json["@Capabilities.BatchSupport"]!["SupportedFormats"]!.AsArray().Select(f => (string?)f));
        Assert.Contains("matchespattern", json["@Capabilities.FilterFunctions"]!.AsArray().Select(f => (string?)f));
        var set = json["Stations"]!.AsObject();
        Assert.Equal(8, (int?)set["@Capabilities.ExpandRestrictions"]!["MaxLevels"]);
        Assert.True((bool?)set["@Capabilities.ComputeSupported"]);
        Assert.False((bool?)set["@Capabilities.SelectSupport"]!["Filterable"]);
        Assert.Contains("groupby", set["@Aggregation.ApplySupported"]!["Transformations"]!.AsArray().Select(f => (string?)f));
        Assert.Contains("Pages of", (string?)set["@Core.LongDescription"]);
        // Every function that the metadata names is answered.
        foreach (var function in json["@Capabilities.FilterFunctions"]!.AsArray().Select(f => (string)f!))
            Assert.NotEqual(501, (await GetAsync($"Stations?$filter={function}(1)")).Status);
    }

    [Fact]
    [Proves("P-44, P-45, P-49, P-52, U-28, J-26, A-07, A-11, A-27, A-28, A-33, A-36")]
    public async Task A_declared_set_says_and_does_what_it_declares()
    {
        using var folder = new Core.Tests.TestWorkspace()
            .WithSource()
            .WithNetwork(50)
            .WithService(
                """
                  - { from: station, name: Stations, version: changed_at, changes: changed_at, search: [name], columns: { photo: { stream: true, media-type: image/png }, code: { sort: false } } }
                  - { from: reading, name: Readings, require-filter: true, search: no }

                """
            );
        await using var service = await RunningService.StartAsync(folder.Folder);
        var first = await service.SendAsync(Root + "Stations(1)");
        var tag = first.Header("ETag")!;
        Assert.Equal(tag, first.Json.GetProperty("@odata.etag").GetString());
        Assert.Equal(304, (await service.SendAsync(Root + "Stations(1)?$select=name", "GET", ("If-None-Match", tag))).Status);
        Assert.Equal(304, (await service.SendAsync(Root + "Stations(1)", "HEAD", ("If-None-Match", "*"))).Status);
        Assert.Equal(404, (await service.SendAsync(Root + "Stations(0)", "GET", ("If-None-Match", "*"))).Status);
        Assert.Equal(200, (await service.SendAsync(Root + "Stations(2)", "GET", ("If-None-Match", "\"x\""))).Status);

        Assert.Equal((400, "filter-required"), await Code("Readings"));
        Assert.Equal((400, "filter-required"), await Code("Readings/$count"));
        Assert.Equal((200, ""), await Code("Readings?$filter=id%20eq%201"));
        Assert.Equal((501, "not-implemented"), await Code("Readings?$search=x"));
        Assert.Equal(0, (await service.SendAsync(Root + "Stations?$search=AB-001")).Json.GetProperty("value").GetArrayLength());

        var full = (await service.SendAsync(Root + "Stations(1)", "GET", ("Accept", "application/json;odata.metadata=full"))).Json;
        Assert.Equal("image/png", full.GetProperty("photo@odata.mediaContentType").GetString());
        Assert.Equal("Stations(1)/photo", full.GetProperty("photo@odata.mediaReadLink").GetString());
        var withPhoto = (await service.SendAsync(Root + "Stations?$select=id&$top=120"))
            .Json.GetProperty("value")
            .EnumerateArray()
            .Select(s => s.GetProperty("id").GetInt64());
        foreach (var id in withPhoto)
        {
            var photo = await service.SendAsync($"{Root}Stations({id})/photo");
            if (photo.Status == 204)
                continue;
            Assert.Equal(("image/png", "bytes"), (photo.Header("Content-Type"), photo.Header("Accept-Ranges")));
            var part = await service.SendAsync($"{Root}Stations({id})/photo", "GET", ("Range", "bytes=2-5"));
            Assert.Equal((206, $"bytes 2-5/{photo.Bytes.Length}"), (part.Status, part.Header("Content-Range")));
            Assert.Equal(photo.Bytes[2..6], part.Bytes);
            Assert.Equal(
                304,
                (await service.SendAsync($"{Root}Stations({id})/photo", "GET", ("If-None-Match", photo.Header("ETag")!))).Status
            );
            Assert.Equal(416, (await service.SendAsync($"{Root}Stations({id})/photo", "GET", ("Range", "bytes=999999999-"))).Status);
            break;
        }
        var container = JsonNode.Parse((await service.SendAsync(Root + "$metadata?$format=json")).Text)!["T"]!["Container"]!;
        Assert.True((bool?)container["Stations"]!["@Capabilities.ChangeTracking"]!["Supported"]);
        Assert.Equal(
            ["code"],
            container["Stations"]!["@Capabilities.SortRestrictions"]!["NonSortableProperties"]!
                .AsArray()
                .Where(p => (string?)p == "code")
                .Select(p => (string)p!)
        );
        Assert.Empty(container["Stations"]!["@Core.OptimisticConcurrency"]!.AsArray());
        Assert.True((bool?)container["Readings"]!["@Capabilities.FilterRestrictions"]!["RequiresFilter"]);
        Assert.False((bool?)container["Readings"]!["@Capabilities.SearchRestrictions"]!["Searchable"]);

        async Task<(int, string)> Code(string target)
        {
            var answer = await service.SendAsync(Root + target);
            return (answer.Status, answer.Status == 200 ? "" : answer.Json.GetProperty("error").GetProperty("code").GetString()!);
        }
    }

    [Fact] // the preference is stated, and the link is followed over HTTP
    [Proves("P-14, P-27, P-40, J-48")]
    public async Task Changes_are_followed_over_http()
    {
        using var folder = new Core.Tests.TestWorkspace()
            .WithSource()
            .WithDatabase("CREATE TABLE item (id INTEGER PRIMARY KEY, seq INTEGER NOT NULL); INSERT INTO item VALUES (1, 1), (2, 2)")
            .WithService("  - { from: item, changes: seq, page: 1 }\n");
        await using var service = await RunningService.StartAsync(folder.Folder);
        var first = await service.SendAsync(Root + "item", "GET", ("Prefer", "odata.track-changes"));
        Assert.Equal("odata.track-changes", first.Header("Preference-Applied"));
        var last = await service.SendAsync(first.Json.GetProperty("@odata.nextLink").GetString()!);
        var delta = last.Json.GetProperty("@odata.deltaLink").GetString()!;
        folder.WithDatabase("UPDATE item SET seq = 3 WHERE id = 1");
        Assert.Equal(1, (await service.SendAsync(delta)).Json.GetProperty("value")[0].GetProperty("id").GetInt64());
        Assert.Equal(406, (await service.SendAsync(delta, "GET", ("Accept", "application/json;odata.metadata=none"))).Status);
        Assert.Null((await service.SendAsync(Root + "item?$top=1", "GET", ("Prefer", "track-changes"))).Header("Preference-Applied"));
        // As JSON Lines, too, the link after the last page is that of changes.
        var page = (await service.SendAsync(Root + "item?$format=jsonl", "GET", ("Prefer", "track-changes"))).Text.Split('\n');
        Assert.StartsWith("{\"@odata.nextLink\":", page[1]);
        var next = System.Text.Json.JsonDocument.Parse(page[1]).RootElement.GetProperty("@odata.nextLink").GetString()!;
        page = (await service.SendAsync(next)).Text.Split('\n');
        Assert.StartsWith("{\"@odata.deltaLink\":", page[1]);
        Assert.Equal("", Assert.Single(page[2..]));
    }

    [Fact]
    [Proves("Q-97 to Q-99, Q-110, J-20")]
    public async Task An_aggregate_is_transient_and_says_its_types()
    {
        var text = (
            await GetAsync("Stations?$apply=filter(id lt 0)/aggregate($count as n,id with sum as total,name with max as last)")
        ).Text;
        Assert.Equal(
            $$"""{"@odata.context":"{{Address}}$metadata#Stations(n,total,last)","value":[{"@odata.id":null,"n@odata.type":"#Decimal","n":0,"total@odata.type":"#Decimal","total":null,"last":null}]}""",
            text
        );
        Assert.DoesNotContain(
            "odata",
            (await GetAsync("Stations?$apply=groupby((telemetered))", ("Accept", "application/json;odata.metadata=none"))).Text
        );
    }

    [Fact] // what a nested option refers to stays the same in its next link
    [Proves("Q-68, Q-69")]
    public async Task A_nested_next_link_keeps_aliases_and_the_outer_entity()
    {
        var named = (
            await GetAsync(
                "Catchments(3)?$select=id&$expand=Stations($filter=id gt @least and id gt $it/id;$select=id;$orderby=$it/id "
                    + "add id)&@least=2",
                ("Prefer", "maxpagesize=1")
            )
        ).Json;
        var rest = await network.Http.SendAsync(named.GetProperty("Stations@odata.nextLink").GetString()!);
        Assert.Equal(200, rest.Status);
        var all = (await GetAsync("Stations?$filter=catchment_id eq 3 and id gt 3&$select=id"))
            .Json.GetProperty("value")
            .EnumerateArray()
            .Select(s => s.GetProperty("id").GetInt32())
            .ToList();
        Assert.Equal(
            all,
            named
                .GetProperty("Stations")
                .EnumerateArray()
                .Concat(rest.Json.GetProperty("value").EnumerateArray())
                .Select(s => s.GetProperty("id").GetInt32())
        );
    }

    [Fact] // everything goes on in the next link, also after $apply
    [Proves("Q-113, X-07")]
    public async Task A_next_link_carries_all_that_was_asked()
    {
        var seen = new List<string>();
        var page = await GetAsync(
            "Stations?$apply=groupby((name,id))&$compute=id mul 2 as twice&$filter=id gt @least&@least=3&$orderby=name "
                + "desc&$select=name,twice&$top=7",
            ("Prefer", "maxpagesize=3")
        );
        for (
            ;
            ;
            page = await network.Http.SendAsync(page.Json.GetProperty("@odata.nextLink").GetString()!, "GET", ("Prefer", "maxpagesize=3"))
        )
        {
            seen.AddRange(page.Json.GetProperty("value").EnumerateArray().Select(v => $"{v.GetProperty("name")} {v.GetProperty("twice")}"));
            if (!page.Json.TryGetProperty("@odata.nextLink", out _))
                break;
        }
        var whole = (await GetAsync("Stations?$compute=id mul 2 as twice&$filter=id gt 3&$orderby=name desc&$select=name,twice&$top=7"))
            .Json.GetProperty("value")
            .EnumerateArray()
            .Select(v => $"{v.GetProperty("name")} {v.GetProperty("twice")}")
            .ToList();
        Assert.Equal(7, seen.Distinct().Count());
        Assert.Equal(whole.Order(), seen.Order());
        var nested = (
            await GetAsync(
                "Catchments?$filter=parent eq null&$expand=Stations($orderby=name desc;$filter=id gt 2;$select=name;$count=true)",
                ("Prefer", "maxpagesize=1")
            )
        ).Json;
        Assert.DoesNotContain("Stations@odata.nextLink", nested.GetRawText());
        var children = (
            await GetAsync(
                "Catchments(3)?$expand=Stations($orderby=name desc;$filter=id gt 2;$select=name;$expand=Sensors($select=kind;$top=1))",
                ("Prefer", "maxpagesize=2")
            )
        ).Json;
        var rest = await network.Http.SendAsync(children.GetProperty("Stations@odata.nextLink").GetString()!, "GET");
        var all = (
            await GetAsync("Catchments(3)/Stations?$orderby=name desc&$filter=id gt 2&$select=name&$expand=Sensors($select=kind;$top=1)")
        )
            .Json.GetProperty("value")
            .EnumerateArray()
            .Select(v => v.GetRawText())
            .ToList();
        Assert.Equal(
            all,
            children
                .GetProperty("Stations")
                .EnumerateArray()
                .Concat(rest.Json.GetProperty("value").EnumerateArray())
                .Select(v => v.GetRawText())
        );
    }

    [Fact] // rows without a key are a function, called with or without its parentheses
    [Proves("U-03, U-40")]
    public async Task A_function_import_is_listed_and_called()
    {
        using var folder = new Core.Tests.TestWorkspace()
            .WithSource()
            .WithNetwork(50)
            .WithService("  - { from: import_log, name: Log, keyless: true }\n  - { from: station, name: Stations, hide: [photo] }\n");
        await using var service = await RunningService.StartAsync(folder.Folder);
        var listed = (await service.SendAsync(Root))
            .Json.GetProperty("value")
            .EnumerateArray()
            .Select(v => $"{v.GetProperty("name")} {v.GetProperty("kind")}");
        Assert.Equal(["Log FunctionImport", "Stations EntitySet"], listed);
        var called = await service.SendAsync(Root + "Log()?$top=1");
        Assert.Equal(
            called.Json.GetProperty("value").GetRawText(),
            (await service.SendAsync(Root + "Log?$top=1")).Json.GetProperty("value").GetRawText()
        );
        Assert.Equal("3", (await service.SendAsync(Root + "Log()/$count?$apply=identity")).Text);
        Assert.Equal(
            3,
            (await service.SendAsync(Root + "Log()?$apply=aggregate($count%20as%20n)"))
                .Json.GetProperty("value")[0]
                .GetProperty("n")
                .GetInt32()
        );
    }

    [Theory] // the context first, then what tells one entity from another
    [InlineData("Stations?$top=1&$select=name", "@odata.context")]
    [InlineData("Stations(1)?$select=name", "@odata.context,@odata.id,name")]
    [InlineData("Stations(1)/name", "@odata.context,value")]
    [InlineData("Stations(1)/$ref", "@odata.context,@odata.id")]
    [InlineData("", "@odata.context,value")]
    [Proves("J-18, J-41")]
    public async Task Control_information_comes_first(string target, string names) =>
        Assert.StartsWith(names, string.Join(',', (await GetAsync(target)).Json.EnumerateObject().Select(p => p.Name)));

    [Fact]
    [Proves("P-23, P-54")]
    public async Task Answers_are_compressed_when_asked()
    {
        var plain = await GetAsync("Stations?$top=20");
        Assert.Null(plain.Header("Content-Encoding"));
        var packed = await GetAsync("Stations?$top=20", ("Accept-Encoding", "gzip"));
        Assert.Equal("gzip", packed.Header("Content-Encoding"));
        Assert.Contains("Accept-Encoding", packed.Header("Vary"));
        using var stream = new System.IO.Compression.GZipStream(
            new MemoryStream(packed.Bytes),
            System.IO.Compression.CompressionMode.Decompress
        );
        using var reader = new StreamReader(stream);
        Assert.Equal(plain.Text, await reader.ReadToEndAsync());
        Assert.Equal("gzip", (await GetAsync("$metadata", ("Accept-Encoding", "gzip"))).Header("Content-Encoding"));
        Assert.Null((await GetAsync("Stations?$top=20", ("Accept-Encoding", "gzip;q=0"))).Header("Content-Encoding"));
    }

    [Fact]
    [Proves("P-36")]
    public async Task Nulls_are_left_out_when_asked()
    {
        var answer = await GetAsync("Stations(1)", ("Prefer", "omit-values=nulls"));
        Assert.Equal("omit-values=nulls", answer.Header("Preference-Applied"));
        Assert.False(answer.Json.TryGetProperty("closed_on", out _));
        Assert.True((await GetAsync("Stations(1)")).Json.TryGetProperty("closed_on", out _));
        Assert.Null((await GetAsync("Stations(1)", ("Prefer", "omit-values=defaults"))).Header("Preference-Applied"));
    }

    [Fact]
    [Proves("J-54 to J-60, X-29")]
    public async Task A_json_batch_answers_each_request()
    {
        var (status, text, _) = await PostAsync(
            "$batch",
            $$$"""
            {"requests":[
              {"id":"a","method":"get","url":"Stations(1)?$select=code"},
              {"id":"b","method":"GET","url":"{{{Address}}}Stations/$count","headers":{"accept":"text/plain"}},
              {"id":"c","method":"GET","url":"{{{Root}}}Stations(99999)"},
              {"id":"d","method":"GET","url":"$a/catchment?$select=name","dependsOn":["a"]},
              {"id":"e","method":"GET","url":"$c/catchment","dependsOn":["c"]},
              {"id":"f","method":"DELETE","url":"Stations(1)"},
              {"id":"g","method":"POST","url":"Stations/$query","headers":{"Content-Type":"text/plain"},"body":"$top=1&$select=code"},
              {"id":"h","method":"GET","url":"Certificates('CAL%2F2')/name/$value"}
            ]}
            """,
            "application/json",
            ("Prefer", "continue-on-error")
        );
        Assert.Equal(200, status);
        var responses = JsonDocument
            .Parse(text)
            .RootElement.GetProperty("responses")
            .EnumerateArray()
            .ToDictionary(r => r.GetProperty("id").GetString()!);
        Assert.Equal(
            ["a 200", "b 200", "c 404", "d 200", "e 424", "f 405", "g 200", "h 200"],
            responses.Select(r => $"{r.Key} {r.Value.GetProperty("status")}")
        );
        Assert.Equal("AB-001", responses["a"].GetProperty("body").GetProperty("code").GetString());
        Assert.Equal("120", responses["b"].GetProperty("body").GetString());
        Assert.Equal("not-found", responses["c"].GetProperty("body").GetProperty("error").GetProperty("code").GetString());
        Assert.Equal("GET, HEAD, OPTIONS", responses["f"].GetProperty("headers").GetProperty("allow").GetString());
    }

    [Fact] // the first failure ends it
    [Proves("P-33")]
    public async Task A_batch_stops_at_the_first_failure()
    {
        var (_, text, _) = await PostAsync(
            "$batch",
            """{"requests":[{"id":"1","method":"GET","url":"Stations(0)"},{"id":"2","method":"GET","url":"Stations(1)"}]}""",
            "application/json"
        );
        Assert.Equal(
            [404, 424],
            JsonDocument.Parse(text).RootElement.GetProperty("responses").EnumerateArray().Select(r => r.GetProperty("status").GetInt32())
        );
    }

    [Fact]
    [Proves("J-56, J-61")]
    public async Task A_group_fails_as_a_whole()
    {
        var (_, text, _) = await PostAsync(
            "$batch",
            """{"requests":[{"id":"1","method":"GET","url":"Stations(1)","atomicityGroup":"g"},{"id":"2","method":"GET","url":"Stations(0)","atomicityGroup":"g"},{"id":"3","method":"GET","url":"Stations(1)","dependsOn":["g"]}]}""",
            "application/json",
            ("Prefer", "continue-on-error=true")
        );
        Assert.Equal(
            [424, 404, 424],
            JsonDocument.Parse(text).RootElement.GetProperty("responses").EnumerateArray().Select(r => r.GetProperty("status").GetInt32())
        );
    }

    [Theory]
    [InlineData("{", 400)]
    [InlineData("[]", 400)]
    [InlineData("""{"requests":{}}""", 400)]
    [InlineData("""{"requests":[1]}""", 400)]
    [InlineData("""{"requests":[{"id":"1","method":"GET"}]}""", 400)]
    [InlineData("""{"requests":[{"id":"1","id":"2","method":"GET","url":"Stations"}]}""", 400)]
    [InlineData("""{"requests":[{"id":"1","method":"GET","url":"Stations"},{"id":"1","method":"GET","url":"Stations"}]}""", 400)]
    [InlineData("""{"requests":[{"id":"1","method":"GET","url":"$2/catchment"},{"id":"2","method":"GET","url":"Stations(1)"}]}""", 400)]
    [InlineData("""{"requests":[{"id":"1","method":"GET","url":"Stations","dependsOn":["2"]}]}""", 400)]
    [InlineData("""{"requests":[{"id":"1","method":"GET","url":"Stations","dependsOn":"1"}]}""", 400)]
    [InlineData("""{"requests":[{"id":"1","method":"GET","url":"Stations","headers":{"a":"b\r\nc: d"}}]}""", 400)]
    [InlineData("""{"requests":[{"id":"1","method":"GET","url":"Stations","headers":[]}]}""", 400)]
    [InlineData(
        """{"requests":[{"id":"1","method":"GET","url":"Stations","atomicityGroup":"g"},{"id":"2","method":"GET","url":"Stations"},{"id":"3","method":"GET","url":"Stations","atomicityGroup":"g"}]}""",
        400
    )]
    [InlineData("""{"requests":[{"id":"1","method":"GET","url":"Stations","if":"$0"}]}""", 501)]
    [InlineData("""{"requests":[]}""", 200)]
    [Proves("J-62, M-45, M-50")]
    public async Task A_wrong_envelope_runs_nothing(string body, int expected) =>
        Assert.Equal(expected, (await PostAsync("$batch", body, "application/json")).Status);

    [Fact]
    [Proves("P-22, U-46")]
    public async Task A_batch_has_its_own_rules()
    {
        Assert.Equal(405, (await GetAsync("$batch")).Status);
        Assert.Equal(415, (await PostAsync("$batch", "x", "text/plain")).Status);
        Assert.Equal(413, (await PostAsync("$batch", new string(' ', RequestLimits.Standard.BodyBytes + 1), "application/json")).Status);
        var many = string.Join(
            ",",
            Enumerable
                .Range(0, RequestLimits.Standard.BatchRequests + 1)
                .Select(i => $$"""{"id":"{{i}}","method":"GET","url":"Stations/$count"}""")
        );
        Assert.Equal(400, (await PostAsync("$batch", "{\"requests\":[" + many + "]}", "application/json")).Status);
        var (_, text, _) = await PostAsync(
            "$batch",
            """{"requests":[{"id":"1","method":"POST","url":"$batch","headers":{"Content-Type":"application/json"},"body":{"requests":[]}},{"id":"2","method":"GET","url":"http://elsewhere.example.org/"}]}""",
            "application/json",
            ("Prefer", "continue-on-error")
        );
        Assert.Equal(
            [400, 404],
            JsonDocument.Parse(text).RootElement.GetProperty("responses").EnumerateArray().Select(r => r.GetProperty("status").GetInt32())
        );
    }

    private static string Multipart(params string[] parts) => string.Concat(parts.Select(p => $"--b\r\n{p}\r\n")) + "--b--\r\n";

    private static string Http(string request, string headers = "") =>
        $"Content-Type: application/http\r\nContent-Transfer-Encoding: binary\r\n{headers}\r\n{request}\r\n\r\n";

    [Fact]
    [Proves("M-42, M-44 to M-48")]
    public async Task A_multipart_batch_answers_in_order()
    {
        var body = Multipart(
            Http("GET Stations(1)?$select=code HTTP/1.1", "Content-ID: 1\r\n"),
            Http($"GET {Root}Stations/$count HTTP/1.1\r\nHost: here"),
            Http("GET $1/catchment?$select=name HTTP/1.1"),
            "Content-Type: multipart/mixed; boundary=c\r\n\r\n--c\r\n"
                + Http("DELETE Stations(1) HTTP/1.1", "Content-ID: 2\r\n")
                + "\r\n--c--\r\n",
            Http("GET Stations(2)?$select=code HTTP/1.1")
        );
        var (status, text, _) = await PostAsync("$batch", body, "multipart/mixed; boundary=b");
        Assert.Equal(200, status);
        Assert.Equal(
            ["200 OK", "200 OK", "200 OK", "405 Method Not Allowed"],
            text.Split('\n').Where(l => l.StartsWith("HTTP/1.1")).Select(l => l[9..].Trim())
        );
        Assert.Contains("Content-ID: 1\r\n", text);
        Assert.Contains("\"code\":\"AB-001\"", text);
        var (_, all, _) = await PostAsync("$batch", body, "multipart/mixed; boundary=b", ("Prefer", "odata.continue-on-error"));
        Assert.Equal(5, all.Split("HTTP/1.1 ").Length - 1);
    }

    [Theory] // JSON answers multipart text only where 4.01 asks for it and every part has an id
    [InlineData("4.01", "Content-ID: 1\r\n", "Content-ID: 2\r\n", true)]
    [InlineData("4.01", "Content-ID: 1\r\n", "", false)]
    [InlineData("4.0", "Content-ID: 1\r\n", "Content-ID: 2\r\n", false)]
    public async Task A_multipart_batch_is_answered_as_it_can_be_read(string version, string first, string second, bool isJson)
    {
        var body = Multipart(Http("GET Stations(1) HTTP/1.1", first), Http("GET Stations(2) HTTP/1.1", second));
        var (status, text, _) = await PostAsync(
            "$batch",
            body,
            "multipart/mixed; boundary=b",
            ("Accept", "application/json"),
            ("OData-MaxVersion", version)
        );
        Assert.Equal(200, status);
        Assert.Equal(isJson, text.StartsWith('{'));
        Assert.Equal(!isJson, text.StartsWith("--batchresponse_"));
    }

    [Fact] // lines that end with LF alone, an id inside of the request, and no ids at all while going on after errors
    public async Task A_multipart_batch_of_older_clients_is_read()
    {
        var lines =
            "--b\nContent-Type: application/http\n\nGET Stations(1)?$select=code HTTP/1.1\nContent-ID: one\nAccept: application/json\n\n\n"
            + "--b\nContent-Type: application/http\n\nGET $one/catchment?$select=name HTTP/1.1\n\n\n--b--\n";
        var (status, text, _) = await PostAsync("$batch", lines, "multipart/mixed; boundary=b");
        Assert.Equal(200, status);
        Assert.Equal(["200 OK", "200 OK"], text.Split('\n').Where(l => l.StartsWith("HTTP/1.1")).Select(l => l[9..].Trim()));
        Assert.Contains("Content-ID: one\r\n", text);
        var failing = Multipart(
            Http("GET Nowhere HTTP/1.1"),
            Http("GET Stations(1) HTTP/1.1"),
            Http("GET Nowhere HTTP/1.1"),
            Http("GET Stations(2) HTTP/1.1")
        );
        var (_, all, _) = await PostAsync("$batch", failing, "multipart/mixed; boundary=b", ("Prefer", "odata.continue-on-error"));
        Assert.Equal(
            ["404 Not Found", "200 OK", "404 Not Found", "200 OK"],
            all.Split('\n').Where(l => l.StartsWith("HTTP/1.1")).Select(l => l[9..].Trim())
        );
    }

    [Theory]
    [InlineData("--b\r\nContent-Type: application/http\r\n\r\nGET Stations HTTP/1.1\r\n\r\n", "multipart/mixed; boundary=b", 400)]
    [InlineData("--x\r\n\r\n--x--", "multipart/mixed; boundary=b", 400)]
    [InlineData("--b\r\n\r\nGET Stations HTTP/1.1\r\n\r\n--b--", "multipart/mixed; boundary=b", 400)]
    [InlineData("--b\r\nContent-Type: application/http\r\n\r\nGET Stations\r\n\r\n--b--", "multipart/mixed; boundary=b", 400)]
    [InlineData(
        "--b\r\nContent-Type: application/http\r\n\r\nPOST Stations HTTP/1.1\r\nContent-Length: 999\r\n\r\n{}\r\n--b--",
        "multipart/mixed; boundary=b",
        400
    )]
    [InlineData(
        "--b\r\nContent-Type: application/http\r\n\r\nGET Stations HTTP/1.1\r\nno header\r\n\r\n--b--",
        "multipart/mixed; boundary=b",
        400
    )]
    [InlineData("--b\r\nContent-Type: text/plain\r\n\r\nx\r\n--b--", "multipart/mixed; boundary=b", 400)]
    [InlineData(
        "--b\r\nContent-Type: multipart/mixed; boundary=c\r\n\r\n--c\r\nContent-Type: application/http\r\n\r\nGET Stations "
            + "HTTP/1.1\r\n\r\n--c--\r\n--b--",
        "multipart/mixed; boundary=b",
        400
    )]
    [InlineData("", "multipart/mixed", 400)]
    [Proves("M-43, M-45")]
    public async Task A_wrong_multipart_envelope_runs_nothing(string body, string type, int expected) =>
        Assert.Equal(expected, (await PostAsync("$batch", body, type)).Status);

    [Fact]
    [Proves("P-37, P-57, P-58, M-52 to M-54")]
    public async Task An_answer_may_be_fetched_later()
    {
        var accepted = await GetAsync("Stations?$top=2&$select=code", ("Prefer", "respond-async"));
        Assert.Equal((202, "respond-async"), (accepted.Status, accepted.Header("Preference-Applied")));
        var monitor = accepted.Header("Location")!;
        var answer = await Eventually(monitor);
        Assert.Equal(("application/http", "200"), (answer.Header("Content-Type"), answer.Header("AsyncResult")));
        Assert.StartsWith("HTTP/1.1 200 OK\r\n", answer.Text);
        Assert.EndsWith((await GetAsync("Stations?$top=2&$select=code")).Text, answer.Text);
        var direct = await network.Http.SendAsync(monitor, "GET", ("Accept", "application/json"));
        Assert.Equal((200, (await GetAsync("Stations?$top=2&$select=code")).Text), (direct.Status, direct.Text));
        Assert.Equal(405, (await network.Http.SendAsync(monitor, "PUT")).Status);
        Assert.Equal(204, (await network.Http.SendAsync(monitor, "DELETE")).Status);
        Assert.Equal(404, (await network.Http.SendAsync(monitor)).Status);
        Assert.Equal(200, (await GetAsync("Stations(1)", ("Prefer", "respond-async, wait=20"))).Status);
        var wrong = await GetAsync("Stations(0)", ("Prefer", "respond-async"));
        Assert.Equal("404", (await Eventually(wrong.Header("Location")!)).Header("AsyncResult"));
    }

    private async Task<Answer> Eventually(string monitor)
    {
        for (var i = 0; i < 400; i++)
        {
            var answer = await network.Http.SendAsync(monitor);
            if (answer.Status != 202)
                return answer;
            await Task.Delay(25);
        }
        throw new TimeoutException(monitor);
    }

    [Fact] // fuzz: whatever stands in a batch, the service answers, and not with its own fault
    public async Task Mutated_batches_never_break_the_service()
    {
        var random = new Random(17);
        string[] seeds =
        [
            """{"requests":[{"id":"1","method":"GET","url":"Stations?$expand=Sensors($count=true)&$top=2"},{"id":"2","method":"GET","url":"$1","dependsOn":["1"],"headers":{"prefer":"maxpagesize=1"}}]}""",
            Multipart(Http("GET Stations(1) HTTP/1.1", "Content-ID: 1\r\n"), Http("GET $1/Sensors HTTP/1.1\r\nAccept: application/json")),
        ];
        for (var i = 0; i < 400; i++)
        {
            var seed = new StringBuilder(seeds[i % 2]);
            for (var n = random.Next(1, 5); n > 0; n--)
            {
                var at = random.Next(seed.Length);
                switch (random.Next(3))
                {
                    case 0:
                        seed.Remove(at, Math.Min(random.Next(1, 9), seed.Length - at));
                        break;
                    case 1:
                        seed.Insert(at, seed.ToString(at, Math.Min(random.Next(1, 30), seed.Length - at)));
                        break;
                    default:
                        seed[at] = (char)random.Next(1, 127);
                        break;
                }
            }
            var (status, text, _) = await PostAsync(
                "$batch",
                seed.ToString(),
                i % 2 == 0 ? "application/json" : "multipart/mixed; boundary=b",
                ("Prefer", "continue-on-error")
            );
            Assert.True(status is 200 or 400 or 501, $"{status} {seed} {text}");
            Assert.DoesNotContain("\"internal\"", text);
        }
    }
}
