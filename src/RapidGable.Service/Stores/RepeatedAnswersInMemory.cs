using System.Collections.Concurrent;
using RapidGable.Model;
using RapidGable.Service.Faces;
using RapidGable.Service.Traffic;

namespace RapidGable.Service.Stores;

/// <summary>
/// The answers of repeatable requests, as long as the service runs; sources that keep them in a table of their own do without.
/// </summary>
internal sealed class RepeatedAnswersInMemory(Allowances allowances) : IRepeatedAnswerStore
{
    private readonly ConcurrentDictionary<string, string> _answers = new();
    private readonly ConcurrentQueue<string> _age = new();
    private readonly ConcurrentDictionary<string, Turn> _turns = new();

    private sealed class Turn
    {
        public SemaphoreSlim Gate { get; } = new(1);

        public int Waiting { get; set; }
    }

    public string? Find(string id) => _answers.GetValueOrDefault(id);

    private static long Bytes(string answer) => 200 + (2L * answer.Length);

    public bool Reserve(string answer)
    {
        while (!allowances.Process.TryTake(Bytes(answer)))
        {
            if (!ForgetOldest())
                return false;
        }
        return true;
    }

    public void Release(string answer) => allowances.Process.Give(Bytes(answer));

    public void Keep(string id, string answer)
    {
        if (_answers.TryAdd(id, answer))
            _age.Enqueue(id);
        else
            Release(answer);
        while (_answers.Count > Limits.RepeatedAnswers && ForgetOldest()) { }
    }

    private bool ForgetOldest()
    {
        if (!_age.TryDequeue(out var oldest))
            return false;
        if (_answers.TryRemove(oldest, out var gone))
            Release(gone);
        return true;
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
