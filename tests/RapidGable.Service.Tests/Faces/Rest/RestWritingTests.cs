using System.Text;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Creating, changing and deleting over the plain REST face, with the same answers on every engine.</summary>
[Collection("writing")]
public sealed class RestWritingTests(WritingFixture engines) : IAsyncLifetime
{
    private const string Merge = "application/merge-patch+json";
    private const string Patch = "application/json-patch+json";

    public Task InitializeAsync() => engines.ResetAsync();

    public Task DisposeAsync() => Task.CompletedTask;

    private static (string, string)[] Headers(string text) =>
        [.. text.Split(" | ", StringSplitOptions.RemoveEmptyEntries).Select(h => h.Split(": ", 2)).Select(h => (h[0], h[1]))];

    private Task<Answer> SendAsync(string method, string target, string? body = null, string headers = "") =>
        engines.SameAsync(method, "/rest/s/" + target, body, Headers(headers));

    [Theory]
    [Proves("R-02, R-06, R-21")]
    [InlineData("POST", "Basins", """{"id":3,"name":"Upper"}""", "", 201, """{"id":3,"name":"Upper","parent_id":null}""")]
    [InlineData("POST", "Basins", """{"id":3,"name":"Upper"}""", "Prefer: return=minimal", 201, "")]
    [InlineData("POST", "Basins?fields=name", """{"id":3,"name":"Upper"}""", "", 201, """{"name":"Upper"}""")]
    [InlineData("POST", "Basins?include=parent", """{"id":3,"name":"Upper","parent_id":1}""", "", 201, "\"parent\":{\"id\":1")]
    [InlineData("POST", "Basins?limit=3", """{"id":3,"name":"Upper"}""", "", 400, "parameter-not-here")]
    [InlineData("POST", "Basins?fields=nope", """{"id":3,"name":"Upper"}""", "", 400, "nope")]
    [InlineData("POST", "Basins", "{", "", 400, "\"code\":\"body\"")]
    [InlineData("POST", "Basins", "7", "", 400, "is a JSON object")]
    [InlineData("POST", "Basins", "null", "", 400, "is a JSON object")]
    [InlineData("POST", "Basins", """{"id":3}""", "", 422, "\"pointer\":\"#/name\"")]
    [InlineData("POST", "Basins", """{"id":3,"name":5,"nope":1}""", "", 422, "\"pointer\":\"#/nope\"")]
    [InlineData("POST", "Basins", """{"id":3,"name":"U","@odata.type":"#x"}""", "", 422, "#/%40odata.type")]
    [InlineData("POST", "Basins", """{"id":1,"name":"Other"}""", "", 409, "\"pointer\":\"#/id\"")]
    [InlineData("POST", "Basins", """{"id":3,"name":"U"}""", "Accept: text/csv", 406, "not-acceptable")]
    [InlineData("POST", "Basins", """{"id":3,"name":"U"}""", "Content-Type: text/plain", 415, "content-type")]
    [InlineData("POST", "Basins", """{"id":3,"name":"U"}""", "Content-Type: application/json;charset=latin1", 415, "content-type")]
    [InlineData("POST", "Basins", """{"id":3,"name":"U"}""", "If-Match: *", 412, "changed")]
    [InlineData("POST", "Gauges", """{"code":"C","basin_id":1,"place":{"lat":1.5}}""", "", 201, "\"place\":{\"lat\":1.5,\"lon\":null}")]
    [InlineData("POST", "Gauges", """{"code":"C","basin_id":9}""", "", 422, "\"pointer\":\"#/basin_id\"")]
    [InlineData("POST", "Gauges", """{"code":"C","basin_id":1,"parts":[{"line":1,"title":"M"}]}""", "", 201, "\"parts\":{\"rows\":[{")]
    [InlineData("POST", "Gauges", """{"code":"C","basin_id":1,"parts":{"rows":[{"line":1,"title":"M"}]}}""", "", 201, "\"title\":\"M\"")]
    [InlineData("POST", "Gauges", """{"code":"C","basin_id":1,"parts":[{"line":1}]}""", "", 422, "\"pointer\":\"#/parts/0/title\"")]
    [InlineData("POST", "Gauges/B/parts", """{"line":9,"title":"New"}""", "", 201, "\"gauge_code\":\"B\",\"line\":9")]
    [InlineData("POST", "Gauges/Z/parts", """{"line":9,"title":"New"}""", "", 404, "not-found")]
    [InlineData("POST", "Devices", """{"id":9,"kind":"radar","reach":5}""", "", 201, "\"reach\":5")]
    [InlineData("POST", "Devices", """{"id":9,"kind":"plain","reach":5}""", "", 422, "\"pointer\":\"#/reach\"")]
    [InlineData("POST", "Looked", """{"code":"x"}""", "", 405, "can be read only")]
    [InlineData("PATCH", "Basins", """{"name":"x"}""", "", 405, "GET, HEAD, POST, OPTIONS")]
    [InlineData("PATCH", "Gauges/B/level", "5", "", 405, "method")]
    public async Task Requests_are_answered(string method, string target, string body, string headers, int status, string text)
    {
        var answer = await SendAsync(method, target, body, headers);
        Assert.True(status == answer.Status, $"{answer.Status} {answer.Text}");
        Assert.Contains(text, answer.Text);
        if (status == 201)
            Assert.StartsWith(engines.Services[0].Address.Length > 0 ? "http://" : "", answer.Header("Location") ?? "http://");
    }

    [Fact]
    [Proves("R-02")]
    public async Task A_created_row_is_where_its_location_says()
    {
        foreach (var service in engines.Services)
        {
            var made = await service.SendAsync("/rest/s/Gauges", "POST", """{"code":"X/'1","basin_id":1}""");
            Assert.Equal(201, made.Status);
            Assert.EndsWith("/rest/s/Gauges/X%2F%271", made.Header("Location"));
            var read = await service.SendAsync(made.Header("Location")!);
            Assert.Equal((200, made.Text), (read.Status, read.Text));
            Assert.Equal(made.Header("ETag"), read.Header("ETag"));
            var part = await service.SendAsync(made.Header("Location") + "/parts", "POST", """{"line":1,"title":"M"}""");
            Assert.Equal(200, (await service.SendAsync(part.Header("Location")!)).Status);
        }
    }

    [Theory]
    [Proves("R-17, R-19")]
    [InlineData(Merge, """{"level":2.5}""", 200, "\"level\":2.5")]
    [InlineData("application/json", """{"level":2.5}""", 200, "\"level\":2.5")]
    [InlineData(Merge, """{"level":null}""", 200, "\"level\":null")]
    [InlineData(Merge, """{"place":{"lat":7}}""", 200, "\"place\":{\"lat\":7,\"lon\":")]
    [InlineData(Merge, """{"settings":{"unit":"m"}}""", 200, "\"unit\":\"m\"")]
    [InlineData(Merge, """{"online":null}""", 422, "#/online")]
    [InlineData(Merge, "[1]", 400, "the body is a list")]
    [InlineData(Merge, "\"text\"", 400, "is a JSON object")]
    [InlineData(Merge, """{"code":"B"}""", 200, "\"code\":\"B\"")]
    [InlineData(Merge, """{"code":"Z"}""", 422, "'code' cannot be changed")]
    [InlineData(Merge, """{"version":1}""", 200, "\"version\":1")]
    [InlineData(Merge, """{"version":7}""", 422, "'version' cannot be changed")]
    [InlineData(Merge, """{"parts":[{"line":7,"title":"Only"}]}""", 200, "\"code\":\"B\"")]
    [InlineData(Patch, """[{"op":"replace","path":"/level","value":3.5}]""", 200, "\"level\":3.5")]
    [InlineData(Patch, """[{"op":"test","path":"/code","value":"B"},{"op":"remove","path":"/level"}]""", 200, "\"level\":null")]
    [InlineData(Patch, """[{"op":"replace","path":"/place/lat","value":4}]""", 200, "\"lat\":4")]
    [InlineData(Patch, """[{"op":"test","path":"/code","value":"Z"},{"op":"remove","path":"/level"}]""", 409, "another value")]
    [InlineData(Patch, """[{"op":"replace","path":"/level","value":9},{"op":"remove","path":"/nope"}]""", 409, "there is no 'nope'")]
    [InlineData(Patch, """[{"op":"replace","path":"/code","value":"Z"}]""", 422, "'code' cannot be changed")]
    [InlineData(Patch, """[{"op":"add","path":"/nope","value":1}]""", 422, "#/nope")]
    [InlineData(Patch, """{"level":1}""", 400, "array of operations")]
    [InlineData("application/xml", "<a/>", 415, "content-type")]
    public async Task Patches_change_what_they_name(string type, string body, int status, string text)
    {
        var before = (await SendAsync("GET", "Gauges/B")).Text;
        var answer = await SendAsync("PATCH", "Gauges/B", body, "Content-Type: " + type);
        Assert.True(status == answer.Status, $"{answer.Status} {answer.Text}");
        Assert.Contains(text, answer.Text);
        if (status >= 400)
            Assert.Equal(before, (await SendAsync("GET", "Gauges/B")).Text);
        if (status == 415)
            Assert.Contains(Patch, answer.Header("Accept-Patch"));
    }

    [Fact]
    [Proves("R-05, R-07, R-09")]
    public async Task Tags_keep_changes_apart()
    {
        var tag = (await SendAsync("GET", "Gauges/B")).Header("ETag")!;
        Assert.StartsWith("\"", tag);
        var chosen = (await SendAsync("GET", "Gauges/B?fields=code,level")).Header("ETag")!;
        Assert.NotEqual(tag, chosen);
        Assert.NotEqual(tag, (await SendAsync("GET", "Gauges/B?format=csv")).Header("ETag"));
        Assert.StartsWith("W/", (await SendAsync("GET", "Gauges/B?include=basin")).Header("ETag"));
        Assert.Equal(304, (await SendAsync("GET", "Gauges/B", null, "If-None-Match: " + tag)).Status);
        Assert.Equal(200, (await SendAsync("GET", "Gauges/B", null, "If-None-Match: " + chosen)).Status);
        const string Body = """{"level":2.5}""";
        Assert.Equal(412, (await SendAsync("PATCH", "Gauges/B", Body, $"If-Match: W/{tag}")).Status);
        Assert.Equal(412, (await SendAsync("PATCH", "Gauges/B", Body, "If-Match: \"other\"")).Status);
        Assert.Equal(412, (await SendAsync("PATCH", "Gauges/B", Body, "If-None-Match: " + tag)).Status);
        Assert.Equal(400, (await SendAsync("PATCH", "Gauges/B", Body, "If-Match: unquoted")).Status);
        // The tag of some fields is of the same state.
        var changed = await SendAsync("PATCH", "Gauges/B", Body, "If-Match: " + chosen);
        Assert.Equal(200, changed.Status);
        Assert.NotEqual(tag, changed.Header("ETag"));
        Assert.Equal(412, (await SendAsync("PATCH", "Gauges/B", Body, "If-Match: " + tag)).Status);
        var put = await SendAsync("PUT", "Gauges/B", """{"basin_id":2}""", "If-Match: " + changed.Header("ETag"));
        Assert.Equal((200, null), (put.Status, put.Header("ETag")));
        Assert.Equal(400, (await SendAsync("PUT", "Gauges/B", """{"basin_id":2}""", "Content-Range: bytes 0-1/5")).Status);
        Assert.Equal(412, (await SendAsync("DELETE", "Gauges/B", null, "If-Match: " + tag)).Status);
        Assert.Equal(428, (await SendAsync("DELETE", "Notes/10001")).Status);
    }

    [Fact] // a compressed answer has a tag of its own, which is known all the same
    [Proves("R-09")]
    public async Task Compressed_answers_have_tags_of_their_own()
    {
        var service = engines.Services[0];
        var plain = (await service.SendAsync("/rest/s/Gauges/B")).Header("ETag")!;
        var packed = await service.SendAsync("/rest/s/Gauges/B", "GET", ("Accept-Encoding", "gzip"));
        Assert.Equal("gzip", packed.Header("Content-Encoding"));
        Assert.Equal(plain[..^1] + ";gzip\"", packed.Header("ETag"));
        Assert.Equal(304, (await service.SendAsync("/rest/s/Gauges/B", "GET", ("If-None-Match", packed.Header("ETag")!))).Status);
        var changed = await service.SendAsync("/rest/s/Gauges/B", "PATCH", """{"level":5}""", ("If-Match", packed.Header("ETag")!));
        Assert.Equal(200, changed.Status);
    }

    [Theory]
    [Proves("R-02, R-03")]
    [InlineData("PUT", "Tags/8", """{"label":"eight"}""", 201, "\"id\":8")]
    [InlineData("PUT", "Tags/8", """{"id":8,"label":"eight"}""", 201, "\"id\":8")]
    [InlineData("PUT", "Tags/1", """{"label":"changed"}""", 200, "\"label\":\"changed\"")]
    [InlineData("PUT", "Tags/1", """{}""", 422, "#/label")]
    [InlineData("PUT", "Gauges/A%2F1/parts/8", """{"title":"Eight"}""", 201, "\"line\":8")]
    [InlineData("PUT", "Notes/77", """{"body":"x"}""", 404, "not-found")]
    [InlineData("DELETE", "Branches/3", null, 204, "")]
    [InlineData("DELETE", "Branches/33", null, 404, "not-found")]
    [InlineData("DELETE", "Basins/1", null, 409, "referred-to")]
    [InlineData("DELETE", "Branches/3?fields=id", null, 400, "parameter-not-here")]
    public async Task Rows_are_put_and_deleted(string method, string target, string? body, int status, string text)
    {
        var answer = await SendAsync(method, target, body);
        Assert.True(status == answer.Status, $"{answer.Status} {answer.Text}");
        Assert.Contains(text, answer.Text);
        if (method == "DELETE" && status == 204)
            Assert.Equal(404, (await SendAsync(method, target)).Status);
    }

    [Theory] // all of them, or none
    [InlineData("application/json", """[{"id":8,"label":"a"},{"id":9,"label":"b"}]""", 201, "\"id\":9")]
    [InlineData("application/json", "[]", 201, "{\"rows\":[]}")]
    [InlineData("application/x-ndjson", "{\"id\":8,\"label\":\"a\"}\n\n{\"id\":9,\"label\":\"b\"}\n", 201, "\"id\":9")]
    [InlineData("text/csv", "id,label\r\n8,a\r\n9,\"b, c\"\r\n", 201, "b, c")]
    [InlineData("application/json", """[{"id":8,"label":"a"},{"id":1,"label":"b"}]""", 409, "#/1/id")]
    [InlineData("application/json", """[{"id":8,"label":"a"},{"id":9}]""", 422, "#/1/label")]
    [InlineData("application/json", """[{"id":8,"label":"a"},7]""", 422, "#/1")]
    [InlineData("application/x-ndjson", "{\"id\":8,\"label\":\"a\"}\n{\"id\":9,\n", 400, "Line 2 is not JSON")]
    [InlineData("application/x-ndjson", "{\"id\":8,\"label\":\"a\"},{\"id\":9,\"label\":\"a\"}\n", 400, "Line 1 is not JSON")]
    [InlineData("text/csv", "id,label\r\n8,a\r\n9\r\n", 400, "Line 3 has 1 field")]
    [InlineData("text/csv", "id,lable\r\n8,a\r\n", 422, "Did you mean 'label'?")]
    [InlineData("text/csv", "id,label\r\n8,a\r\n9,\r\n", 422, "#/1/label")]
    [InlineData("text/csv", "", 400, "The body is empty")]
    public async Task Several_rows_are_created_as_a_whole(string type, string body, int status, string text)
    {
        var answer = await SendAsync("POST", "Tags", body, "Content-Type: " + type);
        Assert.True(status == answer.Status, $"{answer.Status} {answer.Text}");
        Assert.Contains(text, answer.Text);
        var there = (await SendAsync("GET", "Tags?id=8,9")).Json.GetProperty("rows").GetArrayLength();
        Assert.Equal(status == 201 && body != "[]" ? 2 : 0, there);
    }

    [Fact] // texts that look like formulas are kept, and escaped on request
    [Proves("R-25")]
    public async Task Formulas_are_texts()
    {
        await SendAsync("POST", "Tags", """[{"id":8,"label":"=1+1"},{"id":9,"label":"-5"}]""");
        Assert.Equal("label\r\n=1+1\r\n-5\r\n", (await SendAsync("GET", "Tags?id=8,9&fields=label&format=csv")).Text);
        Assert.Equal(
            "label\r\n'=1+1\r\n'-5\r\n",
            (await SendAsync("GET", "Tags?id=8,9&fields=label&format=text/csv;formulas=escaped")).Text
        );
    }

    [Fact] // what was done once is not done again
    public async Task An_idempotency_key_makes_a_request_repeatable()
    {
        const string Body = """{"id":8,"label":"a"}""";
        foreach (var service in engines.Services)
        {
            var key = ("Idempotency-Key", $"\"{Guid.NewGuid()}\"");
            var first = await service.SendAsync("/rest/s/Tags", "POST", Body, key);
            var again = await service.SendAsync("/rest/s/Tags", "POST", Body, key);
            Assert.Equal((201, 201, first.Text), (first.Status, again.Status, again.Text));
            Assert.Equal(first.Header("Location"), again.Header("Location"));
            Assert.Equal(422, (await service.SendAsync("/rest/s/Tags", "POST", """{"id":9,"label":"a"}""", key)).Status);
            Assert.Equal(
                409,
                (await service.SendAsync("/rest/s/Tags", "POST", Body, ("Idempotency-Key", Guid.NewGuid().ToString()))).Status
            );
            Assert.Equal(400, (await service.SendAsync("/rest/s/Tags", "POST", Body, ("Idempotency-Key", new string('x', 300)))).Status);
        }
    }

    [Fact]
    public async Task The_state_before_is_told_on_request()
    {
        var answer = await SendAsync("PATCH", "Tags/1", """{"label":"after"}""", "Prefer: before, return=representation");
        Assert.Equal("after", answer.Json.GetProperty("after").GetProperty("label").GetString());
        Assert.NotEqual("after", answer.Json.GetProperty("before").GetProperty("label").GetString());
        Assert.Contains("before", answer.Header("Preference-Applied"));
        Assert.Equal(204, (await SendAsync("PATCH", "Tags/1", """{"label":"x"}""", "Prefer: return=minimal")).Status);
        Assert.Equal("{\"code\":\"B\",\"basin_id\":", (await SendAsync("GET", "Gauges/B", null, "Prefer: omit-values=nulls")).Text[..23]);
    }

    [Fact]
    public async Task Streams_have_an_address_of_their_own()
    {
        Assert.Equal(404, (await SendAsync("GET", "Gauges/B/photo")).Status);
        foreach (var service in engines.Services)
        {
            Assert.Equal(204, (await service.SendAsync("/rest/s/Gauges/B/photo", "PUT", "PNG!", ("Content-Type", "image/png"))).Status);
            var read = await service.SendAsync("/rest/s/Gauges/B/photo");
            Assert.Equal((200, "image/png", "PNG!"), (read.Status, read.Header("Content-Type"), read.Text));
            Assert.Equal("NG", (await service.SendAsync("/rest/s/Gauges/B/photo", "GET", ("Range", "bytes=1-2"))).Text);
            Assert.Equal(415, (await service.SendAsync("/rest/s/Gauges/B/photo", "PUT", "x", ("Content-Type", "text/plain"))).Status);
            Assert.Equal(204, (await service.SendAsync("/rest/s/Gauges/B/photo", "DELETE")).Status);
            Assert.Equal(404, (await service.SendAsync("/rest/s/Gauges/B/photo")).Status);
        }
    }

    [Fact] // addresses, parameters and bodies that nobody would send are done or refused, and never a fault of ours
    public async Task Mutated_requests_are_no_faults()
    {
        string[] targets =
        [
            "Gauges?code=A*,B&level=..5,null&sort=-level,code&fields=code,place/lat,basin/name&include=basin,parts&total=true",
            "Gauges?filter=level gt 2 and contains(code,'A')&rows=1..20&format=csv",
            "Gauges/A%2F1/parts/1?fields=title&format=xml",
            "Basins?parent/name=!\"Al\"\"der\"&limit=2&after=WyI5MDNmNmIyNSIsMl0",
            "Notes?written=2024-01-01..2024-05-01T10:00:00Z&search=first OR \"x y\" NOT z",
            "Kept?small=-5..5&amount=1.5,2&day=2024-02-29&flag=true&uid=11ec2020-3aea-4069-a2dd-08002b30309d&format=xlsx",
            "openapi-3.0.yaml",
        ];
        (string Type, string Body)[] bodies =
        [
            (
                "application/json",
                """{"code":"C","basin_id":1,"place":{"lat":5.5},"settings":{"rate":5},"parts":[{"line":1,"title":"M"}]}"""
            ),
            ("application/json", """[{"id":8,"label":"a"},{"id":9,"label":"b"}]"""),
            (Patch, """[{"op":"test","path":"/code","value":"B"},{"op":"move","from":"/place/lat","path":"/place/lon"}]"""),
            ("text/csv", "code,basin_id,place/lat\r\nC,1,\"5.5\"\r\nD,2,\r\n"),
            ("application/x-ndjson", "{\"code\":\"C\",\"basin_id\":1}\n{\"code\":\"D\",\"basin_id\":2}\n"),
        ];
        var random = new Random(16);
        var statuses = new Dictionary<int, int>();
        for (var i = 0; i < 1_500 * Soak.Times; i++)
        {
            var service = engines.Services[i % 3];
            var target = "/rest/s/" + MutatedAddress.Of(targets, random);
            Answer answer;
            if (i % 3 == 0)
            {
                var (type, body) = bodies[random.Next(bodies.Length)];
                var text = new StringBuilder(body);
                for (var changes = random.Next(0, 4); changes > 0; changes--)
                    text.Insert(random.Next(text.Length + 1), "{}[],:\"\\\n0x~/"[random.Next(13)]);
                var method =
                    type == Patch ? "PATCH"
                    : random.Next(3) == 0 ? "PUT"
                    : "POST";
                var path =
                    method == "POST"
                        ? random.Next(2) == 0
                            ? "Gauges"
                            : "Tags"
                        : "Gauges/B";
                answer = await service.SendAsync("/rest/s/" + path, method, text.ToString(), ("Content-Type", type));
            }
            else
                answer = await service.SendAsync(target);
            statuses[answer.Status] = statuses.GetValueOrDefault(answer.Status) + 1;
            Assert.True(answer.Status is < 500 or 501, $"{target} {answer.Status} {answer.Text}");
        }
        Assert.True(statuses.GetValueOrDefault(200) > 50, string.Join(", ", statuses));
        Assert.True(statuses.GetValueOrDefault(400) > 100, string.Join(", ", statuses));
    }
}
