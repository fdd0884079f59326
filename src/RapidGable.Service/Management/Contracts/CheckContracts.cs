namespace RapidGable.Service.Management.Contracts;

/// <summary>What a check of the workspace's files found.</summary>
/// <param name="Ok">Nothing is wrong.</param>
public sealed record CheckAnswer(bool Ok, IEnumerable<CheckFinding> Findings, IEnumerable<CheckedServiceInfo> Services);

/// <summary>Something that is wrong or doubtful, with its place.</summary>
/// <param name="Line">From 1; missing = it is about the file as a whole.</param>
/// <param name="Advice">What to do about it.</param>
public sealed record CheckFinding(
    [property: OneOf("error", "warning")] string Severity,
    string Code,
    string Message,
    string File,
    int? Line,
    int? Column,
    string? Advice
);

/// <summary>What a check found of one service.</summary>
/// <param name="Data">What the rows prove; empty = they were not read.</param>
/// <param name="Changes">How it differs from the newest revision; missing = nothing was published.</param>
/// <param name="Opened">What becomes visible or possible; missing = nothing was published.</param>
public sealed record CheckedServiceInfo(
    string Service,
    IEnumerable<DataProofInfo> Data,
    IEnumerable<MetadataChange>? Changes,
    IEnumerable<string>? Opened
);

/// <summary>What the rows of a set prove.</summary>
/// <param name="Fault">What they contradict; missing = nothing.</param>
public sealed record DataProofInfo(string Set, string What, long Rows, string? Fault, IEnumerable<string> Examples);

/// <summary>A difference of metadata, and what it means for consumers.</summary>
public sealed record MetadataChange(string Subject, string What, string Meaning, bool IsBreaking);

/// <summary>The columns that identify the rows of a table or view.</summary>
/// <param name="PrimaryKey">As the database declares it; empty = it declares none.</param>
/// <param name="Tried">Combinations of columns that were counted.</param>
/// <param name="IsComplete">Every combination was looked at; else the most likely ones only.</param>
public sealed record KeysAnswer(
    string Name,
    IEnumerable<string> PrimaryKey,
    long Rows,
    int Tried,
    bool IsComplete,
    IEnumerable<KeyProposal> Candidates
);

/// <summary>Columns that identify a row, proved over all rows.</summary>
public sealed record KeyProposal(IEnumerable<string> Columns, string Reason);
