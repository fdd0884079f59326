using RapidGable.Queries;

namespace RapidGable.Payloads;

/// <summary>Writes the answer to one prepared request in one format.</summary>
public interface IPayloadWriter
{
    /// <summary>Writes a collection, an entity or a property's value; the run must have a row, except for a collection.</summary>
    /// <exception cref="Sources.SourceException">When a source fails, or holds a value that cannot be published.</exception>
    Task WriteAsync(QueryRun run, LinkBuilder links, PayloadOutput output, CancellationToken cancellation);
}
