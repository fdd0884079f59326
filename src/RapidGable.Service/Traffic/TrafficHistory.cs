using System.Collections.Immutable;

namespace RapidGable.Service.Traffic;

/// <summary>What was answered in one minute.</summary>
/// <param name="Start">In UTC.</param>
/// <param name="Refused">Answers of 400 to 499.</param>
/// <param name="Failed">Answers of 500 and above.</param>
/// <param name="Milliseconds">All answers together.</param>
public readonly record struct TrafficMinute(DateTime Start, long Requests, long Refused, long Failed, double Milliseconds);

/// <summary>The answers about one set in the last hour.</summary>
/// <param name="Set">Empty = documents and the service itself.</param>
/// <param name="Slowest">In milliseconds.</param>
public sealed record SetTraffic(string Service, string Set, long Requests, double Milliseconds, double Slowest);

/// <summary>What one caller asked in the current minute or the one before it, whichever was more.</summary>
/// <param name="Who">A name, or the network of one who is not signed in.</param>
public sealed record CallerTraffic(string Who, long Requests, long Limited);

/// <summary>
/// Counts what was answered in the last hour, by minute, service, set and caller. It lives in memory, starts empty, and keeps as much for a
/// busy service as for an idle one.
/// </summary>
public sealed class TrafficHistory(TimeProvider time)
{
    /// <summary>Minutes that are kept.</summary>
    public const int Minutes = 60;

    /// <summary>Callers that are counted in a minute; those who come later are not.</summary>
    private const int MostCallers = 1_000;

    private readonly Lock _lock = new();
    private readonly Minute[] _minutes = new Minute[Minutes];

    /// <summary>Counts one answer.</summary>
    /// <param name="set">A set that exists, or empty.</param>
    public void Count(string service, string set, int status, TimeSpan took)
    {
        lock (_lock)
        {
            var sets = Current().Sets;
            if (!sets.TryGetValue((service, set), out var tally))
                sets[(service, set)] = tally = new Tally();
            tally.Requests++;
            tally.Refused += status is >= 400 and < 500 ? 1 : 0;
            tally.Failed += status >= 500 ? 1 : 0;
            tally.Milliseconds += took.TotalMilliseconds;
            tally.Slowest = Math.Max(tally.Slowest, took.TotalMilliseconds);
        }
    }

    /// <summary>Counts a request of a caller, also one that is not let in.</summary>
    public void CountCaller(string who, bool isLimited)
    {
        lock (_lock)
        {
            var callers = Current().Callers;
            if (!callers.TryGetValue(who, out var tally))
            {
                if (callers.Count >= MostCallers)
                    return;
                callers[who] = tally = new Tally();
            }
            tally.Requests++;
            tally.Refused += isLimited ? 1 : 0;
        }
    }

    /// <summary>The last hour of a service, the oldest minute first; minutes without requests are there, too.</summary>
    /// <param name="service">Null = of all.</param>
    public ImmutableArray<TrafficMinute> Of(string? service)
    {
        lock (_lock)
        {
            var now = MinuteOf(time.GetUtcNow());
            var result = ImmutableArray.CreateBuilder<TrafficMinute>(Minutes);
            for (var number = now - Minutes + 1; number <= now; number++)
            {
                var tallies = Kept(number)?.Sets.Where(s => service is null || s.Key.Service == service).Select(s => s.Value).ToList()
                    ?? [];
                result.Add(
                    new TrafficMinute(
                        DateTime.UnixEpoch.AddMinutes(number),
                        tallies.Sum(t => t.Requests),
                        tallies.Sum(t => t.Refused),
                        tallies.Sum(t => t.Failed),
                        tallies.Sum(t => t.Milliseconds)
                    )
                );
            }
            return result.MoveToImmutable();
        }
    }

    /// <summary>The sets that took most of the time in the last hour.</summary>
    public ImmutableArray<SetTraffic> Busiest(int most)
    {
        lock (_lock)
        {
            return
            [
                .. Recent()
                    .SelectMany(m => m.Sets)
                    .GroupBy(s => s.Key)
                    .Select(g => new SetTraffic(
                        g.Key.Service,
                        g.Key.Set,
                        g.Sum(s => s.Value.Requests),
                        g.Sum(s => s.Value.Milliseconds),
                        g.Max(s => s.Value.Slowest)
                    ))
                    .OrderByDescending(s => s.Milliseconds)
                    .Take(most),
            ];
        }
    }

    /// <summary>The callers who ask most, by the fuller of the last two minutes.</summary>
    public ImmutableArray<CallerTraffic> Callers(int most)
    {
        lock (_lock)
        {
            var now = MinuteOf(time.GetUtcNow());
            return
            [
                .. new[] { Kept(now), Kept(now - 1) }
                    .OfType<Minute>()
                    .SelectMany(m => m.Callers)
                    .GroupBy(c => c.Key)
                    .Select(g => new CallerTraffic(g.Key, g.Max(c => c.Value.Requests), g.Sum(c => c.Value.Refused)))
                    .OrderByDescending(c => c.Requests)
                    .ThenBy(c => c.Who, StringComparer.Ordinal)
                    .Take(most),
            ];
        }
    }

    private static long MinuteOf(DateTimeOffset moment) => moment.ToUnixTimeSeconds() / 60;

    private Minute Current()
    {
        var number = MinuteOf(time.GetUtcNow());
        return Kept(number) ?? (_minutes[number % Minutes] = new Minute(number));
    }

    private Minute? Kept(long number) => _minutes[number % Minutes] is { } minute && minute.Number == number ? minute : null;

    private IEnumerable<Minute> Recent()
    {
        var now = MinuteOf(time.GetUtcNow());
        return _minutes.Where(m => m is not null && m.Number > now - Minutes && m.Number <= now);
    }

    private sealed class Minute(long number)
    {
        public long Number => number;

        public Dictionary<(string Service, string Set), Tally> Sets { get; } = [];

        public Dictionary<string, Tally> Callers { get; } = [];
    }

    private sealed class Tally
    {
        public long Requests { get; set; }

        public long Refused { get; set; }

        public long Failed { get; set; }

        public double Milliseconds { get; set; }

        public double Slowest { get; set; }
    }
}
