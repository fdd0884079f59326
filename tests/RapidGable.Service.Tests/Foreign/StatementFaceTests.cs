using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Statements over sets, sent over plain REST to every engine.</summary>
[Collection("engines")]
public sealed class StatementFaceTests(EnginesFixture engines)
{
    public const string Service = """
        title: Sent
        source: main
        namespace: Sent
        rules: { read: anyone }
        rest: { names: camel-case }
        sql: { who: anyone, rows: 40 }
        types:
          Quality: { members: { good: A, doubtful: B, missing: C } }
        sets:
          - { from: station, name: Stations, type: Station, hide: [photo], columns: { code: { description: The code } } }
          - { from: reading, name: Readings, type: Reading, columns: { quality: Quality } }
          - from: visit
            name: Visits
            type: Visit
            rules: [ { who: anyone, may: read, rows: id le 100, hide: [report] } ]
          - { from: technician, name: Closed, type: Technician, rules: { read: nobody } }
        """;

    private const string Sent = "/rest/sent/sql";

    private static readonly (string, string) AsSql = ("Content-Type", "application/sql");

    /// <summary>Sends a statement to all engines, whose answers must be the same.</summary>
    private async Task<Answer> SameAsync(string statement, string options = "")
    {
        Answer? first = null;
        foreach (var service in engines.Services)
        {
            var answer = await service.SendAsync(Sent + options, "POST", statement, AsSql);
            first ??= answer;
            Assert.True(first.Status == answer.Status, $"{statement}\n{first.Text}\n{answer.Text}");
            if (!options.Contains("xlsx", StringComparison.Ordinal))
                Assert.Equal(first.Text, answer.Text);
        }
        return first!;
    }

    [Theory]
    [InlineData("SELECT code, name FROM Stations ORDER BY code LIMIT 1", "", "'rows':[{'code':'AB-001','name':'Ashford Weir'}]")]
    [InlineData(
        "SELECT code FROM Stations ORDER BY code LIMIT 1",
        "",
        "'columns':[{'name':'code','type':'string','nullable':false,'maxLength':12,'description':'The code'}]"
    )]
    [InlineData("SELECT code FROM Stations ORDER BY code LIMIT 2", "?format=csv", "code\r\nAB-001\r\nAB-002")]
    [InlineData("SELECT code FROM Stations ORDER BY code LIMIT 2", "?format=jsonl", "{'code':'AB-001'}\n{'code':'AB-002'}")]
    [InlineData("SELECT code FROM Stations ORDER BY code LIMIT 2", "?format=xml", "AB-002")]
    [InlineData("SELECT code FROM Stations ORDER BY code LIMIT 2", "?format=xlsx", "")]
    [InlineData("SELECT stationId FROM Readings WHERE id = 1", "", "'stationId':")]
    [InlineData("SELECT COUNT(*) AS n FROM Readings WHERE quality = 'good' AND stationId = :station", "?station=1", "'n':")]
    [InlineData("SELECT quality, COUNT(*) AS n FROM Readings GROUP BY quality ORDER BY 2 DESC LIMIT 1", "", "'quality':'good'")]
    [InlineData(
        "SELECT s.code, COUNT(*) AS n, MIN(r.takenAt) AS first FROM Stations s JOIN Readings r ON r.stationId = s.id GROUP BY s.code ORDER BY n DESC, s.code LIMIT 3",
        "",
        "'type':'datetimeoffset'"
    )]
    [InlineData(
        "SELECT s.code FROM Stations s LEFT JOIN Visits v ON v.stationId = s.id AND v.purpose = 'none of these' WHERE v.id IS NULL ORDER BY s.code LIMIT 1",
        "",
        "AB-001"
    )]
    [InlineData("SELECT COUNT(*) AS n, MAX(id) AS most FROM Visits", "", "'most':100")]
    [InlineData("SELECT id FROM Visits WHERE plannedFor > :day ORDER BY id LIMIT 1", "?day=2000-01-01", "'id':1")]
    public async Task Rows_come_in_every_format(string statement, string options, string part)
    {
        var answer = await SameAsync(statement, options);
        Assert.True(answer.Status == 200, answer.Text);
        Assert.Contains(part.Contains("\r\n", StringComparison.Ordinal) ? part : part.Replace('\'', '"'), answer.Text);
    }

    [Theory]
    [InlineData("SELECT id FROM Stations", 400, "too-costly")]
    [InlineData("SELECT id FROM Stations ORDER BY id OFFSET 90", 200, "rows")]
    [InlineData("SELECT id FROM Stations LIMIT 41", 400, "too-costly")]
    [InlineData("SELECT report FROM Visits LIMIT 1", 400, "unknown-property")]
    [InlineData("SELECT station_id FROM Readings LIMIT 1", 400, "Did you mean 'stationId'?")]
    [InlineData("SELECT * FROM Closed", 400, "There is no set 'Closed'.")]
    [InlineData("SELECT * FROM technician", 400, "There is no set 'technician'.")]
    [InlineData("SELECT 1 / (id - id) AS x FROM Stations LIMIT 1", 400, "division")]
    [InlineData("SELECT id FROM Readings WHERE quality = 'worse'", 400, "'worse' is not a value")]
    [InlineData("UPDATE Stations SET code = 'x'", 400, "Expected a SELECT")]
    public async Task What_cannot_be_answered_is_told(string statement, int status, string part)
    {
        var answer = await SameAsync(statement);
        Assert.True(answer.Status == status, answer.Text);
        Assert.Contains(part, answer.Text);
    }

    [Theory]
    [InlineData(
        "POST",
        Sent,
        "{'statement':'SELECT id FROM Stations WHERE id = :id','parameters':{'id':7}}",
        "application/json",
        200,
        "\"id\":7"
    )]
    [InlineData(
        "POST",
        Sent,
        "{'statement':'SELECT id FROM Stations WHERE id = :id','parameters':{'id':'7'}}",
        "application/json",
        200,
        "\"id\":7"
    )]
    [InlineData(
        "POST",
        Sent,
        "{'statement':'SELECT id FROM Stations WHERE id = :id','parameters':{'id':null}}",
        "application/json",
        200,
        "\"rows\":[]"
    )]
    [InlineData(
        "POST",
        Sent,
        "{'statement':'SELECT id FROM Stations WHERE id = :id','parameters':{'id':[7]}}",
        "application/json",
        400,
        "no single value"
    )]
    [InlineData(
        "POST",
        Sent,
        "{'statement':'SELECT id FROM Stations WHERE id = :id','parameters':{'id':1,'x':2}}",
        "application/json",
        400,
        "no parameter 'x'"
    )]
    [InlineData("POST", Sent, "{'statement':'SELECT id FROM Stations WHERE id = :id'}", "application/json", 400, "'id' is missing")]
    [InlineData("POST", Sent, "{'statement':7}", "application/json", 400, "none of")]
    [InlineData("POST", Sent, "{'statements':[]}", "application/json", 400, "none of")]
    [InlineData("POST", Sent, "{}", "application/json", 400, "'statement' is missing")]
    [InlineData("POST", Sent, "[]", "application/json", 400, "JSON object")]
    [InlineData("POST", Sent, "{", "application/json", 400, "not JSON")]
    [InlineData("POST", Sent + "?limit=5", "{}", "application/json", 400, "under 'parameters'")]
    [InlineData("POST", Sent + "?format=pdf", "SELECT id FROM Stations", "application/sql", 400, "none of the formats")]
    [InlineData("POST", Sent + "?id=1&id=2", "SELECT id FROM Stations WHERE id = :id", "application/sql", 400, "twice")]
    [InlineData("POST", Sent, "SELECT 1", "text/plain", 415, "application/sql")]
    [InlineData("PUT", Sent, "SELECT 1", "application/sql", 405, "by POST")]
    [InlineData("GET", Sent, null, "", 405, "by POST")]
    [InlineData("POST", "/rest/asked/sql", "SELECT 1", "application/sql", 404, "There is no resource 'sql'")]
    [InlineData("POST", Sent + "/x", "SELECT 1", "application/sql", 404, "")]
    public async Task Requests_are_read_strictly(string method, string target, string? body, string type, int status, string part)
    {
        var answer = body is null
            ? await engines.Services[0].SendAsync(target, method)
            : await engines
                .Services[0]
                .SendAsync(target, method, type == "application/json" ? body.Replace('\'', '"') : body, ("Content-Type", type));
        Assert.True(answer.Status == status, answer.Text);
        Assert.Contains(part, answer.Text);
    }

    [Fact]
    public async Task A_statement_of_a_megabyte_is_refused()
    {
        var large = $"SELECT id FROM Stations WHERE name = '{new string('x', 1_000_000)}'";
        Assert.Contains("too-large", (await SameAsync(large)).Text);
        // A value is not part of the statement.
        var body =
            "{\"statement\":\"SELECT id FROM Stations WHERE name = :n\",\"parameters\":{\"n\":\"" + new string('x', 1_000_000) + "\"}}";
        foreach (var service in engines.Services)
            Assert.Equal(200, (await service.SendAsync(Sent, "POST", body)).Status);
    }

    [Fact] // three tables of 3,000 rows, tied by a column of three values
    public async Task One_that_runs_too_long_is_broken_off()
    {
        using var folder = new TestWorkspace();
        folder
            .WithSource()
            .WithNetwork(3_000)
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nstatement-seconds: 1\n")
            .Write("services/sent.yaml", Service);
        await using var service = await RunningService.StartAsync(folder.Folder);
        const string Ties = "JOIN Readings b ON b.quality = a.quality JOIN Readings c ON c.quality = a.quality";
        var answer = await service.SendAsync(Sent, "POST", $"SELECT COUNT(*) AS n FROM Readings a {Ties}", AsSql);
        Assert.True(answer.Status == 503, answer.Text);
        Assert.Contains("source-too-slow", answer.Text);
        Assert.Equal(200, (await service.SendAsync(Sent, "POST", "SELECT COUNT(*) AS n FROM Readings", AsSql)).Status);
    }

    [Fact]
    public async Task It_is_described_for_those_who_may_send_it()
    {
        Assert.Contains("\"/sql\"", (await engines.Services[0].SendAsync("/rest/sent/openapi.json")).Text);
        Assert.DoesNotContain("\"/sql\"", (await engines.Services[0].SendAsync("/rest/asked/openapi.json")).Text);
    }
}
