using System.Collections.Immutable;
using Microsoft.Extensions.Logging;
using RapidGable.Queries;
using RapidGable.Sources;
using RapidGable.UseCases;

namespace RapidGable.Service.Faces;

/// <summary>A statement that took long. It holds no value of a request and none of a row.</summary>
/// <param name="Count">How often it was slow since the service started.</param>
/// <param name="Worst">Seconds in the database, at most.</param>
/// <param name="Last">When it was slow last, in UTC.</param>
/// <param name="Plan">How the engine means to run it; empty = it does not say.</param>
public sealed record SlowStatement(
    string Service,
    string Set,
    string Sql,
    int Count,
    double Worst,
    DateTime Last,
    ImmutableArray<string> Plan
);

/// <summary>Remembers the slowest statements of reads, each with the engine's plan. It lives in memory.</summary>
internal sealed class SlowRequests(TimeProvider time, ILogger<SlowRequests> log)
{
    private const int MostKept = 20;
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    private readonly Lock _lock = new();
    private readonly Dictionary<(string Service, string Sql), SlowStatement> _kept = [];
    private bool _isPlanning;

    /// <summary>The worst first.</summary>
    public ImmutableArray<SlowStatement> All
    {
        get
        {
            lock (_lock)
                return [.. _kept.Values.OrderByDescending(s => s.Worst)];
        }
    }

    /// <summary>Notes a slow read. A plan that is not known yet is asked for beside the request, one at a time.</summary>
    /// <param name="seconds">That it spent in the database.</param>
    /// <returns>When it is noted, with its plan.</returns>
    public Task NoteAsync(IFace face, Exchange exchange, double seconds)
    {
        // Read now: the exchange is over when the plan is there.
        var spelled = face.Spell(exchange.Service, exchange.Path, exchange.Query);
        var explain = new ExplainRequest(exchange.Service, spelled, exchange.Caller, time.GetUtcNow().UtcDateTime);
        if (!explain.Statements().Is(out var request, out _) || request.Statements.FirstOrDefault() is not { } statement)
            return Task.CompletedTask;
        var key = (exchange.Service.Model.Service, statement.Sql);
        lock (_lock)
        {
            Keep(key, face.SetOf(exchange), seconds);
            if (_isPlanning || _kept.GetValueOrDefault(key) is not { Plan.IsEmpty: true })
                return Task.CompletedTask;
            _isPlanning = true;
        }
        return PlanAsync(explain, key);
    }

    private void Keep((string Service, string Sql) key, string set, double seconds)
    {
        var former = _kept.GetValueOrDefault(key);
        _kept[key] = new SlowStatement(
            key.Service,
            set,
            key.Sql,
            (former?.Count ?? 0) + 1,
            Math.Max(former?.Worst ?? 0, Math.Round(seconds, 3)),
            time.GetUtcNow().UtcDateTime,
            former?.Plan ?? []
        );
        if (_kept.Count > MostKept)
            _kept.Remove(_kept.MinBy(s => s.Value.Worst).Key);
    }

    private async Task PlanAsync(ExplainRequest explain, (string Service, string Sql) key)
    {
        using var patience = new CancellationTokenSource(Patience);
        try
        {
            var plan = (await explain.PlansAsync(patience.Token)).Is(out var planned, out _) ? planned.FirstOrDefault()?.Plan ?? [] : [];
            lock (_lock)
            {
                if (_kept.TryGetValue(key, out var noted))
                    _kept[key] = noted with { Plan = [.. plan.Select(PlanText.WithoutValues)] };
            }
        }
        catch (Exception exception) when (exception is SourceException or OperationCanceledException or ObjectDisposedException)
        {
            log.LogDebug("No plan of a slow statement: {Message}", exception.Message);
        }
        finally
        {
            lock (_lock)
                _isPlanning = false;
        }
    }
}
