using System.Collections.Immutable;
using System.Diagnostics;
using Microsoft.AspNetCore.Builder;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Inspection;
using RapidGable.Model;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Requests.Rest;
using RapidGable.Service.Faces;
using RapidGable.Service.Hosting;
using RapidGable.Service.Identity;
using RapidGable.Service.Publishing;
using RapidGable.Service.Trials;
using RapidGable.Verification;

namespace RapidGable.Service.UseCases;

/// <summary>What a verification does.</summary>
/// <param name="Rows">Rows of a set to walk at most.</param>
/// <param name="WithAccess">Also try who may do what.</param>
/// <param name="WithWrites">Also create, change and delete made-up entities, over the real sources.</param>
/// <param name="Seed">Decides which entities are made up.</param>
/// <param name="IsQuiet">The log of the service that is tried goes nowhere.</param>
public sealed record VerifyOptions(long Rows, bool WithAccess, bool WithWrites, int Seed, bool IsQuiet)
{
    /// <summary>The accounts of the workspace, for the callers of kept requests; null = it has none.</summary>
    public AccountDirectory? Accounts { get; init; }

    /// <summary>The services that are verified, without kept requests; empty = all, and the requests.</summary>
    public ImmutableArray<string> Services { get; init; } = [];

    internal bool Includes(string service) => Services.IsEmpty || Services.Contains(service);
}

/// <summary>
/// Proves that the services of a workspace answer right, over HTTP, by a service of its own on a free port of loopback. What is tried
/// there is of no interest to readers of the real service's log.
/// </summary>
/// <param name="progress">Runs a part of it under a title; gives what its progress is told to.</param>
public sealed class VerifyWorkspace(LoadedWorkspace workspace, VerifyOptions options, IVerifyProgress progress)
{
    /// <summary>Sound workspaces only: see <see cref="LoadedWorkspace.Diagnostics"/>.</summary>
    public async Task<VerificationReport> RunAsync(CancellationToken cancellation)
    {
        var registry = new ServiceRegistry(workspace);
        var reports = await AsDeclaredAsync(registry, cancellation);
        if (registry.All.Any(s => options.Includes(s.Model.Service) && IsPartlyClosed(s)))
            reports.AddRange(await ClosedAsync(registry, cancellation));
        if (options.WithWrites)
            reports.AddRange(await WritesAsync(cancellation));
        if (!workspace.Declaration.Requests.IsEmpty && options.Services.IsEmpty)
            reports.Add(await progress.RunAsync("Trying kept requests", _ => RequestsAsync(cancellation)));
        return new VerificationReport([.. reports]);
    }

    /// <summary>The requests that the workspace keeps, each as its caller, and whether their examples still fit.</summary>
    private async Task<ServiceReport> RequestsAsync(CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var trying = new TryRequests(workspace, options.Accounts, ServiceHost.Trial);
        var results = ImmutableArray.CreateBuilder<CheckResult>();
        foreach (
            var tried in await trying.RunAsync(
                workspace.Declaration.Requests,
                new TryRequests.Options(null, options.WithWrites),
                cancellation
            )
        )
            results.AddRange(ResultsOf(tried));
        foreach (var example in workspace.Declaration.Examples)
        {
            var now = (await trying.RunAsync([example.Request], new TryRequests.Options(example.As, false), cancellation))[0];
            results.Add(ExampleFits(example, now));
        }
        return new ServiceReport("kept requests", "requests/*.http", results.ToImmutable(), clock.Elapsed);
    }

    private static IEnumerable<CheckResult> ResultsOf(TriedRequest tried)
    {
        const string Check = "request";
        var subject = $"{tried.Request.Name} as {tried.Caller}";
        if (tried.Skipped is { } why)
            return [new CheckResult(Check, subject, CheckOutcome.Skipped, why, 0)];
        var milliseconds = $"{tried.Answer!.Time.TotalMilliseconds:0} ms";
        if (tried.Results.IsEmpty)
            return
            [
                new CheckResult(
                    Check,
                    subject,
                    tried.IsGood ? CheckOutcome.Passed : CheckOutcome.Failed,
                    $"It answers {tried.Answer.Status} in {milliseconds}.",
                    1,
                    tried.Target
                ),
            ];
        return tried.Results.Select(r => new CheckResult(
            Check,
            subject,
            r.Fault is null ? CheckOutcome.Passed : CheckOutcome.Failed,
            r.Fault is { } fault ? $"{fault} ({r.Expected.Location})" : $"{r.Expected.Word} {r.Expected.Text}, in {milliseconds}",
            1,
            tried.Target
        ));
    }

    /// <summary>An example fits as long as it has the members that an answer has now.</summary>
    private static CheckResult ExampleFits(KeptExample example, TriedRequest now)
    {
        var fault =
            now.Answer?.Json is not { } body ? $"The request answers {now.Answer?.Status} to {example.As} now."
            : JsonMembers.NamesOf(example.Body).Except(JsonMembers.NamesOf(body)).FirstOrDefault() is { } gone
                ? $"It holds '{gone}', which the answer to {example.As} has not any more."
            : JsonMembers
                .NamesOf(body)
                .Except(JsonMembers.NamesOf(example.Body))
                .FirstOrDefault(m => m is not ("next" or "@odata.nextLink" or "@odata.context"))
                is { } missing
                ? $"It lacks '{missing}', which the answer has now."
            : null;
        return new CheckResult(
            "example-fits",
            example.Request.Name,
            fault is null ? CheckOutcome.Passed : CheckOutcome.Failed,
            fault ?? "it has the members of an answer",
            1,
            example.Location.File
        );
    }

    private static bool IsPartlyClosed(PublishedService service) =>
        service.ModelFor(Caller.Anonymous).Sets.Length < service.Model.Sets.Length
        || (service.Model.Sql is not null && !service.MaySendSql(Caller.Anonymous));

    /// <summary>Who may do what, and all that everybody may read.</summary>
    private async Task<List<ServiceReport>> AsDeclaredAsync(ServiceRegistry registry, CancellationToken cancellation)
    {
        var trial = await AccessTrial.PrepareAsync(workspace, registry, options.WithAccess, cancellation);
        await using var app = await StartAsync(workspace, trial.Keys, cancellation);
        var (address, reports) = (AddressOf(app), new List<ServiceReport>());
        using var client = Client();
        foreach (var service in registry.All.Where(s => options.Includes(s.Model.Service)))
        {
            var name = service.Model.Service;
            reports.AddRange(
                await progress.RunAsync($"Trying {name}", told => trial.RunAsync(service, client, address, told, cancellation))
            );
            if (!service.On("odata").ModelFor(Caller.Anonymous).Sets.IsEmpty)
                reports.Add(
                    await ReadAsync(service, Caller.Anonymous, $"Verifying {name}", name, new HttpProbe(client), address, cancellation)
                );
            if (!service.On("rest").ModelFor(Caller.Anonymous).Sets.IsEmpty)
                reports.Add(await ReadRestAsync(service, Caller.Anonymous, new RestProbe(client), "", address, true, cancellation));
            if (options.WithAccess)
                reports.AddRange(
                    await trial.RunRestAsync(service, client, (who, caller, probe) =>
                        ReadRestAsync(service, who, probe, $" as {caller}", address, false, cancellation)
                    )
                );
        }
        await app.StopAsync(cancellation);
        return reports;
    }

    /// <summary>Services with sets that are not open to everybody, as somebody who may read all of them.</summary>
    private async Task<List<ServiceReport>> ClosedAsync(ServiceRegistry registry, CancellationToken cancellation)
    {
        var closed = registry.All.Where(IsPartlyClosed).Select(s => s.Model.Service).Where(options.Includes).ToHashSet();
        var (opened, key, caller) = WriteTrial.Open(workspace);
        await using var app = await StartAsync(opened, new Dictionary<string, Caller> { [key] = caller }, cancellation);
        var (address, reports) = (AddressOf(app), new List<ServiceReport>());
        using var client = Client();
        foreach (var service in new ServiceRegistry(opened).All.Where(s => closed.Contains(s.Model.Service)))
        {
            var name = service.Model.Service;
            var probe = new HttpProbe(client, "Bearer " + key);
            var title = $"{name}: whatever the rules keep closed";
            if (!service.On("odata").ModelFor(caller).Sets.IsEmpty)
                reports.Add(await ReadAsync(service, caller, $"Verifying all of {name}", title, probe, address, cancellation));
            if (!service.On("rest").ModelFor(caller).Sets.IsEmpty)
                reports.Add(
                    await ReadRestAsync(
                        service,
                        caller,
                        new RestProbe(client, "Bearer " + key),
                        ", whatever the rules keep closed",
                        address,
                        true,
                        cancellation
                    )
                );
        }
        await app.StopAsync(cancellation);
        return reports;
    }

    private Task<ServiceReport> ReadAsync(
        PublishedService service,
        Caller caller,
        string status,
        string title,
        HttpProbe probe,
        string address,
        CancellationToken cancellation
    )
    {
        // What rules leave of a set is not counted here, but held to the rules by the checks of access.
        var counter = new DatabaseCounter(service.On("odata").ModelFor(caller), workspace.Sources);
        var root = $"{address}{FaceTable.OData}{service.Model.Service}/";
        var asked = new VerificationOptions(title, root, options.Rows, DatabaseCount: counter.CountAsync);
        return progress.RunAsync(status, told => ServiceVerifier.VerifyAsync(probe, asked with { Progress = told }, cancellation));
    }

    /// <summary>The plain REST face, as some caller.</summary>
    /// <param name="addition">What the title of the report says of the caller.</param>
    private Task<ServiceReport> ReadRestAsync(
        PublishedService service,
        Caller caller,
        IRestProbe probe,
        string addition,
        string address,
        bool withAnswers,
        CancellationToken cancellation
    )
    {
        var (rest, odata) = (service.On("rest"), service.On("odata").ModelFor(caller));
        var paths = new RestPaths(rest.Model);
        var addressed = rest.ChangeableBy(caller);
        bool IsRoot(EntitySet set) => set.ContainedIn is null && !rest.Model.Faces.Rest.Without.Contains(set.Name);
        string PathOf(EntitySet set) => Uri.UnescapeDataString(paths.Of(set.Name));
        var asked = new RestVerificationOptions(
            $"{service.Model.Service}: plain REST{addition}",
            address + rest.Model.Faces.Rest.BaseOf(service.Model.Service),
            odata
                .Sets.Where(s => IsRoot(s) && !s.IsAction)
                .ToDictionary(PathOf, s => $"{address}{FaceTable.OData}{service.Model.Service}/{SampleCall.OData(s)}"),
            [.. rest.Model.Sets.Where(s => IsRoot(s) && addressed.FindSet(s.Name) is null).Select(PathOf)],
            options.Rows,
            withAnswers
        );
        return progress.RunAsync($"Verifying {asked.Title}", told =>
            RestVerifier.VerifyAsync(probe, asked with { Progress = told }, cancellation)
        );
    }

    private async Task<List<ServiceReport>> WritesAsync(CancellationToken cancellation)
    {
        var (opened, key, caller) = WriteTrial.Open(workspace);
        await using var app = await StartAsync(opened, new Dictionary<string, Caller> { [key] = caller }, cancellation);
        var (address, reports) = (AddressOf(app), new List<ServiceReport>());
        using var client = Client();
        foreach (var service in new ServiceRegistry(opened).All.Where(s => options.Includes(s.Model.Service)))
        {
            if (IsWritten(service.On("odata").ModelFor(caller)))
                reports.Add(
                    await progress.RunAsync($"Writing to {service.Model.Service}", told =>
                        WriteTrial.RunAsync(service, client, address, key, options.Seed, told, cancellation)
                    )
                );
            if (IsWritten(service.On("rest").ModelFor(caller)))
                reports.Add(
                    await progress.RunAsync($"Writing to {service.Model.Service} by plain REST", told =>
                        WriteTrial.RunRestAsync(service, client, address, key, options.Seed, told, cancellation)
                    )
                );
        }
        await app.StopAsync(cancellation);
        return reports;
    }

    private static bool IsWritten(EntityModel model) => model.Sets.Any(s => (s.Operations & ~SetOperations.Read) != SetOperations.None);

    private async Task<WebApplication> StartAsync(
        LoadedWorkspace tried,
        IReadOnlyDictionary<string, Caller> keys,
        CancellationToken cancellation
    )
    {
        var app = ServiceHost.Build(tried, new ServiceOptions(0, IsQuiet: options.IsQuiet, Lent: keys, IsTrial: true));
        await app.StartAsync(cancellation);
        return app;
    }

    private static string AddressOf(WebApplication app) => app.Urls.First();

    private static HttpClient Client() => new() { Timeout = TimeSpan.FromSeconds(100) };
}

/// <summary>Shows what a verification is doing.</summary>
public interface IVerifyProgress
{
    /// <summary>Runs a part of it.</summary>
    /// <param name="title">What the part does.</param>
    /// <param name="work">Gets what it tells its progress to.</param>
    Task<T> RunAsync<T>(string title, Func<Action<string>, Task<T>> work);
}
