namespace RapidGable.Service.Tests;

/// <summary>Rules on values, values that the service makes, notes of changes and computed properties, the same on every engine.</summary>
[Collection("writing")]
public sealed class RuledTests(WritingFixture engines) : IAsyncLifetime
{
    internal const string Tables = """
        CREATE TABLE r_station (code VARCHAR(12) NOT NULL PRIMARY KEY, name VARCHAR(40) NOT NULL, region VARCHAR(10) NOT NULL);
        CREATE TABLE r_visit (
            id {serial}, number VARCHAR(20) NOT NULL UNIQUE, station_code VARCHAR(12) NOT NULL, planned DATE NOT NULL, done DATE NULL, purpose VARCHAR(60) NULL, minutes INTEGER NULL,
            made_at {timestamp} NULL, changed_at {timestamp} NULL, made_by VARCHAR(40) NULL, region VARCHAR(10) NULL, mark VARCHAR(36) NULL, contact VARCHAR(60) NULL,
            FOREIGN KEY (station_code) REFERENCES r_station (code));
        CREATE TABLE r_task (visit_number VARCHAR(20) NOT NULL, line INT NOT NULL, task VARCHAR(20) NULL, PRIMARY KEY (visit_number, line), FOREIGN KEY (visit_number) REFERENCES r_visit (number));
        CREATE TABLE r_log (seq {serial}, what VARCHAR(20) NOT NULL, row_key VARCHAR(200) NULL, op VARCHAR(10) NULL, who VARCHAR(40) NULL, at {timestamp} NULL, old TEXT NULL, new TEXT NULL);
        """;

    internal const string Rows =
        "DELETE FROM r_task; DELETE FROM r_visit; DELETE FROM r_station; DELETE FROM r_log; INSERT INTO r_station (code, name, "
        + "region) VALUES ('N1', 'North Weir', 'north'); INSERT INTO r_station (code, name, region) VALUES ('S1', 'South Weir', 'south')";

    internal const string Service = """
        title: Ruled
        source: main
        namespace: R
        rules: { read: anyone, create: anyone, update: anyone, delete: anyone }
        sets:
          - { from: r_station, name: Stations, type: Station, allow: [read, create, update, delete] }
          - from: r_visit
            name: Visits
            type: Visit
            key: number
            hide: id
            allow: [read, create, update, delete]
            columns:
              number: { generate: "VIS-{00000}" }
              station_code: { write: create, exists: Stations/code }
              purpose: { min-length: 3, max-length: 20, pattern: "[A-Z].*", default: Inspect }
              minutes: { minimum: 1, maximum: 480, message: "A visit takes between a minute and eight hours." }
              made_at: { generate: now }
              changed_at: { regenerate: now }
              made_by: { generate: user }
              region: { generate: "= station/region" }
              mark: { generate: uuid }
              contact: { pattern: "[^@]+@example\\.org", unique: true }
            valid:
              - { where: done eq null or done ge planned, column: done, message: "A visit is done on the day it is planned for, or later." }
              - { where: purpose ne 'Close' or station/region eq 'north', on: update, message: "Only stations of the north are closed." }
              - { unique: [station_code, planned], message: "One visit a day is enough for a station." }
            log: { to: r_log, columns: { set: what, key: row_key, operation: op, who: who, when: at, before: old, after: new } }
            relations:
              tasks: { to: Tasks, contained: true }
            compute:
              station_name: station/name
              label: concat(number,concat(' ',station/name))
              late: done gt planned
          - from: r_task
            name: Tasks
            type: Task
            allow: [read, create, update, delete]
            log: { to: r_log, columns: { set: what, operation: op, key: row_key, before: old } }
          - { from: r_log, name: Log, type: Log }

        """;

    private const string Root = "/odata/ruled/";

    public Task InitializeAsync() => engines.ResetAsync();

    public Task DisposeAsync() => Task.CompletedTask;

    private Task<Answer> SendAsync(string method, string target, string? body = null, params (string, string)[] headers) =>
        engines.SameAsync(method, Root + target, body, headers);

    /// <summary>What a visit is, without what differs from run to run.</summary>
    private const string Fixed = "$select=number,station_code,planned,done,purpose,minutes,made_by,region,contact,station_name,label,late";

    private Task<Answer> PlanAsync(string more = "") =>
        SendAsync("POST", "Visits?" + Fixed, $$"""{"station_code":"N1","planned":"2024-05-01"{{more}} }""");

    [Theory]
    [InlineData(""","purpose":"In"}""", 400, "has 2 characters, and takes at least 3")]
    [InlineData(""","purpose":"Inspect the whole weir"}""", 400, "takes at most 20")]
    [InlineData(""","purpose":"inspect"}""", 400, "does not have the form")]
    [InlineData(""","minutes":0}""", 400, "\"message\":\"A visit takes between a minute and eight hours.\"")]
    [InlineData(""","minutes":481}""", 400, "\"target\":\"minutes\"")]
    [InlineData(""","minutes":480}""", 201, "\"minutes\":480")]
    [InlineData(""","contact":"ines@example.com"}""", 400, "\"target\":\"contact\"")]
    [InlineData(""","contact":"ines@example.org"}""", 201, "ines@example.org")]
    [InlineData(""","done":"2024-04-30"}""", 422, "A visit is done on the day it is planned for, or later.")]
    [InlineData(""","done":"2024-05-01"}""", 201, "\"done\":\"2024-05-01\"")]
    [InlineData(""","purpose":"Close"}""", 201, "\"purpose\":\"Close\"")]
    [InlineData(""","purpose":"in","minutes":0,"contact":"x"}""", 400, "3 things are wrong")]
    [InlineData(""","number":"VIS-77777","region":"south","made_by":"me"}""", 201, "\"number\":\"VIS-00001\"")]
    [InlineData(
        "}",
        201,
        "\"purpose\":\"Inspect\",\"minutes\":null,\"made_by\":null,\"region\":\"north\",\"contact\":null,\"station_name\":\"North "
            + "Weir\",\"label\":\"VIS-00001 North Weir\",\"late\":"
    )]
    public async Task A_new_entity_keeps_to_the_rules(string more, int status, string part)
    {
        var answer = await PlanAsync(more[..^1]);
        Assert.True(answer.Status == status, answer.Text);
        Assert.Contains(part, answer.Text);
        Assert.Equal(status == 201 ? "1" : "0", (await SendAsync("GET", "Visits/$count")).Text);
        Assert.Equal(status == 201 ? "1" : "0", (await SendAsync("GET", "Log/$count")).Text);
    }

    [Fact]
    public async Task A_value_must_exist_elsewhere() =>
        Assert.Contains("'station_code'", (await SendAsync("POST", "Visits", """{"station_code":"X9","planned":"2024-05-01"}""")).Text);

    [Fact]
    public async Task A_changed_entity_keeps_to_the_rules()
    {
        var first = await PlanAsync(""","contact":"ines@example.org" """);
        Assert.Equal(201, (await SendAsync("POST", "Visits?" + Fixed, """{"station_code":"S1","planned":"2024-05-01"}""")).Status);
        Assert.Contains(
            "One visit a day",
            (await SendAsync("PATCH", "Visits/$filter(station_code eq 'S1')/$each", """{"planned":"2024-05-02"}""")).Status == 204
                ? (await PlanAsync()).Text
                : ""
        );
        Assert.Equal(
            409,
            (await SendAsync("PATCH", "Visits/$filter(station_code eq 'S1')/$each", """{"contact":"ines@example.org"}""")).Status
        );
        Assert.Contains(
            "Only stations of the north",
            (await SendAsync("PATCH", "Visits/$filter(station_code eq 'S1')/$each", """{"purpose":"Close"}""")).Text
        );
        Assert.Equal(
            "",
            (
                await SendAsync(
                    "PATCH",
                    "Visits/$filter(station_code eq 'N1')/$each",
                    """{"purpose":"Close","station_code":"S1","number":"VIS-00009","label":"x","late":true}"""
                )
            ).Text
        );
        var after = (await SendAsync("GET", "Visits?$orderby=number&" + Fixed)).Json.GetProperty("value")[0];
        Assert.Equal(
            "Close N1 VIS-00001 VIS-00001 North Weir",
            $"{after.GetProperty("purpose")} {after.GetProperty("station_code")} {after.GetProperty("number")} {after.GetProperty("label")}"
        );
        Assert.Equal(201, first.Status);
    }

    [Fact] // without gaps and without doubles, whoever is refused in between
    public async Task Numbers_are_given_once_and_without_gaps()
    {
        foreach (var service in engines.Services)
        {
            var answers = await Task.WhenAll(
                Enumerable
                    .Range(0, 32)
                    .Select(i =>
                        service.SendAsync(
                            Root + "Visits",
                            "POST",
                            $$"""{"station_code":"N1","planned":"2024-{{1 + (i / 28):00}}-{{1 + (i % 28):00}}","minutes":5{{(i % 8 == 7 ? ",\"done\":\"2020-01-01\"" : "")}}}"""
                        )
                    )
            );
            Assert.Equal(28, answers.Count(a => a.Status == 201));
            Assert.Equal(4, answers.Count(a => a.Status == 422));
            var numbers = (await service.SendAsync(Root + "Visits?$select=number&$orderby=number"))
                .Json.GetProperty("value")
                .EnumerateArray()
                .Select(v => v.GetProperty("number").GetString())
                .ToList();
            Assert.Equal(Enumerable.Range(1, 28).Select(i => $"VIS-{i:00000}"), numbers);
        }
    }

    [Fact] // the pair is unique though no index of the table says so
    public async Task Of_many_that_are_alike_one_is_kept()
    {
        foreach (var service in engines.Services)
        {
            var answers = await Task.WhenAll(
                Enumerable
                    .Range(0, 16)
                    .Select(_ => service.SendAsync(Root + "Visits", "POST", """{"station_code":"N1","planned":"2024-05-01"}"""))
            );
            Assert.Equal(1, answers.Count(a => a.Status == 201));
            Assert.Equal(15, answers.Count(a => a.Status == 409));
        }
    }

    [Fact]
    public async Task A_number_that_needs_more_digits_gets_them()
    {
        await engines.RunAsync("INSERT INTO r_visit (number, station_code, planned) VALUES ('VIS-99999', 'N1', '2020-01-01')");
        Assert.Contains("VIS-100000", (await PlanAsync()).Text);
        Assert.Contains(
            "VIS-100001",
            (await SendAsync("POST", "Visits?" + Fixed, """{"station_code":"N1","planned":"2024-05-02"}""")).Text
        );
    }

    [Fact]
    public async Task Changes_are_noted_with_the_values_before_and_after()
    {
        await PlanAsync(""","minutes":5""");
        await SendAsync("PATCH", "Visits/$filter(true)/$each", """{"minutes":6}""");
        await SendAsync("PATCH", "Visits/$filter(true)/$each", """{"minutes":700}""");
        await SendAsync("DELETE", "Visits/$filter(true)/$each");
        foreach (var service in engines.Services)
        {
            var notes = (await service.SendAsync(Root + "Log?$orderby=seq")).Json.GetProperty("value").EnumerateArray().ToList();
            Assert.Equal(["create", "update", "delete"], notes.Select(n => n.GetProperty("op").GetString()));
            Assert.All(notes, n => Assert.Equal("Visits", n.GetProperty("what").GetString()));
            Assert.Contains("\"number\":\"VIS-00001\"", notes[0].GetProperty("new").GetString());
            Assert.Null(notes[0].GetProperty("old").GetString());
            // Only what changed is noted.
            Assert.Contains("\"minutes\":5", notes[1].GetProperty("old").GetString());
            Assert.Contains("\"minutes\":6", notes[1].GetProperty("new").GetString());
            Assert.DoesNotContain("number", notes[1].GetProperty("new").GetString());
            Assert.Contains("\"minutes\":6", notes[2].GetProperty("old").GetString());
            Assert.Null(notes[2].GetProperty("new").GetString());
        }
    }

    [Theory] // computed properties are like any others, but for writing
    [InlineData("Visits?$filter=station_name eq 'North Weir'&$select=label", "VIS-00001 North Weir")]
    [InlineData("Visits?$orderby=label desc&$top=1&$select=label", "VIS-00001 North Weir")]
    [InlineData("Stations('N1')?$expand=Visits($select=label,late;$filter=startswith(label,'VIS'))", "\"label\":\"VIS-00001 North Weir\"")]
    [InlineData("Visits?$apply=groupby((station_name),aggregate($count as n))", "\"n\":1")]
    [InlineData("Visits?$search=nothing&$select=label", "\"value\":[]")]
    public async Task Computed_properties_are_read_like_others(string target, string part)
    {
        await PlanAsync();
        Assert.Contains(part, (await SendAsync("GET", target)).Text);
    }

    [Fact]
    public async Task What_goes_with_an_entity_is_noted_too()
    {
        await PlanAsync();
        await SendAsync("POST", "Visits('VIS-00001')/tasks", """{"line":1,"task":"Clean"}""");
        await SendAsync("POST", "Visits('VIS-00001')/tasks", """{"line":2,"task":"Read"}""");
        Assert.Equal(204, (await SendAsync("DELETE", "Visits('VIS-00001')")).Status);
        var notes = (await SendAsync("GET", "Log?$select=what,op&$orderby=seq", null, ("Accept", "application/json;odata.metadata=none")))
            .Json.GetProperty("value")
            .EnumerateArray();
        Assert.Equal(
            "Visits create,Tasks create,Tasks create,Tasks delete,Tasks delete,Visits delete",
            string.Join(',', notes.Select(n => $"{n.GetProperty("what")} {n.GetProperty("op")}"))
        );
    }

    [Fact]
    public async Task The_metadata_tells_the_rules()
    {
        var text = (await engines.Services[1].SendAsync(Root + "$metadata")).Text;
        var number = text[text.IndexOf("<Property Name=\"number\"", StringComparison.Ordinal)..];
        Assert.Contains("Core.Computed", number[..number.IndexOf("</Property>", StringComparison.Ordinal)]);
        var minutes = text[text.IndexOf("<Property Name=\"minutes\"", StringComparison.Ordinal)..];
        Assert.Contains("Validation.Minimum\" Int=\"1\"", minutes[..minutes.IndexOf("</Property>", StringComparison.Ordinal)]);
        var label = text[text.IndexOf("<Property Name=\"label\"", StringComparison.Ordinal)..];
        Assert.Contains("Core.Computed", label[..label.IndexOf("</Property>", StringComparison.Ordinal)]);
    }
}
