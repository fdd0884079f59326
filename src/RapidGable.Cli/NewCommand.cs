using System.CommandLine;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Sources;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable new</c>: a workspace to start from.</summary>
internal static class NewCommand
{
    public static Command Create()
    {
        var folder = new Argument<string>("folder") { Description = "The folder to make; it must not exist, or be empty." };
        var database = new Option<string?>("--database") { Description = "A SQLite file; its tables become the first service, closed until you write a rule." };
        var command = new ExampleCommand("new", "Make a workspace: the folder of text files that declares what is published.",
            "gable new rivers", "gable new rivers --database network.db") { folder, database };
        command.SetAction((result, cancellation) => RunAsync(result.GetValue(folder)!, result.GetValue(database), cancellation));
        return command;
    }

    private static async Task<int> RunAsync(string folder, string? database, CancellationToken cancellation)
    {
        if (Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any())
            throw new UsageException($"'{folder}' exists already and is not empty.");
        if (File.Exists(folder))
            throw new UsageException($"'{folder}' is a file.");
        if (database is not null && !File.Exists(database))
            throw new UsageException($"The database file '{database}' does not exist.");
        var name = Path.GetFileName(Path.GetFullPath(folder));
        var service = ServiceName(name);
        var declared = database is null ? Empty(name) : await DraftAsync(name, database, cancellation);
        Directory.CreateDirectory(Path.Combine(folder, "sources"));
        Directory.CreateDirectory(Path.Combine(folder, "services"));
        var file = database is null ? "data/main.db" : Path.GetRelativePath(folder, database).Replace('\\', '/');
        Write(folder, "workspace.yaml", $"title: {YamlText.Of(name)}\n");
        // Who can sign in, and what was noted, are no part of what is declared.
        Write(folder, ".gitignore", "accounts.json\naudit/\n");
        Write(folder, "sources/main.yaml", $"engine: sqlite\nfile: {YamlText.Of(file)}\n");
        Write(folder, $"services/{service}.yaml", declared);
        Terminal.Out.MarkupLine($"Made the workspace [bold]{Markup.Escape(folder)}[/]:");
        foreach (var made in new[] { "workspace.yaml", "sources/main.yaml", $"services/{service}.yaml" })
            Terminal.Out.WriteLine($"  {folder}/{made}");
        Terminal.Out.WriteLine($"\nNext: edit services/{service}.yaml, then 'gable check {folder}' and 'gable serve {folder}'.");
        return 0;
    }

    private static string Empty(string title) => $"""
        title: {YamlText.Of(title)}
        source: main

        # Nobody may read anything until a rule says so. Uncomment to open the service to everyone:
        # rules:
        #   read: anyone

        # A table's name alone publishes it; 'gable draft' writes the list for you.
        sets:
          - my_table

        """;

    private static async Task<string> DraftAsync(string title, string database, CancellationToken cancellation)
    {
        try
        {
            var faults = new List<SettingFault>();
            await using var source = EngineRegistry.Find("sqlite")!.Open("main", ".", new Dictionary<string, string> { ["file"] = database }, faults)!;
            var catalog = await source.ReadCatalogAsync(cancellation);
            var draft = await Terminal.WithStatusAsync("Looking for keys", false, progress => ServiceDraft.WriteAsync(null, title, null, source, catalog, NamingPolicy.AsIs, catalog.Objects, progress, cancellation));
            return draft.Text;
        }
        catch (SourceException exception)
        {
            throw new UsageException($"'{database}' cannot be read: {exception.Message}");
        }
    }

    private static string ServiceName(string name)
    {
        var plain = string.Concat(name.ToLowerInvariant().Select(c => char.IsAsciiLetterOrDigit(c) ? c : '-')).Trim('-');
        return plain.Length > 0 && char.IsAsciiLetter(plain[0]) ? plain : "main";
    }

    private static void Write(string folder, string file, string text) => File.WriteAllText(Path.Combine(folder, file), text);
}
