using System.CommandLine;
using System.Text;
using RapidGable.Model;
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
        var catalog = database is null ? null : await ReadAsync(database, cancellation);

        Directory.CreateDirectory(Path.Combine(folder, "sources"));
        Directory.CreateDirectory(Path.Combine(folder, "services"));
        var name = Path.GetFileName(Path.GetFullPath(folder));
        var file = database is null ? "data/main.db" : Path.GetRelativePath(folder, database).Replace('\\', '/');
        var service = ServiceName(name);
        Write(folder, "workspace.yaml", $"title: {Quoted(name)}\n");
        Write(folder, "sources/main.yaml", $"engine: sqlite\nfile: {Quoted(file)}\n");
        Write(folder, $"services/{service}.yaml", Service(name, catalog));
        Terminal.Out.MarkupLine($"Made the workspace [bold]{Markup.Escape(folder)}[/]:");
        foreach (var made in new[] { "workspace.yaml", "sources/main.yaml", $"services/{service}.yaml" })
            Terminal.Out.WriteLine($"  {folder}/{made}");
        Terminal.Out.WriteLine($"\nNext: edit services/{service}.yaml, then 'gable check {folder}' and 'gable serve {folder}'.");
        return 0;
    }

    private static async Task<SourceCatalog> ReadAsync(string database, CancellationToken cancellation)
    {
        try
        {
            var faults = new List<SettingFault>();
            await using var source = EngineRegistry.Find("sqlite")!.Open("main", ".", new Dictionary<string, string> { ["file"] = database }, faults)!;
            return await source.ReadCatalogAsync(cancellation);
        }
        catch (SourceException exception)
        {
            throw new UsageException($"'{database}' cannot be read: {exception.Message}");
        }
    }

    private static string Service(string title, SourceCatalog? catalog)
    {
        var text = new StringBuilder($"""
            title: {Quoted(title)}
            source: main

            # Nobody may read anything until a rule says so. Uncomment to open the service to everyone:
            # rules:
            #   read: anyone

            # A table's name alone publishes it; see docs/declaration.md for names, keys, hidden columns and pages.
            sets:

            """);
        if (catalog is null)
            text.Append("  - my_table\n");
        foreach (var item in catalog?.Objects ?? [])
        {
            var hasKey = item.PrimaryKey.Length > 0 || item.UniqueKeys.Any(u => u.All(c => item.Column(c) is { Nullable: false }));
            text.Append(hasKey ? $"  - {Quoted(item.Name)}\n" : $"  # - from: {Quoted(item.Name)}   # has no key: say which columns identify a row\n  #   key: [{string.Join(", ", item.Columns.Take(1).Select(c => Quoted(c.Name)))}]\n");
        }
        return text.ToString();
    }

    private static string ServiceName(string name)
    {
        var plain = string.Concat(name.ToLowerInvariant().Select(c => char.IsAsciiLetterOrDigit(c) ? c : '-')).Trim('-');
        return plain.Length > 0 && char.IsAsciiLetter(plain[0]) ? plain : "main";
    }

    private static string Quoted(string text) => SimpleIdentifier.IsValid(text) && !bool.TryParse(text, out _) && text != "null" ? text : $"\"{text.Replace("\\", "\\\\").Replace("\"", "\\\"")}\"";

    private static void Write(string folder, string file, string text) => File.WriteAllText(Path.Combine(folder, file), text);
}
