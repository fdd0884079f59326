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

    /// <summary>Members of an <c>in</c> list.</summary>
    public const int InMembers = 500;

    /// <summary>Terms of an <c>$orderby</c>.</summary>
    public const int OrderTerms = 20;

    /// <summary>Navigation hops in one expression path.</summary>
    public const int PathHops = 8;

    /// <summary>Items of an <c>$expand</c>.</summary>
    public const int ExpandItems = 20;

    /// <summary>Rows of a page when neither the declaration nor the caller says a number.</summary>
    public const int DefaultPageSize = 100;

    /// <summary>The largest page when the declaration says none.</summary>
    public const int DefaultLargestPage = 5_000;

    /// <summary>Seconds that one statement may take when the source says nothing.</summary>
    public const int StatementSeconds = 30;

    /// <summary>Plans kept in a service's cache; the oldest go first.</summary>
    public const int CachedPlans = 2_000;
}
