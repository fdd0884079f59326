using RapidGable.Core.Tests;
using RapidGable.Service.Publishing;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>The commands of docs/publishing.md, on the demo, in their order.</summary>
public sealed class PublishingGuideTests : IDisposable
{
    private static readonly Dictionary<string, string> Key = new() { [SecretKeeper.KeyVariable] = "0123456789abcdef0123456789abcdef" };

    private readonly TestWorkspace _demo = new TestWorkspace().WithDemo();

    public void Dispose() => _demo.Dispose();

    [Fact]
    public async Task Every_command_of_the_guide_runs()
    {
        var guide = await File.ReadAllTextAsync(Path.Combine(Gable.Root, "docs/publishing.md"));
        var commands = guide
            .Split("```sh\n")
            .Skip(1)
            .SelectMany(b => b.Split("```")[0].Split('\n'))
            .Where(l => l.StartsWith("gable ", StringComparison.Ordinal))
            .Select(l => Words(l["gable ".Length..]).Select(w => w == "demo" ? "." : w).ToArray())
            .ToList();
        Assert.True(commands.Count >= 20, $"{commands.Count}");
        // The user that one of the requests names.
        Assert.Equal(0, (await Gable.RunWithAsync("long enough", _demo.Folder, "user", "set", ".", "tom", "--role", "technician")).Code);
        // A second revision, so that there is something to compare and to go back from.
        Assert.Equal(0, (await Gable.RunAsync(_demo.Folder, "publish", ".", "--no-data", "--message", "The first")).Code);
        var rivers = Path.Combine(_demo.Folder, "services/rivers.yaml");
        var text = await File.ReadAllTextAsync(rivers);
        await File.WriteAllTextAsync(rivers, text.Replace("title: Rivers of the Alder Basin", "title: Rivers"));
        foreach (var command in commands)
        {
            // What is read from a file is given on standard input.
            var result = await Gable.RunWithAsync("long enough", Key, _demo.Folder, [.. command.TakeWhile(w => w != "<")]);
            // 'compare' tells with 1 that something differs, and the action of one request is open to technicians of a region only.
            var isTold = command[0] == "compare" || command.Contains("put-off-visits");
            Assert.True(result.Code == 0 || (isTold && result.Code == 1), $"{string.Join(' ', command)}\n{result.Output}{result.Errors}");
        }
        Assert.Empty(new SwitchBoard(WorkspaceState.Of(_demo.Folder)).Read().Where(o => o.Set is not null));
    }

    /// <summary>A line of a shell as its words; quotes hold some together.</summary>
    private static IEnumerable<string> Words(string line)
    {
        var parts = line.Split('"');
        for (var i = 0; i < parts.Length; i++)
        {
            if (i % 2 == 1)
                yield return parts[i];
            else
                foreach (var word in parts[i].Split(' ', StringSplitOptions.RemoveEmptyEntries))
                    yield return word;
        }
    }
}
