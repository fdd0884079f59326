namespace RapidGable.Service.Tests;

/// <summary>
/// Relations write nothing that a plain value could not, and every entity that changes asks for its state, the same on every engine.
/// </summary>
[Collection("writing")]
[Trait("Category", "Attack")]
public sealed class SealedWritingTests(WritingFixture engines) : IAsyncLifetime
{
    private static readonly (string, string) V401 = ("OData-Version", "4.01");

    public Task InitializeAsync() => engines.ResetAsync();

    public Task DisposeAsync() => Task.CompletedTask;

    private async Task<string> VisitAsync()
    {
        var made = await engines.SameAsync(
            "POST",
            "/odata/ruled/Visits?$select=number,station_code",
            """{"station_code":"N1","planned":"2024-05-01"}"""
        );
        Assert.True(made.Status == 201, made.Text);
        return made.Json.GetProperty("number").GetString()!;
    }

    // 'station_code' is written when a visit is created: however its station is changed later, the answer is the same.
    [Theory]
    [InlineData("PATCH", "Visits('#')", """{"station@odata.bind":"Stations('S1')"}""", 400)]
    [InlineData("PATCH", "Visits('#')", """{"station":{"@id":"Stations('S1')"}}""", 400)]
    [InlineData("PATCH", "Visits('#')", """{"station":null}""", 400)]
    [InlineData("PUT", "Visits('#')/station/$ref", """{"@odata.id":"Stations('S1')"}""", 400)]
    [InlineData("DELETE", "Visits('#')/station/$ref", null, 400)]
    [InlineData("POST", "Stations('S1')/Visits/$ref", """{"@odata.id":"Visits('#')"}""", 400)]
    [InlineData("PATCH", "Stations('S1')", """{"Visits@odata.bind":["Visits('#')"]}""", 400)]
    [InlineData("PATCH", "Stations('S1')", """{"Visits@delta":[{"@id":"Visits('#')"}]}""", 400)]
    [InlineData("PATCH", "Visits", """{"value":[{"number":"#","station@odata.bind":"Stations('S1')"}]}""", 400)]
    [InlineData("PATCH", "Visits/$filter(station_code eq 'N1')/$each", """{"station@odata.bind":"Stations('S1')"}""", 400)]
    public async Task A_value_that_is_set_once_is_not_changed_by_relating(string method, string path, string? body, int status)
    {
        var number = await VisitAsync();
        var answer = await engines.SameAsync(method, "/odata/ruled/" + path.Replace("#", number), body?.Replace("#", number), V401);
        Assert.True(
            answer.Status == status
                && answer.Text.Contains(
                    path.EndsWith("station/$ref") && method == "DELETE" || body == """{"station":null}""" ? "required" : "read-only"
                ),
            $"{answer.Status} {answer.Text}"
        );
        Assert.Contains("\"value\":\"N1\"", (await engines.SameAsync("GET", $"/odata/ruled/Visits('{number}')/station_code", null)).Text);
        // A part of a batch is no other way.
        var batch =
            $$"""{"requests":[{"id":"1","atomicityGroup":"g","method":"{{method}}","url":"{{path.Replace("#", number)}}","headers":{"content-type":"application/json","odata-version":"4.01"}{{(body is null ? "" : ",\"body\":" + body.Replace("#", number))}}}]}""";
        var grouped = await engines.SameAsync("POST", "/odata/ruled/$batch", batch, V401);
        Assert.Contains($"\"status\":{status}", grouped.Text);
        Assert.Contains("\"value\":\"N1\"", (await engines.SameAsync("GET", $"/odata/ruled/Visits('{number}')/station_code", null)).Text);
    }

    [Fact]
    public async Task A_new_entity_is_related_by_whatever_may_be_set_at_its_creation()
    {
        var made = await engines.SameAsync(
            "POST",
            "/odata/ruled/Visits?$select=number,station_code",
            """{"station@odata.bind":"Stations('S1')","planned":"2024-05-02"}"""
        );
        Assert.True(made.Status == 201 && made.Json.GetProperty("station_code").GetString() == "S1", made.Text);
    }

    private async Task<string> TagAsync() => (await engines.SameAsync("GET", "/odata/s/Notes(10001)", null)).Header("ETag")!;

    // The note's set asks for the state; its row is the one that changes, whichever end the request starts from.
    [Theory]
    [InlineData("POST", "Gauges('B')/Notes/$ref", """{"@odata.id":"Notes(10001)"}""")]
    [InlineData("PUT", "Notes(10001)/gauge/$ref", """{"@odata.id":"Gauges('B')"}""")]
    [InlineData("DELETE", "Notes(10001)/gauge/$ref", null)]
    [InlineData("DELETE", "Gauges('A%2F1')/Notes(10001)/$ref", null)]
    [InlineData("DELETE", "Gauges('A%2F1')/Notes/$ref?$id=Notes(10001)", null)]
    public async Task A_reference_asks_for_the_state_of_the_entity_that_changes(string method, string path, string? body)
    {
        var none = await engines.SameAsync(method, "/odata/s/" + path, body);
        Assert.True(none.Status == 428, $"{none.Status} {none.Text}");
        var stale = await engines.SameAsync(method, "/odata/s/" + path, body, ("If-Match", "W/\"stale\""));
        Assert.True(stale.Status == 412, $"{stale.Status} {stale.Text}");
        var tag = await TagAsync();
        var done = await engines.SameAsync(method, "/odata/s/" + path, body, ("If-Match", tag));
        Assert.True(done.Status == 204, $"{done.Status} {done.Text}");
        Assert.NotEqual(tag, done.Header("ETag"));
        Assert.Equal(await TagAsync(), done.Header("ETag"));
    }

    [Theory]
    [InlineData("PATCH", "Gauges('B')", """{"Notes@odata.bind":["Notes(10001)"]}""", 428)]
    [InlineData("PATCH", "Gauges('B')", """{"Notes@delta":[{"@id":"Notes(10001)"}]}""", 428)]
    [InlineData("PATCH", "Gauges('B')", """{"Notes@delta":[{"@id":"Notes(10001)","@etag":"W/\"stale\""}]}""", 412)]
    [InlineData("PATCH", "Gauges('B')", """{"Notes@delta":[{"@id":"Notes(10001)","@etag":"#"}]}""", 204)]
    [InlineData("PATCH", "Gauges('A%2F1')", """{"Notes":[]}""", 428)]
    [InlineData("PATCH", "Gauges('A%2F1')", """{"Notes@delta":[{"id":10001,"body":"Second"}]}""", 428)]
    [InlineData("PATCH", "Gauges('A%2F1')", """{"Notes@delta":[{"id":10001,"body":"Second","@etag":"#"}]}""", 204)]
    [InlineData("PATCH", "Gauges('A%2F1')", """{"Notes@delta":[{"@id":"Notes(10001)","@removed":{"reason":"deleted"}}]}""", 428)]
    [InlineData(
        "PATCH",
        "Gauges('A%2F1')",
        """{"Notes@delta":[{"@id":"Notes(10001)","@removed":{"reason":"deleted"},"@etag":"#"}]}""",
        204
    )]
    [InlineData("POST", "Gauges", """{"code":"N","basin_id":1,"Notes@odata.bind":["Notes(10001)"]}""", 428)]
    [InlineData("POST", "Gauges('B')/Notes/$ref", """{"@odata.id":"Notes(10001)","@odata.etag":"#"}""", 204)]
    [InlineData("PUT", "Gauges('B')/Notes/$ref", """{"value":[{"@id":"Notes(10001)","@etag":"#"}]}""", 204)]
    [InlineData("PUT", "Gauges('B')/Notes/$ref", """{"value":[{"@id":"Notes(10001)"}]}""", 428)]
    [InlineData("PUT", "Gauges('A%2F1')/Notes/$ref", """{"value":[]}""", 428)]
    public async Task Related_entities_ask_for_their_own_state(string method, string path, string body, int status)
    {
        var tag = (await TagAsync()).Replace("\"", "\\\"");
        var answer = await engines.SameAsync(method, "/odata/s/" + path, body.Replace("#", tag), V401);
        Assert.True(answer.Status == status, $"{answer.Status} {answer.Text}");
        var note = (await engines.SameAsync("GET", "/odata/s/Notes(10001)", null)).Text;
        if (status != 204)
            Assert.Contains("\"gauge_code\":\"A/1\",\"body\":\"First\"", note);
        else
            Assert.DoesNotContain("\"gauge_code\":\"A/1\",\"body\":\"First\"", note);
    }
}
