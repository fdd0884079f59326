using System.Collections.Immutable;
using SQLitePCL;

namespace RapidGable.Sources.Sqlite;

/// <summary>Which rule of the database a statement broke, from the code and the words of the library.</summary>
internal static class SqliteFault
{
    /// <param name="code">The extended result code.</param>
    public static BrokenConstraint? Constraint(int code, string message) =>
        code switch
        {
            raw.SQLITE_CONSTRAINT_UNIQUE or raw.SQLITE_CONSTRAINT_PRIMARYKEY or raw.SQLITE_CONSTRAINT_ROWID => new BrokenConstraint(
                ConstraintKind.Unique,
                null,
                Columns(message)
            ),
            raw.SQLITE_CONSTRAINT_NOTNULL => new BrokenConstraint(ConstraintKind.Required, null, Columns(message)),
            // Only when a change ends is it known that a reference leads nowhere, and then neither side of it is told.
            raw.SQLITE_CONSTRAINT_FOREIGNKEY => new BrokenConstraint(ConstraintKind.NoParent, null, []),
            // Only RAISE in a trigger gives this code, and its words are the developer's.
            raw.SQLITE_CONSTRAINT_TRIGGER => new BrokenConstraint(ConstraintKind.Raised, null, []) { Message = message },
            raw.SQLITE_CONSTRAINT_CHECK or raw.SQLITE_CONSTRAINT_VTAB or raw.SQLITE_CONSTRAINT_FUNCTION or raw.SQLITE_CONSTRAINT =>
                new BrokenConstraint(ConstraintKind.Check, After(message, "CHECK constraint failed: "), []),
            Datatype or raw.SQLITE_MISMATCH => new BrokenConstraint(ConstraintKind.Value, null, []),
            raw.SQLITE_TOOBIG => new BrokenConstraint(ConstraintKind.TooLong, null, []),
            _ => null,
        };

    /// <summary>A value of another type than a column of a strict table takes.</summary>
    private const int Datatype = 3091;

    /// <summary>The columns of <c>UNIQUE constraint failed: station.code, station.name</c>.</summary>
    private static ImmutableArray<string> Columns(string message) =>
        After(message, "constraint failed: ") is { } list && !list.StartsWith("index '", StringComparison.Ordinal)
            ? [.. list.Split(", ").Select(c => c[(c.LastIndexOf('.') + 1)..])]
            : [];

    private static string? After(string message, string mark) =>
        message.IndexOf(mark, StringComparison.Ordinal) is >= 0 and var at ? message[(at + mark.Length)..] : null;
}
