using System.Net;
using Microsoft.Extensions.DependencyInjection;
using RapidGable.Building;
using RapidGable.Core.Tests;
using RapidGable.Service.Hosting;
using RapidGable.Service.Publishing;
using RapidGable.Service.Revisions;
using RapidGable.Service.State;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>Publishing revisions, serving them, looking at them, and going back.</summary>
public sealed class PublishingTests : IDisposable
{
    private const string Rivers = "  - { from: river, name: Rivers, type: River }\n";
    private const string Sql =
        "CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(40), secret TEXT); INSERT INTO river VALUES (1, 'Alder', 'x')";

    private readonly TestWorkspace _folder = new();

    public PublishingTests() => _folder.WithSource().WithDatabase(Sql).WithService(Rivers);

    public void Dispose() => _folder.Dispose();

    private RevisionArchive Archive => new(WorkspaceState.Of(_folder.Folder));

    private Task<CommandResult> PublishAsync(string message, params string[] options) =>
        Gable.RunAsync(_folder.Folder, ["publish", ".", "--message", message, .. options]);

    /// <summary>A service of what is published.</summary>
    private async Task<(Microsoft.AspNetCore.Builder.WebApplication App, HttpClient Client)> ServeAsync()
    {
        var reader = new RevisionReader(_folder.Folder, Archive, _ => null);
        var loaded = await reader.LoadAsync(CancellationToken.None);
        var app = ServiceHost.Build(loaded, new ServiceOptions(0, IsQuiet: true, IsPublished: true, MeterName: Guid.NewGuid().ToString()));
        await app.StartAsync();
        return (app, new HttpClient { BaseAddress = new Uri(app.Urls.First()) });
    }

    private static async Task<string> UntilAsync(Func<Task<string>> ask, Func<string, bool> isIt)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        while (true)
        {
            var text = await ask();
            if (isIt(text))
                return text;
            Assert.False(limit.IsCancellationRequested, text);
            await Task.Delay(50, CancellationToken.None);
        }
    }

    [Fact]
    public async Task What_breaks_or_opens_needs_consent()
    {
        var shown = await Gable.RunAsync(_folder.Folder, "publish", ".");
        Assert.Equal(0, shown.Code);
        Assert.Contains("Nothing was published before", shown.Output);
        Assert.Equal(0, Archive.NewestNumber);
        Assert.Contains("Published as revision 1", (await PublishAsync("first")).Output);
        // The same again is no revision.
        var again = await PublishAsync("again");
        Assert.Equal(1, again.Code);
        Assert.Contains("The draft says what revision 1 says", again.Output);
        _folder.WithService("  - { from: river, name: Rivers, type: River, hide: [name] }\n");
        var breaking = await PublishAsync("hidden");
        Assert.Equal(1, breaking.Code);
        Assert.Contains("breaks odata T.River/name: the property is gone", breaking.Output);
        Assert.Contains("breaks rest  River.name: the member is gone", breaking.Output);
        Assert.Contains("--allow-breaking", breaking.Output);
        Assert.Equal(0, (await PublishAsync("hidden", "--allow-breaking")).Code);
        _folder.WithService(Rivers);
        var opening = await PublishAsync("shown");
        Assert.Equal(1, opening.Code);
        Assert.Contains("opens  anyone can now read Rivers.name", opening.Output);
        Assert.Equal(0, (await PublishAsync("shown", "--allow-opened")).Code);
        var history = (await Gable.RunAsync(_folder.Folder, "history", ".", "--json")).Json.GetProperty("revisions");
        Assert.Equal(["shown", "hidden", "first"], history.EnumerateArray().Select(r => r.GetProperty("message").GetString()));
        Assert.Contains("s: Rivers.name", history[0].GetProperty("opened")[0].GetString()!.Replace("anyone can now read ", ""));
        var difference = await Gable.RunAsync(_folder.Folder, "history", "diff", ".", "1", "2");
        Assert.Contains("T.River/name: the property is gone", difference.Output);
        Assert.Contains("the same", (await Gable.RunAsync(_folder.Folder, "history", "diff", ".", "1", "3")).Output);
    }

    [Theory]
    [InlineData("", "Say why")]
    [InlineData("  ", "Say why")]
    [InlineData("a\tb", "control characters")]
    public async Task A_message_says_why(string message, string expected)
    {
        var refused = await PublishAsync(message);
        Assert.Equal(2, refused.Code);
        Assert.Contains(expected, refused.Errors);
    }

    [Theory] // each thing that a service can say beside its sets, and what is kept with it
    [InlineData("services/s.yaml", "about: { version: '2' }\n")]
    [InlineData("services/s.yaml", "deprecated: true\n")]
    [InlineData("services/s.yaml", "sql: { who: office }\n")]
    [InlineData("workspace.yaml", "revisions: { keep-days: 3 }\n")]
    [InlineData("requests/r.http", "GET {{host}}/rest/s/Rivers\n")]
    public async Task Every_change_can_be_published(string file, string line)
    {
        Assert.Equal(0, (await PublishAsync("first")).Code);
        var path = Path.Combine(_folder.Folder, file);
        _folder.Write(file, (File.Exists(path) ? File.ReadAllText(path) : "") + line);
        var published = await PublishAsync("second", "--allow-opened");
        Assert.True(published.Code == 0, published.Output + published.Errors);
        Assert.Equal(2, Archive.NewestNumber);
    }

    [Fact]
    public void A_message_of_a_megabyte_is_refused() =>
        Assert.Contains("the most are 2000", PublishWorkspace.MessageFault(new string('x', 1_000_000)));

    [Fact]
    public async Task What_does_not_check_is_not_published()
    {
        _folder.WithService("  - rivre\n");
        var refused = await PublishAsync("first");
        Assert.Equal(1, refused.Code);
        Assert.Contains("rivre", refused.Errors);
        Assert.Equal(0, Archive.NewestNumber);
    }

    [Fact]
    public async Task Of_two_who_publish_at_once_one_is_told()
    {
        await using var draft = await _folder.LoadAsync();
        // Of those who lost nothing is left.
        var publishing = Enumerable.Range(0, 6).Select(_ => new PublishWorkspace(draft, Archive, TimeProvider.System)).ToList();
        var review = await publishing[0].ReviewAsync(false, _ => { }, CancellationToken.None);
        var results = await Task.WhenAll(
            publishing.Select(
                (p, i) =>
                    Task.Run(() => p.PublishAsync(review, new PublishConsent($"admin {i}", "mine", false, false), CancellationToken.None))
            )
        );
        Assert.Single(results, r => r.Revision is not null);
        Assert.All(results.Where(r => r.Revision is null), r => Assert.Equal("overtaken", r.Refusal!.Code));
        Assert.Equal(1, Archive.NewestNumber);
        Assert.NotEmpty(Archive.Read(1).Services);
        Assert.Single(Directory.GetFiles(Path.Combine(_folder.Folder, "state/contents")));
        // Who looked at the former state is told, too.
        var late = await publishing[0]
            .PublishAsync(review, new PublishConsent("late", "mine", true, true, BasedOn: 0), CancellationToken.None);
        Assert.Contains("published revision 1 in the meantime", late.Refusal!.Message);
    }

    [Fact] // whoever publishes, and whatever is under way
    public async Task No_request_fails_while_revisions_change()
    {
        await PublishAsync("first");
        var (app, client) = await ServeAsync();
        await using (app)
        using (client)
        {
            using var stop = new CancellationTokenSource();
            var seen = new System.Collections.Concurrent.ConcurrentDictionary<string, int>();
            var load = Enumerable
                .Range(0, 4)
                .Select(async _ =>
                {
                    while (!stop.IsCancellationRequested)
                    {
                        using var answer = await client.GetAsync("/odata/s/Rivers", CancellationToken.None);
                        Assert.Equal(HttpStatusCode.OK, answer.StatusCode);
                        var text = await answer.Content.ReadAsStringAsync(CancellationToken.None);
                        seen.AddOrUpdate(text[text.IndexOf("\"value\"", StringComparison.Ordinal)..], 1, (_, n) => n + 1);
                    }
                })
                .ToList();
            _folder.WithService("  - { from: river, name: Rivers, type: River, hide: [secret] }\n");
            Assert.Equal(0, (await PublishAsync("second", "--allow-breaking")).Code);
            await UntilAsync(() => client.GetStringAsync("/odata/s/Rivers"), t => !t.Contains("secret"));
            Assert.Equal(0, (await Gable.RunAsync(_folder.Folder, "history", "back", ".", "1", "--message", "no", "--allow-opened")).Code);
            await UntilAsync(() => client.GetStringAsync("/odata/s/Rivers"), t => t.Contains("secret"));
            await stop.CancelAsync();
            await Task.WhenAll(load);
            // Never a half of each.
            Assert.Equal(2, seen.Count);
        }
    }

    [Theory] // what is published while somebody walks -> what the next link gives
    [InlineData("  - { from: river, name: Rivers, type: River, page: 1, description: Waters }\n", 200)]
    [InlineData("  - { from: river, name: Rivers, type: River, page: 2, hide: [secret] }\n", 200)]
    [InlineData("  - { from: river, name: Rivers, type: River, page: 1, order: name desc }\n", 410)]
    [InlineData("  - { from: river, name: Rivers, type: River, page: 1, key: [name] }\n", 410)]
    [InlineData("  - { from: river, name: Rivers, type: River, page: 1, key: [id, name] }\n", 410)]
    [InlineData("  - { from: river, name: Rivers, type: River, page: 1, columns: { id: { type: String } } }\n", 410)]
    public async Task Next_links_go_on_unless_what_they_walk_has_changed(string set, int status)
    {
        _folder.WithDatabase("INSERT INTO river VALUES (2, 'Birch', 'y'), (3, 'Cedar', 'z')");
        _folder.WithService("  - { from: river, name: Rivers, type: River, page: 1 }\n");
        Assert.Equal(0, (await PublishAsync("first")).Code);
        var (app, client) = await ServeAsync();
        await using var running = app;
        using var asking = client;
        var links = new[]
        {
            await NextAsync(client, "odata/s/Rivers", "@odata.nextLink"),
            await NextAsync(client, "rest/s/Rivers", "next"),
        };
        _folder.WithService(set);
        var second = await PublishAsync("second", "--allow-breaking", "--allow-opened");
        Assert.True(second.Code == 0, second.Output + second.Errors);
        var registry = app.Services.GetRequiredService<ServiceRegistry>();
        await UntilAsync(() => Task.FromResult($"{registry.Workspace.Revision}"), r => r == "2");
        foreach (var link in links)
        {
            var answer = await client.GetAsync(link);
            Assert.Equal(status, (int)answer.StatusCode);
            if (status == 200)
                Assert.Contains("Birch", await answer.Content.ReadAsStringAsync());
        }
    }

    private static async Task<string> NextAsync(HttpClient client, string address, string link)
    {
        using var page = System.Text.Json.JsonDocument.Parse(await client.GetStringAsync(address));
        return page.RootElement.GetProperty(link).GetString()!;
    }

    [Fact]
    public async Task Files_are_served_only_when_they_are_published()
    {
        await PublishAsync("first");
        _folder.WithService("  - rivre\n");
        var (app, client) = await ServeAsync();
        await using (app)
        using (client)
            Assert.Contains("Alder", await client.GetStringAsync("/odata/s/Rivers"));
    }

    [Fact] // whoever publishes is killed after the revision is there and before its mark says so
    public async Task A_revision_without_its_mark_is_served_all_the_same()
    {
        await PublishAsync("first");
        var state = Path.Combine(_folder.Folder, "state");
        var aside = _folder.Folder + "-aside";
        var (app, client) = await ServeAsync();
        await using (app)
        using (client)
        {
            Assert.DoesNotContain("Lakes", await client.GetStringAsync("/odata/s/$metadata"));
            _folder.WithService("  - { from: river, name: Lakes, type: Lake, rules: { read: anyone } }\n");
            // Made beside the state, and brought there in the order in which a publisher writes, up to where it ends.
            Copy(_folder.Folder, aside);
            var made = await Gable.RunAsync(aside, "publish", ".", "--message", "second", "--allow-opened", "--allow-breaking");
            Assert.True(made.Code == 0, made.Output + made.Errors);
            foreach (var room in new[] { "contents", "revisions" })
            {
                foreach (var file in Directory.GetFiles(Path.Combine(aside, "state", room)).Where(f => !f.EndsWith("newest.json")))
                    File.Copy(file, Path.Combine(state, room, Path.GetFileName(file)), overwrite: true);
            }
            await UntilAsync(() => client.GetStringAsync("/odata/s/$metadata"), t => t.Contains("Lakes", StringComparison.Ordinal));
        }
        Directory.Delete(aside, recursive: true);
    }

    private static void Copy(string from, string to)
    {
        Directory.CreateDirectory(to);
        foreach (var file in Directory.GetFiles(from))
            File.Copy(file, Path.Combine(to, Path.GetFileName(file)));
        foreach (var folder in Directory.GetDirectories(from))
            Copy(folder, Path.Combine(to, Path.GetFileName(folder)));
    }

    [Fact]
    public async Task A_database_that_moves_is_told_with_who_is_affected()
    {
        await PublishAsync("first");
        _folder.WithDatabase("ALTER TABLE river RENAME COLUMN name TO title; ALTER TABLE river ADD COLUMN length_km REAL");
        // The service starts, since it needs no catalog.
        var (app, client) = await ServeAsync();
        await using (app)
        using (client)
        {
            Assert.Contains("Name=\"name\"", await client.GetStringAsync("/odata/s/$metadata"));
            await UntilAsync(() => client.GetStringAsync("/health/ready"), t => t.StartsWith("ready in part", StringComparison.Ordinal));
            using var failed = await client.GetAsync("/odata/s/Rivers");
            Assert.Equal(HttpStatusCode.ServiceUnavailable, failed.StatusCode);
        }
        var check = await Gable.RunAsync(_folder.Folder, "check", ".", "--no-data", "--json");
        Assert.Equal(1, check.Code);
        var drift = check.Json.GetProperty("drift").EnumerateArray().ToList();
        var gone = drift.Single(d => d.GetProperty("text").GetString() == "T.River/name: the property is gone");
        Assert.True(gone.GetProperty("breaks").GetBoolean());
        Assert.Equal("anyone", gone.GetProperty("affected")[0].GetString());
        Assert.Contains(drift, d => !d.GetProperty("breaks").GetBoolean() && d.GetProperty("text").GetString()!.Contains("length_km"));
    }

    [Fact]
    public async Task Going_back_says_what_is_missing()
    {
        await PublishAsync("first");
        _folder
            .WithDatabase("CREATE TABLE lake (id INTEGER NOT NULL PRIMARY KEY)")
            .WithService("  - { from: lake, name: Lakes, type: Lake }\n");
        Assert.Equal(0, (await PublishAsync("second", "--allow-breaking", "--allow-opened")).Code);
        _folder.WithDatabase("DROP TABLE river");
        var refused = await Gable.RunAsync(_folder.Folder, "history", "back", ".", "1", "--message", "back");
        Assert.Equal(1, refused.Code);
        Assert.Contains("does not fit the databases any more", refused.Output);
        Assert.Contains("river", refused.Errors);
        Assert.Equal(2, Archive.NewestNumber);
        Assert.Contains("the newest is 2", (await Gable.RunAsync(_folder.Folder, "history", "show", ".", "7")).Errors);
        Assert.Equal(2, (await Gable.RunAsync(_folder.Folder, "history", "back", ".", "7", "--message", "back")).Code);
    }

    [Fact]
    public async Task A_revision_is_kept_as_long_as_it_says()
    {
        _folder.Write("workspace.yaml", "title: T\nrevisions: { keep-days: 1 }\n");
        var clock = new Microsoft.Extensions.Time.Testing.FakeTimeProvider(new DateTimeOffset(2026, 5, 1, 0, 0, 0, TimeSpan.Zero));
        async Task<int> PublishedAsync(string sets)
        {
            _folder.WithService(sets);
            await using var draft = await _folder.LoadAsync();
            var publishing = new PublishWorkspace(draft, Archive, clock);
            var review = await publishing.ReviewAsync(false, _ => { }, CancellationToken.None);
            var (made, refusal) = await publishing.PublishAsync(review, new PublishConsent("a", "m", true, true), CancellationToken.None);
            Assert.True(made is not null, refusal?.Message);
            return made.Number;
        }
        Assert.Equal(1, await PublishedAsync(Rivers));
        Assert.Equal(new DateTime(2026, 5, 2, 0, 0, 0, DateTimeKind.Utc), Archive.Find(1)!.KeptUntil);
        // A clock that jumps by an hour, back and forth, changes no number and removes nothing early.
        clock.AdjustTime(clock.GetUtcNow().AddHours(-1));
        Assert.Equal(2, await PublishedAsync("  - { from: river, name: Waters, type: River }\n"));
        clock.Advance(TimeSpan.FromHours(1));
        Assert.Equal([2, 1], Archive.List().Select(r => r.Number));
        clock.Advance(TimeSpan.FromDays(2));
        Assert.Equal(3, await PublishedAsync(Rivers));
        Assert.Equal([3], Archive.List().Select(r => r.Number));
        Assert.Throws<StateException>(() => Archive.Read(1));
    }

    [Theory]
    [InlineData("contents", "damaged", "is damaged")]
    [InlineData("revisions/000001.json", "{\"number\": 1", "cannot be read")]
    public async Task A_damaged_revision_is_told(string file, string text, string message)
    {
        await PublishAsync("first");
        if (file == "contents")
            file = "contents/" + Path.GetFileName(Assert.Single(Directory.GetFiles(Path.Combine(_folder.Folder, "state/contents"))));
        _folder.Write("state/" + file, text);
        var served = await Gable.RunAsync(_folder.Folder, "history", "show", ".", "1", "--text", "services/s.yaml");
        Assert.Equal(1, served.Code);
        Assert.Contains(message, served.Errors);
        // Nothing is written over it.
        Assert.Equal(1, (await Gable.RunAsync(_folder.Folder, "history", "back", ".", "1", "--message", "x")).Code);
        Assert.Equal(text, File.ReadAllText(Path.Combine(_folder.Folder, "state", file)));
    }

    [Fact] // words that a later version writes are passed over, and those that an earlier one lacked are empty
    public async Task A_revision_of_another_version_is_served()
    {
        await PublishAsync("first");
        var summary = Path.Combine(_folder.Folder, "state/revisions/000001.json");
        File.WriteAllText(summary, File.ReadAllText(summary).Replace("\"message\"", "\"later\": 1, \"message\""));
        var content = Archive.Read(1);
        var state = WorkspaceState.Of(_folder.Folder);
        // What the databases said is asked again where the record does not hold it.
        var bare = content with { Record = content.Record with { Answers = content.Record.Answers.Clear() } };
        await using var loaded = await new RevisionReader(_folder.Folder, Archive, _ => null).LoadAsync(1, bare, CancellationToken.None);
        Assert.False(loaded.Diagnostics.HasErrors);
        Assert.Equal("Rivers", Assert.Single(Assert.Single(loaded.Services).Model.Sets).Name);
        Assert.Equal("first", new RevisionArchive(state).Find(1)!.Message);
    }

    [Fact] // the same services come from the record as came from the databases
    public async Task What_is_recorded_builds_the_same_services()
    {
        using var folder = new TestWorkspace();
        folder.WithSource().WithNetwork(50).WithService(NetworkFixture.AllSets);
        await using var asked = await folder.LoadAsync();
        var content = await PublishWorkspace.ContentOfAsync(asked, CancellationToken.None);
        var text = System.Text.Json.JsonSerializer.Serialize(content);
        var read = System.Text.Json.JsonSerializer.Deserialize<RapidGable.Publishing.RevisionContent>(text)!;
        folder.WithDatabase("DROP TABLE reading; DROP TABLE visit_task");
        var texts = new RapidGable.Publishing.RevisionTexts(folder.Folder, read);
        await using var told = await WorkspaceLoader.LoadAsync(texts, _ => null, CancellationToken.None, read.Record);
        Assert.Empty(told.Diagnostics.Items.Select(d => d.Render()));
        var again = await PublishWorkspace.ContentOfAsync(told, CancellationToken.None);
        Assert.Empty(PublishWorkspace.Compare(content, again));
        Assert.Equal(content.Services["s"].Metadata, again.Services["s"].Metadata);
    }

    [Fact]
    public async Task The_draft_is_previewed_by_administrators_only()
    {
        await PublishAsync("first");
        var key = (await Gable.RunAsync(_folder.Folder, "api-key", "make", ".", "admin", "--administrator"))
            .Output.Trim()
            .Split('\n')[^1]
            .Trim();
        _folder.WithService("  - { from: river, name: Rivers, type: River, hide: [secret] }\n");
        var (app, client) = await ServeAsync();
        await using (app)
        using (client)
        {
            using var refused = await client.GetAsync("/manage/preview/odata/s/Rivers");
            Assert.Equal(HttpStatusCode.Unauthorized, refused.StatusCode);
            async Task<(HttpStatusCode Status, string Text)> AskAsync(string target, string method = "GET", string? who = null)
            {
                using var request = new HttpRequestMessage(new HttpMethod(method), "/manage/preview" + target);
                request.Headers.Authorization = new("Bearer", key);
                request.Headers.Add("Gable-Client", "test");
                if (who is not null)
                    request.Headers.Add("Gable-As", who);
                using var answer = await client.SendAsync(request);
                return (answer.StatusCode, await answer.Content.ReadAsStringAsync());
            }
            var draft = await AskAsync("/odata/s/Rivers");
            Assert.DoesNotContain("secret", draft.Text);
            Assert.Contains("/manage/preview/odata/s/$metadata#Rivers", draft.Text);
            Assert.Contains("secret", await client.GetStringAsync("/odata/s/Rivers"));
            Assert.Equal(HttpStatusCode.MethodNotAllowed, (await AskAsync("/odata/s/Rivers(1)", "DELETE")).Status);
            Assert.Equal(HttpStatusCode.BadRequest, (await AskAsync("/odata/s/Rivers", who: "No Body!")).Status);
            using var spelled = new HttpRequestMessage(
                HttpMethod.Get,
                new Uri(
                    client.BaseAddress + "manage/previe%77/odata/s/Rivers",
                    new UriCreationOptions { DangerousDisablePathAndQueryCanonicalization = true }
                )
            );
            spelled.Headers.Authorization = new("Bearer", key);
            using var missing = await client.SendAsync(spelled);
            Assert.Equal(HttpStatusCode.NotFound, missing.StatusCode);
            // What is saved next is previewed next.
            _folder.WithService("  - rivre\n");
            var broken = await AskAsync("/odata/s/Rivers");
            Assert.Equal(HttpStatusCode.Conflict, broken.Status);
            Assert.Contains("rivre", broken.Text);
        }
        _folder.WithService("  - { from: river, name: Rivers, type: River, hide: [secret] }\n");
        var compared = await Gable.RunAsync(_folder.Folder, "compare", ".", "--get", "/rest/s/Rivers", "--json");
        Assert.Equal(1, compared.Code);
        Assert.Equal("rows[0].secret is gone", compared.Json.GetProperty("requests")[0].GetProperty("differences")[0].GetString());
    }
}
