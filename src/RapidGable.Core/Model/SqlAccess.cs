namespace RapidGable.Model;

/// <summary>That callers may send SELECTs over the sets of a service, see docs/sql.md.</summary>
/// <param name="Who">The callers.</param>
/// <param name="Rows">Rows that one statement gives at most.</param>
public sealed record SqlAccess(AccessRule Who, int Rows)
{
    /// <summary>The path below the service on the plain REST face.</summary>
    public const string Path = "sql";

    /// <summary><see cref="Rows"/> where the declaration says no number.</summary>
    public const int StandardRows = 10_000;
}
