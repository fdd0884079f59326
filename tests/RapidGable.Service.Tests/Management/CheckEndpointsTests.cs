using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>What the client's commands find is what the management interface says: both run the same use cases.</summary>
public sealed class CheckEndpointsTests : IDisposable
{
    private static readonly (string, string) Client = ("Gable-Client", "test");
    private static readonly (string, string) Nobody = ("Cookie", "other=1");
    private readonly TestWorkspace _files = new TestWorkspace()
        .WithSource()
        .WithDatabase("CREATE TABLE river (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO river VALUES (1, 'Alder'), (2, 'Ferrin');")
        .WithService("  - river\n");

    public void Dispose() => _files.Dispose();

    private async Task<RunningService> StartAsync() => await RunningService.StartAsync(_files.Folder);

    [Fact]
    public async Task A_check_is_about_the_files_as_they_are_now()
    {
        await using var service = await StartAsync();
        var sound = await service.SendAsync("/manage/check", "POST", Client);
        Assert.Equal((200, true), (sound.Status, sound.Json.GetProperty("ok").GetBoolean()));
        var proofs = sound.Json.GetProperty("services")[0].GetProperty("data").EnumerateArray().ToList();
        Assert.Equal(2, proofs.Max(p => p.GetProperty("rows").GetInt32()));
        Assert.All(proofs, p => Assert.Equal("river", p.GetProperty("set").GetString()));

        File.AppendAllText(Path.Combine(_files.Folder, "services", "s.yaml"), "  - lake\n");
        var faulty = await service.SendAsync("/manage/check?data=false", "POST", Client);
        var finding = faulty.Json.GetProperty("findings").EnumerateArray().First(f => f.GetProperty("severity").GetString() == "error");
        Assert.False(faulty.Json.GetProperty("ok").GetBoolean());
        Assert.Contains("lake", finding.GetProperty("message").GetString());
        Assert.True(finding.GetProperty("line").GetInt32() > 1);
        // What is published is as it was.
        Assert.Equal(200, (await service.SendAsync("/odata/s/river")).Status);
        var command = await Gable.RunAsync(_files.Folder, "check", "--no-data", "--json");
        Assert.Equal(1, command.Code);
        Assert.Equal(
            finding.GetProperty("message").GetString(),
            command.Json.GetProperty("findings").EnumerateArray().First().GetProperty("message").GetString()
        );
    }

    [Fact]
    public async Task Keys_are_found_and_unknown_names_are_said()
    {
        await using var service = await StartAsync();
        var keys = await service.SendAsync("/manage/sources/main/keys?name=river", "GET", Client);
        Assert.Equal((200, 2), (keys.Status, keys.Json.GetProperty("rows").GetInt32()));
        Assert.Contains("\"name\"", keys.Json.GetProperty("candidates").GetRawText());
        var missing = await service.SendAsync("/manage/sources/main/keys?name=rivr", "GET", Client);
        Assert.Equal(404, missing.Status);
        Assert.Contains("river", missing.Json.GetProperty("error").GetProperty("message").GetString());
    }

    [Theory]
    [InlineData("POST", "/manage/check")]
    [InlineData("GET", "/manage/sources/main/keys?name=river")]
    public async Task Only_administrators_are_answered(string method, string address)
    {
        await using var service = await StartAsync();
        Assert.Equal(401, (await service.SendAsync(address, method, Nobody, Client)).Status);
    }
}
