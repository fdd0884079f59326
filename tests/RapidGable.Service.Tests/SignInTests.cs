using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using RapidGable.Core.Tests;
using RapidGable.Service.Identity;

namespace RapidGable.Service.Tests;

/// <summary>Callers who sign in with a password or a key, over HTTP.</summary>
public sealed class SignInTests : IAsyncLifetime
{
    private sealed class Clock : TimeProvider
    {
        public DateTimeOffset Now { get; set; } = new(2026, 6, 1, 12, 0, 0, TimeSpan.Zero);

        public override DateTimeOffset GetUtcNow() => Now;
    }

    // The hash is slow on purpose.
    private static readonly string Ines = PasswordHash.Make("open sesame");
    private static readonly string Tom = PasswordHash.Make("paß:wort");

    private readonly TestWorkspace _folder = new TestWorkspace().WithSource()
        .WithDatabase("CREATE TABLE place (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO place VALUES (1, 'weir'); CREATE TABLE visit (id INTEGER PRIMARY KEY, region TEXT, email TEXT, place_id INTEGER REFERENCES place (id)); INSERT INTO visit VALUES (1, 'north', 'a@example.org', 1), (2, 'south', 'b@example.org', 1)")
        .Write("services/s.yaml", """
            title: S
            source: main
            namespace: T
            rules: { read: anyone }
            sets:
              - { from: place, name: Places }
              - from: visit
                name: Visits
                rules:
                  - { who: office, may: read }
                  - { who: field, may: read, rows: region eq @region, hide: email }
            """)
        .Write("services/closed.yaml", "title: C\nsource: main\nrules: { read: office }\nsets: [place]\n");

    private readonly Clock _clock = new();
    private RunningService _http = null!;
    private string _key = "";
    private string _keyId = "";

    public async Task InitializeAsync()
    {
        var north = ImmutableDictionary<string, string>.Empty.Add("region", "north");
        (var file, _keyId, _key) = new AccountFile { Users = ImmutableSortedDictionary<string, UserAccount>.Empty.Add("ines", new UserAccount(Ines) { Roles = ["office"] }).Add("tom", new UserAccount(Tom) { Roles = ["field"], Attributes = north }) }
            .WithKey("loader", ["field"], north, _clock.Now.UtcDateTime, _clock.Now.UtcDateTime.AddDays(1));
        file.Write(_folder.Folder);
        _http = await RunningService.StartAsync(_folder.Folder, _clock);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private static string Basic(string text) => "Basic " + Convert.ToBase64String(Encoding.UTF8.GetBytes(text));

    private Task<Answer> GetAsync(string path, string? authorization = null) => _http.SendAsync(path, "GET", authorization is null ? [] : [("Authorization", authorization)]);

    private static string Ids(Answer answer) => string.Join(',', answer.Json.GetProperty("value").EnumerateArray().Select(v => v.GetProperty("id").GetInt64()));

    [Fact]
    public async Task Each_caller_sees_what_the_rules_leave()
    {
        Assert.Equal("1,2", Ids(await GetAsync("/odata/s/Visits", Basic("ines:open sesame"))));
        var own = await GetAsync("/odata/s/Visits", Basic("tom:paß:wort"));
        Assert.Equal("1", Ids(own));
        Assert.DoesNotContain("email", own.Text);
        Assert.Equal("1", Ids(await GetAsync("/odata/s/Visits", "Bearer " + _key)));
        Assert.Equal("1", (await GetAsync("/odata/s/Places(1)/Visits/$count", "Bearer " + _key)).Text);
        Assert.Contains("email", (await GetAsync("/odata/s/$metadata", Basic("ines:open sesame"))).Text);
        Assert.DoesNotContain("email", (await GetAsync("/odata/s/$metadata", Basic("tom:paß:wort"))).Text);
        Assert.DoesNotContain("Visit", (await GetAsync("/odata/s/$metadata")).Text);
    }

    [Theory] // what is closed and what is not there look the same to who is not signed in
    [InlineData("/odata/s/Visits", 401)]
    [InlineData("/odata/s/Visits(1)", 401)]
    [InlineData("/odata/s/Nothing", 401)]
    [InlineData("/odata/closed/", 401)]
    [InlineData("/odata/nothing/", 401)]
    [InlineData("/odata/s/Places", 200)]
    [InlineData("/odata/s/Places(9)", 404)]
    [InlineData("/odata/s/Places(1)/Visits", 404)]
    [InlineData("/odata/s/$metadata", 200)]
    public async Task Who_is_not_signed_in_is_asked_to(string path, int status)
    {
        var answer = await GetAsync(path);
        Assert.Equal(status, answer.Status);
        Assert.Equal(status == 401 ? "Basic realm=\"Test\", charset=\"UTF-8\"" : null, answer.Header("WWW-Authenticate"));
    }

    [Theory]
    [InlineData("/odata/s/Nothing", 404)]
    [InlineData("/odata/closed/", 404)]
    [InlineData("/odata/nothing/", 404)]
    [InlineData("/odata/s/Visits(2)", 404)]
    [InlineData("/odata/s/Visits?$filter=email eq 'x'", 400)]
    public async Task Who_is_signed_in_hears_that_it_is_not_there(string path, int status) => Assert.Equal(status, (await GetAsync(path.Replace(" ", "%20"), "Bearer " + _key)).Status);

    [Theory]
    [InlineData("Basic !!!")]
    [InlineData("Basic")]
    [InlineData("Basic aW5lcw==")]
    [InlineData("Basic /////w==")]
    [InlineData("Digest username=\"ines\"")]
    [InlineData("Bearer x")]
    [InlineData("Bearer gablekey_000000000000_0000")]
    [InlineData("Bearer eyJhbGciOiJub25lIn0.eyJzdWIiOiJpbmVzIn0.")]
    public async Task A_wrong_header_is_refused(string authorization)
    {
        var answer = await GetAsync("/odata/s/Places", authorization);
        Assert.Equal((401, "sign-in"), (answer.Status, answer.Json.GetProperty("error").GetProperty("code").GetString()));
        Assert.Equal(401, (await GetAsync("/services", authorization)).Status);
    }

    [Theory]
    [InlineData("ines:wrong")]
    [InlineData("INES:open sesame")]
    [InlineData("nobody:open sesame")]
    [InlineData("ines\0:open sesame")]
    [InlineData(":")]
    public async Task A_wrong_password_is_refused_in_the_same_words(string credentials)
    {
        var answer = await GetAsync("/odata/s/Visits", Basic(credentials));
        Assert.Equal(401, answer.Status);
        Assert.DoesNotContain("ines", answer.Text, StringComparison.OrdinalIgnoreCase);
    }

    [Fact]
    public async Task A_name_with_too_many_wrong_passwords_waits()
    {
        for (var i = 0; i < Model.Limits.SignInAttempts; i++)
            Assert.Equal(401, (await GetAsync("/odata/s/Visits", Basic($"tom:guess {i}"))).Status);
        var refused = await GetAsync("/odata/s/Visits", Basic("tom:paß:wort"));
        Assert.Equal((429, "300"), (refused.Status, refused.Header("Retry-After")));
        Assert.Equal(200, (await GetAsync("/odata/s/Visits", Basic("ines:open sesame"))).Status);
        _clock.Now += TimeSpan.FromMinutes(Model.Limits.SignInPauseMinutes);
        Assert.Equal(200, (await GetAsync("/odata/s/Visits", Basic("tom:paß:wort"))).Status);
    }

    [Fact]
    public async Task A_key_ends_with_its_time_and_when_it_is_revoked()
    {
        Assert.Equal(200, (await GetAsync("/odata/s/Visits", "Bearer " + _key)).Status);
        var file = AccountFile.Read(_folder.Folder)!;
        (file with { Keys = file.Keys.Remove(_keyId) }).Write(_folder.Folder);
        Assert.Equal(401, (await GetAsync("/odata/s/Visits", "Bearer " + _key)).Status);
        file.Write(_folder.Folder);
        Assert.Equal(200, (await GetAsync("/odata/s/Visits", "Bearer " + _key)).Status);
        _clock.Now += TimeSpan.FromDays(1);
        Assert.Equal(401, (await GetAsync("/odata/s/Visits", "Bearer " + _key)).Status);
    }

    [Theory]
    [InlineData("{ \"users\": { \"ines\": ")]
    [InlineData("{ \"users\": { \"ines\": null } }")]
    [InlineData("{ \"users\": null }")]
    [InlineData("{ \"users\": { \"ines\": { \"password\": \"x\", \"roles\": null } } }")]
    [InlineData("{ \"users\": { \"ines\": { \"password\": null } } }")]
    [InlineData("{ \"users\": { \"ines\": { \"password\": \"pbkdf2-sha256$1$!$!\" } } }")]
    [InlineData("null")]
    public async Task A_file_of_accounts_that_cannot_be_read_lets_nobody_in(string text)
    {
        File.WriteAllText(Path.Combine(_folder.Folder, AccountFile.Name), text);
        Assert.Equal(401, (await GetAsync("/odata/s/Visits", Basic("ines:open sesame"))).Status);
        Assert.Equal(200, (await GetAsync("/odata/s/Places")).Status);
    }

    [Fact]
    public void Secrets_are_not_in_the_file()
    {
        var text = File.ReadAllText(Path.Combine(_folder.Folder, AccountFile.Name));
        Assert.DoesNotContain("sesame", text);
        Assert.DoesNotContain(_key.Split('_')[2], text);
        if (!OperatingSystem.IsWindows())
            Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(Path.Combine(_folder.Folder, AccountFile.Name)));
    }

    [Fact] // requests inside of others are those of the outer caller
    public async Task A_batch_is_the_callers()
    {
        using var client = new HttpClient();
        using var request = new HttpRequestMessage(HttpMethod.Post, _http.Address + "/odata/s/$batch")
        {
            Content = new StringContent($$$"""{"requests":[{"id":"1","method":"GET","url":"Visits"},{"id":"2","method":"GET","url":"Visits","headers":{"Authorization":"{{{Basic("ines:open sesame")}}}"}}]}""", Encoding.UTF8, "application/json"),
        };
        request.Headers.TryAddWithoutValidation("Authorization", "Bearer " + _key);
        using var answer = await client.SendAsync(request);
        var bodies = JsonDocument.Parse(await answer.Content.ReadAsStringAsync()).RootElement.GetProperty("responses").EnumerateArray().Select(r => r.GetProperty("body").GetProperty("value").GetArrayLength());
        Assert.Equal([1, 1], bodies);
    }

    [Fact] // an answer that waits is fetched by who asked for it
    public async Task An_answer_that_waits_is_the_callers()
    {
        var started = await _http.SendAsync("/odata/s/Visits", "GET", ("Prefer", "respond-async"), ("Authorization", Basic("ines:open sesame")));
        Assert.Equal(202, started.Status);
        var monitor = started.Header("Location")!;
        Assert.Equal(404, (await GetAsync(monitor, "Bearer " + _key)).Status);
        Assert.NotEqual(200, (await GetAsync(monitor)).Status);
        Assert.Contains((await GetAsync(monitor, Basic("ines:open sesame"))).Status, new[] { 200, 202 });
    }

    [Fact]
    public async Task The_list_of_services_is_the_callers()
    {
        string Names(Answer answer) => string.Join(',', answer.Json.GetProperty("services").EnumerateArray().Select(s => s.GetProperty("name").GetString()));
        Assert.Equal("s", Names(await GetAsync("/services")));
        Assert.Equal("closed,s", Names(await GetAsync("/services", Basic("ines:open sesame"))));
    }
}
