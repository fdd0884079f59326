using System.Text.RegularExpressions;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>docs/rest.md says what is: its addresses answer, and its programs run.</summary>
[Collection("clients")] // they write into one folder
public sealed partial class RestGuideTests : IAsyncLifetime
{
    private const string Password = "clear-water-7";
    private static readonly string Guide = File.ReadAllText(Path.Combine(Gable.Root, "docs/rest.md"));

    private readonly TestWorkspace _folder = new();
    private RunningService _service = null!;

    public async Task InitializeAsync()
    {
        await _folder.WithDemo().WithInesAsync(Password);
        await Gable.RunWithAsync(Password, _folder.Folder, ["user", "set", ".", "rosa", "--role", "reporting"]);
        _service = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _service.DisposeAsync();
        _folder.Dispose();
    }

    [Fact]
    public async Task Every_address_answers()
    {
        var table = Guide.Split("## Addresses")[1].Split("## Parameters")[0];
        var addresses = AddressPattern().Matches(table).Select(m => m.Groups[1].Value).ToList();
        Assert.True(addresses.Count > 25);
        foreach (var address in addresses)
        {
            var answer = await _service.SendAsync("/rest/rivers/" + address.Replace(" ", "%20").Replace("\"", "%22"));
            Assert.True(answer.Status == 200, $"{address}: {answer.Status} {answer.Text}");
            if (answer.Header("Content-Type") == "application/json" && answer.Json.TryGetProperty("rows", out var rows))
                Assert.True(rows.GetArrayLength() > 0, address);
        }
    }

    [Theory]
    [InlineData("/rest/rivers/", "On the plain REST face", "A parameter wins", 6)]
    [InlineData("/odata/rivers/", "On the OData face", "Parameters that may", 5)]
    public async Task Every_address_of_queries_answers(string root, string start, string end, int number)
    {
        var guide = File.ReadAllText(Path.Combine(Gable.Root, "docs/queries.md"));
        var table = guide.Split(start)[1].Split(end)[0];
        var addresses = AddressPattern().Matches(table).Select(m => m.Groups[1].Value).ToList();
        Assert.Equal(number, addresses.Count);
        foreach (var address in addresses)
        {
            var answer = await _service.SendAsync(root + address.Replace(" ", "%20"));
            Assert.True(answer.Status == 200, $"{address}: {answer.Status} {answer.Text}");
        }
    }

    [Fact] // docs/sql.md
    public async Task Every_statement_is_answered()
    {
        var guide = await File.ReadAllTextAsync(Path.Combine(Gable.Root, "docs/sql.md"));
        var statements = guide.Split("```sql\n").Skip(1).Select(s => s.Split("```")[0]).ToList();
        Assert.Equal(4, statements.Count);
        var signIn = "Basic " + Convert.ToBase64String(System.Text.Encoding.UTF8.GetBytes("rosa:" + Password));
        foreach (var statement in statements)
        {
            var answer = await _service.SendAsync(
                "/rest/rivers/sql",
                "POST",
                statement,
                ("Content-Type", "application/sql"),
                ("Authorization", signIn)
            );
            Assert.True(answer.Status == 200, $"{statement}\n{answer.Text}");
            Assert.True(answer.Json.GetProperty("rows").GetArrayLength() > 0, statement);
        }
        // What a caller sends and gets stands there, too.
        var (shell, told) = (guide.Split("```sh\n")[1].Split("```")[0], guide.Split("```json\n")[1].Split("```")[0]);
        var body = shell.Split("-d '")[1].Split("'\n")[0];
        var rows = await _service.SendAsync("/rest/rivers/sql", "POST", body, ("Authorization", signIn));
        var (expected, found) = (System.Text.Json.JsonDocument.Parse(told).RootElement, rows.Json);
        Assert.Equal(expected.GetProperty("columns").ToString(), found.GetProperty("columns").ToString());
        Assert.StartsWith(expected.GetProperty("rows").ToString()[..^1], found.GetProperty("rows").ToString());
    }

    [Theory]
    [InlineData("sh", "snippet.sh")]
    [InlineData("python", "snippet.py")]
    [InlineData("ts", "snippet.mts")]
    [InlineData("csharp", "Program.cs")]
    public async Task Each_program_prints_what_the_guide_says(string language, string file)
    {
        var text = Guide.Split($"```{language}\n")[1].Split("```")[0];
        var expected = text.Split("prints: ")[1].Split('\n')[0];
        var folder = Path.Combine(_folder.Folder, "snippet");
        Directory.CreateDirectory(folder);
        var path = Path.Combine(folder, file);
        await File.WriteAllTextAsync(path, text.Replace("http://127.0.0.1:8460", _service.Address));
        Assert.Equal(expected, await RunAsync(language, folder, path));
    }

    private static async Task<string> RunAsync(string language, string folder, string path)
    {
        switch (language)
        {
            case "sh":
                return await Clients.RunInAsync(folder, "bash", "-e", path);
            case "python":
                return await Clients.RunInAsync(folder, "python3", path);
            case "csharp":
                await File.WriteAllTextAsync(Path.Combine(folder, "snippet.csproj"), Project);
                return await Clients.RunInAsync(folder, "dotnet", "run", "-c", "Release", "-v", "quiet");
            default:
                // The compiler and the types of Node are those of the clients.
                var source = Path.Combine(Clients.Folder, "generated", Path.GetFileName(path));
                Directory.CreateDirectory(Path.GetDirectoryName(source)!);
                File.Copy(path, source, overwrite: true);
                await Clients.RunAsync("npx", "tsc", "-p", "tsconfig.snippet.json");
                return await Clients.RunAsync("env", "PASSWORD=" + Password, "node", "generated/js/snippet.mjs");
        }
    }

    private const string Project = """
        <Project Sdk="Microsoft.NET.Sdk">
          <PropertyGroup>
            <OutputType>Exe</OutputType>
            <TargetFramework>net10.0</TargetFramework>
            <ImplicitUsings>enable</ImplicitUsings>
            <Nullable>enable</Nullable>
          </PropertyGroup>
        </Project>
        """;

    [GeneratedRegex(@"^\| `([^`]+)` \|", RegexOptions.Multiline)]
    private static partial Regex AddressPattern();
}
