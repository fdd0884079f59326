using System.Collections.Concurrent;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Microsoft.Extensions.Logging;
using RapidGable.Model;
using RapidGable.Service.Faces;
using RapidGable.Service.State;

namespace RapidGable.Service.Stores;

/// <summary>
/// The answers of repeatable requests as documents of the state, named by the day and a hash of the request's id, so that they are good
/// after a restart and in every process that uses the state.
/// </summary>
internal sealed class RepeatedAnswersInState(IStateStore state, TimeProvider time, ILogger<RepeatedAnswersInState> log)
    : IRepeatedAnswerStore
{
    /// <summary>So many are begun before old ones are removed again.</summary>
    private const int BetweenRemovals = 500;

    /// <summary>So many bytes are begun before old ones are removed again.</summary>
    private const long BytesBetweenRemovals = 16 * 1024 * 1024;

    private readonly ConcurrentDictionary<string, Turn> _turns = new();
    private readonly ConcurrentDictionary<string, long> _bytesOf = new(StringComparer.Ordinal);
    private DateOnly _counted;
    private int _begun;
    private long _bytesBegun;

    private sealed class Turn
    {
        public SemaphoreSlim Gate { get; } = new(1);

        public int Waiting { get; set; }
    }

    public RepeatedAnswer? Find(string id) => Days().Select(d => Read(NameOf(d, id))).FirstOrDefault(a => a is not null);

    private RepeatedAnswer? Read(string name) => state.Read<RepeatedAnswer>(StateRooms.Answers, name);

    public bool TryTake(string who, long bytes)
    {
        if (_counted != Today || _bytesOf.Count > Limits.RepeatedAnswers)
        {
            _bytesOf.Clear();
            _counted = Today;
        }
        return _bytesOf.AddOrUpdate(who, bytes, (_, used) => used + bytes) <= Limits.RepeatedAnswerBytesOfOne;
    }

    public bool Begin(string id, string answer)
    {
        RemoveOld(answer.Length);
        var begun = new RepeatedAnswer(answer, time.GetUtcNow(), IsFinal: false);
        return Find(id) is null && state.Write(StateRooms.Answers, NameOf(Today, id), StateDocuments.ToBytes(begun), null) is not null;
    }

    public void Undo(string id)
    {
        foreach (var day in Days())
            Unless("removed", () => state.Remove(StateRooms.Answers, NameOf(day, id)));
    }

    public void Finish(string id) => Unless("kept", () =>
        {
            // Midnight may have passed since it was begun.
            var name = Days().Select(d => NameOf(d, id)).FirstOrDefault(n => state.VersionOf(StateRooms.Answers, n) is not null);
            if (name is not null)
                state.Change<RepeatedAnswer>(StateRooms.Answers, name, a => a is null ? null : a with { IsFinal = true });
        });

    /// <summary>The change is made or undone already; an answer that cannot say so is told to the log, and stays as begun.</summary>
    private void Unless(string done, Action work)
    {
        try
        {
            work();
        }
        catch (StateException exception)
        {
            log.LogError("The answer of a repeatable request cannot be {Done}: {Message}", done, exception.Message);
        }
    }

    private DateOnly Today => DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime);

    /// <summary>The days on which an answer that still counts may have begun.</summary>
    private DateOnly[] Days() => [Today, Today.AddDays(-1)];

    private static string NameOf(DateOnly day, string id) =>
        $"{PrefixOf(day)}-{Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(id)).AsSpan(0, 20))}.json";

    private static string PrefixOf(DateOnly day) => day.ToString("yyyyMMdd", CultureInfo.InvariantCulture);

    private void RemoveOld(long bytes)
    {
        var isFull = Interlocked.Add(ref _bytesBegun, bytes) > BytesBetweenRemovals;
        if ((Interlocked.Increment(ref _begun) - 1) % BetweenRemovals != 0 && !isFull)
            return;
        Interlocked.Exchange(ref _bytesBegun, 0);
        var names = state.Names(StateRooms.Answers);
        var oldest = PrefixOf(Today.AddDays(-1));
        var tooMany = Math.Max(0, names.Length - Limits.RepeatedAnswers);
        // Of what is too much in bytes, so many go as it has on the average.
        if (names.Length > 0 && state.BytesOf(StateRooms.Answers) is var all && all > Limits.RepeatedAnswerBytes)
            tooMany = Math.Max(tooMany, (int)Math.Ceiling((all - Limits.RepeatedAnswerBytes) / (all / (double)names.Length)));
        // Names begin with the day, so the oldest come first.
        foreach (var name in names.Where((n, at) => at < tooMany || string.CompareOrdinal(n[..Math.Min(8, n.Length)], oldest) < 0))
            state.Remove(StateRooms.Answers, name);
    }

    public async Task<IDisposable> EnterAsync(string id, CancellationToken cancellation)
    {
        Turn turn;
        lock (_turns)
        {
            turn = _turns.GetOrAdd(id, _ => new Turn());
            turn.Waiting++;
        }
        try
        {
            await turn.Gate.WaitAsync(cancellation);
        }
        catch
        {
            Leave(id, turn, isIn: false);
            throw;
        }
        return new Left(() => Leave(id, turn, isIn: true));
    }

    private void Leave(string id, Turn turn, bool isIn)
    {
        lock (_turns)
        {
            if (isIn)
                turn.Gate.Release();
            if (--turn.Waiting == 0)
                _turns.TryRemove(id, out _);
        }
    }

    private sealed class Left(Action leave) : IDisposable
    {
        public void Dispose() => leave();
    }
}
