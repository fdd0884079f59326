using RapidGable.Model;

namespace RapidGable.Sources.Sqlite;

/// <summary>SQLite database files, opened for reading.</summary>
public sealed class SqliteEngine : IEngine
{
    public string Name => "sqlite";

    public ISource? Open(string name, string folder, IReadOnlyDictionary<string, string> settings, ICollection<SettingFault> faults)
    {
        var reader = new SettingsReader("SQLite", settings, faults);
        var file = reader.Required("file", "the path of the database file", "data/name.db");
        var seconds = reader.Number("statement-seconds", Limits.StatementSeconds, 1, 86_400);
        var sessions = reader.Number("sessions", Math.Max(4, Environment.ProcessorCount * 2), 1, 256);
        reader.ReportUnknown();
        return reader.HasFaults
            ? null
            : new SqliteSource(name, Path.GetFullPath(Path.Combine(folder, file)), file, TimeSpan.FromSeconds(seconds), sessions);
    }
}
