using System.Globalization;

/// <summary>The processes whose time counts: a web process, and a database server with its sessions.</summary>
/// <param name="Postmaster">The parent of the sessions; null = the database works inside of the web process.</param>
internal sealed record Processes(int Web, int? Postmaster)
{
    /// <summary>User and system time so far, in hundredths of a second.</summary>
    public (long Web, long? Database) Ticks() => (TicksOf(Web), Postmaster is { } parent ? Sessions(parent).Sum(TicksOf) : null);

    public static int ParentOf(int process) => int.Parse(Stat(process)![1], CultureInfo.InvariantCulture);

    /// <summary>A line of a process's status in MiB.</summary>
    public static long Mebibytes(int process, string name)
    {
        var line = File.ReadLines($"/proc/{process}/status").First(l => l.StartsWith(name, StringComparison.Ordinal));
        return long.Parse(line.Split(':')[1].Replace("kB", "", StringComparison.Ordinal), CultureInfo.InvariantCulture) / 1024;
    }

    private static IEnumerable<int> Sessions(int parent) =>
        Directory
            .EnumerateDirectories("/proc")
            .Select(d => int.TryParse(Path.GetFileName(d), CultureInfo.InvariantCulture, out var id) ? id : 0)
            .Where(id => id > 0 && Stat(id) is { } fields && fields[1] == parent.ToString(CultureInfo.InvariantCulture));

    private static long TicksOf(int process) =>
        Stat(process) is { } fields
            ? long.Parse(fields[11], CultureInfo.InvariantCulture) + long.Parse(fields[12], CultureInfo.InvariantCulture)
            : 0;

    /// <summary>The fields behind the program's name; null when the process has ended.</summary>
    private static string[]? Stat(int process)
    {
        try
        {
            var stat = File.ReadAllText($"/proc/{process}/stat");
            return stat[(stat.LastIndexOf(')') + 2)..].Split(' ');
        }
        catch (IOException)
        {
            return null;
        }
    }
}
