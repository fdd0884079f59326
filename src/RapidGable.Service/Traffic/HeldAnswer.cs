using System.Buffers;
using RapidGable.Sources;

namespace RapidGable.Service.Traffic;

/// <summary>
/// The pieces of an answer that are kept back until it is whole, so that its session can be given back before a byte of it is sent.
/// </summary>
/// <param name="most">Bytes that are kept at most.</param>
internal sealed class HeldAnswer(RequestAllowance allowance, int most) : IDisposable
{
    private readonly List<(byte[] Bytes, int Count)> _pieces = [];

    /// <summary>Bytes of all pieces.</summary>
    public int Length { get; private set; }

    /// <summary>Keeps a copy of a piece; false when the answer becomes too large to be kept.</summary>
    public bool TryKeep(ReadOnlyMemory<byte> piece)
    {
        if (Length + piece.Length > most || allowance.TryTake(piece.Length) is not null)
            return false;
        var bytes = ArrayPool<byte>.Shared.Rent(piece.Length);
        piece.CopyTo(bytes);
        _pieces.Add((bytes, piece.Length));
        Length += piece.Length;
        return true;
    }

    /// <summary>Calls for each piece, and keeps it.</summary>
    public void Look(Action<ReadOnlySpan<byte>> look)
    {
        foreach (var (bytes, count) in _pieces)
            look(bytes.AsSpan(0, count));
    }

    /// <summary>Sends what is kept, and keeps nothing any more.</summary>
    public async ValueTask SendAsync(Func<ReadOnlyMemory<byte>, ValueTask> send)
    {
        foreach (var (bytes, count) in _pieces)
            await send(bytes.AsMemory(0, count));
        Dispose();
    }

    public void Dispose()
    {
        foreach (var (bytes, _) in _pieces)
            ArrayPool<byte>.Shared.Return(bytes);
        _pieces.Clear();
        allowance.Give(Length);
        Length = 0;
    }
}
