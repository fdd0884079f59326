using System.Diagnostics;
using System.Net.Sockets;
using System.Text;
using System.Text.RegularExpressions;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>
/// Callers who ask for much and take it slowly, or not at all, beside others who want a little. The service is a process of its own with
/// a fixed heap; what is asserted is the order of events, and what the service counts of its memory.
/// </summary>
[Trait("Category", "Attack")]
public sealed class SharingTests : IAsyncLifetime
{
    private const int Memory = 64;

    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, pad TEXT); INSERT INTO t WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL "
                + "SELECT i + 1 FROM n WHERE i < 40000) SELECT i, hex(zeroblob(500)) FROM n"
        )
        .WithService("  - { from: t, page: 100000, largest-page: 100000 }\n")
        .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nsessions: 2\n")
        .Write("workspace.yaml", $"title: Sharing\nlimits: {{ memory: {Memory}, request-memory: 16, download-seconds: 15 }}\n");

    private readonly HttpClient _client = new();
    private readonly List<TcpClient> _open = [];
    private Process _serve = null!;
    private string _address = "";
    private string _token = "";

    public async Task InitializeAsync()
    {
        Environment.SetEnvironmentVariable("DOTNET_GCHeapHardLimit", "0x10000000"); // 256 MiB, for processes that begin now
        try
        {
            _serve = Gable.Start(_folder.Folder, "serve", ".", "--port", "0");
        }
        finally
        {
            Environment.SetEnvironmentVariable("DOTNET_GCHeapHardLimit", null);
        }
        while (await _serve.StandardOutput.ReadLineAsync() is { } line)
        {
            if (!line.StartsWith("Ready: "))
                continue;
            _address = line[7..].TrimEnd('/');
            break;
        }
        _ = _serve.StandardError.ReadToEndAsync();
        _ = _serve.StandardOutput.ReadToEndAsync();
        Assert.NotEqual("", _address);
        _token = (await File.ReadAllTextAsync(Path.Combine(_folder.Folder, "console-link"))).Trim().Split("#link=")[1];
    }

    public Task DisposeAsync()
    {
        _open.ForEach(s => s.Dispose());
        _client.Dispose();
        _serve.Kill(entireProcessTree: true);
        _serve.WaitForExit();
        _serve.Dispose();
        _folder.Dispose();
        return Task.CompletedTask;
    }

    /// <summary>Sends a request and reads none, or only the beginning, of its answer.</summary>
    private async Task<TcpClient> BeginAsync(string request, int read)
    {
        var uri = new Uri(_address);
        var socket = new TcpClient { ReceiveBufferSize = 4096 };
        _open.Add(socket);
        await socket.ConnectAsync(uri.Host, uri.Port);
        await socket.GetStream().WriteAsync(Encoding.ASCII.GetBytes(request.Replace("HTTP/1.1\r\n", "HTTP/1.1\r\nHost: 127.0.0.1\r\n")));
        if (read > 0)
            await socket.GetStream().ReadExactlyAsync(new byte[read]);
        return socket;
    }

    private async Task<Dictionary<string, long>> MetricsAsync()
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, _address + "/metrics");
        request.Headers.Add("Authorization", "Bearer " + _token);
        using var response = await _client.SendAsync(request);
        return Regex
            .Matches(await response.Content.ReadAsStringAsync(), @"^(gable_memory_\w+)\{[^}]*\} (\d+)( \d+)?\r?$", RegexOptions.Multiline)
            .ToDictionary(m => m.Groups[1].Value, m => long.Parse(m.Groups[2].Value));
    }

    private Task<string> CountAsync() => _client.GetStringAsync(_address + "/odata/s/t/$count");

    private async Task CheckMemoryAsync()
    {
        var metrics = await MetricsAsync();
        Assert.Equal(Memory * 1024 * 1024, metrics["gable_memory_limit_bytes"]);
        Assert.InRange(metrics["gable_memory_peak_bytes"], 1, metrics["gable_memory_limit_bytes"]);
        Assert.False(_serve.HasExited);
    }

    [Fact] // eight who do not read at all, and come again when they are cut
    public async Task Others_are_answered_while_nobody_reads_the_large_answers()
    {
        for (var i = 0; i < 8; i++)
            await BeginAsync("GET /odata/s/t HTTP/1.1\r\n\r\n", i < 2 ? 1000 : 0);
        for (var round = 0; round < 3; round++)
        {
            Assert.Equal("40000", await CountAsync());
            await BeginAsync("GET /odata/s/t HTTP/1.1\r\n\r\n", 0);
        }
        await CheckMemoryAsync();
    }

    [Fact] // what is made whole holds no session, however slowly it is taken
    public async Task An_answer_that_is_not_large_holds_no_session()
    {
        var slow = new List<TcpClient>();
        for (var i = 0; i < 6; i++)
            slow.Add(await BeginAsync("GET /odata/s/t?$top=3000 HTTP/1.1\r\n\r\n", 500));
        // Both sessions are free: two answers at once, neither of which waits for the slow ones.
        Assert.Equal(["40000", "40000"], await Task.WhenAll(CountAsync(), CountAsync()));
        Assert.True((await MetricsAsync())["gable_memory_bytes"] > 3_000_000);
        // Who takes it slowly gets all of it.
        var text = new StringBuilder();
        var buffer = new byte[1 << 16];
        slow[0].GetStream().ReadTimeout = 60_000;
        while (!text.ToString(Math.Max(0, text.Length - 20), Math.Min(20, text.Length)).Contains("}]}"))
            text.Append(Encoding.ASCII.GetString(buffer, 0, await slow[0].GetStream().ReadAsync(buffer)));
        Assert.Contains("\"id\":3000", text.ToString());
        slow.ForEach(s => s.Dispose());
        for (var tries = 0; tries < 200 && (await MetricsAsync())["gable_memory_bytes"] > 500_000; tries++)
            await Task.Delay(50);
        Assert.InRange((await MetricsAsync())["gable_memory_bytes"], 0, 500_000);
    }

    [Fact] // a hundred parts of three megabytes, from callers who do not read, and from one who does
    public async Task A_batch_holds_no_more_than_a_part()
    {
        var body =
            "{\"requests\":["
            + string.Join(',', Enumerable.Range(0, 100).Select(i => $"{{\"id\":\"{i}\",\"method\":\"GET\",\"url\":\"t?$top=3000\"}}"))
            + "]}";
        var request = $"POST /odata/s/$batch HTTP/1.1\r\nContent-Type: application/json\r\nContent-Length: {body.Length}\r\n\r\n{body}";
        for (var i = 0; i < 8; i++)
            await BeginAsync(request, 0);
        Assert.Equal("40000", await CountAsync());
        using var answer = await _client.PostAsync(
            _address + "/odata/s/$batch",
            new StringContent(body, Encoding.UTF8, "application/json")
        );
        await using var stream = await answer.Content.ReadAsStreamAsync();
        using var reader = new StreamReader(stream);
        var (parts, text) = (0, new char[1 << 16]);
        var rest = "";
        for (int count; (count = await reader.ReadAsync(text)) > 0; rest = rest[^Math.Min(20, rest.Length)..])
        {
            rest += new string(text, 0, count);
            parts += Regex.Count(rest, "\"status\":200,\"headers\"");
            rest = rest.Replace("\"status\":200,\"headers\"", "");
        }
        Assert.True(parts + Regex.Count(rest, "\"status\":200") >= 95, $"{parts} parts");
        await CheckMemoryAsync();
    }

    [Fact] // one part alone is more than a request may hold
    public async Task A_part_that_is_too_large_is_an_error_of_its_own()
    {
        const string Body = """{"requests":[{"id":"1","method":"GET","url":"t"},{"id":"2","method":"GET","url":"t/$count"}]}""";
        using var answer = await _client.PostAsync(
            _address + "/odata/s/$batch",
            new StringContent(Body, Encoding.UTF8, "application/json") { Headers = { } }
        );
        var text = await answer.Content.ReadAsStringAsync();
        Assert.Contains("\"status\":413", text);
        Assert.Contains("too-large", text);
        await CheckMemoryAsync();
    }

    [Fact] // answers that nobody fetches: so many of one caller, so many bytes of all
    public async Task Answers_to_be_fetched_are_bounded()
    {
        var (accepted, refused) = (new List<string>(), 0);
        for (var i = 0; i < 30; i++)
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, _address + "/odata/s/t?$top=3000")
            {
                Headers = { { "Prefer", "respond-async" } },
            };
            using var response = await _client.SendAsync(request);
            if ((int)response.StatusCode == 202)
                accepted.Add(response.Headers.Location!.ToString());
            else
                refused += (int)response.StatusCode == 429 ? 1 : 100;
        }
        Assert.Equal((20, 10), (accepted.Count, refused));
        // Some of them are there, and those for which there was no memory say so; others are answered all the same.
        Assert.Equal("40000", await CountAsync());
        Assert.Equal(200, (int)(await _client.GetAsync(_address + "/odata/s/t?$top=3000")).StatusCode);
        foreach (var monitor in accepted)
        {
            for (var tries = 0; tries < 200; tries++)
            {
                using var fetched = await _client.GetAsync(monitor);
                if ((int)fetched.StatusCode == 200)
                    break;
                await Task.Delay(50);
            }
            using var gone = await _client.DeleteAsync(monitor);
            Assert.Equal(204, (int)gone.StatusCode);
        }
        for (var tries = 0; tries < 200 && (await MetricsAsync())["gable_memory_bytes"] > 500_000; tries++)
            await Task.Delay(50);
        await CheckMemoryAsync();
        Assert.InRange((await MetricsAsync())["gable_memory_bytes"], 0, 500_000);
    }
}
