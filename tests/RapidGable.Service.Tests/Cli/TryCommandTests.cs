using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Requests that are kept, sent by the command and held to what they expect.</summary>
public sealed class TryCommandTests : IDisposable
{
    private const string Service = """
        title: S
        source: main
        namespace: T
        sets:
          - from: river
            name: Rivers
            type: River
            allow: [read, create]
            rules: [ { who: anyone, may: read, hide: [secret] }, { who: office, may: [read, create] } ]
        """;

    private readonly TestWorkspace _folder = new();

    public TryCommandTests() =>
        _folder
            .WithSource()
            .WithDatabase(
                "CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT, secret TEXT);"
                    + "INSERT INTO river VALUES (1, 'Alder', 'x'), (2, 'Birch', 'y')"
            )
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .Write("services/s.yaml", Service);

    public void Dispose() => _folder.Dispose();

    private Task<CommandResult> TryAsync(params string[] arguments) => Gable.RunAsync(_folder.Folder, ["try", ".", .. arguments]);

    [Fact]
    public async Task Requests_are_sent_as_their_callers()
    {
        // Line ends of other systems, and an address that goes on.
        var text = """
            @host = http://127.0.0.1:8460
            @service = {{host}}/rest/s

            ### All rivers
            # @name all
            # @expect status 200
            # @expect count 2
            # @expect order name
            # @expect value rows[1].name = "Birch"
            # @expect header Content-Type application/json
            # @expect schema
            # @expect without secret
            GET {{service}}/Rivers
              ?sort=name
            Accept: application/json

            ### The office sees more
            // @name office
            // @as office
            // @expect value secret = "x"
            GET {{service}}/Rivers/1
            Authorization: {{caller}}

            ### A new one
            # @name new
            # @as office
            # @expect status 201
            POST {{service}}/Rivers HTTP/1.1
            Content-Type: application/json

            { "name": "{{title}}" }

            ###
            @title = Cedar
            """;
        _folder.Write("requests/rivers.http", text.ReplaceLineEndings("\r\n"));
        var tried = await TryAsync("--json");
        Assert.True(tried.Code == 0, tried.Output + tried.Errors);
        var requests = tried.Json.GetProperty("requests").EnumerateArray().ToList();
        Assert.Equal(["all", "office", "new"], requests.Select(r => r.GetProperty("name").GetString()));
        Assert.Equal("office", requests[1].GetProperty("caller").GetString());
        Assert.Contains("--writes", requests[2].GetProperty("skipped").GetString());
        var written = await TryAsync("new", "--writes", "--show");
        Assert.True(written.Code == 0, written.Output + written.Errors);
        Assert.Contains("Cedar", written.Output);
        // As somebody else it is another matter.
        var refused = await TryAsync("office", "--as", "anonymous");
        Assert.Equal(1, refused.Code);
        Assert.Contains("There is no 'secret'.", refused.Output.ReplaceLineEndings(" "));
        var verified = await Gable.RunAsync(_folder.Folder, "verify", ".", "--html", "report.html");
        Assert.Equal(1, verified.Code);
        var page = File.ReadAllText(Path.Combine(_folder.Folder, "report.html"));
        Assert.Contains("There are 3 rows, not 2.", page);
        Assert.Contains("all as anonymous", page);
        Assert.DoesNotContain("<script", page);
    }

    [Theory]
    [InlineData("status 404", "The status is 200, not 404.")]
    [InlineData("count > 2", "There are 2 rows, not > 2.")]
    [InlineData("order name desc", "Row 1 is out of order")]
    [InlineData("value rows[0].name = \"Elm\"", "'rows[0].name' is \"Alder\", not \"Elm\".")]
    [InlineData("value rows[7].name = \"Elm\"", "There is no 'rows[7].name'.")]
    [InlineData("header X-None", "There is no header 'X-None'.")]
    [InlineData("without Alder", "The answer holds 'Alder'.")]
    [InlineData("time 0 ms", "and 0 ms are allowed")]
    [InlineData("count many", "'many' is no number of rows.")]
    public async Task What_is_not_as_expected_is_told(string expected, string message)
    {
        _folder.Write("requests/r.http", $"# @expect {expected}\nGET {{{{host}}}}/rest/s/Rivers?sort=name\n");
        var tried = await TryAsync();
        Assert.Equal(1, tried.Code);
        Assert.Contains(message, tried.Output.ReplaceLineEndings(" ").Replace("  ", " "));
    }

    [Theory]
    [InlineData("FETCH /rest/s/Rivers\n", "'FETCH' is no method")]
    [InlineData("GET {{hots}}/rest/s/Rivers\n", "There is no variable 'hots'. Did you mean 'host'?")]
    [InlineData("# @expect statsu 200\nGET /rest/s/Rivers\n", "Did you mean 'status'?")]
    [InlineData("GET /rest/s/Rivers\nno header\n", "A header is written")]
    [InlineData("POST /rest/s/Rivers\n\n< ./file.json\n", "A body from a file is not sent")]
    [InlineData("# @name a\nGET /a\n###\n# @name a\nGET /b\n", "Two requests are called 'a'")]
    [InlineData("# @name ../a\nGET /a\n", "'../a' cannot be the name of a request")]
    [InlineData("# @name a\n", "no line with its method")]
    [InlineData("@broken\nGET /a\n", "A variable is written")]
    [InlineData("GET /a\n\n\0\n", "The file is no text")]
    public async Task A_wrong_file_is_told_with_its_place(string text, string message)
    {
        _folder.Write("requests/r.http", text);
        var check = await Gable.RunAsync(_folder.Folder, "check", ".", "--no-data");
        Assert.Equal(1, check.Code);
        Assert.Contains("requests/r.http", check.Errors);
        Assert.Contains(message, check.Errors);
    }

    [Fact]
    public async Task An_example_shows_what_the_least_privileged_caller_sees()
    {
        _folder.Write(
            "requests/r.http",
            "# @name open\nGET {{host}}/rest/s/Rivers?limit=1\n\n### \n# @name closed\n# @as office\nGET {{host}}/rest/s/Rivers/1\n"
        );
        var kept = await TryAsync("open", "--keep");
        Assert.True(kept.Code == 0, kept.Output + kept.Errors);
        var example = File.ReadAllText(Path.Combine(_folder.Folder, "requests/open.example.json"));
        Assert.Contains("Alder", example);
        Assert.DoesNotContain("secret", example);
        // What the office sees beyond is refused, not left out in silence.
        var refused = await TryAsync("closed", "--keep");
        Assert.Equal(1, refused.Code);
        Assert.Contains("'secret' is not for anonymous", refused.Errors);
        Assert.False(File.Exists(Path.Combine(_folder.Folder, "requests/closed.example.json")));
        Assert.Equal(0, (await TryAsync("open", "--keep", "--made-up")).Code);
        Assert.DoesNotContain("Alder", File.ReadAllText(Path.Combine(_folder.Folder, "requests/open.example.json")));
        await using (var http = await RunningService.StartAsync(_folder.Folder))
        {
            var media = (await http.SendAsync("/rest/s/openapi.json"))
                .Json.GetProperty("paths")
                .GetProperty("/Rivers")
                .GetProperty("get")
                .GetProperty("responses")
                .GetProperty("200")
                .GetProperty("content")
                .GetProperty("application/json");
            Assert.Equal(
                "text",
                media
                    .GetProperty("examples")
                    .GetProperty("open")
                    .GetProperty("value")
                    .GetProperty("rows")[0]
                    .GetProperty("name")
                    .GetString()
            );
        }
        Assert.Equal(0, (await Gable.RunAsync(_folder.Folder, "verify", ".")).Code);
        // The example no longer fits.
        _folder.Write("services/s.yaml", Service.Replace("type: River\n", "type: River\n    columns: { name: { name: title } }\n"));
        var verified = await Gable.RunAsync(_folder.Folder, "verify", ".", "--json");
        Assert.Equal(1, verified.Code);
        Assert.Contains("It holds 'name', which the answer to anonymous has not any more.", verified.Output);
        _folder.Write("requests/open.example.json", "{}");
        Assert.Contains("It is no example", (await Gable.RunAsync(_folder.Folder, "check", ".", "--no-data")).Errors);
    }

    [Fact] // rows that a rule keeps from a caller are kept from them in the description, too
    public async Task An_example_is_for_those_who_may_see_its_rows()
    {
        const string Both = """
            title: S
            source: main
            namespace: T
            sets:
              - from: river
                name: Rivers
                type: River
                rules: [ { who: office, may: read }, { who: field, may: read, rows: id eq 2 } ]
            """;
        _folder
            .Write("services/s.yaml", Both)
            .Write("requests/r.http", "# @name all\n# @as office\nGET {{host}}/rest/s/Rivers?limit=1\n")
            .Write(
                "requests/all.example.json",
                """{"request":"all","as":"office","body":{"rows":[{"id":1,"name":"Kept back","secret":"x"}]}}"""
            );
        async Task<string> DescribedAsync(string role)
        {
            var made = await Gable.RunAsync(_folder.Folder, "api-key", "make", ".", role, "--role", role);
            await using var http = await RunningService.StartAsync(_folder.Folder);
            var key = ("Authorization", "Bearer " + made.Output.Trim().Split('\n')[^1].Trim());
            return (await http.SendAsync("/rest/s/openapi.json", "GET", key)).Text;
        }
        Assert.Contains("Kept back", await DescribedAsync("office"));
        Assert.DoesNotContain("Kept back", await DescribedAsync("field"));
        // Made-up values are nobody's.
        Assert.Equal(0, (await TryAsync("all", "--keep", "--made-up", "--as", "field")).Code);
        Assert.Contains("\"all\"", await DescribedAsync("field"));
    }

    [Theory]
    [InlineData("There is no request 'al'. Did you mean 'all'?", "al")]
    [InlineData("'No Body!' is no user", "--as", "No Body!")]
    public async Task A_wrong_call_is_refused(string message, params string[] arguments)
    {
        _folder.Write("requests/r.http", "# @name all\nGET {{host}}/rest/s/Rivers\n");
        var refused = await TryAsync(arguments);
        Assert.Equal(2, refused.Code);
        Assert.Contains(message, refused.Errors);
    }
}
