using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>
/// Clients that are in use, as they come: the adaptors of two grids, a generated typed client, and a strict reader of metadata.
/// </summary>
[Collection("clients")] // they write into one folder
public sealed class ClientTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private RunningService _service = null!;

    private string Root => _service.Address + "/odata/s/";

    public async Task InitializeAsync()
    {
        _folder
            .Write("workspace.yaml", "title: C\n")
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .WithDatabase(
                """
                CREATE TABLE station (id INTEGER PRIMARY KEY, name TEXT NOT NULL, opened_on DATE, depth_m DECIMAL(8,2), active BOOLEAN NOT NULL DEFAULT 1, seen_at TIMESTAMP, version INTEGER NOT NULL DEFAULT 1);
                CREATE TABLE visit (id INTEGER PRIMARY KEY, station_id INTEGER NOT NULL REFERENCES station, day DATE NOT NULL, note TEXT);
                WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 251)
                    INSERT INTO station SELECT i, 'Station ' || i, date('2020-01-01', '+' || i || ' days'), i * 1.25, i % 3 > 0, '2024-01-01 10:00:00', 1 FROM n;
                INSERT INTO visit SELECT id, id, opened_on, 'first' FROM station;
                """
            );
        _folder.Write(
            "services/s.yaml",
            """
            title: Stations
            source: main
            namespace: Alder
            names: pascal-case
            rules: { read: anyone, create: anyone, update: anyone, delete: anyone }
            sets:
              - { from: station, version: version, allow: [read, create, update, delete] }
              - { from: visit, allow: [read, create, update, delete] }
            """
        );
        _service = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _service.DisposeAsync();
        _folder.Dispose();
    }

    [Fact]
    public async Task A_grids_manager_pages_filters_and_writes() =>
        Assert.Equal(
            """{"pages":[200,51,251],"number":11,"date":1,"dates":3,"sorted":[249,248,247],"expanded":1,"made":[true,"2024-05-01",2.5],"changed":"Changed","conflict":"Changed","batch":["Changed again","Of a batch"],"left":251}""",
            await Clients.RunAsync("node", "grid-manager.cjs", Root)
        );

    [Fact]
    public async Task A_grids_store_pages_filters_and_writes() =>
        Assert.Equal(
            """{"total":251,"all":251,"taken":200,"number":11,"date":1,"dates":3,"sorted":[249,248,247],"byKey":"Station 3","expanded":1,"made":[true,"2024-05-01",7.25],"changed":"Changed","gone":404,"left":251}""",
            await Clients.RunAsync("node", "grid-store.cjs", Root)
        );

    [Fact]
    public async Task A_typed_client_is_generated_compiled_and_used()
    {
        Directory.CreateDirectory(Path.Combine(Clients.Folder, "generated"));
        await File.WriteAllTextAsync(
            Path.Combine(Clients.Folder, "generated/metadata.xml"),
            (await _service.SendAsync("/odata/s/$metadata")).Text
        );
        await Clients.RunAsync("npx", "odata2ts");
        await Clients.RunAsync("npx", "tsc", "-p", ".");
        Assert.Equal(
            """{"taken":[200,251],"number":11,"date":[[1,1]],"made":[true,3.5],"changed":"Changed","gone":"OData server responded with error: There is no such entity."}""",
            await Clients.RunAsync("node", "generated/js/typed-client.js", Root)
        );
    }
}
