using System.Text;

namespace RapidGable.Declarations;

/// <summary>
/// The file <c>secrets.env</c> of a workspace: lines <c>NAME=value</c> for variables that nobody sets otherwise. It is no part
/// of what is declared, is readable by its owner only, and version control ignores it.
/// </summary>
public static class WorkspaceSecrets
{
    public const string FileName = "secrets.env";

    /// <summary>The variables of a workspace's file; empty when there is none, or it cannot be read.</summary>
    public static IReadOnlyDictionary<string, string> Read(string folder)
    {
        var found = new Dictionary<string, string>(StringComparer.Ordinal);
        var path = Path.Combine(folder, FileName);
        if (!File.Exists(path))
            return found;
        try
        {
            foreach (var line in File.ReadAllLines(path).Select(l => l.Trim()).Where(l => l.Length > 0 && l[0] != '#'))
            {
                var parts = line.Split('=', 2);
                if (parts.Length == 2)
                    found[parts[0].Trim()] = parts[1];
            }
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            // Then its variables are missing, which is said where they are asked for.
        }
        return found;
    }

    /// <summary>Whether others than its owner can read the file; false when there is none.</summary>
    public static bool IsOpenToOthers(string folder)
    {
        const UnixFileMode Others = UnixFileMode.GroupRead | UnixFileMode.GroupWrite | UnixFileMode.OtherRead | UnixFileMode.OtherWrite;
        var path = Path.Combine(folder, FileName);
        return File.Exists(path) && !OperatingSystem.IsWindows() && (File.GetUnixFileMode(path) & Others) != 0;
    }

    /// <summary>Makes the file with one variable.</summary>
    /// <param name="value">One line of text.</param>
    public static void Write(string folder, string name, string value)
    {
        var options = new FileStreamOptions { Mode = FileMode.Create, Access = FileAccess.Write };
        if (!OperatingSystem.IsWindows())
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        using var file = new StreamWriter(Path.Combine(folder, FileName), new UTF8Encoding(false), options);
        file.Write($"{name}={value}\n");
    }
}
