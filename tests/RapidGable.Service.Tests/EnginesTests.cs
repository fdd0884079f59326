using RapidGable.Core.Tests;
using RapidGable.Demo;

namespace RapidGable.Service.Tests;

/// <summary>The same declaration over the same data on different engines: the same metadata, the same answers.</summary>
public sealed class EnginesTests(PostgresServer server) : IClassFixture<PostgresServer>, IAsyncLifetime
{
    private readonly TestWorkspace _sqlite = new();
    private readonly TestWorkspace _postgres = new();
    private RunningService _one = null!;
    private RunningService _other = null!;

    public async Task InitializeAsync()
    {
        const string Views = "  - { from: daily_summary, key: [station_id, sensor_no, day] }\n  - { from: open_alert, key: threshold_id }\n  - { from: visit_report, key: visit_id }\n";
        _sqlite.WithSource().WithNetwork(3_000).WithService(NetworkFixture.AllSets + Views);
        var database = await server.CreateDatabaseAsync();
        PostgresDatabase.Make(server.Connection(database), Path.Combine(_sqlite.Folder, "data.db"));
        _postgres.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(database)).WithService(NetworkFixture.AllSets + Views);
        _one = await RunningService.StartAsync(_sqlite.Folder);
        _other = await RunningService.StartAsync(_postgres.Folder);
    }

    public async Task DisposeAsync()
    {
        await _one.DisposeAsync();
        await _other.DisposeAsync();
        _sqlite.Dispose();
        _postgres.Dispose();
    }

    private async Task<string> SameAsync(string target)
    {
        var left = await _one.SendAsync("/odata/s/" + target);
        var right = await _other.SendAsync("/odata/s/" + target);
        Assert.True(left.Status == right.Status, $"{target}: {left.Status} and {right.Status}\n{right.Text}");
        Assert.Equal(Plain(left.Text, _one), Plain(right.Text, _other));
        return left.Text;
    }

    // Positions in next links are the engine's own, and a decimal may be written with more zeros.
    private static string Plain(string text, RunningService service) =>
        System.Text.RegularExpressions.Regex.Replace(System.Text.RegularExpressions.Regex.Replace(text.Replace(service.Address, ""), @"skiptoken=[^""]*", "skiptoken="), @"(\.\d*?)0+(?=[,}\]])", "$1").Replace(".,", ",").Replace(".}", "}");

    [Fact]
    public async Task The_metadata_is_the_same() => Assert.Contains("EntityType Name=\"Station\"", await SameAsync("$metadata"));

    [Theory]
    [InlineData("Catchments")]
    [InlineData("Stations")]
    [InlineData("Sensors")]
    [InlineData("Readings")]
    [InlineData("Technicians")]
    [InlineData("Certificates")]
    [InlineData("Grants")]
    [InlineData("Visits")]
    [InlineData("VisitTasks")]
    [InlineData("Latest")]
    [InlineData("group")]
    [InlineData("wide_form")]
    [InlineData("daily_summary")]
    [InlineData("open_alert")]
    [InlineData("visit_report")]
    [InlineData("Stations/$count")]
    [InlineData("Stations(1)")]
    [InlineData("Stations(1)/catchment/parent/name/$value")]
    [InlineData("Stations(9999)/Sensors")]
    [InlineData("Stations(9999)/Sensors/$count")]
    [InlineData("Stations(1)/Sensors/$count?$filter=kind eq 'none'")]
    [InlineData("Certificates('CAL%2F2')/name")]
    [InlineData("Sensors(station_id=1,sensor_no=1)/Readings?$top=3")]
    [InlineData("Stations?$orderby=closed_on desc,name&$top=7&$skip=3&$count=true&$expand=catchment,Sensors")]
    [InlineData("Catchments?$expand=Stations($select=id,code),parent&$select=name")]
    [InlineData("Stations?$filter=catchment/parent/name eq 'Lower Alder' and year(opened_on) lt 1990")]
    [InlineData("Stations?$filter=contains(tolower(name),'weir') or endswith(code,'7')")]
    [InlineData("Stations?$filter=not (closed_on gt 1990-01-01) and closed_on ne null")]
    [InlineData("Readings?$filter=value mul 2 gt 60.5 and hour(taken_at) eq 3 and quality in ('A',null)&$orderby=value desc&$top=20")]
    [InlineData("Readings?$filter=fractionalseconds(taken_at) lt 0.1 and date(taken_at) eq 2024-05-01&$top=10")]
    [InlineData("Visits?$filter=technician eq null&$orderby=planned_for,id&$top=5")]
    [InlineData("Visits?$orderby=technician/full_name desc,planned_for&$top=15&$expand=technician,VisitTasks")]
    [InlineData("VisitTasks?$filter=minutes gt duration'PT1H' and done&$top=9")]
    [InlineData("Readings?$filter=value div 0 eq 1")]
    public async Task An_answer_is_the_same(string target) => await SameAsync(target.Replace(" ", "%20"));

    [Fact]
    public async Task Pages_lead_to_the_end_on_both()
    {
        foreach (var service in new[] { _one, _other })
        {
            var ids = new HashSet<long>();
            for (string? next = "/odata/s/Readings?$orderby=quality%20desc,value&$select=id"; next is not null;)
            {
                var page = (await service.SendAsync(next, "GET", ("Prefer", "maxpagesize=173"))).Json;
                foreach (var row in page.GetProperty("value").EnumerateArray())
                    Assert.True(ids.Add(row.GetProperty("id").GetInt64()));
                next = page.TryGetProperty("@odata.nextLink", out var link) ? link.GetString() : null;
            }
            Assert.Equal(3_000, ids.Count);
        }
    }

    [Fact]
    public async Task Verify_and_check_pass_on_postgresql()
    {
        var verify = await Gable.RunAsync(_postgres.Folder, "verify", "--json");
        Assert.True(verify.Code == 0, verify.Output + verify.Errors);
        var check = await Gable.RunAsync(_postgres.Folder, "check", "--json");
        Assert.True(check.Code == 0, check.Output + check.Errors);
        Assert.DoesNotContain(PostgresServer.Password, verify.Output + verify.Errors + check.Output + check.Errors);
    }

    [Theory] // what fails, in plain words, and never the password
    [InlineData("host: 127.0.0.1", "host: no-such-host.invalid", "'no-such-host.invalid' is not known")]
    [InlineData("port: ~", "port: 1", "Nothing listens on 127.0.0.1:1")]
    [InlineData("password: ~", "password: wrong-secret-9", "The password of 'tester' is wrong.")]
    [InlineData("database: ~", "database: absent", "There is no database 'absent'")]
    [InlineData("user: tester", "user: nobody", "'nobody'")]
    [InlineData("sessions: 4", "tls: require", "does not offer it")]
    [InlineData("sessions: 4", "sesions: 4", "Did you mean 'sessions'?")]
    [InlineData("sessions: 4", "tls: requir", "Did you mean 'require'?")]
    [InlineData("sessions: 4", "connection: 'Host=x;Pasword=hidden-secret-3'", "cannot be read")]
    public async Task A_connection_that_fails_says_why(string right, string wrong, string message)
    {
        using var folder = new TestWorkspace();
        var source = File.ReadAllText(Path.Combine(_postgres.Folder, "sources/main.yaml"));
        var line = right.EndsWith('~') ? source.Split('\n').First(l => l.StartsWith(right[..^1], StringComparison.Ordinal)) : right;
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", source.Replace(line + "\n", wrong + "\n")).WithService("  - station\n");
        await using var workspace = await folder.LoadAsync();
        var said = string.Join('\n', workspace.Diagnostics.Items.Select(d => d.Render()));
        Assert.Contains(message, said);
        foreach (var secret in new[] { PostgresServer.Password, "wrong-secret-9", "hidden-secret-3" }.Where(s => !wrong.Contains(s) || !said.Contains("connection:")))
            Assert.DoesNotContain(secret, said);
    }

    [Fact] // a user with rights on half of the tables
    public async Task Source_test_says_which_rights_are_missing()
    {
        var database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(database, "CREATE TABLE open (id BIGINT PRIMARY KEY); CREATE TABLE closed (id BIGINT PRIMARY KEY); DROP ROLE IF EXISTS half; CREATE ROLE half LOGIN PASSWORD 'half-secret-5'; GRANT SELECT ON open TO half");
        using var folder = new TestWorkspace();
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(database).Replace("user: tester", "user: half").Replace(PostgresServer.Password, "half-secret-5"));
        var result = await Gable.RunAsync(folder.Folder, "source", "test");
        Assert.Equal(1, result.Code);
        Assert.Contains("connected, 2 objects", result.Output);
        Assert.Contains("closed: The user 'half' lacks a right", result.Output);
        Assert.DoesNotContain("open:", result.Output);
        Assert.DoesNotContain("half-secret-5", result.Output + result.Errors);
    }

    [Fact]
    public async Task A_server_that_stops_is_unavailable_and_comes_back()
    {
        await using var own = new DisposableServer();
        await own.Server.InitializeAsync();
        var database = await own.Server.CreateDatabaseAsync();
        await own.Server.ExecuteAsync(database, "CREATE TABLE t (id BIGINT PRIMARY KEY)");
        using var folder = new TestWorkspace();
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", own.Server.SourceFile(database)).WithService("  - t\n");
        await using var http = await RunningService.StartAsync(folder.Folder);
        Assert.Equal(200, (await http.SendAsync("/odata/s/t")).Status);
        Assert.Equal("ready", (await http.SendAsync("/health/ready")).Text);
        await own.Server.StopAsync();
        var answer = await http.SendAsync("/odata/s/t");
        Assert.Equal((503, "source-unavailable"), (answer.Status, answer.Json.GetProperty("error").GetProperty("code").GetString()));
        Assert.Equal(503, (await http.SendAsync("/health/ready")).Status);
    }

    private sealed class DisposableServer : IAsyncDisposable
    {
        public PostgresServer Server { get; } = new();

        public async ValueTask DisposeAsync() => await Server.DisposeAsync();
    }

    [Fact] // T-23 to T-42: every column type is published, or left out with a reason
    public async Task Column_types_map()
    {
        var database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(database, """
            CREATE TYPE mood AS ENUM ('good', 'so so'); CREATE DOMAIN code AS VARCHAR(5) CHECK (value <> ''); CREATE TYPE pair AS (a INT, b INT);
            CREATE TABLE t (id SERIAL PRIMARY KEY, a SMALLINT DEFAULT 7, b NUMERIC, c NUMERIC(9,3), d MONEY, e REAL, f CHAR(4), g VARCHAR, h TIME(3), i TIMETZ, j TIMESTAMP(2), k TIMESTAMPTZ,
                l INTERVAL, m JSONB, n XML, o mood, p code, q INET, r INT4RANGE, s BIT(3), t BYTEA, u INT[], v pair, w BIGINT GENERATED ALWAYS AS (id * 2) STORED, x POINT);
            COMMENT ON TABLE t IS 'All types'; COMMENT ON COLUMN t.a IS 'A small one';
            INSERT INTO t VALUES (DEFAULT, 1, 12345678901234567890.123456789, 1.5, '12.34', 0.1, 'ab', 'x', '07:30', '07:30+02', '2024-05-01 12:00:00.25', '2024-05-01 12:00:00.123456+02', 'P1DT2H', '{"a": 1}', '<a/>', 'so so', 'xy', '10.0.0.1', '[1,5)', B'101', '\x0aff', '{1,2}', '(1,2)');
            """);
        using var folder = new TestWorkspace();
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(database)).WithService("  - t\n");
        await using (var workspace = await folder.LoadAsync())
        {
            Assert.Equal(["u", "v", "x"], workspace.Diagnostics.Items.Select(d => d.Message.Split('\'')[1]));
            Assert.Equal("id Edm.Int32;a Edm.Int16;b Edm.Decimal;c Edm.Decimal(9,3);d Edm.Decimal(19,2);e Edm.Single;f Edm.String(4);g Edm.String;h Edm.TimeOfDay(3);i Edm.String;j Edm.DateTimeOffset(2);k Edm.DateTimeOffset(6);l Edm.Duration(6);m Edm.String;n Edm.String;o Edm.String;p Edm.String(5);q Edm.String;r Edm.String;s Edm.String;t Edm.Binary;w Edm.Int64",
                string.Join(';', workspace.Services[0].Model.Sets[0].Type.Properties.Select(p => $"{p.Name} {p.Type}")));
        }
        await using var http = await RunningService.StartAsync(folder.Folder);
        var row = (await http.SendAsync("/odata/s/t(1)")).Text;
        Assert.Contains("""
            "id":1,"a":1,"b":12345678901234567890.123456789,"c":1.500,"d":12.34,"e":0.1,"f":"ab","g":"x","h":"07:30:00","i":"07:30:00+02","j":"2024-05-01T12:00:00.25Z","k":"2024-05-01T10:00:00.123456Z","l":"P1DT2H","m":"{\"a\": 1}","n":"<a/>","o":"so so","p":"xy","q":"10.0.0.1/32","r":"[1,5)","s":"101","t":"Cv8","w":2}
            """, row);
        foreach (var filter in new[] { "a eq 1", "b gt 1", "d eq 12.34", "e lt 0.2", "f eq 'ab'", "h eq 07:30:00", "j eq 2024-05-01T12:00:00.25Z", "k gt 2024-05-01T00:00:00Z", "j gt k", "l eq duration'PT26H'", "contains(m,'1')", "o eq 'so so'", "q eq '10.0.0.1/32'", "s eq '101'", "w eq 2" })
        {
            var count = await http.SendAsync("/odata/s/t/$count?$filter=" + filter.Replace(" ", "%20"));
            Assert.True(count is { Status: 200, Text: "1" }, $"{filter}: {count.Text}");
        }
        var metadata = (await http.SendAsync("/odata/s/$metadata")).Text;
        foreach (var part in new[] { "Core.Description\" String=\"All types\"", "String=\"A small one\"", "DefaultValue=\"7\"", "Core.Computed\"", "Core.ComputedDefaultValue\"", "application/json" })
            Assert.Contains(part, metadata);
        Assert.Equal(400, (await http.SendAsync("/odata/s/t?$filter=id%20mul%209223372036854775807%20mul%204%20gt%201")).Status); // Q-39
    }

    [Fact]
    public async Task Other_schemas_are_named_with_their_tables()
    {
        var database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(database, "CREATE SCHEMA \"Lab.x\"; CREATE TABLE \"Lab.x\".\"Odd \"\"one\" (\"The Id\" BIGINT PRIMARY KEY); CREATE TABLE one (id BIGINT PRIMARY KEY, odd BIGINT REFERENCES \"Lab.x\".\"Odd \"\"one\"); INSERT INTO \"Lab.x\".\"Odd \"\"one\" VALUES (5); INSERT INTO one VALUES (1, 5)");
        using var folder = new TestWorkspace();
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(database)).WithService("  - one\n  - { from: 'Lab.x.Odd \"one', name: Odd }\n");
        await using var http = await RunningService.StartAsync(folder.Folder);
        var answer = await http.SendAsync("/odata/s/one(1)/Odd_one");
        Assert.True(answer.Text.Contains("\"The_Id\":5"), answer.Text + (await http.SendAsync("/odata/s/$metadata")).Text);
    }
}
