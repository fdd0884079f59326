using System.Collections.Immutable;
using CsCheck;
using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;

namespace RapidGable.Core.Tests;

/// <summary>On SQLite.</summary>
public sealed class SqlitePagingTests : PagingTests
{
    internal override Task PrepareAsync(TestWorkspace folder, string insert)
    {
        folder
            .WithSource()
            .WithDatabase(
                "CREATE TABLE row (k TEXT NOT NULL, no INTEGER NOT NULL, n INTEGER, r REAL, s TEXT, d DATE, b BOOLEAN NOT "
                    + "NULL, PRIMARY KEY (k, no)); "
                    + insert
            );
        return Task.CompletedTask;
    }
}

/// <summary>On PostgreSQL, where each page is read through a prepared statement with typed parameters.</summary>
public sealed class PostgresPagingTests(PostgresServer server) : PagingTests, IClassFixture<PostgresServer>
{
    internal override async Task PrepareAsync(TestWorkspace folder, string insert)
    {
        var database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(
            database,
            "CREATE TABLE row (k TEXT NOT NULL, no BIGINT NOT NULL, n INTEGER, r REAL, s TEXT, d DATE, b BOOLEAN NOT NULL, "
                + "PRIMARY KEY (k, no)); "
                + insert
        );
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(database));
    }
}

/// <summary>On MariaDB.</summary>
public sealed class MariaDbPagingTests(MariaDbServer server) : PagingTests, IClassFixture<MariaDbServer>
{
    internal override async Task PrepareAsync(TestWorkspace folder, string insert)
    {
        var database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(
            database,
            "CREATE TABLE `row` (k VARCHAR(9) NOT NULL, no BIGINT NOT NULL, n INTEGER, r DOUBLE, s TEXT, d DATE, b BOOLEAN NOT NULL, "
                + "PRIMARY KEY (k, no)); "
                + insert.Replace("INTO row", "INTO `row`")
        );
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(database));
    }
}

/// <summary>Pages are exact: in any order, with nulls and ties, the pages together are the whole, each row once and in place.</summary>
public abstract class PagingTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private Building.LoadedWorkspace _workspace = null!;
    private PublishedService _service = null!;

    internal abstract Task PrepareAsync(TestWorkspace folder, string insert);

    public async Task InitializeAsync()
    {
        var random = new Random(7);
        string Value(params string[] values) => values[random.Next(values.Length)];
        var rows = Enumerable
            .Range(1, 120)
            .Select(i =>
                $"({Value("'a'", "'b'", "'Ä'", "''")}, {i}, {Value("NULL", "1", "2", "3")}, "
                + $"{Value("NULL", "0.5", "-1.25", "0.5")}, {Value("NULL", "'x'", "'y'", "'y '")}, "
                + $"{Value("NULL", "'2024-01-01'", "'2023-05-05'")}, {Value("false", "true")})"
            );
        await PrepareAsync(_folder, $"INSERT INTO row VALUES {string.Join(",", rows)}");
        _folder.WithService("  - { from: row, largest-page: 1000, page: 1000 }\n");
        _workspace = await _folder.LoadAsync();
        _service = new PublishedService(_workspace.Services[0].Model, _workspace.Sources, "r");
    }

    public async Task DisposeAsync()
    {
        await _workspace.DisposeAsync();
        _folder.Dispose();
    }

    private async Task<(List<string> Rows, ImmutableArray<StoredValue>? Next)> PageAsync(string options, int size)
    {
        var lexed = NetworkFixture.Lex("row?$select=k,no&" + options).Value!;
        var prepared = _service.Prepare(lexed, Caller.Anonymous);
        Assert.True(prepared.Fault is null, prepared.Fault?.Message);
        var values = QueryValues.Make(prepared.Value!.Request, lexed, size, DateTime.UnixEpoch);
        Assert.True(values.Fault is null, values.Fault?.Message);
        await using var run = (await QueryRun.StartAsync(prepared.Value, values.Value!, CancellationToken.None)).Value!;
        var rows = new List<string>();
        ImmutableArray<StoredValue> last = [];
        for (var more = run.HasRow; more; more = await run.Rows.ReadAsync(CancellationToken.None))
        {
            if (rows.Count == values.Value!.PageRows)
                return (rows, last);
            rows.Add($"{run.Rows.GetStored(0)} {run.Rows.GetStored(1)}");
            last = [.. run.Query.Shape.OrderColumns.Select(run.Rows.GetStored)];
        }
        return (rows, null);
    }

    [Fact]
    [Proves("X-04 to X-08")]
    public void Pages_in_any_order_make_the_whole()
    {
        var term = Gen.Select(
            Gen.OneOf(Array.ConvertAll(new[] { "n", "r", "s", "d", "b", "k", "no", "length(s)", "n add 1", "contains(s,'y')" }, Gen.Const)),
            Gen.Bool,
            (e, d) => e + (d ? " desc" : "")
        );
        Gen.Select(
                term.Array[0, 4],
                Gen.Int[1, 50],
                Gen.OneOf(Array.ConvertAll(new[] { "", "n gt 1", "not (n gt 1)", "s ne 'y'" }, Gen.Const))
            )
            .Sample(
                (terms, size, filter) =>
                {
                    var options =
                        (terms.Length > 0 ? $"$orderby={string.Join(',', terms)}&" : "") + (filter.Length > 0 ? $"$filter={filter}&" : "");
                    var order = terms.Length > 0 ? string.Join(',', terms) : "";
                    var whole = PageAsync(options, 1000).Result.Rows;
                    var walked = new List<string>();
                    var position = "";
                    for (var pages = 0; ; pages++)
                    {
                        Assert.True(pages <= whole.Count, "the pages do not end");
                        var (rows, next) = PageAsync(options + position, size).Result;
                        walked.AddRange(rows);
                        if (next is not { } last)
                            break;
                        position = "$skiptoken=" + new PagePosition(OrderPrint.Of(_service.Model.Sets[0], order), last).Write();
                    }
                    Assert.Equal(whole, walked);
                },
                iter: 300,
                threads: 1
            );
    }

    [Fact]
    [Proves("Q-112")]
    public void A_position_of_another_order_is_refused()
    {
        var token = new PagePosition(
            OrderPrint.Of(_service.Model.Sets[0], "n"),
            [StoredValue.From(1), StoredValue.From("a"), StoredValue.From(1)]
        ).Write();
        var lexed = NetworkFixture.Lex("row?$orderby=s&$skiptoken=" + token).Value!;
        var request = _service.Prepare(lexed, Caller.Anonymous).Value!.Request;
        Assert.Equal("skiptoken", QueryValues.Make(request, lexed, null, DateTime.UnixEpoch).Fault?.Code);
        var shorter = new PagePosition(OrderPrint.Of(_service.Model.Sets[0], "n"), [StoredValue.From(1)]).Write();
        var cut = _service.Prepare(NetworkFixture.Lex("row?$orderby=n&$skiptoken=" + shorter).Value!, Caller.Anonymous);
        // The order is the one that was asked for, so the set has another key now.
        Assert.Equal("gone", cut.Fault?.Code);
    }
}
