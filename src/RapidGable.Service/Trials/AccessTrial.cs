using System.Collections.Immutable;
using System.Security.Cryptography;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Requests.Statements;
using RapidGable.Service.Faces;
using RapidGable.Service.Publishing;
using RapidGable.Verification;

namespace RapidGable.Service.Trials;

/// <summary>
/// Who may do what, tried over HTTP: the saved checks, and the whole matrix when it is asked for. Each kind of caller comes with a key
/// that only this trial knows.
/// </summary>
public sealed class AccessTrial
{
    private readonly Dictionary<string, List<(string Name, Caller Caller, string? Key)>> _callers = [];
    private readonly List<(AccessCheckDeclaration Check, string Name, string? Key)> _checks = [];
    private readonly Dictionary<string, AccessReference> _references = [];

    private AccessTrial() { }

    /// <summary>The keys that the tried service lends, with who comes with each.</summary>
    public IReadOnlyDictionary<string, Caller> Keys { get; private set; } = ImmutableDictionary<string, Caller>.Empty;

    /// <param name="all">Try the whole matrix, and not the saved checks alone.</param>
    public static async Task<AccessTrial> PrepareAsync(
        LoadedWorkspace workspace,
        ServiceRegistry registry,
        bool all,
        CancellationToken cancellation
    )
    {
        var trial = new AccessTrial();
        var keys = new Dictionary<string, Caller>();
        string? Lend(Caller caller)
        {
            if (!caller.IsSignedIn)
                return null;
            var key = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
            keys[key] = caller;
            return key;
        }

        foreach (var service in registry.All)
        {
            var reference = trial._references[service.Model.Service] = new AccessReference(service, workspace);
            if (all)
                trial._callers[service.Model.Service] =
                [
                    .. (await reference.CallersAsync(cancellation)).Select(c => (c.Name, c.Caller, Lend(c.Caller))),
                ];
        }
        foreach (var check in workspace.Declaration.Checks)
        {
            var caller = check.Roles is { } roles
                ? Caller.WithRoles([.. roles]) with
                {
                    Attributes = Caller.AttributesOf(check.Attributes),
                }
                : Caller.Anonymous;
            var name = check.Roles is not { } named
                ? "not signed in"
                : string.Join(' ', named.DefaultIfEmpty("signed in").Concat(check.Attributes.Select(a => $"{a.Name}={a.Value}")));
            trial._checks.Add((check, name, Lend(caller)));
        }
        trial.Keys = keys;
        return trial;
    }

    /// <param name="address">Of the service that lends the keys.</param>
    public async Task<IReadOnlyList<ServiceReport>> RunAsync(
        PublishedService service,
        HttpClient client,
        string address,
        Action<string> progress,
        CancellationToken cancellation
    )
    {
        var name = service.Model.Service;
        var (root, reference) = ($"{address}{FaceTable.OData}{name}/", _references[name]);
        HttpProbe As(string? key) => new(client, key is null ? null : "Bearer " + key);
        var reports = new List<ServiceReport>();
        var checks = new List<AccessCheck>();
        foreach (var (check, caller, key) in _checks.Where(c => c.Check.Service.Value == name))
            checks.Add(await reference.CheckAsync(check, caller, As(key), cancellation));
        if (checks.Count > 0)
            reports.Add(await AccessVerifier.CheckAsync(name, root, checks, cancellation));
        if (!_callers.TryGetValue(name, out var callers))
            return reports;
        var cases = new List<AccessCase>();
        foreach (var (caller, who, key) in callers)
            cases.Add(await reference.CaseAsync(caller, who, As(key), cancellation) with { Sql = SqlOf(service, address, who) });
        reports.Add(await AccessVerifier.VerifyAsync(name, root, cases, progress, cancellation));
        return reports;
    }

    /// <summary>What a caller should find where statements are sent; null = the service takes none.</summary>
    private static ExpectedSql? SqlOf(PublishedService service, string address, Caller caller)
    {
        if (service.Model is not { Sql: not null, Faces.Rest: { } rest })
            return null;
        var sets = service.Model.Sets.Where(s => !rest.Without.Contains(s.Name) && StatementBinder.Reads(s)).Select(s => s.Name);
        return new ExpectedSql($"{address}{rest.BaseOf(service.Model.Service)}{SqlAccess.Path}", service.MaySendSql(caller), [.. sets]);
    }

    /// <summary>The plain REST face, asked as each kind of caller that may do something there.</summary>
    /// <param name="verify">Gets the caller, its name, and what asks for it.</param>
    public async Task<IReadOnlyList<ServiceReport>> RunRestAsync(
        PublishedService service,
        HttpClient client,
        Func<Caller, string, IRestProbe, Task<ServiceReport>> verify
    )
    {
        var reports = new List<ServiceReport>();
        foreach (var (name, caller, key) in _callers.GetValueOrDefault(service.Model.Service, []))
        {
            if (key is not null && !service.On("rest").ModelFor(caller).Sets.IsEmpty)
                reports.Add(await verify(caller, name, new RestProbe(client, "Bearer " + key)));
        }
        return reports;
    }
}
