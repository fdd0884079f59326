using System.Buffers;
using System.Collections.Concurrent;
using System.Text.Json;

namespace RapidGable.Payloads;

/// <summary>
/// Where payload writers write. Bytes gather in a pooled buffer and go out in large pieces; until the first piece has
/// gone an error can still become a proper error response.
/// </summary>
/// <param name="send">Takes one piece; awaiting it is the back-pressure.</param>
public sealed class PayloadOutput(Func<ReadOnlyMemory<byte>, CancellationToken, ValueTask> send) : IDisposable
{
    private const int PieceBytes = 32 * 1024;
    private static readonly ConcurrentBag<ArrayBufferWriter<byte>> Buffers = [];

    private readonly ArrayBufferWriter<byte> _buffer = Buffers.TryTake(out var kept) ? kept : new ArrayBufferWriter<byte>(2 * PieceBytes);

    public IBufferWriter<byte> Buffer => _buffer;

    /// <summary>Sends what has gathered if it is a piece.</summary>
    public ValueTask SendIfFullAsync(Utf8JsonWriter json, CancellationToken cancellation) =>
        json.BytesPending + _buffer.WrittenCount < PieceBytes ? default : SendAsync(json, cancellation);

    /// <summary>Sends the rest.</summary>
    public async ValueTask SendAsync(Utf8JsonWriter? json, CancellationToken cancellation)
    {
        json?.Flush();
        if (_buffer.WrittenCount == 0)
            return;
        await send(_buffer.WrittenMemory, cancellation);
        _buffer.ResetWrittenCount();
    }

    public void Dispose()
    {
        _buffer.ResetWrittenCount();
        if (_buffer.Capacity <= 16 * PieceBytes && Buffers.Count < 64)
            Buffers.Add(_buffer);
    }
}
