using System.Text.RegularExpressions;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>docs/queries.md says what is: its declarations are sound and do what they say.</summary>
[Collection("engines")]
public sealed partial class QueryGuideTests(EnginesFixture engines)
{
    private static readonly string Guide = File.ReadAllText(Path.Combine(Gable.Root, "docs/queries.md"));

    /// <summary>The first declaration below a heading.</summary>
    private static string Example(string heading) => Guide.Split($"\n## {heading}\n")[1].Split("```yaml\n")[1].Split("```")[0];

    /// <summary>A workspace over the demo's tables in PostgreSQL, with one service.</summary>
    private TestWorkspace Workspace(string service)
    {
        var source = File.ReadAllText(Path.Combine(engines.PostgresFolder.Folder, "sources/main.yaml"));
        return new TestWorkspace()
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", source + "read-only: false\n")
            .Write(
                "services/water.yaml",
                $"title: W\nsource: main\nnamespace: Water\nrules: {{ read: anyone, call: anyone, create: anyone }}\n{service}"
            );
    }

    [Fact]
    public async Task What_is_asked_of_an_entity_answers()
    {
        using var folder = Workspace(
            "sets:\n  - { from: station, name: Stations, type: Station, hide: [photo] }\nqueries:\n"
                + Example("Asked of an entity")
                + Example("Routines")
        );
        await using var service = await RunningService.StartAsync(folder.Folder);
        Assert.Equal(200, (await service.SendAsync("/odata/water/Stations(7)/Water.ReadingsAbove(above=2.5)")).Status);
        Assert.Equal(200, (await service.SendAsync("/rest/water/Stations/7/ReadingsAbove?above=2.5")).Status);
        Assert.Equal(404, (await service.SendAsync("/rest/water/Stations/70000/ReadingsAbove?above=2.5")).Status);
        var near = await service.SendAsync("/odata/water/StationsWithin(latitude=52.4,longitude=-1.6,kilometres=500)?$top=1&$select=code");
        Assert.Contains("$metadata#Stations(code)", near.Text);
        Assert.Equal(405, (await service.SendAsync("/odata/water/CloseStation")).Status);
    }

    [Fact]
    public async Task Changes_of_a_set_are_carried_out()
    {
        using var folder = Workspace(Example("Changes of a set"));
        await using var service = await RunningService.StartAsync(folder.Folder);
        const string New = "{\"station\":\"AB-001\",\"planned_for\":\"2031-05-01\",\"purpose\":\"Inspection\"}";
        var made = await service.SendAsync("/odata/water/PlannedVisits", "POST", New);
        Assert.True(made.Status == 201, made.Text);
        Assert.Contains("\"station\":\"AB-001\",\"planned_for\":\"2031-05-01\"", made.Text);
        var refused = await service.SendAsync("/odata/water/PlannedVisits", "POST", New.Replace("AB-001", "XX-001"));
        Assert.True(refused.Status == 422 && refused.Text.Contains("There is no station XX-001."), refused.Text);
        await engines.Postgres.ExecuteAsync(DatabaseOf(folder), "DELETE FROM visit WHERE planned_for = '2031-05-01'");
    }

    private static string DatabaseOf(TestWorkspace folder) =>
        DatabasePattern().Match(File.ReadAllText(Path.Combine(folder.Folder, "sources/main.yaml"))).Groups[1].Value;

    [GeneratedRegex(@"database: (\S+)")]
    private static partial Regex DatabasePattern();

    [Fact]
    public async Task The_action_is_sound()
    {
        using var folder = Workspace("queries:\n" + Example("Actions"));
        await using var loaded = await folder.LoadAsync();
        Assert.DoesNotContain(loaded.Diagnostics.Items, d => d.Severity == Declarations.Severity.Error);
    }
}
