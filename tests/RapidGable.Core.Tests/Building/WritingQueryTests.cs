using Npgsql;
using RapidGable.Access;
using RapidGable.Inspection;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Core.Tests;

/// <summary>A query whose SELECT calls a function that writes.</summary>
public sealed class WritingQueryTests(PostgresServer server) : IClassFixture<PostgresServer>
{
    [Fact]
    public async Task A_write_in_a_function_is_found_by_the_proof_and_never_done()
    {
        var database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(
            database,
            "CREATE TABLE hit (n int); "
                + "CREATE FUNCTION hit_it(k int) RETURNS int LANGUAGE sql AS 'INSERT INTO hit VALUES (k) RETURNING n'"
        );
        using var folder = new TestWorkspace();
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", server.SourceFile(database))
            .Write(
                "services/s.yaml",
                "source: main\nrules: { read: anyone }\n"
                    + "queries:\n  - { name: Q, select: SELECT hit_it(:k) AS n, parameters: { k: int32 } }\n"
            );
        await using var loaded = await folder.LoadAsync();
        Assert.Empty(loaded.Diagnostics.Items);
        var finding = Assert.Single(await DataProof.ProveAsync(loaded, _ => { }, CancellationToken.None));
        Assert.Contains("read-only", finding.Fault);
        // Whoever publishes it all the same does not write either.
        var service = new PublishedService(loaded.Services[0].Model, loaded.Sources, "r");
        var lexed = NetworkFixture.Lex("Q(k=1)").Value!;
        var prepared = service.Prepare(lexed, Caller.Anonymous).Value!;
        var values = QueryValues.Make(prepared.Request, lexed, null, DateTime.UnixEpoch).Value!;
        await Assert.ThrowsAsync<SourceException>(() => QueryRun.StartAsync(prepared, values, CancellationToken.None));
        await using var connection = new NpgsqlConnection(server.Connection(database));
        await connection.OpenAsync();
        await using var count = new NpgsqlCommand("SELECT COUNT(*) FROM hit", connection);
        Assert.Equal(0L, await count.ExecuteScalarAsync());
    }
}
