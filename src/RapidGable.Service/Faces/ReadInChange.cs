using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Payloads;
using RapidGable.Queries;
using RapidGable.Requests;

namespace RapidGable.Service.Faces;

/// <summary>A read in the transaction of a change: what was written as the caller may see it, before it is final.</summary>
internal static class ReadInChange
{
    /// <summary>A read that has begun.</summary>
    internal sealed record Started(PreparedRequest Prepared, QueryRun Run);

    /// <summary>Starts a read; the caller disposes of the run.</summary>
    public static async Task<Result<Started>> StartAsync(Exchange exchange, ChangeUnit unit, ISpelledRequest spelled)
    {
        if (
            !exchange.Service.Prepare(spelled, exchange.Caller).Is(out var prepared, out var fault)
            || !QueryValues.Make(prepared.Request, spelled, null, unit.Now, exchange.Caller).Is(out var values, out fault)
        )
            return fault;
        var started = await QueryRun.StartAsync(
            prepared,
            values.With(exchange.Allowance),
            exchange.Cancellation,
            within: unit.Within(prepared.Source)
        );
        return started.Is(out var run, out fault) ? new Started(prepared, run) : fault;
    }

    /// <summary>What is written, out of the memory that the request may take.</summary>
    public static async Task<byte[]> WrittenAsync(Exchange exchange, Func<PayloadOutput, Task> write)
    {
        using var bytes = new MemoryStream();
        using (
            var output = new PayloadOutput(
                (piece, _) =>
                {
                    exchange.Allowance.Take(piece.Length);
                    bytes.Write(piece.Span);
                    return default;
                }
            )
        )
            await write(output);
        return bytes.ToArray();
    }
}
