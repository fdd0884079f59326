using System.Text.RegularExpressions;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>
/// A workspace that <c>gable new</c> made for a database, and what a person does with it then: write rules, allow changes.
/// </summary>
internal sealed class ForeignWorkspace : IDisposable
{
    private readonly TestWorkspace _around = new();

    private ForeignWorkspace() { }

    public string Folder => Path.Combine(_around.Folder, "foreign");

    public string ServiceFile => Path.Combine(Folder, "services/foreign.yaml");

    public string SourceFile => Path.Combine(Folder, "sources/main.yaml");

    /// <summary>What the command said.</summary>
    public string Said { get; private set; } = "";

    /// <param name="database">A URI or a file.</param>
    public static async Task<ForeignWorkspace> NewAsync(string database, params string[] options)
    {
        var made = new ForeignWorkspace();
        var result = await Gable.RunAsync(made._around.Folder, ["new", "foreign", "--database", database, "--writable", .. options]);
        Assert.True(result.Code == 0, result.Output + result.Errors);
        made.Said = result.Output;
        return made;
    }

    /// <summary>Opens everything to everybody, and allows every change of what has a key and is a table.</summary>
    public ForeignWorkspace Opened()
    {
        var text = File.ReadAllText(ServiceFile)
            .Replace("# rules:\n#   read: anyone", "rules: { read: anyone, create: anyone, update: anyone, delete: anyone }");
        text = Regex.Replace(
            text,
            @"^  - (?<name>[^ #\n]+)   # table",
            "  - from: ${name}\n    allow: [read, create, update, delete]   # table",
            RegexOptions.Multiline
        );
        text = Regex.Replace(
            text,
            @"^  - from: (?<name>[^ #\n]+)   # table.*\n(?!    keyless)",
            "$&    allow: [read, create, update, delete]\n",
            RegexOptions.Multiline
        );
        File.WriteAllText(ServiceFile, text);
        return this;
    }

    /// <summary>A SQLite file with tables.</summary>
    public static string SqliteFile(TestWorkspace folder, string sql)
    {
        folder.WithDatabase(sql);
        return Path.Combine(folder.Folder, "data.db");
    }

    public void Dispose() => _around.Dispose();
}
