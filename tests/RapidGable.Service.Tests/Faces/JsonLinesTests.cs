namespace RapidGable.Service.Tests;

/// <summary>Lists as JSON Lines: the same entities, each on a line of its own.</summary>
public sealed class JsonLinesTests(NetworkService service) : IClassFixture<NetworkService>
{
    private const string Type = "application/x-ndjson";

    private Task<Answer> GetAsync(string target, string? accept = Type, string version = "4.01") =>
        service.Http.SendAsync(
            "/odata/s/" + target.Replace(" ", "%20"),
            "GET",
            accept is null ? [("OData-MaxVersion", version)] : [("Accept", accept), ("OData-MaxVersion", version)]
        );

    [Theory]
    [InlineData("Stations?$select=id,code&$top=2", "{'id':1,'code':'AB-001'}|{'id':2,'code':'AB-002'}|")]
    [InlineData("Stations?$filter=id eq 0", "")]
    [InlineData("Stations?$select=id&$top=1&$count=true", "{'@count':120}|{'id':1}|")]
    [InlineData("Stations?$count=true&$top=0", "{'@count':120}|")]
    [InlineData("Catchments?$select=id&$top=1&$expand=parent($select=id)", "{'id':1,'parent':null}|")]
    [InlineData("Stations?$select=id&$top=1&$expand=Sensors($select=kind)", "{'id':1,'Sensors':[{'kind':'level'}]}|")]
    [InlineData("Stations?$select=id&$top=1&$expand=Sensors($count=true;$top=0)", "{'id':1,'Sensors@count':1,'Sensors':[]}|")]
    [InlineData("Stations?$apply=aggregate($count as n)", "{'n':120}|")]
    [InlineData("Catchments(3)/Stations?$select=id&$top=1", "{'id':1}|")]
    public async Task A_list_is_a_line_for_each_entity(string target, string expected)
    {
        var answer = await GetAsync(target);
        Assert.Equal((200, Type), (answer.Status, answer.Header("Content-Type")));
        Assert.Equal(expected.Replace('\'', '"').Replace('|', '\n'), answer.Text);
    }

    [Fact] // the next link is the last line, and following it gives every row once
    public async Task Pages_make_the_whole()
    {
        var (ids, pages) = (new List<int>(), 0);
        for (var next = "Stations?$select=id&$orderby=name&$format=jsonl"; next is not null; pages++)
        {
            var lines = (await GetAsync(next, accept: null)).Text.Split('\n', StringSplitOptions.RemoveEmptyEntries);
            next = null;
            foreach (var line in lines)
            {
                using var json = System.Text.Json.JsonDocument.Parse(line);
                if (json.RootElement.TryGetProperty("@nextLink", out var link))
                    next = link.GetString()!.Split("/odata/s/")[1];
                else
                    ids.Add(json.RootElement.GetProperty("id").GetInt32());
            }
        }
        Assert.True(pages > 1);
        Assert.Equal(Enumerable.Range(1, 120), ids.Order());
    }

    [Fact] // 4.0 readers get the prefix that they know, and exact numbers come as text on request
    public async Task Names_and_numbers_follow_the_version_and_the_format()
    {
        var answer = await GetAsync("Stations?$select=id&$top=1&$count=true", Type + ";IEEE754Compatible=true", "4.0");
        Assert.Equal(Type + ";IEEE754Compatible=true", answer.Header("Content-Type"));
        Assert.Equal("{\"@odata.count\":\"120\"}\n{\"id\":\"1\"}\n", answer.Text);
    }

    [Theory]
    [InlineData("Stations(1)", Type, 406)]
    [InlineData("Stations(1)/name", Type, 406)]
    [InlineData("Stations/$count", Type, 200)] // a count is plain text whatever is accepted
    [InlineData("$metadata", Type, 406)]
    [InlineData("", Type, 406)]
    [InlineData("Stations?$top=1", Type + ";metadata=full", 406)]
    [InlineData("Stations?$top=1", Type + ";charset=latin1", 406)]
    [InlineData("Stations?$top=1", "application/json, " + Type + ";q=0.5", 200)]
    [InlineData("Stations?$format=jsonl&$top=1", "application/json", 200)]
    [InlineData("Nothing", Type, 404)]
    [InlineData("Stations?$filter=nothing eq 1", Type, 400)]
    public async Task What_is_no_list_is_not_available_as_lines(string target, string accept, int status)
    {
        var answer = await GetAsync(target, accept);
        Assert.Equal(status, answer.Status);
        if (status >= 400)
            Assert.StartsWith("{\"error\":", answer.Text);
    }

    [Fact] // in a batch as JSON, what is neither JSON nor text is base64url (JSON format 19.2)
    public async Task A_part_of_a_batch_may_be_lines()
    {
        const string batch =
            """{"requests":[{"id":"1","method":"GET","url":"Stations?$select=id&$top=2","headers":{"accept":"application/x-ndjson"}}]}""";
        var part = (await service.Http.SendAsync("/odata/s/$batch", "POST", batch)).Json.GetProperty("responses")[0];
        Assert.Equal(Type, part.GetProperty("headers").GetProperty("content-type").GetString());
        var body = System.Buffers.Text.Base64Url.DecodeFromChars(part.GetProperty("body").GetString());
        Assert.Equal("{\"id\":1}\n{\"id\":2}\n", System.Text.Encoding.UTF8.GetString(body));
    }

    [Fact] // a wildcard means JSON, and so does no wish at all
    public async Task Json_stays_the_usual_format()
    {
        foreach (var accept in new[] { null, "*/*", "application/*" })
            Assert.StartsWith("application/json", (await GetAsync("Stations?$top=1", accept)).Header("Content-Type"));
    }

    [Fact] // rows that rules take away are in no format
    public async Task A_closed_set_is_not_there() =>
        Assert.Equal(404, (await service.Http.SendAsync("/odata/closed/station", "GET", [("Accept", Type)])).Status);
}
