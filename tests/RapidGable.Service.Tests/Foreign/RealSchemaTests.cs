using System.Diagnostics;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>
/// The schema of an application that nobody here knows, as its makers wrote it for each engine, from one command to a verified
/// service.
/// </summary>
[Collection("engines")]
public sealed class RealSchemaTests(EnginesFixture engines) : IDisposable
{
    private readonly TestWorkspace _files = new();

    public void Dispose() => _files.Dispose();

    private static string SqlFile(string engine)
    {
        var file = Path.Combine(Gable.Root, "artifacts/real-schema", engine + ".sql");
        Assert.True(File.Exists(file), "Fetch it with scripts/need-real-schema first.");
        return file;
    }

    /// <summary>Runs a file of statements in an engine's own client; data that need what is not installed are left out.</summary>
    private static async Task LoadAsync(string file, string command, params string[] arguments)
    {
        using var process = Process.Start(
            new ProcessStartInfo(command, arguments)
            {
                RedirectStandardInput = true,
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        var (output, errors) = (process.StandardOutput.ReadToEndAsync(), process.StandardError.ReadToEndAsync());
        await process.StandardInput.WriteAsync(await File.ReadAllTextAsync(file));
        process.StandardInput.Close();
        await process.WaitForExitAsync();
        Assert.True(process.ExitCode == 0, await output + await errors);
    }

    private async Task<string> DatabaseAsync(string engine)
    {
        switch (engine)
        {
            case "postgresql":
                var first = await engines.Postgres.CreateDatabaseAsync();
                await LoadAsync(SqlFile(engine), "psql", "-q", engines.Postgres.Uri(first));
                return engines.Postgres.Uri(first);
            case "mariadb":
                var second = await engines.MariaDb.CreateDatabaseAsync();
                await LoadAsync(
                    SqlFile(engine),
                    "mariadb",
                    "--force",
                    "-h",
                    "127.0.0.1",
                    "-P",
                    engines.MariaDb.Port.ToString(),
                    "-u",
                    "tester",
                    "-p" + MariaDbServer.Password,
                    second
                );
                return engines.MariaDb.Uri(second);
            default:
                return ForeignWorkspace.SqliteFile(_files, await File.ReadAllTextAsync(SqlFile(engine)));
        }
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public async Task It_is_verified_reading_writing_and_by_who_may_do_what(string engine)
    {
        using var workspace = await ForeignWorkspace.NewAsync(await DatabaseAsync(engine));
        var closed = await Gable.RunAsync(workspace.Folder, "verify", "--json");
        Assert.True(closed.Code == 0 && closed.Json.GetProperty("passed").GetInt32() > 300, closed.Output + closed.Errors);
        var check = await Gable.RunAsync(workspace.Opened().Folder, "check");
        Assert.True(check.Code == 0, check.Output + check.Errors);
        var verify = await Gable.RunAsync(workspace.Folder, "verify", "--writes", "--access");
        Assert.True(verify.Code == 0, verify.Output + verify.Errors);
    }
}
