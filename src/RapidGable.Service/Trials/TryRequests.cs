using System.Collections.Immutable;
using System.Diagnostics;
using System.Security.Cryptography;
using System.Text;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Publishing;
using RapidGable.Service.Identity;
using RapidGable.Sources;
using RapidGable.UseCases;
using RapidGable.Verification;

namespace RapidGable.Service.Trials;

/// <summary>A kept request that was sent.</summary>
/// <param name="Caller">As whom, in words.</param>
/// <param name="Target">The path and query that were asked for.</param>
/// <param name="Answer">Null = it was not sent.</param>
/// <param name="Results">Each expectation with what is wrong; null = it holds.</param>
public sealed record TriedRequest(
    KeptRequest Request,
    string Caller,
    string Target,
    KeptAnswer? Answer,
    ImmutableArray<(KeptExpectation Expected, string? Fault)> Results
)
{
    /// <summary>Why it was not sent; null = it was.</summary>
    public string? Skipped { get; init; }

    /// <summary>Whether all is as it should be; without expectations, an answer that is no error.</summary>
    public bool IsGood =>
        Skipped is not null || (Results.IsEmpty ? Answer is { Status: > 0 and < 400 } : Results.All(r => r.Fault is null));
}

/// <summary>Sends kept requests to a service of its own on a free port of loopback, each as its caller.</summary>
/// <param name="accounts">Of the workspace, for the names of users; null = there are none.</param>
public sealed class TryRequests(LoadedWorkspace workspace, AccountDirectory? accounts, TrialHost host)
{
    /// <summary>What is sent, and how.</summary>
    /// <param name="As">Overrides whom the requests name; null = as they say.</param>
    /// <param name="Writes">Also send what may change something.</param>
    /// <param name="Host">By which name the service is called, for the addresses in its answers; null = its own.</param>
    public sealed record Options(string? As, bool Writes, string? Host = null)
    {
        /// <summary>Whether what requests change is undone; null = only what actions do is.</summary>
        public bool? Undoes { get; init; }

        /// <summary>What answers are held in; null = a budget of their own.</summary>
        public ByteBudget? Memory { get; init; }
    }

    private const int MostHeldBytes = 64 * 1024 * 1024;

    /// <summary>The roles that rules name, those first that may see least.</summary>
    public IEnumerable<string> Roles
    {
        get
        {
            var entries = workspace.Services.SelectMany(s => AccessVisibility.Of(workspace.Service(s.Model.Service)).Entries).ToList();
            return workspace
                .Services.SelectMany(s => s.Model.Sets.SelectMany(e => e.Rules).SelectMany(g => g.Who.Roles))
                .Distinct()
                .OrderBy(r => entries.Count(e => e.Caller == r && e.May == "read"))
                .ThenBy(r => entries.Count(e => e.Caller == r && e is { May: "read", Rows: null }))
                .ThenBy(r => r, StringComparer.Ordinal);
        }
    }

    /// <exception cref="InvalidDataException">When a caller that is named can be none.</exception>
    public async Task<ImmutableArray<TriedRequest>> RunAsync(
        IReadOnlyCollection<KeptRequest> requests,
        Options options,
        CancellationToken cancellation
    )
    {
        var keys = new Dictionary<string, (string Key, Caller Caller)>();
        foreach (var name in requests.Select(r => options.As ?? r.As ?? "").Distinct().Where(n => n.Length > 0))
        {
            var caller = NamedCaller.Of(accounts, name) ?? throw new InvalidDataException($"'{name}' is no user, and no list of roles.");
            if (caller.IsSignedIn)
                keys[name] = (Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32)), caller);
        }
        var lent = keys.Values.ToDictionary(k => k.Key, k => k.Caller);
        // Where people can sign in, who does not is told to, whoever else is asked in this run.
        if (accounts is { } directory && !(directory.Users.IsEmpty && directory.Keys.IsEmpty && directory.Administrators.IsEmpty))
            lent.TryAdd(Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32)), new Caller(true, []));
        var secret = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
        await using var app = host(workspace, lent, secret, "");
        await app.StartAsync(cancellation);
        using var client = new HttpClient(new SocketsHttpHandler { AllowAutoRedirect = false }) { Timeout = TimeSpan.FromSeconds(100) };
        client.DefaultRequestHeaders.Add(TrialSecret.Header, secret);
        if (options.Undoes is { } undoes)
            client.DefaultRequestHeaders.Add(TrialSecret.UndoHeader, undoes ? "true" : "false");
        client.DefaultRequestHeaders.Host = options.Host;
        using var held = new RequestAllowance(
            "trials",
            isAnonymous: false,
            options.Memory ?? new ByteBudget(MostHeldBytes),
            MostHeldBytes,
            SessionSharing.Standard
        );
        var address = app.Urls.First();
        // The connection is made before any time is taken.
        using (await client.GetAsync(address + "/health/live", cancellation)) { }
        var tried = ImmutableArray.CreateBuilder<TriedRequest>();
        var descriptions = new Dictionary<string, OpenApiDescription?>();
        foreach (var request in requests)
        {
            var who = options.As ?? request.As ?? "";
            var key = keys.TryGetValue(who, out var found) ? "Bearer " + found.Key : null;
            tried.Add(await SendAsync(client, address, request, who, key, options.Writes, descriptions, held, cancellation));
        }
        await app.StopAsync(cancellation);
        return tried.ToImmutable();
    }

    private static string Fill(KeptRequest request, string text, string? caller) =>
        request.IsLiteral ? text : KeptVariables.Fill(text, name => name switch
                {
                    "host" => "",
                    "caller" => caller ?? "",
                    _ => request.Variables.GetValueOrDefault(name),
                });

    private static async Task<TriedRequest> SendAsync(
        HttpClient client,
        string address,
        KeptRequest request,
        string who,
        string? key,
        bool writes,
        Dictionary<string, OpenApiDescription?> descriptions,
        RequestAllowance held,
        CancellationToken cancellation
    )
    {
        var (caller, target) = (who.Length == 0 ? NamedCaller.Anonymous : who, request.Path);
        if (request.Changes && !writes)
            return new TriedRequest(request, caller, target, null, []) { Skipped = "it may change something; --writes sends it" };
        using var message = new HttpRequestMessage(new HttpMethod(request.Method), address + target.Replace(" ", "%20"));
        if (request.Body is { } body)
            message.Content = new ByteArrayContent(Encoding.UTF8.GetBytes(Fill(request, body, key)));
        foreach (var (name, value) in request.Headers.Where(h => !h.Name.Equals("Authorization", StringComparison.OrdinalIgnoreCase)))
        {
            if (!message.Headers.TryAddWithoutValidation(name, Fill(request, value, key)))
                message.Content?.Headers.TryAddWithoutValidation(name, Fill(request, value, key));
        }
        if (key is not null)
            message.Headers.TryAddWithoutValidation("Authorization", key);
        var answer = await AnswerAsync(client, message, held, cancellation);
        var results = ImmutableArray.CreateBuilder<(KeptExpectation, string?)>();
        foreach (var expected in request.Expectations)
        {
            if (expected.Word == "schema" && !descriptions.ContainsKey(DescriptionOf(target) + key))
                descriptions[DescriptionOf(target) + key] = await DescribeAsync(
                    client,
                    address + DescriptionOf(target),
                    key,
                    held,
                    cancellation
                );
            var description = descriptions.GetValueOrDefault(DescriptionOf(target) + key);
            results.Add(
                (
                    expected,
                    KeptAnswerCheck.Fault(
                        expected.Word,
                        expected.Text,
                        answer,
                        description is null ? null : () => KeptSchema.Misfit(description, request.Method, target, answer)
                    )
                )
            );
        }
        return new TriedRequest(request, caller, target, answer, results.ToImmutable());
    }

    private static async Task<KeptAnswer> AnswerAsync(
        HttpClient client,
        HttpRequestMessage message,
        RequestAllowance held,
        CancellationToken cancellation
    )
    {
        var clock = Stopwatch.StartNew();
        try
        {
            using var response = await client.SendAsync(message, HttpCompletionOption.ResponseHeadersRead, cancellation);
            var bytes = await ReadAsync(response, held, cancellation);
            var headers = response
                .Headers.Concat(response.Content.Headers)
                .ToImmutableDictionary(h => h.Key.ToLowerInvariant(), h => string.Join(", ", h.Value));
            return new KeptAnswer((int)response.StatusCode, headers, bytes, clock.Elapsed);
        }
        catch (MemoryExceededException)
        {
            return new KeptAnswer(
                0,
                ImmutableDictionary<string, string>.Empty,
                "The answer is larger than one may be here. Ask for less, or send the request from elsewhere."u8.ToArray(),
                clock.Elapsed
            );
        }
        catch (Exception exception) when (exception is HttpRequestException or UriFormatException or FormatException)
        {
            return new KeptAnswer(0, ImmutableDictionary<string, string>.Empty, Encoding.UTF8.GetBytes(exception.Message), clock.Elapsed);
        }
    }

    private static async Task<byte[]> ReadAsync(HttpResponseMessage response, RequestAllowance held, CancellationToken cancellation)
    {
        await using var body = await response.Content.ReadAsStreamAsync(cancellation);
        using var whole = new MemoryStream();
        var chunk = new byte[64 * 1024];
        int count;
        while ((count = await body.ReadAsync(chunk, cancellation)) > 0)
        {
            held.Take(count);
            whole.Write(chunk, 0, count);
        }
        return whole.ToArray();
    }

    /// <summary>The description of the service that a path belongs to.</summary>
    private static string DescriptionOf(string target) => string.Join('/', target.Split('?')[0].Split('/').Take(3)) + "/openapi.json";

    private static async Task<OpenApiDescription?> DescribeAsync(
        HttpClient client,
        string url,
        string? key,
        RequestAllowance held,
        CancellationToken cancellation
    )
    {
        using var message = new HttpRequestMessage(HttpMethod.Get, url);
        if (key is not null)
            message.Headers.TryAddWithoutValidation("Authorization", key);
        var answer = await AnswerAsync(client, message, held, cancellation);
        return answer.Status == 200 && OpenApiDescription.Read(answer.Body) is { Faults.Count: 0 } read ? read : null;
    }
}
