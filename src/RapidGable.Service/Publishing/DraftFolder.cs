using System.Collections.Frozen;
using System.Security.Cryptography;
using System.Text;
using RapidGable.Declarations;

namespace RapidGable.Service.Publishing;

/// <summary>A file of the draft that was written by somebody else in the meantime.</summary>
public sealed class DraftConflictException(string message) : Exception(message);

/// <summary>
/// The files of a workspace as several people write them: each says which version they changed, so that nobody overwrites what they did
/// not see. Files change on the disk, too, by editors and version control.
/// </summary>
public sealed class DraftFolder(string folder)
{
    /// <summary>A file is a text that people write.</summary>
    public const int MostBytes = 4 * 1024 * 1024;

    private static readonly FrozenDictionary<string, string[]> Endings = new Dictionary<string, string[]>()
    {
        ["sources"] = [".yaml", ".yml"],
        ["services"] = [".yaml", ".yml", WorkspaceTexts.SqlEnding],
        ["checks"] = [".yaml", ".yml"],
        ["requests"] = [".http", ".example.json"],
    }.ToFrozenDictionary();

    private readonly Lock _writing = new();
    private readonly Lazy<string?> _fault = new(() => Probe(Path.GetFullPath(folder)));

    public string Folder { get; } = Path.GetFullPath(folder);

    /// <summary>Why a name can be none of a file of the draft; null = it can.</summary>
    public static string? NameFault(string file)
    {
        if (file == WorkspaceTexts.Root)
            return null;
        var parts = file.Split('/');
        var isName =
            parts is [var kind, { Length: > 0 and <= 120 } name]
            && Endings.TryGetValue(kind, out var endings)
            && endings.Any(e => name.EndsWith(e, StringComparison.Ordinal) && name.Length > e.Length)
            && char.IsAsciiLetterOrDigit(name[0])
            && name.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '_' or '.');
        return isName ? null : $"'{file}' is no file of a workspace, such as services/rivers.yaml.";
    }

    /// <summary>Why the files cannot be written, as it was found at the first look; null = they can.</summary>
    public string? WriteFault => _fault.Value;

    private static string? Probe(string folder)
    {
        var probe = Path.Combine(folder, ".probe-" + Path.GetRandomFileName());
        try
        {
            using (new FileStream(probe, FileMode.CreateNew, FileAccess.Write, FileShare.None, 1, FileOptions.DeleteOnClose)) { }
            return null;
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            return "The folder of the workspace cannot be written.";
        }
    }

    /// <summary>The files with their versions and sizes, in the order of their names.</summary>
    public IEnumerable<(string File, string Version, int Bytes)> List() =>
        new WorkspaceFolder(Folder)
            .Read()
            .Files.Where(f => !f.Value.IsDefault)
            .Select(f => (f.Key, VersionOf(f.Value.AsSpan()), f.Value.Length));

    /// <summary>A file's text and version; null = it is not there.</summary>
    public (string Text, string Version)? Read(string file)
    {
        var path = Path.Combine(Folder, file);
        if (!File.Exists(path))
            return null;
        var bytes = File.ReadAllBytes(path);
        return (Encoding.UTF8.GetString(bytes), VersionOf(bytes));
    }

    /// <summary>Writes a file as a whole.</summary>
    /// <param name="version">The one that was changed; null = there is none yet.</param>
    /// <returns>Its version now.</returns>
    /// <exception cref="DraftConflictException">When another version is there.</exception>
    public string Write(string file, string text, string? version)
    {
        lock (_writing)
        {
            Hold(file, version);
            var path = Path.Combine(Folder, file);
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            var bytes = Encoding.UTF8.GetBytes(text);
            // Whoever reads meanwhile finds the former text or the new one.
            var next = $"{path}.unfinished";
            File.WriteAllBytes(next, bytes);
            if (File.Exists(path) && !OperatingSystem.IsWindows())
                File.SetUnixFileMode(next, File.GetUnixFileMode(path));
            File.Move(next, path, overwrite: true);
            return VersionOf(bytes);
        }
    }

    /// <summary>Removes a file.</summary>
    /// <exception cref="DraftConflictException">When another version is there.</exception>
    public void Remove(string file, string version)
    {
        lock (_writing)
        {
            Hold(file, version);
            File.Delete(Path.Combine(Folder, file));
        }
    }

    private void Hold(string file, string? version)
    {
        var current = Read(file)?.Version;
        if (current != version)
            throw new DraftConflictException(
                current is null ? $"'{file}' was removed by somebody else."
                : version is null ? $"'{file}' is there already."
                : $"'{file}' was changed by somebody else."
            );
    }

    private static string VersionOf(ReadOnlySpan<byte> bytes) => Convert.ToHexStringLower(SHA256.HashData(bytes).AsSpan(0, 8));
}
