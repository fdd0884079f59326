using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text.Json;
using Microsoft.Net.Http.Headers;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Handover;
using RapidGable.Model;
using RapidGable.Requests.Rest;
using RapidGable.Service.Faces;
using RapidGable.Service.Trials;
using RapidGable.UseCases;

namespace RapidGable.Service.UseCases;

/// <summary>What a handover is made of.</summary>
/// <param name="Name">How the caller is called in the page.</param>
/// <param name="Origin">Where consumers find the service, without a slash at the end: <c>https://data.example</c>.</param>
/// <param name="At">When it is made (UTC).</param>
public sealed record HandoverWish(string Service, string Name, Caller Caller, string Origin, DateTime At)
{
    /// <summary>Documents are linked where they are served, and no files are made of them.</summary>
    public bool IsPageOnly { get; init; }
}

/// <summary>A file of a handover.</summary>
public sealed record HandoverFile(string Name, string Text);

/// <summary>
/// Makes what the consumers of a service get. All requests are sent to a service of its own on a free port, as the caller for whom it is
/// made, so that nothing stands in it which that caller may not see.
/// </summary>
/// <param name="host">Starts the service that is asked.</param>
public sealed class HandOver(LoadedWorkspace workspace, HandoverWish wish, TrialHost host)
{
    private const int MostOfAnswer = 4_000;
    private readonly string _key = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
    private readonly string _secret = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));

    /// <summary>The page with the documents that it links, in files beside it; the page is the first.</summary>
    /// <exception cref="NotPossibleException">There is no such service, or the caller sees nothing of it.</exception>
    public async Task<ImmutableArray<HandoverFile>> RunAsync(CancellationToken cancellation)
    {
        var service = workspace.Service(wish.Service);
        var (odata, rest) = (service.On("odata"), service.On("rest"));
        if (!odata.IsOpenTo(wish.Caller) && !rest.IsOpenTo(wish.Caller))
            throw new NotPossibleException($"{wish.Name} sees nothing of the service '{wish.Service}'. Name another caller.");
        var lent = wish.Caller.IsSignedIn ? new Dictionary<string, Caller> { [_key] = wish.Caller } : [];
        await using var app = host(workspace, lent, _secret, "");
        await app.StartAsync(cancellation);
        using var client = new HttpClient(new SocketsHttpHandler { AllowAutoRedirect = false })
        {
            BaseAddress = new Uri(app.Urls.First()),
            Timeout = TimeSpan.FromSeconds(100),
        };
        var addresses = ImmutableArray.CreateBuilder<(string, string)>();
        var documents = new List<(string Name, string Link, HandoverFile File)>();
        var examples = new List<HandoverExample>();
        if (odata.IsOpenTo(wish.Caller))
        {
            var root = $"{FaceTable.OData}{wish.Service}/";
            addresses.Add(("OData", wish.Origin + root));
            await AddDocumentAsync(client, "Metadata (CSDL XML)", root + "$metadata", "metadata.xml", documents, cancellation);
            await AddDocumentAsync(
                client,
                "Metadata (CSDL JSON)",
                root + "$metadata?$format=json",
                "metadata.json",
                documents,
                cancellation
            );
            await AddDocumentAsync(
                client,
                "OpenAPI of the OData face",
                root + "openapi.json",
                "odata-openapi.json",
                documents,
                cancellation
            );
            examples.AddRange(await ODataExamplesAsync(client, odata.ModelFor(wish.Caller), root, cancellation));
        }
        if (rest.IsOpenTo(wish.Caller))
        {
            var root = rest.Model.Faces.Rest.BaseOf(wish.Service);
            addresses.Add(("Plain REST", wish.Origin + root));
            await AddDocumentAsync(client, "OpenAPI of plain REST", root + "openapi.json", "rest-openapi.json", documents, cancellation);
            examples.AddRange(await RestExamplesAsync(client, rest.ModelFor(wish.Caller), new RestPaths(rest.Model), root, cancellation));
        }
        await app.StopAsync(cancellation);
        var seen = service.ModelFor(wish.Caller);
        var facts = new HandoverFacts(wish.Service, service.Model.Title, wish.Name, wish.Caller.IsSignedIn)
        {
            About = service.Model.About,
            Deprecation = service.Model.Deprecation,
            Addresses = addresses.ToImmutable(),
            Documents = [.. documents.Select(d => (d.Name, d.Link))],
            Sets = [.. seen.Sets.Select(Set)],
            Examples = [.. examples],
            TakesTokens = !workspace.Declaration.SignIn.Tokens.IsEmpty,
        };
        var page = new HandoverFile("index.html", HandoverPage.Write(facts, wish.At));
        return wish.IsPageOnly ? [page] : [page, .. documents.Select(d => d.File)];
    }

    private static HandoverSet Set(EntitySet set) =>
        new(
            set.Name,
            set.IsAction ? "action"
                : set.IsFunction ? "query"
                : "set",
            set.Description ?? set.Type.Description,
            string.Join(
                ", ",
                Enum.GetValues<SetOperations>()
                    .Where(o => o != SetOperations.None && set.Operations.HasFlag(o))
                    .Select(o => o.ToString().ToLowerInvariant())
            ),
            [.. set.Type.Properties.Select(p => (p.Name, p.Type.ToString()))]
        );

    private async Task<(int Status, string Text)> GetAsync(HttpClient client, string path, string accept, CancellationToken cancellation)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, path);
        // Links lead to where consumers are.
        request.Headers.Host = new Uri(wish.Origin).Authority;
        request.Headers.TryAddWithoutValidation(HeaderNames.Accept, accept);
        request.Headers.TryAddWithoutValidation(TrialSecret.Header, _secret);
        if (wish.Caller.IsSignedIn)
            request.Headers.TryAddWithoutValidation(HeaderNames.Authorization, "Bearer " + _key);
        using var answer = await client.SendAsync(request, cancellation);
        var text = await answer.Content.ReadAsStringAsync(cancellation);
        return ((int)answer.StatusCode, text.Replace("http://" + request.Headers.Host, wish.Origin, StringComparison.Ordinal));
    }

    private async Task AddDocumentAsync(
        HttpClient client,
        string name,
        string path,
        string file,
        List<(string, string, HandoverFile)> documents,
        CancellationToken cancellation
    )
    {
        var (status, text) = await GetAsync(client, path, "*/*", cancellation);
        if (status == 200)
            documents.Add((name, wish.IsPageOnly ? wish.Origin + path : file, new HandoverFile(file, text)));
    }

    private async Task<HandoverExample?> ExampleAsync(HttpClient client, string title, string path, CancellationToken cancellation)
    {
        var (status, text) = await GetAsync(client, path, "application/json", cancellation);
        if (status != 200)
            return null;
        var shown = Indented(text);
        return new HandoverExample(title, wish.Origin + path, status, shown.Length <= MostOfAnswer ? shown : shown[..MostOfAnswer] + "\n…");
    }

    private static string Indented(string text)
    {
        try
        {
            using var json = JsonDocument.Parse(text);
            return JsonSerializer.Serialize(
                json,
                new JsonSerializerOptions
                {
                    WriteIndented = true,
                    Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
                }
            );
        }
        catch (JsonException)
        {
            return text;
        }
    }

    private static IEnumerable<EntitySet> Plain(EntityModel model) =>
        model.Sets.Where(s => s is { IsFunction: false, IsAction: false, ContainedIn: null, RequiresFilter: false });

    private async Task<List<HandoverExample>> ODataExamplesAsync(
        HttpClient client,
        EntityModel model,
        string root,
        CancellationToken cancellation
    )
    {
        var examples = new List<HandoverExample>();
        async Task AddAsync(string title, string path)
        {
            if (await ExampleAsync(client, title, path, cancellation) is { } example)
                examples.Add(example);
        }
        foreach (var set in Plain(model))
        {
            var path = root + SampleCall.OData(set);
            var (status, text) = await GetAsync(client, path + "?$top=1", "application/json;odata.metadata=full", cancellation);
            if (status != 200 || FirstRow(text) is not { } row)
                continue;
            await AddAsync($"{set.Name}, five at a time", path + "?$top=5");
            await AddAsync($"How many {set.Name} there are", path + "/$count");
            if (row.TryGetProperty("@odata.id", out var id))
                await AddAsync("One of them", new Uri(new Uri(wish.Origin + root), id.GetString()!).PathAndQuery);
            if (FilterOf(set, row) is { } filter)
                await AddAsync("Those with a value", $"{path}?$filter={Uri.EscapeDataString(filter)}&$top=5");
            break;
        }
        return examples;
    }

    private static JsonElement? FirstRow(string text)
    {
        var rows = JsonDocument.Parse(text).RootElement.GetProperty("value");
        return rows.GetArrayLength() == 0 ? null : rows[0];
    }

    /// <summary>A condition that the row fulfils; null = it has no text to compare.</summary>
    private static string? FilterOf(EntitySet set, JsonElement row)
    {
        foreach (
            var property in set.Type.Properties.Where(p => p is { IsFilterable: true, Type: { Kind: EdmKind.String, IsCollection: false } })
        )
        {
            if (row.TryGetProperty(property.Name, out var value) && value is { ValueKind: JsonValueKind.String })
                return $"{property.Name} eq '{value.GetString()!.Replace("'", "''", StringComparison.Ordinal)}'";
        }
        return null;
    }

    private async Task<List<HandoverExample>> RestExamplesAsync(
        HttpClient client,
        EntityModel model,
        RestPaths paths,
        string root,
        CancellationToken cancellation
    )
    {
        foreach (var set in Plain(model).Where(s => !model.Faces.Rest.Without.Contains(s.Name)))
        {
            var path = root + paths.Of(set.Name) + "?limit=5";
            if (await ExampleAsync(client, $"{set.Name} by plain REST", path, cancellation) is { } example)
                return [example];
        }
        return [];
    }
}
