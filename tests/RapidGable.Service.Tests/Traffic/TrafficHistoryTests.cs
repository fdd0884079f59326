using RapidGable.Service.Traffic;

namespace RapidGable.Service.Tests;

/// <summary>What was answered in the last hour, by a clock that the test moves.</summary>
public class TrafficHistoryTests
{
    private sealed class Clock : TimeProvider
    {
        public DateTimeOffset Now { get; set; } = new(2024, 5, 1, 12, 0, 30, TimeSpan.Zero);

        public override DateTimeOffset GetUtcNow() => Now;
    }

    private readonly Clock _clock = new();
    private readonly TrafficHistory _history;

    public TrafficHistoryTests() => _history = new TrafficHistory(_clock);

    private void Count(string service, string set, int status, int milliseconds = 10) =>
        _history.Count(service, set, status, TimeSpan.FromMilliseconds(milliseconds));

    [Fact]
    public void Answers_are_counted_by_minute_and_kind()
    {
        Count("a", "S", 200);
        Count("a", "S", 404);
        Count("b", "S", 200);
        _clock.Now += TimeSpan.FromMinutes(1);
        Count("a", "", 503, 40);
        var minutes = _history.Of("a");
        Assert.Equal(TrafficHistory.Minutes, minutes.Length);
        Assert.Equal((2, 1, 0, 20.0), (minutes[^2].Requests, minutes[^2].Refused, minutes[^2].Failed, minutes[^2].Milliseconds));
        Assert.Equal((1, 0, 1, 40.0), (minutes[^1].Requests, minutes[^1].Refused, minutes[^1].Failed, minutes[^1].Milliseconds));
        Assert.Equal(new DateTime(2024, 5, 1, 12, 1, 0), minutes[^1].Start);
        Assert.Equal(4, _history.Of(null).Sum(m => m.Requests));
    }

    [Theory]
    [InlineData(59, 1)]
    [InlineData(60, 0)]
    [InlineData(61, 0)]
    [InlineData(100_000, 0)]
    public void An_hour_is_kept(int minutes, int left)
    {
        Count("a", "S", 200);
        _clock.Now += TimeSpan.FromMinutes(minutes);
        Assert.Equal(left, _history.Of("a").Sum(m => m.Requests));
        Assert.Equal(left, _history.Busiest(10).Sum(s => s.Requests));
    }

    [Fact]
    public void Sets_that_take_most_of_the_time_come_first()
    {
        Count("a", "Small", 200, 5);
        Count("a", "Large", 200, 100);
        Count("a", "Large", 200, 300);
        Count("b", "Large", 200, 20);
        var busiest = _history.Busiest(2);
        Assert.Equal([("a", "Large"), ("b", "Large")], busiest.Select(s => (s.Service, s.Set)));
        Assert.Equal((2, 400.0, 300.0), (busiest[0].Requests, busiest[0].Milliseconds, busiest[0].Slowest));
    }

    [Fact]
    public void Callers_are_counted_by_the_fuller_of_two_minutes()
    {
        for (var i = 0; i < 3; i++)
            _history.CountCaller("name ada", isLimited: i == 2);
        _clock.Now += TimeSpan.FromMinutes(1);
        _history.CountCaller("name ada", isLimited: false);
        _history.CountCaller("name bob", isLimited: false);
        Assert.Equal([new CallerTraffic("name ada", 3, 1), new CallerTraffic("name bob", 1, 0)], _history.Callers(10).ToArray());
        _clock.Now += TimeSpan.FromMinutes(2);
        Assert.Empty(_history.Callers(10));
    }

    [Fact]
    public void Callers_without_number_take_no_memory_without_end()
    {
        for (var i = 0; i < 5_000; i++)
            _history.CountCaller($"address {i}", isLimited: false);
        Assert.Equal(1_000, _history.Callers(10_000).Length);
    }
}
