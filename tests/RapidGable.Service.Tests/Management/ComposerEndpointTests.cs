using System.Text.Json;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Requests that are put together by hand: sent as any caller, with the statements and rules behind the answer.</summary>
public sealed class ComposerEndpointTests : IAsyncLifetime
{
    private static readonly (string, string)[] Own = [("Gable-Client", "test")];

    private readonly TestWorkspace _folder = new();
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .WithDatabase(
                """
                CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT, note TEXT);
                INSERT INTO river VALUES (1, 'Alder', 'a'), (2, 'Birch', 'b');
                """
            )
            .Write(
                "services/s.yaml",
                """
                title: S
                source: main
                sets:
                  - from: river
                    name: Rivers
                    allow: [read, create, update, delete]
                    rules:
                      - { who: office, may: [read, create] }
                      - { who: chief, may: [read, create, update, delete] }
                      - { who: field, may: read, rows: name eq 'Alder', hide: note }

                """
            );
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private Task<Answer> SendAsync(object request) =>
        _http.SendAsync("/manage/requests/send", "POST", JsonSerializer.Serialize(request), Own);

    [Theory]
    [InlineData("/rest/s/Rivers?sort=-name", "rows")]
    [InlineData("/odata/s/Rivers?$orderby=name desc", "value")]
    public async Task An_answer_comes_as_the_caller_gets_it_with_what_is_behind_it(string target, string list)
    {
        var sent = (
            await SendAsync(
                new
                {
                    method = "GET",
                    target,
                    @as = "field",
                }
            )
        ).Json;
        Assert.Equal((200, "field"), (sent.GetProperty("status").GetInt32(), sent.GetProperty("caller").GetString()));
        using var body = JsonDocument.Parse(sent.GetProperty("body").GetString()!);
        var row = Assert.Single(body.RootElement.GetProperty(list).EnumerateArray());
        Assert.Equal("Alder", row.GetProperty("name").GetString());
        Assert.False(row.TryGetProperty("note", out _));
        var statement = Assert.Single(sent.GetProperty("statements").EnumerateArray());
        Assert.Contains("FROM \"river\"", statement.GetProperty("sql").GetString());
        Assert.Contains("'Alder'", statement.GetProperty("parameters").EnumerateArray().Select(p => p.GetString()));
        var rules = sent.GetProperty("rules").EnumerateArray().ToList();
        Assert.Equal([false, false, true], rules.Select(r => r.GetProperty("applies").GetBoolean()));
        var programs = sent.GetProperty("programs").EnumerateArray().ToList();
        Assert.Equal(["Shell", "Python", "TypeScript", "C#"], programs.Select(p => p.GetProperty("language").GetString()));
        Assert.Contains(_http.Address + target.Replace(" ", "%20"), programs[0].GetProperty("text").GetString());
    }

    [Fact]
    public async Task Addresses_in_answers_are_those_of_the_service()
    {
        var sent = (await SendAsync(new { target = "/odata/s/Rivers", @as = "office" })).Json;
        Assert.Contains(new Uri(_http.Address).Authority, sent.GetProperty("body").GetString());
        Assert.Contains(sent.GetProperty("headers").EnumerateArray(), h => h.GetProperty("name").GetString() == "odata-version");
    }

    [Fact]
    public async Task A_change_is_made_as_the_caller_and_shows_its_statements()
    {
        var request = new
        {
            method = "POST",
            target = "/rest/s/Rivers",
            headers = new[] { new { name = "Content-Type", value = "application/json" } },
            body = """{"name": "Cedar", "note": "{{host}}"}""",
            @as = "office",
        };
        var sent = (await SendAsync(request)).Json;
        Assert.Equal(201, sent.GetProperty("status").GetInt32());
        Assert.Contains(sent.GetProperty("statements").EnumerateArray(), s =>
            s.GetProperty("sql").GetString()!.StartsWith("INSERT", StringComparison.Ordinal)
        );
        // What looks like a variable of a kept request is only a text here.
        Assert.Contains("{{host}}", sent.GetProperty("body").GetString());
        var refused = (await SendAsync(request with { @as = "field" })).Json;
        Assert.Equal(404, refused.GetProperty("status").GetInt32() is 403 or 404 ? 404 : 0);
        Assert.Equal(0, refused.GetProperty("statements").GetArrayLength());
        Assert.Contains("create", refused.GetProperty("rules")[0].GetProperty("rule").GetString());
        await _http.SaysAsync("/manage/audit", "tried POST /rest/s/Rivers as office: 201");
    }

    private const string Changeset = """
        --b
        Content-Type: multipart/mixed; boundary=c

        --c
        Content-Type: application/http
        Content-Transfer-Encoding: binary
        Content-ID: 1

        POST Rivers HTTP/1.1
        Content-Type: application/json

        {"name":"Elm"}
        --c--
        --b--

        """;

    [Theory] // every way to change rows is undone unless it is for real
    [InlineData("POST", "/rest/s/Rivers", "application/json", "{\"name\":\"Elm\"}", "Alder,Birch,Elm")]
    [InlineData("POST", "/rest/s/Rivers", "application/json", "[{\"name\":\"Elm\"},{\"name\":\"Fir\"}]", "Alder,Birch,Elm,Fir")]
    [InlineData("POST", "/odata/s/Rivers", "application/json", "{\"name\":\"Elm\"}", "Alder,Birch,Elm")]
    [InlineData("PATCH", "/odata/s/Rivers(1)", "application/json", "{\"name\":\"Elm\"}", "Birch,Elm")]
    [InlineData("PATCH", "/rest/s/Rivers/1", "application/json", "{\"name\":\"Elm\"}", "Birch,Elm")]
    [InlineData("PUT", "/odata/s/Rivers(1)/name", "application/json", "{\"value\":\"Elm\"}", "Birch,Elm")]
    [InlineData("DELETE", "/rest/s/Rivers/1", "", "", "Birch")]
    [InlineData("DELETE", "/odata/s/Rivers(1)", "", "", "Birch")]
    [InlineData(
        "POST",
        "/odata/s/$batch",
        "application/json",
        "{\"requests\":[{\"id\":\"1\",\"method\":\"DELETE\",\"url\":\"Rivers(1)\"}]}",
        "Birch"
    )]
    [InlineData(
        "POST",
        "/odata/s/$batch",
        "application/json",
        "{\"requests\":[{\"id\":\"1\",\"atomicityGroup\":\"g\",\"method\":\"DELETE\",\"url\":\"Rivers(1)\"}]}",
        "Birch"
    )]
    [InlineData("POST", "/odata/s/$batch", "multipart/mixed; boundary=b", Changeset, "Alder,Birch,Elm")]
    public async Task What_is_not_for_real_is_undone(string method, string target, string type, string body, string after)
    {
        object Request(bool real) =>
            new
            {
                method,
                target,
                headers = type.Length == 0 ? [] : new[] { new { name = "Content-Type", value = type } },
                body = type.StartsWith("multipart", StringComparison.Ordinal) ? body.ReplaceLineEndings("\r\n") : body,
                @as = "chief",
                real,
            };
        async Task<string> NamesAsync() =>
            string.Join(
                ',',
                JsonDocument
                    .Parse(
                        (await SendAsync(new { target = "/rest/s/Rivers?sort=name", @as = "chief" })).Json.GetProperty("body").GetString()!
                    )
                    .RootElement.GetProperty("rows")
                    .EnumerateArray()
                    .Select(r => r.GetProperty("name").GetString())
            );
        var tried = (await SendAsync(Request(real: false))).Json;
        Assert.InRange(tried.GetProperty("status").GetInt32(), 200, 204);
        Assert.True(tried.GetProperty("isUndone").GetBoolean());
        Assert.Equal("Alder,Birch", await NamesAsync());
        var sent = (await SendAsync(Request(real: true))).Json;
        Assert.InRange(sent.GetProperty("status").GetInt32(), 200, 204);
        Assert.False(sent.GetProperty("isUndone").GetBoolean());
        Assert.Equal(after, await NamesAsync());
        await _http.SaysAsync("/manage/audit", $"sent for real {method} {target}");
    }

    [Theory]
    [InlineData("/odata/../manage/accounts")]
    [InlineData("/odata/s/../../manage/accounts")]
    [InlineData("/rest/s/%2e%2e/%2E%2E/manage/accounts")]
    [InlineData("/rest/s/.%2e/../manage/accounts")]
    [InlineData("/rest/s/%252e%252e/%252e%252e/manage/accounts")]
    [InlineData("/rest/s/..\\..\\manage/accounts")]
    public async Task An_address_leads_to_no_other_place(string target)
    {
        var answer = await SendAsync(new { target });
        Assert.Equal((400, true), (answer.Status, answer.Text.Contains("\"target\"", StringComparison.Ordinal)));
    }

    [Fact]
    public async Task A_body_that_is_no_text_is_only_measured()
    {
        var sent = (await SendAsync(new { target = "/rest/s/Rivers?format=xlsx", @as = "office" })).Json;
        Assert.Equal(200, sent.GetProperty("status").GetInt32());
        Assert.False(sent.TryGetProperty("body", out _));
        Assert.True(sent.GetProperty("bytes").GetInt64() > 1000);
    }

    [Theory]
    [InlineData("""{"target":"/manage/accounts"}""", "target")]
    [InlineData("""{"target":"http://example.org/rest/s/"}""", "target")]
    [InlineData("""{"target":"//example.org/rest/s/"}""", "target")]
    [InlineData("""{"target":"@example.org/rest/s/"}""", "target")]
    [InlineData("""{"target":"/rest/s/Rivers\r\nX: y"}""", "target")]
    [InlineData("""{}""", "target")]
    [InlineData("""{"target":"/rest/s/Rivers","method":"CONNECT"}""", "method")]
    [InlineData("""{"target":"/rest/s/Rivers","headers":[{"name":"a b","value":"c"}]}""", "headers")]
    [InlineData("""{"target":"/rest/s/Rivers","headers":[{"name":"a","value":"c\r\nd: e"}]}""", "headers")]
    [InlineData("""{"target":"/rest/s/Rivers","headers":[null]}""", "body")]
    [InlineData("""{"target":"/rest/s/Rivers","headers":[{"name":"authorization","value":"Bearer gablekey_0_0"}]}""", "headers")]
    [InlineData("""{"target":"/rest/s/Rivers","as":"no such, one?"}""", "caller")]
    [InlineData("""{"target":"/rest/s/Rivers","port":1}""", "body")]
    [InlineData("[]", "body")]
    public async Task What_cannot_be_sent_is_told(string body, string code)
    {
        var answer = await _http.SendAsync("/manage/requests/send", "POST", body, Own);
        Assert.Equal((400, code), (answer.Status, answer.Json.GetProperty("error").GetProperty("code").GetString()));
    }

    [Fact]
    public async Task A_forwarded_address_makes_nobody_else_of_a_caller()
    {
        var headers = new[] { new { name = "X-Forwarded-For", value = "10.0.0.1" } };
        var sent = (await SendAsync(new { target = "/rest/s/Rivers", headers })).Json;
        Assert.NotEqual(200, sent.GetProperty("status").GetInt32());
    }
}
