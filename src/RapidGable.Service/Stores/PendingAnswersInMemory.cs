using System.Collections.Concurrent;
using RapidGable.Model;
using RapidGable.Service.Faces;

namespace RapidGable.Service.Stores;

/// <summary>Answers that are fetched later, as long as the process runs.</summary>
internal sealed class PendingAnswersInMemory(TimeProvider time) : IPendingAnswerStore
{
    private readonly ConcurrentDictionary<string, Kept> _answers = new();

    private sealed record Kept(PendingAnswer Answer)
    {
        /// <summary>Ends the wait; set once the place is known.</summary>
        public ITimer? Timer { get; set; }
    }

    public int Count => _answers.Count;

    public int CountOf(string who) => _answers.Values.Count(p => p.Answer.Who == who);

    public void Add(string id, PendingAnswer answer)
    {
        var kept = _answers[id] = new Kept(answer);
        kept.Timer = time.CreateTimer(_ => Remove(id), null, TimeSpan.FromMinutes(Limits.MonitorMinutes), Timeout.InfiniteTimeSpan);
    }

    public PendingAnswer? Find(string id) => _answers.GetValueOrDefault(id)?.Answer;

    public void Remove(string id)
    {
        if (!_answers.TryRemove(id, out var kept))
            return;
        kept.Answer.Cancellation.Cancel();
        kept.Timer?.Dispose();
        // What it holds is in use until it has ended.
        _ = kept.Answer.Task.ContinueWith(_ => kept.Answer.Allowance.Dispose(), TaskScheduler.Default);
    }
}
