using System.Collections.Immutable;
using System.Globalization;
using System.Text.Json.Nodes;
using Microsoft.OpenApi;
using RapidGable.Model;
using RapidGable.Payloads.Plain;
using RapidGable.Requests.Rest;
using JsonValue = System.Text.Json.Nodes.JsonValue;

namespace RapidGable.Metadata.OpenApi;

/// <summary>Describes a service on the plain REST face, as one caller may use it.</summary>
public sealed class RestOpenApi
{
    private const string Json = "application/json";

    private const string JsonLines = "application/x-ndjson";
    private const string Csv = "text/csv";
    private const string Xml = "application/xml";
    private const string Workbook = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet";

    private readonly OpenApiFacts _facts;
    private readonly OpenApiSchemas _schemas;
    private readonly OpenApiDocument _document = new();
    private readonly RestPaths _paths;
    private readonly HashSet<string> _operations = ["describe"];

    private RestOpenApi(OpenApiFacts facts, bool isOlder)
    {
        _facts = facts;
        _schemas = new OpenApiSchemas(isOlder);
        _paths = new RestPaths(facts.Model);
    }

    private RestShape Shape => _facts.Model.Faces.Rest;

    /// <summary>The description in one of its forms, in UTF-8.</summary>
    public static async Task<byte[]> WriteAsync(OpenApiFacts facts, OpenApiForm form, CancellationToken cancellation)
    {
        var document = new RestOpenApi(facts, form.IsOlder).Build();
        return await OpenApiText.WriteAsync(document, form, cancellation);
    }

    private OpenApiDocument Build()
    {
        OpenApiParts.Describe(_document, _facts, "Rows as JSON, JSON Lines, CSV, XML and XLSX.");
        _document.Components!.Schemas = new Dictionary<string, IOpenApiSchema> { ["Problem"] = OpenApiParts.Problem() };
        _document.Components.Responses = OpenApiParts.Problems(_document, ProblemWriter.MediaType);
        _document.Components.Parameters = Parameters();
        foreach (var set in _facts.Sets)
            AddSchemas(set);
        _document.Paths = [];
        _document.Paths["/"] = Item(HttpMethod.Get, Documents());
        foreach (var set in _facts.Sets.Where(s => s.Set.ContainedIn is null))
            AddSet(set);
        OpenApiParts.SortResponses(_document);
        return _document;
    }

    private static OpenApiPathItem Item(HttpMethod method, OpenApiOperation operation)
    {
        var item = new OpenApiPathItem();
        item.AddOperation(method, operation);
        return item;
    }

    // Schemas.

    private void AddSchemas(OpenApiSet set)
    {
        var (type, schemas) = (set.Set.Type.Name, _document.Components!.Schemas!);
        if (set.May(SetOperations.Read))
        {
            schemas[type] = Row(set);
            schemas[type + "List"] = List(type);
        }
        if (!set.Create.IsEmpty)
            schemas[type + "Create"] = New(set);
        if (!set.Update.IsEmpty)
        {
            schemas[type + "Replace"] = Sent(set.Update, allOptional: false, $"All of a {type} that may change.");
            schemas[type + "Update"] = Sent(set.Update, allOptional: true, $"What changes of a {type}; null takes a value away.");
        }
    }

    private OpenApiSchema Row(OpenApiSet set)
    {
        var type = set.Set.Type;
        var own = type.Properties.Where(p => p.Type.Kind != EdmKind.Stream).ToList();
        var schema = OpenApiSchemas.Object(
            own.Concat(type.Derived.SelectMany(d => d.Properties).Where(p => p.Type.Kind != EdmKind.Stream))
                .Select(p => (p.Name, (IOpenApiSchema)_schemas.Of(p, isWritten: false)))
                .Concat(type.Navigations.Select(n => (n.Name, Related(n))))
        );
        schema.Description = type.Description ?? set.Set.Description;
        // With 'fields' a row holds what was chosen; without it, all of these.
        schema.Required = own.Select(p => p.Name).ToHashSet();
        if (ExampleValues.Of(own) is { } example)
            SetExample(schema, example);
        return schema;
    }

    /// <summary>Related rows, which stand in a row only when 'include' names them.</summary>
    private IOpenApiSchema Related(NavigationProperty navigation)
    {
        var type = _facts.Model.Target(navigation).Type.Name;
        return navigation.IsCollection ? Reference(type + "List")
            : navigation.Nullable ? _schemas.Nullable(Reference(type))
            : Reference(type);
    }

    private OpenApiSchema List(string type)
    {
        var rows = new OpenApiSchema { Type = JsonSchemaType.Array, Items = Reference(type) };
        if (Shape.HasBareLists)
            return rows;
        var schema = OpenApiSchemas.Object([
            (
                "total",
                new OpenApiSchema
                {
                    Type = JsonSchemaType.Integer,
                    Format = "int64",
                    Description = "All rows, when 'total' asks.",
                }
            ),
            ("rows", rows),
            (
                "next",
                new OpenApiSchema
                {
                    Type = JsonSchemaType.String,
                    Format = "uri",
                    Description = "The next page; absent on the last.",
                }
            ),
        ]);
        schema.Required = new HashSet<string> { "rows" };
        return schema;
    }

    private OpenApiSchema Sent(ImmutableArray<OpenApiMember> members, bool allOptional, string description)
    {
        var schema = OpenApiSchemas.Object(
            members.Select(m => (m.Property.Name, (IOpenApiSchema)_schemas.Of(m.Property, isWritten: true)))
        );
        schema.Description = description;
        schema.AdditionalPropertiesAllowed = false;
        if (!allOptional)
            schema.Required = members.Where(m => m.IsRequired).Select(m => m.Property.Name).ToHashSet();
        var told = allOptional ? members.Take(1) : members.Where(m => m.IsRequired);
        if (ExampleValues.Of(told.Select(m => m.Property)) is { Count: > 0 } example)
            SetExample(schema, example);
        return schema;
    }

    /// <summary>A new row, with those that are part of it.</summary>
    private OpenApiSchema New(OpenApiSet set)
    {
        var given = Given(set);
        var members = set.Create.Select(m => given.Contains(m.Property.Column) ? m with { IsRequired = false } : m).ToImmutableArray();
        var schema = Sent(members, allOptional: false, $"A new {set.Set.Type.Name}.");
        foreach (
            var navigation in set.Set.Type.Navigations.Where(n => n.IsContained && _facts.Find(n.TargetSet) is { Create.IsEmpty: false })
        )
            schema.Properties![navigation.Name] = new OpenApiSchema
            {
                Type = JsonSchemaType.Array,
                Items = Reference(_facts.Model.Target(navigation).Type.Name + "Create"),
            };
        return schema;
    }

    /// <summary>Columns that the row which a contained one is part of gives.</summary>
    private HashSet<string> Given(OpenApiSet set) =>
        set.Set.ContainedIn is { } container && _facts.Model.FindSet(container) is { } parent
            ? parent
                .Type.Navigations.Where(n => n.IsContained && n.TargetSet == set.Set.Name)
                .SelectMany(n => n.Joins)
                .Select(j => j.Target.Column)
                .ToHashSet()
            : [];

    private static void SetExample(OpenApiSchema schema, JsonNode example)
    {
        schema.Examples = [example];
    }

    private OpenApiSchemaReference Reference(string schema) => new(schema, _document);

    // Parameters.

    /// <summary>Parameters of reads. Examples stand in the texts: programs that try requests would send them.</summary>
    private static Dictionary<string, IOpenApiParameter> Parameters()
    {
        static OpenApiParameter Of(string name, string description, OpenApiSchema schema) =>
            new()
            {
                Name = name,
                In = ParameterLocation.Query,
                Description = description,
                Schema = schema,
            };
        static OpenApiParameter List(string name, string description)
        {
            var parameter = Of(name, description, new OpenApiSchema { Type = JsonSchemaType.Array, Items = OpenApiSchemas.Text() });
            (parameter.Style, parameter.Explode) = (ParameterStyle.Form, false);
            return parameter;
        }
        var all = new[]
        {
            Of(RestParameters.Filter, "A condition in the expression language, such as id gt 5.", OpenApiSchemas.Text()),
            List(RestParameters.Sort, "Properties to sort by, each with '-' before it for descending order."),
            List(RestParameters.Fields, "The properties that are wanted; all when left out."),
            List(RestParameters.Include, "Relations whose rows stand inside of each row."),
            Of(RestParameters.Search, "Words to look for, joined by AND, OR and NOT.", OpenApiSchemas.Text()),
            Limit(),
            Of(RestParameters.After, "Where a page starts, as the link to it says.", OpenApiSchemas.Text()),
            Of(RestParameters.Rows, "A window of rows, by number from 1, such as 41..60.", OpenApiSchemas.Text()),
            Of(RestParameters.Total, "Whether the number of all rows is told.", new OpenApiSchema { Type = JsonSchemaType.Boolean }),
            Of(
                RestParameters.Format,
                "The format, which beats Accept: json, jsonl, csv, xml, xlsx, or a media type such as text/csv;header=absent.",
                OpenApiSchemas.Text()
            ),
        };
        OpenApiParameter Limit()
        {
            var schema = new OpenApiSchema { Type = JsonSchemaType.Integer, Minimum = "1" };
            var limit = Of(RestParameters.Limit, "Rows of a page; more than the largest page counts as that.", schema);
            limit.Example = 5;
            return limit;
        }
        return all.ToDictionary(p => p.Name!, p => (IOpenApiParameter)p);
    }

    private IOpenApiParameter ParameterOf(string name) => new OpenApiParameterReference(name, _document);

    /// <summary>A parameter for each property that rows may be chosen by.</summary>
    private static IEnumerable<IOpenApiParameter> Matches(EntitySet set) =>
        from property in set.Type.Properties
        from leaf in property.Leaves
        where leaf is { IsFilterable: true, Type.IsCollection: false, Type.Kind: not (EdmKind.Stream or EdmKind.Complex or EdmKind.Binary) }
        where leaf.Conversion is not { Use: ConvertedUse.Read }
        let name = ReferenceEquals(leaf, property) ? leaf.Name : $"{property.Name}/{leaf.Name}"
        select (IOpenApiParameter)
            new OpenApiParameter
            {
                Name = RestParameters.All.Contains(name) ? RestParameters.PropertyPrefix + name : name,
                In = ParameterLocation.Query,
                Description = MatchDescription(leaf),
                Schema = new OpenApiSchema { Type = JsonSchemaType.String },
            };

    private static string MatchDescription(Property property) =>
        property.Type.Kind switch
        {
            EdmKind.String => "A value, several with commas, a part with *, a range a..b, null; with ! before it, none of these.",
            EdmKind.Boolean or EdmKind.Guid or EdmKind.Enum => "A value, several with commas, null; with ! before it, none of these.",
            _ => "A value, several with commas, a range a..b, null; with ! before it, none of these.",
        };

    private List<OpenApiParameter> KeyParameters(IEnumerable<(string Name, Property Property)> key) =>
        [
            .. key.Select(k => new OpenApiParameter
            {
                Name = k.Name,
                In = ParameterLocation.Path,
                Required = true,
                Schema = _schemas.Of(k.Property.Type, k.Property.Conversion),
                Description = k.Property.Description,
                Example = ExampleValues.Of(k.Property),
            }),
        ];

    // Paths.

    private void AddSet(OpenApiSet set)
    {
        var path = "/" + Uri.UnescapeDataString(_paths.Of(set.Set.Name));
        AddCollection(set, path, Words(set.Set.Name), []);
        if (set.Set.IsUnkeyed)
            return;
        var key = set.Set.Type.Key.Select(k => (k.Name, Property: k)).ToList();
        var below = $"{path}/{Template(key)}";
        AddRow(set, below, Words(set.Set.Type.Name), KeyParameters(key));
        foreach (var navigation in set.Set.Type.Navigations)
            AddRelation(set, navigation, below, key);
    }

    private void AddRelation(OpenApiSet set, NavigationProperty navigation, string parent, List<(string Name, Property Property)> parentKey)
    {
        if (_facts.Find(navigation.TargetSet) is not { } target)
            return;
        var owner = Words(set.Set.Type.Name);
        var (path, name) = ($"{parent}/{Shape.Paths.Apply(navigation.Name)}", $"{Words(navigation.Name)}Of{owner}");
        if (!navigation.IsCollection)
        {
            if (target.May(SetOperations.Read) && set.May(SetOperations.Read))
                _document.Paths[path] = Item(HttpMethod.Get, Get(target, name, KeyParameters(parentKey), hasKey: false));
            return;
        }
        if (!set.May(SetOperations.Read))
            return;
        AddCollection(navigation.IsRemote ? target with { Create = [] } : target, path, name, KeyParameters(parentKey));
        if (!navigation.IsContained)
            return;
        var own = target
            .Set.Type.Key.Where(k => navigation.Joins.All(j => j.Target.Column != k.Column))
            .Select(k => (Name: parentKey.Exists(p => p.Name == k.Name) ? $"{navigation.Name}_{k.Name}" : k.Name, Property: k))
            .ToList();
        AddRow(target, $"{path}/{Template(own)}", $"{Words(target.Set.Type.Name)}Of{owner}", KeyParameters(parentKey.Concat(own)));
    }

    private string Template(IEnumerable<(string Name, Property Property)> key) =>
        Shape.HasNamedKeys
            ? string.Join(',', key.Select(k => $"{k.Property.Name}={{{k.Name}}}"))
            : string.Join('/', key.Select(k => $"{{{k.Name}}}"));

    private void AddCollection(OpenApiSet set, string path, string name, List<OpenApiParameter> key)
    {
        var item = new OpenApiPathItem();
        if (set.May(SetOperations.Read))
            item.AddOperation(HttpMethod.Get, ListOperation(set, name, key));
        if (!set.Create.IsEmpty)
            item.AddOperation(HttpMethod.Post, Create(set, name, key));
        if (item.Operations is { Count: > 0 })
            _document.Paths[path] = item;
    }

    private void AddRow(OpenApiSet set, string path, string name, List<OpenApiParameter> key)
    {
        var item = new OpenApiPathItem();
        if (set.May(SetOperations.Read))
            item.AddOperation(HttpMethod.Get, Get(set, name, key, hasKey: true));
        if (!set.Update.IsEmpty)
        {
            item.AddOperation(HttpMethod.Put, Replace(set, name, key));
            item.AddOperation(HttpMethod.Patch, Update(set, name, key));
        }
        if (set.May(SetOperations.Delete))
            item.AddOperation(HttpMethod.Delete, Delete(set, name, key));
        if (item.Operations is { Count: > 0 })
            _document.Paths[path] = item;
        foreach (var stream in set.Set.Type.Properties.Where(p => p.Type.Kind == EdmKind.Stream))
            AddStream(set, stream, path, name, key);
    }

    private void AddStream(OpenApiSet set, Property stream, string parent, string name, List<OpenApiParameter> key)
    {
        var item = new OpenApiPathItem();
        var id = $"{Words(stream.Name)}Of{name}";
        if (set.May(SetOperations.Read))
            item.AddOperation(HttpMethod.Get, Content(set, stream, "get" + id, key));
        if (set.Streams.Contains(stream.Name))
        {
            item.AddOperation(HttpMethod.Put, NewContent(set, stream, "replace" + id, key));
            if (stream.Nullable)
                item.AddOperation(HttpMethod.Delete, NoContent(set, stream, "delete" + id, key));
        }
        if (item.Operations is { Count: > 0 })
            _document.Paths[$"{parent}/{Shape.Paths.Apply(stream.Name)}"] = item;
    }

    private static string MediaTypeOf(Property stream) => stream.MediaType ?? "application/octet-stream";

    private OpenApiOperation Content(OpenApiSet set, Property stream, string id, List<OpenApiParameter> key)
    {
        var operation = Operation(set, SetOperations.Read, id, stream.Description ?? $"The content of {stream.Name}.");
        operation.Parameters = [.. key];
        var content = new Dictionary<string, IOpenApiMediaType>
        {
            [stream.MediaTypeColumn is null ? MediaTypeOf(stream) : "*/*"] = new OpenApiMediaType { Schema = _schemas.Bytes() },
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

    private OpenApiOperation NewContent(OpenApiSet set, Property stream, string id, List<OpenApiParameter> key)
    {
        var operation = Operation(set, SetOperations.Update, id, $"Replaces the content of {stream.Name}.");
        operation.Parameters = [.. key, IfMatch(set), IdempotencyKey()];
        operation.RequestBody = Body((stream.MediaTypeColumn is null ? MediaTypeOf(stream) : "*/*", _schemas.Bytes()));
        operation.Responses!["204"] = new OpenApiResponse { Description = "It is replaced." };
        AddChangeProblems(operation, set, stream.MediaTypeColumn is null ? [404, 412, 415] : [404, 412]);
        return operation;
    }

    private OpenApiOperation NoContent(OpenApiSet set, Property stream, string id, List<OpenApiParameter> key)
    {
        var operation = Operation(set, SetOperations.Update, id, $"Takes the content of {stream.Name} away.");
        operation.Parameters = [.. key, IfMatch(set), IdempotencyKey()];
        operation.Responses!["204"] = new OpenApiResponse { Description = "It is gone." };
        AddChangeProblems(operation, set, 404, 412);
        return operation;
    }

    // Operations.

    private OpenApiOperation Documents()
    {
        var operation = new OpenApiOperation
        {
            OperationId = "describe",
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
            Tags = new HashSet<OpenApiTagReference> { new(TagOf(set), _document) },
            Responses = [],
        };
        if (!set.Anyone.HasFlag(what))
            operation.Security = OpenApiParts.Security(_document, _facts, isOpen: false);
        if (!_facts.SignIn.IsEmpty)
            operation.Responses["401"] = OpenApiParts.Refused(_document, 401);
        return operation;
    }

    private string TagOf(OpenApiSet set) => set.Set.ContainedIn ?? set.Set.Name;

    private OpenApiOperation ListOperation(OpenApiSet set, string name, List<OpenApiParameter> key)
    {
        var operation = Operation(set, SetOperations.Read, "list" + name, set.Set.Description ?? $"Rows of {set.Set.Name}, page by page.");
        var parameters = RestParameters.All.Where(p => p != RestParameters.Search || set.Set.IsSearchable);
        operation.Parameters = [.. key, .. parameters.Select(ParameterOf), .. Matches(set.Set)];
        operation.Responses!["200"] = Rows(set.Set.Type.Name + "List", "A page.", "Link", "Total-Count", "Cache-Control", "ETag");
        operation.Responses["304"] = new OpenApiResponse { Description = "The caller has the page already." };
        AddProblems(operation, key.Count > 0 ? [400, 404, 406, 410] : [400, 406, 410]);
        return operation;
    }

    private OpenApiOperation Get(OpenApiSet set, string name, List<OpenApiParameter> key, bool hasKey)
    {
        var operation = Operation(
            set,
            SetOperations.Read,
            "get" + name,
            hasKey ? $"A row of {set.Set.Name} by its key." : $"The related row of {set.Set.Name}."
        );
        operation.Parameters = [.. key, .. RestParameters.OfAnswers.Select(ParameterOf)];
        operation.Responses!["200"] = Rows(set.Set.Type.Name, "The row.", "ETag", "Cache-Control");
        operation.Responses["304"] = new OpenApiResponse { Description = "The caller has the row already." };
        AddProblems(operation, 400, 404, 406);
        return operation;
    }

    private OpenApiOperation Create(OpenApiSet set, string name, List<OpenApiParameter> key)
    {
        var type = set.Set.Type.Name;
        var operation = Operation(set, SetOperations.Create, "create" + name, $"Creates a row of {set.Set.Name}, or several as a whole.");
        operation.Parameters = [.. key, .. Answer(), IdempotencyKey(), Prefer()];
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

    private OpenApiOperation Replace(OpenApiSet set, string name, List<OpenApiParameter> key)
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

    private OpenApiOperation Update(OpenApiSet set, string name, List<OpenApiParameter> key)
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
        operation.Parameters = [.. key, .. Answer(), IfMatch(set), IdempotencyKey(), Prefer()];
        operation.Responses!["200"] = Written(RowOf(set), "It is changed.", "ETag", "Preference-Applied");
        operation.Responses["204"] = new OpenApiResponse { Description = "It is changed, and nothing of it is told." };
        return operation;
    }

    private IOpenApiSchema? RowOf(OpenApiSet set) => set.May(SetOperations.Read) ? Reference(set.Set.Type.Name) : null;

    private OpenApiOperation Delete(OpenApiSet set, string name, List<OpenApiParameter> key)
    {
        var operation = Operation(set, SetOperations.Delete, "delete" + name, $"Deletes a row of {set.Set.Name}.");
        operation.Parameters = [.. key, IfMatch(set), IdempotencyKey()];
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

    private IEnumerable<IOpenApiParameter> Answer() => [ParameterOf(RestParameters.Fields), ParameterOf(RestParameters.Include)];

    private static OpenApiParameter Header(string name, string description) =>
        new()
        {
            Name = name,
            In = ParameterLocation.Header,
            Description = description,
            Schema = OpenApiSchemas.Text(),
        };

    private static OpenApiParameter IfMatch(OpenApiSet set)
    {
        var header = Header("If-Match", "The tag of the state that the change is about, or *.");
        header.Required = set.Set.RequiresVersion;
        if (set.Set.RequiresVersion)
            header.Example = "*";
        return header;
    }

    private static OpenApiParameter IdempotencyKey() =>
        Header("Idempotency-Key", "An id by which the same request is done once, however often it is sent.");

    private static OpenApiParameter Prefer() => Header("Prefer", "return=minimal for no body, before for the row as it was, too.");

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
        content[Workbook] = new OpenApiMediaType { Schema = _schemas.Bytes() };
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
            operation.Responses![status.ToString(CultureInfo.InvariantCulture)] = OpenApiParts.Refused(_document, status);
        operation.Responses!["default"] = new OpenApiResponseReference("Problem", _document);
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
            operation.Responses!["403"] = OpenApiParts.Refused(_document, 403);
    }

    /// <summary>The words of a name as a part of an operation's id, without '_': generators of clients cut ids there.</summary>
    private static string Words(string name) => Casing.PascalCase.Apply(name);

    private string Unique(string id)
    {
        var unique = id;
        for (var number = 2; !_operations.Add(unique); number++)
            unique = id + number.ToString(CultureInfo.InvariantCulture);
        return unique;
    }
}
