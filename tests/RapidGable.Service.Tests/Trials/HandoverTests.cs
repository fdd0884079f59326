using System.Net;
using System.Text.Json;
using System.Text.RegularExpressions;
using RapidGable.Core.Tests;
using RapidGable.Handover;

namespace RapidGable.Service.Tests;

/// <summary>What the consumers of a service get: only what its caller may see, with requests and programs that run.</summary>
public sealed partial class HandoverTests : IAsyncLifetime
{
    private const string Markup = "<b onclick=\"x\">Alder's</b>";
    private static readonly (string, string)[] Own = [("Gable-Client", "test")];

    private readonly TestWorkspace _folder = new();
    private RunningService _http = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .WithDatabase(
                $"""
                CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT, note TEXT);
                CREATE TABLE plan (id INTEGER NOT NULL PRIMARY KEY, what TEXT);
                INSERT INTO river VALUES (1, '{Markup.Replace(
                    "'",
                    "''"
                )}', 'hush'), (2, 'Birch', 'hush'), (3, 'Cedar', 'hush'), (4, 'Elm', 'hush');
                INSERT INTO plan VALUES (1, 'a dam');
                """
            )
            .Write(
                "services/s.yaml",
                """
                title: S
                source: main
                about: { description: What flows., owner: The office, contact: data@water.example, licence: CC-BY-4.0 }
                page: 2
                sets:
                  - from: river
                    name: Rivers
                    description: All that flows
                    rules:
                      - { who: anyone, may: read, hide: [note] }
                      - { who: office, may: read }
                  - from: plan
                    name: Plans
                    rules: { read: office }

                """
            )
            .Write("services/t.yaml", "title: T\nsource: main\nrules: { read: office }\nsets:\n  - plan\n");
        _http = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private Task<CommandResult> HandOverAsync(params string[] arguments) => Gable.RunAsync(_folder.Folder, ["handover", ".", .. arguments]);

    private string Read(string file) => File.ReadAllText(Path.Combine(_folder.Folder, file));

    [Fact]
    public async Task A_page_shows_what_its_caller_may_see_and_nothing_else()
    {
        var result = await HandOverAsync("s", "--address", "https://data.example");
        Assert.Equal((0, ""), (result.Code, result.Errors));
        var page = Read("handover/s/index.html");
        Assert.Contains("https://data.example/odata/s/", page);
        Assert.Contains("https://data.example/rest/s/", page);
        Assert.Contains("What flows.", page);
        Assert.Contains("Nobody needs to sign in", page);
        Assert.Contains("Alder", page);
        Assert.DoesNotContain("<b onclick", page);
        Assert.DoesNotContain("127.0.0.1", page);
        foreach (var file in Directory.GetFiles(Path.Combine(_folder.Folder, "handover/s")))
        {
            var text = await File.ReadAllTextAsync(file);
            Assert.DoesNotContain("hush", text);
            Assert.DoesNotContain("note", text);
            Assert.DoesNotContain("Plans", text);
        }
        Assert.Equal(4, Directory.GetFiles(Path.Combine(_folder.Folder, "handover/s"), "*.json").Length + 1);
        JsonDocument.Parse(Read("handover/s/rest-openapi.json"));
        Assert.Contains("<Schema", Read("handover/s/metadata.xml"));
    }

    [Fact]
    public async Task Another_caller_gets_another_page()
    {
        var result = await HandOverAsync("s", "--as", "office", "--to", "out", "--json");
        Assert.Equal(0, result.Code);
        Assert.Equal("out", JsonDocument.Parse(result.Output).RootElement.GetProperty("folder").GetString());
        var page = Read("out/index.html");
        Assert.Contains("Plans", page);
        Assert.Contains("hush", page);
        Assert.Contains("Authorization: Bearer gablekey_", page);
    }

    [Theory]
    [InlineData("t", "sees nothing")]
    [InlineData("none", "no service 'none'")]
    [InlineData("s --address ftp://x", "no address")]
    [InlineData("s --address https://x/y", "no address")]
    [InlineData("s --as No!", "no user")]
    public async Task What_cannot_be_handed_over_is_said(string arguments, string message)
    {
        var result = await HandOverAsync(arguments.Split(' '));
        Assert.NotEqual(0, result.Code);
        Assert.Contains(message, result.Errors);
        Assert.False(Directory.Exists(Path.Combine(_folder.Folder, "handover")));
    }

    [Fact]
    public async Task Administrators_make_the_page_in_the_console()
    {
        var page = await _http.SendAsync("/manage/handover/s?as=office", "GET", null, Own);
        Assert.Equal(200, page.Status);
        Assert.Contains($"href=\"{_http.Address}/odata/s/$metadata\"", page.Text);
        Assert.Contains("Made on", page.Text);
        Assert.Equal(404, (await _http.SendAsync("/manage/handover/none", "GET", null, Own)).Status);
        Assert.Equal(404, (await _http.SendAsync("/manage/handover/t", "GET", null, Own)).Status);
        Assert.Equal(400, (await _http.SendAsync("/manage/handover/s?as=No!", "GET", null, Own)).Status);
        await _http.SaysAsync("/manage/audit", "made a handover of s for office");
    }

    [Fact]
    public async Task Every_request_of_the_page_is_answered()
    {
        var page = (await _http.SendAsync("/manage/handover/s", "GET", null, Own)).Text;
        var links = LinkPattern().Matches(page).Select(m => WebUtility.HtmlDecode(m.Groups[1].Value)).ToList();
        Assert.True(links.Count >= 9, page);
        foreach (var link in links)
            Assert.Equal(200, (await _http.SendAsync(link[_http.Address.Length..])).Status);
    }

    [Theory] // all four rows come over two pages
    [InlineData("odata/s/Rivers", "Shell", 2)]
    [InlineData("odata/s/Rivers", "Python", 4)]
    [InlineData("rest/s/Rivers", "Python", 4)]
    [InlineData("odata/s/Rivers", "TypeScript", 4)]
    [InlineData("rest/s/Rivers", "C#", 4)]
    public async Task Each_program_reads_all_rows(string path, string language, int rows)
    {
        var snippet = RequestSnippets
            .Of($"{_http.Address}/{path}", path.StartsWith("odata", StringComparison.Ordinal), withKey: false)
            .First(s => s.Language == language);
        var folder = Path.Combine(_folder.Folder, "snippet");
        Directory.CreateDirectory(folder);
        // The count of what was printed is what the last line says.
        var output = await RunAsync(language, folder, snippet.Text);
        Assert.Equal(rows, int.Parse(output));
    }

    [Theory]
    [InlineData("Shell", "bash")]
    [InlineData("Python", "python3")]
    public async Task A_program_signs_in_by_its_key(string language, string runner)
    {
        var made = await Gable.RunAsync(_folder.Folder, "api-key", "make", ".", "program", "--role", "office");
        var key = KeyPattern().Match(made.Output).Value;
        var snippet = RequestSnippets.Of(_http.Address + "/odata/s/Plans", isOData: true, withKey: true).First(s => s.Language == language);
        await File.WriteAllTextAsync(Path.Combine(_folder.Folder, "program"), snippet.Text);
        var command = $"GABLE_KEY={key} {runner} program | grep -c 'a dam'";
        Assert.Equal("1", await Clients.RunInAsync(_folder.Folder, "bash", "-c", command));
    }

    [Fact]
    public void Every_program_takes_the_key_from_a_variable() =>
        Assert.All(RequestSnippets.Of("http://x/odata/s/Plans", true, true), s => Assert.Contains("GABLE_KEY", s.Text));

    private static async Task<string> RunAsync(string language, string folder, string text)
    {
        const string Count = " | grep -oE 'Alder|Birch|Cedar|Elm' | wc -l";
        var file = Path.Combine(folder, "program");
        await File.WriteAllTextAsync(file, text);
        switch (language)
        {
            case "Shell":
                return await Clients.RunInAsync(folder, "bash", "-c", "bash -e program" + Count);
            case "Python":
                return await Clients.RunInAsync(folder, "bash", "-c", "python3 program" + Count);
            case "TypeScript":
                var compiler = Path.Combine(Gable.Root, "console/node_modules/typescript");
                var script =
                    $"const ts=require('{compiler}'),fs=require('fs');fs.writeFileSync('program.mjs',"
                    + "ts.transpileModule(fs.readFileSync('program','utf8'),"
                    + "{compilerOptions:{target:'ES2022',module:'ESNext'}}).outputText)";
                await Clients.RunInAsync(folder, "node", "-e", script);
                return await Clients.RunInAsync(folder, "bash", "-c", "node program.mjs" + Count);
            default:
                File.Move(file, Path.Combine(folder, "Program.cs"));
                await File.WriteAllTextAsync(
                    Path.Combine(folder, "snippet.csproj"),
                    """
                    <Project Sdk="Microsoft.NET.Sdk">
                      <PropertyGroup>
                        <OutputType>Exe</OutputType>
                        <TargetFramework>net10.0</TargetFramework>
                        <ImplicitUsings>enable</ImplicitUsings>
                        <Nullable>enable</Nullable>
                      </PropertyGroup>
                    </Project>
                    """
                );
                return await Clients.RunInAsync(folder, "bash", "-c", "dotnet run -c Release -v quiet" + Count);
        }
    }

    [GeneratedRegex("gablekey_[A-Za-z0-9_-]+")]
    private static partial Regex KeyPattern();

    [GeneratedRegex("href=\"([^\"]+)\"")]
    private static partial Regex LinkPattern();
}
