using System.Collections.Immutable;
using System.Runtime.InteropServices;

namespace RapidGable.Declarations;

/// <summary>A workspace that is a folder of files.</summary>
public sealed class WorkspaceFolder(string folder) : IWorkspaceStore
{
    private static readonly string[] Endings = [".yaml", ".yml", WorkspaceTexts.SqlEnding];

    private static readonly string[] Kinds = ["sources", "services", "checks", "requests"];

    /// <summary>The endings of texts in the folder of requests: the requests themselves, and answers that are kept as examples.</summary>
    private static readonly string[] RequestEndings = [".http", ".example.json"];

    public string Folder { get; } = Path.GetFullPath(folder);

    public WorkspaceTexts Read()
    {
        var files = ImmutableSortedDictionary.CreateBuilder<string, ImmutableArray<byte>>(StringComparer.Ordinal);
        foreach (var file in Kinds.SelectMany(Names).Prepend(WorkspaceTexts.Root))
        {
            var path = Path.Combine(Folder, file);
            if (File.Exists(path))
                files[file] = Bytes(path);
        }
        return new WorkspaceTexts(Path.GetFileName(Folder), files.ToImmutable())
        {
            Exists = Directory.Exists(Folder),
            Secrets = WorkspaceSecrets.Read(Folder),
            HasOpenSecrets = WorkspaceSecrets.IsOpenToOthers(Folder),
        };
    }

    private IEnumerable<string> Names(string kind)
    {
        var path = Path.Combine(Folder, kind);
        if (!Directory.Exists(path))
            return [];
        return Directory
            .EnumerateFiles(path)
            .Where(f => (kind == "requests" ? RequestEndings : Endings).Any(e => f.EndsWith(e, StringComparison.Ordinal)))
            .Where(f => kind == "services" || !f.EndsWith(WorkspaceTexts.SqlEnding, StringComparison.Ordinal))
            .Select(f => $"{kind}/{Path.GetFileName(f)}");
    }

    private static ImmutableArray<byte> Bytes(string path)
    {
        try
        {
            return ImmutableCollectionsMarshal.AsImmutableArray(File.ReadAllBytes(path));
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            return default;
        }
    }
}
