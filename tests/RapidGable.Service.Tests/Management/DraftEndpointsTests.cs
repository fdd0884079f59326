using System.Text.Json;
using RapidGable.Core.Tests;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Tests;

/// <summary>The draft by the management interface: files are read, checked, and written by several people.</summary>
public sealed class DraftEndpointsTests : IAsyncLifetime
{
    private static readonly (string, string)[] Own = [("Gable-Client", "test")];

    private readonly TestWorkspace _folder = new();
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .WithDatabase(
                """
                CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT);
                CREATE TABLE gauge (id INTEGER NOT NULL PRIMARY KEY, river_id INTEGER REFERENCES river (id));
                CREATE TABLE api_key (id INTEGER NOT NULL PRIMARY KEY, secret TEXT);
                INSERT INTO river VALUES (1, 'Alder');
                """
            )
            .WithService("  - river   # all of them\n");
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private Task<Answer> SendAsync(string method, string path, object? body = null) =>
        _http.SendAsync("/manage/draft" + path, method, body is null ? null : JsonSerializer.Serialize(body), Own);

    private async Task<(string Text, string Version)> ReadAsync(string file)
    {
        var answer = (await SendAsync("GET", "/text?file=" + file)).Json;
        return (answer.GetProperty("text").GetString()!, answer.GetProperty("version").GetString()!);
    }

    [Fact]
    public async Task A_file_is_written_from_the_version_that_was_read()
    {
        var list = (await SendAsync("GET", "")).Json;
        Assert.True(list.GetProperty("isEditable").GetBoolean());
        Assert.Equal(
            ["services/s.yaml", "sources/main.yaml", "workspace.yaml"],
            list.GetProperty("files").EnumerateArray().Select(f => f.GetProperty("file").GetString()!)
        );
        var (text, version) = await ReadAsync("services/s.yaml");
        var mine = text + "  - gauge\n";
        var written = await SendAsync(
            "PUT",
            "/text",
            new
            {
                file = "services/s.yaml",
                text = mine,
                version,
            }
        );
        Assert.True(written.Status == 200, written.Text);
        // A service that follows the files has taken it with the answer.
        Assert.Equal(200, (await _http.SendAsync("/odata/s/gauge")).Status);
        // The second is told what the first changed, and nothing is lost.
        var late = await SendAsync(
            "PUT",
            "/text",
            new
            {
                file = "services/s.yaml",
                text,
                version,
            }
        );
        Assert.Equal(409, late.Status);
        Assert.Contains("changed by somebody else", late.Text);
        Assert.Equal(mine, late.Json.GetProperty("current").GetProperty("text").GetString());
        Assert.Equal(mine, (await ReadAsync("services/s.yaml")).Text);
        // An editor on the disk counts as somebody, too.
        _folder.Write("services/s.yaml", text);
        var now = written.Json.GetProperty("version").GetString();
        Assert.Equal(
            409,
            (
                await SendAsync(
                    "PUT",
                    "/text",
                    new
                    {
                        file = "services/s.yaml",
                        text = mine,
                        version = now,
                    }
                )
            ).Status
        );
    }

    [Fact]
    public void A_folder_that_cannot_be_written_says_so()
    {
        Assert.Null(new DraftFolder(_folder.Folder).WriteFault);
        Assert.Empty(Directory.EnumerateFiles(_folder.Folder, ".*"));
        // Not even by the owner of the machine.
        Assert.Contains("cannot be written", new DraftFolder("/proc").WriteFault);
    }

    [Fact]
    public async Task Files_are_made_and_removed()
    {
        const string File = "services/other.yaml";
        var made = await SendAsync("PUT", "/text", new { file = File, text = "title: Other\nsource: main\nsets:\n  - gauge\n" });
        Assert.True(made.Status == 200, made.Text);
        Assert.Equal(409, (await SendAsync("PUT", "/text", new { file = File, text = "" })).Status);
        Assert.Equal(409, (await SendAsync("DELETE", $"/text?file={File}&version=0")).Status);
        var version = made.Json.GetProperty("version").GetString();
        Assert.Equal(204, (await SendAsync("DELETE", $"/text?file={File}&version={version}")).Status);
        Assert.Equal(404, (await SendAsync("GET", $"/text?file={File}")).Status);
        Assert.Equal(400, (await SendAsync("DELETE", "/text?file=workspace.yaml&version=0")).Status);
        // The log is written by itself, a little later; stopping writes what is left.
        await _http.DisposeAsync();
        var noted = string.Concat(
            Directory.EnumerateFiles(Path.Combine(_folder.Folder, "state", "audit")).Select(System.IO.File.ReadAllText)
        );
        Assert.Contains($"wrote {File}", noted);
        Assert.Contains($"removed {File}", noted);
    }

    [Theory]
    [InlineData("../secret.yaml")]
    [InlineData("/etc/passwd")]
    [InlineData("services/../workspace.yaml")]
    [InlineData("services/.hidden.yaml")]
    [InlineData("services/a/b.yaml")]
    [InlineData("services/x.txt")]
    [InlineData("services/.yaml")]
    [InlineData("state/accounts/accounts.json")]
    [InlineData("secrets.env")]
    [InlineData("")]
    public async Task Nothing_but_files_of_a_workspace_is_reached(string file)
    {
        _folder.Write("secrets.env", "A=b\n");
        Assert.Equal(400, (await SendAsync("GET", "/text?file=" + Uri.EscapeDataString(file))).Status);
        Assert.Equal(400, (await SendAsync("PUT", "/text", new { file, text = "x" })).Status);
        Assert.Equal(400, (await SendAsync("DELETE", $"/text?file={Uri.EscapeDataString(file)}&version=0")).Status);
        Assert.Equal(400, (await SendAsync("POST", "/check", new { texts = new Dictionary<string, string> { [file] = "x" } })).Status);
    }

    [Fact]
    public async Task A_text_is_checked_before_it_is_written()
    {
        const string Head = "title: S\nsource: main\nnamespace: T\nrules: { read: anyone }\nsets:\n";
        async Task<string> CheckAsync(string file, string text) =>
            string.Join(
                "; ",
                (await SendAsync("POST", "/check", new { texts = new Dictionary<string, string> { [file] = text } }))
                    .Json.EnumerateArray()
                    .Where(f => f.GetProperty("severity").GetString() == "error")
                    .Select(f => $"{(f.TryGetProperty("line", out var line) ? line.GetInt32() : 0)} {f.GetProperty("code").GetString()}")
            );
        Assert.Equal("", await CheckAsync("services/s.yaml", Head + "  - river\n  - gauge\n"));
        Assert.Equal("7 no-object", await CheckAsync("services/s.yaml", Head + "  - river\n  - gauges\n"));
        Assert.Equal("7 yaml-syntax", await CheckAsync("services/s.yaml", Head + "  - { from: river\n"));
        Assert.Equal("1 no-engine", await CheckAsync("sources/main.yaml", "engine: sqlit\nfile: data.db\n"));
        Assert.Equal("3 source-setting", await CheckAsync("sources/main.yaml", "engine: sqlite\nfile: data.db\nfille: x\n"));
        Assert.Equal("title: S", (await ReadAsync("services/s.yaml")).Text.Split('\n')[0]);
        Assert.Equal(200, (await _http.SendAsync("/odata/s/river")).Status);
    }

    [Fact]
    public async Task No_server_is_asked_while_its_name_is_typed()
    {
        using var server = new System.Net.Sockets.TcpListener(System.Net.IPAddress.Loopback, 0);
        server.Start();
        var port = ((System.Net.IPEndPoint)server.LocalEndpoint).Port;
        var text = $"engine: postgresql\nhost: 127.0.0.1\nport: {port}\ndatabase: d\nuser: u\npassword: p\nconnect-seconds: 1\n";
        var answer = await SendAsync("POST", "/check", new { texts = new Dictionary<string, string> { ["sources/other.yaml"] = text } });
        Assert.Equal("[]", answer.Text);
        Assert.False(server.Pending());
        // Writing it is the word that it may be asked.
        await SendAsync("PUT", "/text", new { file = "sources/other.yaml", text });
        Assert.True(server.Pending());
        // The last good state is kept meanwhile.
        Assert.Equal(200, (await _http.SendAsync("/odata/s/river")).Status);
    }

    [Fact]
    public async Task Single_values_are_edited_and_the_rest_is_left()
    {
        var (text, _) = await ReadAsync("services/s.yaml");
        var edited = await SendAsync(
            "POST",
            "/edit",
            new
            {
                text,
                edits = new object[]
                {
                    new { path = new object[] { "sets", 0, "name" }, value = "Rivers" },
                    new { path = new object[] { "title" }, value = "Rivers of the basin" },
                    new { path = new object[] { "namespace" } },
                },
            }
        );
        var now = edited.Json.GetProperty("text").GetString()!;
        Assert.Contains("  - from: river   # all of them\n    name: Rivers\n", now);
        Assert.Contains("title: Rivers of the basin\n", now);
        Assert.DoesNotContain("namespace", now);
        var wrong = await SendAsync(
            "POST",
            "/edit",
            new { text, edits = new[] { new { path = new object[] { "title", "x" }, value = 1 } } }
        );
        Assert.Equal(409, wrong.Status);
        Assert.Equal(
            409,
            (await SendAsync("POST", "/edit", new { text, edits = new[] { new { path = new object[] { true }, value = 1 } } })).Status
        );
        Assert.Equal(400, (await SendAsync("POST", "/edit", new { edits = Array.Empty<object>() })).Status);
    }

    [Fact]
    public async Task Tables_are_chosen_for_a_service()
    {
        var chosen = await SendAsync(
            "POST",
            "/choose",
            new
            {
                service = "s",
                source = "main",
                objects = new[] { "gauge", "river" },
            }
        );
        Assert.True(chosen.Status == 200, chosen.Text);
        Assert.Equal("gauge", Assert.Single(chosen.Json.GetProperty("added").EnumerateArray()).GetString());
        Assert.Equal("river", Assert.Single(chosen.Json.GetProperty("known").EnumerateArray()).GetString());
        Assert.Contains("  - gauge   # table, 2 columns, key id, refers to river\n", chosen.Json.GetProperty("text").GetString());
        // Nothing is written by looking.
        Assert.DoesNotContain("gauge", (await ReadAsync("services/s.yaml")).Text);
        Assert.Equal(400, (await SendAsync("POST", "/choose", new { service = "No Name", source = "main" })).Status);
        Assert.Equal(400, (await SendAsync("POST", "/choose", new { service = "s", source = "other" })).Status);
        _folder.Write("services/s.yaml", "a: [\n");
        Assert.Equal(409, (await SendAsync("POST", "/choose", new { service = "s", source = "main" })).Status);
    }

    [Fact]
    public async Task Only_administrators_and_own_pages_reach_it()
    {
        foreach (var (method, path) in new[] { ("GET", ""), ("GET", "/text?file=workspace.yaml"), ("PUT", "/text"), ("POST", "/check") })
            Assert.Equal(401, (await _http.SendAsync("/manage/draft" + path, method, ("Authorization", "Bearer no"))).Status);
        Assert.Equal(403, (await _http.SendAsync("/manage/draft/text", "PUT", "{}")).Status);
        Assert.Equal(200, (await SendAsync("GET", "/schema/service")).Status);
        Assert.Equal(404, (await SendAsync("GET", "/schema/other")).Status);
    }
}
