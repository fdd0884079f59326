using System.Net;
using System.Text;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The real process with a small heap: what wants more gets 503, and the process goes on.</summary>
[Trait("Category", "Attack")]
public sealed class HardLimitTests : IDisposable
{
    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase(
            """
            CREATE TABLE note (id INTEGER PRIMARY KEY, body TEXT);
            WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 200)
            INSERT INTO note SELECT i, hex(zeroblob(1000000)) FROM n;
            """
        )
        .Write(
            "services/s.yaml",
            "title: S\nsource: main\nnamespace: T\nrules: { read: anyone }\nsql: { who: anyone }\nsets:\n  - { from: note, name: Notes, type: Note }\n"
        );

    public void Dispose() => _folder.Dispose();

    [Fact]
    public async Task A_process_outlives_what_wants_more_memory_than_there_is()
    {
        var port = LocalServer.FreePort();
        // 192 MiB.
        var limit = new Dictionary<string, string> { ["DOTNET_GCHeapHardLimit"] = "0xC000000" };
        using var process = Gable.StartWith(limit, _folder.Folder, "serve", ".", "--port", $"{port}");
        try
        {
            var ready = Task.Run(async () =>
            {
                while (await process.StandardOutput.ReadLineAsync() is { } line && !line.StartsWith("Ready", StringComparison.Ordinal)) { }
            });
            _ = process.StandardError.ReadToEndAsync();
            await ready.WaitAsync(TimeSpan.FromMinutes(1));
            using var client = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{port}"), Timeout = TimeSpan.FromMinutes(2) };
            // Texts of 2 MB, thirty of them joined in each row, by many at once.
            var joined = string.Join(" || ", Enumerable.Repeat("body", 30));
            var statement = $"SELECT id, {joined} AS x FROM Notes ORDER BY id LIMIT 20";
            var sent = Enumerable
                .Range(0, 12)
                .Select(async _ =>
                {
                    using var body = new StringContent(statement, Encoding.UTF8, "application/sql");
                    try
                    {
                        using var answer = await client.PostAsync("/rest/s/sql", body);
                        return (HttpStatusCode?)answer.StatusCode;
                    }
                    catch (Exception exception) when (exception is HttpRequestException or IOException)
                    {
                        // An answer that had begun is cut.
                        return null;
                    }
                });
            foreach (var status in await Task.WhenAll(sent))
                Assert.True(
                    status is null or HttpStatusCode.ServiceUnavailable or HttpStatusCode.OK or HttpStatusCode.RequestEntityTooLarge,
                    $"{status}"
                );
            Assert.False(process.HasExited);
            using var after = await client.GetAsync("/odata/s/Notes?$select=id&$top=3");
            Assert.Equal(HttpStatusCode.OK, after.StatusCode);
        }
        finally
        {
            process.Kill(entireProcessTree: true);
            await process.WaitForExitAsync();
        }
    }
}
