using RapidGable.Expressions;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>
/// A rule of the database that a statement of the declaration breaks, in outside terms: its tables and columns are nothing that callers
/// know of.
/// </summary>
internal static class CallFaults
{
    private const int LongestMessage = 500;

    /// <summary>What a failure says of a rule that is broken, or of a value that the statement cannot take; null = nothing.</summary>
    public static BrokenConstraint? Tells(SourceException exception) =>
        exception.Kind is SourceFaultKind.Constraint or SourceFaultKind.BadData or SourceFaultKind.Broken ? exception.Constraint : null;

    /// <param name="operation">The name of the query or action.</param>
    public static RequestFault Of(BrokenConstraint broken, string operation) =>
        broken.Kind switch
        {
            ConstraintKind.Unique => new RequestFault(409, "exists", $"'{operation}' would make something that is there already."),
            ConstraintKind.HasChildren => new RequestFault(
                409,
                "referred-to",
                $"'{operation}' would take away what something else refers to."
            ),
            ConstraintKind.NoParent => new RequestFault(422, "reference", $"Something that '{operation}' would refer to is not there."),
            ConstraintKind.Value or ConstraintKind.Range or ConstraintKind.TooLong => new RequestFault(
                422,
                "database-rule",
                $"A value is none that the database takes there: one that '{operation}' is called with, or a stored one."
            ),
            ConstraintKind.Raised when Told(broken.Message) is { } message => new RequestFault(422, "database-rule", message),
            _ => new RequestFault(422, "database-rule", $"'{operation}' would violate a constraint of the database."),
        };

    /// <summary>A developer's message as one line; null = there is none.</summary>
    public static string? Told(string? message)
    {
        var line = string.Concat((message ?? "").Select(c => char.IsControl(c) ? ' ' : c)).Trim();
        return line.Length == 0 ? null
            : line.Length > LongestMessage ? line[..LongestMessage] + "…"
            : line;
    }
}
