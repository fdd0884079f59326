using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using RapidGable.Declarations;

namespace RapidGable.Building;

/// <summary>
/// The identity of what is published. It is computed from everything that decides what a service does: the texts as they were read, and
/// the facts of the catalogs that it was built on. Nobody lists what counts: every member of every fact does.
/// </summary>
public static class Revision
{
    private const int Length = 8;

    /// <summary>
    /// The revision of a service: eight hexadecimal digits that change with its texts, those of its sources, and its facts.
    /// </summary>
    public static string Of(BuiltService service, WorkspaceDeclaration workspace)
    {
        var declared = workspace.Services.First(s => s.Name == service.Model.Service);
        var sources = declared.Sets.Select(s => s.Source.Value).Append(declared.Source.Value).ToHashSet();
        var files = workspace
            .Sources.Where(s => sources.Contains(s.Name))
            .Select(s => s.Location.File)
            .Append(declared.Location.File)
            .Concat(declared.Sets.Select(s => s.Select?.Location.File).OfType<string>())
            .Append(WorkspaceTexts.Root)
            .Distinct();
        var facts = service.Facts.Select(f => JsonSerializer.Serialize(f)).Order(StringComparer.Ordinal);
        var whole = string.Join('\n', facts.Prepend(workspace.Texts.Identity(files)));
        return Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(whole)))[..Length];
    }
}
