using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using Polly;
using Polly.Retry;
using RapidGable.Service.State;

namespace RapidGable.Service.Stores;

/// <summary>
/// A store in a folder that several processes of a machine may use: a folder for each room with a file for each document, and a folder
/// for each journal with a file for each part. Only their owner may read them.
/// </summary>
/// <remarks>
/// A document is written to a file beside it, forced to the disk, and renamed. So whoever is killed at any moment leaves the former
/// document or the new one. Its version is the time of the file, which only rises: writers hold the folder's lock.
/// </remarks>
public sealed class FolderState : IStateStore
{
    /// <summary>The format that this program writes; older ones are brought forward when they are opened.</summary>
    public const int Format = 1;

    private const string FormatName = "format.json";
    private const string LockName = ".lock";
    private const string Unfinished = ".unfinished";
    private const int PieceBytes = 64 * 1024;

    /// <summary>Another process holds the lock for milliseconds only.</summary>
    private static readonly ResiliencePipeline Patience = new ResiliencePipelineBuilder()
        .AddRetry(
            new RetryStrategyOptions
            {
                ShouldHandle = new PredicateBuilder().Handle<IOException>(IsLocked),
                MaxRetryAttempts = 200,
                Delay = TimeSpan.FromMilliseconds(25),
                BackoffType = DelayBackoffType.Constant,
            }
        )
        .Build();

    private readonly string _folder;
    private readonly string _workspace;
    private readonly Lock _writing = new();
    private volatile bool _isReady;

    /// <param name="folder">The folder of the store; made when something is kept for the first time.</param>
    /// <param name="workspace">The folder of the workspace, where former versions of the program kept accounts and the audit log.</param>
    public FolderState(string folder, string workspace)
    {
        (_folder, _workspace) = (folder, workspace);
    }

    /// <summary>Where it is, for people.</summary>
    public string Folder => _folder;

    public StateDocument? Find(string room, string name)
    {
        Open(writes: false);
        var path = PathOf(room, name);
        return Guard<StateDocument?>($"'{name}' of the room '{room}' cannot be read", () =>
        {
            // A version that is older than the bytes makes a later change fail, and is tried again; the other way round it would lose one.
            for (var version = VersionOfFile(path); version is not null; )
            {
                var bytes = File.ReadAllBytes(path);
                var after = VersionOfFile(path);
                if (after == version)
                    return new StateDocument(bytes, version);
                version = after;
            }
            return null;
        });
    }

    public string? VersionOf(string room, string name)
    {
        Open(writes: false);
        return VersionOfFile(PathOf(room, name));
    }

    private static string? VersionOfFile(string path)
    {
        var file = new FileInfo(path);
        return file.Exists ? file.LastWriteTimeUtc.Ticks.ToString(System.Globalization.CultureInfo.InvariantCulture) : null;
    }

    public ImmutableArray<string> Names(string room) => FilesOf(room);

    public long BytesOf(string room)
    {
        Open(writes: false);
        return Guard($"The room '{room}' cannot be read", () =>
            new DirectoryInfo(Path.Combine(_folder, room)) is { Exists: true } folder ? folder.EnumerateFiles().Sum(f => f.Length) : 0
        );
    }

    private ImmutableArray<string> FilesOf(string room)
    {
        Open(writes: false);
        return Guard<ImmutableArray<string>>($"The room '{room}' cannot be read", () =>
        {
            var folder = Path.Combine(_folder, room);
            return !Directory.Exists(folder)
                ? []
                :
                [
                    .. Directory
                        .EnumerateFiles(folder)
                        .Select(f => Path.GetFileName(f)!)
                        .Where(f => !f.EndsWith(Unfinished, StringComparison.Ordinal))
                        .Order(StringComparer.Ordinal),
                ];
        });
    }

    public string? Write(string room, string name, ReadOnlyMemory<byte> bytes, string? version)
    {
        Open(writes: true);
        return Guard($"'{name}' of the room '{room}' cannot be kept", () =>
        {
            var path = PathOf(room, name);
            return Alone(() =>
            {
                if (VersionOfFile(path) != version)
                    return null;
                MakeFolder(Path.Combine(_folder, room));
                return Replace(path, bytes);
            });
        });
    }

    /// <summary>Puts a file in the place of another; gives its version.</summary>
    private static string Replace(string path, ReadOnlyMemory<byte> bytes)
    {
        var next = path + Unfinished;
        try
        {
            File.Delete(next);
            using (var stream = new FileStream(next, Own(FileMode.CreateNew)))
            {
                stream.Write(bytes.Span);
                stream.Flush(flushToDisk: true);
            }
            var former = new FileInfo(path);
            if (former.Exists && former.LastWriteTimeUtc >= File.GetLastWriteTimeUtc(next))
                File.SetLastWriteTimeUtc(next, former.LastWriteTimeUtc.AddMilliseconds(1));
            var version = VersionOfFile(next)!;
            File.Move(next, path, overwrite: true);
            return version;
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            TryDelete(next);
            throw;
        }
    }

    private static void TryDelete(string path)
    {
        try
        {
            File.Delete(path);
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            // The next change of the document removes it.
        }
    }

    public void Remove(string room, string name)
    {
        Open(writes: true);
        Guard($"'{name}' of the room '{room}' cannot be removed", () =>
        {
            var path = PathOf(room, name);
            if (File.Exists(path))
                Alone(() =>
                {
                    File.Delete(path);
                    return true;
                });
            return true;
        });
    }

    public void Append(string journal, string part, ReadOnlyMemory<byte> lines)
    {
        Open(writes: true);
        Guard($"The journal '{journal}' cannot be added to", () =>
        {
            MakeFolder(Path.Combine(_folder, journal));
            var path = PathOf(journal, part);
            using var stream = new FileStream(path, Own(FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.ReadWrite));
            // One write at the end for all, so that lines of two writers do not mix; what a killed writer began is ended first.
            stream.Seek(-Math.Min(1, stream.Length), SeekOrigin.End);
            var isWhole = stream.Length == 0 || stream.ReadByte() == '\n';
            using var end = new FileStream(path, Own(FileMode.Append, FileAccess.Write, FileShare.ReadWrite));
            end.Write(isWhole ? lines.Span : [(byte)'\n', .. lines.Span]);
            return true;
        });
    }

    public ImmutableArray<string> Parts(string journal) => FilesOf(journal);

    public void RemovePart(string journal, string part) => Remove(journal, part);

    public IEnumerable<string> LinesFromEnd(string journal, string part)
    {
        Open(writes: false);
        var path = PathOf(journal, part);
        return File.Exists(path) ? LinesFromEnd(path) : [];
    }

    private static IEnumerable<string> LinesFromEnd(string path)
    {
        using var stream = Guard($"'{Path.GetFileName(path)}' cannot be read", () =>
            new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete)
        );
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

    /// <summary>Looks once which format the folder has, and brings an older one forward.</summary>
    private void Open(bool writes)
    {
        if (_isReady)
            return;
        Guard($"The state in '{Path.GetFileName(_folder)}' cannot be opened", () =>
        {
            var format = FormatOf();
            if (format is { } found && found != Format)
                throw Newer(found);
            if (format is null || FormerFiles().Any())
            {
                if (format is null && !writes && !FormerFiles().Any())
                    return true;
                MakeFolder(_folder);
                Alone(() =>
                {
                    TakeFormer();
                    return FormatOf() is null
                        ? Replace(Path.Combine(_folder, FormatName), JsonSerializer.SerializeToUtf8Bytes(new { format = Format }))
                        : "";
                });
            }
            return _isReady = true;
        });
    }

    /// <summary>The format of what is there; null = nothing is.</summary>
    private int? FormatOf()
    {
        var path = Path.Combine(_folder, FormatName);
        if (!File.Exists(path))
            return null;
        try
        {
            using var text = JsonDocument.Parse(File.ReadAllBytes(path));
            return text.RootElement.GetProperty("format").GetInt32();
        }
        catch (Exception exception)
            when (exception is JsonException or KeyNotFoundException or InvalidOperationException or FormatException)
        {
            throw new StateException(
                $"'{FormatName}' of the state cannot be read. Restore it, or write {{\"format\": {Format}}} if the rest is sound.",
                exception
            );
        }
    }

    private static StateException Newer(int format) =>
        new(
            format > Format
                ? $"The state has the format {format}, and this version of the program knows formats up to {Format}. Use the newer version."
                : $"The state has the format {format}, which there never was."
        );

    /// <summary>Files of the time before there was a store, and where they go.</summary>
    private IEnumerable<(string From, string To)> FormerFiles() => AllFormerFiles().Where(f => !File.Exists(f.To));

    private IEnumerable<(string From, string To)> AllFormerFiles()
    {
        var accounts = Path.Combine(_workspace, "accounts.json");
        if (File.Exists(accounts))
            yield return (accounts, PathOf(StateRooms.Accounts, AccountsInState.Name));
        var audit = Path.Combine(_workspace, "audit");
        if (Directory.Exists(audit))
        {
            foreach (var day in Directory.EnumerateFiles(audit, "*.jsonl"))
                yield return (day, PathOf(StateRooms.Audit, Path.GetFileName(day)));
        }
    }

    private void TakeFormer()
    {
        foreach (var (from, to) in FormerFiles().ToList())
        {
            MakeFolder(Path.GetDirectoryName(to)!);
            File.Move(from, to);
        }
        var audit = Path.Combine(_workspace, "audit");
        if (Directory.Exists(audit) && !Directory.EnumerateFileSystemEntries(audit).Any())
            Directory.Delete(audit);
    }

    /// <summary>Works while nobody else changes something, first of all nobody in this process.</summary>
    private T Alone<T>(Func<T> work)
    {
        lock (_writing)
        {
            using var held = Patience.Execute(() =>
                new FileStream(Path.Combine(_folder, LockName), Own(FileMode.OpenOrCreate, FileAccess.Write, FileShare.None))
            );
            return work();
        }
    }

    private static bool IsLocked(IOException exception) =>
        exception is not (DirectoryNotFoundException or FileNotFoundException)
        && exception.Message.Contains("being used", StringComparison.Ordinal);

    private string PathOf(string room, string name)
    {
        // Names are made by this program; what comes from outside must not lead out of the room.
        if (name.Length is 0 or > 200 || name[0] == '.' || name.Any(c => !(char.IsAsciiLetterOrDigit(c) || c is '-' or '_' or '.')))
            throw new StateException($"'{name}' cannot be the name of a document.");
        return Path.Combine(_folder, room, name);
    }

    private static void MakeFolder(string path)
    {
        if (OperatingSystem.IsWindows())
            Directory.CreateDirectory(path);
        else if (!Directory.Exists(path))
            Directory.CreateDirectory(path, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
    }

    private static FileStreamOptions Own(FileMode mode, FileAccess access = FileAccess.Write, FileShare share = FileShare.None)
    {
        var options = new FileStreamOptions
        {
            Mode = mode,
            Access = access,
            Share = share,
        };
        if (!OperatingSystem.IsWindows())
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        return options;
    }

    private static T Guard<T>(string what, Func<T> work)
    {
        try
        {
            return work();
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            throw new StateException($"{what}: {exception.Message}", exception);
        }
    }
}
