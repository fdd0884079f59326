using RapidGable.Model;

namespace RapidGable.Sources.Sqlite;

/// <summary>SQLite database files, opened for reading.</summary>
public sealed class SqliteEngine : IEngine
{
    public string Name => "sqlite";

    /// <summary>Where a source's file is.</summary>
    public static string PathOf(string folder, string file) => Path.GetFullPath(Path.Combine(folder, file));

    public ISource? Open(string name, string folder, IReadOnlyDictionary<string, SettingText> settings, ICollection<SettingFault> faults)
    {
        var reader = new SettingsReader("SQLite", settings, faults);
        var file = reader.Required("file", "the path of the database file", "data/name.db");
        var seconds = reader.Number("statement-seconds", Limits.StatementSeconds, 1, 86_400);
        var sessions = reader.Number("sessions", Math.Max(4, Environment.ProcessorCount * 2), 1, 256);
        reader.ReportUnknown();
        if (file.Contains('\0'))
            reader.Report("file", "A path has no character 0.");
        return reader.HasFaults
            ? null
            : new SqliteSource(name, PathOf(folder, file), reader.Shown("file"), TimeSpan.FromSeconds(seconds), sessions);
    }
}
