using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using RapidGable.Access;
using RapidGable.Core.Tests;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;

namespace RapidGable.Service.Tests;

/// <summary>Who may write what, requests that are sent again, and the commands that write.</summary>
public sealed class SafeWritingTests : IAsyncLifetime
{
    private const string Secret = "open sesame";
    private static readonly string Hash = PasswordHash.Make(Secret);
    private static readonly (string, string) Office = (
        "Authorization",
        "Basic " + Convert.ToBase64String(Encoding.UTF8.GetBytes("ines:" + Secret))
    );
    private static readonly (string, string) Field = (
        "Authorization",
        "Basic " + Convert.ToBase64String(Encoding.UTF8.GetBytes("tom:" + Secret))
    );

    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase(
            """
            CREATE TABLE station (code TEXT NOT NULL PRIMARY KEY, name TEXT NOT NULL, height REAL);
            CREATE TABLE visit (id INTEGER PRIMARY KEY, station_code TEXT REFERENCES station (code), region TEXT NOT NULL, fee INTEGER, note TEXT);
            CREATE TABLE gable_repeats (id VARCHAR(200) NOT NULL PRIMARY KEY, answer TEXT NOT NULL, at TIMESTAMP);
            INSERT INTO station VALUES ('ASH', 'Ashford Weir', 12.5);
            INSERT INTO visit VALUES (1, 'ASH', 'north', 10, 'a'), (2, 'ASH', 'south', 20, 'b')
            """
        )
        .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
        .Write(
            "services/s.yaml",
            """
            title: S
            source: main
            namespace: T
            rules: { read: anyone, create: anyone, update: anyone, delete: anyone }
            sets:
              - { from: station, name: Stations, allow: [read, create, update, delete], columns: { name: { max-length: 20 } } }
              - from: visit
                name: Visits
                allow: [read, create, update, delete]
                rules:
                  - { who: office, may: [read, create, update, delete] }
                  - { who: field, may: [read, create, update], rows: region eq @region, hide: fee }
            """
        );

    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        new AccountDirectory
        {
            Users = ImmutableSortedDictionary<string, UserAccount>
                .Empty.Add("ines", new UserAccount(Hash) { Roles = ["office"] })
                .Add("tom", new UserAccount(Hash) { Roles = ["field"], Attributes = Caller.AttributesOf([("region", "north")]) }),
        }.Write(_folder.Folder);
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private static (string, string)[] Repeat(string id, DateTimeOffset? sent = null) =>
        [("Repeatability-Request-ID", id), ("Repeatability-First-Sent", (sent ?? DateTimeOffset.UtcNow).ToString("r"))];

    private Task<Answer> PostAsync(string code, params (string, string)[] headers) =>
        _http.SendAsync("/odata/s/Stations", "POST", $$"""{"code":"{{code}}","name":"New"}""", headers);

    private async Task<string> CountAsync() => (await _http.SendAsync("/odata/s/Stations/$count")).Text;

    [Theory] // who, method, target, body -> status, what the office reads of Visits afterwards
    [InlineData("", "POST", "Visits", """{"id":3,"region":"north"}""", 401, "1n,2s")]
    [InlineData("", "PATCH", "Visits(1)", """{"note":"x"}""", 401, "1n,2s")]
    [InlineData("tom", "POST", "Visits", """{"id":3,"region":"north"}""", 201, "1n,2s,3n")]
    [InlineData("tom", "POST", "Visits", """{"id":3,"region":"south"}""", 403, "1n,2s")]
    [InlineData("tom", "POST", "Visits", """{"id":3,"region":"north","fee":1}""", 400, "1n,2s")] // not even that it is there
    [InlineData("tom", "PATCH", "Visits(1)", """{"fee":1}""", 400, "1n,2s")]
    [InlineData("tom", "PATCH", "Visits(1)", """{"region":"south"}""", 403, "1n,2s")]
    [InlineData("tom", "PATCH", "Visits(2)", """{"region":"north"}""", 404, "1n,2s")]
    [InlineData("tom", "DELETE", "Visits(1)", null, 403, "1n,2s")]
    [InlineData("tom", "DELETE", "Visits(2)", null, 403, "1n,2s")]
    [InlineData("tom", "PATCH", "Visits/$filter(id%20gt%200)/$each", """{"note":"all"}""", 204, "1n,2s")]
    [InlineData("ines", "PATCH", "Visits(2)", """{"region":"north"}""", 204, "1n,2n")]
    [InlineData("ines", "DELETE", "Visits(2)", null, 204, "1n")]
    public async Task What_is_written_keeps_to_the_rules_of_the_caller(
        string who,
        string method,
        string target,
        string? body,
        int status,
        string left
    )
    {
        (string, string)[] headers = who switch
        {
            "tom" => [Field],
            "ines" => [Office],
            _ => [],
        };
        var answer = await _http.SendAsync("/odata/s/" + target, method, body, headers);
        Assert.True(status == answer.Status, $"{answer.Status} {answer.Text}");
        var rows = await _http.SendAsync("/odata/s/Visits?$orderby=id", "GET", Office);
        Assert.Equal(
            left,
            string.Join(
                ',',
                rows.Json.GetProperty("value")
                    .EnumerateArray()
                    .Select(r => $"{r.GetProperty("id")}{r.GetProperty("region").GetString()![0]}")
            )
        );
        if (target.EndsWith("$each", StringComparison.Ordinal))
            Assert.Equal("b", (await _http.SendAsync("/odata/s/Visits(2)", "GET", Office)).Json.GetProperty("note").GetString());
    }

    [Fact]
    public async Task Changes_are_noted_with_who_made_them()
    {
        Assert.Equal(204, (await _http.SendAsync("/odata/s/Visits(1)", "PATCH", """{"note":"new"}""", Field)).Status);
        await _http.DisposeAsync();
        var lines = Directory
            .EnumerateFiles(Path.Combine(_folder.Folder, "state", "audit"))
            .SelectMany(File.ReadLines)
            .Where(l => l.Contains($"\"{AuditEvents.Changed}\"", StringComparison.Ordinal))
            .ToList();
        Assert.Contains("tom", Assert.Single(lines));
        Assert.Contains("Visits", lines[0]);
        Assert.DoesNotContain("new", lines[0]);
    }

    private async Task KeepAnswersAsync()
    {
        await _http.DisposeAsync();
        _folder.Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\nrepeats: gable_repeats\n");
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    [Theory] // kept in the state, and in a table of the source
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_request_that_comes_again_is_answered_again_and_done_once(bool isKept)
    {
        if (isKept)
            await KeepAnswersAsync();
        var headers = Repeat("5c3a7f5e-0001");
        var answers = await Task.WhenAll(Enumerable.Range(0, 16).Select(_ => PostAsync("B-1", headers)));
        foreach (var answer in answers)
            Assert.Equal(
                (201, answers[0].Text, answers[0].Header("Location"), "accepted"),
                (answer.Status, answer.Text, answer.Header("Location"), answer.Header("Repeatability-Result"))
            );
        Assert.Equal("2", await CountAsync());

        var other = await PostAsync("B-2", headers);
        Assert.Equal((400, "repeatability"), (other.Status, other.Json.GetProperty("error").GetProperty("code").GetString()));
        // The same id of another caller is another request.
        Assert.Equal(
            201,
            (await _http.SendAsync("/odata/s/Stations", "POST", """{"code":"B-3","name":"New"}""", [.. headers, Office])).Status
        );
        Assert.Equal("3", await CountAsync());
        // A DELETE that is sent again says what it said, not that the entity is gone.
        for (var i = 0; i < 2; i++)
            Assert.Equal(204, (await _http.SendAsync("/odata/s/Stations('B-3')", "DELETE", Repeat("5c3a7f5e-0002"))).Status);

        await _http.DisposeAsync();
        _http = await RunningService.StartAsync(_folder.Folder);
        Assert.Equal(
            (201, answers[0].Header("ETag")),
            await PostAsync("B-1", headers) is var again ? (again.Status, again.Header("ETag")) : default
        );
        Assert.Equal("2", await CountAsync());
    }

    [Fact]
    public async Task What_was_refused_may_be_tried_again()
    {
        var headers = Repeat("5c3a7f5e-0003");
        Assert.Equal(409, (await PostAsync("ASH", headers)).Status);
        await _http.SendAsync("/odata/s/Visits(1)", "DELETE", Office);
        await _http.SendAsync("/odata/s/Visits(2)", "DELETE", Office);
        Assert.Equal(204, (await _http.SendAsync("/odata/s/Stations('ASH')", "DELETE")).Status);
        Assert.Equal(201, (await PostAsync("ASH", headers)).Status);
    }

    [Theory]
    [InlineData("", "Wed, 01 May 2024 12:00:00 GMT", 400)]
    [InlineData("a b", "", 400)]
    [InlineData("a", "", 400)]
    [InlineData("a", "2024-05-01T12:00:00Z", 400)]
    [InlineData("a", "Wed, 01 May 2024 12:00:00 GMT", 412)]
    public async Task Wrong_repeatability_headers_are_refused(string id, string sent, int status)
    {
        var answer = await PostAsync("B-1", ("Repeatability-Request-ID", id), ("Repeatability-First-Sent", sent));
        Assert.True(status == answer.Status, $"{answer.Status} {answer.Text}");
        Assert.Equal(status == 412 ? "rejected" : null, answer.Header("Repeatability-Result"));
        Assert.Equal("1", await CountAsync());
    }

    private static string Group(params (string Id, string Code)[] stations) =>
        JsonSerializer.Serialize(
            new
            {
                requests = stations.Select(
                    (s, i) =>
                        new
                        {
                            id = $"{i}",
                            atomicityGroup = "g",
                            method = "POST",
                            url = "Stations",
                            headers = new Dictionary<string, string>
                            {
                                ["content-type"] = "application/json",
                                ["repeatability-request-id"] = s.Id,
                                ["repeatability-first-sent"] = DateTimeOffset.UtcNow.ToString("r"),
                            },
                            body = new { code = s.Code, name = "New" },
                        }
                ),
            }
        );

    private async Task<string> GroupAsync(params (string, string)[] stations) =>
        string.Join(
            ' ',
            (await _http.SendAsync("/odata/s/$batch", "POST", Group(stations)))
                .Json.GetProperty("responses")
                .EnumerateArray()
                .Select(r => r.GetProperty("status").GetInt32())
        );

    [Theory] // kept in the state, and in a table of the source
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_group_that_comes_again_is_answered_again_and_done_once(bool isKept)
    {
        if (isKept)
            await KeepAnswersAsync();
        // A group that fails keeps nothing, not even of what went well in it.
        Assert.Equal("424 409", await GroupAsync(("a", "B-1"), ("b", "ASH")));
        Assert.Equal("201 201", await GroupAsync(("a", "B-1"), ("b", "B-2")));
        var answers = await Task.WhenAll(Enumerable.Range(0, 8).Select(_ => GroupAsync(("a", "B-1"), ("b", "B-2"))));
        Assert.All(answers, a => Assert.Equal("201 201", a));
        Assert.Equal("3", await CountAsync());
        Assert.Equal("400 424", await GroupAsync(("a", "B-3"), ("c", "B-4")));
        Assert.Equal("424 400", await GroupAsync(("d", "B-3"), ("d", "B-4")));
        // Several at once are done once as well.
        answers = await Task.WhenAll(Enumerable.Range(0, 8).Select(_ => GroupAsync(("e", "B-5"), ("f", "B-6"))));
        Assert.All(answers, a => Assert.Equal("201 201", a));
        Assert.Equal("5", await CountAsync());
    }

    [Theory] // format, text -> written, refused
    [InlineData(
        "jsonl",
        "{\"code\":\"B-1\",\"name\":\"One\"}\n\n{\"code\":\"ASH\",\"name\":\"Taken\"}\n{\"code\":\"B-2\",\"name\":\"A name "
            + "that is much too long\"}\n{\"code\":\"B-3\",\"name\":\"Three\",\"height\":1.5}\n",
        2,
        "3 409,4 400"
    )]
    [InlineData("jsonl", "{\"code\":\"B-1\",\"name\":\"One\"}\n{\"code\":\n{\"code\":\"B-2\",\"name\":\"Two\"}", 2, "2 0")]
    [InlineData("json", "[{\"code\":\"B-1\",\"name\":\"One\"},{\"code\":\"B-2\",\"name\":\"Two\"}]", 2, "")]
    [InlineData("json", "{\"code\":\"B-1\",\"name\":\"One\"}", 1, "")]
    [InlineData("csv", "code,name,height\r\nB-1,\"One, two\",1.5\r\nB-2,Two,\r\nB-3,Three,high\r\n", 2, "4 400")]
    [InlineData("csv", "\uFEFFcode;name;height\nB-1;\"Two\nlines\";1.5\n\nB-2;Two;7\n", 2, "")]
    [InlineData(
        "csv",
        "code,name,height\nB-1,\"Two\nlines\",1.5\nB-2,Two\nB-3,Three,1,2\nB-4,a 6\" pipe,1\nB-5,Five,2\n",
        2,
        "4 0,5 0,6 0"
    )]
    [InlineData("csv", "code,name,height\nB-1,One,1\n\nB-2,\"Two,2\nB-3,Three,3\n", 1, "4 0")]
    [InlineData("csv", "code,code,height\nB-1,One,1\n", 0, "2 400")]
    public async Task Send_writes_a_file(string format, string text, int written, string refused)
    {
        _folder.Write($"new.{format}", text);
        var sent = await Gable.RunAsync(
            _folder.Folder,
            "send",
            _http.Address + "/odata/s/Stations",
            $"new.{format}",
            "--json",
            "--report",
            "refused.jsonl"
        );
        Assert.True((refused.Length == 0 ? 0 : 1) == sent.Code, sent.Output + sent.Errors);
        Assert.Equal(written, sent.Json.GetProperty("written").GetInt32());
        Assert.Equal(
            refused,
            string.Join(
                ',',
                sent.Json.GetProperty("refused").EnumerateArray().Select(r => $"{r.GetProperty("line")} {r.GetProperty("status")}")
            )
        );
        Assert.Equal(
            refused.Split(',', StringSplitOptions.RemoveEmptyEntries).Length,
            File.ReadAllLines(Path.Combine(_folder.Folder, "refused.jsonl")).Length
        );
        Assert.Equal($"{written + 1}", await CountAsync());
        Assert.Empty(Directory.EnumerateFiles(_folder.Folder, "*.sent"));
    }

    [Theory] // numbers are sent as they are written
    [InlineData("1e-200", "1E-200")]
    [InlineData("1.7976931348623157e308", "1.7976931348623157E+308")]
    [InlineData("+007.50", "7.5")]
    [InlineData(".5", "0.5")]
    [InlineData("-0.25", "-0.25")]
    [InlineData("0", "0")]
    [InlineData("000", "0")]
    [InlineData("1,5", null)]
    [InlineData("1e", null)]
    [InlineData(".", null)]
    [InlineData("- 5", null)]
    public async Task A_number_of_a_table_is_sent_as_it_is_written(string text, string? expected)
    {
        _folder.Write("new.csv", $"code;name;height\nB-1;One;{text}\n");
        var sent = await Gable.RunAsync(_folder.Folder, "send", _http.Address + "/odata/s/Stations", "new.csv", "--json");
        Assert.True(expected is null == (sent.Code == 1), sent.Output + sent.Errors);
        if (expected is not null)
            Assert.Contains($"\"height\":{expected}", (await _http.SendAsync("/odata/s/Stations('B-1')")).Text);
    }

    [Theory] // the third request gets through, and its answer is lost
    [InlineData("")]
    [InlineData("--atomic")]
    [InlineData("--upsert")]
    public async Task Send_goes_on_where_it_was_broken_off_and_writes_nothing_twice(string option)
    {
        await using var proxy = await BreakingProxy.StartAsync(_http.Address, whole: 2);
        _folder.Write("new.csv", "code,name\n" + string.Concat(Enumerable.Range(1, 40).Select(i => $"B-{i},No {i}\n")));
        string[] call =
        [
            "send",
            proxy.Address + "/odata/s/Stations",
            "new.csv",
            "--batch",
            "10",
            "--json",
            .. option.Split(' ', StringSplitOptions.RemoveEmptyEntries),
        ];
        var broken = await Gable.RunAsync(_folder.Folder, call);
        Assert.Equal(1, broken.Code);
        Assert.True(proxy.IsBroken, broken.Output + broken.Errors);
        Assert.Contains("broken off after line 21:", broken.Errors); // the first line of the file are names
        Assert.Equal(20, broken.Json.GetProperty("written").GetInt32());
        Assert.Equal("31", await CountAsync());
        var point = Assert.Single(Directory.EnumerateFiles(_folder.Folder, "new.csv.*.sent"));
        Assert.EndsWith(" 21", File.ReadAllText(point));

        proxy.Mend();
        var rest = await Gable.RunAsync(_folder.Folder, call);
        Assert.True(rest.Code == 0, rest.Output + rest.Errors);
        Assert.Equal(
            (20, 0, 21),
            (
                rest.Json.GetProperty("written").GetInt32(),
                rest.Json.GetProperty("refused").GetArrayLength(),
                rest.Json.GetProperty("resumedAfter").GetInt32()
            )
        );
        Assert.Equal("41", await CountAsync());
        Assert.False(File.Exists(point));
    }

    [Fact]
    public async Task Send_again_is_refused_or_changes_what_is_there()
    {
        _folder.Write("new.jsonl", string.Concat(Enumerable.Range(1, 40).Select(i => $"{{\"code\":\"B-{i}\",\"name\":\"No {i}\"}}\n")));
        string[] call = ["send", _http.Address + "/odata/s/Stations", "new.jsonl", "--batch", "10", "--json"];
        Assert.Equal(0, (await Gable.RunAsync(_folder.Folder, call)).Code);
        Assert.Equal("41", await CountAsync());
        // Sent again as a whole, every line is refused: the keys are there.
        var again = await Gable.RunAsync(_folder.Folder, call);
        Assert.Equal(
            (1, 0, 40),
            (again.Code, again.Json.GetProperty("written").GetInt32(), again.Json.GetProperty("refused").GetArrayLength())
        );
        // With --upsert they are changed.
        var changed = await Gable.RunAsync(_folder.Folder, [.. call, "--upsert"]);
        Assert.Equal((0, 40), (changed.Code, changed.Json.GetProperty("written").GetInt32()));
        Assert.Equal("41", await CountAsync());

        var address = _http.Address;
        await _http.DisposeAsync();
        var broken = await Gable.RunAsync(_folder.Folder, call);
        Assert.Equal(1, broken.Code);
        Assert.Contains("no answer", broken.Errors);
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    [Fact]
    public async Task Send_writes_a_request_as_a_whole_when_asked()
    {
        _folder.Write("new.jsonl", "{\"code\":\"B-1\",\"name\":\"One\"}\n{\"code\":\"ASH\",\"name\":\"Taken\"}\n");
        var sent = await Gable.RunAsync(_folder.Folder, "send", _http.Address + "/odata/s/Stations", "new.jsonl", "--atomic", "--json");
        Assert.Equal((1, 0), (sent.Code, sent.Json.GetProperty("written").GetInt32()));
        Assert.Equal("1", await CountAsync());
    }

    [Theory]
    [InlineData("There is no file 'absent.csv'", "Stations", "absent.csv")]
    [InlineData("no entity set 'Statoins'", "Statoins", "-")]
    [InlineData("is not a header", "Stations", "-", "-H", "nocolon")]
    [InlineData("xml", "Stations", "-", "--format", "xml")]
    public async Task A_wrong_call_of_send_writes_nothing(string message, string set, params string[] more)
    {
        var sent = await Gable.RunWithAsync(
            "{\"code\":\"B-1\",\"name\":\"One\"}",
            _folder.Folder,
            ["send", _http.Address + "/odata/s/" + set, .. more]
        );
        Assert.InRange(sent.Code, 1, 2);
        Assert.Contains(message, sent.Errors);
        Assert.Equal("1", await CountAsync());
    }

    [Fact]
    public async Task Fill_makes_up_entities_that_keep_to_the_rules()
    {
        var shown = await Gable.RunAsync(_folder.Folder, "fill", "s/Stations", "-n", "3", "--seed", "7", "--show");
        Assert.Equal(3, shown.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries).Length);
        Assert.Equal(shown.Output, (await Gable.RunAsync(_folder.Folder, "fill", "s/Stations", "-n", "3", "--seed", "7", "--show")).Output);
        Assert.Equal("1", await CountAsync());
        var filled = await Gable.RunAsync(_folder.Folder, "fill", "s/Stations", "-n", "30");
        Assert.True(filled.Code == 0, filled.Output + filled.Errors);
        Assert.Equal("31", await CountAsync());
        Assert.Equal("31", (await _http.SendAsync("/odata/s/Stations/$count?$filter=length(name)%20le%2020")).Text);

        var visits = await Gable.RunAsync(_folder.Folder, "fill", "s/Visits", "-n", "20", "--as", "office");
        Assert.True(visits.Code == 0, visits.Output + visits.Errors);
        Assert.Equal("22", (await _http.SendAsync("/odata/s/Visits/$count", "GET", Office)).Text);
        Assert.NotEqual("0", (await _http.SendAsync("/odata/s/Stations/$count?$filter=Visits/any(v:v/id%20gt%202)", "GET", Office)).Text);
        // All or none: what the rules forbid leaves nothing behind.
        Assert.Equal(1, (await Gable.RunAsync(_folder.Folder, "fill", "s/Visits", "-n", "20")).Code);
        Assert.Equal("22", (await _http.SendAsync("/odata/s/Visits/$count", "GET", Office)).Text);
    }

    [Fact]
    public async Task Verify_writes_reads_back_and_leaves_nothing()
    {
        var before = (await _http.SendAsync("/odata/s/Visits?$orderby=id", "GET", Office)).Text + await CountAsync();
        var tried = await Gable.RunAsync(_folder.Folder, "verify", ".", "--writes", "--json");
        Assert.True(tried.Code == 0, tried.Output + tried.Errors);
        Assert.Contains("write", tried.Output);
        Assert.Equal(before, (await _http.SendAsync("/odata/s/Visits?$orderby=id", "GET", Office)).Text + await CountAsync());
        Assert.Equal(2, (await Gable.RunAsync(_folder.Folder, "verify", "--url", _http.Address + "/odata/s/", "--writes")).Code);
    }
}
