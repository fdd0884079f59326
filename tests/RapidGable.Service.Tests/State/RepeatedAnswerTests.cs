using System.Text.Json;
using RapidGable.Core.Tests;
using RapidGable.Service.State;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>Answers of repeatable requests that the state keeps: what becomes of them when somebody stops in between.</summary>
public sealed class RepeatedAnswerTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .WithDatabase("CREATE TABLE river (code TEXT NOT NULL PRIMARY KEY, name TEXT)")
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .WithService(
                "  - { from: river, name: Rivers, type: River, allow: [read, create], rules: { read: anyone, create: anyone } }\n"
            );
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private IStateStore State => WorkspaceState.Of(_folder.Folder);

    private Task<Answer> PostAsync(string face, string id)
    {
        (string, string)[] headers =
            face == "odata"
                ? [("Repeatability-Request-ID", id), ("Repeatability-First-Sent", DateTimeOffset.UtcNow.ToString("r"))]
                : [("Idempotency-Key", id)];
        return _http.SendAsync($"/{face}/s/Rivers", "POST", """{"code":"A","name":"Alder"}""", headers);
    }

    private async Task<string> CountAsync() => (await _http.SendAsync("/odata/s/Rivers/$count")).Text;

    private void Rewrite(Func<string, string> change)
    {
        var name = Assert.Single(State.Names(StateRooms.Answers));
        var kept = State.Find(StateRooms.Answers, name)!;
        var text = change(System.Text.Encoding.UTF8.GetString(kept.Bytes.Span));
        State.Write(StateRooms.Answers, name, System.Text.Encoding.UTF8.GetBytes(text), kept.Version);
    }

    [Theory]
    [InlineData("odata")]
    [InlineData("rest")]
    public async Task A_change_whose_end_nobody_knows_is_not_made_again(string face)
    {
        Assert.Equal(201, (await PostAsync(face, "a-1")).Status);
        // As a service leaves it that was killed before it could say that the change is final.
        Rewrite(t => t.Replace("\"isFinal\": true", "\"isFinal\": false"));
        var soon = await PostAsync(face, "a-1");
        Assert.Equal(409, soon.Status);
        Assert.Contains("being answered right now", soon.Text);
        var began = DateTimeOffset.UtcNow.AddMinutes(-10).ToString("O");
        Rewrite(t =>
        {
            var node = System.Text.Json.Nodes.JsonNode.Parse(t)!;
            node["began"] = began;
            return node.ToJsonString();
        });
        var late = await PostAsync(face, "a-1");
        Assert.Equal(409, late.Status);
        Assert.Contains("does not know whether it did", late.Text);
        Assert.Equal("1", await CountAsync());
    }

    [Fact]
    public async Task A_change_that_is_undone_may_be_sent_again()
    {
        Assert.Equal(201, (await PostAsync("odata", "b-1")).Status);
        // The same key is there already.
        Assert.Equal(409, (await PostAsync("odata", "b-2")).Status);
        Assert.Single(State.Names(StateRooms.Answers));
    }

    [Fact]
    public async Task What_is_damaged_or_cannot_be_kept_changes_nothing()
    {
        Assert.Equal(201, (await PostAsync("rest", "c-1")).Status);
        Rewrite(_ => "{");
        var damaged = await PostAsync("rest", "c-1");
        Assert.Equal((503, "state"), (damaged.Status, damaged.Json.GetProperty("code").GetString()));
        Assert.Equal("1", await CountAsync());
        // Another id has a document of its own.
        Assert.Equal(409, (await PostAsync("rest", "c-2")).Status);
    }

    [Fact]
    public async Task Answers_of_former_days_are_removed()
    {
        State.Write(StateRooms.Answers, "20200101-00.json", "{}"u8.ToArray(), null);
        Assert.Equal(201, (await PostAsync("odata", "d-1")).Status);
        var name = Assert.Single(State.Names(StateRooms.Answers));
        using var kept = JsonDocument.Parse(State.Find(StateRooms.Answers, name)!.Bytes);
        Assert.True(kept.RootElement.GetProperty("isFinal").GetBoolean());
    }
}
