using System.Threading.Channels;

namespace RapidGable.Bench.ByHand;

/// <summary>
/// Sessions that are opened once and kept, with their prepared commands: as many as cores, so that no database works on more at a time.
/// </summary>
internal sealed class SessionPool<T>
{
    private readonly Channel<T> _free = Channel.CreateUnbounded<T>();

    public SessionPool(Func<T> open, int? size = null)
    {
        for (var i = 0; i < (size ?? Environment.ProcessorCount); i++)
            _free.Writer.TryWrite(open());
    }

    /// <summary>Lends a session; requests wait for one in the order in which they came.</summary>
    public async ValueTask UseAsync<TState>(TState state, Func<TState, T, ValueTask> use)
    {
        var session = await _free.Reader.ReadAsync();
        try
        {
            await use(state, session);
        }
        finally
        {
            _free.Writer.TryWrite(session);
        }
    }
}
