using System.Collections.Frozen;
using System.Globalization;
using Microsoft.OpenApi;
using RapidGable.Model;

namespace RapidGable.Metadata.OpenApi;

/// <summary>What the descriptions of all faces have in common.</summary>
internal static class OpenApiParts
{
    /// <summary>What headers of answers say.</summary>
    public static IReadOnlyDictionary<string, string> HeaderTexts { get; } =
        new Dictionary<string, string>
        {
            ["ETag"] = "The state of the representation (RFC 9110).",
            ["Link"] = "Where the list goes on, and how it is described (RFC 8288).",
            ["Total-Count"] = "The number of all rows, when 'total' asks for it.",
            ["Cache-Control"] = "How long the answer may be kept (RFC 9111).",
            ["Location"] = "The address of what was created.",
            ["Preference-Applied"] = "The preferences that were met (RFC 7240).",
        }.ToFrozenDictionary();

    private static readonly (int Status, string Text)[] Statuses =
    [
        (400, "The request cannot be understood."),
        (401, "Sign in first, or otherwise."),
        (403, "What is asked for is there, and not open to the caller."),
        (404, "There is no such row."),
        (406, "None of the formats that the request accepts."),
        (409, "The state of the row does not allow it, or another row has these values."),
        (410, "The order has changed since the link was made; read from the start."),
        (412, "The row is in another state than the request says."),
        (415, "The body is of a type that is not taken here."),
        (422, "What is in the body is not allowed; each thing stands in 'errors'."),
        (428, "Say with If-Match which state of the row it is about."),
        (429, "Too many requests; try again later."),
        (503, "A database does not answer, or too much is going on; try again later."),
    ];

    /// <summary>Title, server, tags and ways to sign in.</summary>
    public static void Describe(OpenApiDocument document, OpenApiFacts facts, string description)
    {
        document.Info = new OpenApiInfo
        {
            Title = facts.Model.Title,
            // What its owner counts, else what changes with each revision.
            Version = facts.Model.About.Version ?? facts.Revision,
            Description = string.Join(
                "\n\n",
                new[] { facts.Model.About.Description, description, facts.Model.Deprecation?.Sentence }.OfType<string>()
            ),
            TermsOfService = facts.Model.About.Terms is { } terms ? new Uri(terms) : null,
            License = facts.Model.About.Licence is { } licence ? LicenceOf(licence) : null,
            Contact = ContactOf(facts.Model.About),
        };
        document.Servers = [new OpenApiServer { Url = facts.Root.TrimEnd('/') }];
        document.Components = new OpenApiComponents();
        document.Tags = facts
            .Sets.Where(s => s.Set.ContainedIn is null)
            .Select(s =>
                s.Set.Group is { } group
                    ? new OpenApiTag { Name = group.Title, Description = group.Description }
                    : new OpenApiTag { Name = s.Set.Name, Description = s.Set.Description ?? s.Set.Type.Description }
            )
            .DistinctBy(t => t.Name)
            .ToHashSet();
        if (!facts.SignIn.IsEmpty)
        {
            document.Components.SecuritySchemes = facts.SignIn.ToDictionary(NameOf, s => (IOpenApiSecurityScheme)SchemeOf(s));
            document.Security = Security(document, facts, isOpen: true);
        }
    }

    /// <summary>A licence by its SPDX identifier or its address; one that has neither by its name.</summary>
    private static OpenApiLicense LicenceOf(string licence) =>
        new()
        {
            Name = licence,
            Identifier = licence.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '.' or '+') ? licence : null,
            Url = licence.Contains("://", StringComparison.Ordinal) && Uri.TryCreate(licence, UriKind.Absolute, out var url) ? url : null,
        };

    private static OpenApiContact? ContactOf(ServiceAbout about) =>
        about.Owner is null && about.Contact is null
            ? null
            : new OpenApiContact
            {
                Name = about.Owner,
                Email = about.Contact is { } email && email.Contains('@') && !email.Contains("://") ? email : null,
                Url = about.Contact is { } url && url.Contains("://") ? new Uri(url) : null,
            };

    /// <summary>The ways to sign in, of which one is enough.</summary>
    /// <param name="isOpen">Nobody needs to sign in.</param>
    public static List<OpenApiSecurityRequirement> Security(OpenApiDocument document, OpenApiFacts facts, bool isOpen) =>
        [
            .. facts.SignIn.Select(s => new OpenApiSecurityRequirement { [new OpenApiSecuritySchemeReference(NameOf(s), document)] = [] }),
            .. isOpen ? [new OpenApiSecurityRequirement()] : Array.Empty<OpenApiSecurityRequirement>(),
        ];

    /// <summary>The answers that say what is wrong, by their names among the components.</summary>
    /// <param name="mediaType">Of their bodies.</param>
    public static Dictionary<string, IOpenApiResponse> Problems(OpenApiDocument document, string mediaType)
    {
        OpenApiResponse Of(string text, int status) =>
            new()
            {
                Description = text,
                Content = new Dictionary<string, IOpenApiMediaType>
                {
                    [mediaType] = new OpenApiMediaType { Schema = new OpenApiSchemaReference("Problem", document) },
                },
                Headers = HeadersOf(status),
            };
        var problems = Statuses.ToDictionary(s => NameOf(s.Status), s => (IOpenApiResponse)Of(s.Text, s.Status));
        problems["Problem"] = Of("Anything else that is wrong.", 0);
        return problems;
    }

    private static Dictionary<string, IOpenApiHeader>? HeadersOf(int status)
    {
        var (name, text, type) =
            status == 401 ? ("WWW-Authenticate", "The ways to sign in.", JsonSchemaType.String)
            : status is 429 or 503 ? ("Retry-After", "Seconds to wait.", JsonSchemaType.Integer)
            : (null, null, default);
        return name is null
            ? null
            : new Dictionary<string, IOpenApiHeader>
            {
                [name] = new OpenApiHeader
                {
                    Description = text,
                    Schema = new OpenApiSchema { Type = type },
                },
            };
    }

    /// <summary>One of <see cref="Problems"/>.</summary>
    public static OpenApiResponseReference Refused(OpenApiDocument document, int status) => new(NameOf(status), document);

    /// <summary>Puts the answers of each operation in the order of their statuses.</summary>
    public static void SortResponses(OpenApiDocument document)
    {
        foreach (var operation in document.Paths.Values.SelectMany(p => p.Operations!.Values))
        {
            var sorted = new OpenApiResponses();
            foreach (var (status, response) in operation.Responses!.OrderBy(r => r.Key, StringComparer.Ordinal))
                sorted[status] = response;
            operation.Responses = sorted;
        }
    }

    /// <summary>Problem details (RFC 9457) with what this service adds.</summary>
    public static OpenApiSchema Problem()
    {
        static OpenApiSchema Text(string? description = null, string? format = null) =>
            new()
            {
                Type = JsonSchemaType.String,
                Description = description,
                Format = format,
            };
        var error = OpenApiSchemas.Object([
            ("detail", Text()),
            ("code", Text()),
            ("pointer", Text("Where in the body, as a JSON pointer in a fragment.", "json-pointer-uri-fragment")),
        ]);
        error.Required = new HashSet<string> { "detail", "code", "pointer" };
        var schema = OpenApiSchemas.Object([
            ("type", Text("The kind of problem, which does not change.", "uri-reference")),
            ("title", Text()),
            ("status", new OpenApiSchema { Type = JsonSchemaType.Integer, Format = "int32" }),
            ("detail", Text("For people.")),
            ("code", Text("The last part of 'type'.")),
            ("parameter", Text("The parameter or header that it is about.")),
            ("position", new OpenApiSchema { Type = JsonSchemaType.Integer, Format = "int32" }),
            ("excerpt", Text("The text at fault with a caret below.")),
            ("errors", new OpenApiSchema { Type = JsonSchemaType.Array, Items = error }),
        ]);
        schema.Required = new HashSet<string> { "type", "title", "status", "detail", "code" };
        return schema;
    }

    private static string NameOf(int status) => "Problem" + status.ToString(CultureInfo.InvariantCulture);

    private static string NameOf(OpenApiSignIn way) =>
        way switch
        {
            OpenApiSignIn.Basic => "basic",
            OpenApiSignIn.ApiKey => "key",
            OpenApiSignIn.Token => "token",
            _ => "certificate",
        };

    private static OpenApiSecurityScheme SchemeOf(OpenApiSignIn way) =>
        way switch
        {
            OpenApiSignIn.Basic => new OpenApiSecurityScheme { Type = SecuritySchemeType.Http, Scheme = "basic" },
            OpenApiSignIn.ApiKey => new OpenApiSecurityScheme
            {
                Type = SecuritySchemeType.Http,
                Scheme = "bearer",
                Description = "A key of this service.",
            },
            OpenApiSignIn.Token => new OpenApiSecurityScheme
            {
                Type = SecuritySchemeType.Http,
                Scheme = "bearer",
                BearerFormat = "JWT",
            },
            // OpenAPI 3.0 has no type for client certificates.
            _ => new OpenApiSecurityScheme
            {
                Type = SecuritySchemeType.ApiKey,
                In = ParameterLocation.Header,
                Name = "X-Client-Certificate",
                Description = "A client certificate of the connection; the header is not read.",
            },
        };
}
