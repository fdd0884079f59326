using System.Collections.Immutable;
using Microsoft.Extensions.Logging;
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

    /// <summary>Notes a slow read. Its plan is asked for beside the request, and for one request at a time.</summary>
    /// <param name="seconds">That it spent in the database.</param>
    /// <returns>When it is noted.</returns>
    public Task NoteAsync(IFace face, Exchange exchange, double seconds)
    {
        lock (_lock)
        {
            if (_isPlanning)
                return Task.CompletedTask;
            _isPlanning = true;
        }
        // Read now: the exchange is over when the plan is there.
        var spelled = face.Spell(exchange.Service, exchange.Path, exchange.Query);
        var explain = new ExplainRequest(exchange.Service, spelled, exchange.Caller, time.GetUtcNow().UtcDateTime);
        return NoteAsync(explain, exchange.Service.Model.Service, face.SetOf(exchange), seconds);
    }

    private async Task NoteAsync(ExplainRequest explain, string service, string set, double seconds)
    {
        try
        {
            if (!explain.Statements().Is(out var request, out _) || request.Statements.FirstOrDefault() is not { } statement)
                return;
            var plan = Known(service, statement.Sql)?.Plan ?? await PlanAsync(explain);
            lock (_lock)
            {
                var former = _kept.GetValueOrDefault((service, statement.Sql));
                _kept[(service, statement.Sql)] = new SlowStatement(
                    service,
                    set,
                    statement.Sql,
                    (former?.Count ?? 0) + 1,
                    Math.Max(former?.Worst ?? 0, Math.Round(seconds, 3)),
                    time.GetUtcNow().UtcDateTime,
                    plan
                );
                if (_kept.Count > MostKept)
                    _kept.Remove(_kept.MinBy(s => s.Value.Worst).Key);
            }
        }
        catch (SourceException exception)
        {
            log.LogDebug("No plan of a slow statement: {Message}", exception.Message);
        }
        finally
        {
            lock (_lock)
                _isPlanning = false;
        }
    }

    private SlowStatement? Known(string service, string sql)
    {
        lock (_lock)
            return _kept.GetValueOrDefault((service, sql));
    }

    private static async Task<ImmutableArray<string>> PlanAsync(ExplainRequest explain)
    {
        using var patience = new CancellationTokenSource(TimeSpan.FromSeconds(10));
        try
        {
            return (await explain.PlansAsync(patience.Token)).Is(out var planned, out _) ? planned.FirstOrDefault()?.Plan ?? [] : [];
        }
        catch (OperationCanceledException)
        {
            return [];
        }
    }
}
