using System.Text;

namespace RapidGable.Declarations;

/// <summary>The texts of a workspace with some of them replaced by others that are not written yet.</summary>
/// <param name="edited">By the name of the file; null = it is gone.</param>
public sealed class EditedTexts(IWorkspaceStore written, IReadOnlyDictionary<string, string?> edited) : IWorkspaceStore
{
    public string Folder => written.Folder;

    public WorkspaceTexts Read()
    {
        var texts = written.Read();
        var files = texts.Files;
        foreach (var (file, text) in edited)
            files = text is null ? files.Remove(file) : files.SetItem(file, [.. Encoding.UTF8.GetBytes(text)]);
        return texts with { Files = files };
    }
}
