namespace RapidGable.Service.Management.Contracts;

/// <summary>What is published, what the draft would change, and what is switched off.</summary>
/// <param name="Serves">The number of the revision that is served; missing = the files are followed.</param>
/// <param name="Revisions">The newest first.</param>
/// <param name="Drift">In what the databases have moved away from the served revision.</param>
public sealed record PublishingState(
    int? Serves,
    IEnumerable<RevisionInfo> Revisions,
    IEnumerable<DriftInfo> Drift,
    IEnumerable<SwitchInfo> Off
);

/// <summary>A revision.</summary>
/// <param name="BackTo">The revision that it went back to; missing = it was made from the files.</param>
/// <param name="KeptUntil">Missing = for good.</param>
public sealed record RevisionInfo(
    int Number,
    DateTime At,
    string By,
    string Message,
    IEnumerable<string> Changes,
    IEnumerable<string> Breaking,
    IEnumerable<string> Opened,
    int? BackTo,
    DateTime? KeptUntil
);

/// <summary>Something in which a database has moved away.</summary>
/// <param name="Breaks">What is published fails, or gives something else than it says.</param>
/// <param name="Affected">Who may read what it is about.</param>
public sealed record DriftInfo(string? Service, string Text, bool Breaks, IEnumerable<string> Affected);

/// <summary>Something that is switched off.</summary>
/// <param name="Target">What, in words.</param>
/// <param name="IsAbsent">As if it were not there.</param>
public sealed record SwitchInfo(
    string Target,
    string Service,
    string? Face,
    string? Group,
    string? Set,
    bool IsAbsent,
    string? Message,
    int RetryAfter,
    string By,
    DateTime At
);

/// <summary>What publishing the draft would do.</summary>
/// <param name="BasedOn">The revision that it is compared with; 0 = none.</param>
/// <param name="Findings">What the checks say.</param>
public sealed record DraftReview(
    int BasedOn,
    IEnumerable<ReviewedService> Services,
    IEnumerable<string> Settings,
    IEnumerable<CheckFinding> Findings
);

/// <summary>What becomes of a service.</summary>
public sealed record ReviewedService(
    string Name,
    [property: OneOf("new", "changed", "gone")] string Change,
    IEnumerable<string> Differences,
    IEnumerable<ReviewedFace> Faces,
    IEnumerable<string> Opened
);

/// <summary>What changes on one face.</summary>
public sealed record ReviewedFace(string Face, IEnumerable<MetadataChange> Changes);

/// <summary>The revision that was made.</summary>
public sealed record MadeRevision(int Number);

/// <summary>What differs between two revisions.</summary>
public sealed record RevisionDifference(int From, int To, IEnumerable<ReviewedService> Services);
