using System.Collections.Immutable;
using Microsoft.AspNetCore.Http;
using RapidGable.Expressions;
using RapidGable.Metadata.OpenApi;
using RapidGable.Service.Identity;
using RapidGable.Service.Publishing;
using RapidGable.UseCases;

namespace RapidGable.Service.Faces;

/// <summary>The OpenAPI documents of a face: what the caller may do there.</summary>
internal sealed class OpenApiDescriptions(SignIn signIn, ServiceRegistry registry)
{
    /// <summary>The media type of the description of an interface by OpenAPI.</summary>
    public const string MediaType = "application/vnd.oai.openapi+json";

    private static readonly ImmutableDictionary<string, OpenApiForm> Forms = new Dictionary<string, OpenApiForm>
    {
        ["openapi.json"] = new(IsOlder: false, IsYaml: false),
        ["openapi.yaml"] = new(IsOlder: false, IsYaml: true),
        ["openapi-3.0.json"] = new(IsOlder: true, IsYaml: false),
        ["openapi-3.0.yaml"] = new(IsOlder: true, IsYaml: true),
    }.ToImmutableDictionary();

    /// <summary>The form of a document by its name; null = there is none of that name.</summary>
    public static OpenApiForm? Form(string name) => Forms.GetValueOrDefault(name);

    /// <summary>Sends a description with a tag of its bytes.</summary>
    public async Task<RequestFault?> SendAsync(
        Exchange exchange,
        OpenApiForm form,
        Func<OpenApiFacts, OpenApiForm, CancellationToken, Task<byte[]>> write
    )
    {
        var facts = DescribeService.Of(exchange.Service, exchange.Caller, exchange.Root, signIn.Described) with
        {
            Examples =
            [
                .. registry.Workspace.Declaration.Examples.Select(e => new KeptAnswerExample(
                    e.Request.Name,
                    e.Request.Title.Length > 0 ? e.Request.Title : e.Request.Name,
                    e.Request.Method,
                    e.Request.Path,
                    e.Body,
                    e.IsMadeUp || e.As == NamedCaller.Anonymous
                )),
            ],
        };
        return await SendAsync(
            exchange,
            form.IsYaml ? "application/yaml" : "application/json",
            await write(facts, form, exchange.Cancellation)
        );
    }

    /// <summary>Sends a document with a tag of its bytes, or 304.</summary>
    public static async Task<RequestFault?> SendAsync(Exchange exchange, string contentType, byte[] content)
    {
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
