using System.Collections.Frozen;
using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Abstractions;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Metadata;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Publishing;
using RapidGable.Sources;
using RapidGable.Verification;

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
    private volatile State _state;

    /// <param name="reload">Reads the workspace anew; null = it cannot be refreshed.</param>
    public ServiceRegistry(LoadedWorkspace workspace, Func<CancellationToken, Task<LoadedWorkspace>>? reload = null)
    {
        _reload = reload;
        Memory = new ByteBudget(
            (workspace.Declaration.Traffic.Memory ?? Math.Clamp(GC.GetGCMemoryInfo().TotalAvailableMemoryBytes / 4 / Mebibyte, 128, 1024))
                * Mebibyte
        );
        _plans = new ByteBudget(Limits.PlanBytes, Memory);
        _state = State.Of(workspace, _plans);
    }

    /// <summary>What all requests, kept answers and plans hold together; set when the service starts.</summary>
    public ByteBudget Memory { get; }

    public LoadedWorkspace Workspace => _state.Workspace;

    /// <summary>Why the last refresh kept the former state; null = it did not.</summary>
    public string? Problem { get; private set; }

    /// <summary>What of the published state the databases do not have any more; null = nothing is known to be missing.</summary>
    public string? Missing { get; private set; }

    /// <summary>Whether looking again may end a problem.</summary>
    public bool HasProblem => Problem is not null || Missing is not null;

    /// <summary>Takes that a database does not fit what is published, and wakes the refresher.</summary>
    public void ReportChange(string missing)
    {
        Missing = missing;
        Wake();
    }

    private void Wake()
    {
        if (_woken.CurrentCount == 0)
            _woken.Release();
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
            var loaded = await ReadAsync(cancellation);
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
        if (faults.IsEmpty)
            faults = BreaksOfAccepted(loaded);
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
        (Problem, Missing) = (null, null);
        var (before, now) = (_state, State.Of(loaded, _plans));
        if (before.Fingerprint == now.Fingerprint)
        {
            await loaded.DisposeAsync();
            return new RefreshOutcome([], []);
        }
        _state = now;
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

    /// <summary>What would break consumers of metadata that was accepted; it goes live only when it is accepted, too.</summary>
    private static ImmutableArray<Diagnostic> BreaksOfAccepted(LoadedWorkspace loaded)
    {
        var diagnostics = new Diagnostics();
        foreach (var service in loaded.Services)
        {
            var name = service.Model.Service;
            var place = SourceLocation.WholeFile($"accepted/{name}.xml");
            var advice =
                $"If this is meant, accept it with 'gable check {Path.GetFileName(loaded.Declaration.Folder)} --accept', and "
                + $"refresh again.";
            try
            {
                var changes = AcceptedMetadata.Compare(
                    loaded.Declaration.Folder,
                    name,
                    CsdlXmlWriter.Write(service.Model, ODataVersion.V401)
                ) ?? [];
                foreach (var change in changes.Where(d => d.IsBreaking))
                    diagnostics.Error("accepted-breaks", $"{change.Subject}: {change.What}", place, advice);
            }
            catch (InvalidDataException exception)
            {
                diagnostics.Error("accepted", exception.Message, place);
            }
        }
        return [.. diagnostics.Items];
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

        public static State Of(LoadedWorkspace workspace, ByteBudget plans)
        {
            var texts = workspace.Services.ToImmutableDictionary(s => s.Model.Service, s => PublishedText.Of(s.Model));
            var services = workspace.Services.ToFrozenDictionary(
                s => s.Model.Service,
                s => new PublishedService(s.Model, workspace.Sources, Revision.Of(s, workspace.Declaration), plans),
                StringComparer.Ordinal
            );
            var declared = workspace.Declaration;
            var sections = new Dictionary<string, string>
            {
                ["title"] = declared.Title,
                ["refresh-seconds"] = PublishedText.Of(declared.RefreshSeconds),
                ["sign-in"] = PublishedText.Of(declared.SignIn),
                ["transport"] = PublishedText.Of(declared.Transport),
                ["limits"] = PublishedText.Of(declared.Traffic),
                ["audit"] = PublishedText.Of(declared.Audit),
                ["checks"] = PublishedText.Of(declared.Checks),
            };
            foreach (var source in declared.Sources)
                sections["source " + source.Name] = PublishedText.Of(source);
            return new State(
                workspace,
                services,
                texts,
                sections.ToImmutableSortedDictionary(StringComparer.Ordinal),
                declared.Texts.Identity()
            );
        }
    }

    private static string Hash(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)));
}
