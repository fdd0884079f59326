using System.Xml.Linq;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

public sealed class CommandTests : IDisposable
{
    private readonly TestWorkspace _folder = new();

    public void Dispose() => _folder.Dispose();

    private TestWorkspace Network => _folder.WithSource().WithNetwork().WithService(NetworkFixture.AllSets);

    [Fact] // from an empty folder to a verified service
    public async Task A_new_workspace_is_closed_until_a_rule_opens_it()
    {
        _folder.WithNetwork();
        var made = await Gable.RunAsync(_folder.Folder, "new", "river-data", "--database", "data.db");
        Assert.True(made.Code == 0, made.Errors);
        var file = Path.Combine(_folder.Folder, "river-data/services/river-data.yaml");
        var text = File.ReadAllText(file);
        Assert.Contains("  - station   # table", text);
        Assert.Contains("  - from: import_log   # table, 3 columns, no key\n    keyless: true", text);
        var check = await Gable.RunAsync(_folder.Folder, "check", "river-data", "--json");
        Assert.True(check.Code == 0, check.Output + check.Errors);
        var closed = await Gable.RunAsync(_folder.Folder, "verify", "river-data", "--json");
        Assert.True(closed.Code == 0 && closed.Json.GetProperty("passed").GetInt32() > 50, closed.Output + closed.Errors);
        Assert.Contains("whatever the rules keep closed", closed.Output);
        File.WriteAllText(file, text.Replace("# rules:\n#   read: anyone", "rules:\n  read: anyone"));
        var open = await Gable.RunAsync(_folder.Folder, "verify", "river-data");
        Assert.True(open.Code == 0, open.Output + open.Errors);
        Assert.Contains("0 failed", open.Output);
    }

    [Theory] // 2: called wrongly, in one line that says how
    [InlineData("new", "Required argument missing")]
    [InlineData("new taken", "exists already")]
    [InlineData("new fresh --database absent.db", "does not exist")]
    [InlineData("new fresh", "Say which database")]
    [InlineData("new fresh --database postgres://u@127.0.0.1:1/d --engine mariadb", "--engine says mariadb")]
    [InlineData("new fresh --database oracle://u@h/d", "starts with postgresql://")]
    [InlineData("new fresh --database d --engine postgresql", "'user' is missing")]
    [InlineData("new fresh --database d --host h --user u", "Say which engine")]
    [InlineData("new fresh --database postgresql://u@127.0.0.1/d?sslmod=x", "'sslmod'")]
    [InlineData("new fresh --database postgresql://u@127.0.0.1:1/d --password-variable GABLE_NO_SUCH", "GABLE_NO_SUCH is not set")]
    [InlineData("nonsense", "nonsense")]
    [InlineData("check --jsn", "--jsn")]
    [InlineData("serve . --port 99999", "0 to 65535")]
    [InlineData("serve . --port x", "x")]
    [InlineData("get nowhere", "http://")]
    [InlineData("get http://127.0.0.1:1/ -H nocolon", "Name: value")]
    [InlineData("look . --source absent", "no source 'absent'")]
    [InlineData("source test . mian", "Did you mean 'main'?")]
    [InlineData("keys .", "Required argument missing")]
    [InlineData("explain -w . absent/Stations", "no service 'absent'")]
    [InlineData("verify --url x", "http://")]
    [InlineData("verify demo --writes --seed abc", "'abc' is not a whole number, which --seed takes.")]
    [InlineData("look demo --rows many", "'many' is not a whole number, which --rows takes.")]
    public async Task A_wrong_call_exits_with_2(string arguments, string message)
    {
        Network.Write("taken/file", "");
        var result = await Gable.RunAsync(_folder.Folder, arguments.Split(' '));
        Assert.True(result.Code == 2, result.Output + result.Errors);
        Assert.Contains(message, result.Errors);
        Assert.DoesNotContain("   at ", result.Errors);
    }

    [Theory] // 1: what it looked at has faults
    [InlineData("look . absent", "no table or view 'absent'")]
    [InlineData("look . statoin", "Did you mean 'station'?")]
    [InlineData("get http://127.0.0.1:1/", "no answer from 127.0.0.1:1")]
    [InlineData("verify --url http://127.0.0.1:1/", "")]
    [InlineData("explain -w . s/Stations?$filter=nam", "no property 'nam'")]
    [InlineData("explain http://127.0.0.1:1/odata/s/", "no answer")]
    [InlineData("check nowhere", "no such folder")]
    [InlineData("serve nowhere", "no such folder")]
    [InlineData("verify nowhere", "no such folder")]
    [InlineData("source test nowhere", "no such folder")]
    [InlineData("keys . dayly_summary", "Did you mean 'daily_summary'?")]
    [InlineData("keys . import_log", "")]
    public async Task What_has_faults_exits_with_1(string arguments, string message)
    {
        _ = Network;
        var result = await Gable.RunAsync(_folder.Folder, arguments.Split(' '));
        Assert.True(result.Code == 1, $"{result.Code} {result.Output}{result.Errors}");
        Assert.Contains(message, result.Errors);
        Assert.DoesNotContain("   at ", result.Errors);
    }

    [Theory]
    [InlineData("")]
    [InlineData("new")]
    [InlineData("serve")]
    [InlineData("check")]
    [InlineData("look")]
    [InlineData("get")]
    [InlineData("explain")]
    [InlineData("verify")]
    [InlineData("source test")]
    [InlineData("keys")]
    public async Task Help_shows_examples(string command)
    {
        var result = await Gable.RunAsync(_folder.Folder, [.. command.Split(' ', StringSplitOptions.RemoveEmptyEntries), "--help"]);
        Assert.Equal(0, result.Code);
        Assert.Contains(command.Length == 0 ? "A first walk:" : $"  gable {command}", result.Output);
    }

    [Fact]
    public async Task Check_shows_every_fault_with_its_line()
    {
        _folder
            .WithSource()
            .WithNetwork()
            .WithService(
                "  - statoin\n  - from: station\n    hied: [photo]\n  - { from: import_log, key: [file_name] }\n  - daily_summary\n"
            );
        var result = await Gable.RunAsync(_folder.Folder, "check", ".");
        Assert.Equal(1, result.Code);
        foreach (
            var part in new[]
            {
                "services/s.yaml:9:5: error unknown-name",
                "  9 |     hied: [photo]\n    |     ^^^^",
                "no-object",
                "no-key",
                "key: [station_id]",
            }
        )
            Assert.Contains(part, result.Errors);
        Assert.Contains("does not identify a row", result.Output);
        Assert.Contains("file_name = 'alder-2024-04.csv': 2 rows", result.Output);
        var json = (await Gable.RunAsync(_folder.Folder, "check", ".", "--json")).Json;
        Assert.False(json.GetProperty("ok").GetBoolean());
        Assert.Equal(
            9,
            json.GetProperty("findings")
                .EnumerateArray()
                .First(f => f.GetProperty("code").GetString() == "unknown-name")
                .GetProperty("line")
                .GetInt32()
        );
    }

    [Fact]
    public async Task Check_prints_what_was_taken_from_the_catalog()
    {
        _ = Network;
        var result = await Gable.RunAsync(_folder.Folder, "check", "--resolved", "--no-data");
        Assert.Equal(0, result.Code);
        Assert.Matches(@"Stations/catchment\s+one of Catchments\s+foreign key catchment_id = id", result.Output);
        Assert.Contains("not read", result.Output);
    }

    [Fact]
    public async Task Look_shows_objects_columns_and_rows()
    {
        _ = Network;
        var all = await Gable.RunAsync(_folder.Folder, "look");
        Assert.Matches(@"import_log\s+table\s+3\s+none", all.Output);
        var some = await Gable.RunAsync(_folder.Folder, "look", ".", "visit*");
        Assert.Contains("3 objects", some.Output);
        Assert.DoesNotContain("station ", some.Output);
        Assert.Equal(1, (await Gable.RunAsync(_folder.Folder, "look", ".", "no*")).Code);
        var one = await Gable.RunAsync(_folder.Folder, "look", ".", "reading", "--rows", "2");
        Assert.Matches(@"\* id\s+INTEGER\s+Edm.Int64\s+never", one.Output);
        Assert.Contains("refers to: sensor (station_id = station_id, sensor_no = sensor_no)", one.Output);
        Assert.Contains("published as s/Readings", one.Output);
        var json = (await Gable.RunAsync(_folder.Folder, "look", ".", "group", "--json")).Json;
        Assert.Equal("flood watch", json.GetProperty("rows")[0].GetProperty("select").GetString());
        Assert.DoesNotContain("\u001b[", all.Output + one.Output);
    }

    [Fact]
    public async Task Source_test_names_what_cannot_be_read()
    {
        Network.WithDatabase("CREATE TABLE gone (id INTEGER); CREATE VIEW broken AS SELECT id FROM gone; DROP TABLE gone");
        var result = await Gable.RunAsync(_folder.Folder, "source", "test");
        Assert.Equal(1, result.Code);
        Assert.Contains("main: SQLite file data.db", result.Output);
        Assert.Contains("connected, 19 objects", result.Output);
        Assert.Contains("broken: the view cannot be read", result.Output);
        _folder.WithDatabase("DROP VIEW broken");
        Assert.True((await Gable.RunAsync(_folder.Folder, "source", "test", "--json")).Json.GetProperty("ok").GetBoolean());
    }

    [Fact]
    public async Task Explain_shows_the_statements_without_a_service()
    {
        _ = Network;
        var result = await Gable.RunAsync(
            _folder.Folder,
            "explain",
            "-w",
            ".",
            "s/Stations?$filter=contains(name,'Weir')&$expand=Sensors&$count=true"
        );
        Assert.True(result.Code == 0, result.Errors);
        Assert.Contains("instr(t0.\"name\", ?1) > 0", result.Output);
        Assert.Matches(@"\?1 = 'Weir'\s+value 1 of the URL, as Edm.String", result.Output);
        Assert.Equal(
            3,
            (await Gable.RunAsync(_folder.Folder, "explain", "-w", ".", "s/Stations?$expand=Sensors&$count=true", "--json"))
                .Json.GetProperty("statements")
                .GetArrayLength()
        );
    }

    [Fact]
    public async Task Serve_get_explain_and_verify_work_together()
    {
        _ = Network;
        using var serve = Gable.Start(_folder.Folder, "serve", ".", "--port", "0");
        try
        {
            var ready = await serve.StandardOutput.ReadLineAsync();
            Assert.Matches("^Ready: http://127.0.0.1:[0-9]+/$", ready);
            var root = ready![7..] + "odata/s/";
            var get = await Gable.RunAsync(_folder.Folder, "get", root + "Stations?$filter=code eq 'AB-001'&$select=name");
            Assert.True(get.Code == 0, get.Errors);
            Assert.Matches(@"^200 OK\s+[0-9.]+ ms, [0-9,]+ bytes", get.Output);
            Assert.Contains("\"name\": \"Ashford Weir\"", get.Output);
            Assert.Equal("Ashford Weir", (await Gable.RunAsync(_folder.Folder, "get", root + "Stations(1)/name/$value", "--body")).Output);
            var metadata = await Gable.RunAsync(_folder.Folder, "get", root + "$metadata", "--header", "OData-MaxVersion: 4.01");
            Assert.Contains("OData-Version: 4.01", metadata.Output);
            Assert.Contains("  <edmx:DataServices>", metadata.Output);
            var empty = await Gable.RunAsync(_folder.Folder, "get", root + "Stations(1)/closed_on");
            Assert.Matches("^204 No Content", empty.Output);
            var paged = await Gable.RunAsync(_folder.Folder, "get", root + "Readings?$select=id", "-H", "Prefer: maxpagesize=2", "--json");
            Assert.Equal("maxpagesize=2", paged.Json.GetProperty("headers").GetProperty("Preference-Applied").GetString());
            var refused = await Gable.RunAsync(_folder.Folder, "get", root + "Nothing", "--json");
            Assert.Equal((1, 404), (refused.Code, refused.Json.GetProperty("status").GetInt32()));
            Assert.Contains("SELECT", (await Gable.RunAsync(_folder.Folder, "explain", root + "Stations?$top=1")).Output);
            var wrong = await Gable.RunAsync(_folder.Folder, "explain", root + "Stations?$filter=nam eq 1");
            Assert.Equal(1, wrong.Code);
            Assert.Contains("nam eq 1\n  ^", wrong.Errors);
            var report = Path.Combine(_folder.Folder, "report.xml");
            var verify = await Gable.RunAsync(_folder.Folder, "verify", "--url", root, "--junit", report);
            Assert.True(verify.Code == 0, verify.Output);
            Assert.Equal("0", XDocument.Load(report).Root!.Attribute("failures")!.Value);
            var rest = root.Replace("/odata/", "/rest/", StringComparison.Ordinal);
            var described = await Gable.RunAsync(_folder.Folder, "verify", "--url", rest + "openapi.json", "--json");
            Assert.True(described.Code == 0, described.Output);
            Assert.True(described.Json.GetProperty("passed").GetInt32() > 10);
            Assert.Contains("SELECT", (await Gable.RunAsync(_folder.Folder, "explain", rest + "Stations?name=*Weir")).Output);
            var port = new Uri(ready[7..]).Port.ToString();
            var second = await Gable.RunAsync(_folder.Folder, "serve", ".", "--port", port);
            Assert.Equal(1, second.Code);
            Assert.Contains($"port {port} is in use already", second.Errors);
        }
        finally
        {
            serve.Kill(entireProcessTree: true);
            await serve.WaitForExitAsync();
        }
    }

    [Fact] // one fault in the data, and verify names it
    public async Task Verify_names_an_injected_fault()
    {
        Network.WithDatabase("UPDATE station SET code = 'a code that is much too long' WHERE id = 7");
        var result = await Gable.RunAsync(_folder.Folder, "verify", "--json");
        Assert.Equal(1, result.Code);
        var failure = Assert.Single(result.Json.GetProperty("services")[0].GetProperty("results").EnumerateArray(), r =>
            r.GetProperty("outcome").GetString() == "failed" && r.GetProperty("subject").GetString() == "Stations"
        );
        Assert.Equal("values-fit", failure.GetProperty("check").GetString());
        Assert.Contains("code has 28 characters, and at most 12 are promised (in Stations(7))", failure.GetProperty("message").GetString());
    }

    [Fact]
    public async Task A_report_that_cannot_be_written_is_said()
    {
        _ = Network;
        var result = await Gable.RunAsync(_folder.Folder, "verify", "--rows", "5", "--junit", "no/such/folder/report.xml");
        Assert.Equal(2, result.Code);
        Assert.Contains("cannot be written", result.Errors);
    }
}
