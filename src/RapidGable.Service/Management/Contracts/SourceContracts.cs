namespace RapidGable.Service.Management.Contracts;

/// <summary>The workspace and its sources.</summary>
public sealed record WorkspaceInfo(string? Title, IEnumerable<SourceAddress> Sources);

/// <summary>A source and where it is.</summary>
public sealed record SourceAddress(string Name, string Address);

/// <summary>All sources.</summary>
public sealed record SourceList(IEnumerable<SourceSummary> Sources);

/// <summary>A source with what it has on offer.</summary>
/// <param name="Title">What people call it; missing = by its name.</param>
public sealed record SourceSummary(
    string Name,
    string Address,
    string? Title,
    string? Description,
    IEnumerable<ObjectSummary> Objects,
    IEnumerable<RoutineInfo> Routines
);

/// <summary>A table or view.</summary>
/// <param name="Fault">Why it cannot be published.</param>
/// <param name="Published">Sets over it, as service/set.</param>
public sealed record ObjectSummary(
    string Name,
    string? Schema,
    string Kind,
    IEnumerable<string> Columns,
    IEnumerable<string> Key,
    string? Comment,
    string? Fault,
    IEnumerable<string> Published
);

/// <summary>A function or procedure.</summary>
public sealed record RoutineInfo(
    string? Schema,
    string Name,
    string Kind,
    IEnumerable<string> Parameters,
    string? Returns,
    string? Comment
);

/// <summary>A table or view with its first rows.</summary>
/// <param name="ReferredBy">Tables with foreign keys to it.</param>
/// <param name="Indexes">The columns of each index that is no key.</param>
/// <param name="Rows">Values as texts; null = there is none.</param>
public sealed record ObjectDetails(
    string Name,
    string? Schema,
    string Kind,
    string? Comment,
    string? Fault,
    IEnumerable<string> Published,
    IEnumerable<string> Key,
    IEnumerable<IEnumerable<string>> UniqueKeys,
    IEnumerable<TextIndexInfo> TextIndexes,
    IEnumerable<ColumnInfo> Columns,
    IEnumerable<ForeignKeyInfo> ForeignKeys,
    IEnumerable<string> ReferredBy,
    IEnumerable<IEnumerable<string>> Indexes,
    IEnumerable<IEnumerable<string?>> Rows
);

/// <summary>An index that a full-text search can use.</summary>
public sealed record TextIndexInfo(string Name, IEnumerable<string> Columns);

/// <summary>A column.</summary>
/// <param name="Type">What it is published as; missing = it is not.</param>
/// <param name="Reason">Why it has that type, or none.</param>
public sealed record ColumnInfo(
    string Name,
    string DeclaredType,
    string? Type,
    bool Nullable,
    string Reason,
    string? Comment,
    IEnumerable<string> AllowedValues
);

/// <summary>A foreign key.</summary>
/// <param name="Target">The table that it refers to.</param>
public sealed record ForeignKeyInfo(IEnumerable<string> Columns, string Target, IEnumerable<string> TargetColumns);

/// <summary>What reading the workspace again has done.</summary>
/// <param name="Kept">Faults kept the former state.</param>
public sealed record RefreshResult(
    bool Kept,
    IEnumerable<ChangedService> Changed,
    IEnumerable<ServiceNote> Differences,
    IEnumerable<string> Settings,
    IEnumerable<ServiceNote> Opened,
    IEnumerable<FaultInfo> Faults
);

/// <summary>A service whose revision changed.</summary>
/// <param name="Before">Missing = it is new.</param>
/// <param name="After">Missing = it is gone.</param>
public sealed record ChangedService(string Service, string? Before, string? After);

/// <summary>Something to know of a service.</summary>
public sealed record ServiceNote(string Service, string Text);

/// <summary>What is wrong in the workspace, and where.</summary>
public sealed record FaultInfo(string Code, string Message, string Location, string? Advice);

/// <summary>What came of connecting to a database.</summary>
/// <param name="Address">Missing = its settings have faults.</param>
/// <param name="Failure">Why it cannot be used; missing = it can.</param>
/// <param name="Faults">Of its settings.</param>
/// <param name="Counts">What it holds.</param>
public sealed record ConnectAnswer(
    bool Ok,
    string? Address,
    string? Failure,
    IEnumerable<CheckFinding> Faults,
    IEnumerable<SchemaCount> Counts,
    double Milliseconds
);

/// <summary>How many objects of a kind a schema holds.</summary>
/// <param name="Schema">Missing = the engine has no schemas.</param>
/// <param name="Kind">As <c>offer</c> names it, such as <c>table</c>.</param>
public sealed record SchemaCount(string? Schema, string Kind, int Count);

/// <summary>Database files that lie in the workspace's folder.</summary>
/// <param name="KeepsSecrets">Secrets can be kept here; else a source names a variable of the environment.</param>
public sealed record DatabaseFiles(IEnumerable<string> Files, bool KeepsSecrets);
