using System.Text;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.UseCases;

/// <summary>The first rows of a set as a caller gets them.</summary>
/// <param name="Json">The payload, with the number of all rows that the caller may read.</param>
public sealed record SampledRows(string Json)
{
    /// <summary>How many rows the caller may read.</summary>
    public long Total => System.Text.Json.Nodes.JsonNode.Parse(Json)!["@odata.count"]!.GetValue<long>();
}

/// <summary>Shows what a caller would see of a set, by the same ways and rules as a request.</summary>
/// <param name="now">The time of the request, in UTC.</param>
public sealed class SampleRows(PublishedService service, Caller caller, DateTime now)
{
    /// <summary>Calls a query.</summary>
    /// <param name="values">By the names of its parameters, as texts.</param>
    /// <param name="rows">How many at most.</param>
    /// <exception cref="SourceException">When the source fails.</exception>
    public Task<Result<SampledRows>> CallAsync(
        EntitySet query,
        IReadOnlyDictionary<string, string> values,
        int rows,
        CancellationToken cancellation
    ) => RunAsync(SampleCall.OData(query, values), query.Gives == QueryResult.Rows ? $"$top={rows}&$count=true" : "", cancellation);

    /// <param name="rows">How many at most.</param>
    /// <exception cref="SourceException">When the source fails.</exception>
    public Task<Result<SampledRows>> OfAsync(string set, int rows, CancellationToken cancellation) =>
        RunAsync(Uri.EscapeDataString(set), $"$top={rows}&$count=true", cancellation);

    private async Task<Result<SampledRows>> RunAsync(string path, string query, CancellationToken cancellation)
    {
        if (
            !SpelledRead.OData(path, query).Is(out var spelled, out var fault)
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
