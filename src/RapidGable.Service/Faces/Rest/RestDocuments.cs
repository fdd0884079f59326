using System.Text.Json;
using Microsoft.AspNetCore.Http;
using RapidGable.Expressions;
using RapidGable.Metadata.OpenApi;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Xml;
using RapidGable.Requests;

namespace RapidGable.Service.Faces.Rest;

/// <summary>The documents of a service on the plain REST face: what there is, and what it looks like.</summary>
internal sealed class RestDocuments(OpenApiDescriptions descriptions)
{
    public const string OpenApiPath = "openapi.json";
    public const string XsdPath = "schema.xsd";

    /// <summary>Whether the first segment of a path is a document.</summary>
    public static bool Is(string segment) => segment == XsdPath || OpenApiDescriptions.Form(segment) is not null;

    /// <summary>What answers with a document; null = the path is none.</summary>
    public Func<RestExchange, RequestAddress, Task<RequestFault?>>? Find(RequestAddress address) =>
        address.Segments switch
        {
            [] => ListAsync,
            [{ Text: XsdPath }] => XsdAsync,
            [{ Text: var name }] when OpenApiDescriptions.Form(name) is { } form => (e, a) =>
                Misplaced(a) is { } wrong ? Task.FromResult<RequestFault?>(wrong) : descriptions.SendAsync(e, form, RestOpenApi.WriteAsync),
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

    private static Task<RequestFault?> SendAsync(RestExchange exchange, RequestAddress address, string contentType, byte[] content) =>
        Misplaced(address) is { } wrong
            ? Task.FromResult<RequestFault?>(wrong)
            : OpenApiDescriptions.SendAsync(exchange, contentType, content);

    private static RequestFault? Misplaced(RequestAddress address) =>
        address.Options.FirstOrDefault() is { } option
            ? new RequestFault(400, "parameter-not-here", $"'{option.Name}' cannot be used with this document.", option.Name)
            : null;
}
