using System.Text;
using Microsoft.Data.Sqlite;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>What can be sent wrong: each gets a clear error, and none gets a 500.</summary>
[Trait("Category", "Attack")]
public class BadInputTests(NetworkService service) : IClassFixture<NetworkService>
{
    private const string Root = "/odata/s/";

    [Theory]
    [InlineData("Nothing", 404, "not-found", "path")]
    [InlineData("Station", 404, "not-found", "path")]
    [InlineData("Stations?$filter=nam eq 'x'", 400, "unknown-property", "$filter")]
    [InlineData("Stations?$filter=contians(name,'x')", 400, "unknown-function", "$filter")]
    [InlineData("Stations?$fliter=name eq 'x'", 400, "unknown-option", "$fliter")]
    [InlineData("Stations?$filter=id eq 'one'", 400, "type", "$filter")]
    [InlineData("Stations?$filter=(id eq 1", 400, "syntax", "$filter")]
    [InlineData("Sensors(1)", 400, "key", "path")]
    [InlineData("Stations(1,2)", 400, "key", "path")]
    [InlineData("Stations?$top=-1", 400, "number", "$top")]
    [InlineData("Stations?$top=99999999999999999999", 400, "number", "$top")]
    [InlineData("Stations?$skip=1.5", 400, "number", "$skip")]
    [InlineData("Stations?$filter=%zz", 400, "encoding", "$filter")]
    [InlineData("Stations?$filter=name eq '%FF'", 400, "encoding", "$filter")]
    [InlineData("Stations?$filter=name eq '%00'", 400, "encoding", "$filter")]
    [InlineData("Stations('%E2%28%A1')", 400, "encoding", "the path")]
    [InlineData("Stations?$skiptoken=WyJ4Il0", 400, "skiptoken", "$skiptoken")]
    [InlineData("Stations?$skip=1&$skiptoken=WyJ4IiwxXQ", 400, "skiptoken", "$skip")]
    [InlineData("Readings?$filter=value div 0 eq 1", 400, "division-by-zero", null)]
    [InlineData("Stations?$search=(weir", 400, "syntax", "$search")]
    [InlineData("Stations?$index=1", 501, "not-implemented", "$index")]
    [InlineData("Stations?$schemaversion=2", 404, "not-found", "$schemaversion")]
    [InlineData("Stations?$filter=name eq @p&@p=nam", 400, "unknown-property", "@p")]
    [InlineData("Stations?$apply=groupby((nam))", 400, "unknown-property", "$apply")]
    [InlineData("Stations?$apply=group((name))", 400, "unknown-function", "$apply")]
    [InlineData("Stations?$apply=nest(identity as x)", 501, "not-implemented", "$apply")]
    [InlineData("Stations?$apply=aggregate(name with sum as x)", 400, "type", "$apply")]
    [InlineData("Stations?$apply=aggregate(id with Odd.Method as x)", 501, "not-implemented", "$apply")]
    [InlineData("Stations?$apply=aggregate(id with sum as x,id with max as x)", 400, "alias", "$apply")]
    [InlineData("Stations?$apply=groupby((name),aggregate($count as name))", 400, "alias", "$apply")]
    [InlineData("Stations?$apply=groupby((name,name))", 400, "group-twice", "$apply")]
    [InlineData("Stations?$apply=topcount(-1,id)", 400, "number", "$apply")]
    [InlineData("Stations?$apply=topcount(1.5,id)", 400, "number", "$apply")]
    [InlineData("Stations?$apply=groupby((name))&$filter=code eq 'x'", 400, "unknown-property", "$filter")]
    [InlineData("Stations?$apply=groupby((name))&$expand=Sensors", 400, "unknown-property", "$expand")]
    [InlineData("Stations(1)?$apply=aggregate($count as n)", 400, "option-not-here", "$apply")]
    [InlineData("Stations?$compute=id add 1 as name", 400, "alias", "$compute")]
    [InlineData("Stations?$compute=id add 1 as a,id add 2 as a", 400, "alias", "$compute")]
    [InlineData("Stations?$expand=*($levels=8)", 400, "too-large", "$expand")]
    [InlineData("$entity?$id=Stations(99999)", 404, "not-found", "path")]
    [InlineData("$entity?$id=http://elsewhere.example.org/Stations(1)", 404, "not-found", "$id")]
    [InlineData("$entity", 400, "id", "$id")]
    [Proves("P-56, U-35, Q-111, J-49 to J-52, X-30")]
    public async Task A_fault_has_a_code_and_a_target(string target, int status, string code, string? expectedTarget)
    {
        var answer = await service.Http.SendAsync(Root + target.Replace(" ", "%20"));
        Assert.Equal((status, "application/json", "4.0"), (answer.Status, answer.Header("Content-Type"), answer.Header("OData-Version")));
        var error = answer.Json.GetProperty("error");
        Assert.Equal(
            (code, expectedTarget),
            (error.GetProperty("code").GetString(), error.TryGetProperty("target", out var t) ? t.GetString() : null)
        );
        Assert.NotEmpty(error.GetProperty("message").GetString()!);
        Assert.Equal(["error"], answer.Json.EnumerateObject().Select(p => p.Name));
    }

    [Fact]
    public async Task The_place_of_a_fault_is_shown()
    {
        var error = (await service.Http.SendAsync(Root + "Stations?$filter=id%20gt%205%20and%20nam%20eq%20'x'")).Json.GetProperty("error");
        Assert.Equal("id gt 5 and nam eq 'x'\n            ^", error.GetProperty("details")[0].GetProperty("message").GetString());
        Assert.Equal("$filter at 12", error.GetProperty("details")[0].GetProperty("target").GetString());
    }

    [Theory] // SQL text wherever a caller can write
    [InlineData("Stations?$filter=name eq '''; DROP TABLE station; --'", 200)]
    [InlineData("Stations?$filter=contains(name,'\") OR 1=1 --')", 200)]
    [InlineData("Certificates('x'' OR ''1''=''1')", 404)]
    [InlineData("Stations?$orderby=name; DROP TABLE station", 400)]
    [InlineData("Stations?$orderby=(SELECT 1)", 400)]
    [InlineData("Stations?$select=name,(SELECT 1)", 400)]
    [InlineData("Stations?$select=1;DELETE FROM station", 400)]
    [InlineData("Stations?$top=1;DROP TABLE station", 400)]
    [InlineData("Stations?$expand=Sensors;DROP TABLE station", 400)]
    [InlineData("Stations; DROP TABLE station", 400)]
    [InlineData("Stations(1 OR 1=1)", 400)]
    [InlineData("sqlite_schema", 404)]
    [Proves("X-23")]
    public async Task Sql_is_only_text(string target, int status)
    {
        Assert.Equal(status, (await service.Http.SendAsync(Root + target.Replace(" ", "%20").Replace("\"", "%22"))).Status);
        Assert.Equal("120", (await service.Http.SendAsync(Root + "Stations/$count")).Text);
    }

    [Fact]
    [Proves("U-49, Q-12")]
    public async Task Absurd_sizes_are_refused()
    {
        var longUrl = await service.Http.SendAsync(Root + "Stations?$filter=name%20eq%20'" + new string('x', 100_000) + "'");
        Assert.Equal((414, "url-too-long"), (longUrl.Status, longUrl.Json.GetProperty("error").GetProperty("code").GetString()));
        var nested = await service.Http.SendAsync(
            Root + "Stations?$filter=" + new string('(', 2_000) + "id%20eq%201" + new string(')', 2_000)
        );
        Assert.Equal(400, nested.Status);
        Assert.Equal(400, (await service.Http.SendAsync(Root + string.Join('/', Enumerable.Repeat("Stations(1)", 30)))).Status);
        Assert.Equal(200, (await service.Http.SendAsync(Root + "Stations?$top=9223372036854775807")).Status);
        Assert.Equal(200, (await service.Http.SendAsync(Root + "Stations?$skip=9223372036854775807")).Status);
    }

    [Theory]
    [InlineData("GET /odata/s/Stations('\0') HTTP/1.1")]
    [InlineData("GET /odata/s/Stations?$filter=a\u00ffb HTTP/1.1")]
    [InlineData("GET /odata/s/Stations%00 HTTP/1.1")]
    [InlineData("GET /odata/s/%C0%AF HTTP/1.1")]
    [InlineData("GET /odata/../../etc/passwd HTTP/1.1")]
    [InlineData("GET /odata/s/..%2F..%2Fdata.db HTTP/1.1")]
    [InlineData("GET /console/..%2F..%2Fappsettings.json HTTP/1.1")]
    [InlineData("GET http://[::1 HTTP/1.1")]
    public async Task Requests_that_no_client_sends_get_a_client_error(string line)
    {
        var bytes = Encoding.Latin1.GetBytes(line + "\r\nHost: 127.0.0.1\r\nConnection: close\r\n\r\n");
        Assert.Matches(@"^HTTP/1\.1 (400|404)", await service.Http.SendRawAsync(bytes));
    }

    [Fact] // mutated addresses: an answer or a client's error, never a fault of ours, and every error has its body
    public async Task Mutated_addresses_never_break_the_service()
    {
        string[] seeds =
        [
            "Stations?$filter=contains(name,'Weir') and not (closed_on gt 1990-01-01)&$orderby=closed_on desc,name&$top=3&$count=true",
            "Stations(1)/catchment/parent/name/$value",
            "Sensors(station_id=1,sensor_no=1)/Readings?$filter=value mul 2 ge 4.5e0 or quality in "
                + "('A',null)&$select=id,value&$expand=Sensor($select=kind)&$top=2",
            "Certificates('CAL%2F2')?$select=name&$format=json",
            "Readings/$count?$filter=taken_at lt 2024-05-01T10:00:00+02:00 and year(taken_at) eq 2024",
            "Visits?$expand=technician,VisitTasks&$skip=2&$top=1",
            "$metadata?$format=application/xml",
            "Technicians(21ec2020-3aea-1069-a2dd-08002b30309d)",
            "VisitTasks?$filter=minutes gt duration'PT1H'&$top=1",
        ];
        var random = new Random(5);
        var statuses = new Dictionary<int, int>();
        for (var i = 0; i < 4_000; i++)
        {
            var target = MutatedAddress.Of(seeds, random);
            var answer = await service.Http.SendAsync(Root + target);
            statuses[answer.Status] = statuses.GetValueOrDefault(answer.Status) + 1;
            Assert.True(answer.Status is 200 or 204 or 400 or 404 or 406 or 414 or 501, $"{target}: {answer.Status} {answer.Text}");
            // The server itself refuses a few before we see them.
            if (answer.Status >= 400 && answer.Bytes.Length > 0)
                Assert.NotEmpty(answer.Json.GetProperty("error").GetProperty("message").GetString()!);
        }
        Assert.True(statuses.GetValueOrDefault(200) > 100 && statuses.GetValueOrDefault(400) > 1_000, string.Join(", ", statuses));
    }

    [Fact] // a value that is not what it should be is said, not half written
    [Proves("P-59, T-17, X-27")]
    public async Task A_stored_value_of_another_type_is_a_fault()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase("CREATE TABLE t (id INTEGER PRIMARY KEY, flag BOOLEAN, pad TEXT); INSERT INTO t VALUES (1, 1, 'a'), (2, 7, 'b')")
            .WithService("  - { from: t, page: 100000, largest-page: 100000 }\n");
        await using var http = await RunningService.StartAsync(folder.Folder);
        Assert.Equal(200, (await http.SendAsync("/odata/s/t(1)")).Status);
        var bad = await http.SendAsync("/odata/s/t");
        Assert.Equal((500, "bad-data"), (bad.Status, bad.Json.GetProperty("error").GetProperty("code").GetString()));
        Assert.DoesNotContain("SELECT", bad.Text);
        // An answer of which something has gone already is cut; one that is not so large is made whole first.
        folder.WithDatabase(
            """
            DELETE FROM t;
            WITH RECURSIVE n(value) AS (SELECT 1 UNION ALL SELECT value + 1 FROM n WHERE value < 60000)
            INSERT INTO t SELECT value, 1, hex(randomblob(50)) FROM n;
            INSERT INTO t VALUES (70000, 7, '')
            """
        );
        await Assert.ThrowsAnyAsync<HttpRequestException>(() => http.SendAsync("/odata/s/t"));
    }

    [Fact]
    public async Task A_locked_database_is_busy_and_comes_back()
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase("CREATE TABLE t (id INTEGER PRIMARY KEY)").WithService("  - t\n");
        await using var http = await RunningService.StartAsync(folder.Folder);
        using var connection = new SqliteConnection($"Data Source={Path.Combine(folder.Folder, "data.db")};Pooling=False");
        connection.Open();
        using (var begin = new SqliteCommand("BEGIN EXCLUSIVE", connection))
            begin.ExecuteNonQuery();
        var busy = await http.SendAsync("/odata/s/t");
        Assert.Equal(
            (503, "source-busy", "1"),
            (busy.Status, busy.Json.GetProperty("error").GetProperty("code").GetString(), busy.Header("Retry-After"))
        );
        using (var end = new SqliteCommand("ROLLBACK", connection))
            end.ExecuteNonQuery();
        Assert.Equal(200, (await http.SendAsync("/odata/s/t")).Status);
    }

    [Fact]
    public async Task A_table_that_goes_away_is_a_fault_without_its_name()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase("CREATE TABLE t (id INTEGER PRIMARY KEY)")
            .WithService("  - t\n")
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nsessions: 1\n");
        await using var http = await RunningService.StartAsync(folder.Folder);
        Assert.Equal(200, (await http.SendAsync("/odata/s/t")).Status);
        folder.WithDatabase("DROP TABLE t");
        var broken = await http.SendAsync("/odata/s/t");
        Assert.Equal((503, "source-changed"), (broken.Status, broken.Json.GetProperty("error").GetProperty("code").GetString()));
        Assert.DoesNotContain("no such table", broken.Text);
        Assert.Equal(200, (await http.SendAsync("/odata/s/")).Status);
    }
}
