using System.Globalization;
using RapidGable.Model;

namespace RapidGable.Sources.Sqlite;

/// <summary>SQLite database files, opened for reading.</summary>
public sealed class SqliteEngine : IEngine
{
    private static readonly string[] Settings = ["file", "statement-seconds", "sessions"];

    public string Name => "sqlite";

    public ISource? Open(string name, string folder, IReadOnlyDictionary<string, string> settings, ICollection<SettingFault> faults)
    {
        var before = faults.Count;
        foreach (var unknown in settings.Keys.Where(k => !Settings.Contains(k)))
            faults.Add(new SettingFault(unknown, $"'{unknown}' is not a setting of a SQLite source.{NearestName.Hint(unknown, Settings)}",
                $"Settings: {string.Join(", ", Settings)}."));
        if (!settings.TryGetValue("file", out var file) || file.Length == 0)
            faults.Add(new SettingFault("file", "'file' is missing: the path of the database file.", "Write 'file: data/name.db'."));
        var seconds = Number("statement-seconds", Limits.StatementSeconds, 1, 86_400);
        var sessions = Number("sessions", Math.Max(4, Environment.ProcessorCount * 2), 1, 256);
        if (faults.Count > before)
            return null;
        return new SqliteSource(name, Path.GetFullPath(Path.Combine(folder, file!)), file!, TimeSpan.FromSeconds(seconds), sessions);

        int Number(string setting, int usual, int least, int most)
        {
            if (!settings.TryGetValue(setting, out var text))
                return usual;
            if (int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number >= least && number <= most)
                return number;
            faults.Add(new SettingFault(setting, $"'{setting}' must be a whole number from {least} to {most}, not '{text}'."));
            return usual;
        }
    }
}
