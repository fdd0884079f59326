using System.Globalization;
using System.Text.Json.Nodes;
using Microsoft.OpenApi;
using RapidGable.Model;
using RapidGable.Payloads.Plain;
using RapidGable.Requests.Rest;
using RapidGable.Requests.Statements;
using JsonValue = System.Text.Json.Nodes.JsonValue;

namespace RapidGable.Metadata.OpenApi;

/// <summary>The operations of the plain REST face: their parameters, bodies and answers.</summary>
internal sealed class RestOperations(OpenApiFacts facts, OpenApiSchemas schemas, OpenApiDocument document)
{
    private const string Json = "application/json";

    private const string JsonLines = "application/x-ndjson";
    private const string Csv = "text/csv";
    private const string Xml = "application/xml";
    private const string Workbook = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet";

    private readonly HashSet<string> _ids = [];

    public OpenApiOperation Documents()
    {
        var operation = new OpenApiOperation
        {
            OperationId = Unique("describe"),
            Summary = "The collections of the service.",
            Responses = new OpenApiResponses
            {
                ["200"] = new OpenApiResponse
                {
                    Description = "Name, title and collections.",
                    Content = new Dictionary<string, IOpenApiMediaType>
                    {
                        [Json] = new OpenApiMediaType { Schema = new OpenApiSchema { Type = JsonSchemaType.Object } },
                    },
                    Headers = Headers("ETag"),
                },
                ["304"] = new OpenApiResponse { Description = "The caller has it already." },
            },
        };
        AddProblems(operation, 400);
        return operation;
    }

    private OpenApiOperation Operation(OpenApiSet set, SetOperations what, string id, string summary)
    {
        var operation = new OpenApiOperation
        {
            OperationId = Unique(id),
            Summary = summary,
            Deprecated = set.Set.Deprecation is not null || facts.Model.Deprecation is not null,
            Description = set.Set.Deprecation?.Sentence,
            Tags = new HashSet<OpenApiTagReference> { new(TagOf(set), document) },
            Responses = [],
        };
        if (!set.Anyone.HasFlag(what))
            operation.Security = OpenApiParts.Security(document, facts, isOpen: false);
        if (!facts.SignIn.IsEmpty)
            operation.Responses["401"] = OpenApiParts.Refused(document, 401);
        return operation;
    }

    /// <summary>What is said of a query; of a set its type says it.</summary>
    private static string? DescriptionOf(OpenApiSet set) => set.Set.Description ?? (set.Set.IsQuery ? set.Set.Type.Description : null);

    private string TagOf(OpenApiSet set) => set.Set.ContainedIn ?? set.Set.Group?.Title ?? set.Set.Name;

    public OpenApiOperation List(OpenApiSet set, string name, List<OpenApiParameter> key)
    {
        var operation = Operation(set, SetOperations.Read, "list" + name, DescriptionOf(set) ?? $"Rows of {set.Set.Name}, page by page.");
        var parameters = RestParameters.All.Where(p => p != RestParameters.Search || set.Set.IsSearchable);
        // What a procedure gives comes as it is.
        operation.Parameters = set.Set.Call is null
            ? [.. key, .. parameters.Select(ParameterOf), .. RestParameterParts.Matches(set.Set)]
            : [.. key, ParameterOf(RestParameters.Fields), ParameterOf(RestParameters.Limit), ParameterOf(RestParameters.Format)];
        operation.Responses!["200"] = Rows(set.Set.Type.Name + "List", "A page.", "Link", "Total-Count", "Cache-Control", "ETag");
        if (set.Set.Call is null)
            operation.Responses["304"] = new OpenApiResponse { Description = "The caller has the page already." };
        AddProblems(
            operation,
            set.Set.Call is not null ? [400, 406]
                : key.Count > 0 && !set.Set.IsQuery ? [400, 404, 406, 410]
                : [400, 406, 410]
        );
        AddUnknownCaller(operation, set);
        return operation;
    }

    public OpenApiOperation Get(OpenApiSet set, string name, List<OpenApiParameter> key, bool hasKey)
    {
        var operation = Operation(
            set,
            SetOperations.Read,
            "get" + name,
            hasKey ? $"A row of {set.Set.Name} by its key."
                : set.Set.IsQuery ? DescriptionOf(set) ?? $"The row of {set.Set.Name}."
                : $"The related row of {set.Set.Name}."
        );
        operation.Parameters = [.. key, .. RestParameters.OfAnswers.Select(ParameterOf)];
        operation.Responses!["200"] = Rows(set.Set.Type.Name, "The row.", "ETag", "Cache-Control");
        operation.Responses["304"] = new OpenApiResponse { Description = "The caller has the row already." };
        AddProblems(operation, 400, 404, 406);
        AddUnknownCaller(operation, set);
        return operation;
    }

    /// <summary>The call of an action.</summary>
    /// <param name="inPath">The parameters of its path.</param>
    public OpenApiOperation Call(OpenApiSet set, string name, List<OpenApiParameter> inPath, bool hasBody)
    {
        var (action, text) = (set.Set, DescriptionOf(set) ?? $"Calls {set.Set.Name}.");
        var operation = Operation(set, SetOperations.Call, "call" + name, text);
        operation.Parameters =
        [
            .. inPath,
            .. action.GivesRows ? [ParameterOf(RestParameters.Format)] : Array.Empty<IOpenApiParameter>(),
            RestParameterParts.IdempotencyKey(),
            RestParameterParts.Prefer(),
        ];
        if (hasBody)
        {
            var body = Body((Json, Reference(action.Name + "Arguments")));
            body.Required = action.Parameters.Any(p => p.IsRequired);
            operation.RequestBody = body;
        }
        if (action.GivesRows)
            operation.Responses!["200"] = Rows(
                action.Gives == QueryResult.Rows ? action.Type.Name + "List" : action.Type.Name,
                "What it gives.",
                "Preference-Applied"
            );
        if (action.Gives != QueryResult.Rows)
            operation.Responses!["204"] = new OpenApiResponse { Description = "It is done, and gives nothing." };
        AddProblems(operation, hasBody ? [400, 406, 409, 415, 422] : [400, 406, 409, 422]);
        AddUnknownCaller(operation, set);
        return operation;
    }

    /// <summary>A statement over the sets.</summary>
    public OpenApiOperation Statement()
    {
        var example = facts.Sets.FirstOrDefault(s => s.May(SetOperations.Read) && StatementBinder.Reads(s.Set))?.Set.Name;
        var operation = new OpenApiOperation
        {
            OperationId = Unique("sendStatement"),
            Summary = "Runs a SELECT over the sets that you see, with their names and those of their properties.",
            Parameters = [ParameterOf(RestParameters.Format)],
            RequestBody = new OpenApiRequestBody
            {
                Required = true,
                Content = new Dictionary<string, IOpenApiMediaType>
                {
                    [Json] = new OpenApiMediaType
                    {
                        Schema = Reference(RestRowSchemas.Statement),
                        Example = example is null ? null : new JsonObject { ["statement"] = $"SELECT * FROM \"{example}\" LIMIT 5" },
                    },
                    [SentStatement.MediaType] = TextContent(),
                },
            },
            Responses = new OpenApiResponses { ["200"] = Rows(RestRowSchemas.StatementRows, "The columns of the result, and its rows.") },
        };
        if (!facts.TakesSqlOfAnyone)
            operation.Security = OpenApiParts.Security(document, facts, isOpen: false);
        if (!facts.SignIn.IsEmpty)
            operation.Responses["401"] = OpenApiParts.Refused(document, 401);
        AddProblems(operation, 400, 406, 415);
        return operation;
    }

    public OpenApiOperation Create(OpenApiSet set, string name, List<OpenApiParameter> key)
    {
        var type = set.Set.Type.Name;
        var operation = Operation(set, SetOperations.Create, "create" + name, $"Creates a row of {set.Set.Name}, or several as a whole.");
        operation.Parameters = [.. key, .. Answer(), RestParameterParts.IdempotencyKey(), RestParameterParts.Prefer()];
        var one = Reference(type + "Create");
        operation.RequestBody = Body(
            (Json, new OpenApiSchema { OneOf = [one, new OpenApiSchema { Type = JsonSchemaType.Array, Items = one }] }),
            (JsonLines, OpenApiSchemas.Text()),
            (Csv, OpenApiSchemas.Text())
        );
        var created = set.May(SetOperations.Read) ? new OpenApiSchema { OneOf = [Reference(type), Reference(type + "List")] } : null;
        operation.Responses!["201"] = Written(created, "It is created; of several, all are.", "Location", "ETag", "Preference-Applied");
        AddProblems(operation, key.Count > 0 ? [400, 404, 406, 415, 422] : [400, 406, 415, 422]);
        AddForbidden(operation, set, SetOperations.Create);
        return operation;
    }

    public OpenApiOperation Replace(OpenApiSet set, string name, List<OpenApiParameter> key)
    {
        var operation = Change(set, "replace" + name, $"Replaces a row of {set.Set.Name}: what is not sent gets its default.", key);
        operation.RequestBody = Body((Json, Reference(set.Set.Type.Name + "Replace")));
        if (set.MayUpsert)
            operation.Responses!["201"] = Written(RowOf(set), "It was not there, and is created.", "Location");
        // A key that is not there makes a new row, unless what the row is part of is missing.
        var isAlwaysThere = set.MayUpsert && set.Set.ContainedIn is null;
        AddChangeProblems(operation, set, isAlwaysThere ? [400, 406, 412, 415, 422] : [400, 404, 406, 412, 415, 422]);
        return operation;
    }

    public OpenApiOperation Update(OpenApiSet set, string name, List<OpenApiParameter> key)
    {
        var operation = Change(set, "update" + name, $"Changes a row of {set.Set.Name}: what is not sent stays as it is.", key);
        operation.RequestBody = Body(
            (PlainBody.MergePatch, Reference(set.Set.Type.Name + "Update")),
            (Json, Reference(set.Set.Type.Name + "Update")),
            (PlainBody.JsonPatchType, Operations())
        );
        AddChangeProblems(
            operation,
            set,
            set.May(SetOperations.Read) ? [400, 404, 406, 409, 412, 415, 422] : [400, 404, 406, 412, 415, 422]
        );
        return operation;
    }

    private OpenApiOperation Change(OpenApiSet set, string id, string summary, List<OpenApiParameter> key)
    {
        var operation = Operation(set, SetOperations.Update, id, summary);
        operation.Parameters =
        [
            .. key,
            .. Answer(),
            RestParameterParts.IfMatch(set),
            RestParameterParts.IdempotencyKey(),
            RestParameterParts.Prefer(),
        ];
        operation.Responses!["200"] = Written(RowOf(set), "It is changed.", "ETag", "Preference-Applied");
        operation.Responses["204"] = new OpenApiResponse { Description = "It is changed, and nothing of it is told." };
        return operation;
    }

    private IOpenApiSchema? RowOf(OpenApiSet set) => set.May(SetOperations.Read) ? Reference(set.Set.Type.Name) : null;

    public OpenApiOperation Delete(OpenApiSet set, string name, List<OpenApiParameter> key)
    {
        var operation = Operation(set, SetOperations.Delete, "delete" + name, $"Deletes a row of {set.Set.Name}.");
        operation.Parameters = [.. key, RestParameterParts.IfMatch(set), RestParameterParts.IdempotencyKey()];
        operation.Responses!["204"] = new OpenApiResponse { Description = "It is gone." };
        AddChangeProblems(operation, set, 404, 412);
        return operation;
    }

    private static OpenApiSchema Operations() =>
        new()
        {
            Type = JsonSchemaType.Array,
            Items = new OpenApiSchema
            {
                Type = JsonSchemaType.Object,
                Required = new HashSet<string> { "op", "path" },
                Properties = new Dictionary<string, IOpenApiSchema>
                {
                    ["op"] = new OpenApiSchema
                    {
                        Type = JsonSchemaType.String,
                        Enum = [.. new[] { "add", "remove", "replace", "move", "copy", "test" }.Select(o => (JsonNode)JsonValue.Create(o))],
                    },
                    ["path"] = new OpenApiSchema { Type = JsonSchemaType.String },
                    ["from"] = new OpenApiSchema { Type = JsonSchemaType.String },
                    ["value"] = new OpenApiSchema(),
                },
            },
        };

    private static string MediaTypeOf(Property stream) => stream.MediaType ?? "application/octet-stream";

    public OpenApiOperation Content(OpenApiSet set, Property stream, string id, List<OpenApiParameter> key)
    {
        var operation = Operation(set, SetOperations.Read, id, stream.Description ?? $"The content of {stream.Name}.");
        operation.Parameters = [.. key];
        var content = new Dictionary<string, IOpenApiMediaType>
        {
            [stream.MediaTypeColumn is null ? MediaTypeOf(stream) : "*/*"] = new OpenApiMediaType { Schema = schemas.Bytes() },
        };
        operation.Responses!["200"] = new OpenApiResponse
        {
            Description = "The content.",
            Content = content,
            Headers = Headers("ETag"),
        };
        operation.Responses["206"] = new OpenApiResponse { Description = "The range that was asked for.", Content = content };
        operation.Responses["304"] = new OpenApiResponse { Description = "The caller has the content already." };
        operation.Responses["416"] = new OpenApiResponse { Description = "The content has no such range." };
        AddProblems(operation, 400, 404);
        return operation;
    }

    public OpenApiOperation NewContent(OpenApiSet set, Property stream, string id, List<OpenApiParameter> key)
    {
        var operation = Operation(set, SetOperations.Update, id, $"Replaces the content of {stream.Name}.");
        operation.Parameters = [.. key, RestParameterParts.IfMatch(set), RestParameterParts.IdempotencyKey()];
        operation.RequestBody = Body((stream.MediaTypeColumn is null ? MediaTypeOf(stream) : "*/*", schemas.Bytes()));
        operation.Responses!["204"] = new OpenApiResponse { Description = "It is replaced." };
        AddChangeProblems(operation, set, stream.MediaTypeColumn is null ? [404, 412, 415] : [404, 412]);
        return operation;
    }

    public OpenApiOperation NoContent(OpenApiSet set, Property stream, string id, List<OpenApiParameter> key)
    {
        var operation = Operation(set, SetOperations.Update, id, $"Takes the content of {stream.Name} away.");
        operation.Parameters = [.. key, RestParameterParts.IfMatch(set), RestParameterParts.IdempotencyKey()];
        operation.Responses!["204"] = new OpenApiResponse { Description = "It is gone." };
        AddChangeProblems(operation, set, 404, 412);
        return operation;
    }

    private IEnumerable<IOpenApiParameter> Answer() => [ParameterOf(RestParameters.Fields), ParameterOf(RestParameters.Include)];

    private IOpenApiParameter ParameterOf(string name) => new OpenApiParameterReference(name, document);

    private OpenApiSchemaReference Reference(string schema) => new(schema, document);

    private static OpenApiRequestBody Body(params (string Type, IOpenApiSchema? Schema)[] forms) =>
        new()
        {
            Required = true,
            Content = forms.ToDictionary(f => f.Type, f => (IOpenApiMediaType)new OpenApiMediaType { Schema = f.Schema }),
        };

    private OpenApiResponse Rows(string schema, string description, params string[] headers)
    {
        var content = new Dictionary<string, IOpenApiMediaType> { [Json] = new OpenApiMediaType { Schema = Reference(schema) } };
        foreach (var format in new[] { JsonLines, Csv, Xml })
            content[format] = TextContent();
        content[Workbook] = new OpenApiMediaType { Schema = schemas.Bytes() };
        return new OpenApiResponse
        {
            Description = description,
            Content = content,
            Headers = Headers(headers),
        };
    }

    private static OpenApiMediaType TextContent() => new() { Schema = OpenApiSchemas.Text() };

    private static OpenApiResponse Written(IOpenApiSchema? schema, string description, params string[] headers) =>
        new()
        {
            Description = description,
            Content = schema is null
                ? null
                : new Dictionary<string, IOpenApiMediaType> { [Json] = new OpenApiMediaType { Schema = schema } },
            Headers = Headers(headers),
        };

    private static Dictionary<string, IOpenApiHeader> Headers(params string[] names) =>
        names.ToDictionary(
            n => n,
            n =>
                (IOpenApiHeader)
                    new OpenApiHeader
                    {
                        Description = OpenApiParts.HeaderTexts[n],
                        Schema = new OpenApiSchema { Type = n == "Total-Count" ? JsonSchemaType.Integer : JsonSchemaType.String },
                    }
        );

    private void AddProblems(OpenApiOperation operation, params int[] statuses)
    {
        foreach (var status in statuses.Append(429).Append(503))
            operation.Responses![status.ToString(CultureInfo.InvariantCulture)] = OpenApiParts.Refused(document, status);
        operation.Responses!["default"] = new OpenApiResponseReference("Problem", document);
    }

    private void AddChangeProblems(OpenApiOperation operation, OpenApiSet set, params int[] statuses)
    {
        AddProblems(operation, set.Set.RequiresVersion ? [.. statuses, 428] : statuses);
        AddForbidden(operation, set, SetOperations.Update);
    }

    /// <summary>Rules of rows and columns let a caller do something with some of what they see.</summary>
    private void AddForbidden(OpenApiOperation operation, OpenApiSet set, SetOperations what)
    {
        if (set.Limited.HasFlag(what))
            operation.Responses!["403"] = OpenApiParts.Refused(document, 403);
    }

    /// <summary>A query that takes values from the caller is closed to those of whom they are not known.</summary>
    private void AddUnknownCaller(OpenApiOperation operation, OpenApiSet set)
    {
        if (set.Set.TakesFromCaller)
            operation.Responses!["403"] = OpenApiParts.Refused(document, 403);
    }

    private string Unique(string id)
    {
        var unique = id;
        for (var number = 2; !_ids.Add(unique); number++)
            unique = id + number.ToString(CultureInfo.InvariantCulture);
        return unique;
    }
}
