using RapidGable.UseCases;
using RapidGable.Metadata.OpenApi;
using RapidGable.Service.Identity;
using System.Collections.Immutable;
using System.Text.Json;
using Microsoft.AspNetCore.Http;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Xml;
using RapidGable.Requests;

namespace RapidGable.Service.Faces.Rest;

/// <summary>The documents of a service on the plain REST face: what there is, and what it looks like.</summary>
internal sealed class RestDocuments(SignIn signIn)
{
    public const string OpenApiPath = "openapi.json";
    public const string XsdPath = "schema.xsd";

    /// <summary>Whether the first segment of a path is a document.</summary>
    public static bool Is(string segment) => segment == XsdPath || OpenApi.ContainsKey(segment);

    private static readonly ImmutableDictionary<string, OpenApiForm> OpenApi = new Dictionary<string, OpenApiForm>
    {
        [OpenApiPath] = new(IsOlder: false, IsYaml: false),
        ["openapi.yaml"] = new(IsOlder: false, IsYaml: true),
        ["openapi-3.0.json"] = new(IsOlder: true, IsYaml: false),
        ["openapi-3.0.yaml"] = new(IsOlder: true, IsYaml: true),
    }.ToImmutableDictionary();

    /// <summary>What answers with a document; null = the path is none.</summary>
    public Func<RestExchange, RequestAddress, Task<RequestFault?>>? Find(RequestAddress address) =>
        address.Segments switch
        {
            [] => ListAsync,
            [{ Text: XsdPath }] => XsdAsync,
            [{ Text: var name }] when OpenApi.TryGetValue(name, out var form) => (e, a) => OpenApiAsync(e, a, form),
            _ => null,
        };

    /// <summary>The sets that a caller may know of, with their addresses.</summary>
    private Task<RequestFault?> ListAsync(RestExchange exchange, RequestAddress address)
    {
        var model = exchange.Service.ModelFor(exchange.Caller);
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream, new JsonWriterOptions { Encoder = JsonText.Encoder }))
        {
            json.WriteStartObject();
            json.WriteString("name", model.Service);
            json.WriteString("title", model.Title);
            json.WriteString("openapi", exchange.Root + OpenApiPath);
            json.WriteStartArray("collections");
            foreach (var set in model.Sets.Where(s => s.ContainedIn is null))
                Write(json, exchange, set);
            json.WriteEndArray();
            json.WriteEndObject();
        }
        exchange.Response.Headers.Append(
            "Link",
            $"<{exchange.Root}{OpenApiPath}>; rel=\"service-desc\"; type=\"application/vnd.oai.openapi+json\""
        );
        return SendAsync(exchange, address, "application/json", stream.ToArray());
    }

    private static void Write(Utf8JsonWriter json, RestExchange exchange, EntitySet set)
    {
        json.WriteStartObject();
        json.WriteString("name", set.Name);
        json.WriteString("url", exchange.Root + exchange.Paths.Of(set.Name));
        if (set.Description is { } text)
            json.WriteString("description", text);
        json.WriteStartArray("key");
        foreach (var part in set.Type.Key)
            json.WriteStringValue(part.Name);
        json.WriteEndArray();
        json.WriteStartArray("operations");
        foreach (var word in Grant.Words(set.Operations).Split(", ", StringSplitOptions.RemoveEmptyEntries))
            json.WriteStringValue(word);
        json.WriteEndArray();
        json.WriteEndObject();
    }

    private Task<RequestFault?> XsdAsync(RestExchange exchange, RequestAddress address) =>
        SendAsync(exchange, address, "application/xml", RowsXsd.Write(exchange.Service.ModelFor(exchange.Caller)));

    private async Task<RequestFault?> OpenApiAsync(RestExchange exchange, RequestAddress address, OpenApiForm form)
    {
        var facts = DescribeService.Of(exchange.Service, exchange.Caller, exchange.Root, signIn.Described);
        var content = await RestOpenApi.WriteAsync(facts, form, exchange.Cancellation);
        return await SendAsync(exchange, address, form.IsYaml ? "application/yaml" : "application/json", content);
    }

    /// <summary>Sends a document with a tag of its bytes.</summary>
    private static async Task<RequestFault?> SendAsync(RestExchange exchange, RequestAddress address, string contentType, byte[] content)
    {
        if (address.Options.FirstOrDefault() is { } option)
            return new RequestFault(400, "parameter-not-here", $"'{option.Name}' cannot be used with this document.", option.Name);
        var (isSame, wrong) = Validators.Check(exchange.Context, Validators.Of(content));
        if (wrong is not null)
            return wrong;
        if (isSame)
            exchange.Response.StatusCode = StatusCodes.Status304NotModified;
        else
            await Bodies.SendAsync(exchange.Context, contentType, content);
        return null;
    }
}
