using RapidGable.Building;

namespace RapidGable.Core.Tests;

/// <summary>What stands on which face, and how.</summary>
public sealed class FaceDeclarationTests
{
    private const string Tables =
        "CREATE TABLE station (id INTEGER PRIMARY KEY, opened_on DATE, name TEXT); "
        + "CREATE TABLE alert_threshold (id INTEGER PRIMARY KEY, station_id INTEGER REFERENCES station, openedOn TEXT, opened_on TEXT);";

    private static async Task<LoadedWorkspace> LoadAsync(TestWorkspace folder, string service, string workspace = "")
    {
        folder
            .Write("workspace.yaml", "title: T\n" + workspace)
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\n")
            .WithDatabase(Tables)
            .Write("services/s.yaml", "title: S\nsource: main\nrules: { read: anyone }\n" + service);
        return await folder.LoadAsync();
    }

    private const string Both = "sets: [station, { from: alert_threshold, name: Alerts }]\n";

    [Theory]
    [InlineData(Both, "", "Alerts,station|Alerts,station")]
    [InlineData("faces: rest\n" + Both, "", "|Alerts,station")]
    [InlineData("faces: [odata]\n" + Both, "", "Alerts,station|")]
    [InlineData("sets: [station, { from: alert_threshold, name: Alerts, faces: rest }]\n", "", "station|Alerts,station")]
    [InlineData(Both, "faces: { rest: [other] }\n", "Alerts,station|")]
    [InlineData(Both, "faces: { rest: [s] }\n", "Alerts,station|Alerts,station")]
    [InlineData(Both, "faces: { rest: ['s/Al*'], odata: '*' }\n", "Alerts,station|Alerts")]
    [InlineData("faces: [odata, rest]\n" + Both, "faces: { rest: [other] }\n", "Alerts,station|Alerts,station")]
    public async Task Sets_stand_where_it_is_declared(string service, string workspace, string expected)
    {
        using var folder = new TestWorkspace();
        await using var loaded = await LoadAsync(folder, service, workspace);
        Assert.False(loaded.Diagnostics.HasErrors, string.Join('\n', loaded.Diagnostics.Items.Select(d => d.Render())));
        var model = loaded.Services[0].Model;
        string On(Model.FaceShape shape) =>
            string.Join(',', Model.FaceModel.Shown(model, shape).Sets.Select(s => s.Name).Order(StringComparer.Ordinal));
        Assert.Equal(expected, $"{On(model.Faces.OData)}|{On(model.Faces.Rest)}");
    }

    [Theory]
    [InlineData("faces: soap\n" + Both, "faces", "'soap' is not a face")]
    [InlineData("rest: { base: water }\n" + Both, "rest-base", "it starts with a slash")]
    [InlineData("rest: { base: /console/x }\n" + Both, "rest-base", "/console belong to something else")]
    [InlineData("rest: { base: '/a b' }\n" + Both, "rest-base", "cannot be the path")]
    [InlineData("rest: { names: title-case }\n" + Both, "rest", "'title-case' is no value of 'names'")]
    [InlineData("rest: { names: kebab-case }\n" + Both, "rest", "'kebab-case' is no value of 'names'")]
    [InlineData("rest: { keys: both }\n" + Both, "rest", "'both' is no value of 'keys'")]
    [InlineData("rest: { format: pdf }\n" + Both, "rest", "'pdf' is no value of 'format'")]
    [InlineData("rest: { names: camel-case }\n" + Both, "rest-names", "would both be called 'openedOn'")]
    [InlineData("sets: [{ from: station, rest: { path: 'a?b' } }]\n", "rest-path", "cannot be the path of a set")]
    [InlineData(
        "sets: [{ from: station, rest: { path: Alerts } }, { from: alert_threshold, name: Alerts }]\n",
        "rest-path",
        "the same path 'Alerts'"
    )]
    [InlineData(
        "sets: [{ from: station, rest: { former-paths: [Alerts] } }, { from: alert_threshold, name: Alerts }]\n",
        "rest-path",
        "the same path 'Alerts'"
    )]
    [InlineData(
        "sets: [{ from: station, rest: { path: a/b } }, { from: alert_threshold, rest: { path: a } }]\n",
        "rest-path",
        "lies below 'a'"
    )]
    [InlineData("sets: [{ from: station, rest: { path: openapi.json } }]\n", "rest-path", "is a document")]
    [InlineData("sets: [{ from: station, rest: { cache-seconds: 0 } }]\n", "number", "'cache-seconds'")]
    public async Task What_cannot_be_is_told(string service, string code, string message)
    {
        using var folder = new TestWorkspace();
        await using var loaded = await LoadAsync(folder, service);
        var fault = loaded.Diagnostics.Items.FirstOrDefault(d => d.Code == code);
        Assert.True(fault is not null, string.Join('\n', loaded.Diagnostics.Items.Select(d => d.Render())));
        Assert.Contains(message, fault.Message);
    }

    [Theory]
    [InlineData("/water", "/water")]
    [InlineData("/water/north", "/water")]
    [InlineData("/rest/t", null)]
    public async Task Two_services_share_no_path(string one, string? other)
    {
        using var folder = new TestWorkspace();
        folder.Write(
            "services/t.yaml",
            $"title: T\nsource: main\nrules: {{ read: anyone }}\n{(other is null ? "" : $"rest: {{ base: {other} }}\n")}sets: [station]\n"
        );
        await using var loaded = await LoadAsync(folder, $"rest: {{ base: {one} }}\nsets: [station]\n");
        Assert.Contains(loaded.Diagnostics.Items, d => d.Code == "rest-base" && d.Message.Contains("stand at the same path"));
    }

    [Fact]
    public async Task A_pattern_that_means_nothing_is_told()
    {
        using var folder = new TestWorkspace();
        await using var loaded = await LoadAsync(folder, Both, "faces: { rest: [s, 'water*'] }\n");
        Assert.Contains(loaded.Diagnostics.Items, d => d.Code == "faces" && d.Message.Contains("'water*'"));
    }
}
