using Microsoft.Data.Sqlite;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Demo;
using RapidGable.Expressions;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Core.Tests;

/// <summary>A workspace in a temporary folder, for as long as a test needs it.</summary>
internal sealed class TestWorkspace : IDisposable
{
    public TestWorkspace() => Directory.CreateDirectory(Folder);

    public string Folder { get; } = Path.Combine(Path.GetTempPath(), "gable-test-" + Guid.NewGuid().ToString("N")[..12]);

    public TestWorkspace Write(string file, string text)
    {
        var path = Path.Combine(Folder, file);
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        File.WriteAllText(path, text);
        return this;
    }

    /// <summary>Writes the two files that every workspace has; the database is <c>data.db</c>.</summary>
    public TestWorkspace WithSource() =>
        Write("workspace.yaml", "title: Test\n").Write("sources/main.yaml", "engine: sqlite\nfile: data.db\n");

    public TestWorkspace WithDatabase(string sql)
    {
        using var connection = new SqliteConnection($"Data Source={Path.Combine(Folder, "data.db")};Pooling=False;Foreign Keys=False");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
        return this;
    }

    public TestWorkspace WithNetwork(int readings = 500)
    {
        NetworkDatabase.Make(Path.Combine(Folder, "data.db"), readings, _ => { });
        return this;
    }

    public TestWorkspace WithLab()
    {
        LabDatabase.Make(Path.Combine(Folder, "lab.db"));
        return Write("sources/lab.yaml", "engine: sqlite\nfile: lab.db\n");
    }

    public TestWorkspace WithService(string sets, string name = "s") =>
        Write($"services/{name}.yaml", $"title: S\nsource: main\nnamespace: T\nrules:\n  read: anyone\nsets:\n{sets}");

    public Task<LoadedWorkspace> LoadAsync() => WorkspaceLoader.LoadAsync(Folder, _ => null, CancellationToken.None);

    public (WorkspaceDeclaration Workspace, Diagnostics Diagnostics) Read() =>
        WorkspaceReader.Read(new WorkspaceFolder(Folder), name => name == "KNOWN" ? "data.db" : null);

    public void Dispose() => Directory.Delete(Folder, recursive: true);
}

/// <summary>The demo's database with every table published under its own name and open to anyone.</summary>
public sealed class NetworkFixture : IAsyncLifetime
{
    public const string AllSets = """
          - { from: catchment, name: Catchments, type: Catchment }
          - { from: station, name: Stations, type: Station, hide: [photo], page: 50, largest-page: 100 }
          - { from: sensor, name: Sensors, type: Sensor }
          - { from: reading, name: Readings, type: Reading, page: 100, largest-page: 1000 }
          - { from: technician, name: Technicians, type: Technician }
          - { from: certificate, name: Certificates, type: Certificate }
          - { from: technician_certificate, name: Grants, type: Grant }
          - { from: visit, name: Visits, type: Visit }
          - { from: visit_task, name: VisitTasks, type: VisitTask }
          - { from: station_latest, name: Latest, type: LatestReading, key: station_id }
          - group
          - wide_form

        """;

    private readonly TestWorkspace _folder = new();

    public LoadedWorkspace Workspace { get; private set; } = null!;

    public PublishedService Service { get; private set; } = null!;

    public async Task InitializeAsync()
    {
        _folder.WithSource().WithNetwork().WithService(AllSets);
        Workspace = await _folder.LoadAsync();
        Assert.Empty(Workspace.Diagnostics.Items);
        Service = new PublishedService(Workspace.Services[0].Model, Workspace.Sources, "r");
    }

    public async Task DisposeAsync()
    {
        await Workspace.DisposeAsync();
        _folder.Dispose();
    }

    /// <summary>Prepares a request given as <c>path?query</c>, not encoded.</summary>
    public Result<PreparedRequest> Prepare(string url) =>
        Lex(url).Is(out var lexed, out var fault) ? Service.Prepare(lexed, Caller.Anonymous) : fault;

    public static Result<LexedRequest> Lex(string url)
    {
        var parts = url.Split('?', 2);
        return RequestAddress.Read(parts[0], parts.Length > 1 ? parts[1].Replace(" ", "%20") : "").Is(out var address, out var fault)
            ? LexedRequest.Read(address)
            : fault;
    }

    /// <summary>The first column of each row of an answer, as text.</summary>
    public async Task<List<string>> FirstColumnAsync(string url, int? maxPageSize = null)
    {
        var lexed = Lex(url).Value!;
        var prepared = Service.Prepare(lexed, Caller.Anonymous);
        Assert.True(prepared.Fault is null, prepared.Fault?.Message);
        var values = QueryValues
            .Make(prepared.Value!.Request, lexed, maxPageSize, new DateTime(2024, 5, 1, 0, 0, 0, DateTimeKind.Utc))
            .Value!;
        await using var run = (await QueryRun.StartAsync(prepared.Value, values, CancellationToken.None)).Value!;
        var rows = new List<string>();
        for (var more = run.HasRow; more && rows.Count < values.PageRows; more = await run.Rows.ReadAsync(CancellationToken.None))
            rows.Add(run.Rows.GetStored(0).ToString());
        return rows;
    }
}
