using RapidGable.Access;
using RapidGable.Publishing;
using RapidGable.Queries;

namespace RapidGable.Core.Tests;

/// <summary>PostgreSQL is told who asks, and its own row security judges too.</summary>
public sealed class CallerSettingsTests(PostgresServer server) : IClassFixture<PostgresServer>
{
    private const string Tables = """
        DO $$ BEGIN CREATE ROLE field_staff; EXCEPTION WHEN duplicate_object THEN NULL; END $$;
        CREATE TABLE visit (id integer PRIMARY KEY, region text);
        INSERT INTO visit VALUES (1, 'north'), (2, 'south'), (3, 'east');
        GRANT SELECT ON visit TO field_staff;
        ALTER TABLE visit ENABLE ROW LEVEL SECURITY;
        CREATE POLICY own ON visit USING (region = ANY (string_to_array(current_setting('app.region', true), ',')) OR current_setting('app.user', true) = 'ines');
        """;

    private async Task<(TestWorkspace Folder, Building.LoadedWorkspace Workspace, PublishedService Service)> OpenAsync(string settings)
    {
        var folder = new TestWorkspace();
        var database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(database, Tables);
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write(
                "sources/main.yaml",
                server.SourceFile(database).Replace("sessions: 4", "sessions: 1", StringComparison.Ordinal) + settings
            )
            .WithService("  - { from: visit, name: Visits }\n");
        var workspace = await folder.LoadAsync();
        return (
            folder,
            workspace,
            workspace.Services.IsEmpty ? null! : new PublishedService(workspace.Services[0].Model, workspace.Sources, "r")
        );
    }

    private static async Task<string> IdsAsync(PublishedService service, Caller caller, string url = "Visits?$orderby=id")
    {
        var lexed = NetworkFixture.Lex(url).Value!;
        var prepared = service.Prepare(lexed, caller).Value!;
        var values = QueryValues.Make(prepared.Request, lexed, null, DateTime.UnixEpoch, caller).Value!;
        if (!(await QueryRun.StartAsync(prepared, values, CancellationToken.None)).Is(out var run, out var fault))
            return $"{fault.Status} {fault.Code}";
        await using (run)
        {
            var ids = new List<string>();
            for (var more = run.HasRow; more; more = await run.Rows.ReadAsync(CancellationToken.None))
                ids.Add(run.Rows.GetStored(0).ToString());
            return string.Join(',', ids);
        }
    }

    private static Caller Of(string name, params (string, string)[] attributes) =>
        Caller.WithRoles() with
        {
            Name = name,
            Attributes = Caller.AttributesOf(attributes),
        };

    [Fact] // one connection serves them all, one after the other
    public async Task The_database_judges_by_who_asks()
    {
        var (folder, workspace, service) = await OpenAsync(
            "caller-settings: { role: database_role, app.user: user, app.region: region }\n"
        );
        using var closing = folder;
        await using var open = workspace;
        Assert.Empty(workspace.Diagnostics.Items.Select(d => d.Render()));
        (string, string) role = ("database_role", "field_staff");
        Assert.Equal("1", await IdsAsync(service, Of("tom", role, ("region", "north"))));
        Assert.Equal("1,2,3", await IdsAsync(service, Of("ines", role)));
        Assert.Equal("", await IdsAsync(service, Of("tom", role)));
        Assert.Equal("2,3", await IdsAsync(service, Of("tom", role, ("region", "south"), ("region", "east"))));
        Assert.Equal("", await IdsAsync(service, Of("tom", role, ("region", "no'rth; RESET ROLE"))));
        // Without a role of its own the service's would be used, which sees everything.
        Assert.Equal("403 forbidden", await IdsAsync(service, Of("tom", ("region", "north"))));
        Assert.Equal("403 forbidden", await IdsAsync(service, Of("tom", ("database_role", "none"))));
        Assert.Equal("403 forbidden", await IdsAsync(service, Of("tom", role, ("database_role", "tester"))));
        Assert.Equal("403 forbidden", await IdsAsync(service, Caller.Anonymous));
        // What looks after the service is nobody, and not who asked last.
        await IdsAsync(service, Of("tom", role, ("region", "north")));
        await using var session = await workspace.Sources["main"].OpenSessionAsync(Sources.SessionKind.Plain, CancellationToken.None);
        await using var cursor = await session.QueryAsync(
            "SELECT current_user::text || ':' || coalesce(current_setting('app.region', true), '')",
            default,
            CancellationToken.None
        );
        await cursor.ReadAsync(CancellationToken.None);
        Assert.Equal("tester:", cursor.GetStored(0).Text);
    }

    [Theory]
    [InlineData("caller-settings: { search_path: region }", "is not a setting that a source can be told with")]
    [InlineData("caller-settings: { app.x: 'a b' }", "is not the name of an attribute")]
    [InlineData("caller-settings: 3", "'caller-settings' must hold names with values")]
    public async Task A_wrong_setting_is_told(string settings, string message)
    {
        var (folder, workspace, _) = await OpenAsync(settings + "\n");
        using var closing = folder;
        await using var open = workspace;
        Assert.Contains(workspace.Diagnostics.Items, d => d.Message.Contains(message, StringComparison.Ordinal));
    }

    [Fact]
    public async Task Other_engines_cannot_be_told()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase("CREATE TABLE t (id INTEGER PRIMARY KEY)")
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\ncaller-settings: { app.user: user }\n")
            .WithService("  - t\n");
        await using var workspace = await folder.LoadAsync();
        Assert.Contains(workspace.Diagnostics.Items, d =>
            d.Message.Contains("'caller-settings.app.user' is not a setting of a SQLite source", StringComparison.Ordinal)
        );
    }
}
