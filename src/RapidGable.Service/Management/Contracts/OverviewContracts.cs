namespace RapidGable.Service.Management.Contracts;

/// <summary>How the service is doing.</summary>
/// <param name="At">When this was made, in UTC.</param>
/// <param name="Started">When the service started; what is counted begins then, or an hour ago.</param>
/// <param name="Problem">Why the last good state is served; missing = there is no reason to.</param>
/// <param name="Busiest">Sets that took most of the time in the last hour.</param>
/// <param name="SlowSeconds">From how many seconds in the database on a request is slow.</param>
/// <param name="Refusals">The newest that were refused or held to a limit.</param>
/// <param name="Publications">The newest revisions.</param>
public sealed record Overview(
    DateTime At,
    DateTime Started,
    string? Problem,
    IEnumerable<ServiceTraffic> Services,
    IEnumerable<BusySet> Busiest,
    IEnumerable<SlowStatementInfo> Slow,
    double SlowSeconds,
    CallerLimits Limits,
    IEnumerable<SourceHealth> Sources,
    IEnumerable<DriftInfo> Drift,
    MemoryUse Memory,
    bool IsAuditKept,
    IEnumerable<Auditing.AuditEvent> Refusals,
    IEnumerable<PublicationNote> Publications
);

/// <summary>The last hour of a service.</summary>
/// <param name="Minutes">The oldest first, sixty of them.</param>
/// <param name="IsOff">All of it is switched off.</param>
public sealed record ServiceTraffic(string Name, string Title, bool IsOff, IEnumerable<MinuteTraffic> Minutes);

/// <summary>What was answered in one minute.</summary>
/// <param name="Refused">Answers of 400 to 499.</param>
/// <param name="Failed">Answers of 500 and above.</param>
/// <param name="Milliseconds">All answers together.</param>
public sealed record MinuteTraffic(DateTime Start, long Requests, long Refused, long Failed, double Milliseconds);

/// <summary>The answers about a set in the last hour.</summary>
/// <param name="Set">Empty = documents, and what is no set.</param>
/// <param name="Milliseconds">All answers together.</param>
public sealed record BusySet(string Service, string Set, long Requests, double Milliseconds, double Slowest);

/// <summary>A statement that was slow.</summary>
/// <param name="Seconds">In the database, at most.</param>
/// <param name="Plan">How the engine means to run it; empty = it does not say.</param>
public sealed record SlowStatementInfo(
    string Service,
    string Set,
    string Sql,
    int Count,
    double Seconds,
    DateTime Last,
    IEnumerable<string> Plan
);

/// <summary>What callers may ask, and those who ask most.</summary>
/// <param name="PerMinute">Missing = as much as they like.</param>
/// <param name="Busiest">Counted where a limit is declared.</param>
public sealed record CallerLimits(int? PerMinute, int? AtOnce, IEnumerable<CallerUse> Busiest);

/// <summary>What a caller asked in a minute.</summary>
/// <param name="Limited">Requests that were refused for it.</param>
/// <param name="IsNear">At four fifths of the limit, or over it.</param>
public sealed record CallerUse(string Who, long Requests, long Limited, bool IsNear);

/// <summary>Whether a database answers.</summary>
/// <param name="Fault">Missing = it does.</param>
/// <param name="Milliseconds">That it took to answer.</param>
public sealed record SourceHealth(string Name, string Title, string Address, string? Fault, double Milliseconds);

/// <summary>What requests, kept answers and plans hold, in bytes.</summary>
public sealed record MemoryUse(long Used, long Peak, long Most);

/// <summary>A publication.</summary>
public sealed record PublicationNote(int Number, DateTime At, string By, string Message, int Breaking);
