using RapidGable.Expressions;
using RapidGable.Queries;

namespace RapidGable.Payloads;

/// <summary>Writes rows in a format that says nothing about the answer as a whole, or not all of it.</summary>
public interface IListWriter
{
    /// <summary>Writes a collection or an entity; the run must have a row, except for a collection.</summary>
    /// <returns>Where the list goes on, to be told outside of it; null = nowhere.</returns>
    /// <exception cref="Sources.SourceException">When a source fails, or holds a value that cannot be published.</exception>
    /// <exception cref="RelatedCutException">A relation has more rows than fit, and the format has no place to say so.</exception>
    Task<Continuation?> WriteAsync(QueryRun run, ILinks links, PayloadOutput output, CancellationToken cancellation);
}

/// <summary>
/// A row has more related rows than one answer holds, in a format that has no place for a link to the others: leaving them away silently
/// would be a wrong answer.
/// </summary>
public sealed class RelatedCutException(string relation) : Exception($"'{relation}' has more rows than one answer holds.")
{
    /// <summary>What the caller is told.</summary>
    public RequestFault Fault { get; } =
        new RequestFault(
            400,
            "related-cut",
            $"Some row has more of '{relation}' than one answer holds, and this format has no place for a link to the others. Ask for "
                + $"JSON with lists as objects, or read '{relation}' by its own address.",
            "include"
        );
}
