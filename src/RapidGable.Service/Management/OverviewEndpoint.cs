using System.Diagnostics;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Building;
using RapidGable.Inspection;
using RapidGable.Service.Auditing;
using RapidGable.Service.Faces;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Service.Traffic;
using RapidGable.Sources;

namespace RapidGable.Service.Management;

/// <summary>What an operator wants to know at a glance.</summary>
internal static class OverviewEndpoint
{
    private const int ShownSets = 8;
    private const int ShownEvents = 8;
    private const int ShownCallers = 8;

    /// <summary>Entries of the log that are looked through for the newest refusals.</summary>
    private const int ReadEvents = 2_000;

    /// <summary>The share of a limit from which on a caller is near it.</summary>
    private const double NearLimit = 0.8;

    /// <summary>How long a database may take to say that it is there.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry, TimeProvider time)
    {
        var started = time.GetUtcNow().UtcDateTime;
        manage
            .Needing(ManagementRights.Look)
            .MapGet(
                "/overview",
                (
                    HttpContext context,
                    TrafficHistory history,
                    SlowRequests slow,
                    Allowances allowances,
                    AuditLog audit,
                    RevisionArchive archive
                ) =>
                    StateGuard.GuardAsync(async () =>
                    {
                        var workspace = registry.Workspace;
                        var traffic = workspace.Declaration.Traffic;
                        var memory = allowances.Process;
                        return ManagementInterface.Json(
                            new Overview(
                                time.GetUtcNow().UtcDateTime,
                                started,
                                registry.Problem ?? registry.Missing,
                                registry.All.Select(s => Traffic(s.Model.Service, s.Model.Title, registry, history)),
                                history
                                    .Busiest(ShownSets)
                                    .Select(s => new BusySet(s.Service, s.Set, s.Requests, Rounded(s.Milliseconds), Rounded(s.Slowest))),
                                slow.All.Select(s => new SlowStatementInfo(s.Service, s.Set, s.Sql, s.Count, s.Worst, s.Last, s.Plan)),
                                traffic.SlowSeconds,
                                new CallerLimits(
                                    traffic.RequestsPerMinute,
                                    traffic.RequestsAtOnce,
                                    history
                                        .Callers(ShownCallers)
                                        .Select(c => new CallerUse(
                                            c.Who,
                                            c.Requests,
                                            c.Limited,
                                            c.Limited > 0 || c.Requests >= traffic.RequestsPerMinute * NearLimit
                                        ))
                                ),
                                await Task.WhenAll(
                                    workspace
                                        .Sources.OrderBy(s => s.Key, StringComparer.Ordinal)
                                        .Select(s => HealthAsync(s.Value, workspace, context.RequestAborted))
                                ),
                                registry.Drift.Select(d => new DriftInfo(d.Service, d.Text, d.Breaks, d.Affected)),
                                new MemoryUse(memory.Used, memory.Peak, memory.Most),
                                audit.Store is not null,
                                Refusals(audit),
                                archive
                                    .List(_ => { })
                                    .Take(ShownEvents)
                                    .Select(r => new PublicationNote(r.Number, r.At, r.By, r.Message, r.Breaking.Length))
                            )
                        );
                    })
            );
    }

    private static double Rounded(double milliseconds) => Math.Round(milliseconds, 1);

    private static ServiceTraffic Traffic(string service, string title, ServiceRegistry registry, TrafficHistory history) =>
        new(
            service,
            title,
            registry.Off.Any(o => o.Service == service && o is { Face: null, Group: null, Set: null }),
            history.Of(service).Select(m => new MinuteTraffic(m.Start, m.Requests, m.Refused, m.Failed, Rounded(m.Milliseconds)))
        );

    private static List<AuditEvent> Refusals(AuditLog audit) =>
        [
            .. (audit.Store?.Read() ?? [])
                .Take(ReadEvents)
                .Where(e => e.Event is AuditEvents.Refused or AuditEvents.Limited or AuditEvents.SignInRefused)
                .Take(ShownEvents),
        ];

    private static async Task<SourceHealth> HealthAsync(ISource source, LoadedWorkspace workspace, CancellationToken cancellation)
    {
        var title = workspace.Declaration.Sources.FirstOrDefault(s => s.Name == source.Name)?.Title ?? source.Name;
        var clock = Stopwatch.StartNew();
        string? fault = null;
        using var patience = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        patience.CancelAfter(Patience);
        try
        {
            fault = await SourceProbe.PingAsync(source, patience.Token);
        }
        catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
        {
            fault = $"It has not answered within {Patience.TotalSeconds:0} seconds.";
        }
        return new SourceHealth(source.Name, title, source.Address, fault, Rounded(clock.Elapsed.TotalMilliseconds));
    }
}
