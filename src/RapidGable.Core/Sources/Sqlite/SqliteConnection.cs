// One SQLite connection over the library's C interface: no mutex (a session is used by one request at a time), texts
// copied as the UTF-8 that they are, prepared statements kept for as long as the connection lives.
using SQLitePCL;

namespace RapidGable.Sources.Sqlite;

internal sealed class SqliteConnection : IDisposable
{
    private const int KeptStatements = 200;
    private const int InstructionsBetweenLooks = 20_000;

    private readonly Dictionary<string, sqlite3_stmt> _idle = new(StringComparer.Ordinal);
    private readonly HashSet<string> _known = new(StringComparer.Ordinal);
    private readonly Queue<string> _age = new();
    private readonly delegate_progress _progress;
    private readonly string _path;
    private long _deadline = long.MaxValue;
    private CancellationToken _cancellation;

    static SqliteConnection() => Batteries_V2.Init();

    private SqliteConnection(sqlite3 database, string path)
    {
        (Database, _path) = (database, path);
        _progress = _ => Environment.TickCount64 > _deadline || _cancellation.IsCancellationRequested ? 1 : 0;
        raw.sqlite3_progress_handler(database, InstructionsBetweenLooks, _progress, null);
        SqliteFunctions.Register(database);
    }

    public sqlite3 Database { get; }

    /// <summary>Opens a file; <paramref name="shownName"/> is what messages call it.</summary>
    public static SqliteConnection Open(string path, string shownName, bool isWriting = false)
    {
        if (!File.Exists(path))
            throw new SourceException(SourceFaultKind.Unavailable, $"The database file '{shownName}' does not exist.");
        var code = raw.sqlite3_open_v2(
            path,
            out var database,
            (isWriting ? raw.SQLITE_OPEN_READWRITE : raw.SQLITE_OPEN_READONLY) | raw.SQLITE_OPEN_NOMUTEX,
            null
        );
        if (code != raw.SQLITE_OK)
        {
            database?.Dispose();
            throw new SourceException(
                SourceFaultKind.Unavailable,
                $"The database file '{shownName}' cannot be opened: {raw.sqlite3_errstr(code).utf8_to_string()}."
            );
        }
        raw.sqlite3_busy_timeout(database, 2_000);
        raw.sqlite3_extended_result_codes(database, 1);
        var connection = new SqliteConnection(database, path);
        try
        {
            connection.Run(isWriting ? "PRAGMA foreign_keys = 1" : "PRAGMA query_only = 1");
            connection.Run("PRAGMA mmap_size = 268435456");
            // With the file mapped the cache serves sorting: less of it goes to temporary files.
            connection.Run("PRAGMA cache_size = -8000");
            connection.Run("PRAGMA trusted_schema = 0");
            // Of the whole library, whichever connection sets it: a statement that wants more fails, and not the process.
            connection.Run($"PRAGMA hard_heap_limit = {GC.GetGCMemoryInfo().TotalAvailableMemoryBytes / 4}");
        }
        catch
        {
            connection.Dispose();
            throw;
        }
        return connection;
    }

    /// <summary>From now on statements stop at this time or when the token says so.</summary>
    public void LimitTime(TimeSpan limit, CancellationToken cancellation)
    {
        _deadline = Environment.TickCount64 + (long)limit.TotalMilliseconds;
        _cancellation = cancellation;
    }

    public void LiftTimeLimit()
    {
        _deadline = long.MaxValue;
        _cancellation = default;
    }

    public void Run(string sql)
    {
        var statement = Take(sql);
        try
        {
            int code;
            while ((code = Step(statement)) == raw.SQLITE_ROW) { }
            if (code != raw.SQLITE_DONE)
                throw Fault(code);
        }
        finally
        {
            Give(sql, statement);
        }
    }

    /// <summary>A statement ready to be bound: a kept one, or a new one.</summary>
    public sqlite3_stmt Take(string sql)
    {
        if (_idle.Remove(sql, out var kept))
            return kept;
        var code = raw.sqlite3_prepare_v2(Database, sql, out var statement);
        if (IsLeftInTheMiddle(code) && Recover())
            code = raw.sqlite3_prepare_v2(Database, sql, out statement);
        return code == raw.SQLITE_OK ? statement : throw Fault(code);
    }

    /// <summary>The next row of a statement; the code is the library's.</summary>
    public int Step(sqlite3_stmt statement)
    {
        var code = raw.sqlite3_step(statement);
        if (!IsLeftInTheMiddle(code) || !Recover())
            return code;
        raw.sqlite3_reset(statement);
        return raw.sqlite3_step(statement);
    }

    private static bool IsLeftInTheMiddle(int code) => code is raw.SQLITE_READONLY_ROLLBACK or raw.SQLITE_READONLY_RECOVERY;

    /// <summary>
    /// A program that was ended in the middle of a change leaves the file so, and who only reads it cannot undo that. The first program
    /// that may write
    /// does, as soon as it looks at the file.
    /// </summary>
    /// <returns>False when this program may not write it either.</returns>
    private bool Recover()
    {
        var isOpen =
            raw.sqlite3_open_v2(_path, out var database, raw.SQLITE_OPEN_READWRITE | raw.SQLITE_OPEN_NOMUTEX, null) == raw.SQLITE_OK;
        using (database)
        {
            if (!isOpen)
                return false;
            raw.sqlite3_busy_timeout(database, 2_000);
            return raw.sqlite3_exec(database, "SELECT count(*) FROM sqlite_schema") == raw.SQLITE_OK;
        }
    }

    public void Give(string sql, sqlite3_stmt statement)
    {
        raw.sqlite3_reset(statement);
        raw.sqlite3_clear_bindings(statement);
        if (!_idle.TryAdd(sql, statement))
        {
            statement.Dispose();
            return;
        }
        if (!_known.Add(sql))
            return;
        _age.Enqueue(sql);
        while (_age.Count > KeptStatements)
        {
            var oldest = _age.Dequeue();
            _known.Remove(oldest);
            if (_idle.Remove(oldest, out var forgotten))
                forgotten.Dispose();
        }
    }

    /// <summary>Rows that the last changing statement found.</summary>
    public long Changed => raw.sqlite3_changes(Database);

    public SourceException Fault(int code)
    {
        var message = raw.sqlite3_errmsg(Database).utf8_to_string() ?? "";
        if (SqliteFault.Constraint(code, message) is { } broken)
            return new SourceException(SourceFaultKind.Constraint, message) { Constraint = broken };
        if (IsLeftInTheMiddle(code))
            return new SourceException(
                SourceFaultKind.Unavailable,
                "A program was ended in the middle of a change of the database file, and this one may not write the file to "
                    + "undo that. Open it once with a program that may."
            );
        var kind = (code & 0xFF) switch
        {
            raw.SQLITE_BUSY or raw.SQLITE_LOCKED => SourceFaultKind.Busy,
            raw.SQLITE_INTERRUPT => SourceFaultKind.TooSlow,
            raw.SQLITE_NOMEM => SourceFaultKind.OutOfMemory,
            raw.SQLITE_CANTOPEN
            or raw.SQLITE_NOTADB
            or raw.SQLITE_CORRUPT
            or raw.SQLITE_IOERR
            or raw.SQLITE_PERM
            or raw.SQLITE_AUTH
            or raw.SQLITE_READONLY
            or raw.SQLITE_FULL => SourceFaultKind.Unavailable,
            _ when message == SqliteFunctions.DivisionByZero => SourceFaultKind.DivisionByZero,
            _ when message is SqliteFunctions.Overflow or "integer overflow" => SourceFaultKind.Overflow,
            _ when message == SqliteFunctions.SlowPattern => SourceFaultKind.TooSlow,
            _ when message is "parser stack overflow"
                    || message.StartsWith("Expression tree is too large", StringComparison.Ordinal)
                    || message.StartsWith("at most ", StringComparison.Ordinal)
                    || message.StartsWith("too many ", StringComparison.Ordinal) => SourceFaultKind.TooComplex,
            _ when message == "malformed JSON" => SourceFaultKind.BadData,
            _ when message.StartsWith("no such table", StringComparison.Ordinal)
                    || message.StartsWith("no such column", StringComparison.Ordinal)
                    || message.Contains(" has no column named ", StringComparison.Ordinal) => SourceFaultKind.Changed,
            _ => SourceFaultKind.Broken,
        };
        _cancellation.ThrowIfCancellationRequested();
        return new SourceException(kind, message);
    }

    public void Dispose()
    {
        foreach (var statement in _idle.Values)
            statement.Dispose();
        _idle.Clear();
        Database.Dispose();
    }
}
