namespace RapidGable.Service.Management.Contracts;

/// <summary>A request that the workspace keeps.</summary>
/// <param name="File">The file that it stands in, and in which line.</param>
/// <param name="Title">Missing = it has none.</param>
/// <param name="As">As whom it is sent; missing = anonymous.</param>
/// <param name="Changes">It may change something.</param>
/// <param name="Expectations">What must be true of its answer.</param>
/// <param name="HasExample">An answer is kept beside it.</param>
public sealed record KeptRequestInfo(
    string Name,
    string File,
    int Line,
    string? Title,
    string Method,
    string Target,
    string? As,
    bool Changes,
    string? Body,
    IEnumerable<string> Expectations,
    bool HasExample
);

/// <summary>What came of a kept request.</summary>
/// <param name="Caller">As whom it was sent.</param>
/// <param name="Status">Missing = it was not sent; 0 = nothing came.</param>
/// <param name="Body">The answer as text, at most so many characters as <see cref="IsCut"/> leaves.</param>
/// <param name="Skipped">Why it was not sent; missing = it was.</param>
public sealed record KeptRequestOutcome(
    string Name,
    string Caller,
    string Target,
    bool IsGood,
    int? Status,
    double? Milliseconds,
    IReadOnlyDictionary<string, string>? Headers,
    string? Body,
    bool IsCut,
    string? Skipped,
    IEnumerable<KeptExpectationOutcome> Expectations
);

/// <summary>Something that was expected.</summary>
/// <param name="Fault">What is wrong; missing = nothing.</param>
public sealed record KeptExpectationOutcome(string Expected, string? Fault);

/// <summary>An answer that was kept.</summary>
/// <param name="File">Where.</param>
public sealed record KeptExampleFile(string File);

/// <summary>A secret of the workspace, without its value.</summary>
/// <param name="UsedBy">Sources that name it.</param>
public sealed record SecretInfo(string Name, IEnumerable<string> UsedBy);

/// <summary>A header of a request or an answer.</summary>
public sealed record RequestHeader(string Name, string Value);

/// <summary>What came of a composed request.</summary>
/// <param name="Caller">As whom it was sent.</param>
/// <param name="IsUndone">It could change something, and what it changed was undone.</param>
/// <param name="Status">0 = nothing came.</param>
/// <param name="Bytes">Length of the whole body.</param>
/// <param name="Body">The body as text; missing = it is not text.</param>
/// <param name="IsCut">The text is longer than what is shown.</param>
/// <param name="Statements">What was sent to the databases, in order.</param>
/// <param name="MoreStatements">How many statements are not shown.</param>
/// <param name="Programs">That read all rows of a list; empty = the answer is none.</param>
/// <param name="Rules">What the rules of the sets do for the caller.</param>
public sealed record SentAnswer(
    string Caller,
    bool IsUndone,
    int Status,
    double Milliseconds,
    IEnumerable<RequestHeader> Headers,
    long Bytes,
    string? Body,
    bool IsCut,
    IEnumerable<SentStatement> Statements,
    int MoreStatements,
    IEnumerable<SentProgram> Programs,
    IEnumerable<Access.RuleEffect> Rules
);

/// <summary>A program for a request.</summary>
public sealed record SentProgram(string Language, string Text);

/// <summary>A statement that a request sent to a database.</summary>
/// <param name="Parameters">Its values.</param>
public sealed record SentStatement(string Source, string Sql, IEnumerable<string> Parameters);
