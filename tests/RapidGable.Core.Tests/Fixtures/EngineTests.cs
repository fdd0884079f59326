using System.Text;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;
using RapidGable.Sources;

namespace RapidGable.Core.Tests;

/// <summary>The engine that a test runs on.</summary>
public enum Engine
{
    Sqlite,
    PostgreSql,
    MariaDb,
}

/// <summary>Tables and one declaration, the same on every engine: <c>services/s.yaml</c> over <c>sources/main.yaml</c>.</summary>
public abstract class EngineTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null) : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private LoadedWorkspace _workspace = null!;

    protected Engine Engine => engine;

    private protected PublishedService Service { get; private set; } = null!;

    private protected TestWorkspace Folder => _folder;

    /// <summary>The database that all sets are in.</summary>
    private protected ISource Database => _workspace.Sources["main"];

    /// <summary>Statements that make the tables.</summary>
    protected abstract string Tables { get; }

    /// <summary>Whether the rows may be changed.</summary>
    protected virtual bool IsWritable => false;

    /// <summary>The service file.</summary>
    protected abstract string Declaration { get; }

    public async Task InitializeAsync()
    {
        _workspace = await LoadAsync(Declaration);
        Assert.Empty(_workspace.Diagnostics.Items.Select(d => d.Render()));
        Service = new PublishedService(_workspace.Services[0].Model, _workspace.Sources, "r");
    }

    public async Task DisposeAsync()
    {
        await _workspace.DisposeAsync();
        _folder.Dispose();
    }

    /// <summary>The workspace with another declaration over the same tables.</summary>
    private protected async Task<LoadedWorkspace> LoadAsync(string declaration)
    {
        if (!File.Exists(Path.Combine(_folder.Folder, "sources/main.yaml")))
            await PrepareAsync();
        return await _folder.Write("services/s.yaml", declaration).LoadAsync();
    }

    private async Task PrepareAsync()
    {
        if (engine == Engine.Sqlite)
        {
            _folder.WithSource().Write("sources/main.yaml", "engine: sqlite\nfile: data.db\n" + Writable).WithDatabase(Tables);
            return;
        }
        var database = postgres is not null ? await postgres.CreateDatabaseAsync() : await mariaDb!.CreateDatabaseAsync();
        await (postgres?.ExecuteAsync(database, Tables) ?? mariaDb!.ExecuteAsync(database, Tables));
        _folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", (postgres?.SourceFile(database) ?? mariaDb!.SourceFile(database)) + Writable);
    }

    private string Writable => IsWritable ? "read-only: false\n" : "";

    /// <summary>The answer at the level minimal of 4.01 with ' for " and # for the context; or the status and code of a fault.</summary>
    private protected async Task<string> GetAsync(string url, Caller? caller = null, PublishedService? service = null)
    {
        if (
            !NetworkFixture.Lex(url).Is(out var lexed, out var fault)
            || !(service ?? Service).Prepare(lexed, caller ?? Caller.Anonymous).Is(out var prepared, out fault)
            || !QueryValues.Make(prepared.Request, lexed, null, DateTime.UnixEpoch, caller).Is(out var values, out fault)
        )
            return $"{fault!.Status} {fault.Code}";
        if (!(await QueryRun.StartAsync(prepared, values, CancellationToken.None)).Is(out var started, out fault))
            return $"{fault.Status} {fault.Code}";
        await using var run = started;
        if (!run.ParentExists)
            return "404";
        if (prepared.Request.Path.Kind == ResourceKind.Count)
            return run.IsZero ? "0" : $"{run.Rows.GetInt64(0)}";
        if (prepared.Request.Path.Kind != ResourceKind.Collection && !run.HasRow)
            return "404";
        var bytes = new MemoryStream();
        using var output = new PayloadOutput(
            (b, _) =>
            {
                bytes.Write(b.Span);
                return default;
            }
        );
        await ODataJsonWriter
            .For(prepared, new PayloadFormat(ODataVersion.V401, MetadataLevel.Minimal, false))
            .WriteAsync(run, new LinkBuilder("", LexedRequest.Read("x", "").Value!), output, CancellationToken.None);
        return Encoding.UTF8.GetString(bytes.ToArray()).Replace('"', '\'').Replace("'@context':'$metadata#", "'#").Replace(".00", "");
    }
}
