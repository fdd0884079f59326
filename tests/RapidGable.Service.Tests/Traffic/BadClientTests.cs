using System.Net.Sockets;
using System.Text;
using Microsoft.Data.Sqlite;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>
/// Callers who go away, who do not read what they asked for, or who ask for far too much; with one session for all of them.
/// </summary>
[Trait("Category", "Attack")]
public sealed class BadClientTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, pad TEXT); INSERT INTO t WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL "
                + "SELECT i + 1 FROM n WHERE i < 40000) SELECT i, hex(zeroblob(500)) FROM n"
        )
        .WithService("  - { from: t, page: 100000, largest-page: 100000 }\n")
        .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nsessions: 1\n");

    private RunningService _http = null!;

    public async Task InitializeAsync() => _http = await RunningService.StartAsync(_folder.Folder);

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    /// <summary>Asks for 40 MB and reads only the beginning.</summary>
    private async Task<TcpClient> BeginAsync()
    {
        var uri = new Uri(_http.Address);
        var socket = new TcpClient { ReceiveBufferSize = 4096 };
        await socket.ConnectAsync(uri.Host, uri.Port);
        await socket.GetStream().WriteAsync(Encoding.ASCII.GetBytes("GET /odata/s/t HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n"));
        var start = new byte[1000];
        await socket.GetStream().ReadExactlyAsync(start);
        Assert.StartsWith("HTTP/1.1 200", Encoding.ASCII.GetString(start));
        return socket;
    }

    [Fact]
    public async Task A_caller_who_goes_away_leaves_the_session_to_others()
    {
        for (var i = 0; i < 5; i++)
            (await BeginAsync()).Dispose();
        Assert.Equal("40000", (await _http.SendAsync("/odata/s/t/$count")).Text);
    }

    [Fact] // the server cuts who reads less than it demands
    public async Task A_caller_who_does_not_read_is_cut()
    {
        using var idle = await BeginAsync();
        Assert.Equal("40000", (await _http.SendAsync("/odata/s/t/$count")).Text);
    }

    [Fact]
    public async Task A_table_cannot_go_away_while_it_is_read()
    {
        using var reader = await BeginAsync();
        using (var connection = new SqliteConnection($"Data Source={Path.Combine(_folder.Folder, "data.db")};Pooling=False"))
        {
            connection.Open();
            using var drop = new SqliteCommand("DROP TABLE t", connection) { CommandTimeout = 1 };
            Assert.Contains("locked", Record.Exception(() => drop.ExecuteNonQuery())?.Message);
        }
        reader.GetStream().ReadTimeout = 60_000;
        var text = new StringBuilder();
        var buffer = new byte[1 << 16];
        while (!text.ToString(Math.Max(0, text.Length - 10), Math.Min(10, text.Length)).EndsWith("0\r\n\r\n", StringComparison.Ordinal))
            text.Append(Encoding.ASCII.GetString(buffer, 0, await reader.GetStream().ReadAsync(buffer)));
        Assert.Contains("\"id\":40000", text.ToString());
    }

    [Theory]
    [InlineData("id in (", "1", ",", 50_000, ")", 413, "too-large")]
    [InlineData("", "id eq 1", " or ", 10_000, "", 413, "too-large")]
    [InlineData("id in (", "1", ",", 600, ")", 400, "too-large")]
    [InlineData("", "id eq 1", " or ", 500, "", 400, "too-large")]
    [InlineData("", "(", "", 900, "1", 400, "too-deep")]
    public async Task Far_too_much_is_refused(string before, string item, string between, int count, string after, int status, string code)
    {
        var filter = before + string.Join(between, Enumerable.Repeat(item, count)) + after;
        using var client = new HttpClient();
        using var answer = await client.PostAsync(
            _http.Address + "/odata/s/t/$query",
            new StringContent("$select=id&$filter=" + filter, Encoding.UTF8, "text/plain")
        );
        var error = System.Text.Json.JsonDocument.Parse(await answer.Content.ReadAsStringAsync()).RootElement.GetProperty("error");
        Assert.Equal((status, code), ((int)answer.StatusCode, error.GetProperty("code").GetString()));
    }

    [Theory] // what the header says of the length is not what comes
    [InlineData(
        "POST /odata/s/$batch HTTP/1.1\r\nContent-Type: application/json\r\nContent-Length: 5\r\n\r\n{\"requests\":[]}",
        "HTTP/1.1 400"
    )]
    [InlineData("POST /odata/s/$batch HTTP/1.1\r\nContent-Type: application/json\r\nContent-Length: -5\r\n\r\n{}", "HTTP/1.1 400")]
    [InlineData("POST /odata/s/t/$query HTTP/1.1\r\nContent-Type: text/plain\r\nContent-Length: 99999999\r\n\r\n$top=1", "HTTP/1.1 413")]
    [InlineData(
        "POST /odata/s/$batch HTTP/1.1\r\nContent-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n{}\r\n",
        "HTTP/1.1 400"
    )]
    public async Task A_wrong_length_is_a_fault_of_the_caller(string request, string expected)
    {
        var answer = await _http.SendRawAsync(
            Encoding.ASCII.GetBytes(request.Replace("HTTP/1.1\r\n", "HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n"))
        );
        Assert.StartsWith(expected, answer);
        Assert.Equal("40000", (await _http.SendAsync("/odata/s/t/$count")).Text);
    }

    [Fact]
    public async Task A_body_that_never_ends_is_left()
    {
        var uri = new Uri(_http.Address);
        using var socket = new TcpClient();
        await socket.ConnectAsync(uri.Host, uri.Port);
        await socket
            .GetStream()
            .WriteAsync(
                Encoding.ASCII.GetBytes(
                    "POST /odata/s/$batch HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{"
                )
            );
        using var answer = new StreamReader(socket.GetStream());
        Assert.StartsWith("HTTP/1.1 408", await answer.ReadToEndAsync());
        Assert.Equal(200, (await _http.SendAsync("/odata/s/")).Status);
    }
}
