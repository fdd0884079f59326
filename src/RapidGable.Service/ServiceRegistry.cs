using System.Collections.Frozen;
using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Abstractions;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Metadata;
using RapidGable.Payloads;
using RapidGable.Queries;

namespace RapidGable.Service;

/// <summary>What a look at the files and catalogs gave.</summary>
/// <param name="Changed">Services whose published state is another now, with their revisions before and after; null = absent.</param>
/// <param name="Faults">Why the state of before is kept; empty = it is not.</param>
public sealed record RefreshOutcome(ImmutableArray<(string Service, string? Before, string? After)> Changed, ImmutableArray<Diagnostic> Faults)
{
    /// <summary>What becomes visible or possible with it, service and sentence.</summary>
    public ImmutableArray<(string Service, string Text)> Opened { get; init; } = [];

    public bool IsKept => !Faults.IsEmpty;
}

/// <summary>The services that are published now. A refresh swaps all of them at once, or leaves them as they are.</summary>
/// <param name="reload">Reads the workspace anew; null = it cannot be refreshed.</param>
public sealed class ServiceRegistry(LoadedWorkspace workspace, Func<CancellationToken, Task<LoadedWorkspace>>? reload = null) : IAsyncDisposable
{
    // Requests that run on a former state may still open sessions of its sources; they end long before this.
    private static readonly TimeSpan Retirement = TimeSpan.FromMinutes(10);

    private readonly SemaphoreSlim _refreshing = new(1);
    private readonly List<(LoadedWorkspace Workspace, DateTimeOffset Since)> _retired = [];
    private volatile State _state = State.Of(workspace);

    public LoadedWorkspace Workspace => _state.Workspace;

    /// <summary>Why the last refresh kept the former state; null = it did not.</summary>
    public string? Problem { get; private set; }

    public IEnumerable<PublishedService> All => _state.Services.Values.OrderBy(s => s.Model.Service, StringComparer.Ordinal);

    public PublishedService? Find(string name) => _state.Services.GetValueOrDefault(name);

    /// <summary>Reads files and catalogs anew. A fault in them keeps the last good state and is reported.</summary>
    public async Task<RefreshOutcome> RefreshAsync(TimeProvider time, ILogger? log, CancellationToken cancellation)
    {
        if (reload is null)
            throw new InvalidOperationException("This registry was made without a way to read its workspace again.");
        log ??= NullLogger.Instance;
        await _refreshing.WaitAsync(cancellation);
        try
        {
            var loaded = await reload(cancellation);
            var outcome = await TakeAsync(loaded, time);
            if (outcome.IsKept)
                log.LogWarning("Refresh: the last good state is kept. {Problem}", Problem);
            foreach (var (service, before, after) in outcome.Changed)
                log.LogInformation("Refresh: {Service} is now {After}, and was {Before}", service, after ?? "gone", before ?? "absent");
            foreach (var (service, text) in outcome.Opened)
                log.LogWarning("Refresh: in {Service} {Text}", service, text);
            return outcome;
        }
        finally
        {
            _refreshing.Release();
        }
    }

    private async Task<RefreshOutcome> TakeAsync(LoadedWorkspace loaded, TimeProvider time)
    {
        var faults = loaded.Diagnostics.Items.Where(d => d.Severity == Severity.Error).ToImmutableArray();
        if (!faults.IsEmpty)
        {
            await loaded.DisposeAsync();
            Problem = $"{faults.Length} {(faults.Length == 1 ? "fault" : "faults")}: {string.Join("; ", faults.Take(3).Select(f => f.Message))}";
            return new RefreshOutcome([], faults);
        }
        Problem = null;
        var (before, now) = (_state, State.Of(loaded));
        if (before.Fingerprint == now.Fingerprint)
        {
            await loaded.DisposeAsync();
            return new RefreshOutcome([], []);
        }
        _state = now;
        _retired.Add((before.Workspace, time.GetUtcNow()));
        foreach (var old in _retired.Where(r => time.GetUtcNow() - r.Since > Retirement).ToList())
        {
            _retired.Remove(old);
            await old.Workspace.DisposeAsync();
        }
        var names = before.Services.Keys.Union(now.Services.Keys).Order(StringComparer.Ordinal);
        return new RefreshOutcome([.. names.Select(n => (n, before.Services.GetValueOrDefault(n)?.Revision, now.Services.GetValueOrDefault(n)?.Revision)).Where(c => c.Item2 != c.Item3)], [])
        {
            Opened = [.. now.Services.Where(s => s.Value.Revision != before.Services.GetValueOrDefault(s.Key)?.Revision).OrderBy(s => s.Key, StringComparer.Ordinal)
                .SelectMany(s => AccessVisibility.Of(s.Value).NewSince(before.Services.GetValueOrDefault(s.Key) is { } former ? AccessVisibility.Of(former) : new AccessVisibility([])).Select(t => (s.Key, t)))],
        };
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var (old, _) in _retired)
            await old.DisposeAsync();
        await _state.Workspace.DisposeAsync();
    }

    /// <param name="Fingerprint">The same for two states that answer every request alike.</param>
    private sealed record State(LoadedWorkspace Workspace, FrozenDictionary<string, PublishedService> Services, string Fingerprint)
    {
        public static State Of(LoadedWorkspace workspace)
        {
            var services = workspace.Services.ToFrozenDictionary(s => s.Model.Service, s => new PublishedService(s.Model, workspace.Sources, RevisionOf(s)), StringComparer.Ordinal);
            var sources = workspace.Declaration.Sources.Select(s => $"{s.Name} {s.Engine.Value} {string.Join(' ', s.Settings.OrderBy(e => e.Key).Select(e => $"{e.Key}={e.Value.Value}"))}");
            return new State(workspace, services, Hash([], string.Join('\n', services.Values.OrderBy(s => s.Model.Service, StringComparer.Ordinal).Select(s => $"{s.Model.Service} {s.Model.Title} {s.Revision}").Concat(sources))));
        }
    }

    /// <summary>A short text made from all that is published: the metadata, where everything comes from, and the rules of each set.</summary>
    private static string RevisionOf(BuiltService service)
    {
        var sets = service.Model.Sets.Select(s => $"{s.Name} {s.Source} {s.Source.Query} {s.PageSize} {s.LargestPage} {s.Operations} {string.Join(';', s.Rules)} {string.Join(',', s.DefaultOrder)} "
            + string.Join('|', s.Type.Properties.SelectMany(p => p.Leaves).Concat(s.Type.Hidden).Select(p => $"{p.Name} {p.Column} {p.StorageForm} {p.StoredType} {p.Conversion?.Description} {p.MediaTypeColumn}"))
            + string.Join('|', s.Type.Navigations.Select(n => $"{n.Name} {string.Join(',', n.Joins.Select(j => j.Own.Column + "=" + j.Target.Column))} {n.Link?.Source}")));
        return Hash(CsdlXmlWriter.Write(service.Model, ODataVersion.V401), string.Join('\n', sets))[..8];
    }

    private static string Hash(byte[] first, string rest) => Convert.ToHexStringLower(SHA256.HashData([.. first, .. Encoding.UTF8.GetBytes(rest)]));
}
