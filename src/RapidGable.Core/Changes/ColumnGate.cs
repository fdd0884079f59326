using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Changes;

/// <summary>
/// Holds all columns that a change is about to write to what its caller may write, before the service adds what it makes itself.
/// </summary>
internal static class ColumnGate
{
    /// <exception cref="FaultException">When some of them are not to be written; all are told.</exception>
    /// <param name="path">Where the entity stands in the body, with a slash at its end.</param>
    public static void Admit(IEnumerable<ColumnValue> columns, WriteAccess access, string path)
    {
        var faults = columns.Select(c => Fault(c, access, path)).OfType<RequestFault>().DistinctBy(f => f.Target).ToList();
        if (faults.Count > 0)
            throw new FaultException(RequestFault.Of(faults));
    }

    private static RequestFault? Fault(ColumnValue column, WriteAccess access, string path) =>
        access.Of(column.Property) switch
        {
            ColumnAccess.Closed => Closed(column.Path.Length > 0 ? column.Path : path + column.Property.Name),
            // What a body says of such a value by itself was passed over when it was read (M-05, M-18); a relation is asked for as such.
            ColumnAccess.Fixed when column.IsRelated => Fixed(column, access, path),
            _ => null,
        };

    /// <summary>The fault of a value that rules keep from the caller.</summary>
    public static RequestFault Closed(string path) => new(403, "forbidden", $"You are not allowed to write '{path}'.", path);

    private static RequestFault Fixed(ColumnValue column, WriteAccess access, string path)
    {
        var target = column.Path.Length > 0 ? column.Path : path.TrimEnd('/');
        var shown = target.Length > 0 ? $"'{target}'" : "The relation";
        var isSetOnce = access.Operation != SetOperations.Create && ColumnAccesses.IsWritten(column.Property, SetOperations.Create);
        var message = isSetOnce
            ? $"{shown} is set when the entity is created, and cannot be changed later."
            : $"{shown} cannot be set: the service or the database makes the value.";
        return new RequestFault(400, "read-only", message, target.Length > 0 ? target : null);
    }
}
