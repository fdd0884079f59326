using System.Text;
using System.Text.Json;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Statements that change something, called over every face and on every engine.</summary>
[Collection("writing")]
public sealed class ActionTests(WritingFixture fixture) : IAsyncLifetime
{
    public const string Service = """
        title: Calls
        source: main
        namespace: Calls
        rules: { read: anyone, call: anyone, create: anyone }
        sets:
          - { from: tag, name: Tags, type: Tag, allow: [read, create] }
          - { from: part, name: Parts, type: Part }
          - from: gauge
            name: Gauges
            type: Gauge
            show: [code, basin_id, level]
            rules: [ { who: anyone, may: read, rows: code ne 'B', mask: level } ]
        queries:
          - name: GaugesIn
            select: SELECT g.code, g.basin_id FROM gauge g WHERE g.basin_id >= :basin OR g.code = :code
            of: Gauges
            parameters: { basin: { type: int32, default: 99 }, code: { type: string(12), default: none } }
          - name: PartsAbove
            bound-to: Gauges
            select: SELECT p.line, p.title FROM part p WHERE p.gauge_code = :gauge AND p.line > :line
            parameters: { gauge: { type: string(12), key: code, example: A/1 }, line: { type: int32, default: 0 } }
          - name: SameTags
            bound-to: Tags
            of: Tags
            select: SELECT t.id FROM tag t WHERE t.id >= :id
            parameters: { id: int32 }
          - name: LosePart
            bound-to: Parts
            changes: true
            gives: value
            select: DELETE FROM part WHERE gauge_code = :gauge_code AND line = :line AND title <> :but; SELECT COUNT(*) AS parts FROM part p
            parameters: { gauge_code: { type: string(12), example: A/1 }, line: { type: int32, example: 1 }, but: { type: string(30), default: none } }
          - name: PartsFrom
            select: SELECT p.line, p.gauge_code, p.title AS something FROM part p WHERE p.line >= :line
            of: Parts
            parameters: { line: { type: int32, example: 1 } }
          - name: Relabel
            changes: true
            gives: row
            of: Tags
            select: UPDATE tag SET label = :label WHERE id = :id; SELECT t.id FROM tag t WHERE t.id = :id
            parameters: { id: int32, label: string(20) }
          - name: AddNote
            description: Writes a note about a gauge.
            changes: true
            select: INSERT INTO note (gauge_code, body) VALUES (:gauge, :body) RETURNING gauge_code, body
            gives: row
            parameters:
              gauge: { type: string(12), example: B }
              body: { type: string(200), max-length: 30, default: Looked at }
            columns: { gauge_code: string(12), body: string(200) }
            rest: { path: "gauges/{gauge}/notes" }
          - name: RenameParts
            changes: true
            select: |
              UPDATE part SET title = :title WHERE gauge_code = :gauge AND line >= :line; -- not all; of them
              SELECT p.line, p.title FROM part p WHERE p.gauge_code = :gauge ORDER BY p.line DESC;
            parameters: { gauge: string(12), title: { type: string(30), min-length: 2, example: Float }, line: { type: int32, default: 1 } }
          - name: LoseParts
            changes: true
            gives: value
            select: DELETE FROM part WHERE gauge_code = :gauge; SELECT COUNT(*) AS parts FROM part p
            parameters: { gauge: { type: string(12), example: none } }
          - name: AddBoth
            changes: true
            gives: nothing
            select: INSERT INTO tag (id, label) VALUES (:id, :label); INSERT INTO basin (id, name) VALUES (:id, :label)
            parameters: { id: int32, label: string(20) }
          - name: Several
            changes: true
            gives: row
            select: UPDATE tag SET label = :label WHERE id = 1; SELECT b.id, b.name FROM basin b ORDER BY b.id
            parameters: { label: string(20) }
          - name: TooMany
            changes: true
            largest-page: 1
            select: UPDATE tag SET label = :label WHERE id = 1; SELECT b.id, b.name FROM basin b ORDER BY b.id
            parameters: { label: string(20) }
          - name: Untouched
            changes: true
            gives: value
            select: SELECT t.label FROM tag t WHERE t.id = :id
            parameters: { id: int32 }
          - name: Secret
            changes: true
            gives: nothing
            select: DELETE FROM tag
            rules: { call: nobody }
            rest: { path: secrets/go }
        """;

    public Task InitializeAsync() => fixture.ResetAsync();

    public Task DisposeAsync() => Task.CompletedTask;

    private Task<Answer> PostAsync(string target, string? body, params (string, string)[] headers) =>
        fixture.SameAsync("POST", target, body, headers);

    private async Task<string> LabelAsync() => (await fixture.SameAsync("GET", "/odata/calls/Tags(1)/label/$value", null)).Text;

    [Theory]
    [Proves("C-35, U-43, M-40, M-41")]
    [InlineData("AddNote", "{'gauge':'B','body':'New'}", 200, "'gauge_code':'B','body':'New'}")]
    [InlineData("AddNote", "{'gauge':'B'}", 200, "'body':'Looked at'}")]
    [InlineData("AddNote", "{'gauge':'Z'}", 422, "'code':'reference'")]
    [InlineData("AddNote", "{'gauge':null}", 400, "'gauge'")]
    [InlineData("AddNote", "{'gauge':'B','body':'1234567890123456789012345678901'}", 400, "at most 30")]
    [InlineData("AddNote", "{'gauge':'B','bodi':'x'}", 400, "Did you mean 'body'?")]
    [InlineData("AddNote", "{}", 400, "is missing")]
    [InlineData("AddNote", "[]", 400, "'code'")]
    [InlineData("AddNote", "{", 400, "'code'")]
    [InlineData("AddNote", null, 400, "is missing")]
    [InlineData("AddNote(gauge='B')", "{}", 404, "stand in the body")]
    [InlineData("AddNote/body", "{'gauge':'B'}", 404, "Nothing follows")]
    [InlineData("AddNote?$select=body", "{'gauge':'B'}", 501, "not supported")]
    [InlineData("AddNote?$filter=true", "{'gauge':'B'}", 400, "$filter")]
    [InlineData("RenameParts", "{'gauge':'A/1','title':'New','line':2}", 200, "[{'line':2,'title':'New'},{'line':1,'title':'Float'}]")]
    [InlineData("RenameParts", "{'gauge':'none','title':'New'}", 200, "'value':[]")]
    [InlineData("RenameParts", "{'gauge':'A/1','title':'N'}", 400, "at least 2")]
    [InlineData("RenameParts", "{'gauge':'A/1','title':'New','line':'x'}", 400, "'line'")]
    [InlineData("RenameParts", "{'gauge':'A/1','title':'New','line':99999999999}", 400, "'line'")]
    [InlineData("LoseParts", "{'gauge':'A/1'}", 200, "'value':0")]
    [InlineData("Untouched", "{'id':1}", 200, "'value':'old'")]
    [InlineData("Untouched", "{'id':99}", 204, "")]
    [InlineData("AddBoth", "{'id':7,'label':'both'}", 204, "")]
    [InlineData("Secret", "{}", 404, "no resource 'Secret'")]
    public async Task OData_calls_actions(string target, string? body, int status, string part)
    {
        var answer = await PostAsync("/odata/calls/" + target, body?.Replace('\'', '"'));
        Assert.Equal(status, answer.Status);
        Assert.Contains(
            part.StartsWith('\'') || part.StartsWith('[') ? part.Replace('\'', '"') : part,
            answer.Text.Replace("\\u0027", "'")
        );
    }

    [Theory]
    [InlineData("gauges/B/notes", "{'body':'New'}", 200, "{'gauge_code':'B','body':'New'}")]
    [InlineData("gauges/B/notes", null, 200, "'body':'Looked at'}")]
    [InlineData("gauges/B/notes?format=csv", null, 200, "gauge_code,body\r\nB,Looked at\r\n")]
    [InlineData("gauges/B/notes?format=xml", null, 200, "<body>Looked at</body>")]
    [InlineData("gauges/Z/notes", null, 422, "'code':'reference'")]
    [InlineData("gauges/B/notes?limit=1", null, 400, "limit")]
    [InlineData("gauges/B/notes", "{'gauge':'A/1'}", 422, "no parameter 'gauge'")]
    [InlineData("gauges/1234567890123/notes", null, 400, "has 13 characters")]
    [InlineData("gauges/B/notes/1", null, 404, "Nothing follows")]
    [InlineData("AddNote", "{'gauge':'B'}", 404, "")]
    [InlineData("LoseParts", "{'gauge':'A/1'}", 200, "{'parts':0}")]
    [InlineData("AddBoth", "{'id':7,'label':'both'}", 204, "")]
    [InlineData("RenameParts?format=jsonl", "{'gauge':'A/1','title':'New'}", 200, "{'line':2,'title':'New'}\n{'line':1,'title':'New'}\n")]
    [InlineData("secrets/go", "{}", 404, "")]
    public async Task Plain_rest_calls_actions(string target, string? body, int status, string part)
    {
        var answer = await PostAsync("/rest/calls/" + target, body?.Replace('\'', '"'));
        Assert.Equal(status, answer.Status);
        Assert.Contains(
            part.Contains("'code'") || part.StartsWith('{') || part.StartsWith('\'') ? part.Replace('\'', '"') : part,
            answer.Text
        );
    }

    [Theory] // the rules of the set hold, whatever a query names
    [InlineData("odata", "GaugesIn(code='A%2F1')", 200, "#Gauges','value':[{'code':'A/1','basin_id':1,'level':null}]")]
    [InlineData("odata", "GaugesIn(code='B')", 200, "'value':[]")]
    [InlineData("odata", "GaugesIn(basin=1)/$count", 200, "1")]
    [InlineData("odata", "GaugesIn(basin=1)?$filter=startswith(code,'A')&$orderby=code desc&$top=1&$select=code", 200, "[{'code':'A/1'}]")]
    [InlineData("odata", "GaugesIn(basin=1)?$filter=level ge 0", 200, "'value':[]")]
    [InlineData("odata", "GaugesIn(basin=1)/A%2F1/code", 200, "'value':'A/1'")]
    [InlineData("odata", "GaugesIn(basin=1,kode='x')", 400, "no parameter 'kode'")]
    [InlineData("odata", "PartsFrom(line=2)", 200, "#Parts','value':[{'gauge_code':'A/1','line':2,'title':'Cable'}]")]
    [InlineData("rest", "GaugesIn?code=A/1", 200, "{'rows':[{'code':'A/1','basin_id':1,'level':null}]}")]
    [InlineData("rest", "GaugesIn?basin=0&format=csv&fields=code", 200, "code\r\nA/1\r\n")]
    [InlineData("rest", "GaugesIn?code=B", 200, "{'rows':[]}")]
    [InlineData("rest", "PartsFrom?line=1&sort=-line&limit=2", 200, "'line':2")]
    public async Task A_query_may_give_entities_of_a_set(string face, string target, int status, string part)
    {
        var answer = await fixture.SameAsync("GET", $"/{face}/calls/{target}", null);
        Assert.Equal(status, answer.Status);
        Assert.Contains(status == 200 ? part.Replace('\'', '"') : part, answer.Text);
    }

    [Theory] // an entity that the caller may not see is not there for what is asked of it either
    [Proves("U-43, C-36")]
    [InlineData(
        "GET",
        "/odata/calls/Gauges('A%2F1')/Calls.PartsAbove()",
        null,
        200,
        "'value':[{'line':1,'title':'Float'},{'line':2,'title':'Cable'}]"
    )]
    [InlineData("GET", "/odata/calls/Gauges('A%2F1')/Calls.PartsAbove", null, 200, "'line':2")]
    [InlineData("GET", "/odata/calls/Gauges('A%2F1')/Calls.PartsAbove(line=1)?$select=line&$count=true", null, 200, "[{'line':2}]")]
    [InlineData("GET", "/odata/calls/Gauges('A%2F1')/Calls.PartsAbove(line=1)/$count", null, 200, "1")]
    [InlineData("GET", "/odata/calls/Gauges('B')/Calls.PartsAbove", null, 404, "There is no such entity")]
    [InlineData("GET", "/odata/calls/Gauges('Z')/Calls.PartsAbove", null, 404, "There is no such entity")]
    [InlineData("GET", "/odata/calls/Gauges('A%2F1')/Calls.PartsAbove(gauge='B')", null, 400, "no parameter 'gauge'")]
    [InlineData("GET", "/odata/calls/Gauges('A%2F1')/Calls.SameTags", null, 404, "")]
    [InlineData("GET", "/odata/calls/Gauges/Calls.PartsAbove", null, 404, "")]
    [InlineData("GET", "/odata/calls/PartsAbove(gauge='B')", null, 404, "asked of an entity")]
    [InlineData("GET", "/odata/calls/Tags(2)/Calls.SameTags()", null, 200, "#Tags','value':[{'id':2,'label':'new'}]")]
    [InlineData("GET", "/rest/calls/Gauges/A%2F1/PartsAbove?line=1", null, 200, "{'rows':[{'line':2,'title':'Cable'}]}")]
    [InlineData("GET", "/rest/calls/Gauges/B/PartsAbove", null, 404, "There is no such")]
    [InlineData("GET", "/rest/calls/Tags/2/SameTags", null, 200, "{'rows':[{'id':2,'label':'new'}]}")]
    [InlineData("GET", "/rest/calls/Gauges/A%2F1", null, 200, "'code':'A/1'")]
    [InlineData("POST", "/odata/calls/Parts(gauge_code='A%2F1',line=2)/Calls.LosePart", "{}", 200, "'value':1")]
    [InlineData("POST", "/odata/calls/Parts(gauge_code='A%2F1',line=2)/Calls.LosePart", "{'but':'Cable'}", 200, "'value':2")]
    [InlineData("POST", "/odata/calls/Parts(gauge_code='A%2F1',line=9)/Calls.LosePart", "{}", 404, "There is no such entity")]
    [InlineData("POST", "/odata/calls/Parts(gauge_code='A%2F1',line=2)/Calls.LosePart", "{'line':1}", 400, "no parameter 'line'")]
    [InlineData("POST", "/odata/calls/Parts/Calls.LosePart", "{}", 404, "")]
    [InlineData("POST", "/rest/calls/Parts/A%2F1/2/LosePart", "{'but':'x'}", 200, "{'parts':1}")]
    [InlineData("POST", "/rest/calls/Parts/A%2F1/7/LosePart", null, 404, "There is no such")]
    [InlineData("GET", "/odata/calls/Parts(gauge_code='A%2F1',line=2)/Calls.LosePart", null, 405, "")]
    public async Task Operations_are_asked_of_entities(string method, string target, string? body, int status, string part)
    {
        var answer = await fixture.SameAsync(method, target, body?.Replace('\'', '"'));
        Assert.Equal(status, answer.Status);
        Assert.Contains(status == 200 ? part.Replace('\'', '"') : part, answer.Text);
        if (status == 404)
            Assert.Equal("2", (await fixture.SameAsync("GET", "/odata/calls/Parts/$count", null)).Text);
    }

    [Theory]
    [InlineData("PATCH", "GaugesIn(basin=1)/A%2F1")]
    [InlineData("POST", "GaugesIn(basin=1)")]
    [InlineData("DELETE", "PartsFrom(line=1)/$filter(true)/$each")]
    public async Task Nothing_is_changed_over_a_query(string method, string target) =>
        Assert.InRange((await fixture.SameAsync(method, "/odata/calls/" + target, method == "DELETE" ? null : "{}")).Status, 404, 405);

    [Fact]
    public async Task An_action_may_give_an_entity()
    {
        var answer = await PostAsync("/odata/calls/Relabel", "{\"id\":1,\"label\":\"told\"}");
        Assert.EndsWith("#Tags/$entity\",\"id\":1,\"label\":\"told\"}", answer.Text);
        answer = await PostAsync("/rest/calls/Relabel", "{\"id\":2,\"label\":\"also\"}");
        Assert.Equal("{\"id\":2,\"label\":\"also\"}", answer.Text);
        Assert.Equal(204, (await PostAsync("/odata/calls/Relabel", "{\"id\":99,\"label\":\"told\"}")).Status);
        var document = await Metadata();
        Assert.Contains("<FunctionImport Name=\"GaugesIn\" Function=\"Calls.GaugesIn\" EntitySet=\"Gauges\"", document);
        Assert.Contains("<ActionImport Name=\"Relabel\" Action=\"Calls.Relabel\" EntitySet=\"Tags\"", document);
    }

    [Theory] // what fails at its end leaves nothing of its beginning
    [InlineData("AddBoth", "{'id':1,'label':'Ferrin'}", 409)]
    [InlineData("AddBoth", "{'id':9,'label':'Ferrin'}", 409)]
    [InlineData("Several", "{'label':'x'}", 500)]
    [InlineData("TooMany", "{'label':'x'}", 500)]
    public async Task All_of_an_action_is_done_or_nothing(string action, string body, int status)
    {
        foreach (var face in new[] { "odata", "rest" })
        {
            var answer = await PostAsync($"/{face}/calls/{action}", body.Replace('\'', '"'));
            Assert.Equal(status, answer.Status);
            Assert.Equal("old", await LabelAsync());
            Assert.Equal("2", (await fixture.SameAsync("GET", "/odata/calls/Tags/$count", null)).Text);
        }
    }

    [Fact]
    public async Task An_action_is_never_read()
    {
        foreach (var path in new[] { "/odata/calls/LoseParts", "/odata/calls/LoseParts()", "/rest/calls/LoseParts" })
        {
            foreach (var method in new[] { "GET", "HEAD", "PUT", "PATCH", "DELETE" })
            {
                if (path.EndsWith(')') && method != "GET")
                    continue;
                var answer = await fixture.SameAsync(method, path, method is "PUT" or "PATCH" ? "{\"gauge\":\"A/1\"}" : null);
                Assert.Equal((405, "POST, OPTIONS"), (answer.Status, answer.Header("Allow")));
            }
        }
        Assert.Equal("2", (await fixture.SameAsync("GET", "/odata/calls/Parts/$count", null)).Text);
        var (services, document) = ((await fixture.Services[0].SendAsync("/odata/calls/")).Text, Metadata());
        Assert.DoesNotContain("LoseParts", services);
        Assert.Contains("<ActionImport Name=\"LoseParts\"", await document);
        Assert.DoesNotContain("Secret", await document);
        Assert.DoesNotContain("secrets", (await fixture.Services[0].SendAsync("/rest/calls/openapi.json")).Text);
    }

    private async Task<string> Metadata() => (await fixture.Services[0].SendAsync("/odata/calls/$metadata")).Text;

    [Fact] // what one of a group did is undone with it, and what an action did, too
    public async Task An_action_is_a_part_of_its_group()
    {
        const string Batch = """
            {"requests":[
              {"id":"1","atomicityGroup":"g","method":"POST","url":"Tags","headers":{"content-type":"application/json"},"body":{"id":8,"label":"made"}},
              {"id":"2","atomicityGroup":"g","method":"POST","url":"LoseParts","headers":{"content-type":"application/json"},"body":{"gauge":"A/1"}},
              {"id":"3","atomicityGroup":"g","method":"POST","url":"AddBoth","headers":{"content-type":"application/json"},"body":{"id":ID,"label":"more"}}]}
            """;
        foreach (var (id, statuses, parts) in new[] { (1, new[] { 409 }, "2"), (9, [201, 200, 204], "0") })
        {
            var answer = await PostAsync("/odata/calls/$batch", Batch.Replace("ID", id.ToString()));
            var told = answer.Json.GetProperty("responses").EnumerateArray().Select(r => r.GetProperty("status").GetInt32());
            Assert.Equal(statuses, told.Where(s => statuses.Contains(s)));
            Assert.Equal(parts, (await fixture.SameAsync("GET", "/odata/calls/Parts/$count", null)).Text);
        }
    }

    [Fact]
    public async Task A_call_that_is_sent_again_is_done_once()
    {
        var id = Guid.NewGuid().ToString();
        (string, string)[] odata = [("Repeatability-Request-ID", id), ("Repeatability-First-Sent", DateTime.UtcNow.ToString("R"))];
        for (var i = 0; i < 2; i++)
        {
            var answer = await PostAsync("/odata/calls/AddBoth", "{\"id\":7,\"label\":\"once\"}", odata);
            Assert.Equal(204, answer.Status);
        }
        Assert.Equal(409, (await PostAsync("/odata/calls/AddBoth", "{\"id\":7,\"label\":\"once\"}")).Status);
        for (var i = 0; i < 2; i++)
        {
            var answer = await PostAsync("/rest/calls/AddBoth", "{\"id\":6,\"label\":\"again\"}", ("Idempotency-Key", id));
            Assert.Equal(204, answer.Status);
        }
        Assert.Equal(422, (await PostAsync("/rest/calls/AddBoth", "{\"id\":5,\"label\":\"x\"}", ("Idempotency-Key", id))).Status);
        // A result is kept with its bytes.
        for (var i = 0; i < 2; i++)
        {
            var answer = await PostAsync("/rest/calls/gauges/B/notes?format=csv", null, ("Idempotency-Key", id + "c"));
            Assert.Equal("gauge_code,body\r\nB,Looked at\r\n", answer.Text);
        }
        Assert.Equal(204, (await PostAsync("/rest/calls/gauges/B/notes", null, ("Prefer", "return=minimal"))).Status);
    }

    [Fact] // a workbook is no text
    public async Task A_result_may_be_a_workbook()
    {
        foreach (var service in fixture.Services)
        {
            var answer = await service.SendAsync("/rest/calls/RenameParts?format=xlsx", "POST", "{\"gauge\":\"A/1\",\"title\":\"New\"}");
            Assert.Equal(200, answer.Status);
            Assert.Equal("PK", Encoding.ASCII.GetString(answer.Bytes, 0, 2));
        }
    }

    [Fact]
    public async Task Mutated_bodies_never_break_anything()
    {
        var random = new Random(17);
        const string Body = "{\"gauge\":\"A/1\",\"title\":\"New\",\"line\":2}";
        var parts = "{}[]\":,\\'; %null1e9-.Aé\0\u2028".ToCharArray();
        for (var i = 0; i < 200 * Soak.Times; i++)
        {
            var text = new StringBuilder(Body);
            for (var times = random.Next(1, 4); times > 0; times--)
                text[random.Next(text.Length)] = parts[random.Next(parts.Length)];
            foreach (var face in new[] { "odata", "rest" })
            {
                var answer = await fixture.Services[i % 3].SendAsync($"/{face}/calls/RenameParts", "POST", text.ToString());
                Assert.True(answer.Status is 200 or 400 or 422, $"{text}: {answer.Status} {answer.Text}");
            }
        }
    }

    [Fact] // a large value is a value
    public async Task A_megabyte_is_refused_by_its_length()
    {
        var body = JsonSerializer.Serialize(new { gauge = "B", body = new string('x', 1_000_000) });
        Assert.Equal(400, (await PostAsync("/odata/calls/AddNote", body)).Status);
    }
}
