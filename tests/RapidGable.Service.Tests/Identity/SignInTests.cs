using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using RapidGable.Access;
using RapidGable.Core.Tests;
using RapidGable.Service.Identity;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>Callers who sign in with a password or a key, over HTTP.</summary>
[Trait("Category", "Attack")]
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

    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase(
            "CREATE TABLE place (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO place VALUES (1, 'weir'); CREATE TABLE visit "
                + "(id INTEGER PRIMARY KEY, region TEXT, email TEXT, place_id INTEGER REFERENCES place (id)); INSERT INTO "
                + "visit VALUES (1, 'north', 'a@example.org', 1), (2, 'south', 'b@example.org', 1)"
        )
        .Write(
            "services/s.yaml",
            """
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
            """
        )
        .Write("services/closed.yaml", "title: C\nsource: main\nrules: { read: office }\nsets: [place]\n");

    private readonly Clock _clock = new();
    private RunningService _http = null!;
    private string _key = "";
    private string _keyId = "";

    public async Task InitializeAsync()
    {
        var north = Caller.AttributesOf([("region", "north")]);
        (var file, _keyId, _key) = new AccountDirectory
        {
            Users = ImmutableSortedDictionary<string, UserAccount>
                .Empty.Add("ines", new UserAccount(Ines) { Roles = ["office"] })
                .Add("tom", new UserAccount(Tom) { Roles = ["field"], Attributes = north }),
        }.WithKey(
            new ApiKey("loader", "", _clock.Now.UtcDateTime)
            {
                Roles = ["field"],
                Attributes = north,
                Expires = _clock.Now.UtcDateTime.AddDays(1),
            }
        );
        AccountsInState.Change(WorkspaceState.Of(_folder.Folder), _ => file);
        _http = await RunningService.StartAsync(_folder.Folder, _clock);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private static string Basic(string text) => "Basic " + Convert.ToBase64String(Encoding.UTF8.GetBytes(text));

    private Task<Answer> GetAsync(string path, string? authorization = null) =>
        _http.SendAsync(path, "GET", authorization is null ? [] : [("Authorization", authorization)]);

    private static string Ids(Answer answer) =>
        string.Join(',', answer.Json.GetProperty("value").EnumerateArray().Select(v => v.GetProperty("id").GetInt64()));

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
    [InlineData("/rest/s/Visits", 401)]
    [InlineData("/rest/s/Visits/1", 401)]
    [InlineData("/rest/s/Nothing", 401)]
    [InlineData("/rest/closed/", 401)]
    [InlineData("/rest/nothing/", 401)]
    [InlineData("/rest/s/Places", 200)]
    [InlineData("/rest/s/Places/1/Visits", 404)]
    [InlineData("/rest/s/openapi.json", 200)]
    [Proves("P-60, R-28")]
    public async Task Who_is_not_signed_in_is_asked_to(string path, int status)
    {
        var answer = await GetAsync(path);
        Assert.Equal(status, answer.Status);
        Assert.Equal(
            status == 401 ? "Basic realm=\"Test\", charset=\"UTF-8\", Bearer realm=\"Test\"" : null,
            answer.Header("WWW-Authenticate")
        );
    }

    [Theory]
    [InlineData("/odata/s/Nothing", 404)]
    [InlineData("/odata/closed/", 404)]
    [InlineData("/odata/nothing/", 404)]
    [InlineData("/odata/s/Visits(2)", 404)]
    [InlineData("/odata/s/Visits?$filter=email eq 'x'", 400)]
    [InlineData("/rest/s/Nothing", 404)]
    [InlineData("/rest/closed/", 404)]
    [InlineData("/rest/s/Visits/2", 404)]
    [InlineData("/rest/s/Visits?email=x", 400)]
    public async Task Who_is_signed_in_hears_that_it_is_not_there(string path, int status) =>
        Assert.Equal(status, (await GetAsync(path.Replace(" ", "%20"), "Bearer " + _key)).Status);

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

    [Fact] // those that wait for the slow hash are counted too
    public async Task Guesses_at_once_are_not_more_than_guesses_in_turn()
    {
        var answers = await Task.WhenAll(Enumerable.Range(0, 30).Select(i => GetAsync("/odata/s/Visits", Basic($"tom:guess {i}"))));
        Assert.InRange(
            answers.Count(a => a.Status == 401),
            Model.Limits.SignInAttempts,
            Model.Limits.SignInAttempts + Math.Max(1, Environment.ProcessorCount / 2) - 1
        );
        Assert.Equal(30, answers.Count(a => a.Status is 401 or 429));
    }

    [Fact]
    public async Task Answers_to_somebody_are_theirs_alone()
    {
        Assert.Equal("private, no-cache", (await GetAsync("/odata/s/Visits", "Bearer " + _key)).Header("Cache-Control"));
        Assert.Null((await GetAsync("/odata/s/Places")).Header("Cache-Control"));
    }

    [Fact]
    public async Task A_key_ends_with_its_time_and_when_it_is_revoked()
    {
        Assert.Equal(200, (await GetAsync("/odata/s/Visits", "Bearer " + _key)).Status);
        var file = AccountsInState.Read(WorkspaceState.Of(_folder.Folder))!;
        AccountsInState.Change(WorkspaceState.Of(_folder.Folder), f => f with { Keys = f.Keys.Remove(_keyId) });
        Assert.Equal(401, (await GetAsync("/odata/s/Visits", "Bearer " + _key)).Status);
        AccountsInState.Change(WorkspaceState.Of(_folder.Folder), _ => file);
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
        File.WriteAllText(Path.Combine(_folder.Folder, "state", "accounts", AccountsInState.Name), text);
        Assert.Equal(401, (await GetAsync("/odata/s/Visits", Basic("ines:open sesame"))).Status);
        Assert.Equal(200, (await GetAsync("/odata/s/Places")).Status);
    }

    [Fact]
    public void Secrets_are_not_in_the_file()
    {
        var text = File.ReadAllText(Path.Combine(_folder.Folder, "state", "accounts", AccountsInState.Name));
        Assert.DoesNotContain("sesame", text);
        Assert.DoesNotContain(_key.Split('_')[2], text);
        if (!OperatingSystem.IsWindows())
            Assert.Equal(
                UnixFileMode.UserRead | UnixFileMode.UserWrite,
                File.GetUnixFileMode(Path.Combine(_folder.Folder, "state", "accounts", AccountsInState.Name))
            );
    }

    [Fact] // requests inside of others are those of the outer caller
    public async Task A_batch_is_the_callers()
    {
        using var client = new HttpClient();
        using var request = new HttpRequestMessage(HttpMethod.Post, _http.Address + "/odata/s/$batch")
        {
            Content = new StringContent(
                $$$"""{"requests":[{"id":"1","method":"GET","url":"Visits"},{"id":"2","method":"GET","url":"Visits","headers":{"Authorization":"{{{Basic("ines:open sesame")}}}"}}]}""",
                Encoding.UTF8,
                "application/json"
            ),
        };
        request.Headers.TryAddWithoutValidation("Authorization", "Bearer " + _key);
        using var answer = await client.SendAsync(request);
        var bodies = JsonDocument
            .Parse(await answer.Content.ReadAsStringAsync())
            .RootElement.GetProperty("responses")
            .EnumerateArray()
            .Select(r => r.GetProperty("body").GetProperty("value").GetArrayLength());
        Assert.Equal([1, 1], bodies);
    }

    [Fact] // an answer that waits is fetched by who asked for it
    public async Task An_answer_that_waits_is_the_callers()
    {
        var started = await _http.SendAsync(
            "/odata/s/Visits",
            "GET",
            ("Prefer", "respond-async"),
            ("Authorization", Basic("ines:open sesame"))
        );
        Assert.Equal(202, started.Status);
        var monitor = started.Header("Location")!;
        Assert.Equal(404, (await GetAsync(monitor, "Bearer " + _key)).Status);
        Assert.NotEqual(200, (await GetAsync(monitor)).Status);
        Assert.Contains((await GetAsync(monitor, Basic("ines:open sesame"))).Status, new[] { 200, 202 });
    }

    [Fact]
    public async Task The_list_of_services_is_the_callers()
    {
        string Names(Answer answer) =>
            string.Join(',', answer.Json.GetProperty("services").EnumerateArray().Select(s => s.GetProperty("name").GetString()));
        Assert.Equal("s", Names(await GetAsync("/services")));
        Assert.Equal("closed,s", Names(await GetAsync("/services", Basic("ines:open sesame"))));
    }

    [Theory] // whatever way the address is written, what is closed stays closed
    [InlineData("/odata/s/../s/Visits")]
    [InlineData("/odata/s/Places/../Visits")]
    [InlineData("/odata/s/./Visits")]
    [InlineData("/odata/s//Visits")]
    [InlineData("/odata//s/Visits")]
    [InlineData("/odata/s/%56isits")]
    [InlineData("/odata/%73/Visits")]
    [InlineData("/odata/s/%2556isits")]
    [InlineData("/odata/s%2FVisits")]
    [InlineData("/odata/s/Places%2F..%2FVisits")]
    [InlineData("/odata/s/Places(1)%2f..%2f..%2fVisits")]
    [InlineData("/odata/s/%2e%2e/closed/place")]
    [InlineData("/odata/closed/place")]
    [InlineData("/odata/s/Visits;x=1")]
    [InlineData("/odata/s;x/Visits")]
    [InlineData("/odata/s/visits")]
    [InlineData("/odata/S/Visits")]
    [InlineData("/ODATA/s/Visits")]
    [InlineData("/odata/s/Visits%00")]
    [InlineData("/odata/s/Visits%20")]
    [InlineData("/odata/s/\u0056isits")]
    [InlineData("/odata/s/\uff36isits")]
    [InlineData("/odata/s/$entity?$id=Visits(1)")]
    [InlineData("/odata/s/$crossjoin(Places,Visits)")]
    [InlineData("/odata/s/$all")]
    [InlineData("/odata/s/$all/T.visit")]
    [InlineData("/odata/s/Places?$expand=Visits")]
    [InlineData("/odata/s/Places?$expand=*")]
    [InlineData("/odata/s/Places?$filter=Visits/any(v:startswith(v/email,'a'))")]
    [InlineData("/odata/s/Places?$compute=$root/Visits(1)/email as x")]
    [InlineData("/odata/s/Places/$filter(Visits/$count gt 1)")]
    [InlineData("/odata/s/Places?$orderby=Visits/$count")]
    [InlineData("/odata/s/Places?$apply=groupby((Visits/email))")]
    [InlineData("/odata/s/Places(1)/Visits/$ref")]
    [InlineData("/odata/s/Places(1)/Visits/$count")]
    [InlineData("/odata/s/Visits/$delta")]
    [InlineData("/odata/s/Visits?$deltatoken=x")]
    [InlineData("/odata/s/Visits?$skiptoken=x")]
    [InlineData("/odata/s/$metadata?$format=json")]
    [InlineData("/odata/s/$metadata#Visits")]
    [InlineData("/odata/s/")]
    [InlineData("/services")]
    [InlineData("/metrics")]
    public async Task No_spelling_opens_what_is_closed(string target)
    {
        var answer = Encoding.UTF8.GetString(
            Encoding.UTF8.GetBytes(
                await _http.SendRawAsync(
                    Encoding.UTF8.GetBytes($"GET {target.Replace(" ", "%20")} HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
                )
            )
        );
        Assert.Matches(@"^HTTP/1\.1 (200|30[18]|40\d|501)", answer);
        foreach (var secret in new[] { "example.org", "north", "south", "\"email", "visit\"" })
            Assert.DoesNotContain(secret, answer.Split("\r\n\r\n", 2)[1]);
        if (answer.StartsWith("HTTP/1.1 200", StringComparison.Ordinal))
            Assert.Matches(@"^/odata/s/(\$all|\$metadata.*|Places\?\$expand=\*|)$|^/services$|^/metrics$", target);
    }

    [Theory] // a second request that hides in the first, and headers that could be read in two ways
    [InlineData(
        "POST /odata/s/$batch HTTP/1.1\r\nHost: localhost\r\nContent-Length: 6\r\nTransfer-Encoding: "
            + "chunked\r\n\r\n0\r\n\r\nGET /odata/s/Visits HTTP/1.1\r\nHost: localhost\r\nAuthorization: KEY\r\nConnection: close\r\n\r\n"
    )]
    [InlineData(
        "GET /odata/s/Visits HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer x\r\nAuthorization: KEY\r\nConnection: close\r\n\r\n"
    )]
    [InlineData("GET /odata/s/Visits HTTP/1.1\r\nHost: localhost\r\nAuthorization : KEY\r\nConnection: close\r\n\r\n")]
    [InlineData("GET /odata/s/Visits HTTP/1.1\r\nHost: localhost\r\nX: y\r\n Authorization: KEY\r\nConnection: close\r\n\r\n")]
    [InlineData("GET /odata/s/Visits HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer KEY, Basic x\r\nConnection: close\r\n\r\n")]
    [InlineData("GET /odata/s/Visits HTTP/1.1\r\nHost: localhost\r\nHost: other\r\nAuthorization: KEY\r\nConnection: close\r\n\r\n")]
    [InlineData("GET http://evil.example.net/odata/s/Visits HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")]
    public async Task What_can_be_read_in_two_ways_opens_nothing(string request)
    {
        var answer = await _http.SendRawAsync(Encoding.ASCII.GetBytes(request.Replace("KEY", "Bearer " + _key, StringComparison.Ordinal)));
        Assert.DoesNotContain("\"region\":\"north\"", answer);
    }

    [Fact]
    public async Task A_name_of_a_megabyte_is_refused() =>
        Assert.Matches(
            "^HTTP/1.1 (431|401)",
            await _http.SendRawAsync(
                Encoding.ASCII.GetBytes(
                    $"GET /odata/s/Visits HTTP/1.1\r\nHost: localhost\r\nAuthorization: "
                        + $"{Basic(new string('n', 1_000_000) + ":x")}\r\nConnection: close\r\n\r\n"
                )
            )
        );

    [Theory] // names that look like another are others
    [InlineData("іnes")]
    [InlineData("ines\u200b")]
    [InlineData("ｉnes")]
    [InlineData("ines ")]
    [InlineData("ine\u0073\u0301")]
    public async Task A_name_that_looks_like_another_is_another(string name) =>
        Assert.Equal(401, (await GetAsync("/odata/s/Visits", Basic($"{name}:open sesame"))).Status);
}
