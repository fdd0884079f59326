using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>What a service says of itself, what of it will not stay, and two versions side by side.</summary>
public sealed class AboutServiceTests : IAsyncLifetime
{
    private const string Current = """
        title: Rivers
        source: main
        namespace: T
        rules: { read: anyone }
        about:
          version: "2.0"
          description: What flows.
          owner: Data office
          contact: data@example.org
          licence: CC-BY-4.0
          terms: https://example.org/terms
          tags: [rivers]
        sets:
          - from: river
            name: Rivers
            type: River
            columns: { name: { deprecated: { use: id } } }
          - { from: lake, name: Lakes, type: Lake, deprecated: { since: 2026-01-01, until: 2027-01-01, use: Rivers, why: They dried up. } }
        queries:
          - { name: Total, select: SELECT COUNT(*) AS n FROM river, gives: value, deprecated: true }
        """;

    private const string Older = """
        title: Rivers, first version
        source: main
        namespace: T.V1
        version-of: { service: rivers, segment: v1 }
        deprecated: { until: 2027-06-30, use: rivers }
        rules: { read: anyone }
        sets:
          - { from: river, name: Streams, type: Stream, page: 1 }
        """;

    private readonly TestWorkspace _folder = new();
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .WithDatabase(
                "CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT); CREATE TABLE lake (id INTEGER NOT NULL PRIMARY KEY);"
                    + "INSERT INTO river VALUES (1, 'Alder'), (2, 'Birch')"
            )
            .Write("services/rivers.yaml", Current)
            .Write("services/rivers-v1.yaml", Older);
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    [Fact]
    public async Task A_service_says_what_it_is()
    {
        var listed = (await _http.SendAsync("/services"))
            .Json.GetProperty("services")
            .EnumerateArray()
            .Single(s => s.GetProperty("name").GetString() == "rivers")
            .GetProperty("about");
        Assert.Equal("Data office", listed.GetProperty("owner").GetString());
        Assert.Equal("rivers", listed.GetProperty("tags")[0].GetString());
        foreach (var face in new[] { "odata", "rest" })
        {
            var info = (await _http.SendAsync($"/{face}/rivers/openapi.json")).Json.GetProperty("info");
            Assert.Equal("2.0", info.GetProperty("version").GetString());
            Assert.Equal("CC-BY-4.0", info.GetProperty("license").GetProperty("identifier").GetString());
            Assert.Equal("data@example.org", info.GetProperty("contact").GetProperty("email").GetString());
            Assert.Contains("What flows.", info.GetProperty("description").GetString());
        }
    }

    [Fact]
    public async Task What_will_not_stay_says_so()
    {
        foreach (var target in new[] { "/odata/rivers/Lakes", "/rest/rivers/Lakes", "/odata/rivers/Lakes/$count" })
        {
            var answer = await _http.SendAsync(target);
            Assert.Equal("@1767225600", answer.Header("Deprecation"));
            Assert.Equal("Fri, 01 Jan 2027 00:00:00 GMT", answer.Header("Sunset"));
        }
        Assert.Null((await _http.SendAsync("/odata/rivers/Rivers")).Header("Deprecation"));
        Assert.NotNull((await _http.SendAsync("/odata/rivers/Rivers(1)/name")).Header("Deprecation"));
        Assert.NotNull((await _http.SendAsync("/odata/rivers/Rivers(1)/name/$value")).Header("Deprecation"));
        Assert.Null((await _http.SendAsync("/odata/rivers/Rivers(1)/id")).Header("Deprecation"));
        // What stands behind the set alone is a key, whatever it says.
        Assert.Null((await _http.SendAsync("/odata/rivers/Rivers/name")).Header("Deprecation"));
        var plain = (await _http.SendAsync("/odata/rivers/openapi.json")).Json.GetProperty("paths");
        Assert.True(plain.GetProperty("/Lakes").GetProperty("get").GetProperty("deprecated").GetBoolean());
        Assert.False(plain.GetProperty("/Rivers").GetProperty("get").TryGetProperty("deprecated", out _));
        var metadata = (await _http.SendAsync("/odata/rivers/$metadata")).Text;
        Assert.Equal(3, metadata.Split("Core.Revisions").Length - 1);
        Assert.Contains("Deprecated since 2026-01-01, goes on 2027-01-01; use Rivers. They dried up.", metadata);
        var description = (await _http.SendAsync("/rest/rivers/openapi.json")).Json;
        var paths = description.GetProperty("paths");
        Assert.True(paths.GetProperty("/Lakes").GetProperty("get").GetProperty("deprecated").GetBoolean());
        Assert.True(paths.GetProperty("/Total").GetProperty("get").GetProperty("deprecated").GetBoolean());
        Assert.False(paths.GetProperty("/Rivers").GetProperty("get").TryGetProperty("deprecated", out _));
        var river = description.GetProperty("components").GetProperty("schemas").GetProperty("River").GetProperty("properties");
        Assert.True(river.GetProperty("name").GetProperty("deprecated").GetBoolean());
    }

    [Fact]
    public async Task Two_versions_stand_side_by_side()
    {
        Assert.Equal(200, (await _http.SendAsync("/odata/rivers/Rivers")).Status);
        Assert.Equal(404, (await _http.SendAsync("/odata/rivers/Streams")).Status);
        foreach (var face in new[] { "odata", "rest" })
        {
            var page = await _http.SendAsync($"/{face}/rivers/v1/Streams");
            Assert.True(page.Status == 200, page.Text);
            Assert.Equal("Wed, 30 Jun 2027 00:00:00 GMT", page.Header("Sunset"));
            var next = page.Json.GetProperty(face == "odata" ? "@odata.nextLink" : "next").GetString()!;
            Assert.Contains($"/{face}/rivers/v1/Streams?", new Uri(new Uri(_http.Address + $"/{face}/rivers/v1/"), next).ToString());
            Assert.Equal(404, (await _http.SendAsync($"/{face}/rivers/v1/Rivers")).Status);
            Assert.Equal(404, (await _http.SendAsync($"/{face}/rivers/v2/Streams")).Status);
        }
        var metadata = await _http.SendAsync("/odata/rivers/v1/$metadata");
        Assert.Contains("T.V1", metadata.Text);
        // The slash at the end is added as for any service.
        Assert.Equal(301, (await _http.SendAsync("/odata/rivers/v1")).Status);
        var listed = (await _http.SendAsync("/services")).Json.GetProperty("services").EnumerateArray();
        var faces = listed.Single(s => s.GetProperty("name").GetString() == "rivers-v1").GetProperty("faces");
        Assert.EndsWith("/odata/rivers/v1/", faces.GetProperty("odata").GetString());
        Assert.EndsWith("/rest/rivers/v1/", faces.GetProperty("rest").GetString());
        var verified = await Gable.RunAsync(_folder.Folder, "verify", ".");
        Assert.True(verified.Code == 0, verified.Output + verified.Errors);
    }

    [Theory]
    [InlineData("version-of: { service: river, segment: v1 }", "version-of", "Did you mean 'rivers'?")]
    [InlineData("version-of: { service: rivers, segment: Lakes }", "version-of", "has a set called 'Lakes'")]
    [InlineData("version-of: { service: rivers, segment: 'v 1' }", "version-of", "cannot be a segment")]
    [InlineData("version-of: { service: rivers-v1, segment: v2 }", "version-of", "is a version itself")]
    [InlineData("deprecated: { until: soon }", "deprecated", "'soon' is no day")]
    [InlineData("deprecated: { since: 2027-01-01, until: 2026-01-01 }", "deprecated", "goes before it is deprecated")]
    [InlineData("about: { terms: here }", "about", "'here' is no URL")]
    [InlineData("about: { contact: somebody }", "about", "no e-mail address and no URL")]
    public async Task What_is_said_wrong_is_told(string line, string code, string message)
    {
        var text = Older
            .Replace("version-of: { service: rivers, segment: v1 }", line)
            .Replace("deprecated: { until: 2027-06-30, use: rivers }", "");
        _folder.Write("services/rivers-v1.yaml", text);
        var check = await Gable.RunAsync(_folder.Folder, "check", ".", "--no-data");
        Assert.Equal(1, check.Code);
        Assert.Contains($"error {code}:", check.Errors);
        Assert.Contains(message, check.Errors);
    }
}
