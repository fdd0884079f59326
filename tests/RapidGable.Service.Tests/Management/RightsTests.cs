using System.Text.RegularExpressions;
using Microsoft.AspNetCore.Routing;
using RapidGable.Core.Tests;
using RapidGable.Service.Identity;
using RapidGable.Service.Management;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>Every address of the management interface needs a right, and opens to nobody who lacks it.</summary>
[Trait("Category", "Attack")]
public sealed class RightsTests : IAsyncLifetime
{
    private static readonly (string, string) Client = ("Gable-Client", "test");

    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase("CREATE TABLE river (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO river VALUES (1, 'Alder')")
        .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
        .WithService("  - { from: river, name: Rivers, allow: [read, create], rules: { read: anyone, create: anyone } }\n");

    private readonly Dictionary<string, string> _keys = [];
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        var accounts = new AccountDirectory();
        foreach (var right in ManagementRightWords.All)
        {
            var key = new ApiKey(right, "", DateTime.UtcNow) { IsAdministrator = true, Rights = [right] };
            (accounts, _, _keys[right]) = accounts.WithKey(key);
        }
        (accounts, _, _keys["all"]) = accounts.WithKey(new ApiKey("all", "", DateTime.UtcNow) { IsAdministrator = true });
        accounts.Write(_folder.Folder);
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private (string, string) As(string who) => ("Authorization", "Bearer " + _keys[who]);

    private static ManagementRights Needed(RouteEndpoint route) =>
        route.Metadata.GetMetadata<NeededRight>()?.Right ?? ManagementRights.None;

    private IEnumerable<(string Method, string Path, ManagementRights Right)> Addresses() =>
        from route in _http.Routes
        let path = "/" + route.RoutePattern.RawText!.TrimStart('/')
        where path.StartsWith("/manage/", StringComparison.Ordinal) && path != "/manage/session"
        from method in route.Metadata.GetMetadata<HttpMethodMetadata>()?.HttpMethods ?? ["GET"]
        select (method, path, Needed(route));

    [Fact]
    public void Every_address_declares_the_right_that_it_needs()
    {
        Assert.True(Addresses().Count() > 40);
        Assert.All(Addresses(), a => Assert.NotEqual(ManagementRights.None, a.Right));
        // What is in no group of management would escape the question.
        Assert.DoesNotContain(_http.Routes, r => r.RoutePattern.RawText!.Contains("manage/manage", StringComparison.Ordinal));
    }

    [Fact]
    public async Task An_address_opens_to_its_right_alone()
    {
        foreach (var (method, pattern, right) in Addresses())
        {
            var path = Regex.Replace(pattern, @"\{\**number:int\}", "1");
            path = Regex.Replace(path, @"\{[^}]*\}", "none");
            foreach (var who in ManagementRightWords.All)
            {
                var answer = await _http.SendAsync(path, method, method is "GET" or "DELETE" ? null : "{}", As(who), Client);
                var isRefused = answer.Status == 403 && answer.Text.Contains("\"right\"", StringComparison.Ordinal);
                var mayDo = ManagementRightWords.Of([who]).HasFlag(right);
                Assert.True(isRefused != mayDo, $"{method} {pattern} as {who}: {answer.Status} {answer.Text}");
                Assert.True(answer.Status < 500 || answer.Text.Length > 0, $"{method} {pattern}: {answer.Status} without a body");
                Assert.True(answer.Status != 500, $"{method} {pattern}: {answer.Text}");
            }
        }
    }

    [Theory]
    [InlineData("/manage/explain?url=/rest/s/Rivers&run=true", "look", 403)]
    [InlineData("/manage/explain?url=/rest/s/Rivers&run=true", "write", 200)]
    [InlineData("/manage/explain?url=/rest/s/Rivers", "look", 200)]
    public async Task What_runs_needs_the_right_to_write(string path, string who, int status) =>
        Assert.Equal(status, (await _http.SendAsync(path, "GET", As(who))).Status);

    [Fact]
    public async Task Who_may_only_look_sees_no_rows()
    {
        var path = "/manage/sources/main/object?name=river&rows=5";
        Assert.DoesNotContain("Alder", (await _http.SendAsync(path, "GET", As("look"))).Text);
        Assert.Contains("Alder", (await _http.SendAsync(path, "GET", As("write"))).Text);
    }

    [Theory]
    [InlineData("write", false, 200)]
    [InlineData("write", true, 403)]
    [InlineData("all", true, 200)]
    public async Task Rows_change_for_real_with_the_right_to_publish(string who, bool real, int status)
    {
        var body = System.Text.Json.JsonSerializer.Serialize(
            new
            {
                method = "POST",
                target = "/rest/s/Rivers",
                headers = new[] { new { name = "Content-Type", value = "application/json" } },
                body = """{"name":"Birch"}""",
                real,
            }
        );
        Assert.Equal(status, (await _http.SendAsync("/manage/requests/send", "POST", body, As(who), Client)).Status);
    }

    [Fact]
    public async Task A_right_that_is_taken_away_ends_at_once()
    {
        var signedIn = await _http.SendAsync("/manage/session", "POST", $$"""{"key":"{{_keys["administer"]}}"}""", Client);
        var cookie = ("Cookie", signedIn.Header("Set-Cookie")!.Split(';')[0]);
        Assert.Equal(200, (await _http.SendAsync("/manage/accounts", "GET", cookie)).Status);
        Assert.Contains("administer", (await _http.SendAsync("/manage/session", "GET", cookie)).Text);
        Write(_folder.Folder, "administer", k => k with { Rights = ["look"] });
        Assert.Equal(403, (await _http.SendAsync("/manage/accounts", "GET", cookie)).Status);
        Assert.Equal(200, (await _http.SendAsync("/manage/services", "GET", cookie)).Status);
        Write(_folder.Folder, "administer", _ => null);
        Assert.Equal(401, (await _http.SendAsync("/manage/services", "GET", cookie)).Status);
    }

    private static void Write(string folder, string name, Func<ApiKey, ApiKey?> change) =>
        AccountsInState.Change(WorkspaceState.Of(folder), accounts =>
        {
            var (id, key) = accounts.Keys.First(k => k.Value.Name == name);
            return accounts with { Keys = change(key) is { } changed ? accounts.Keys.SetItem(id, changed) : accounts.Keys.Remove(id) };
        });

    [Fact]
    public async Task The_console_can_have_an_origin_of_its_own()
    {
        await _http.DisposeAsync();
        _http = await RunningService.StartAsync(_folder.Folder, consolePort: LocalServer.FreePort());
        Assert.NotEqual(_http.Address, _http.ConsoleAddress);
        foreach (var path in new[] { "/", "/console/", "/console/services", "/manage/session", "/manage/services", "/Manage/services" })
            Assert.Equal(404, (await _http.SendAsync(path, "GET", As("all"))).Status);
        Assert.Equal(200, (await _http.SendAsync("/rest/s/Rivers")).Status);
        Assert.Equal(200, (await _http.SendAsync(_http.ConsoleAddress + "/manage/services", "GET", As("all"))).Status);
        Assert.Equal(302, (await _http.SendAsync(_http.ConsoleAddress + "/")).Status);
    }

    [Fact]
    public async Task A_session_that_cannot_be_kept_is_told()
    {
        var sessions = Path.Combine(_folder.Folder, "state", "sessions");
        if (Directory.Exists(sessions))
            Directory.Delete(sessions, recursive: true);
        File.WriteAllText(sessions, "");
        var body = $$"""{"key":"{{_keys["all"]}}"}""";
        var answer = await _http.SendAsync("/manage/session", "POST", body, Client);
        Assert.True(answer.Status == 503 && answer.Text.Contains("\"state\"", StringComparison.Ordinal), $"{answer.Status} {answer.Text}");
    }

    [Theory] // what no list of the management interface may hold, and what no body may be
    [InlineData("POST", "/manage/requests/try", "{\"names\":[null],\"writes\":false}")]
    [InlineData("POST", "/manage/requests/send", "{\"target\":\"/rest/s/Rivers\",\"headers\":[null]}")]
    [InlineData("POST", "/manage/draft/edit", "{\"text\":\"\",\"edits\":[null]}")]
    [InlineData("POST", "/manage/draft/choose", "{\"service\":\"s\",\"source\":\"main\",\"objects\":[null]}")]
    [InlineData("POST", "/manage/draft/design", "{\"service\":\"s\",\"changes\":[null]}")]
    [InlineData("POST", "/manage/verifications", "{\"services\":[null],\"rows\":1,\"access\":false}")]
    [InlineData("POST", "/manage/publishing", "[null]")]
    [InlineData("POST", "/manage/switches/off", "null")]
    [InlineData("POST", "/manage/accounts/users", "{\"name\":\"x\",\"password\":\"long enough\",\"roles\":[null]}")]
    [InlineData("POST", "/manage/accounts/keys", "{\"name\":\"x\",\"may\":[null]}")]
    [InlineData("PUT", "/manage/secrets/A", "[]")]
    [InlineData("POST", "/manage/check", "{")]
    public async Task A_wrong_body_is_told(string method, string path, string body)
    {
        var answer = await _http.SendAsync(path, method, body, As("all"), Client);
        Assert.InRange(answer.Status, 200, 499);
        Assert.NotEmpty(answer.Text);
    }

    [Theory] // a browser says where a request comes from; a program says nothing
    [InlineData("", "", null, 200)]
    [InlineData("none", "document", null, 200)]
    [InlineData("same-origin", "document", null, 200)]
    [InlineData("same-origin", "empty", "/console/services", 200)]
    [InlineData("same-origin", "empty", "/odata/s/Rivers(1)/photo", 403)]
    [InlineData("same-origin", "empty", null, 403)]
    [InlineData("same-origin", "iframe", "/console/", 403)]
    [InlineData("same-site", "empty", "/console/", 403)]
    [InlineData("cross-site", "empty", null, 403)]
    [InlineData("cross-site", "document", null, 403)]
    [InlineData("none", "empty", null, 403)]
    public async Task Pages_that_are_not_the_consoles_manage_nothing(string site, string destination, string? page, int status)
    {
        List<(string, string)> headers = [As("all"), Client];
        if (site.Length > 0)
            headers.AddRange([("Sec-Fetch-Site", site), ("Sec-Fetch-Dest", destination)]);
        if (page is not null)
            headers.Add(("Referer", _http.Address + page));
        Assert.Equal(status, (await _http.SendAsync("/manage/services", "GET", [.. headers])).Status);
        // What changes something is never a page that a person opens.
        var change = await _http.SendAsync("/manage/draft/edit", "POST", """{"text":"","edits":[]}""", [.. headers]);
        Assert.Equal(status == 200 && destination is "" or "empty" ? status : 403, change.Status);
    }
}
