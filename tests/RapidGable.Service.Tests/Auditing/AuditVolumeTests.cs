using RapidGable.Core.Tests;
using RapidGable.Model;
using RapidGable.Service.Auditing;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>Refusals in numbers fill no log, and reading a log of any size holds little of it.</summary>
[Trait("Category", "Attack")]
public sealed class AuditVolumeTests : IDisposable
{
    private static readonly DateTime Noon = new(2026, 5, 1, 12, 0, 0, DateTimeKind.Utc);

    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase("CREATE TABLE river (id INTEGER PRIMARY KEY)")
        .Write("services/s.yaml", "title: S\nsource: main\nsets: [{ from: river, rules: { read: [office] } }]\n");

    public void Dispose() => _folder.Dispose();

    private static AuditEvent Refusal(DateTime time) => new(time, AuditEvents.Refused);

    [Fact]
    public void Like_refusals_are_one_line_in_a_minute()
    {
        var counter = new RefusalCounter();
        Assert.NotNull(counter.Add("a", Refusal(Noon)));
        for (var i = 0; i < 20_000; i++)
            Assert.Null(counter.Add("a", Refusal(Noon.AddMilliseconds(i))));
        Assert.NotNull(counter.Add("b", Refusal(Noon)));
        Assert.Empty(counter.Collect(Noon.AddSeconds(59)));
        var told = Assert.Single(counter.Collect(Noon.AddSeconds(61)));
        Assert.Equal(20_000, told.Count);
        // The next one begins anew.
        Assert.NotNull(counter.Add("a", Refusal(Noon.AddSeconds(62))));
        Assert.Empty(counter.Collect(Noon.AddSeconds(200)));
    }

    [Fact]
    public void Different_refusals_are_capped_in_a_day()
    {
        var counter = new RefusalCounter();
        var (noted, reached) = (0, 0);
        for (var i = 0; i < Limits.RefusalsNoted + 1_000; i++)
        {
            noted += counter.Add("kind " + i, Refusal(Noon)) is null ? 0 : 1;
            reached += counter.TakeReached(Noon) is null ? 0 : 1;
        }
        Assert.Equal((Limits.RefusalsNoted, 1), (noted, reached));
        Assert.Empty(counter.Collect(Noon.AddMinutes(5)));
        // The day after says how many there were, and notes again.
        Assert.Equal(1_000, Assert.Single(counter.Collect(Noon.AddDays(1))).Count);
        Assert.NotNull(counter.Add("kind 1", Refusal(Noon.AddDays(1))));
    }

    /// <summary>Makes the log of a workspace one that cannot be written, or can again.</summary>
    private static void Block(string folder, bool isBlocked)
    {
        var audit = Path.Combine(folder, "state", "audit");
        var aside = audit + ".aside";
        if (isBlocked)
        {
            if (Directory.Exists(audit))
                Directory.Move(audit, aside);
            File.WriteAllText(audit, "");
            return;
        }
        File.Delete(audit);
        if (Directory.Exists(aside))
            Directory.Move(aside, audit);
    }

    private TestWorkspace Writable(string audit) =>
        _folder
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .Write(
                "services/s.yaml",
                $"title: S\nsource: main\n{audit}sets: [{{ from: river, allow: [read, create], rules: {{ read: anyone, create: anyone }} }}]\n"
            );

    [Fact] // what cannot be written waits, and nothing of it is lost
    public async Task Events_wait_for_a_log_that_cannot_be_written()
    {
        await using var http = await RunningService.StartAsync(Writable("").Folder);
        await http.SendAsync("/rest/s/river", "POST", "{}");
        await http.SaysAsync("/manage/audit", "\"changed\"");
        Block(_folder.Folder, isBlocked: true);
        for (var i = 0; i < 3; i++)
            Assert.Equal(201, (await http.SendAsync("/rest/s/river", "POST", "{}")).Status);
        await http.SaysAsync("/health/ready", "events wait");
        Block(_folder.Folder, isBlocked: false);
        for (var i = 0; i < 200 && Changes(await http.SendAsync("/manage/audit?event=changed")) < 4; i++)
            await Task.Delay(50);
        Assert.Equal(4, Changes(await http.SendAsync("/manage/audit?event=changed")));
    }

    private static int Changes(Answer answer) => answer.Json.GetProperty("events").GetArrayLength();

    [Fact]
    public async Task A_service_that_requires_the_log_changes_nothing_without_it()
    {
        await using var http = await RunningService.StartAsync(Writable("audit: required\n").Folder);
        Assert.Equal(201, (await http.SendAsync("/rest/s/river", "POST", "{}")).Status);
        Block(_folder.Folder, isBlocked: true);
        const string Group =
            """{"requests":[{"id":"1","atomicityGroup":"g","method":"POST","url":"river","headers":{"content-type":"application/json"},"body":{}}]}""";
        Assert.Equal(503, (await http.SendAsync("/rest/s/river", "POST", "{}")).Status);
        Assert.Equal(503, (await http.SendAsync("/odata/s/river", "POST", "{}")).Status);
        Assert.Contains("\"state\"", (await http.SendAsync("/odata/s/$batch", "POST", Group)).Text);
        Assert.Equal("1", (await http.SendAsync("/odata/s/river/$count")).Text);
        Block(_folder.Folder, isBlocked: false);
        Assert.Equal(201, (await http.SendAsync("/odata/s/river", "POST", "{}")).Status);
        Assert.Contains("kept before the change", (await http.SendAsync("/manage/audit?event=changed")).Text);
    }

    [Fact]
    public async Task A_log_that_is_required_must_be_kept()
    {
        Writable("audit: required\n").Write("workspace.yaml", "title: T\naudit: false\n");
        await using var loaded = await _folder.LoadAsync();
        Assert.Contains(loaded.Diagnostics.Items, d => d.Code == "audit" && d.Message.Contains("requires the audit log"));
    }

    [Fact]
    public async Task Two_thousand_refusals_are_a_few_lines()
    {
        await using (var http = await RunningService.StartAsync(_folder.Folder))
        {
            await Task.WhenAll(
                Enumerable
                    .Range(0, 8)
                    .Select(async _ =>
                    {
                        for (var i = 0; i < 250; i++)
                            Assert.Equal(404, (await http.SendAsync($"/odata/s/river({i})")).Status);
                    })
            );
        }
        var lines = Directory
            .GetFiles(Path.Combine(_folder.Folder, "state", "audit"))
            .SelectMany(File.ReadAllLines)
            .Where(l => l.Contains("\"refused\""))
            .ToList();
        Assert.InRange(lines.Count, 1, 30);
        Assert.Equal(
            2_000,
            lines.Sum(l => System.Text.Json.JsonDocument.Parse(l).RootElement.TryGetProperty("count", out var more) ? more.GetInt32() : 1)
        );
    }

    [Fact] // lines longer than a piece of the file, and pieces that end within lines and letters
    public void A_log_is_read_from_its_end()
    {
        var folder = new AuditInState(new FolderState(Path.Combine(_folder.Folder, "log"), _folder.Folder));
        var details = Enumerable.Range(0, 3_000).Select(i => $"größe {i} " + new string('é', i % 97)).ToList();
        folder.Append(details.Select((d, i) => new AuditEvent(Noon.AddSeconds(i), AuditEvents.Management) { Detail = d }));
        folder.Append([new AuditEvent(Noon.AddDays(1), AuditEvents.SignIn)]);
        Assert.Equal(Enumerable.Reverse(details).Prepend(null), folder.Read().Select(e => e.Detail));
        Assert.Equal(AuditEvents.SignIn, folder.Read().First().Event);
    }
}
