using RapidGable.Model;

namespace RapidGable.Service.Auditing;

/// <summary>
/// Counts refusals, so that who is refused again and again fills no log: the first one is noted, those like it within a minute are
/// counted, and after so many lines in a day only their number is. Nothing else that is noted is counted here.
/// </summary>
internal sealed class RefusalCounter
{
    private const int MostKinds = 5_000;
    private static readonly TimeSpan Window = TimeSpan.FromMinutes(1);

    private readonly Lock _lock = new();
    private readonly Dictionary<string, (AuditEvent First, int More)> _counted = [];
    private DateOnly _day;
    private int _lines;
    private int _beyond;

    /// <summary>What is to be noted of a refusal now; null = it is counted.</summary>
    /// <param name="kind">The same text for refusals that are alike.</param>
    public AuditEvent? Add(string kind, AuditEvent refusal)
    {
        lock (_lock)
        {
            if (_counted.TryGetValue(kind, out var known))
            {
                _counted[kind] = known with { More = known.More + 1 };
                return null;
            }
            if (!MayNote(refusal.Time))
                return null;
            if (_counted.Count < MostKinds)
                _counted[kind] = (refusal, 0);
            return refusal;
        }
    }

    /// <summary>What is to be noted of those that were counted and whose minute is over.</summary>
    /// <param name="isEnd">However long ago they were.</param>
    public List<AuditEvent> Collect(DateTime now, bool isEnd = false)
    {
        lock (_lock)
        {
            var told = new List<AuditEvent>();
            foreach (var (kind, (first, more)) in _counted.Where(c => isEnd || now - c.Value.First.Time >= Window).ToList())
            {
                _counted.Remove(kind);
                if (more > 0 && MayNote(now))
                    told.Add(first with { Time = now, Count = more });
                else
                    _beyond += more;
            }
            if (_beyond > 0 && (isEnd || DateOnly.FromDateTime(now) != _day))
            {
                told.Add(
                    new AuditEvent(now, AuditEvents.Lost)
                    {
                        Count = _beyond,
                        Detail = $"{_beyond} more refusals of {_day:yyyy-MM-dd}, beyond {Limits.RefusalsNoted} lines of them in a day",
                    }
                );
                _beyond = 0;
            }
            return told;
        }
    }

    /// <summary>Told once in a day: that no more refusals are noted. Null = they are, or it was told.</summary>
    public AuditEvent? TakeReached(DateTime now)
    {
        lock (_lock)
        {
            if (_lines != Limits.RefusalsNoted)
                return null;
            _lines++;
            return new AuditEvent(now, AuditEvents.Lost)
            {
                Detail = $"{Limits.RefusalsNoted} lines of refusals today: the others are counted only",
            };
        }
    }

    private bool MayNote(DateTime now)
    {
        var day = DateOnly.FromDateTime(now);
        if (day != _day)
            (_day, _lines) = (day, 0);
        if (_lines >= Limits.RefusalsNoted)
        {
            _beyond++;
            return false;
        }
        _lines++;
        return true;
    }
}
