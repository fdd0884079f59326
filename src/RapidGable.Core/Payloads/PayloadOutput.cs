using System.Buffers;
using System.Text.Json;

namespace RapidGable.Payloads;

/// <summary>
/// Where payload writers write. Bytes gather in a pooled buffer and go out in large pieces; until the first piece has
/// gone an error can still become a proper error response.
/// </summary>
/// <param name="send">Takes one piece; awaiting it is the back-pressure.</param>
/// <param name="isWhole">Told the bytes of an answer that is a single piece, before that goes.</param>
public sealed class PayloadOutput(Func<ReadOnlyMemory<byte>, CancellationToken, ValueTask> send, Action<int>? isWhole = null)
    : IBufferWriter<byte>,
        IDisposable
{
    private const int PieceBytes = 32 * 1024;

    private byte[] _bytes = ArrayPool<byte>.Shared.Rent(2 * PieceBytes);
    private int _count;
    private bool _hasSent;

    /// <summary>Sends what has gathered if it is a piece.</summary>
    public ValueTask SendIfFullAsync(Utf8JsonWriter json, CancellationToken cancellation) =>
        json.BytesPending + _count < PieceBytes ? default : SendPieceAsync(json, cancellation);

    /// <summary>Sends the rest.</summary>
    public ValueTask SendAsync(Utf8JsonWriter json, CancellationToken cancellation)
    {
        json.Flush();
        return SendAsync(cancellation);
    }

    /// <summary>Sends what has gathered if it is a piece.</summary>
    public ValueTask SendIfFullAsync(CancellationToken cancellation) => _count < PieceBytes ? default : SendPieceAsync(cancellation);

    /// <summary>Sends the rest.</summary>
    public ValueTask SendAsync(CancellationToken cancellation)
    {
        if (!_hasSent)
            isWhole?.Invoke(_count);
        return SendPieceAsync(cancellation);
    }

    private ValueTask SendPieceAsync(Utf8JsonWriter json, CancellationToken cancellation)
    {
        json.Flush();
        return SendPieceAsync(cancellation);
    }

    private async ValueTask SendPieceAsync(CancellationToken cancellation)
    {
        if (_count == 0)
            return;
        _hasSent = true;
        await send(_bytes.AsMemory(0, _count), cancellation);
        _count = 0;
    }

    public void Advance(int count) => _count += count;

    public Memory<byte> GetMemory(int sizeHint = 0)
    {
        var needed = _count + Math.Max(sizeHint, 256);
        if (needed > _bytes.Length)
        {
            var larger = ArrayPool<byte>.Shared.Rent(Math.Max(needed, _bytes.Length * 2));
            _bytes.AsSpan(0, _count).CopyTo(larger);
            ArrayPool<byte>.Shared.Return(_bytes);
            _bytes = larger;
        }
        return _bytes.AsMemory(_count);
    }

    public Span<byte> GetSpan(int sizeHint = 0) => GetMemory(sizeHint).Span;

    public void Dispose()
    {
        if (_bytes.Length > 0)
            ArrayPool<byte>.Shared.Return(_bytes);
        _bytes = [];
        _count = 0;
    }
}
