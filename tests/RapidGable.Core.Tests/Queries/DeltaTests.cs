using System.Text.Json;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Core.Tests;

/// <summary>On SQLite.</summary>
public sealed class SqliteDeltaTests : DeltaTests
{
    internal override Task PrepareAsync(TestWorkspace folder, string tables)
    {
        folder.WithSource().WithDatabase(tables);
        return Task.CompletedTask;
    }

    internal override Task ExecuteAsync(string sql)
    {
        Folder.WithDatabase(sql);
        return Task.CompletedTask;
    }
}

/// <summary>On PostgreSQL.</summary>
public sealed class PostgresDeltaTests(PostgresServer server) : DeltaTests, IClassFixture<PostgresServer>
{
    private string _database = "";

    internal override async Task PrepareAsync(TestWorkspace folder, string tables)
    {
        _database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(_database, tables);
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(_database));
    }

    internal override Task ExecuteAsync(string sql) => server.ExecuteAsync(_database, sql);
}

/// <summary>On MariaDB.</summary>
public sealed class MariaDbDeltaTests(MariaDbServer server) : DeltaTests, IClassFixture<MariaDbServer>
{
    private string _database = "";

    internal override async Task PrepareAsync(TestWorkspace folder, string tables)
    {
        _database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(_database, tables.Replace("TIMESTAMP(", "DATETIME("));
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(_database));
    }

    internal override Task ExecuteAsync(string sql) => server.ExecuteAsync(_database, sql);
}

/// <summary>Changes are told once they have happened, and each of them.</summary>
public abstract class DeltaTests : IAsyncLifetime
{
    private Building.LoadedWorkspace _workspace = null!;
    private PublishedService _service = null!;

    internal TestWorkspace Folder { get; } = new();

    internal abstract Task PrepareAsync(TestWorkspace folder, string tables);

    internal abstract Task ExecuteAsync(string sql);

    public async Task InitializeAsync()
    {
        await PrepareAsync(
            Folder,
            """
            CREATE TABLE item (id BIGINT PRIMARY KEY, name VARCHAR(20), n BIGINT, seq BIGINT NOT NULL);
            CREATE TABLE item_deleted (id BIGINT, seq BIGINT NOT NULL);
            CREATE TABLE moment (id BIGINT PRIMARY KEY, changed_at TIMESTAMP(6) NOT NULL);
            INSERT INTO item VALUES (1, 'a', 1, 1), (2, 'b', 2, 2), (3, 'c', 3, 2), (4, 'd', 4, 3), (5, 'e', 5, 3);
            """
        );
        Folder.Write(
            "services/s.yaml",
            """
            title: S
            source: main
            rules: { read: anyone }
            page: 2
            sets:
              - { from: item, version: seq, changes: { stamp: seq, deleted: { from: item_deleted, stamp: seq } } }
              - { from: moment, changes: changed_at }
            """
        );
        _workspace = await Folder.LoadAsync();
        Assert.Empty(_workspace.Diagnostics.Items);
        _service = new PublishedService(_workspace.Services[0].Model, _workspace.Sources, "r");
    }

    public async Task DisposeAsync()
    {
        await _workspace.DisposeAsync();
        Folder.Dispose();
    }

    private RequestFault? Fault(string url) =>
        NetworkFixture.Lex(url) is { Fault: { } wrong } ? wrong
        : _service.Prepare(NetworkFixture.Lex(url).Value!, Caller.Anonymous) is { Fault: { } bad } ? bad
        : QueryValues
            .Make(
                _service.Prepare(NetworkFixture.Lex(url).Value!, Caller.Anonymous).Value!.Request,
                NetworkFixture.Lex(url).Value!,
                null,
                DateTime.UnixEpoch
            )
            .Fault;

    private async Task<JsonElement> GetAsync(string url, bool tracks = false, ODataVersion version = ODataVersion.V401)
    {
        url = url.Replace("http://x/", "");
        var mark = url.IndexOf('?');
        var address = RequestAddress.Read(mark < 0 ? url : url[..mark], mark < 0 ? "" : url[(mark + 1)..]).Value!;
        var lexed = LexedRequest.Read(address).Value!;
        var prepared = _service.Prepare(lexed, Caller.Anonymous);
        Assert.True(prepared.Fault is null, prepared.Fault?.Message);
        var values = QueryValues.Make(prepared.Value!.Request, lexed, null, DateTime.UnixEpoch);
        Assert.True(values.Fault is null, values.Fault?.Message);
        await using var run = (await QueryRun.StartAsync(prepared.Value, values.Value!, CancellationToken.None, tracks)).Value!;
        var bytes = new MemoryStream();
        using var output = new PayloadOutput(
            (b, _) =>
            {
                bytes.Write(b.Span);
                return default;
            }
        );
        await ODataJsonWriter
            .For(prepared.Value, new PayloadFormat(version, MetadataLevel.Minimal, false))
            .WriteAsync(run, new LinkBuilder("http://x/", lexed), output, CancellationToken.None);
        return JsonDocument.Parse(bytes.ToArray()).RootElement;
    }

    /// <summary>Follows next links to the end: what came, and the delta link.</summary>
    private async Task<(List<string> Items, string? Delta)> AllAsync(string url, bool tracks)
    {
        var items = new List<string>();
        for (var page = await GetAsync(url, tracks); ; page = await GetAsync(page.GetProperty("@nextLink").GetString()!))
        {
            foreach (var item in page.GetProperty("value").EnumerateArray())
                items.Add(
                    item.TryGetProperty("@removed", out var removed)
                        ? $"{item.GetProperty("@id").GetString()} {removed.GetProperty("reason").GetString()}"
                        : $"{item.GetProperty("id")}"
                );
            Assert.True(items.Count < 100);
            if (!page.TryGetProperty("@nextLink", out _))
                return (items, page.TryGetProperty("@deltaLink", out var link) ? link.GetString() : null);
        }
    }

    [Fact]
    [Proves("P-40, J-43 to J-45, J-48")]
    public async Task Changes_are_told_by_the_delta_link()
    {
        var (all, delta) = await AllAsync("item", tracks: true);
        Assert.Equal(["1", "2", "3", "4", "5"], all);
        Assert.Null((await AllAsync("item", tracks: false)).Delta);

        var (none, same) = await AllAsync(delta!, false);
        Assert.Empty(none);
        await ExecuteAsync(
            "UPDATE item SET name = 'x', seq = 4 WHERE id = 2; INSERT INTO item VALUES (6, 'f', 6, 5), (7, 'g', 7, 5), (8, "
                + "'h', 8, 6); DELETE FROM item WHERE id = 1; INSERT INTO item_deleted VALUES (1, 1)"
        );
        var (changes, next) = await AllAsync(same!, false);
        Assert.Equal(["2", "6", "7", "8", "item(1) deleted"], changes);
        Assert.Empty((await AllAsync(next!, false)).Items);
        // The first link still tells all that has happened since.
        Assert.Equal(changes, (await AllAsync(delta!, false)).Items);
    }

    [Fact] // rows that come later with the stamp that was the highest
    public async Task Nothing_is_lost_among_equal_stamps()
    {
        var (_, delta) = await AllAsync("item", tracks: true);
        await ExecuteAsync("INSERT INTO item VALUES (9, 'z', 9, 3)");
        Assert.Equal(["4", "5", "9"], (await AllAsync(delta!, false)).Items);
    }

    [Fact] // what no longer fulfils the filter has left the result
    [Proves("J-15, J-44, J-45, J-48")]
    public async Task A_filter_is_followed()
    {
        var (all, delta) = await AllAsync("item?$filter=n gt 3&$select=name,id", tracks: true);
        Assert.Equal(["4", "5"], all);
        await ExecuteAsync(
            "UPDATE item SET n = 0, seq = 4 WHERE id = 4; UPDATE item SET n = 10, seq = 5 WHERE id = 1; UPDATE item SET n = "
                + "NULL, seq = 6 WHERE id = 5"
        );
        Assert.Equal(["item(4) changed", "1", "item(5) changed"], (await AllAsync(delta!, false)).Items);
        var older = await GetAsync(delta!, version: ODataVersion.V40);
        Assert.Equal("http://x/$metadata#item(name,id)/$delta", older.GetProperty("@odata.context").GetString());
        Assert.Equal(
            """{"@odata.context":"http://x/$metadata#item/$deletedEntity","id":"item(4)","reason":"changed"}""",
            older.GetProperty("value")[0].GetRawText()
        );
    }

    [Fact]
    public async Task An_empty_set_is_followed_from_its_start()
    {
        var (all, delta) = await AllAsync("moment", tracks: true);
        Assert.Empty(all);
        Assert.Empty((await AllAsync(delta!, false)).Items);
        await ExecuteAsync("INSERT INTO moment VALUES (1, '2024-05-01 12:00:00.123456'), (2, '2024-05-01 12:00:00.123457')");
        var (changes, next) = await AllAsync(delta!, false);
        Assert.Equal(["1", "2"], changes);
        Assert.Empty((await AllAsync(next!, false)).Items);
    }

    [Fact]
    [Proves("U-52, Q-112")]
    public async Task A_wrong_link_is_refused()
    {
        var token = (await AllAsync("item", tracks: true)).Delta!.Split("$deltatoken=")[1];
        Assert.Equal((400, "deltatoken"), (Fault("item?$deltatoken=abc")?.Status, Fault("item?$deltatoken=abc")?.Code));
        Assert.Equal((410, "gone"), (Fault("moment?$deltatoken=" + token)?.Status, Fault("moment?$deltatoken=" + token)?.Code));
        Assert.Equal("option-not-here", Fault("item(1)?$deltatoken=" + token)?.Code);
        Assert.Equal("option-not-here", Fault($"item?$top=1&$deltatoken={token}")?.Code);
        Assert.Equal("option-not-here", Fault($"item?$orderby=name&$deltatoken={token}")?.Code);
    }

    [Fact] // the tag is the version's
    [Proves("P-45, J-24")]
    public async Task A_version_makes_the_tag()
    {
        Assert.Equal("W/\"1\"", (await GetAsync("item(1)")).GetProperty("@etag").GetString());
        Assert.Equal("W/\"2\"", (await GetAsync("item?$select=name")).GetProperty("value")[1].GetProperty("@etag").GetString());
    }
}
