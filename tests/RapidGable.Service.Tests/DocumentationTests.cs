using System.Text.RegularExpressions;
using RapidGable.Core.Tests;
using RapidGable.Model;

namespace RapidGable.Service.Tests;

/// <summary>The documentation says what is: its examples run, its lists are complete.</summary>
public sealed partial class DocumentationTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();

    public Task InitializeAsync()
    {
        _folder.WithDemo();
        return Task.CompletedTask;
    }

    public Task DisposeAsync()
    {
        _folder.Dispose();
        return Task.CompletedTask;
    }

    private static string Read(string file) => File.ReadAllText(Path.Combine(Gable.Root, file));

    private static IEnumerable<string> FirstColumn(string file) =>
        FirstColumnPattern()
            .Matches(Read(file).Split("\n| trial |")[0])
            .SelectMany(m => CodePattern().Matches(m.Groups[1].Value))
            .Select(m => m.Groups[1].Value);

    private static IEnumerable<string> CodesIn(Regex pattern) =>
        Directory
            .EnumerateFiles(Path.Combine(Gable.Root, "src"), "*.cs", SearchOption.AllDirectories)
            .SelectMany(f => pattern.Matches(File.ReadAllText(f)))
            .Select(m => m.Groups["code"].Value)
            .Distinct();

    [Fact]
    public void Every_error_code_is_listed() =>
        Assert.Equal(CodesIn(FaultPattern()).Order(StringComparer.Ordinal), FirstColumn("docs/errors.md").Order(StringComparer.Ordinal));

    [Fact]
    public void Every_diagnostic_code_is_listed() =>
        Assert.Equal(
            CodesIn(DiagnosticPattern()).Order(StringComparer.Ordinal),
            FirstColumn("docs/diagnostics.md").Order(StringComparer.Ordinal)
        );

    [Fact]
    public void Every_limit_is_listed_with_its_value() =>
        Assert.Equal(
            typeof(Limits).GetFields().Select(f => $"{f.Name} {f.GetRawConstantValue()}"),
            LimitPattern().Matches(Read("docs/limits.md")).Select(m => $"{m.Groups[1].Value} {m.Groups[2].Value}")
        );

    [Fact]
    public void Every_limit_that_is_set_is_listed_with_its_bounds()
    {
        var expected = RequestLimits.Settings.Select(s =>
            $"{s.Name} | {s.Description} | {(s.Name == "sessions" ? "twice the cores" : s.Default)} | {s.Minimum} to {s.Maximum}"
        );
        Assert.Equal(expected, SettingPattern().Matches(Read("docs/limits.md")).Select(m => $"{m.Groups[1].Value} | {m.Groups[2].Value}"));
    }

    [Fact]
    public async Task Every_check_is_listed()
    {
        await using var http = await RunningService.StartAsync(_folder.Folder);
        var verified = await Gable.RunAsync(_folder.Folder, "verify", "--json");
        Assert.Equal(0, verified.Code);
        var run = verified
            .Json.GetProperty("services")
            .EnumerateArray()
            .SelectMany(s => s.GetProperty("results").EnumerateArray())
            .Select(r => r.GetProperty("check").GetString()!)
            .Distinct();
        Assert.Equal(run.Order(StringComparer.Ordinal), FirstColumn("docs/verification.md").Order(StringComparer.Ordinal));
    }

    [Fact]
    public async Task Every_address_in_the_guide_answers()
    {
        await using var http = await RunningService.StartAsync(_folder.Folder);
        var addresses = AddressPattern().Matches(Read("docs/calling.md")).Select(m => m.Groups[1].Value).ToList();
        Assert.True(addresses.Count > 15);
        foreach (var address in addresses)
        {
            var answer = await http.SendAsync("/odata/rivers/" + address.Replace(" ", "%20"));
            Assert.True(answer.Status == 200, $"{address}: {answer.Status} {answer.Text}");
        }
    }

    [Theory]
    [InlineData("rivers")]
    [InlineData("water")]
    public async Task The_declaration_in_the_guide_is_sound(string name)
    {
        var service = Read("docs/declaration.md").Split($"```yaml\n# services/{name}.yaml\n")[1].Split("```")[0];
        _folder.Write($"services/{name}.yaml", service);
        var check = await Gable.RunAsync(_folder.Folder, "check", "--json");
        Assert.True(check.Code == 0, check.Output);
        Assert.DoesNotContain(check.Json.GetProperty("findings").EnumerateArray(), f => f.GetProperty("code").GetString() != "no-index");
    }

    [Fact]
    public async Task The_walk_in_the_readme_goes_through()
    {
        var readme = Read("README.md");
        Directory.CreateDirectory(Path.Combine(_folder.Folder, "demo/data"));
        File.Move(Path.Combine(_folder.Folder, "data.db"), Path.Combine(_folder.Folder, "demo/data/network.db"));
        var commands = CommandPattern().Matches(readme).Select(m => m.Groups[1].Value).ToList();
        var yaml = readme.Split("```yaml\n")[1].Split("```")[0];
        var checks = 0;
        foreach (var command in commands.Where(c => !c.StartsWith("get ", StringComparison.Ordinal)))
        {
            var isCheck = command.StartsWith("check", StringComparison.Ordinal);
            if (isCheck)
                _folder.Write(
                    "my-rivers/services/my-rivers.yaml",
                    checks++ == 0 ? yaml : yaml.Replace("name: Days }", "name: Days, key: [station_id, sensor_no, day] }")
                );
            var result = await Gable.RunAsync(_folder.Folder, command.Split(' '));
            Assert.True(result.Code == (isCheck && checks == 1 ? 1 : 0), $"{command}: {result.Code}\n{result.Output}{result.Errors}");
            if (isCheck && checks == 1)
                Assert.Contains("services/my-rivers.yaml:8:13: error no-key: The view 'daily_summary' has no key", result.Errors);
        }
        Assert.Equal(6, commands.Count(c => !c.StartsWith("get ", StringComparison.Ordinal)));
        await using var http = await RunningService.StartAsync(Path.Combine(_folder.Folder, "my-rivers"));
        foreach (var get in commands.Where(c => c.StartsWith("get ", StringComparison.Ordinal)))
        {
            var answer = await Gable.RunAsync(_folder.Folder, "get", get[4..].Trim('\'').Replace("http://127.0.0.1:8460", http.Address));
            Assert.True(answer.Code == 0, answer.Output);
            Assert.Contains("\"code\": \"AB-043\"", answer.Output);
        }
    }

    [Theory]
    [InlineData("README.md")]
    [InlineData("docs/architecture.md")]
    [InlineData("docs/declaration.md")]
    [InlineData("docs/calling.md")]
    [InlineData("docs/writing.md")]
    [InlineData("docs/access.md")]
    [InlineData("docs/rest.md")]
    [InlineData("docs/verification.md")]
    [InlineData("docs/clients.md")]
    public void Every_link_leads_somewhere(string file)
    {
        var folder = Path.GetDirectoryName(Path.Combine(Gable.Root, file))!;
        foreach (Match link in LinkPattern().Matches(Read(file)))
            Assert.True(File.Exists(Path.Combine(folder, link.Groups[1].Value)), link.Value);
    }

    [GeneratedRegex(@"^\| (`.*?) \|", RegexOptions.Multiline)]
    private static partial Regex FirstColumnPattern();

    [GeneratedRegex("`([^`]+)`")]
    private static partial Regex CodePattern();

    [GeneratedRegex(
        @"(RequestFault|(?<!Setting)(?<!return )Fault|reader\.Fault)\((\s*(?:\d{3}|faults\.Max\(f => f\.Status\)),\s*|new\(\d{3}, )?\s*""(?<code>[a-z-]+)"",\s*(\$|@|""|text|message|position|Text|match|name|listed)|new\(\d{3}, ""(?<code>[a-z-]+)""|[( ]Wrong\([^\n]*, ""(?<code>[a-z-]+)""\);|f\.Status\), ""(?<code>[a-z-]+)""|\d{3} : \d{3}, rule\.Condition is null \? ""(?<code>[a-z-]+)"""
    )]
    private static partial Regex FaultPattern();

    [GeneratedRegex(@"iagnostics\.(Error|Warning)\(\s*""(?<code>[a-z-]+)""")]
    private static partial Regex DiagnosticPattern();

    [GeneratedRegex(@"^\| `(\w+)`: [^|]* \| (\d+) \|", RegexOptions.Multiline)]
    private static partial Regex LimitPattern();

    [GeneratedRegex(@"^\| `([a-z-]+)` \| (.+ \| .+ \| \d+ to \d+) \|", RegexOptions.Multiline)]
    private static partial Regex SettingPattern();

    [GeneratedRegex(@"^\| `([^`]+)` \|", RegexOptions.Multiline)]
    private static partial Regex AddressPattern();

    [GeneratedRegex(@"^\$ \./gable (.+)$", RegexOptions.Multiline)]
    private static partial Regex CommandPattern();

    [GeneratedRegex(@"\]\((?!http)([^)#]+)\)")]
    private static partial Regex LinkPattern();
}
