using System.Text;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary><c>gable call</c> against the demo, and what is taken from the caller.</summary>
public sealed class CallCommandTests : IAsyncLifetime
{
    private const string Password = "clear-water-7";

    private readonly TestWorkspace _folder = new();
    private RunningService _service = null!;

    public async Task InitializeAsync()
    {
        await _folder.WithDemo().WithInesAsync(Password);
        await SetAsync("tom", "--role", "technician", "--attribute", "region=north");
        await SetAsync("mia", "--role", "technician", "--attribute", "region=south");
        await SetAsync("new", "--role", "technician");
        await SetAsync("rosa", "--role", "reporting");
        _service = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _service.DisposeAsync();
        _folder.Dispose();
    }

    private async Task SetAsync(params string[] account)
    {
        var made = await Gable.RunWithAsync(Password, _folder.Folder, ["user", "set", ".", .. account]);
        Assert.True(made.Code == 0, made.Errors);
    }

    private Task<CommandResult> CallAsync(string arguments) =>
        Gable.RunAsync(_folder.Folder, ["call", .. arguments.Split(' '), "--url", _service.Address]);

    [Theory]
    [InlineData("rivers/StationSummary station=AB-001", 0, "AB-001")]
    [InlineData("rivers/StationSummary station=AB-001 --format csv", 0, "code,name,closed_on,last_reading_at,sensors")]
    [InlineData("rivers/ReadingsSince quality=A --json", 0, "{\"readings\":")]
    [InlineData("rivers/DaysAbove station=AB-001 above=0 limit=1", 0, "1 row")]
    [InlineData("rivers/DaysAbove station=AB-001 above=100000", 0, "0 rows")]
    [InlineData("rivers/DaysAbove above=1", 2, "'station' is missing")]
    [InlineData("rivers/DaysAbove station=AB-001", 1, "'above' is missing")]
    [InlineData("rivers/DaysAbove station=AB-1 above=1", 1, "does not have the form")]
    [InlineData("rivers/DaysAbove station=AB-001 above=1 abov=2", 1, "Did you mean 'above'?")]
    [InlineData("rivers/DaysAbov station=AB-001", 1, "Did you mean 'DaysAbove'?")]
    [InlineData("river/DaysAbove station=AB-001", 1, "Did you mean 'rivers'?")]
    [InlineData("rivers", 2, "not a service and its query")]
    [InlineData("rivers/DaysAbove AB-001", 2, "not a parameter and its value")]
    [InlineData("fieldwork/OpenVisits until=2030-01-01", 1, "no service 'fieldwork' for you")]
    public async Task Calls_are_answered(string arguments, int code, string part)
    {
        var result = await CallAsync(arguments);
        Assert.True(code == result.Code, result.Output + result.Errors);
        Assert.Contains(part, code == 0 ? result.Output : result.Errors);
    }

    [Theory]
    [InlineData("fieldwork/PutOffVisits from=2024-05-14 to=2024-05-16", 0, "planned_for")]
    [InlineData("fieldwork/PutOffVisits from=1999-01-01 to=2024-05-16 --format csv", 0, "id,station,name,technician,planned_for,purpose")]
    [InlineData("fieldwork/PutOffVisits from=2024-05-14 to=2024-05-16 format=json", 0, "\"technician\":")]
    [InlineData("fieldwork/PutOffVisits from=2024-05-14", 1, "'to' is missing")]
    [InlineData("fieldwork/PutOffVisits from=2024-05-14 to=tomorrow", 1, "'to' is 'tomorrow'")]
    [InlineData("fieldwork/PutOffVisits from=2024-05-14 to=2024-05-16 region=south", 1, "no parameter 'region'")]
    [InlineData("fieldwork/PutOffVisit from=2024-05-14", 1, "Did you mean 'PutOffVisits'?")]
    public async Task Actions_are_called(string arguments, int code, string part)
    {
        var result = await CallAsync($"{arguments} --user tom:{Password}");
        Assert.True(code == result.Code, result.Output + result.Errors);
        Assert.Contains(part, code == 0 ? result.Output : result.Errors);
    }

    [Theory]
    [InlineData("rosa", "rivers", "SELECT code FROM Stations ORDER BY code LIMIT 1", "", 0, "AB-001")]
    [InlineData(
        "rosa",
        "rivers",
        "SELECT COUNT(*) AS n FROM Readings WHERE value > :above",
        "above=2.5 --json",
        0,
        "\"columns\":[{\"name\":\"n\""
    )]
    [InlineData("rosa", "rivers", "SELECT code FROM Stations ORDER BY code LIMIT 1", "--format csv", 0, "code\r\nAB-001")]
    [InlineData("rosa", "rivers", "SELECT nothing FROM Stations", "", 1, "       ^")]
    [InlineData("rosa", "rivers", "SELECT code FROM Stations WHERE id = :id", "", 1, "'id' is missing")]
    [InlineData("rosa", "rivers", "SELECT code FROM Stations", "x", 2, "not a parameter and its value")]
    [InlineData("rosa", "river", "SELECT 1", "", 1, "Did you mean 'rivers'?")]
    [InlineData("tom", "rivers", "SELECT code FROM Stations", "", 1, "takes no statements, or not from you")]
    [InlineData("tom", "fieldwork", "SELECT id FROM Visits", "", 1, "takes no statements, or not from you")]
    public async Task Statements_are_sent(string user, string service, string statement, string more, int code, string part)
    {
        string[] others = more.Length == 0 ? [] : more.Split(' ');
        var result = await Gable.RunAsync(
            _folder.Folder,
            ["sql", service, statement, .. others, "--user", $"{user}:{Password}", "--url", _service.Address]
        );
        Assert.True(code == result.Code, result.Output + result.Errors);
        Assert.Contains(part, code == 0 ? result.Output : result.Errors);
    }

    [Fact] // the region is that of the caller, whatever is asked
    public async Task What_is_taken_from_the_caller_cannot_be_set()
    {
        async Task<Answer> AsAsync(string user, string target) =>
            await _service.SendAsync(
                target,
                "GET",
                [("Authorization", "Basic " + Convert.ToBase64String(Encoding.UTF8.GetBytes($"{user}:{Password}")))]
            );
        const string Rest = "/rest/fieldwork/OpenVisits?until=2030-01-01&limit=100&fields=id";
        var (tom, mia) = (await AsAsync("tom", Rest), await AsAsync("mia", Rest));
        Assert.Equal((200, 200), (tom.Status, mia.Status));
        List<int> Ids(Answer answer) => [.. answer.Json.GetProperty("rows").EnumerateArray().Select(r => r.GetProperty("id").GetInt32())];
        Assert.NotEmpty(Ids(tom));
        Assert.NotEmpty(Ids(mia));
        Assert.Empty(Ids(tom).Intersect(Ids(mia)));
        // The same shape of request is planned once, and the value belongs to whoever asks.
        Assert.Equal(Ids(tom), Ids(await AsAsync("tom", Rest)));
        var odata = await AsAsync("tom", "/odata/fieldwork/OpenVisits(until=2030-01-01)?$select=id&$top=100");
        Assert.Equal(Ids(tom), odata.Json.GetProperty("value").EnumerateArray().Select(r => r.GetProperty("id").GetInt32()));
        Assert.Equal(400, (await AsAsync("tom", Rest + "&region=south")).Status);
        Assert.Equal(400, (await AsAsync("tom", "/odata/fieldwork/OpenVisits(until=2030-01-01,region='south')")).Status);
        Assert.Equal(403, (await AsAsync("new", Rest)).Status);
        var described = await AsAsync("tom", "/rest/fieldwork/openapi.json");
        var responses = described.Json.GetProperty("paths").GetProperty("/OpenVisits").GetProperty("get").GetProperty("responses");
        Assert.True(responses.TryGetProperty("403", out _));
        // A coordinator may do all but this.
        Assert.Equal(404, (await AsAsync("ines", Rest)).Status);
        Assert.DoesNotContain(
            "\"region\"",
            (await AsAsync("tom", "/odata/fieldwork/$metadata")).Text.Split("OpenVisits\"")[1].Split("</Function>")[0]
        );
    }
}
