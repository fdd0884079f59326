namespace RapidGable.Model;

/// <summary>The limits that every request meets; each is documented in docs/limits.md and tested at its boundary.</summary>
public static class Limits
{
    /// <summary>Characters of the raw path and query after the host; beyond it 414.</summary>
    public const int UrlLength = 16_384;

    /// <summary>Segments of a resource path.</summary>
    public const int PathSegments = 20;

    /// <summary>How deep parentheses, calls and operators may nest in one expression.</summary>
    public const int ExpressionDepth = 100;

    /// <summary>Operators, calls, names and literals in one expression.</summary>
    public const int ExpressionNodes = 1_000;

    /// <summary>Operators, calls, names and literals in all expressions of a request, with aliases written out at each use.</summary>
    public const int RequestParts = 4_000;

    /// <summary>Steps that reading, binding and writing one request may take.</summary>
    public const int RequestSteps = 1_000_000;

    /// <summary>Parts of all expressions of a request once every computed value that they name stands in them.</summary>
    public const int BoundParts = 5_000;

    /// <summary>Texts that one value may be put together from, with those of computed values that it names.</summary>
    public const int JoinedTexts = 50;

    /// <summary>Characters of one text that a statement puts together, those of columns as declared.</summary>
    public const int JoinedCharacters = 1024 * 1024;

    /// <summary>Characters that a text column counts for where texts are put together, if it declares none or more.</summary>
    public const int JoinedColumn = 16 * 1024;

    /// <summary>Characters of all text values in the expressions of one statement, counted at each place where they stand.</summary>
    public const int ExpressionCharacters = 1024 * 1024;

    /// <summary>How deep <c>any</c>, <c>all</c> and <c>$count</c> may nest in one expression.</summary>
    public const int LambdaDepth = 8;

    /// <summary>Members of an <c>in</c> list that a workspace may allow at most.</summary>
    public const int InMembers = 4_000;

    /// <summary>Terms of an <c>$orderby</c>.</summary>
    public const int OrderTerms = 20;

    /// <summary>Navigation hops in one expression path.</summary>
    public const int PathHops = 8;

    /// <summary>Items of an <c>$expand</c>, with those inside of others.</summary>
    public const int ExpandItems = 20;

    /// <summary>How deep <c>$expand</c> may nest, and the largest <c>$levels</c>, that a workspace may allow at most.</summary>
    public const int ExpandDepth = 20;

    /// <summary>Relations that one request expands at most, once <c>*</c> and <c>$levels</c> are written out.</summary>
    public const int ExpandedRelations = 60;

    /// <summary>
    /// Bytes of an answer that is made whole, and its session given back, before it is sent; a larger one is sent while it is read.
    /// </summary>
    public const int WholeAnswerBytes = 4 * 1024 * 1024;

    /// <summary>
    /// Bytes of an answer that is kept as a whole because of what its headers say, beyond <see cref="WholeAnswerBytes"/> in a file.
    /// </summary>
    public const long SpooledAnswerBytes = 2L * 1024 * 1024 * 1024;

    /// <summary>Bytes of all such files together.</summary>
    public const long SpooledBytes = 8L * 1024 * 1024 * 1024;

    /// <summary>Seconds for which a caller may let an answer wait while others wait for the session that it holds.</summary>
    public const int StallSeconds = 1;

    /// <summary>
    /// Wrong passwords for one name from one address, after which none is looked at for <see cref="SignInPauseMinutes"/>.
    /// </summary>
    public const int SignInAttempts = 5;

    /// <summary>
    /// Wrong passwords from one address, whatever the names, after which none from there is looked at for <see
    /// cref="SignInPauseMinutes"/>.
    /// </summary>
    public const int SignInAddressAttempts = 50;

    /// <summary>Characters of a token that somebody signs in with; beyond it 401.</summary>
    public const int TokenBytes = 16_384;

    /// <summary>Minutes for which a name that had too many wrong passwords waits.</summary>
    public const int SignInPauseMinutes = 5;

    /// <summary>
    /// Lines of refusals in the audit log of a day; like ones within a minute are one line anyway, and beyond this they are counted only.
    /// </summary>
    public const int RefusalsNoted = 5_000;

    /// <summary>Hours for which a repeatable request may be sent again.</summary>
    public const int RepeatHours = 24;

    /// <summary>Answers of repeatable requests that are kept in the state; the oldest go first.</summary>
    public const int RepeatedAnswers = 50_000;

    /// <summary>Bytes of all such answers; the oldest go first.</summary>
    public const long RepeatedAnswerBytes = 256L * 1024 * 1024;

    /// <summary>Bytes of such answers that one caller may have kept in a day; beyond it 429.</summary>
    public const long RepeatedAnswerBytesOfOne = RepeatedAnswerBytes / 4;

    /// <summary>Answers that wait to be fetched.</summary>
    public const int PendingRequests = 100;

    /// <summary>Answers of one caller that wait to be fetched.</summary>
    public const int PendingRequestsOfOne = 20;

    /// <summary>Minutes for which an answer waits to be fetched.</summary>
    public const int MonitorMinutes = 10;

    /// <summary>Transformations of an <c>$apply</c>.</summary>
    public const int Transformations = 20;

    /// <summary>Combinations of levels that rollups make.</summary>
    public const int GroupingSets = 20;

    /// <summary>Sets of a <c>$crossjoin</c>.</summary>
    public const int JoinedSets = 4;

    /// <summary>Characters of a statement over sets.</summary>
    public const int StatementCharacters = 65_536;

    /// <summary>Words and signs of a statement over sets.</summary>
    public const int StatementWords = 20_000;

    /// <summary>Columns of the result of a statement over sets, and terms that it groups by.</summary>
    public const int StatementColumns = 200;

    /// <summary>Sets that a statement reads, those of inner SELECTs among them; one that is named twice counts twice.</summary>
    public const int StatementTables = 10;

    /// <summary>Characters of one term of a statement, as it goes to the database.</summary>
    public const int StatementTermCharacters = 200_000;

    /// <summary>Characters of a regular expression.</summary>
    public const int PatternLength = 500;

    /// <summary>Words and phrases of a <c>$search</c>.</summary>
    public const int SearchTerms = 20;

    /// <summary>Seconds that one statement may take when the source says nothing.</summary>
    public const int StatementSeconds = 30;

    /// <summary>Different views of a service, by what rules leave to callers, that are kept; beyond it all are made anew.</summary>
    public const int CachedViews = 500;

    /// <summary>Bytes that the plans of all services may take, of the memory of the process.</summary>
    public const int PlanBytes = 64 * 1024 * 1024;

    /// <summary>Plans kept in a service's cache; the oldest go first.</summary>
    public const int CachedPlans = 2_000;
}
