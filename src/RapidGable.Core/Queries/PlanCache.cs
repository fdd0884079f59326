using System.Collections.Concurrent;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>Plans by request shape; when it is full, or there is no memory for more, the oldest go.</summary>
/// <param name="memory">Null = as much as they need.</param>
public sealed class PlanCache<T>(int capacity, ByteBudget? memory = null)
    where T : class
{
    private readonly ConcurrentDictionary<string, (T Plan, long Bytes)> _plans = new(StringComparer.Ordinal);
    private readonly ConcurrentQueue<string> _age = new();
    private volatile bool _isClosed;

    public int Count => _plans.Count;

    /// <summary>What is kept for a shape of requests; null = nothing.</summary>
    public T? Find(string shape) => _plans.TryGetValue(shape, out var known) ? known.Plan : null;

    /// <param name="characters">Of its statements.</param>
    public void Add(string shape, T plan, long characters)
    {
        // About what the trees, the texts and the writers of a plan take.
        var bytes = 4_096 + (2 * shape.Length) + (6 * characters);
        while (memory?.TryTake(bytes) == false)
        {
            if (!ForgetOldest())
                return;
        }
        if (!_plans.TryAdd(shape, (plan, bytes)))
        {
            memory?.Give(bytes);
            return;
        }
        _age.Enqueue(shape);
        // A request that was under way when its view was dropped may still add to it.
        while ((_plans.Count > capacity || _isClosed) && ForgetOldest()) { }
    }

    private bool ForgetOldest()
    {
        if (!_age.TryDequeue(out var oldest))
            return false;
        if (_plans.TryRemove(oldest, out var gone))
            memory?.Give(gone.Bytes);
        return true;
    }

    /// <summary>Drops all plans, and keeps none that come later.</summary>
    public void Close()
    {
        _isClosed = true;
        while (ForgetOldest()) { }
    }
}
