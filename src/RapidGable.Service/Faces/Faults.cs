using RapidGable.Expressions;
using RapidGable.Sources;

namespace RapidGable.Service.Faces;

/// <summary>A source's failure in the words that a caller may hear.</summary>
internal static class Faults
{
    public static RequestFault From(SourceException exception) =>
        exception.Kind switch
        {
            SourceFaultKind.Unavailable => new RequestFault(503, "source-unavailable", "The database cannot be reached at the moment."),
            SourceFaultKind.Uncertain => new RequestFault(
                503,
                "outcome-unknown",
                "The connection to the database broke while the change was made final: it is done or not done as a whole. Read "
                    + "to see which."
            ),
            SourceFaultKind.Busy or SourceFaultKind.Collision => new RequestFault(
                503,
                "source-busy",
                "The database is locked or has no session left at the moment. Try again shortly."
            ),
            SourceFaultKind.QueueFull => new RequestFault(
                429,
                "too-many",
                "Too many requests wait for this database already. Wait a while."
            ),
            SourceFaultKind.Constraint => new RequestFault(409, "constraint", "This change violates a constraint of the database."),
            SourceFaultKind.TooSlow => new RequestFault(
                503,
                "source-too-slow",
                "The query took longer than this service allows. Ask for less, or narrow the filter."
            ),
            SourceFaultKind.DivisionByZero => new RequestFault(400, "division-by-zero", "The expression divides by zero for some row."),
            SourceFaultKind.Overflow => new RequestFault(400, "overflow", "A number in the expression leaves the range of its type."),
            SourceFaultKind.TooComplex => new RequestFault(
                400,
                "too-deep",
                "The request is larger or nests deeper than the database takes."
            ),
            SourceFaultKind.OutOfMemory => new RequestFault(
                503,
                "memory",
                "The database has no memory left for this at the moment. Ask for less, or try again shortly."
            ),
            SourceFaultKind.BadPattern => new RequestFault(400, "pattern", "The database does not support this regular expression."),
            SourceFaultKind.Changed => new RequestFault(
                503,
                "source-changed",
                "The database has changed, and what is published here does not fit it any more. The service looks at it again by itself."
            ),
            SourceFaultKind.BadData => new RequestFault(
                500,
                "bad-data",
                "A stored value does not have the type it is published with. The service's log says which, and 'gable check' "
                    + "lists them all."
            ),
            _ => Internal,
        };

    /// <summary>What the service keeps cannot be read or written. Nothing was changed.</summary>
    public static RequestFault StateUnavailable { get; } =
        new(503, "state", "The service cannot keep what it needs to keep for this request, so nothing was changed. Try again later.");

    /// <summary>The fault of a state that cannot be written; null = the exception is another one.</summary>
    public static RequestFault? OfState(Exception exception) => exception is State.StateException ? StateUnavailable : null;

    public static RequestFault From(MemoryExceededException exception) =>
        exception.IsProcess
            ? new RequestFault(503, "memory", "The service has no memory left for this at the moment. Try again shortly.")
            : new RequestFault(
                413,
                "too-large",
                "The request holds more in memory than one may. Ask for less at once: smaller pages, fewer related entities, "
                    + "fewer requests in a batch."
            );

    /// <summary>The process has no memory left; whatever a request held is given back.</summary>
    public static RequestFault NoMemory { get; } = From(new MemoryExceededException(isProcess: true));

    public static RequestFault AnswerTooLarge { get; } =
        new(413, "too-large", "The answer is larger than one may be in this format. Ask for smaller pages.");

    public static RequestFault Internal { get; } = new(500, "internal", "The service failed to answer. Its log says why.");
}
