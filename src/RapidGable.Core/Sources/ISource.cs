using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>What went wrong at the source, in terms that a caller may be told.</summary>
public enum SourceFaultKind
{
    /// <summary>The database cannot be reached or opened.</summary>
    Unavailable,

    /// <summary>It is locked by somebody else; worth trying again.</summary>
    Busy,

    /// <summary>Too many requests wait for it already.</summary>
    QueueFull,

    /// <summary>The statement ran past its time limit.</summary>
    TooSlow,

    /// <summary>An integer or decimal division by zero (URL conventions 5.1.1.2.4).</summary>
    DivisionByZero,

    /// <summary>A number leaves the range of its type (URL conventions 5.1.1.2).</summary>
    Overflow,

    /// <summary>A regular expression that the engine does not take.</summary>
    BadPattern,

    /// <summary>The statement is larger or nests deeper than the engine takes.</summary>
    TooComplex,

    /// <summary>The engine has no memory, or no room for temporary files, left for the statement.</summary>
    OutOfMemory,

    /// <summary>A stored value does not have the type that its column states.</summary>
    BadData,

    /// <summary>A change met another one and was undone; the same again may well succeed.</summary>
    Collision,

    /// <summary>A change breaks a rule of the database; see <see cref="SourceException.Constraint"/>.</summary>
    Constraint,

    /// <summary>The connection broke while a change was being made final: it is not known whether it was.</summary>
    Uncertain,

    /// <summary>A table or column that is published is not there any more.</summary>
    Changed,

    /// <summary>Anything else: the statement is ours, so it is our fault.</summary>
    Broken,
}

/// <summary>The rules of a database that a change can break.</summary>
public enum ConstraintKind
{
    /// <summary>Another row has the same values.</summary>
    Unique,

    /// <summary>A value is missing.</summary>
    Required,

    /// <summary>The row that is referred to is not there.</summary>
    NoParent,

    /// <summary>Other rows refer to this one.</summary>
    HasChildren,

    /// <summary>A text or binary value is longer than its column.</summary>
    TooLong,

    /// <summary>A number or a point in time is outside of what its column takes.</summary>
    Range,

    /// <summary>A value is not one of its column's type.</summary>
    Value,

    /// <summary>A condition of the table.</summary>
    Check,

    /// <summary>
    /// A refusal that the database's own developer wrote, in a trigger or routine; see <see cref="BrokenConstraint.Message"/>.
    /// </summary>
    Raised,
}

/// <summary>The rule of the database that a change breaks.</summary>
/// <param name="Name">Its name there; null = not told.</param>
/// <param name="Columns">The columns concerned; empty = not told.</param>
public sealed record BrokenConstraint(ConstraintKind Kind, string? Name, ImmutableArray<string> Columns)
{
    /// <summary>Number of the statement's parameter that is wrong, from 1; null = not told.</summary>
    public int? Parameter { get; init; }

    /// <summary>For <see cref="ConstraintKind.Raised"/>: what the developer says to callers who break the rule.</summary>
    public string? Message { get; init; }
}

/// <summary>A failure of a source. The message is for the developer's log and client; callers get one made from the kind.</summary>
public sealed class SourceException(SourceFaultKind kind, string message, Exception? inner = null) : Exception(message, inner)
{
    public SourceFaultKind Kind { get; } = kind;

    /// <summary>Whether the database is down, or on its way up, so that waiting may help.</summary>
    public bool MayComeBack { get; init; }

    /// <summary>For <see cref="SourceFaultKind.Constraint"/>; otherwise the parameter that the source refuses, if it says which.</summary>
    public BrokenConstraint? Constraint { get; init; }
}

/// <summary>A wrong or missing setting of a source file.</summary>
/// <param name="Setting">Its name; null when it concerns the whole file.</param>
public sealed record SettingFault(string? Setting, string Message, string? Advice = null);

/// <summary>A database engine: knows its settings and opens sources. Registered at one place, <see cref="EngineRegistry"/>.</summary>
public interface IEngine
{
    /// <summary>The word in a source file's <c>engine</c>.</summary>
    string Name { get; }

    /// <summary>Other words that mean this engine.</summary>
    IReadOnlyList<string> OtherNames => [];

    /// <summary>Opens a source, without connecting yet.</summary>
    /// <param name="name">Name of the source in the workspace.</param>
    /// <param name="folder">The workspace's folder, against which relative paths count.</param>
    /// <param name="settings">The settings of the source file.</param>
    /// <param name="faults">Receives what is wrong with the settings; then null is returned.</param>
    ISource? Open(string name, string folder, IReadOnlyDictionary<string, SettingText> settings, ICollection<SettingFault> faults);
}

/// <summary>One open source with its pool of sessions.</summary>
public interface ISource : IAsyncDisposable
{
    /// <summary>The server that it leads to, for deciding whether it may; never for people. Null = it is a file.</summary>
    string? Host => null;

    string Name { get; }

    /// <summary>What people are told about where it is; never a secret.</summary>
    string Address { get; }

    SqlDialect Dialect { get; }

    /// <summary>Reads what the source offers in a handful of statements.</summary>
    /// <exception cref="SourceException">When it cannot be reached or read.</exception>
    Task<SourceCatalog> ReadCatalogAsync(CancellationToken cancellation);

    /// <summary>Adds to one object what only its rows tell: how values are stored, types of columns that state none.</summary>
    Task<SourceObject> DescribeAsync(SourceObject item, CancellationToken cancellation);

    /// <summary>The columns of a SELECT, described by the engine without running it.</summary>
    /// <param name="arguments">Values of its parameters, which stand in it as the dialect writes them; empty = it has none.</param>
    /// <exception cref="SourceException">When it is no SELECT, has other parameters, or cannot be read.</exception>
    Task<SourceObject> DescribeQueryAsync(
        string name,
        string select,
        ReadOnlyMemory<StoredValue> arguments,
        CancellationToken cancellation
    );

    /// <summary>
    /// The columns of what a statement gives that may change something: described by the engine, which does not carry it out.
    /// </summary>
    /// <param name="arguments">As in <see cref="DescribeQueryAsync"/>.</param>
    /// <returns>Empty = it gives no rows; null = the engine does not tell.</returns>
    /// <exception cref="SourceException">When it is no statement, or cannot be read.</exception>
    Task<IReadOnlyList<SourceColumn>?> DescribeChangeAsync(
        string sql,
        ReadOnlyMemory<StoredValue> arguments,
        CancellationToken cancellation
    );

    /// <summary>
    /// Which column of which table a view's column is, as far as the engine knows; by the view's column. Empty where it does not know.
    /// </summary>
    /// <exception cref="SourceException">When the view cannot be read.</exception>
    Task<IReadOnlyDictionary<string, ColumnOrigin>> OriginsAsync(SourceObject view, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyDictionary<string, ColumnOrigin>>(new Dictionary<string, ColumnOrigin>());

    /// <summary>A column as another type that the engine itself reads and compares; null when it has to be converted.</summary>
    SourceColumn? Retype(SourceColumn column, EdmType type) => null;

    /// <summary>Takes a session from the pool for the service itself.</summary>
    ValueTask<ISourceSession> OpenSessionAsync(SessionKind kind, CancellationToken cancellation) =>
        OpenSessionAsync(kind, [], RequestAllowance.Own, cancellation);

    /// <summary>
    /// Settings of a session that tell the database who asks, so that its own row security judges too: setting -> attribute of the
    /// caller. Empty = it is not told.
    /// </summary>
    IReadOnlyDictionary<string, string> CallerSettings => ImmutableDictionary<string, string>.Empty;

    /// <summary>Takes a session from the pool; waits while all are in use.</summary>
    /// <param name="settings">A value for each of <see cref="CallerSettings"/>, which holds for this session alone; empty = the database
    /// is not told who asks.</param>
    /// <param name="request">What the request that it is for may take.</param>
    ValueTask<ISourceSession> OpenSessionAsync(
        SessionKind kind,
        IReadOnlyList<(string Setting, string Value)> settings,
        RequestAllowance request,
        CancellationToken cancellation
    );
}

/// <summary>Where a view's column comes from.</summary>
public sealed record ColumnOrigin(string Table, string Column);

/// <summary>What a request needs of its session.</summary>
public enum SessionKind
{
    /// <summary>One statement, or several that need not agree; one cursor open at a time.</summary>
    Plain,

    /// <summary>All statements see one state of the data; one cursor open at a time.</summary>
    OneState,

    /// <summary>All statements see one state of the data, and several cursors are read in turn.</summary>
    Interleaved,

    /// <summary>
    /// All statements are one transaction that may change rows; what it reads is few and may be read in turn. Without <see
    /// cref="ISourceSession.CommitAsync"/> it leaves nothing.
    /// </summary>
    Changing,

    /// <summary>
    /// Each statement may change rows and is a transaction of its own, unless it makes others: for routines that end transactions.
    /// </summary>
    Unbound,
}

/// <summary>A statement with the values of its parameters.</summary>
public sealed record SourceStatement(string Sql, ReadOnlyMemory<StoredValue> Parameters);

/// <summary>A connection in use by one request.</summary>
public interface ISourceSession : IAsyncDisposable
{
    /// <summary>Whether others wait for a session of the source.</summary>
    bool IsAwaited => false;

    /// <summary>
    /// Runs a reading statement, or in a <see cref="SessionKind.Changing"/> session one that changes rows and gives some of them back.
    /// </summary>
    ValueTask<IRowCursor> QueryAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation);

    /// <summary>Calls a procedure that gives several results: each as a JSON array with an object for each row.</summary>
    /// <exception cref="NotSupportedException">The engine has no such procedures.</exception>
    ValueTask<IReadOnlyList<string>> QueryResultsAsync(
        string sql,
        ReadOnlyMemory<StoredValue> parameters,
        CancellationToken cancellation
    ) => throw new NotSupportedException("A procedure of this engine gives one result.");

    /// <summary>
    /// Runs a changing statement in a <see cref="SessionKind.Changing"/> session; gives the number of rows that it found.
    /// </summary>
    ValueTask<long> ExecuteAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation);

    /// <summary>
    /// Waits until no other <see cref="SessionKind.Changing"/> session is busy with a subject, and keeps others from it until this one
    /// has ended.
    /// </summary>
    /// <param name="subject">The same text for the same subject, for every caller.</param>
    ValueTask SerializeAsync(string subject, CancellationToken cancellation);

    /// <summary>Makes the changes of a <see cref="SessionKind.Changing"/> session final; nothing can follow.</summary>
    /// <exception cref="SourceException">When they were undone instead, or <see cref="SourceFaultKind.Uncertain"/>.</exception>
    ValueTask CommitAsync(CancellationToken cancellation);

    /// <summary>Runs statements whose rows are read in turn; a cursor for each, in their order.</summary>
    /// <param name="mostHeld">How many rows all but the last can give: a source that has to hold them, to save time, knows whether it
    /// should.</param>
    async ValueTask<IReadOnlyList<IRowCursor>> QueryTogetherAsync(
        IReadOnlyList<SourceStatement> statements,
        long mostHeld,
        CancellationToken cancellation
    )
    {
        var cursors = new List<IRowCursor>(statements.Count);
        try
        {
            foreach (var statement in statements)
                cursors.Add(await QueryAsync(statement.Sql, statement.Parameters, cancellation));
            return cursors;
        }
        catch
        {
            foreach (var cursor in cursors)
                await cursor.DisposeAsync();
            throw;
        }
    }
}

/// <summary>Sources whose settings are no secrets.</summary>
public static class EngineSettings
{
    /// <inheritdoc cref="IEngine.Open"/>
    public static ISource? Open(
        this IEngine engine,
        string name,
        string folder,
        IReadOnlyDictionary<string, string> settings,
        ICollection<SettingFault> faults
    ) => engine.Open(name, folder, settings.ToDictionary(s => s.Key, s => SettingText.Plain(s.Value)), faults);
}
