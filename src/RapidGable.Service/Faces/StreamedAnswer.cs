using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Queries;
using RapidGable.Service.Traffic;

namespace RapidGable.Service.Faces;

/// <summary>
/// An answer that is written while its rows are read. One that is not large is made whole first, and the session given back, so that a
/// caller who takes it slowly keeps nobody waiting.
/// </summary>
internal sealed class StreamedAnswer(Exchange exchange, QueryRun run, string contentType)
{
    /// <summary>Writes the answer and sends it.</summary>
    public async Task WriteAsync(Func<PayloadOutput, Task> write)
    {
        var response = exchange.Response;
        var isInner = InnerExchange.Is(exchange.Context);
        var delivery = new Delivery(exchange.Context, exchange.Traffic, () => run.IsAwaited);
        using var held = new HeldAnswer(exchange.Allowance, Limits.WholeAnswerBytes);
        var isOnePiece = false;
        using var output = new PayloadOutput(SendPieceAsync, length =>
        {
            isOnePiece = true;
            response.ContentLength = length;
        });
        await write(output);
        if (held.Length == 0)
        {
            // Of nothing, too, it is said what it is.
            if (!response.HasStarted)
                response.ContentType = contentType;
            return;
        }
        await run.DisposeAsync();
        response.ContentType = contentType;
        response.ContentLength = held.Length;
        await held.SendAsync(delivery.SendAsync);

        async ValueTask SendPieceAsync(ReadOnlyMemory<byte> piece, CancellationToken cancellation)
        {
            if (isOnePiece)
                await run.DisposeAsync();
            else if (!isInner && !response.HasStarted && held.TryKeep(piece))
                return;
            if (!response.HasStarted)
                response.ContentType = contentType;
            await held.SendAsync(delivery.SendAsync);
            await delivery.SendAsync(piece);
        }
    }
}
