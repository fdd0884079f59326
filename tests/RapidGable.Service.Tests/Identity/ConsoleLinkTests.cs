using System.Net;
using RapidGable.Access;
using RapidGable.Core.Tests;
using RapidGable.Service.Identity;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>
/// A workspace without administrators is managed by who started it, and by nobody who merely comes from the same machine.
/// </summary>
[Trait("Category", "Attack")]
public sealed class ConsoleLinkTests : IAsyncLifetime
{
    private static readonly (string, string) Client = ("Gable-Client", "test");

    // A test that is nobody says so, since the helper shows itself as who started the service.
    private static readonly (string, string) Nobody = ("Cookie", "other=1");

    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase("CREATE TABLE river (id INTEGER PRIMARY KEY)")
        .WithService("  - river\n");
    private RunningService _http = null!;

    public async Task InitializeAsync() => _http = await RunningService.StartAsync(_folder.Folder);

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private string PathOfLink => Path.Combine(_folder.Folder, "console-link");

    [Theory]
    [InlineData("GET", "/manage/services")]
    [InlineData("POST", "/manage/accounts/keys")]
    [InlineData("GET", "/manage/sources/main/object?name=river")]
    [InlineData("POST", "/manage/refresh")]
    public async Task Nobody_manages_from_the_same_machine(string method, string target)
    {
        var answer = await _http.SendAsync(target, method, Nobody, Client);
        Assert.True(answer.Status == 401 && answer.Text.Contains("There is no administrator yet"), answer.Text);
        Assert.Equal(404, (await _http.SendAsync("/metrics", "GET", Nobody)).Status);
    }

    private Task<Answer> OpenAsync(string token) =>
        _http.SendAsync("/manage/session", "POST", $$"""{"link":"{{token}}"}""", Nobody, Client);

    [Fact]
    public async Task A_link_opens_the_console_once()
    {
        var first = _http.LinkToken!;
        Assert.Equal(_http.ConsoleLink, (await File.ReadAllTextAsync(PathOfLink)).Trim());
        if (!OperatingSystem.IsWindows())
            Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(PathOfLink));
        Assert.Equal(401, (await OpenAsync("x")).Status);
        var opened = await OpenAsync(first);
        Assert.Equal(204, opened.Status);
        (string, string) cookie = ("Cookie", opened.Header("Set-Cookie")!.Split(';')[0]);
        Assert.Equal(200, (await _http.SendAsync("/manage/services", "GET", cookie)).Status);
        // The link of the history opens nothing any more, in either way; the next one does.
        Assert.Equal(401, (await OpenAsync(first)).Status);
        Assert.Equal(401, (await _http.SendAsync("/manage/services", "GET", ("Authorization", "Bearer " + first))).Status);
        Assert.NotEqual(first, _http.LinkToken);
        Assert.Equal(204, (await OpenAsync(_http.LinkToken!)).Status);
        // With the first administrator both end.
        AccountsInState.Change(WorkspaceState.Of(_folder.Folder), f =>
            f with
            {
                Administrators = f.Administrators.Add("ada", new AdministratorAccount(PasswordHash.Make("long enough"))),
            }
        );
        Assert.Equal(401, (await _http.SendAsync("/manage/services", "GET", cookie)).Status);
        Assert.Equal(401, (await OpenAsync(_http.LinkToken!)).Status);
    }

    [Fact]
    public async Task The_file_goes_with_the_service()
    {
        Assert.True(File.Exists(PathOfLink));
        await _http.DisposeAsync();
        Assert.False(File.Exists(PathOfLink));
    }

    [Fact] // who looks at rows of others is noted
    public async Task Looks_at_rows_are_noted()
    {
        await _http.SendAsync("/manage/sources/main/object?name=river&rows=3");
        await _http.SendAsync("/manage/explain?run=true&roles=office&url=/odata/s/river");
        var text = "";
        for (
            var tries = 0;
            tries < 100 && !(text.Contains("looked at rows of river in main") && text.Contains("ran a request as office"));
            tries++
        )
        {
            await Task.Delay(50);
            text = (await _http.SendAsync("/manage/audit?event=management")).Text;
        }
        Assert.Contains("looked at rows of river in main", text);
        Assert.Contains("ran a request as office", text);
    }

    [Theory] // a host has all addresses of its network of 64 bits
    [InlineData("192.0.2.7", "192.0.2.7")]
    [InlineData("::ffff:192.0.2.7", "192.0.2.7")]
    [InlineData("2001:db8:1:2:3:4:5:6", "2001:db8:1:2::/64")]
    [InlineData("2001:db8:1:2::1", "2001:db8:1:2::/64")]
    [InlineData("::1", "::1")]
    public void Callers_are_told_apart_by_their_networks(string address, string expected) =>
        Assert.Equal(expected, CallerNetwork.Of(IPAddress.Parse(address)));

    [Fact] // two keys of one name are two callers where they may do different things
    public void Callers_of_one_name_are_told_apart()
    {
        var wide = Caller.WithRoles("office") with { Name = "loader" };
        Assert.Equal(wide.Identity, (Caller.WithRoles("office") with { Name = "loader" }).Identity);
        foreach (
            var narrow in new[]
            {
                wide with
                {
                    Scope = Model.SetOperations.Read,
                },
                wide with
                {
                    Services = ["s"],
                },
                wide with
                {
                    Roles = [],
                },
                wide with
                {
                    Attributes = wide.Attributes.Add("region", ["north"]),
                },
                wide with
                {
                    Name = null,
                },
            }
        )
            Assert.NotEqual(wide.Identity, narrow.Identity);
    }
}
