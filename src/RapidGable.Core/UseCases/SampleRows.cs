using System.Text;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.UseCases;

/// <summary>The first rows of a set as a caller gets them.</summary>
/// <param name="Json">The payload, with the number of all rows that the caller may read.</param>
public sealed record SampledRows(string Json);

/// <summary>Shows what a caller would see of a set, by the same ways and rules as a request.</summary>
/// <param name="now">The time of the request, in UTC.</param>
public sealed class SampleRows(PublishedService service, Caller caller, DateTime now)
{
    /// <param name="rows">How many at most.</param>
    /// <exception cref="SourceException">When the source fails.</exception>
    public async Task<Result<SampledRows>> OfAsync(string set, int rows, CancellationToken cancellation)
    {
        if (
            !SpelledRead.OData(Uri.EscapeDataString(set), $"$top={rows}&$count=true").Is(out var spelled, out var fault)
            || !service.Prepare(spelled.Request, caller).Is(out var prepared, out fault)
            || !QueryValues.Make(prepared.Request, spelled.Request, spelled.PageSize, now, caller).Is(out var values, out fault)
            || !(await QueryRun.StartAsync(prepared, values, cancellation)).Is(out var run, out fault)
        )
            return fault;
        await using (run)
        {
            using var bytes = new MemoryStream();
            ValueTask Take(ReadOnlyMemory<byte> piece, CancellationToken _)
            {
                bytes.Write(piece.Span);
                return default;
            }
            using var output = new Payloads.PayloadOutput(Take);
            await spelled.Write(prepared, run, output, cancellation);
            await output.SendAsync(cancellation);
            return new SampledRows(Encoding.UTF8.GetString(bytes.GetBuffer().AsSpan(0, (int)bytes.Length)));
        }
    }
}
