using System.CommandLine;
using RapidGable.Declarations;
using RapidGable.Drafting;
using RapidGable.Model;
using RapidGable.Sources;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable new</c>: a workspace for a database, with all of its tables drafted.</summary>
internal static class NewCommand
{
    public static Command Create()
    {
        var folder = new Argument<string>("folder") { Description = "The folder to make; it must not exist, or be empty." };
        var options = new NewSourceOptions();
        var command = new ExampleCommand(
            "new",
            """
            Make a workspace for a database: tests the connection, writes the source, and drafts a service with every table and view.
            The service is closed until you write a rule, and what looks secret stays out of it.
            """,
            "gable new rivers --database network.db",
            "gable new rivers --database postgresql://reader@db.example/network",
            "gable new rivers --database mariadb://reader@127.0.0.1:3306/network --password-variable NETWORK_PASSWORD",
            "gable new rivers --engine postgresql --host db.example --database network --user reader"
        )
        {
            folder,
        };
        options.AddTo(command);
        command.SetAction((result, cancellation) => RunAsync(result.GetValue(folder)!, () => options.Read(result), cancellation));
        return command;
    }

    private static async Task<int> RunAsync(string folder, Func<NewSource> ask, CancellationToken cancellation)
    {
        if (Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any())
            throw new UsageException($"'{folder}' exists already and is not empty.");
        if (File.Exists(folder))
            throw new UsageException($"'{folder}' is a file.");
        var name = Path.GetFileName(Path.GetFullPath(folder));
        var asked = ask();
        var settings = asked.Settings();
        var faults = new List<SettingFault>();
        await using var source = EngineRegistry.Find(asked.Engine)!.Open("main", ".", settings, faults);
        if (source is null)
            throw new UsageException(string.Join(" ", faults.Select(f => f.Message)));
        DraftResult draft;
        SourceCatalog catalog;
        try
        {
            (catalog, draft) = await Terminal.WithStatusAsync($"Reading {source.Address}", false, progress =>
                DraftAsync(name, source, asked.Schemas, progress, cancellation)
            );
        }
        catch (SourceException exception)
        {
            Console.Error.WriteLine($"gable: {exception.Message}");
            Console.Error.WriteLine($"gable: no workspace is made. The database is {source.Address}.");
            return 1;
        }
        var service = ServiceName(name);
        var sourceFile = asked.SourceFile(folder, SecretName(name));
        Directory.CreateDirectory(Path.Combine(folder, "sources"));
        Directory.CreateDirectory(Path.Combine(folder, "services"));
        Write(folder, "workspace.yaml", $"title: {YamlText.Of(name)}\n");
        // Who can sign in, what was noted, and passwords are no part of what is declared.
        Write(folder, ".gitignore", $"state/\n{WorkspaceSecrets.FileName}\n");
        Write(folder, "sources/main.yaml", sourceFile.Text);
        Write(folder, $"services/{service}.yaml", draft.Text);
        if (sourceFile.Secret is { } secret)
            WorkspaceSecrets.Write(folder, SecretName(name), secret);
        Report(folder, name, service, source.Address, catalog, draft, sourceFile.Secret is not null);
        return 0;
    }

    private static async Task<(SourceCatalog, DraftResult)> DraftAsync(
        string title,
        ISource source,
        IReadOnlyList<string> schemas,
        Action<string> progress,
        CancellationToken cancellation
    )
    {
        var catalog = await source.ReadCatalogAsync(cancellation);
        var known = catalog.Objects.Select(o => o.Schema).OfType<string>().Distinct().ToList();
        foreach (var schema in schemas.Where(s => !known.Contains(s)))
            throw new UsageException($"The database has no schema '{schema}' with tables or views in it.{NearestName.Hint(schema, known)}");
        var objects = catalog.Objects.Where(o => schemas.Count == 0 || schemas.Contains(o.Schema ?? "")).ToList();
        var draft = await ServiceDraft.WriteAsync(
            null,
            title,
            null,
            source,
            catalog,
            NamingPolicy.AsIs,
            objects,
            [],
            progress,
            cancellation
        );
        return (catalog, draft);
    }

    private static void Report(
        string folder,
        string name,
        string service,
        string address,
        SourceCatalog catalog,
        DraftResult draft,
        bool hasSecret
    )
    {
        var found = Terminal.Plural(catalog.Objects.Length, "table or view", "tables and views");
        var drafted = Terminal.Plural(draft.Added.Length, "set");
        Terminal.Out.MarkupLine($"Connected to [bold]{Markup.Escape(address)}[/]: {found}, {drafted} drafted.");
        Terminal.Out.MarkupLine($"Made the workspace [bold]{Markup.Escape(folder)}[/]:");
        foreach (var made in new[] { "workspace.yaml", "sources/main.yaml", $"services/{service}.yaml" })
            Terminal.Out.WriteLine($"  {folder}/{made}");
        if (hasSecret)
            Terminal.Out.WriteLine(
                $"  {folder}/{WorkspaceSecrets.FileName}   the password, for your eyes only; version control ignores it"
            );
        if (service != name)
            Terminal.Out.WriteLine(
                $"The service is called '{service}': it becomes part of addresses, so it has small letters, digits, '-' and '_' only."
            );
        DraftReport.Write(draft);
        Terminal.Out.WriteLine(
            $"\nNext: 'gable serve {folder}' publishes it, closed; rules in services/{service}.yaml open it. 'gable verify "
                + $"{folder}' proves that it answers right."
        );
    }

    private static string ServiceName(string name)
    {
        var plain = string.Concat(name.ToLowerInvariant().Select(c => char.IsAsciiLetterOrDigit(c) || c == '_' ? c : '-')).Trim('-');
        plain = plain.Length > 63 ? plain[..63] : plain;
        return WorkspaceReader.IsServiceName(plain) ? plain : "main";
    }

    private static string SecretName(string name) =>
        string.Concat(ServiceName(name).ToUpperInvariant().Select(c => c == '-' ? '_' : c)) + "_PASSWORD";

    private static void Write(string folder, string file, string text) => File.WriteAllText(Path.Combine(folder, file), text);
}
