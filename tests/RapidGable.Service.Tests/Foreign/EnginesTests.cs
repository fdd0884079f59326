using RapidGable.Core.Tests;
using RapidGable.Demo;

namespace RapidGable.Service.Tests;

/// <summary>The demo's rows on every engine, published by one declaration.</summary>
public sealed class EnginesFixture : IAsyncLifetime
{
    private const string Views =
        "  - { from: daily_summary, key: [station_id, sensor_no, day] }\n  - { from: open_alert, key: threshold_id }\n  - { "
        + "from: visit_report, key: visit_id }\n";

    public PostgresServer Postgres { get; } = new();

    public MariaDbServer MariaDb { get; } = new();

    internal TestWorkspace SqliteFolder { get; } = new();

    internal TestWorkspace PostgresFolder { get; } = new();

    internal TestWorkspace MariaDbFolder { get; } = new();

    internal IEnumerable<TestWorkspace> Folders => [SqliteFolder, PostgresFolder, MariaDbFolder];

    public List<RunningService> Services { get; } = [];

    public async Task InitializeAsync()
    {
        await Task.WhenAll(Postgres.InitializeAsync(), MariaDb.InitializeAsync());
        SqliteFolder.WithSource().WithNetwork(3_000);
        var rows = Path.Combine(SqliteFolder.Folder, "data.db");
        var first = await Postgres.CreateDatabaseAsync();
        PostgresDatabase.Make(Postgres.Connection(first), rows);
        PostgresFolder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", Postgres.SourceFile(first));
        var second = await MariaDb.CreateDatabaseAsync();
        MariaDbDatabase.Make(MariaDb.Connection(second), rows);
        MariaDbFolder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", MariaDb.SourceFile(second));
        SqliteFolder.WithDatabase(ShapesTests.Table);
        await Postgres.ExecuteAsync(first, ShapesTests.Table);
        await MariaDb.ExecuteAsync(second, ShapesTests.Table);
        foreach (var folder in Folders)
            Services.Add(
                await RunningService.StartAsync(
                    folder
                        .WithLab()
                        .WithService(NetworkFixture.AllSets + Views)
                        .Write("services/shapes.yaml", ShapesTests.Service)
                        .Write("services/asked.yaml", NamedQueryTests.Service)
                        .Write("services/sent.yaml", StatementFaceTests.Service)
                        .Folder
                )
            );
    }

    public async Task DisposeAsync()
    {
        foreach (var service in Services)
            await service.DisposeAsync();
        foreach (var folder in Folders)
            folder.Dispose();
        await Postgres.DisposeAsync();
        await MariaDb.DisposeAsync();
    }
}

/// <summary>The classes that share the servers.</summary>
[CollectionDefinition("engines")]
public sealed class EnginesCollection : ICollectionFixture<EnginesFixture>;

/// <summary>The same declaration over the same data on different engines: the same metadata, the same answers.</summary>
[Collection("engines")]
public sealed class EnginesTests(EnginesFixture engines)
{
    private Task<string> SameAsync(string target) => SameAsync(engines, "/odata/s/" + target);

    /// <summary>Asks all engines and gives the one answer.</summary>
    internal static async Task<string> SameAsync(EnginesFixture engines, string target)
    {
        var first = await engines.Services[0].SendAsync(target);
        foreach (var service in engines.Services.Skip(1))
        {
            var other = await service.SendAsync(target);
            Assert.True(first.Status == other.Status, $"{target}: {first.Status} and {other.Status}\n{other.Text}");
            Assert.Equal(Plain(first.Text, engines.Services[0]), Plain(other.Text, service));
        }
        return first.Text;
    }

    // Positions in next links are the engine's own, a decimal may be written with more zeros, and only one engine knows the
    // length of a computed text.
    private static string Plain(string text, RunningService service) =>
        System
            .Text.RegularExpressions.Regex.Replace(
                System.Text.RegularExpressions.Regex.Replace(
                    text.Replace(service.Address, "")
                        .Replace(
                            "Name=\"day\" Type=\"Edm.String\" Nullable=\"false\" MaxLength=\"10\"",
                            "Name=\"day\" Type=\"Edm.String\" Nullable=\"false\""
                        ),
                    @"skiptoken=[^""]*",
                    "skiptoken="
                ),
                @"(\.\d*?)0+(?=[,}\]])",
                "$1"
            )
            .Replace(".,", ",")
            .Replace(".}", "}");

    [Fact]
    public async Task The_metadata_is_the_same() => Assert.Contains("EntityType Name=\"Station\"", await SameAsync("$metadata"));

    [Theory]
    [InlineData("Catchments")]
    [InlineData("Stations")]
    [InlineData("Sensors")]
    [InlineData("Readings")]
    [InlineData("Technicians?$orderby=full_name")] // engines have orders of their own for uuids
    [InlineData("Certificates")]
    [InlineData("Grants?$orderby=technician/full_name,certificate_code")]
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
    public async Task Pages_lead_to_the_end_on_every_engine()
    {
        foreach (var service in engines.Services)
        {
            var ids = new HashSet<long>();
            for (string? next = "/odata/s/Readings?$orderby=quality%20desc,value&$select=id"; next is not null; )
            {
                var page = (await service.SendAsync(next, "GET", ("Prefer", "maxpagesize=173"))).Json;
                foreach (var row in page.GetProperty("value").EnumerateArray())
                    Assert.True(ids.Add(row.GetProperty("id").GetInt64()));
                next = page.TryGetProperty("@odata.nextLink", out var link) ? link.GetString() : null;
            }
            Assert.Equal(3_000, ids.Count);
        }
    }

    [Theory] // options inside $expand mean what they mean on the collection itself, for every parent, to the last page
    [InlineData("s", "Stations", "Sensors", "$filter=kind eq 'level' or sensor_no gt 1;$select=sensor_no,kind")]
    [InlineData("s", "Stations", "Visits", "$orderby=planned_for desc;$top=2")]
    [InlineData("s", "Stations", "Visits", "$filter=done_at ne null;$orderby=technician_id desc,planned_for;$top=3;$select=planned_for")]
    [InlineData(
        "s",
        "Stations",
        "Visits",
        "$filter=contains(tolower(purpose),'check') and not (done_at gt 2024-01-01T00:00:00Z);$orderby=done_at desc"
    )]
    [InlineData("s", "Sensors", "Readings", "$filter=value mul 2 gt 5 and quality ne 'A';$orderby=value desc;$top=7;$select=value")]
    [InlineData("s", "Catchments", "Stations", "$filter=startswith(name,'Q');$top=0")]
    [InlineData("shapes", "Stations", "Sensors", "$filter=kind in ('flow','turbidity');$orderby=unit desc;$top=1")]
    [InlineData("shapes", "Technicians", "certificates", "$filter=code ne 'CAL/1';$orderby=name desc;$select=code")]
    [InlineData("shapes", "Certificates", "holders", "$filter=region eq 'north';$top=2;$select=email")]
    [InlineData("shapes", "Visits", "tasks", "$filter=minutes gt duration'PT1H';$orderby=minutes desc")]
    [InlineData("shapes", "Stations", "samples", "$filter=taken_on lt 2024-01-01;$orderby=taken_on desc;$top=2")]
    [Proves("Q-60")]
    public async Task Nested_options_mean_what_they_mean_on_the_collection(string service, string set, string navigation, string options)
    {
        foreach (var engine in engines.Services)
        {
            foreach (var page in new[] { 1_000, 2 })
            {
                var url = $"/odata/{service}/{set}?$top=12&$expand={navigation}({Uri.EscapeDataString(options)})";
                var related = 0;
                foreach (var parent in await RowsAsync(engine, url, page))
                {
                    var nested = parent.GetProperty(navigation).EnumerateArray().ToList();
                    if (parent.TryGetProperty(navigation + "@odata.nextLink", out var link))
                        nested.AddRange(await RowsAsync(engine, link.GetString()!, page));
                    var direct = await RowsAsync(
                        engine,
                        $"/odata/{service}/{set}{Key(parent)}/{navigation}?"
                            + string.Join(
                                '&',
                                options.Split(';').Select(o => o.Split('=', 2)).Select(o => $"{o[0]}={Uri.EscapeDataString(o[1])}")
                            ),
                        1_000
                    );
                    Assert.Equal(direct.Select(r => r.GetRawText()), nested.Select(r => r.GetRawText()));
                    related += nested.Count;
                }
                Assert.True(related > 0 || options.Contains("$top=0"), $"{url} relates nothing");
            }
        }
    }

    private static string Key(System.Text.Json.JsonElement row) =>
        row.TryGetProperty("sensor_no", out var no) ? $"(station_id={row.GetProperty("station_id")},sensor_no={no})"
        : row.TryGetProperty("id", out var id) ? $"({id})"
        : $"('{Uri.EscapeDataString(row.GetProperty("code").GetString()!.Replace("'", "''"))}')";

    private static async Task<List<System.Text.Json.JsonElement>> RowsAsync(RunningService service, string first, int page)
    {
        var rows = new List<System.Text.Json.JsonElement>();
        for (string? next = first; next is not null; )
        {
            var answer = await service.SendAsync(next, "GET", ("Prefer", $"maxpagesize={page}"));
            Assert.True(answer.Status == 200, $"{next}: {answer.Text}");
            rows.AddRange(answer.Json.GetProperty("value").EnumerateArray());
            next = answer.Json.TryGetProperty("@odata.nextLink", out var link) ? link.GetString() : null;
        }
        return rows;
    }

    [Fact] // URL conventions 4.8, pages in the order of a count
    public async Task A_count_counts_the_related_entities_and_sorts()
    {
        foreach (var engine in engines.Services)
        {
            var all = await RowsAsync(engine, "/odata/s/Stations?$expand=Visits", 1_000);
            foreach (var most in new[] { 3, 6 })
                Assert.Equal(
                    all.Where(s => s.GetProperty("Visits").GetArrayLength() > most).Select(Key),
                    (await RowsAsync(engine, $"/odata/s/Stations?$filter=Visits/$count%20gt%20{most}", 1_000)).Select(Key)
                );
            Assert.Equal(
                all.OrderByDescending(s => s.GetProperty("Visits").GetArrayLength())
                    .ThenBy(s => s.GetProperty("id").GetInt64())
                    .Select(Key),
                (await RowsAsync(engine, "/odata/s/Stations?$orderby=Visits/$count%20desc", 7)).Select(Key)
            );
        }
    }

    [Theory] // URL conventions 5.1.1.13: any and all say what an expansion with the same filter shows, nulls and empty collections included
    [InlineData("s", "Stations", "Sensors", "x/kind eq 'flow'")]
    [InlineData("s", "Stations", "Visits", "x/done_at gt 2024-03-01T00:00:00Z")]
    [InlineData("s", "Stations", "Visits", "not (x/done_at gt 2024-03-01T00:00:00Z)")]
    [InlineData("s", "Stations", "Visits", "x/technician_id ne null and contains(tolower(x/purpose),'check')")]
    [InlineData("s", "Catchments", "Stations", "x/telemetered")]
    [InlineData("s", "Catchments", "Stations", "not x/telemetered or x/closed_on lt 1990-01-01")]
    [InlineData("s", "Catchments", "Catchments", "x/area_km2 mul 2 gt 1000")]
    [InlineData("shapes", "Technicians", "certificates", "startswith(x/code,'CAL')")]
    [InlineData("shapes", "Certificates", "holders", "x/region eq 'north'")]
    [InlineData("shapes", "Visits", "tasks", "x/minutes gt duration'PT1H'")]
    [InlineData("shapes", "Stations", "Sensors", "x/kind in ('level','flow')")]
    public async Task Any_and_all_say_what_an_expansion_shows(string service, string set, string navigation, string condition)
    {
        foreach (var engine in engines.Services)
        {
            var root = $"/odata/{service}/{set}";
            var all = await RowsAsync(engine, $"{root}?$expand={navigation}", 1_000);
            var some = await RowsAsync(
                engine,
                $"{root}?$expand={navigation}($filter={Uri.EscapeDataString(condition.Replace("x/", ""))})",
                1_000
            );
            var (any, every, none) = (new List<string>(), new List<string>(), new List<string>());
            foreach (var (whole, part) in all.Zip(some))
            {
                var (count, fitting) = (whole.GetProperty(navigation).GetArrayLength(), part.GetProperty(navigation).GetArrayLength());
                if (fitting > 0)
                    any.Add(Key(whole));
                if (fitting == count)
                    every.Add(Key(whole));
                if (count == 0)
                    none.Add(Key(whole));
            }
            Assert.NotEmpty(any);
            foreach (
                var (filter, expected) in new[]
                {
                    ($"{navigation}/any(x:{condition})", any),
                    ($"{navigation}/all(x:{condition})", every),
                    ($"not {navigation}/any()", none),
                    ($"not ({navigation}/any(x:{condition})) eq false", any),
                }
            )
                Assert.Equal(expected, (await RowsAsync(engine, $"{root}?$filter={Uri.EscapeDataString(filter)}", 1_000)).Select(Key));
        }
    }

    [Theory]
    // The variable and the entity itself.
    [InlineData("s/Stations?$filter=catchment/Stations/any(s:s/telemetered ne telemetered and s/id lt id)&$select=id", 200)]
    [InlineData("s/Catchments?$filter=Stations/any(s:s/Visits/any(v:v/technician/region eq 'north' and s/telemetered))&$select=id", 200)]
    [InlineData("s/Stations?$filter=Visits/all(v:v/technician ne null)&$select=id&$count=true", 200)]
    [InlineData(
        "s/Stations?$filter=Sensors/any(s:s/Readings/any(r:r/value gt 30) and s/station/catchment/name ne "
            + "null)&$orderby=name&$top=5&$expand=Sensors($filter=Readings/any(r:r/value gt 30))",
        200
    )]
    [InlineData(
        "shapes/Certificates?$filter=holders/any(h:h/certificates/all(c:c/code ne 'none') and h/region eq 'north')&$select=code",
        200
    )]
    [InlineData("s/Stations/$count?$filter=Sensors/any(s:s/kind eq 'level')", 200)]
    [InlineData("s/Stations?$filter=Sensors/$count gt 2 and Visits/$count lt 9&$orderby=Visits/$count desc,id&$select=id&$top=20", 200)]
    [InlineData("s/Stations?$filter=catchment/Stations/$count sub Sensors/$count ge 3&$select=id", 200)]
    [InlineData("s/Catchments?$filter=Stations/any(s:s/Sensors/$count eq 3 and s/name gt $it/name)&$select=id", 200)]
    [InlineData("shapes/Technicians?$orderby=certificates/$count desc,full_name&$select=full_name", 200)]
    [InlineData("s/Stations?$filter=$it/name eq 'Ashford Weir'&$select=id", 200)]
    [InlineData("s/Stations?$filter=Sensors/$count eq 'x'", 400)]
    [InlineData("s/Stations?$filter=catchment/$count gt 1", 400)]
    [InlineData("s/Stations?$filter=Sensors/$count($filter=kind eq 'level') ge 1&$select=id&$top=20", 200)]
    [InlineData("s/Stations?$filter=Sensors/$count($top=1) gt 1", 400)]
    [InlineData("s/Stations?$filter=Sensors/$count($filter=kind eq 'level';$search=level) eq 1&$select=id", 200)]
    [InlineData(
        "s/Stations?$filter=name ne $root/Stations(1)/name and catchment/name eq " + "$root/Stations(1)/catchment/name&$select=id",
        200
    )]
    [InlineData(
        "s/Stations?$top=9&$select=name&$expand=Visits($filter=technician/region eq 'north' and report ne "
            + "$it/name;$orderby=$it/catchment/area_km2,id;$select=id;$count=true)",
        200
    )]
    [InlineData(
        "s/Catchments?$select=name&$expand=Stations($top=3;$select=name;$expand=Sensors($filter=length($it/name) gt "
            + "sensor_no;$count=true;$select=kind))",
        200
    )]
    [InlineData("s/Stations?$expand=Sensors($filter=$it/Visits/any())", 501)]
    [InlineData("s/Stations?$expand=Sensors($filter=$it/Visits/id eq 1)", 501)]
    [InlineData("s/Stations?$expand=Sensors($filter=$it eq null)", 400)]
    [InlineData("s/Stations?$expand=Sensors($filter=$it/nothing eq null)", 400)]
    [InlineData("s/Stations?$filter=$root/Stations(1)/Sensors/kind eq 'x'", 501)]
    [InlineData("s/Stations?$filter=$it eq null", 400)]
    [InlineData("shapes/Stations?$orderby=tolower(name)", 400)] // kept out of sorting, in calls too
    [InlineData("shapes/Stations?$filter=year(changed_at) eq 2024", 400)]
    [InlineData("shapes/Sensors?$filter=station/changed_at gt 2000-01-01T00:00:00Z", 400)]
    [InlineData("s/Stations?$filter=Sensors/any(s:s/kind eq 'level' or s/nme eq 'x')", 400)]
    [InlineData("s/Stations?$filter=Sensors/any(s:s)", 400)]
    [InlineData("s/Stations?$filter=Sensors/any(s:s/Readings/any(s:s/id eq 1))", 400)]
    [InlineData("s/Stations?$filter=Sensors/any(kind eq 'level')", 400)]
    [InlineData("s/Stations?$filter=Sensors/any(s:kind eq 'level')", 400)] // without its name it is the station's, which has none
    [InlineData("s/Stations?$filter=Sensors/all()", 400)]
    [InlineData("s/Stations?$filter=Sensors/many(s:s/id eq 1)", 400)]
    [InlineData("s/Stations?$filter=catchment/any(c:c/id eq 1)", 400)]
    [InlineData("s/Stations?$filter=name/any(c:c eq 'x')", 400)]
    [InlineData("s/Stations?$filter=Sensors/Readings/any(r:r/id eq 1)", 400)]
    [InlineData("s/Stations?$filter=Sensors/kind eq 'x'", 501)]
    [InlineData("s/Stations?$orderby=Sensors/any(n:n/kind eq 'level') desc,not (Visits/any()),id&$top=30&$select=id", 200)]
    [InlineData("s/Stations?$orderby=Sensors/all(n:n/sensor_no lt 3),id desc&$select=id", 200)]
    [InlineData("shapes/Odd?$filter=list/$count($filter=$this eq 'b') eq 1&$select=id", 200)]
    [InlineData("shapes/Odd?$orderby=list/$count($filter=startswith($this,'b') or $this eq 'a') desc,id&$select=id", 200)]
    [InlineData("shapes/Odd?$filter=list/$count($search=b) eq 1", 400)]
    [InlineData("shapes/Odd?$filter=list/$count($filter=$this eq 1) eq 1", 400)]
    [InlineData("shapes/Stations?$filter=samples/any()", 501)]
    [InlineData("shapes/Odd?$filter=list/any(l:l eq 'a')&$select=id", 200)] // values of a collection
    [InlineData("shapes/Odd?$filter=not list/all(l:startswith(l,'b'))&$select=id", 200)]
    [InlineData("shapes/Odd?$filter='b' in list&$select=id", 200)]
    [InlineData("shapes/Odd?$filter=list/$count eq 2 and not list/any(l:l eq 'z')&$select=id", 200)]
    [InlineData("shapes/Odd(1)/list/$count", 200)]
    [InlineData("shapes/Odd?$filter=list/any(l:l eq 1)", 400)]
    [InlineData("shapes/Odd?$filter=list/any(l:l/x eq 1)", 400)]
    [InlineData("shapes/Odd?$filter=1 in list", 400)]
    [Proves("U-30, Q-36, Q-66 to Q-70")]
    public async Task A_lambda_is_the_same_or_refused_everywhere(string target, int status)
    {
        var text = await SameAsync(engines, "/odata/" + target.Replace(" ", "%20"));
        Assert.Equal(status, (await engines.Services[0].SendAsync("/odata/" + target.Replace(" ", "%20"))).Status);
        if (status == 200)
            Assert.DoesNotContain("\"value\":[]", text);
    }

    [Theory]
    [InlineData("Stations?$expand=catchment($filter=id eq 1)", 400)]
    [InlineData("Stations?$expand=catchment/$count", 400)]
    [InlineData("Stations?$expand=Sensors($levels=2)", 400)]
    [InlineData("Stations?$expand=Sensors($filter=$it/idd eq 1)", 400)]
    [InlineData("Stations?$expand=Sensors($apply=aggregate($count as n))", 501)]
    [InlineData("Stations?$expand=Sensors($skip=-1)", 400)]
    [InlineData("Stations?$expand=Sensors($compute=1 as kind)", 400)]
    [InlineData("Stations?$expand=Sensors($filter=knd eq 'x')", 400)]
    [InlineData("Stations?$expand=Sensors($filter=kind)", 400)]
    [InlineData("Stations?$expand=Sensors($top=-1)", 400)]
    [InlineData("Stations?$expand=Sensors($top=x)", 400)]
    [InlineData("Stations?$expand=Sensors($top=1;$top=2)", 400)]
    [InlineData("Stations?$expand=Sensors($filter=kind eq 'flow'", 400)]
    [InlineData("Stations?$expand=Sensors($format=json)", 400)]
    public async Task A_nested_option_that_cannot_be_is_refused(string target, int status)
    {
        foreach (var service in engines.Services)
            Assert.Equal(status, (await service.SendAsync("/odata/s/" + target.Replace(" ", "%20"))).Status);
    }

    [Fact] // what the engine knows of the tables below a view ranks its keys
    public async Task A_views_key_is_traced_to_its_table()
    {
        foreach (var folder in engines.Folders)
        {
            var keys = (await Gable.RunAsync(folder.Folder, "keys", ".", "visit_report", "--json")).Json.GetProperty("candidates")[0];
            Assert.Equal("visit_id", keys.GetProperty("columns")[0].GetString());
            Assert.Contains("visit_id is visit.id, of a key", keys.GetProperty("reason").GetString());
        }
    }

    [Fact]
    public async Task Verify_and_check_pass_on_every_engine()
    {
        foreach (var folder in engines.Folders)
        {
            var verify = await Gable.RunAsync(folder.Folder, "verify", "--json");
            Assert.True(verify.Code == 0, verify.Output + verify.Errors);
            var check = await Gable.RunAsync(folder.Folder, "check", "--json");
            Assert.True(check.Code == 0, check.Output + check.Errors);
            var test = await Gable.RunAsync(folder.Folder, "source", "test");
            Assert.Contains("all of them readable", test.Output);
            foreach (var password in new[] { PostgresServer.Password, MariaDbServer.Password })
                Assert.DoesNotContain(password, verify.Output + verify.Errors + check.Output + check.Errors + test.Output + test.Errors);
        }
    }

    [Theory]
    [InlineData("host: 127.0.0.1", "host: no-such-host.invalid", "'no-such-host.invalid' is not known")]
    [InlineData("port: ~", "port: 1", "Nothing listens on 127.0.0.1:1")]
    [InlineData("password: ~", "password: wrong-secret-9", "The password of 'tester' is wrong")]
    [InlineData("database: ~", "database: absent", "There is no database 'absent'")]
    [InlineData("sessions: 4", "tls: require", "does not offer it")]
    public async Task A_mariadb_connection_that_fails_says_why(string right, string wrong, string message) =>
        await SaysWhyAsync(engines.MariaDbFolder, right, wrong, message);

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
    public async Task A_connection_that_fails_says_why(string right, string wrong, string message) =>
        await SaysWhyAsync(engines.PostgresFolder, right, wrong, message);

    private static async Task SaysWhyAsync(TestWorkspace from, string right, string wrong, string message)
    {
        using var folder = new TestWorkspace();
        var source = File.ReadAllText(Path.Combine(from.Folder, "sources/main.yaml"));
        var line = right.EndsWith('~') ? source.Split('\n').First(l => l.StartsWith(right[..^1], StringComparison.Ordinal)) : right;
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", source.Replace(line + "\n", wrong + "\n"))
            .WithService("  - station\n");
        await using var workspace = await folder.LoadAsync();
        var said = string.Join('\n', workspace.Diagnostics.Items.Select(d => d.Render()));
        Assert.Contains(message, said);
        foreach (var secret in new[] { PostgresServer.Password, MariaDbServer.Password, "wrong-secret-9", "hidden-secret-3" })
            Assert.DoesNotContain(secret, said);
    }

    [Fact] // a user with rights on half of the tables
    public async Task Source_test_says_which_rights_are_missing()
    {
        var database = await engines.Postgres.CreateDatabaseAsync();
        await engines.Postgres.ExecuteAsync(
            database,
            "CREATE TABLE open (id BIGINT PRIMARY KEY); CREATE TABLE closed (id BIGINT PRIMARY KEY); DROP ROLE IF EXISTS half; "
                + "CREATE ROLE half LOGIN PASSWORD 'half-secret-5'; GRANT SELECT ON open TO half"
        );
        using var folder = new TestWorkspace();
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write(
                "sources/main.yaml",
                engines
                    .Postgres.SourceFile(database)
                    .Replace("user: tester", "user: half")
                    .Replace(PostgresServer.Password, "half-secret-5")
            );
        var result = await Gable.RunAsync(folder.Folder, "source", "test");
        Assert.Equal(1, result.Code);
        Assert.Contains("connected, 2 objects", result.Output);
        Assert.Contains("closed: The user 'half' lacks a right", result.Output);
        Assert.DoesNotContain("open:", result.Output);
        Assert.DoesNotContain("half-secret-5", result.Output + result.Errors);
    }

    [Fact]
    public async Task A_server_that_stops_is_unavailable()
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

    [Fact] // every column type is published, or left out with a reason
    [Proves("T-23 to T-42")]
    public async Task Column_types_map()
    {
        var database = await engines.Postgres.CreateDatabaseAsync();
        await engines.Postgres.ExecuteAsync(
            database,
            """
            CREATE TYPE mood AS ENUM ('good', 'so so'); CREATE DOMAIN code AS VARCHAR(5) CHECK (value <> ''); CREATE TYPE pair AS (a INT, b INT);
            CREATE TABLE t (id SERIAL PRIMARY KEY, a SMALLINT DEFAULT 7, b NUMERIC, c NUMERIC(9,3), d MONEY, e REAL, f CHAR(4), g VARCHAR, h TIME(3), i TIMETZ, j TIMESTAMP(2), k TIMESTAMPTZ,
                l INTERVAL, m JSONB, n XML, o mood, p code, q INET, r INT4RANGE, s BIT(3), t BYTEA, u INT[], v pair, w BIGINT GENERATED ALWAYS AS (id * 2) STORED, x POINT);
            COMMENT ON TABLE t IS 'All types'; COMMENT ON COLUMN t.a IS 'A small one';
            INSERT INTO t VALUES (DEFAULT, 1, 12345678901234567890.123456789, 1.5, '12.34', 0.1, 'ab', 'x', '07:30', '07:30+02', '2024-05-01 12:00:00.25', '2024-05-01 12:00:00.123456+02', 'P1DT2H', '{"a": 1}', '<a/>', 'so so', 'xy', '10.0.0.1', '[1,5)', B'101', '\x0aff', '{1,2}', '(1,2)');
            """
        );
        using var folder = new TestWorkspace();
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", engines.Postgres.SourceFile(database))
            .WithService("  - t\n");
        await using (var workspace = await folder.LoadAsync())
        {
            Assert.Equal(["x"], workspace.Diagnostics.Items.Select(d => d.Message.Split('\'')[1]));
            Assert.Equal(
                "id Edm.Int32;a Edm.Int16;b Edm.Decimal;c Edm.Decimal(9,3);d Edm.Decimal(19,2);e Edm.Single;f Edm.String(4);g "
                    + "Edm.String;h Edm.TimeOfDay(3);i Edm.String;j Edm.DateTimeOffset(2);k Edm.DateTimeOffset(6);l "
                    + "Edm.Duration(6);m Edm.String;n Edm.String;o Edm.String;p Edm.String(5);q Edm.String;r Edm.String;s "
                    + "Edm.String;t Edm.Binary;u Collection(Edm.Int32);v T.pair;w Edm.Int64",
                string.Join(';', workspace.Services[0].Model.Sets[0].Type.Properties.Select(p => $"{p.Name} {p.Type}"))
            );
        }
        await ChecksAndLooksAsync(folder);
        await using var http = await RunningService.StartAsync(folder.Folder);
        var row = (await http.SendAsync("/odata/s/t(1)")).Text;
        Assert.Contains(
            """
            "id":1,"a":1,"b":12345678901234567890.123456789,"c":1.500,"d":12.34,"e":0.1,"f":"ab","g":"x","h":"07:30:00","i":"07:30:00+02","j":"2024-05-01T12:00:00.25Z","k":"2024-05-01T10:00:00.123456Z","l":"P1DT2H","m":"{\"a\": 1}","n":"<a/>","o":"so so","p":"xy","q":"10.0.0.1/32","r":"[1,5)","s":"101","t":"Cv8","u":[1,2],"v":{"a":1,"b":2},"w":2}
            """,
            row
        );
        foreach (
            var filter in new[]
            {
                "a eq 1",
                "b gt 1",
                "d eq 12.34",
                "e lt 0.2",
                "f eq 'ab'",
                "h eq 07:30:00",
                "j eq 2024-05-01T12:00:00.25Z",
                "k gt 2024-05-01T00:00:00Z",
                "j gt k",
                "l eq duration'PT26H'",
                "contains(m,'1')",
                "o eq 'so so'",
                "q eq '10.0.0.1/32'",
                "s eq '101'",
                "w eq 2",
            }
        )
        {
            var count = await http.SendAsync("/odata/s/t/$count?$filter=" + filter.Replace(" ", "%20"));
            Assert.True(count is { Status: 200, Text: "1" }, $"{filter}: {count.Text}");
        }
        var metadata = (await http.SendAsync("/odata/s/$metadata")).Text;
        foreach (
            var part in new[]
            {
                "Core.Description\" String=\"All types\"",
                "String=\"A small one\"",
                "DefaultValue=\"7\"",
                "Core.Computed\"",
                "application/json",
            }
        )
            Assert.Contains(part, metadata);
        Assert.Equal(400, (await http.SendAsync("/odata/s/t?$filter=id%20mul%209223372036854775807%20mul%204%20gt%201")).Status);
    }

    [Fact]
    [Proves("T-43 to T-54")]
    public async Task Column_types_of_mariadb_map()
    {
        var database = await engines.MariaDb.CreateDatabaseAsync();
        await engines.MariaDb.ExecuteAsync(
            database,
            """
            SET time_zone = '+00:00';
            CREATE TABLE t (id INT AUTO_INCREMENT PRIMARY KEY, a TINYINT(1), b TINYINT(4) DEFAULT 7, c TINYINT UNSIGNED, d SMALLINT UNSIGNED, e INT UNSIGNED, f BIGINT UNSIGNED, g DECIMAL(12,4), h FLOAT, i BIT(1), j BIT(9), k YEAR,
                l CHAR(4), m TINYTEXT, n ENUM('good', 'so so'), o JSON, p BINARY(2), q BLOB, r DATE, s DATETIME(2), u TIMESTAMP(3) NULL, v TIME(1), w UUID, x INET4, y POINT, z INT GENERATED ALWAYS AS (id * 2)) COMMENT 'All types';
            INSERT INTO t (a, c, d, e, f, g, h, i, j, k, l, m, n, o, p, q, r, s, u, v, w, x) VALUES (1, 255, 65535, 4294967295, 18446744073709551615, 1.5, 0.1, b'1', 300, 2024, 'ab', 'x', 'so so', '{"a": 1}', x'0aff', x'0aff', '2024-02-29', '2024-05-01 12:00:00.25', '2024-05-01 12:00:00.125', '-30:00:00.5', '21ec2020-3aea-1069-a2dd-08002b30309d', '10.0.0.1');
            """
        );
        using var folder = new TestWorkspace();
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", engines.MariaDb.SourceFile(database))
            .WithService("  - t\n");
        await using (var workspace = await folder.LoadAsync())
        {
            Assert.Equal(["y"], workspace.Diagnostics.Items.Select(d => d.Message.Split('\'')[1]));
            Assert.Equal(
                "id Edm.Int32;a Edm.Boolean;b Edm.SByte;c Edm.Byte;d Edm.Int32;e Edm.Int64;f Edm.Decimal(20,0);g "
                    + "Edm.Decimal(12,4);h Edm.Single;i Edm.Boolean;j Edm.Int64;k Edm.Int16;l Edm.String(4);m Edm.String;n "
                    + "Edm.String;o Edm.String;p Edm.Binary(2);q Edm.Binary;r Edm.Date;s Edm.DateTimeOffset(2);u "
                    + "Edm.DateTimeOffset(3);v Edm.Duration(1);w Edm.Guid;x Edm.String;z Edm.Int32",
                string.Join(';', workspace.Services[0].Model.Sets[0].Type.Properties.Select(p => $"{p.Name} {p.Type}"))
            );
        }
        await ChecksAndLooksAsync(folder);
        await using var http = await RunningService.StartAsync(folder.Folder);
        Assert.Contains(
            """
            "id":1,"a":true,"b":7,"c":255,"d":65535,"e":4294967295,"f":18446744073709551615,"g":1.5000,"h":0.1,"i":true,"j":300,"k":2024,"l":"ab","m":"x","n":"so so","o":"{\"a\": 1}","p":"Cv8","q":"Cv8","r":"2024-02-29","s":"2024-05-01T12:00:00.25Z","u":"2024-05-01T12:00:00.125Z","v":"-P1DT6H0.5S","w":"21ec2020-3aea-1069-a2dd-08002b30309d","x":"10.0.0.1","z":2}
            """,
            (await http.SendAsync("/odata/s/t(1)")).Text
        );
        foreach (
            var filter in new[]
            {
                "a",
                "c eq 255",
                "f eq 18446744073709551615",
                "g eq 1.5",
                "h lt 0.2",
                "i eq true",
                "j eq 300",
                "l eq 'ab'",
                "n eq 'so so'",
                "r eq 2024-02-29",
                "s eq 2024-05-01T12:00:00.25Z",
                "v lt duration'PT0S'",
                "w eq 21EC2020-3AEA-1069-A2DD-08002B30309D",
                "x eq '10.0.0.1'",
            }
        )
        {
            var count = await http.SendAsync("/odata/s/t/$count?$filter=" + filter.Replace(" ", "%20"));
            Assert.True(count is { Status: 200, Text: "1" }, $"{filter}: {count.Text}");
        }
        var metadata = (await http.SendAsync("/odata/s/$metadata")).Text;
        foreach (
            var part in new[] { "Core.Description\" String=\"All types\"", "DefaultValue=\"7\"", "Core.Computed\"", "application/json" }
        )
            Assert.Contains(part, metadata);
        Assert.Equal(400, (await http.SendAsync("/odata/s/t?$filter=id%20mul%209223372036854775807%20mul%204%20gt%201")).Status);
    }

    private static async Task ChecksAndLooksAsync(TestWorkspace folder)
    {
        var check = await Gable.RunAsync(folder.Folder, "check", "--json");
        Assert.True(check.Code == 0, check.Output + check.Errors);
        var look = await Gable.RunAsync(folder.Folder, "look", ".", "t", "--json");
        Assert.True(look.Code == 0, look.Output + look.Errors);
        Assert.Single(look.Json.GetProperty("rows").EnumerateArray());
    }

    [Fact] // more requests than sessions: all are answered, and none gets another's rows
    public async Task Many_at_once_get_their_own_answers()
    {
        string[] targets =
        [
            "Stations?$top=20&$expand=Sensors,catchment&$count=true",
            "Stations(7)?$select=id,code",
            "Sensors?$top=10&$expand=Readings($select=id)",
            "Readings/$count?$filter=sensor_no%20eq%201",
            "Catchments(3)/Stations?$orderby=name%20desc",
            "Visits?$top=5&$expand=VisitTasks,technician,station",
            "Stations(9999)/Sensors",
        ];
        foreach (var service in engines.Services)
        {
            var alone = new Dictionary<string, string>();
            foreach (var target in targets)
                alone[target] = (await service.SendAsync("/odata/s/" + target)).Text;
            var together = await Task.WhenAll(
                Enumerable
                    .Range(0, 140)
                    .Select(async i =>
                        (Target: targets[i % targets.Length], (await service.SendAsync("/odata/s/" + targets[i % targets.Length])).Text)
                    )
            );
            Assert.All(together, t => Assert.Equal(alone[t.Target], t.Text));
        }
    }

    [Fact]
    public async Task Keys_are_found_on_every_engine()
    {
        foreach (var folder in engines.Folders)
        {
            var keys = await Gable.RunAsync(folder.Folder, "keys", ".", "daily_summary", "--json");
            Assert.True(keys.Code == 0, keys.Output + keys.Errors);
            // So few readings are all of one day.
            Assert.Equal(
                ["station_id", "sensor_no"],
                keys.Json.GetProperty("candidates")[0].GetProperty("columns").EnumerateArray().Select(c => c.GetString())
            );
        }
    }

    [Fact]
    public async Task Other_schemas_are_named_with_their_tables()
    {
        var database = await engines.Postgres.CreateDatabaseAsync();
        await engines.Postgres.ExecuteAsync(
            database,
            "CREATE SCHEMA \"Lab.x\"; CREATE TABLE \"Lab.x\".\"Odd \"\"one\" (\"The Id\" BIGINT PRIMARY KEY); CREATE TABLE one "
                + "(id BIGINT PRIMARY KEY, odd BIGINT REFERENCES \"Lab.x\".\"Odd \"\"one\"); INSERT INTO \"Lab.x\".\"Odd "
                + "\"\"one\" VALUES (5); INSERT INTO one VALUES (1, 5)"
        );
        using var folder = new TestWorkspace();
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", engines.Postgres.SourceFile(database))
            .WithService("  - one\n  - { from: 'Lab.x.Odd \"one', name: Odd }\n");
        await using var http = await RunningService.StartAsync(folder.Folder);
        var answer = await http.SendAsync("/odata/s/one(1)/Odd_one");
        Assert.True(answer.Text.Contains("\"The_Id\":5"), answer.Text + (await http.SendAsync("/odata/s/$metadata")).Text);
    }
}
