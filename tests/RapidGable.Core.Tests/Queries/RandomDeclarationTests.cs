using RapidGable.Publishing;

namespace RapidGable.Core.Tests;

public sealed class SqliteRandomDeclarationTests() : RandomDeclarationTests(Engine.Sqlite);

public sealed class PostgresRandomDeclarationTests(PostgresServer server)
    : RandomDeclarationTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>;

public sealed class MariaDbRandomDeclarationTests(MariaDbServer server)
    : RandomDeclarationTests(Engine.MariaDb, null, server),
        IClassFixture<MariaDbServer>;

/// <summary>Random declarations over random tables: random queries must be answered as an evaluator in memory answers them.</summary>
public abstract class RandomDeclarationTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
{
    private int Worlds => engine == Engine.Sqlite ? 16 : 8;

    private string Quote(string name) => engine == Engine.MariaDb ? $"`{name}`" : $"\"{name}\"";

    [Fact]
    public async Task Whatever_is_declared_the_answer_is_that_of_an_evaluator_in_memory()
    {
        for (var seed = 1; seed <= Worlds * Soak.Times; seed++)
        {
            var world = new RandomWorld(seed, Quote);
            using var folder = new TestWorkspace();
            await PrepareAsync(folder, world.Tables);
            await using var workspace = await folder.Write("services/s.yaml", world.Declaration).LoadAsync();
            Assert.True(
                workspace.Diagnostics.Items.Count == 0,
                $"world {seed}: {string.Join('\n', workspace.Diagnostics.Items.Select(d => d.Render()))}\n{world.Declaration}"
            );
            var service = new PublishedService(workspace.Services[0].Model, workspace.Sources, "r");
            try
            {
                foreach (var set in world.Sets.Values)
                {
                    await RandomCases.QueriesAsync(service, set, 25, fixedCases: true);
                    await RandomCases.QueriesAsync(service, set, 8, maxPage: 1 + (seed % 5), fixedCases: true);
                    await RandomCases.AggregatesAsync(service, set, 12, fixedCases: true);
                }
            }
            catch (Xunit.Sdk.XunitException exception)
            {
                throw new InvalidOperationException($"world {seed}\n{exception.Message}\n{world.Declaration}\n{world.Tables}", exception);
            }
        }
    }

    private async Task PrepareAsync(TestWorkspace folder, string tables)
    {
        if (engine == Engine.Sqlite)
        {
            folder.WithSource().WithDatabase(tables);
            return;
        }
        var database = postgres is not null ? await postgres.CreateDatabaseAsync() : await mariaDb!.CreateDatabaseAsync();
        await (postgres?.ExecuteAsync(database, tables) ?? mariaDb!.ExecuteAsync(database, tables));
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", postgres?.SourceFile(database) ?? mariaDb!.SourceFile(database));
    }
}
