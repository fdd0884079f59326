using System.Globalization;
using System.Text.Json;
using System.Text.Json.Serialization;

namespace RapidGable.Service.Auditing;

/// <summary>The files of an audit log: one for each day (UTC), a JSON object in each line; only their owner may read them.</summary>
public sealed class AuditFolder(string folder)
{
    private const string Ending = ".jsonl";

    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web) { DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull };

    /// <summary>Adds events to the files of their days.</summary>
    /// <exception cref="IOException">When a file cannot be written; <see cref="UnauthorizedAccessException"/> likewise.</exception>
    public void Append(IEnumerable<AuditEvent> events)
    {
        Directory.CreateDirectory(folder);
        foreach (var day in events.GroupBy(e => DateOnly.FromDateTime(e.Time)))
        {
            var options = new FileStreamOptions { Mode = FileMode.Append, Access = FileAccess.Write, Share = FileShare.ReadWrite };
            if (!OperatingSystem.IsWindows())
                options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
            using var stream = new FileStream(PathOf(day.Key), options);
            // One write for all, so that lines of two writers do not mix.
            using var lines = new MemoryStream();
            foreach (var happened in day)
            {
                JsonSerializer.Serialize(lines, happened, Json);
                lines.WriteByte((byte)'\n');
            }
            stream.Write(lines.GetBuffer().AsSpan(0, (int)lines.Length));
        }
    }

    /// <summary>Removes the files of days before one.</summary>
    public void RemoveBefore(DateOnly day)
    {
        foreach (var (_, path) in Days().Where(d => d.Day < day))
            File.Delete(path);
    }

    /// <summary>The events, newest first; a line that cannot be read is left out.</summary>
    public IEnumerable<AuditEvent> Read()
    {
        foreach (var (_, path) in Days().OrderByDescending(d => d.Day))
        {
            List<AuditEvent> day = [];
            using var reader = new StreamReader(new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete));
            while (reader.ReadLine() is { } line)
            {
                if (Parse(line) is { } found)
                    day.Add(found);
            }
            for (var i = day.Count - 1; i >= 0; i--)
                yield return day[i];
        }
    }

    private static AuditEvent? Parse(string line)
    {
        try
        {
            return JsonSerializer.Deserialize<AuditEvent>(line, Json);
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private IEnumerable<(DateOnly Day, string Path)> Days() => !Directory.Exists(folder) ? [] : Directory.EnumerateFiles(folder, "*" + Ending)
        .Where(p => DateOnly.TryParseExact(Path.GetFileNameWithoutExtension(p), "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out _))
        .Select(p => (DateOnly.ParseExact(Path.GetFileNameWithoutExtension(p), "yyyy-MM-dd", CultureInfo.InvariantCulture), p));

    private string PathOf(DateOnly day) => Path.Combine(folder, day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture) + Ending);
}
