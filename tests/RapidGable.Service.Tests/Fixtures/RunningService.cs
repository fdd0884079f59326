using System.Net.Sockets;
using System.Text;
using System.Text.Json;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Routing;
using Microsoft.Extensions.DependencyInjection;
using RapidGable.Building;
using RapidGable.Core.Tests;
using RapidGable.Service.Hosting;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>An answer with its body read.</summary>
public sealed record Answer(int Status, IReadOnlyDictionary<string, string> Headers, byte[] Bytes)
{
    public string Text => Encoding.UTF8.GetString(Bytes);

    public string? Header(string name) => Headers.GetValueOrDefault(name);

    public JsonElement Json => JsonDocument.Parse(Bytes).RootElement;
}

/// <summary>The real service on loopback, over a workspace in a temporary folder.</summary>
public sealed class RunningService : IAsyncDisposable
{
    private readonly WebApplication _app;
    private readonly LoadedWorkspace _workspace;
    private readonly HttpClient _client;

    private RunningService(WebApplication app, LoadedWorkspace workspace, SocketsHttpHandler handler)
    {
        _client = new HttpClient(handler);
        _app = app;
        _workspace = workspace;
        Address = _app.Urls.First();
    }

    public string Address { get; }

    /// <summary>Where the console is.</summary>
    public string ConsoleAddress => _app.Urls.Last();

    /// <summary>All addresses that are routed, with what is declared of each.</summary>
    public IReadOnlyList<RouteEndpoint> Routes =>
        [.. _app.Services.GetServices<EndpointDataSource>().SelectMany(s => s.Endpoints).OfType<RouteEndpoint>()];

    /// <summary>The link that opens the console as long as there is no administrator; null = there is one.</summary>
    public string? ConsoleLink => ServiceHost.ConsoleLinkOf(_app);

    /// <summary>What commands send in place of an administrator's key; null = there is an administrator.</summary>
    public string? LinkToken => ConsoleLink?.Split('=')[1];

    /// <summary>Waits until an answer holds a text, such as a note that is written a moment later.</summary>
    public async Task SaysAsync(string path, string text)
    {
        var answer = "";
        for (var i = 0; i < 200 && !answer.Contains(text, StringComparison.Ordinal); i++)
        {
            await Task.Delay(i == 0 ? 0 : 50);
            answer = (await SendAsync(path)).Text;
        }
        Assert.Contains(text, answer);
    }

    /// <param name="handler">How it is called; null = without cookies and certificates.</param>
    /// <param name="environment">The variables of the process; null = there are none.</param>
    /// <param name="mayHaveFaults">What is wrong with the files turns off that part alone.</param>
    public static async Task<RunningService> StartAsync(
        string folder,
        TimeProvider? time = null,
        SocketsHttpHandler? handler = null,
        Func<string, string?>? environment = null,
        bool mayHaveFaults = false,
        int? consolePort = null
    )
    {
        var workspace = await WorkspaceLoader.LoadAsync(
            folder,
            WorkspaceState.Variables(folder, environment ?? (_ => null)),
            CancellationToken.None
        );
        Assert.False(
            workspace.Diagnostics.HasErrors && !mayHaveFaults,
            string.Join('\n', workspace.Diagnostics.Items.Select(d => d.Render()))
        );
        var app = ServiceHost.Build(
            workspace,
            new ServiceOptions(
                0,
                time,
                Path.Combine(AppContext.BaseDirectory, "console"),
                Environment: environment,
                MeterName: Guid.NewGuid().ToString(),
                ConsolePort: consolePort
            )
        );
        await app.StartAsync();
        return new RunningService(app, workspace, handler ?? new SocketsHttpHandler { AllowAutoRedirect = false, UseCookies = false });
    }

    /// <summary>Sends a request; the target goes out exactly as it is written.</summary>
    public Task<Answer> SendAsync(string target, string method = "GET", params (string Name, string Value)[] headers) =>
        SendAsync(target, method, null, headers);

    /// <param name="json">The body; null = none.</param>
    public async Task<Answer> SendAsync(string target, string method, string? json, params (string Name, string Value)[] headers)
    {
        var url = target.StartsWith("http", StringComparison.Ordinal) ? target : Address + target;
        using var request = new HttpRequestMessage(
            new HttpMethod(method),
            new Uri(url, new UriCreationOptions { DangerousDisablePathAndQueryCanonicalization = true })
        );
        if (json is not null)
            request.Content = new StringContent(json, Encoding.UTF8, "application/json");
        // Who started the service may manage it, unless a test sends something of its own.
        if (
            LinkToken is { } token
            && (target.StartsWith("/manage", StringComparison.Ordinal) || target is "/metrics" or "/health/ready")
            && !headers.Any(h => h.Name is "Authorization" or "Cookie")
        )
            headers = [.. headers, ("Authorization", "Bearer " + token)];
        foreach (var (name, value) in headers)
        {
            if (name.StartsWith("Content-", StringComparison.OrdinalIgnoreCase) && request.Content is { } content)
            {
                content.Headers.Remove(name);
                Assert.True(content.Headers.TryAddWithoutValidation(name, value));
            }
            else
                Assert.True(request.Headers.TryAddWithoutValidation(name, value));
        }
        using var response = await _client.SendAsync(request);
        var all = response
            .Headers.NonValidated.Concat(response.Content.Headers.NonValidated)
            .ToDictionary(h => h.Key, h => string.Join(", ", h.Value), StringComparer.OrdinalIgnoreCase);
        return new Answer((int)response.StatusCode, all, await response.Content.ReadAsByteArrayAsync());
    }

    /// <summary>Sends bytes as they are and gives what comes back, for requests that no client library would send.</summary>
    public async Task<string> SendRawAsync(byte[] request)
    {
        var uri = new Uri(Address);
        using var socket = new TcpClient();
        await socket.ConnectAsync(uri.Host, uri.Port);
        await socket.GetStream().WriteAsync(request);
        using var reader = new StreamReader(socket.GetStream(), Encoding.UTF8);
        return await reader.ReadToEndAsync();
    }

    public async ValueTask DisposeAsync()
    {
        _client.Dispose();
        await _app.StopAsync(); // what works beside the requests ends its work, as on a real stop
        await _app.DisposeAsync();
        await _workspace.DisposeAsync();
    }
}

/// <summary>The demo's database, every table open, on a fixed clock.</summary>
public sealed class NetworkService : IAsyncLifetime
{
    public const int Readings = 50_000;
    private readonly TestWorkspace _folder = new();

    public RunningService Http { get; private set; } = null!;

    public string Folder => _folder.Folder;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .WithNetwork(Readings)
            .WithService(NetworkFixture.AllSets)
            .Write("services/closed.yaml", "title: Closed\nsource: main\nsets: [station]\n")
            .Write(
                "services/half.yaml",
                "title: Half\nsource: main\nnamespace: H\nsets:\n  - { from: station, name: Stations, rules: { read: anyone } "
                    + "}\n  - { from: visit, name: Visits, rules: { read: signed-in } }\n"
            );
        Http = await RunningService.StartAsync(Folder, new FixedClock());
    }

    public async Task DisposeAsync()
    {
        await Http.DisposeAsync();
        _folder.Dispose();
    }

    private sealed class FixedClock : TimeProvider
    {
        public override DateTimeOffset GetUtcNow() => new(2024, 5, 1, 12, 0, 0, TimeSpan.Zero);
    }
}
