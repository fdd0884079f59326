namespace RapidGable.Service.Management.Contracts;

/// <summary>The verification that is running, and those that have ended.</summary>
/// <param name="Current">Missing = none was started since the service runs.</param>
/// <param name="Former">The newest first.</param>
public sealed record Verifications(VerificationState? Current, IEnumerable<VerificationSummary> Former);

/// <summary>How far a verification is.</summary>
/// <param name="Services">Empty = all.</param>
/// <param name="Part">What is being done.</param>
/// <param name="Done">The parts that are done.</param>
/// <param name="Failure">Why it ended without a report.</param>
/// <param name="Number">Under which its report is kept.</param>
public sealed record VerificationState(
    DateTime At,
    string By,
    IEnumerable<string> Services,
    bool IsRunning,
    string Part,
    string Detail,
    IEnumerable<string> Done,
    string? Failure,
    int? Number
);

/// <summary>What a verification found, in numbers.</summary>
/// <param name="Services">Empty = all.</param>
public sealed record VerificationSummary(
    int Number,
    DateTime At,
    string By,
    IEnumerable<string> Services,
    int Passed,
    int Failed,
    int Skipped,
    double Seconds
);

/// <summary>What a verification found.</summary>
/// <param name="Before">The verification of the same services before it; missing = none is kept.</param>
/// <param name="Broken">Checks that passed then and fail now.</param>
/// <param name="Mended">Checks that failed then and pass now.</param>
public sealed record VerificationDetails(
    VerificationSummary Summary,
    IEnumerable<VerifiedPart> Parts,
    int? Before,
    IEnumerable<string> Broken,
    IEnumerable<string> Mended
);

/// <summary>A service on one face, as one kind of caller.</summary>
public sealed record VerifiedPart(string Title, string Url, double Seconds, IEnumerable<VerifiedCheck> Checks);

/// <summary>A check of a set, or of the service.</summary>
/// <param name="Examined">How many rows or values were looked at.</param>
/// <param name="Url">The request that shows it.</param>
public sealed record VerifiedCheck(
    string Check,
    string Subject,
    [property: OneOf("passed", "failed", "skipped")] string Outcome,
    string Message,
    long Examined,
    string? Url
);
