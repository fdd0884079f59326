using System.Collections.Concurrent;
using System.Collections.Immutable;
using System.Net;
using System.Net.Sockets;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Sources.Sqlite;

namespace RapidGable.Service.Publishing;

/// <summary>
/// What whoever started the service lets its sources do, since the files of a workspace may be edited through the console: what the files
/// named at the start, and what variables of the service's own add. A variable or kept secret goes to the place alone that it was declared
/// for.
/// </summary>
internal sealed class SourcePolicy : ISourcePolicy
{
    /// <summary>Names of variables that files may refer to, joined by commas; <c>*</c> at the end of one stands for anything.</summary>
    public const string VariablesVariable = "GABLE_VARIABLES";

    /// <summary>Folders in which SQLite files may be, besides the workspace's, joined by colons.</summary>
    public const string FoldersVariable = "GABLE_SQLITE_FOLDERS";

    /// <summary>Hosts that are otherwise refused, joined by commas: paths of sockets, link-local addresses.</summary>
    public const string HostsVariable = "GABLE_HOSTS";

    /// <summary>What the service itself is told by variables; no file ever refers to it.</summary>
    private const string OwnPrefix = "GABLE_";

    private static readonly TimeSpan LongestLookup = TimeSpan.FromSeconds(2);

    private static readonly ImmutableArray<string> MetadataHosts = ["metadata", "metadata.google.internal", "instance-data"];

    private readonly Func<string, string?> _outer;
    private readonly Func<string, string?> _kept;
    private readonly ImmutableArray<string> _allowed;
    private readonly ImmutableHashSet<string> _named;
    private readonly ImmutableHashSet<string> _hosts;
    private readonly ImmutableArray<string> _folders;
    private readonly ConcurrentDictionary<string, ImmutableHashSet<string>> _places = new(StringComparer.Ordinal);

    /// <param name="outer">The environment of the process.</param>
    /// <param name="kept">Secrets that are kept.</param>
    public SourcePolicy(string folder, Func<string, string?> outer, Func<string, string?> kept)
    {
        (_outer, _kept) = (outer, kept);
        _allowed = Words(outer(VariablesVariable), ',');
        var named = ImmutableHashSet.CreateBuilder<string>(StringComparer.Ordinal);
        var hosts = ImmutableHashSet.CreateBuilder<string>(StringComparer.OrdinalIgnoreCase);
        var folders = ImmutableArray.CreateBuilder<string>();
        folders.Add(Real(folder));
        folders.AddRange(Words(outer(FoldersVariable), ':').Select(Real));
        hosts.UnionWith(Words(outer(HostsVariable), ','));
        // What stands in the files when the service starts was written by whoever may start it.
        var (declaration, diagnostics) = WorkspaceReader.Read(new WorkspaceFolder(folder), name =>
        {
            named.Add(name);
            return IsOwn(name) ? null : outer(name) ?? Kept(name) ?? "";
        });
        foreach (var source in declaration.Sources)
        {
            foreach (var name in VariablesOf(source))
                Pin(name, PlaceOf(source));
            if (source.Settings.TryGetValue("file", out var file))
                folders.Add(Real(SqliteEngine.PathOf(folder, file.Value.Reveal())));
            using var opened = new Opened(WorkspaceLoader.Open(source, folder, diagnostics));
            hosts.UnionWith(HostsOf(opened.Source?.Host));
        }
        (_named, _hosts, _folders) = (named.ToImmutable(), hosts.ToImmutable(), folders.ToImmutable());
    }

    /// <summary>A secret that cannot be read keeps nothing from starting.</summary>
    private string? Kept(string name)
    {
        try
        {
            return _kept(name);
        }
        catch (State.StateException)
        {
            return null;
        }
    }

    private sealed class Opened(Sources.ISource? source) : IDisposable
    {
        public Sources.ISource? Source => source;

        public void Dispose() => source?.DisposeAsync().AsTask().GetAwaiter().GetResult();
    }

    /// <summary>The value of a variable for files of the workspace; null = there is none, or they may not refer to it.</summary>
    public string? Find(string name) => IsOwn(name) ? null : (MayRead(name) ? _outer(name) : null) ?? _kept(name);

    /// <summary>A secret was kept anew, for whatever place names it first.</summary>
    public void Forget(string name) => _places.TryRemove(name, out _);

    private static bool IsOwn(string name) => name.StartsWith(OwnPrefix, StringComparison.OrdinalIgnoreCase);

    private bool MayRead(string name) =>
        _allowed.IsEmpty
            ? _named.Contains(name)
            : _allowed.Any(a => a.EndsWith('*') ? name.StartsWith(a[..^1], StringComparison.Ordinal) : name == a);

    public string? Refusal(SourceDeclaration source, string folder, string? host) => Refusal(source, folder, host, isSent: true, []);

    public ISourcePolicy Reading => new View(this, IsSent: false, []);

    public ISourcePolicy Except(IEnumerable<string> variables) => new View(this, IsSent: true, [.. variables]);

    private sealed record View(SourcePolicy Whole, bool IsSent, ImmutableHashSet<string> Brought) : ISourcePolicy
    {
        public string? Refusal(SourceDeclaration source, string folder, string? host) =>
            Whole.Refusal(source, folder, host, IsSent, Brought);

        public ISourcePolicy Reading => this with { IsSent = false };

        public ISourcePolicy Except(IEnumerable<string> variables) => this with { Brought = Brought.Union(variables) };
    }

    /// <param name="isSent">The source will be connected.</param>
    /// <param name="brought">Variables whose values are no secrets of the service.</param>
    private string? Refusal(SourceDeclaration source, string folder, string? host, bool isSent, ImmutableHashSet<string> brought)
    {
        foreach (var one in HostsOf(host))
        {
            if (!_hosts.Contains(one) && HostFault(one) is { } fault)
                return $"The host of '{source.Name}' {fault}. Whoever starts the service may allow it by {HostsVariable}.";
        }
        if (
            source.Settings.TryGetValue("file", out var file)
            && host is null
            && !IsInside(Real(SqliteEngine.PathOf(folder, file.Value.Reveal())))
        )
            return $"The file of '{source.Name}' is outside of the workspace's folder. Whoever starts the service may allow its folder by "
                + $"{FoldersVariable}.";
        var place = PlaceOf(source);
        var variables = VariablesOf(source).Except(brought).ToList();
        foreach (var name in variables)
        {
            if (_places.TryGetValue(name, out var places) && !places.Contains(place))
                return $"The variable {name} is for another place than the one that '{source.Name}' leads to. Keep the secret anew, or "
                    + "start the service again with the file as it is to be.";
        }
        if (isSent)
            variables.ForEach(name => Pin(name, place));
        return null;
    }

    private void Pin(string name, string place) => _places.AddOrUpdate(name, _ => [place], (_, known) => known.Add(place));

    private static IEnumerable<string> VariablesOf(SourceDeclaration source) =>
        source.Settings.Values.SelectMany(s => s.Value.Variables).Distinct();

    /// <summary>Where a source leads, as its file says it; a place that a variable holds is a place of its own.</summary>
    private static string PlaceOf(SourceDeclaration source) =>
        string.Join(
            ' ',
            new[] { "host", "port", "connection", "file" }
                .Where(source.Settings.ContainsKey)
                .Select(s => $"{s}={source.Settings[s].Value.ToString().ToLowerInvariant()}")
                .Prepend(source.Engine.Value)
        );

    private static IEnumerable<string> HostsOf(string? host) =>
        host?.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries) ?? [];

    /// <summary>What is wrong with a host; null = nothing.</summary>
    private static string? HostFault(string host)
    {
        if (host.Contains('/') || host.StartsWith('@') || host.Contains('\\'))
            return "is a socket of this machine";
        if (MetadataHosts.Contains(host.TrimEnd('.').ToLowerInvariant()))
            return "tells secrets of the machine";
        return AddressesOf(host).Any(IsLinkLocal) ? "is an address of the link alone, where machines tell secrets" : null;
    }

    /// <summary>The addresses of a host, in whatever form it is written; none when it has none, or nobody says in time.</summary>
    private static IPAddress[] AddressesOf(string host)
    {
        if (IPAddress.TryParse(host.Trim('[', ']'), out var address))
            return [address];
        try
        {
            using var limit = new CancellationTokenSource(LongestLookup);
            return Task.Run(() => Dns.GetHostAddressesAsync(host, limit.Token), limit.Token).GetAwaiter().GetResult();
        }
        catch (Exception exception) when (exception is SocketException or OperationCanceledException or ArgumentException)
        {
            return [];
        }
    }

    private static bool IsLinkLocal(IPAddress address)
    {
        if (address.IsIPv4MappedToIPv6)
            address = address.MapToIPv4();
        var bytes = address.GetAddressBytes();
        return address.IsIPv6LinkLocal
            || address.Equals(IPAddress.Parse("fd00:ec2::254"))
            || (bytes.Length == 4 && ((bytes[0] == 169 && bytes[1] == 254) || (bytes[0] == 0)));
    }

    private bool IsInside(string path) => _folders.Any(f => path == f || path.StartsWith(f.TrimEnd('/') + "/", StringComparison.Ordinal));

    /// <summary>A path without symbolic links, as far as it is there.</summary>
    private static string Real(string path)
    {
        path = Path.GetFullPath(path);
        var real = Path.GetPathRoot(path)!;
        foreach (var part in path[real.Length..].Split('/', StringSplitOptions.RemoveEmptyEntries))
        {
            real = Path.Combine(real, part);
            try
            {
                var target = File.ResolveLinkTarget(real, returnFinalTarget: true)
                    ?? Directory.ResolveLinkTarget(real, returnFinalTarget: true);
                if (target is not null)
                    real = Real(target.FullName);
            }
            catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
            {
                // What is not there leads nowhere else.
            }
        }
        return real;
    }

    private static ImmutableArray<string> Words(string? text, char between) =>
        [.. (text ?? "").Split(between, StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)];
}
