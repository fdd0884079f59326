using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The commands with which a declaration is written, read and compared: draft, show, schema, look, check.</summary>
public sealed class DeclareCommandTests : IDisposable
{
    private readonly TestWorkspace _folder = new();

    public DeclareCommandTests() => _folder.WithSource().WithNetwork(500);

    public void Dispose() => _folder.Dispose();

    private Task<CommandResult> RunAsync(params string[] arguments) => Gable.RunAsync(_folder.Folder, arguments);

    [Fact]
    public async Task A_draft_is_written_checked_and_added_to()
    {
        var first = await RunAsync("draft", ".", "rivers", "station*", "sensor");
        Assert.True(first.Code == 0, first.Errors);
        Assert.Contains("3 sets added", first.Output);
        var path = Path.Combine(_folder.Folder, "services/rivers.yaml");
        var text = await File.ReadAllTextAsync(path);
        Assert.Contains("  - station   # table, 13 columns, key id, refers to catchment\n", text);
        Assert.Contains(
            "  - from: station_latest   # view, 7 columns, no key in the catalog\n    key: [station_id]   # identifies each of "
                + "120 rows; see 'gable keys' for others\n",
            text
        );
        await File.WriteAllTextAsync(path, text.Replace("# rules:\n#   read: anyone", "rules:\n  read: anyone   # mine"));
        var second = await RunAsync("draft", ".", "rivers", "station*", "catchment", "--json");
        Assert.Equal(["catchment"], second.Json.GetProperty("added").EnumerateArray().Select(a => a.GetString()));
        Assert.Equal(["station", "station_latest"], second.Json.GetProperty("known").EnumerateArray().Select(a => a.GetString()));
        Assert.Contains("read: anyone   # mine", await File.ReadAllTextAsync(path));
        Assert.Equal(0, (await RunAsync("check")).Code);
    }

    [Theory]
    [InlineData(2, "has no table or view 'statoin'. Did you mean 'station'?", "draft", ".", "rivers", "statoin")]
    [InlineData(2, "cannot be a service's name", "draft", ".", "Rivers!")]
    [InlineData(2, "There is no source 'x'", "draft", ".", "rivers", "--source", "x")]
    [InlineData(2, "There is no service 'x'", "show", ".", "x")]
    [InlineData(2, "'xml'", "schema", "xml")]
    [InlineData(1, "no-workspace", "draft", "nowhere", "rivers")]
    [InlineData(2, "There is no such folder.", "upgrade", "nowhere")]
    public async Task A_wrong_call_says_what_is_wrong(int code, string message, params string[] arguments)
    {
        var result = await RunAsync(arguments);
        Assert.True(
            result.Code == code && (result.Errors + result.Output).Contains(message),
            $"{result.Code}: {result.Errors}{result.Output}"
        );
    }

    [Fact]
    public async Task Older_words_are_refused_and_rewritten_in_place()
    {
        const string Sets =
            "  - from: visit   # what people did\n    columns:\n      minutes: { least: 1, most: 480 }   # at most a day\n"
            + "      purpose:\n        shortest: 3 # least of all\n        longest: 80\n        remake: user\n";
        _folder.WithService(Sets);
        var path = Path.Combine(_folder.Folder, "services/s.yaml");
        var before = await File.ReadAllTextAsync(path);
        var checkedBefore = await RunAsync("check");
        Assert.Equal(1, checkedBefore.Code);
        Assert.Contains("older-word: 'least' is called 'minimum' now.", checkedBefore.Errors);

        var tried = await RunAsync("upgrade", ".", "--dry-run", "--json");
        Assert.Equal(
            "least minimum, most maximum, shortest min-length, longest max-length, remake regenerate",
            string.Join(
                ", ",
                tried.Json.GetProperty("changes").EnumerateArray().Select(c => $"{c.GetProperty("old")} {c.GetProperty("new")}")
            )
        );
        Assert.Equal(before, await File.ReadAllTextAsync(path));

        var done = await RunAsync("upgrade", ".");
        Assert.True(done.Code == 0, done.Errors);
        Assert.Contains("5 words rewritten.", done.Output);
        var expected = before
            .Replace("{ least: 1, most: 480 }", "{ minimum: 1, maximum: 480 }")
            .Replace("shortest: 3", "min-length: 3")
            .Replace("longest: 80", "max-length: 80")
            .Replace("remake: user", "regenerate: user");
        Assert.Equal(expected, await File.ReadAllTextAsync(path));
        Assert.Contains("Nothing is changed.", (await RunAsync("upgrade", ".")).Output);
        Assert.DoesNotContain("older-word", (await RunAsync("check")).Errors);
    }

    [Fact]
    public async Task Print_writes_nothing()
    {
        var result = await RunAsync("draft", ".", "rivers", "--print");
        Assert.StartsWith("title: rivers\nsource: main\n", result.Output);
        Assert.False(File.Exists(Path.Combine(_folder.Folder, "services/rivers.yaml")));
    }

    [Fact]
    public async Task What_is_shown_is_a_service_file()
    {
        _folder.WithService(NetworkFixture.AllSets);
        var shown = await RunAsync("show", ".", "s");
        Assert.Equal(0, shown.Code);
        Assert.Matches(@"    page: 50 +# declared\n", shown.Output);
        Assert.Matches(@"    largest-page: 5000 +# built in\n", shown.Output);
        Assert.Matches(@"    key: \[station_id, sensor_no\] +# catalog: primary key\n", shown.Output);
        Assert.Matches(@"rules: \{ read: anyone \} +# declared for the service\n", shown.Output);
        _folder.Write("services/s.yaml", shown.Output);
        var check = await RunAsync("check", "--no-data");
        Assert.True(check.Code == 0, check.Errors);
        var one = await RunAsync("show", ".", "s", "--set", "Sensors");
        Assert.StartsWith("  - from: sensor", one.Output);
        Assert.DoesNotContain("from: station ", one.Output);
    }

    [Fact]
    public async Task Check_tells_what_changed_since_a_file_was_kept()
    {
        _folder.WithService("  - { from: station, hide: [photo] }\n  - sensor\n");
        var kept = await RunAsync("check", "--no-data", "--keep", "kept.json");
        Assert.Equal(0, kept.Code);
        Assert.Contains("kept: kept.json", kept.Errors);
        Assert.Equal(0, (await RunAsync("check", "--no-data", "--against", "kept.json")).Code);
        _folder
            .WithDatabase("ALTER TABLE station ADD COLUMN depth_m DECIMAL(5,2)")
            .WithService("  - { from: station, hide: [photo], columns: { datum_m: string } }\n  - { from: sensor, hide: [firmware] }\n");
        var drift = await RunAsync("check", "--no-data", "--against", "kept.json");
        Assert.Equal(1, drift.Code);
        Assert.Contains("breaks odata T.station/datum_m: its type was Edm.Decimal(7,3) and is Edm.String", drift.Output);
        Assert.Contains("adds   odata T.station/depth_m: the property is new (Edm.Decimal(5,2))", drift.Output);
        Assert.Contains("breaks odata T.sensor/firmware: the property is gone", drift.Output);
        Assert.Contains("breaks rest  sensor.firmware: the member is gone", drift.Output);
        var json = (await RunAsync("check", "--no-data", "--against", "kept.json", "--json")).Json.GetProperty("changes")[0];
        Assert.Equal(3, json.GetProperty("faces")[0].GetProperty("differences").GetArrayLength());
        Assert.Equal(0, (await RunAsync("check", "--no-data", "--keep", "kept.json")).Code);
        Assert.Equal(0, (await RunAsync("check", "--no-data", "--against", "kept.json")).Code);
        _folder.Write("kept.json", "<no/>");
        Assert.Equal(2, (await RunAsync("check", "--no-data", "--against", "kept.json")).Code);
        _folder.Write("accepted/s.xml", "<no/>");
        Assert.Contains("warning accepted:", (await RunAsync("check", "--no-data")).Errors);
    }

    [Fact]
    public async Task A_tree_shows_what_a_source_offers()
    {
        var tree = (await RunAsync("look", ".", "visit*", "--tree")).Output;
        Assert.Contains("2 tables", tree);
        Assert.Contains("station_id INTEGER not null -> station", tree);
        Assert.Contains("visit_report", tree);
        Assert.DoesNotContain("catchment", tree);
    }

    [Fact]
    public async Task A_schema_is_json()
    {
        foreach (var kind in new[] { "workspace", "source", "service" })
            Assert.Equal(
                "https://json-schema.org/draft/2020-12/schema",
                (await RunAsync("schema", kind)).Json.GetProperty("$schema").GetString()
            );
    }
}
