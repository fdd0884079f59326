using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.Json.Serialization;
using RapidGable.Declarations;
using RapidGable.Service.Auditing;

namespace RapidGable.Service.Stores;

/// <summary>The files of an audit log: one for each day (UTC), a JSON object in each line; only their owner may read them.</summary>
public sealed class AuditFolder(string folder) : IAuditStore
{
    /// <summary>The folder that a workspace names; null = it keeps no log.</summary>
    public static AuditFolder? Of(WorkspaceDeclaration workspace) =>
        workspace.Audit.Folder is { } folder ? new AuditFolder(Path.Combine(workspace.Folder, folder)) : null;

    private const string Ending = ".jsonl";
    private const int PieceBytes = 64 * 1024;

    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
    };

    /// <summary>Adds events to the files of their days.</summary>
    /// <exception cref="IOException">When a file cannot be written; <see cref="UnauthorizedAccessException"/> likewise.</exception>
    public void Append(IEnumerable<AuditEvent> events)
    {
        Directory.CreateDirectory(folder);
        foreach (var day in events.GroupBy(e => DateOnly.FromDateTime(e.Time)))
        {
            var options = new FileStreamOptions
            {
                Mode = FileMode.Append,
                Access = FileAccess.Write,
                Share = FileShare.ReadWrite,
            };
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

    /// <summary>
    /// The events, newest first; a line that cannot be read is left out. Files are read from their end, a piece at a time.
    /// </summary>
    public IEnumerable<AuditEvent> Read() =>
        Days().OrderByDescending(d => d.Day).SelectMany(d => LinesFromEnd(d.Path)).Select(Parse).OfType<AuditEvent>();

    private static IEnumerable<string> LinesFromEnd(string path)
    {
        using var stream = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
        var piece = new byte[PieceBytes];
        // The beginning of a line whose end is known already.
        byte[] rest = [];
        for (var end = stream.Length; end > 0; )
        {
            var count = (int)Math.Min(PieceBytes, end);
            end -= count;
            stream.Position = end;
            stream.ReadExactly(piece, 0, count);
            var text = piece.AsMemory(0, count);
            for (int at; (at = text.Span.LastIndexOf((byte)'\n')) >= 0; text = text[..at])
            {
                byte[] line = [.. text.Span[(at + 1)..], .. rest];
                rest = [];
                if (line.Length > 0)
                    yield return Encoding.UTF8.GetString(line);
            }
            // A line is short; what has no end for so long is none of ours.
            rest = text.Length + rest.Length > PieceBytes ? [] : [.. text.Span, .. rest];
        }
        if (rest.Length > 0)
            yield return Encoding.UTF8.GetString(rest);
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

    private IEnumerable<(DateOnly Day, string Path)> Days() =>
        !Directory.Exists(folder)
            ? []
            : Directory
                .EnumerateFiles(folder, "*" + Ending)
                .Where(p =>
                    DateOnly.TryParseExact(
                        Path.GetFileNameWithoutExtension(p),
                        "yyyy-MM-dd",
                        CultureInfo.InvariantCulture,
                        DateTimeStyles.None,
                        out _
                    )
                )
                .Select(p => (DateOnly.ParseExact(Path.GetFileNameWithoutExtension(p), "yyyy-MM-dd", CultureInfo.InvariantCulture), p));

    private string PathOf(DateOnly day) => Path.Combine(folder, day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture) + Ending);
}
