using System.Collections.Concurrent;
using System.Security.Cryptography;
using Microsoft.AspNetCore.Builder;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Service.Identity;
using RapidGable.Service.Publishing;
using RapidGable.Service.Trials;

namespace RapidGable.Service.Management;

/// <summary>
/// The draft as a service of its own on a free port of loopback, beside what is served. It is started when somebody asks for it, and anew
/// when the files or the switches have changed.
/// </summary>
public sealed class DraftPreview(ServiceRegistry registry, Draft draft, TrialHost host) : IAsyncDisposable
{
    /// <summary>Where its addresses start, for those who may reach it.</summary>
    public const string Prefix = "/manage/preview";

    private readonly ConcurrentDictionary<string, Caller> _lent = new();
    private readonly ConcurrentDictionary<string, string> _keys = new();
    private readonly SemaphoreSlim _starting = new(1);
    private Running? _running;

    /// <summary>Opens the draft's own port, so that nobody but this process gets in by it.</summary>
    public string Secret { get; } = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));

    private sealed record Running(WebApplication App, LoadedWorkspace Workspace, string Identity, string Address);

    /// <summary>The address of the draft, and what is wrong with it when it cannot be served.</summary>
    public async Task<(string? Address, IReadOnlyList<Diagnostic> Faults)> StartAsync(CancellationToken cancellation)
    {
        await _starting.WaitAsync(cancellation);
        try
        {
            var identity = $"{new WorkspaceFolder(registry.Workspace.Declaration.Folder).Read().Identity()} {registry.SwitchVersion}";
            if (_running?.Identity == identity)
                return (_running.Address, []);
            var loaded = await draft.LoadAsync(cancellation);
            var faults = loaded.Diagnostics.Items.Where(d => d.Severity == Severity.Error).ToList();
            if (faults.Count > 0)
            {
                await loaded.DisposeAsync();
                return (null, faults);
            }
            await StopAsync();
            var app = host(loaded, _lent, Secret, Prefix);
            await app.StartAsync(cancellation);
            _running = new Running(app, loaded, identity, app.Urls.First());
            return (_running.Address, []);
        }
        finally
        {
            _starting.Release();
        }
    }

    /// <summary>A key by which the draft takes a caller; null = the caller is anonymous.</summary>
    /// <exception cref="InvalidDataException">When the text names nobody.</exception>
    public string? KeyOf(AccountDirectory? accounts, string? name)
    {
        var caller = NamedCaller.Of(accounts, name) ?? throw new InvalidDataException($"'{name}' is no user, and no list of roles.");
        if (!caller.IsSignedIn)
            return null;
        // What a user is may have changed since the last time.
        var key = _keys.GetOrAdd(name!, _ => Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32)));
        _lent[key] = caller;
        return key;
    }

    private async Task StopAsync()
    {
        if (_running is not { } running)
            return;
        _running = null;
        await running.App.StopAsync();
        await running.App.DisposeAsync();
        await running.Workspace.DisposeAsync();
    }

    public async ValueTask DisposeAsync() => await StopAsync();
}
