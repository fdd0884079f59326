using System.Buffers.Binary;
using System.Runtime.CompilerServices;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>
/// What changes need from outside: the time, chance, identifiers that nothing else has, and the turns of those that collided. One for all
/// services of a process, since they share sources.
/// </summary>
/// <param name="time">The clock.</param>
/// <param name="random">Spreads new tries; used by many at once, so it is one that allows that.</param>
/// <param name="newId">A random identifier at each call.</param>
public sealed class ChangeEnvironment(TimeProvider time, Random random, Func<Guid> newId)
{
    /// <summary>One turn for each source, for as long as it is in use.</summary>
    private readonly ConditionalWeakTable<ISource, SemaphoreSlim> _turns = [];

    /// <summary>Calls of actions are carried out and undone: a service that is only tried answers as if they were done.</summary>
    public bool UndoesCalls { get; init; }

    /// <summary>The instant of a change that begins now, in UTC.</summary>
    public DateTime Now => time.GetUtcNow().UtcDateTime;

    /// <summary>Begins a change that is tried again when others get in its way.</summary>
    /// <param name="limit">How long it is tried.</param>
    public ChangeRetries Try(TimeSpan limit) => new(this, limit);

    internal TimeProvider Time => time;

    internal SemaphoreSlim TurnOf(ISource source) => _turns.GetValue(source, _ => new SemaphoreSlim(1));

    internal TimeSpan Pause() => TimeSpan.FromMilliseconds(random.Next(5, 25));

    internal Guid NewId() => newId();

    /// <summary>An identifier of version 7 (RFC 9562 5.7): those that are made later sort later.</summary>
    internal Guid NewOrderedId(DateTime now)
    {
        Span<byte> bytes = stackalloc byte[16];
        newId().TryWriteBytes(bytes, bigEndian: true, out _);
        Span<byte> milliseconds = stackalloc byte[8];
        BinaryPrimitives.WriteInt64BigEndian(milliseconds, new DateTimeOffset(now).ToUnixTimeMilliseconds());
        milliseconds[2..].CopyTo(bytes);
        bytes[6] = (byte)(0x70 | (bytes[6] & 0x0F));
        bytes[8] = (byte)(0x80 | (bytes[8] & 0x3F));
        return new Guid(bytes, bigEndian: true);
    }
}
