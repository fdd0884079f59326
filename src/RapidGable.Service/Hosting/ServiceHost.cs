using System.Collections.Immutable;
using System.Net;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.DataProtection.Repositories;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Server.Kestrel.Core;
using Microsoft.AspNetCore.StaticFiles;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.FileProviders;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Changes;
using RapidGable.Declarations;
using RapidGable.Publishing;
using RapidGable.Service.Auditing;
using RapidGable.Service.Faces;
using RapidGable.Service.Faces.OData;
using RapidGable.Service.Faces.Rest;
using RapidGable.Service.Identity;
using RapidGable.Service.Management;
using RapidGable.Service.Publishing;
using RapidGable.Service.Revisions;
using RapidGable.Service.State;
using RapidGable.Service.Stores;
using RapidGable.Service.Traffic;
using RapidGable.Service.Trials;
using RapidGable.Sources;

namespace RapidGable.Service.Hosting;

/// <summary>How the service is started.</summary>
/// <param name="Port">0 = any free port.</param>
/// <param name="Time">The clock behind <c>now()</c>.</param>
/// <param name="ConsoleFolder">Where the built console lies; null = beside the program.</param>
/// <param name="Environment">Gives variables to a workspace that is read again; null = those of the process.</param>
/// <param name="IsQuiet">Writes no log: somebody else is writing to the terminal.</param>
/// <param name="Address">Where it listens; null = on 127.0.0.1.</param>
/// <param name="IsTrial">It is started to be tried: on plain loopback whatever the workspace says of transport, without limits, and
/// nothing is noted.</param>
/// <param name="IsPublished">It serves what was published; else it follows the files.</param>
/// <param name="Prefix">What stands before the addresses in its answers, where something in front of it takes it away.</param>
/// <param name="Secret">Requests without it in their header <see cref="TrialSecret.Header"/> find nothing; null = all are answered.
/// </param>
/// <param name="Off">What is switched off from the start, for a service that has no switches of its own.</param>
/// <param name="Memory">What requests hold together with those of the service that it runs beside; null = it has a budget of its own.
/// </param>
/// <param name="ConsolePort">The port of the console and the management interface alone; null = they are where the services are.</param>
/// <param name="Lent">Keys that are taken besides the workspace's own, for as long as the service runs, by the caller that comes with
/// each.</param>
public sealed record ServiceOptions(
    int Port,
    TimeProvider? Time = null,
    string? ConsoleFolder = null,
    Func<string, string?>? Environment = null,
    bool IsQuiet = false,
    IPAddress? Address = null,
    IReadOnlyDictionary<string, Caller>? Lent = null,
    bool IsTrial = false,
    bool IsPublished = false,
    string Prefix = "",
    string? Secret = null,
    ImmutableArray<SwitchedOff> Off = default,
    LogFormat Log = LogFormat.Text,
    string MeterName = ServiceMeter.UsualName,
    ByteBudget? Memory = null,
    int? ConsolePort = null
);

/// <summary>Puts the faces, the management interface and the console behind one address on loopback.</summary>
public static class ServiceHost
{
    private static readonly string[] Compressed =
    [
        "application/json",
        "application/xml",
        "text/plain",
        "text/html",
        "text/css",
        "text/javascript",
        "application/javascript",
        "image/svg+xml",
        "multipart/mixed",
    ];

    private const string TrialMeter = ServiceMeter.UsualName + ".Trial";

    private const string ConsoleNotBuilt =
        "<!doctype html><html lang=\"en\"><title>Rapid Gable</title><body><h1>The console is not built</h1><p>Run <code>make "
        + "console</code>, then start the service again. The services themselves are listed at <a "
        + "href=\"/services\">/services</a>.</p></body></html>";

    /// <summary>A service over a workspace, ready to be started.</summary>
    public static WebApplication Build(LoadedWorkspace workspace, ServiceOptions options)
    {
        if (options.IsTrial)
            workspace = Tried(workspace);
        var builder = WebApplication.CreateSlimBuilder(new WebApplicationOptions { ContentRootPath = AppContext.BaseDirectory });
        builder.WebHost.ConfigureKestrel(kestrel => Listen(kestrel, workspace, options));
        var time = options.Time ?? TimeProvider.System;
        var outer = options.Environment ?? System.Environment.GetEnvironmentVariable;
        Telemetry.Configure(builder, options, outer);
        IStateStore state = options.IsTrial ? new StateInMemory() : WorkspaceState.Of(workspace.Declaration);
        var archive = new RevisionArchive(state);
        var folder = workspace.Declaration.Folder;
        var secrets = new SecretKeeper(state, outer);
        // A trial loads nothing by itself.
        var policy = options.IsTrial ? null : new SourcePolicy(folder, outer, secrets.Find);
        var environment = policy is null ? WorkspaceState.Variables(folder, outer) : policy.Find;
        var revisions = new RevisionReader(folder, archive, environment, policy);
        var registry = new ServiceRegistry(
            workspace,
            options.IsPublished
                ? revisions.LoadAsync
                : cancellation => WorkspaceLoader.LoadAsync(folder, environment, cancellation, policy),
            options.Memory
        );
        var board = new SwitchBoard(state);
        registry.TakeSwitches(options.Off.IsDefault ? board.Read() : options.Off, board.Version);
        builder
            .Services.AddSingleton<DraftPreview>()
            .AddSingleton<TrialHost>(_ =>
                (tried, lent, secret, prefix) => Trial(tried, lent, secret, prefix, registry.Off, registry.Memory)
            );
        builder
            .Services.AddSingleton(archive)
            .AddSingleton(secrets)
            .AddSingleton(new StateCipher(state, outer))
            .AddSingleton(revisions)
            .AddSingleton(board);
        builder.Services.AddSingleton(new Draft(folder, environment, policy)).AddSingleton(new DraftFolder(folder));
        builder
            .Services.AddSingleton(new VerificationArchive(state))
            .AddSingleton<DraftVerification>()
            .AddSingleton<DraftHandover>()
            .AddSingleton<ConsumerPage>()
            .AddSingleton<HandoverWork>(services => services.GetRequiredService<DraftHandover>().RunAsync)
            .AddSingleton<VerificationWork>(services => services.GetRequiredService<DraftVerification>().RunAsync)
            .AddSingleton(services => ActivatorUtilities.CreateInstance<VerificationRuns>(services, time));
        if (policy is not null)
            builder.Services.AddSingleton(policy);
        AddServices(builder.Services, registry, state, options, time);
        var app = builder.Build();
        if (!options.IsTrial)
        {
            app.Lifetime.ApplicationStarted.Register(() => TellLink(app));
            // The sources of a trial belong to who tries, and several trials may share them.
            app.Lifetime.ApplicationStopped.Register(() => registry.DisposeAsync().AsTask().GetAwaiter().GetResult());
        }
        Map(app, workspace, registry, options, time);
        return app;
    }

    /// <inheritdoc cref="TrialHost"/>
    public static WebApplication Trial(LoadedWorkspace workspace, IReadOnlyDictionary<string, Caller> lent, string secret, string prefix) =>
        Trial(workspace, lent, secret, prefix, [], null);

    /// <summary>The same beside a service that runs: what is switched off there is off here, too, and its numbers stay apart.</summary>
    private static WebApplication Trial(
        LoadedWorkspace workspace,
        IReadOnlyDictionary<string, Caller> lent,
        string secret,
        string prefix,
        ImmutableArray<SwitchedOff> off,
        ByteBudget? memory
    ) =>
        Build(
            workspace,
            new ServiceOptions(0, IsQuiet: true, Lent: lent, IsTrial: true, Prefix: prefix, Secret: secret)
            {
                Off = off,
                MeterName = TrialMeter,
                Memory = memory,
            }
        );

    /// <summary>The workspace without what would keep a trial from asking whatever it wants.</summary>
    private static LoadedWorkspace Tried(LoadedWorkspace workspace) =>
        workspace with
        {
            Declaration = workspace.Declaration with
            {
                Transport = TransportDeclaration.Plain,
                Traffic = TrafficDeclaration.Free,
                Audit = AuditDeclaration.None,
            },
        };

    private static void Listen(KestrelServerOptions kestrel, LoadedWorkspace workspace, ServiceOptions options)
    {
        foreach (var port in new[] { options.Port, options.ConsolePort }.OfType<int>())
            kestrel.Listen(options.Address ?? IPAddress.Loopback, port, listen =>
            {
                Transport.Secure(listen, workspace.Declaration);
                listen.Use(UnreadableRequests.Middleware);
            });
        kestrel.AddServerHeader = false;
        // Our own limit is lower and answers with an error body; this one only keeps memory bounded.
        kestrel.Limits.MaxRequestLineSize = 256 * 1024;
        kestrel.Limits.MaxRequestBufferSize = 1024 * 1024;
    }

    private static void AddServices(
        IServiceCollection services,
        ServiceRegistry registry,
        IStateStore state,
        ServiceOptions options,
        TimeProvider time
    )
    {
        services.AddResponseCompression(compression =>
        {
            compression.EnableForHttps = true;
            compression.MimeTypes = Compressed;
        });
        services
            .AddSingleton(registry)
            .AddSingleton(time)
            .AddSingleton(new ChangeEnvironment(time, Random.Shared, Guid.NewGuid) { UndoesCalls = options.IsTrial })
            .AddCors();
        services.AddSingleton<SwitchWatch>().AddHostedService(s => s.GetRequiredService<SwitchWatch>());
        if (options.IsPublished)
            services.AddHostedService<RevisionWatch>();
        else
            services.AddHostedService<Refresher>();
        AddStores(services, state);
        AddIdentity(services, options);
        AddFaces(services, registry, options);
    }

    private static void AddStores(IServiceCollection services, IStateStore state) =>
        services
            .AddSingleton(state)
            .AddSingleton<IAccountStore, AccountStore>()
            .AddSingleton<ITicketStore, SessionsInState>()
            .AddSingleton<IXmlRepository, CookieKeysInState>()
            .AddSingleton<IPendingAnswerStore, PendingAnswersInMemory>()
            .AddSingleton<IRepeatedAnswerStore, RepeatedAnswersInState>()
            .AddSingleton<IAuditStore, AuditInState>();

    private static void AddIdentity(IServiceCollection services, ServiceOptions options)
    {
        services
            .AddSingleton(new LentKeys(options.Lent))
            .AddSingleton<ConsoleLink>()
            .AddSingleton<PasswordCheck>()
            .AddSingleton<KeySets>()
            .AddSingleton<TokenSignIn>()
            .AddSingleton<CertificateSignIn>()
            .AddSingleton<SignIn>()
            .AddSingleton<AuditLog>()
            .AddHostedService(s => s.GetRequiredService<AuditLog>());
        Administration.Configure(services);
    }

    private static void AddFaces(IServiceCollection services, ServiceRegistry registry, ServiceOptions options) =>
        services
            .AddSingleton<TrafficHistory>()
            .AddSingleton<MemoryGuard>()
            .AddSingleton<ReadySources>()
            .AddSingleton<SlowRequests>()
            .AddSingleton<RequestRateLimiter>()
            .AddSingleton<Allowances>()
            .AddSingleton(s => new ServiceMeter(options.MeterName, registry, s.GetRequiredService<Allowances>()))
            .AddSingleton<StatusMonitors>()
            .AddSingleton(new AddressPrefix(options.Prefix))
            .AddSingleton<FacePipeline>()
            .AddSingleton<ODataFace>()
            .AddSingleton<IFace>(s => s.GetRequiredService<ODataFace>())
            .AddSingleton<OpenApiDescriptions>()
            .AddSingleton<RestDocuments>()
            .AddSingleton<IFace, RestFace>()
            .AddSingleton<FaceTable>();

    private static void Map(
        WebApplication app,
        LoadedWorkspace workspace,
        ServiceRegistry registry,
        ServiceOptions options,
        TimeProvider time
    )
    {
        UnreadableRequests.Use(app);
        if (options.Secret is { } secret)
            app.Use(
                (context, next) =>
                {
                    if (context.Request.Headers[TrialSecret.Header] == secret)
                    {
                        if (context.Request.Headers[TrialSecret.UndoHeader] is { Count: 1 } undo)
                            context.Features.Set(new TrialMark(undo == "true"));
                        return next(context);
                    }
                    context.Response.StatusCode = StatusCodes.Status404NotFound;
                    return Task.CompletedTask;
                }
            );
        Transport.Use(app, workspace.Declaration.Transport);
        if (options.ConsolePort is not null)
            ConsoleOrigin.Use(app);
        app.UseResponseCompression();
        var pipeline = app.Services.GetRequiredService<FacePipeline>();
        var faces = app.Services.GetRequiredService<FaceTable>();
        // Before routing: routing would decode the path, and an encoded slash belongs to a key.
        app.Use(
            (context, next) => faces.Find(RawTarget.Of(context).Path) is { } face ? pipeline.HandleAsync(face, context) : next(context)
        );
        UnansweredFaults.Use(app);
        Telemetry.MapMetrics(app);
        app.UseRouting();
        ApiCatalog.Map(app, registry);
        MapHealth(app, registry);
        // A trial is asked for services alone; nothing of it can be managed.
        if (options.IsTrial)
        {
            ManagementInterface.MapServices(app, registry);
            return;
        }
        ManagementInterface.Map(app, registry, time);
        MapConsole(app, options.ConsoleFolder ?? Path.Combine(AppContext.BaseDirectory, "console"));
    }

    private static void TellLink(WebApplication app)
    {
        if (!app.Services.GetRequiredService<Administration>().IsRequired && app.Urls.LastOrDefault() is { } address)
            app.Services.GetRequiredService<ConsoleLink>().Tell(address);
    }

    /// <summary>The link that opens the console of a started service whose workspace has no administrator; null = it has some.</summary>
    public static string? ConsoleLinkOf(WebApplication app) => app.Services.GetRequiredService<ConsoleLink>().Current;

    private static void MapHealth(WebApplication app, ServiceRegistry registry)
    {
        app.MapGet("/health/live", () => Results.Text("live"));
        app.MapGet("/health/ready", async (HttpContext context, AuditLog audit, Administration administration, ReadySources sources) =>
        {
            // Names of sources and faults in files are for who runs the service.
            var isInsider = await administration.IsInsiderAsync(context);
            if (await sources.UnavailableAsync(isInsider, context.RequestAborted) is { } unavailable)
                return Results.Text(isInsider ? $"not ready: source {unavailable}" : "not ready", statusCode: 503);
            if (registry.Drift.FirstOrDefault(d => d.Breaks) is { } drift)
                return Results.Text(
                    isInsider ? $"ready in part, since a database has moved: {drift.Service}: {drift.Text}" : "ready in part"
                );
            if (registry.Missing is { } missing)
                return Results.Text(
                    isInsider
                        ? $"ready in part, since a database has changed: {missing}{(registry.Problem is { } kept ? $" ({kept})" : "")}"
                        : "ready in part"
                );
            return Results.Text(
                !isInsider ? "ready"
                : registry.Problem is { } problem ? $"ready, with the last good state: {problem}"
                : audit.Problem is { } lost ? $"ready, but {lost}"
                : "ready"
            );
        });
    }

    private static void MapConsole(WebApplication app, string folder)
    {
        app.MapGet("/", () => Results.Redirect("/console/"));
        var index = Path.Combine(folder, "index.html");
        if (!File.Exists(index))
        {
            app.MapGet("/console/{**path}", () => Results.Content(ConsoleNotBuilt, "text/html; charset=utf-8"));
            return;
        }
        var files = new PhysicalFileProvider(folder);
        var types = new FileExtensionContentTypeProvider();
        app.MapGet("/console/{**path}", (HttpContext context, string? path) =>
        {
            context.Response.Headers.ContentSecurityPolicy =
                "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; "
                + "frame-ancestors 'none'; base-uri 'self'; form-action 'self'";
            // Management takes what the console's pages send, and sees by this that they do.
            context.Response.Headers["Referrer-Policy"] = "same-origin";
            var file = files.GetFileInfo(path ?? "");
            if (!file.Exists || file.IsDirectory)
            {
                // Addresses inside the console are pages of one program; a file that is missing is missing.
                if (Path.HasExtension(path))
                    return Results.NotFound();
                context.Response.Headers.CacheControl = "no-cache";
                return Results.File(index, "text/html; charset=utf-8");
            }
            context.Response.Headers.CacheControl = path!.StartsWith("assets/", StringComparison.Ordinal)
                ? "public, max-age=31536000, immutable"
                : "no-cache";
            return Results.File(file.PhysicalPath!, types.TryGetContentType(path, out var type) ? type : "application/octet-stream");
        });
    }
}
