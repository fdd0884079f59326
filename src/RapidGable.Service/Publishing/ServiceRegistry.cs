using System.Collections.Frozen;
using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Abstractions;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Service.State;
using RapidGable.Sources;

namespace RapidGable.Service.Publishing;

/// <summary>What a look at the files and catalogs gave.</summary>
/// <param name="Changed">Services whose published state is another now, with their revisions before and after; null = absent.</param>
/// <param name="Faults">Why the state of before is kept; empty = it is not.</param>
public sealed record RefreshOutcome(
    ImmutableArray<(string Service, string? Before, string? After)> Changed,
    ImmutableArray<Diagnostic> Faults
)
{
    /// <summary>What becomes visible or possible with it, service and sentence.</summary>
    public ImmutableArray<(string Service, string Text)> Opened { get; init; } = [];

    /// <summary>What differs in each changed service, in words.</summary>
    public ImmutableArray<(string Service, string Text)> Differences { get; init; } = [];

    /// <summary>What differs in the workspace and its sources, in words; empty = nothing.</summary>
    public ImmutableArray<string> Settings { get; init; } = [];

    public bool IsKept => !Faults.IsEmpty;
}

/// <summary>The services that are published now. A refresh swaps all of them at once, or leaves them as they are.</summary>
public sealed class ServiceRegistry : IAsyncDisposable
{
    private const long Mebibyte = 1024 * 1024;

    // Requests that run on a former state may still open sessions of its sources; they end long before this.
    private static readonly TimeSpan Retirement = TimeSpan.FromMinutes(10);

    private readonly Func<CancellationToken, Task<LoadedWorkspace>>? _reload;
    private readonly SemaphoreSlim _refreshing = new(1);
    private readonly SemaphoreSlim _woken = new(0);
    private readonly List<(LoadedWorkspace Workspace, DateTimeOffset Since)> _retired = [];
    private readonly ByteBudget _plans;
    private readonly Lock _switching = new();
    private volatile State _state;
    private ImmutableArray<SwitchedOff> _off = [];

    /// <param name="reload">Reads the workspace anew; null = it cannot be refreshed.</param>
    /// <param name="memory">What it shares with another one; null = nothing.</param>
    public ServiceRegistry(
        LoadedWorkspace workspace,
        Func<CancellationToken, Task<LoadedWorkspace>>? reload = null,
        ByteBudget? memory = null
    )
    {
        _reload = reload;
        Memory = memory
            ?? new ByteBudget(
                (
                    workspace.Declaration.Traffic.Memory
                    ?? Math.Clamp(GC.GetGCMemoryInfo().TotalAvailableMemoryBytes / 4 / Mebibyte, 128, 1024)
                ) * Mebibyte
            );
        _plans = new ByteBudget(Limits.PlanBytes, Memory);
        _state = State.Of(workspace, _plans, []);
    }

    /// <summary>What all requests, kept answers and plans hold together; set when the service starts.</summary>
    public ByteBudget Memory { get; }

    public LoadedWorkspace Workspace => _state.Workspace;

    /// <summary>Why the last refresh kept the former state; null = it did not.</summary>
    public string? Problem { get; private set; }

    /// <summary>What of the published state the databases do not have any more; null = nothing is known to be missing.</summary>
    public string? Missing { get; private set; }

    /// <summary>In what the databases have moved away from the published revision; empty = in nothing that is known.</summary>
    public ImmutableArray<DriftFinding> Drift { get; private set; } = [];

    /// <summary>Takes what does not fit any more; nothing = the databases are as they were.</summary>
    public void TakeDrift(ImmutableArray<DriftFinding> found)
    {
        Drift = found;
        if (found.IsEmpty)
            Missing = null;
    }

    /// <summary>Whether looking again may end a problem.</summary>
    public bool HasProblem => Problem is not null || Missing is not null;

    /// <summary>
    /// Takes that a database does not fit what is published, and wakes the refresher. A request that ran on a former state tells nothing
    /// new.
    /// </summary>
    public void ReportChange(PublishedService service, string missing)
    {
        lock (_switching)
        {
            if (Find(service.Model.Service)?.Revision != service.Revision)
                return;
            Missing = missing;
        }
        Wake();
    }

    private void Wake()
    {
        if (_woken.CurrentCount == 0)
            _woken.Release();
    }

    /// <summary>The version of the switches that were taken last.</summary>
    public string? SwitchVersion { get; private set; }

    /// <summary>All that is switched off.</summary>
    public ImmutableArray<SwitchedOff> Off => _off;

    /// <summary>Takes switches; requests that run end as they began.</summary>
    public void TakeSwitches(ImmutableArray<SwitchedOff> off, string? version)
    {
        lock (_switching)
        {
            var before = _state;
            (_off, SwitchVersion) = (off, version);
            _state = State.Of(before.Workspace, _plans, off);
            foreach (var former in before.Services.Values)
                former.Forget();
        }
    }

    /// <summary>Waits until a change is reported, or for a time.</summary>
    /// <param name="wait">Null = for as long as it takes.</param>
    /// <returns>Whether a change was reported.</returns>
    public async Task<bool> WaitForChangeAsync(TimeSpan? wait, TimeProvider time, CancellationToken cancellation)
    {
        using var either = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var woken = _woken.WaitAsync(either.Token);
        var first = await Task.WhenAny(woken, Task.Delay(wait ?? Timeout.InfiniteTimeSpan, time, either.Token));
        // The one that lost must not take a later report away.
        await either.CancelAsync();
        cancellation.ThrowIfCancellationRequested();
        return first == woken;
    }

    public IEnumerable<PublishedService> All => _state.Services.Values.OrderBy(s => s.Model.Service, StringComparer.Ordinal);

    /// <summary>Services that declare a path of their own on the plain REST face.</summary>
    public IReadOnlyList<PublishedService> WithBases => _state.WithBases;

    /// <summary>The version of a service that stands at a segment behind its name; null = there is none.</summary>
    public PublishedService? FindVersion(string service, string segment) =>
        _state.Versions.Count == 0 ? null : _state.Versions.GetValueOrDefault(new ServiceVersion(service, segment));

    public PublishedService? Find(string name) => _state.Services.GetValueOrDefault(name);

    /// <summary>The workspace as its files and catalogs are now, beside what is published; the caller disposes of it.</summary>
    public Task<LoadedWorkspace> ReadAsync(CancellationToken cancellation) =>
        _reload?.Invoke(cancellation)
        ?? throw new InvalidOperationException("This registry was made without a way to read its workspace again.");

    /// <summary>Reads files and catalogs anew. A fault in them keeps the last good state and is reported.</summary>
    public async Task<RefreshOutcome> RefreshAsync(TimeProvider time, ILogger? log, CancellationToken cancellation)
    {
        log ??= NullLogger.Instance;
        await _refreshing.WaitAsync(cancellation);
        try
        {
            LoadedWorkspace loaded;
            try
            {
                loaded = await ReadAsync(cancellation);
            }
            catch (StateException exception)
            {
                Problem = exception.Message;
                log.LogError("Refresh: the last good state is kept. {Problem}", Problem);
                var fault = new Diagnostic(Severity.Error, "state", exception.Message, SourceLocation.WholeFile("state"), null);
                return new RefreshOutcome([], [fault]);
            }
            var outcome = await TakeAsync(loaded, time);
            if (outcome.IsKept)
                log.LogWarning("Refresh: the last good state is kept. {Problem}", Problem);
            foreach (var (service, before, after) in outcome.Changed)
                log.LogInformation("Refresh: {Service} is now {After}, and was {Before}", service, after ?? "gone", before ?? "absent");
            foreach (var (service, text) in outcome.Differences)
                log.LogInformation("Refresh: in {Service} {Text}", service, text);
            foreach (var text in outcome.Settings)
                log.LogInformation("Refresh: {Text}", text);
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
            // The refresher may not be waiting for anything yet.
            if (Problem is null)
                Wake();
            Problem =
                $"{faults.Length} {(faults.Length == 1 ? "fault" : "faults")}: {string.Join("; ", faults.Take(3).Select(f => f.Message))}";
            return new RefreshOutcome([], faults);
        }
        var (before, off) = (_state, _off);
        var now = State.Of(loaded, _plans, off);
        if (before.Fingerprint == now.Fingerprint && before.Workspace.Revision == loaded.Revision)
        {
            (Problem, Missing) = (null, null);
            await loaded.DisposeAsync();
            return new RefreshOutcome([], []);
        }
        lock (_switching)
        {
            // A switch that was used in the meantime holds, too.
            if (_off != off)
                now = State.Of(loaded, _plans, _off);
            _state = now;
            (Problem, Missing) = (null, null);
        }
        foreach (var former in before.Services.Values)
            former.Forget();
        _retired.Add((before.Workspace, time.GetUtcNow()));
        foreach (var old in _retired.Where(r => time.GetUtcNow() - r.Since > Retirement).ToList())
        {
            _retired.Remove(old);
            await old.Workspace.DisposeAsync();
        }
        var names = before.Services.Keys.Union(now.Services.Keys).Order(StringComparer.Ordinal).ToList();
        return new RefreshOutcome(
            [
                .. names
                    .Select(n => (n, before.Services.GetValueOrDefault(n)?.Revision, now.Services.GetValueOrDefault(n)?.Revision))
                    .Where(c => c.Item2 != c.Item3),
            ],
            []
        )
        {
            Differences =
            [
                .. names
                    .Where(n => before.Texts.ContainsKey(n) && now.Texts.ContainsKey(n))
                    .SelectMany(n => PublishedText.Differences(before.Texts[n], now.Texts[n]).Select(t => (n, t))),
            ],
            Settings = [.. Changes(before, now)],
            Opened =
            [
                .. now
                    .Services.Where(s => s.Value.Revision != before.Services.GetValueOrDefault(s.Key)?.Revision)
                    .OrderBy(s => s.Key, StringComparer.Ordinal)
                    .SelectMany(s =>
                        AccessVisibility
                            .Of(s.Value)
                            .NewSince(
                                before.Services.GetValueOrDefault(s.Key) is { } former
                                    ? AccessVisibility.Of(former)
                                    : new AccessVisibility([])
                            )
                            .Select(t => (s.Key, t))
                    ),
            ],
        };
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var (old, _) in _retired)
            await old.DisposeAsync();
        await _state.Workspace.DisposeAsync();
    }

    /// <summary>What a change of the workspace and its sources does, in words.</summary>
    private static IEnumerable<string> Changes(State before, State now)
    {
        foreach (
            var section in now
                .Sections.Keys.Union(before.Sections.Keys)
                .Order(StringComparer.Ordinal)
                .Where(s => before.Sections.GetValueOrDefault(s) != now.Sections.GetValueOrDefault(s))
        )
        {
            yield return (before.Sections.ContainsKey(section), now.Sections.ContainsKey(section)) switch
            {
                (false, _) => $"{section} is new",
                (_, false) => $"{section} is gone",
                _ when section == "transport" => "transport has changed: it is taken when the service starts again",
                _ when section == "limits" =>
                    "limits have changed: they hold from the next request on, 'memory' when the service starts again",
                _ when section.StartsWith("source ", StringComparison.Ordinal) =>
                    $"the settings of {section} have changed: its sessions are opened anew",
                _ => $"{section} has changed",
            };
        }
        if (
            before.TextIdentity != now.TextIdentity
            && before.Sections.SequenceEqual(now.Sections)
            && before.Texts.All(s => now.Texts.GetValueOrDefault(s.Key) is { } text && text.SequenceEqual(s.Value))
        )
            yield return "the texts have changed, and nothing that they say";
    }

    /// <param name="Texts">What each service says, see <see cref="PublishedText"/>.</param>
    /// <param name="Sections">The parts of the workspace, and its sources, each as text.</param>
    /// <param name="TextIdentity">Changes with every change of the texts.</param>
    private sealed record State(
        LoadedWorkspace Workspace,
        FrozenDictionary<string, PublishedService> Services,
        ImmutableDictionary<string, ImmutableSortedDictionary<string, string>> Texts,
        ImmutableSortedDictionary<string, string> Sections,
        string TextIdentity
    )
    {
        /// <summary>Services with a path of their own on the plain REST face, the longest paths first.</summary>
        public IReadOnlyList<PublishedService> WithBases { get; } =
        [
            .. Services
                .Values.Where(s => s.Model.Faces.Rest is { IsOffered: true, Base: not null })
                .OrderByDescending(s => s.Model.Faces.Rest.Base!.Length),
        ];

        /// <summary>Services that are versions of others.</summary>
        public FrozenDictionary<ServiceVersion, PublishedService> Versions { get; } =
            Services.Values.Where(s => s.Model.VersionOf is not null).ToFrozenDictionary(s => s.Model.VersionOf!);

        /// <summary>The same for two states that answer every request alike.</summary>
        public string Fingerprint { get; } =
            Hash(
                string.Join(
                    '\n',
                    Services
                        .Values.OrderBy(s => s.Model.Service, StringComparer.Ordinal)
                        .Select(s => $"{s.Model.Service} {s.Revision}")
                        .Concat(Sections.Select(s => $"{s.Key} {s.Value}"))
                        .Append(TextIdentity)
                )
            );

        public static State Of(LoadedWorkspace workspace, ByteBudget plans, ImmutableArray<SwitchedOff> switches)
        {
            var texts = workspace.Services.ToImmutableDictionary(s => s.Model.Service, s => PublishedText.Of(s.Model));
            var services = workspace
                .Services.Select(s => Published(s, workspace, plans, [.. switches.Where(o => o.Service == s.Model.Service)]))
                .OfType<PublishedService>()
                .ToFrozenDictionary(s => s.Model.Service, StringComparer.Ordinal);
            return new State(
                workspace,
                services,
                texts,
                PublishedText.SectionsOf(workspace.Declaration),
                workspace.Declaration.Texts.Identity()
            );
        }
    }

    /// <summary>A service without what is switched off; null = all of it is, as if it were not there.</summary>
    private static PublishedService? Published(
        BuiltService built,
        LoadedWorkspace workspace,
        ByteBudget plans,
        ImmutableArray<SwitchedOff> off
    ) =>
        off.Any(o => o is { IsAbsent: true, Face: null, Group: null, Set: null })
            ? null
            : new PublishedService(
                SwitchedOff.Without(built.Model, off),
                workspace.Sources,
                Revision.Of(built, workspace.Declaration),
                plans
            )
            {
                Off = [.. off.Where(o => !o.IsAbsent)],
                Paused = SwitchedOff.Paused(built.Model, off),
            };

    private static string Hash(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)));
}
