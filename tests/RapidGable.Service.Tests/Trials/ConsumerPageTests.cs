using System.Collections.Immutable;
using System.Text;
using RapidGable.Core.Tests;
using RapidGable.Service.Identity;

namespace RapidGable.Service.Tests;

/// <summary>The page for consumers where a service opens it: each gets their own, and to everybody else it is not there.</summary>
public sealed class ConsumerPageTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .WithDatabase(
                "CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT, note TEXT); INSERT INTO river VALUES (1, 'Alder', 'hush');"
            )
            .Write(
                "services/s.yaml",
                """
                title: S
                source: main
                sets:
                  - from: river
                    name: Rivers
                    rules:
                      - { who: partner, may: read, hide: [note] }
                      - { who: office, may: read }
                handover: { who: [partner, office] }

                """
            )
            .Write("services/open.yaml", "title: O\nsource: main\nrules: { read: anyone }\nsets:\n  - river\nhandover: { who: anyone }\n")
            .Write("services/shut.yaml", "title: H\nsource: main\nrules: { read: anyone }\nsets:\n  - river\n");
        var password = PasswordHash.Make("long enough");
        var users = ImmutableSortedDictionary<string, UserAccount>.Empty;
        foreach (var name in new[] { "partner", "office", "other" })
            users = users.Add(name, new UserAccount(password) { Roles = [name] });
        new AccountDirectory { Users = users }.Write(_folder.Folder);
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private Task<Answer> GetAsync(string service, string? user = null) =>
        user is null
            ? _http.SendAsync("/handover/" + service)
            : _http.SendAsync(
                "/handover/" + service,
                "GET",
                ("Authorization", "Basic " + Convert.ToBase64String(Encoding.UTF8.GetBytes(user + ":long enough")))
            );

    [Fact]
    public async Task Each_gets_the_page_that_is_made_for_them()
    {
        var partner = await GetAsync("s", "partner");
        Assert.Equal((200, "text/html; charset=utf-8"), (partner.Status, partner.Header("Content-Type")));
        Assert.Contains("Alder", partner.Text);
        Assert.DoesNotContain("hush", partner.Text);
        Assert.DoesNotContain("note", partner.Text);
        Assert.Contains("hush", (await GetAsync("s", "office")).Text);
        // What is kept for one is not given to another.
        Assert.DoesNotContain("hush", (await GetAsync("s", "partner")).Text);
        Assert.Contains(_http.Address + "/rest/s/", partner.Text);
    }

    [Theory]
    [InlineData("s", null, 401)]
    [InlineData("s", "other", 404)]
    [InlineData("shut", "office", 404)]
    [InlineData("shut", null, 401)]
    [InlineData("none", "office", 404)]
    [InlineData("none", null, 401)]
    [InlineData("open", null, 200)]
    public async Task To_everybody_else_it_is_not_there(string service, string? user, int status) =>
        Assert.Equal(status, (await GetAsync(service, user)).Status);

    [Fact]
    public async Task Who_asks_and_what_is_missing_look_alike()
    {
        var closed = await GetAsync("shut", "office");
        var missing = await GetAsync("none", "office");
        Assert.Equal(missing.Text.Replace("none", "shut"), closed.Text);
    }
}
