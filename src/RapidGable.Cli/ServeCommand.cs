using System.CommandLine;
using System.Diagnostics;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Polly;
using Polly.Retry;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Service.Hosting;
using RapidGable.Service.Publishing;
using RapidGable.Service.Stores;

namespace RapidGable.Cli;

/// <summary><c>gable serve</c>: publishes a workspace until it is told to stop.</summary>
internal static class ServeCommand
{
    public static Command Create()
    {
        var workspace = CommonOptions.Workspace();
        var port = new Option<int>("--port") { Description = "Port on 127.0.0.1; 0 takes any free one.", DefaultValueFactory = _ => 8460 };
        port.Validators.Add(result =>
        {
            if (result.Tokens.Count == 1 && !(int.TryParse(result.Tokens[0].Value, out var number) && number is >= 0 and <= 65535))
                result.AddError($"--port needs a number from 0 to 65535, not '{result.Tokens[0].Value}'.");
        });
        var address = new Option<string>("--address")
        {
            Description = "The address of this machine to listen on.",
            DefaultValueFactory = _ => "127.0.0.1",
        };
        address.Validators.Add(result =>
        {
            if (result.Tokens.Count == 1 && !System.Net.IPAddress.TryParse(result.Tokens[0].Value, out _))
                result.AddError($"--address needs an address such as 127.0.0.1 or 0.0.0.0, not '{result.Tokens[0].Value}'.");
        });
        var consolePort = new Option<int?>("--console-port")
        {
            Description = "A port for the console and the management interface alone; they are where the services are when left out.",
        };
        consolePort.Validators.Add(result =>
        {
            if (result.Tokens.Count == 1 && !(int.TryParse(result.Tokens[0].Value, out var number) && number is >= 0 and <= 65535))
                result.AddError($"--console-port needs a number from 0 to 65535, not '{result.Tokens[0].Value}'.");
        });
        var wait = new Option<int>("--wait")
        {
            Description = "Seconds to wait at the start for databases that are down.",
            DefaultValueFactory = _ => 60,
        };
        var published = new Option<bool>("--published")
        {
            Description = "Serve the newest revision, and take later ones when they are published; else the files are followed.",
        };
        var log = new Option<string>("--log") { Description = "How the log is written.", DefaultValueFactory = _ => "text" };
        log.AcceptOnlyFromAmong("text", "json");
        var command = new ExampleCommand(
            "serve",
            "Publish a workspace on 127.0.0.1, with its console, until Ctrl+C.",
            "gable serve demo",
            "gable serve rivers --port 9000",
            "gable serve rivers --published"
        )
        {
            workspace,
            port,
            address,
            consolePort,
            wait,
            published,
            log,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(port),
                    System.Net.IPAddress.Parse(result.GetValue(address)!),
                    result.GetValue(consolePort),
                    Math.Max(0, result.GetValue(wait)),
                    result.GetValue(published),
                    result.GetValue(log) == "json" ? LogFormat.Json : LogFormat.Text,
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string folder,
        int port,
        System.Net.IPAddress address,
        int? consolePort,
        int waitSeconds,
        bool published,
        LogFormat log,
        CancellationToken cancellation
    )
    {
        await using var workspace = published
            ? await PublishedAsync(folder, cancellation)
            : await LoadAsync(folder, TimeSpan.FromSeconds(waitSeconds), cancellation);
        Terminal.WriteDiagnostics(workspace.Diagnostics);
        if (workspace.Diagnostics.HasErrors)
        {
            Console.Error.WriteLine("gable: the workspace has faults and is not served.");
            return 1;
        }
        if (!System.Net.IPAddress.IsLoopback(address) && workspace.Declaration.Transport is { Certificate: null, Proxies.IsEmpty: true })
            throw new UsageException(
                $"On {address} others could read what callers send. Declare a certificate, or the proxies that end TLS, in "
                    + $"'transport' of workspace.yaml."
            );
        await using var app = ServiceHost.Build(
            workspace,
            new ServiceOptions(port, Address: address, Log: log, IsPublished: published, ConsolePort: consolePort)
        );
        try
        {
            await app.StartAsync(cancellation);
        }
        catch (IOException exception) when (exception.InnerException is AddressInUseException)
        {
            Console.Error.WriteLine($"gable: port {port} is in use already. Choose another with --port, or 0 for any free one.");
            return 1;
        }
        catch (TransportException exception)
        {
            Console.Error.WriteLine($"gable: {exception.Message}");
            return 1;
        }
        catch (IOException exception)
        {
            Console.Error.WriteLine($"gable: port {port} cannot be opened: {exception.Message}");
            return 1;
        }
        if (!System.Net.IPAddress.IsLoopback(address) && workspace.Declaration.Transport.Hosts.IsEmpty)
            Console.Error.WriteLine(
                "gable: warning: 'transport' of workspace.yaml names no 'hosts', so web pages of any name that leads to this "
                    + "address reach the service."
            );
        if (ServiceHost.ConsoleLinkOf(app) is { } link)
            Console.Error.WriteLine(
                $"There is no administrator yet. This link opens the console, once; the next one stands in "
                    + $"{Path.Combine(folder, "console-link")}:\n  {link}"
            );
        Console.Error.WriteLine(
            published
                ? $"Serving revision {workspace.Revision}; 'gable publish' makes the next one."
                : "Following the files: what is saved is served with the next refresh. '--published' serves revisions instead."
        );
        Console.Out.WriteLine($"Ready: {AddressOf(app)}/");
        await app.WaitForShutdownAsync(cancellation);
        return 0;
    }

    /// <summary>What was published last; the databases need not be there for it.</summary>
    private static Task<LoadedWorkspace> PublishedAsync(string folder, CancellationToken cancellation)
    {
        var archive = PublishCommand.ArchiveOf(folder);
        return new RevisionReader(Path.GetFullPath(folder), archive, WorkspaceState.Variables(folder)).LoadAsync(cancellation);
    }

    /// <summary>Loads the workspace; while a database is down, and nothing else is wrong, tries again.</summary>
    private static async Task<LoadedWorkspace> LoadAsync(string folder, TimeSpan most, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var patience = new ResiliencePipelineBuilder<LoadedWorkspace>()
            .AddRetry(
                new RetryStrategyOptions<LoadedWorkspace>
                {
                    ShouldHandle = tried => ValueTask.FromResult(clock.Elapsed < most && DownOf(tried.Outcome.Result) is not null),
                    MaxRetryAttempts = int.MaxValue,
                    Delay = TimeSpan.FromSeconds(1),
                    BackoffType = DelayBackoffType.Constant,
                    OnRetry = async tried =>
                    {
                        if (tried.AttemptNumber == 0)
                            Console.Error.WriteLine(
                                $"gable: {DownOf(tried.Outcome.Result)} Waiting for it, {most.TotalSeconds:0} s at most."
                            );
                        await tried.Outcome.Result!.DisposeAsync();
                    },
                }
            )
            .Build();
        return await patience.ExecuteAsync(async token => await Terminal.LoadAsync(folder, token), cancellation);
    }

    /// <summary>The first database that is down, in words; null = none is, or something else is wrong too.</summary>
    private static string? DownOf(LoadedWorkspace? workspace)
    {
        var faults = workspace?.Diagnostics.Items.Where(d => d.Severity == Severity.Error).ToList() ?? [];
        return faults.TrueForAll(f => f.Code == WorkspaceLoader.SourceDown) ? faults.FirstOrDefault()?.Message : null;
    }

    /// <summary>The address that a started service listens on, without a slash at its end.</summary>
    internal static string AddressOf(WebApplication app) =>
        app.Services.GetRequiredService<IServer>().Features.Get<IServerAddressesFeature>()!.Addresses.First();
}
