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
        Assert.Equal([false, true], rules.Select(r => r.GetProperty("applies").GetBoolean()));
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
        await _http.SaysAsync("/manage/audit", "sent POST /rest/s/Rivers as office: 201");
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
    [InlineData("""{"target":"/rest/s/Rivers","headers":[null]}""", "headers")]
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
