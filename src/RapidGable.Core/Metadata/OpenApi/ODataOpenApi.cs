using System.Collections.Immutable;
using System.Text.Json.Nodes;
using Microsoft.OpenApi;
using RapidGable.Model;
using JsonValue = System.Text.Json.Nodes.JsonValue;

namespace RapidGable.Metadata.OpenApi;

/// <summary>Describes a service on the OData face, as one caller may use it (OData to OpenAPI Mapping 1.0).</summary>
public sealed class ODataOpenApi
{
    private const string Json = "application/json";

    private static readonly string[] ListOptions = ["top", "skip", "search", "filter", "count"];

    private readonly OpenApiFacts _facts;
    private readonly OpenApiSchemas _schemas;
    private readonly OpenApiDocument _document = new();

    private ODataOpenApi(OpenApiFacts facts, bool isOlder)
    {
        _facts = facts;
        _schemas = new OpenApiSchemas(isOlder, _document);
    }

    /// <summary>The description in one of its forms, in UTF-8.</summary>
    public static Task<byte[]> WriteAsync(OpenApiFacts facts, OpenApiForm form, CancellationToken cancellation) =>
        OpenApiText.WriteAsync(new ODataOpenApi(facts, form.IsOlder).Build(), form, cancellation);

    private OpenApiDocument Build()
    {
        OpenApiParts.Describe(_document, _facts, "OData 4.01 and 4.0; $metadata describes all of it.");
        _document.Components!.Schemas = new Dictionary<string, IOpenApiSchema>
        {
            ["error"] = Error(),
            ["count"] = new OpenApiSchema { Type = JsonSchemaType.Integer, Format = "int64" },
        };
        _document.Components.Responses = new Dictionary<string, IOpenApiResponse>
        {
            ["error"] = Answer(new OpenApiSchemaReference("error", _document), "What is wrong."),
        };
        _document.Components.Parameters = Parameters();
        _schemas.AddDefinitions(_facts.Model.Definitions);
        foreach (var set in _facts.Sets)
            AddSchemas(set);
        _document.Paths = [];
        foreach (var set in _facts.Sets.Where(s => s.Set.ContainedIn is null))
            AddSet(set);
        _document.Paths["/$batch"] = Item((HttpMethod.Post, Batch()));
        OpenApiExamples.Add(_document, _facts);
        OpenApiParts.SortResponses(_document);
        return _document;
    }

    private static OpenApiPathItem Item(params (HttpMethod Method, OpenApiOperation? Operation)[] operations)
    {
        var item = new OpenApiPathItem();
        foreach (var (method, operation) in operations)
        {
            if (operation is not null)
                item.AddOperation(method, operation);
        }
        return item;
    }

    private static OpenApiSchema Error()
    {
        static OpenApiSchema Text() => new() { Type = JsonSchemaType.String };
        var detail = OpenApiSchemas.Object([("code", Text()), ("message", Text()), ("target", Text())]);
        detail.Required = new HashSet<string> { "code", "message" };
        var error = OpenApiSchemas.Object([
            ("code", Text()),
            ("message", Text()),
            ("target", Text()),
            ("details", new OpenApiSchema { Type = JsonSchemaType.Array, Items = detail }),
        ]);
        error.Required = new HashSet<string> { "code", "message" };
        var schema = OpenApiSchemas.Object([("error", error)]);
        schema.Required = new HashSet<string> { "error" };
        return schema;
    }

    private static Dictionary<string, IOpenApiParameter> Parameters()
    {
        static OpenApiParameter Of(string name, string description, OpenApiSchema schema) =>
            new()
            {
                Name = "$" + name,
                In = ParameterLocation.Query,
                Description = description,
                Schema = schema,
            };
        static OpenApiSchema Number() => new() { Type = JsonSchemaType.Integer, Minimum = "0" };
        static OpenApiSchema Text() => new() { Type = JsonSchemaType.String };
        return new Dictionary<string, IOpenApiParameter>
        {
            ["top"] = Of("top", "Show only the first n items", Number()),
            ["skip"] = Of("skip", "Skip the first n items", Number()),
            ["search"] = Of("search", "Search items by search phrases", Text()),
            ["filter"] = Of("filter", "Filter items by property values", Text()),
            ["count"] = Of("count", "Include count of items", new OpenApiSchema { Type = JsonSchemaType.Boolean }),
        };
    }

    private string NameOf(EntityType type) => _facts.Model.QualifiedName(type);

    private OpenApiSchemaReference Reference(string schema) => new(schema, _document);

    private void AddSchemas(OpenApiSet set)
    {
        var (name, schemas) = (NameOf(set.Set.Type), _document.Components!.Schemas!);
        if (set.May(set.Set.Use) && set.Set is { GivesRows: true, EntitiesOf: null })
        {
            var own = set.Set.Type.Properties.Where(p => p.Type.Kind != EdmKind.Stream);
            var row = OpenApiSchemas.Object(
                own.Select(p => (p.Name, (IOpenApiSchema)_schemas.Of(p, isWritten: false)))
                    .Concat(set.Set.Type.Navigations.SelectMany(Related))
            );
            row.Title = set.Set.Type.Name;
            row.Description = set.Set.Type.Description;
            schemas[name] = row;
        }
        if (set.Set.IsAction)
            schemas[set.Set.Name + "-arguments"] = _schemas.Arguments(Model.Operation.OfRows(set.Set).Given);
        if (!set.Create.IsEmpty)
            schemas[name + "-create"] = Sent(set.Create, set.Set.Type.Name + " (for create)", isCreate: true);
        if (!set.Update.IsEmpty)
            schemas[name + "-update"] = Sent(set.Update, set.Set.Type.Name + " (for update)", isCreate: false);
    }

    private OpenApiSchema Sent(ImmutableArray<OpenApiMember> members, string title, bool isCreate)
    {
        var schema = OpenApiSchemas.Object(
            members.Select(m => (m.Property.Name, (IOpenApiSchema)_schemas.Of(m.Property, isWritten: true)))
        );
        schema.Title = title;
        if (isCreate)
            schema.Required = members.Where(m => m.IsRequired).Select(m => m.Property.Name).ToHashSet();
        return schema;
    }

    private IEnumerable<(string, IOpenApiSchema)> Related(NavigationProperty navigation)
    {
        var target = Reference(NameOf(_facts.Model.Target(navigation).Type));
        if (!navigation.IsCollection)
        {
            yield return (navigation.Name, navigation.Nullable ? _schemas.Nullable(target) : target);
            yield break;
        }
        yield return (navigation.Name, new OpenApiSchema { Type = JsonSchemaType.Array, Items = target });
        yield return (navigation.Name + "@count", Reference("count"));
    }

    private void AddSet(OpenApiSet set)
    {
        var (name, type) = (set.Set.Name, NameOf(set.Set.Type));
        if (set.Set.IsAction)
        {
            var action = Item((HttpMethod.Post, CallAction(set, type)));
            if (set.Set.Binding is not null)
                action.Parameters = [.. Arguments(set.Set).Where(a => IsOfKey(set.Set, a.Name!))];
            _document.Paths[Place(set.Set)] = action;
            return;
        }
        if (set.Set.IsFunction)
        {
            var call = Item((HttpMethod.Get, Called(set, $"Invoke function {name}", type)));
            call.Parameters = Arguments(set.Set);
            var arguments = Model.Operation.OfRows(set.Set).Given.Select(p => $"{p.Name}={Quoted(p.AsProperty())}");
            _document.Paths[$"{Place(set.Set)}({string.Join(',', arguments)})"] = call;
            return;
        }
        _document.Paths["/" + name] = Item(
            (HttpMethod.Get, set.May(SetOperations.Read) ? Page(set, $"Get entities from {name}", type) : null),
            (HttpMethod.Post, set.Create.IsEmpty ? null : Create(set, type))
        );
        var row = Item(
            (HttpMethod.Get, set.May(SetOperations.Read) ? Get(set, type) : null),
            (HttpMethod.Patch, set.Update.IsEmpty ? null : Update(set, type)),
            (HttpMethod.Delete, set.May(SetOperations.Delete) ? Delete(set) : null)
        );
        row.Parameters = Key(set.Set);
        if (row.Operations is { Count: > 0 })
            _document.Paths[$"/{name}({KeyTemplate(set.Set)})"] = row;
        foreach (var navigation in set.Set.Type.Navigations.Where(n => n.IsCollection && set.May(SetOperations.Read)))
        {
            if (_facts.Find(navigation.TargetSet) is not { } target || !target.May(SetOperations.Read))
                continue;
            var page = Page(target, $"Get {navigation.Name} from {name}", NameOf(target.Set.Type), set.Set.Name);
            var item = Item((HttpMethod.Get, page));
            item.Parameters = Key(set.Set);
            _document.Paths[$"/{name}({KeyTemplate(set.Set)})/{navigation.Name}"] = item;
        }
    }

    /// <summary>The path of an operation, up to its arguments.</summary>
    private static string Place(EntitySet set)
    {
        if (set.Binding is not { } binding)
            return "/" + set.Name;
        var key = binding.Key.Select(k => Quoted(set.Parameters.First(p => p.Placeholder == k).AsProperty())).ToList();
        var written = key.Count == 1 ? key[0] : string.Join(',', binding.KeyNames.Zip(key, (n, v) => $"{n}={v}"));
        return $"/{binding.Set}({written})/{binding.Name}";
    }

    private static bool IsOfKey(EntitySet set, string parameter) =>
        set.Binding!.Key.Contains(set.Parameters.First(p => p.Name == parameter).Placeholder);

    private OpenApiOperation CallAction(OpenApiSet set, string type)
    {
        var action = set.Set;
        var operation = Operation(set, SetOperations.Call, "Invoke action " + action.Name);
        var given = Model.Operation.OfRows(action).Given.ToList();
        if (given.Count > 0)
        {
            var body = Body(action.Name + "-arguments", "Action parameters");
            body.Required = given.Exists(p => p.IsRequired);
            operation.RequestBody = body;
        }
        if (action.Gives == QueryResult.Rows)
            operation.Responses!["200"] = Answer(
                OpenApiSchemas.Object([("value", new OpenApiSchema { Type = JsonSchemaType.Array, Items = Reference(type) })]),
                "Result"
            );
        else if (action.GivesRows)
            operation.Responses!["200"] = Answer(Single(action, type), "Result");
        if (action.Gives != QueryResult.Rows)
            operation.Responses!["204"] = new OpenApiResponse { Description = "Success" };
        return operation;
    }

    private IOpenApiSchema Single(EntitySet set, string type) =>
        set.Gives == QueryResult.Row
            ? Reference(type)
            : OpenApiSchemas.Object([("value", _schemas.Of(set.Type.Properties[0], isWritten: false))]);

    /// <summary>What a function gives: a page, one row, or a single value.</summary>
    private OpenApiOperation Called(OpenApiSet set, string summary, string type)
    {
        if (set.Set.Gives == QueryResult.Rows)
            return Page(set, summary, type);
        var operation = Operation(set, SetOperations.Read, summary);
        if (set.Set.Gives == QueryResult.Row)
            operation.Parameters = [.. Shown(set)];
        operation.Responses!["200"] = Answer(Single(set.Set, type), "Result");
        operation.Responses["204"] = new OpenApiResponse { Description = "No result" };
        return operation;
    }

    private List<IOpenApiParameter> Arguments(EntitySet set) =>
        [
            .. set.Parameters.Select(p => new OpenApiParameter
            {
                Name = p.Name,
                In = ParameterLocation.Path,
                Required = true,
                Description = p.Description,
                Schema = _schemas.OfArgument(p),
                Example = OpenApiSchemas.Constant(p.Sample, p.Type),
            }),
        ];

    private static string KeyTemplate(EntitySet set) =>
        set.Type.Key.Length == 1 ? Quoted(set.Type.Key[0]) : string.Join(',', set.Type.Key.Select(k => $"{k.Name}={Quoted(k)}"));

    private static string Quoted(Property key) => key.Type.Kind == EdmKind.String ? $"'{{{key.Name}}}'" : $"{{{key.Name}}}";

    private List<IOpenApiParameter> Key(EntitySet set) =>
        [
            .. set.Type.Key.Select(k => new OpenApiParameter
            {
                Name = k.Name,
                In = ParameterLocation.Path,
                Required = true,
                Description = "key: " + k.Name,
                Schema = _schemas.Of(k.Type, k.Conversion),
            }),
        ];

    private OpenApiOperation Operation(OpenApiSet set, SetOperations what, string summary, string? tag = null)
    {
        var operation = new OpenApiOperation
        {
            Summary = summary,
            Deprecated = set.Set.Deprecation is not null || _facts.Model.Deprecation is not null,
            Description = set.Set.Deprecation?.Sentence,
            Tags = new HashSet<OpenApiTagReference> { new(tag ?? set.Set.Group?.Title ?? set.Set.Name, _document) },
            Responses = new OpenApiResponses { ["4XX"] = new OpenApiResponseReference("error", _document) },
        };
        if (!set.Anyone.HasFlag(what))
            operation.Security = OpenApiParts.Security(_document, _facts, isOpen: false);
        return operation;
    }

    private OpenApiOperation Page(OpenApiSet set, string summary, string type, string? tag = null)
    {
        var operation = Operation(set, SetOperations.Read, summary, tag ?? set.Set.ContainedIn);
        var sorted = set.Set.Type.Properties.Where(p => p is { IsSortable: true, IsGroup: false, Type.IsCollection: false });
        // What a procedure gives comes as it is.
        operation.Parameters = set.Set.Call is not null
            ? [Choice("select", "Select properties to be returned", set.Set.Type.Properties.Select(p => p.Name))]
            :
            [
                .. ListOptions
                    .Where(o => o != "search" || set.Set.IsSearchable)
                    .Select(o => (IOpenApiParameter)new OpenApiParameterReference(o, _document)),
                Choice("orderby", "Order items by property values", sorted.SelectMany(p => new[] { p.Name, p.Name + " desc" })),
                .. Shown(set),
            ];
        var page = OpenApiSchemas.Object([
            ("@count", Reference("count")),
            ("value", new OpenApiSchema { Type = JsonSchemaType.Array, Items = Reference(type) }),
        ]);
        page.Title = "Collection of " + set.Set.Type.Name;
        operation.Responses!["200"] = Answer(page, "Retrieved entities");
        return operation;
    }

    /// <summary><c>$select</c> and <c>$expand</c>.</summary>
    private static IEnumerable<IOpenApiParameter> Shown(OpenApiSet set)
    {
        var type = set.Set.Type;
        yield return Choice("select", "Select properties to be returned", type.Properties.Select(p => p.Name));
        if (!type.Navigations.IsEmpty)
            yield return Choice("expand", "Expand related entities", type.Navigations.Select(n => n.Name).Prepend("*"));
    }

    private static OpenApiParameter Choice(string name, string description, IEnumerable<string> values) =>
        new()
        {
            Name = "$" + name,
            In = ParameterLocation.Query,
            Description = description,
            Style = ParameterStyle.Form,
            Explode = false,
            Schema = new OpenApiSchema
            {
                Type = JsonSchemaType.Array,
                UniqueItems = true,
                Items = new OpenApiSchema { Type = JsonSchemaType.String, Enum = [.. values.Select(v => (JsonNode)JsonValue.Create(v))] },
            },
        };

    private OpenApiOperation Get(OpenApiSet set, string type)
    {
        var operation = Operation(set, SetOperations.Read, $"Get entity from {set.Set.Name} by key");
        operation.Parameters = [.. Shown(set)];
        operation.Responses!["200"] = Answer(Reference(type), "Retrieved entity");
        return operation;
    }

    private OpenApiOperation Create(OpenApiSet set, string type)
    {
        var operation = Operation(set, SetOperations.Create, $"Add new entity to {set.Set.Name}");
        operation.RequestBody = Body(type + "-create", "New entity");
        operation.Responses!["201"] = Answer(set.May(SetOperations.Read) ? Reference(type) : null, "Created entity");
        return operation;
    }

    private OpenApiOperation Update(OpenApiSet set, string type)
    {
        var operation = Operation(set, SetOperations.Update, $"Update entity in {set.Set.Name}");
        operation.RequestBody = Body(type + "-update", "New property values");
        operation.Parameters = [IfMatch(set)];
        operation.Responses!["204"] = new OpenApiResponse { Description = "Success" };
        return operation;
    }

    private OpenApiOperation Delete(OpenApiSet set)
    {
        var operation = Operation(set, SetOperations.Delete, $"Delete entity from {set.Set.Name}");
        operation.Parameters = [IfMatch(set)];
        operation.Responses!["204"] = new OpenApiResponse { Description = "Success" };
        return operation;
    }

    private static OpenApiParameter IfMatch(OpenApiSet set) =>
        new()
        {
            Name = "If-Match",
            In = ParameterLocation.Header,
            Required = set.Set.RequiresVersion,
            Description = "ETag of the entity's state",
            Schema = new OpenApiSchema { Type = JsonSchemaType.String },
        };

    private OpenApiRequestBody Body(string schema, string description) =>
        new()
        {
            Required = true,
            Description = description,
            Content = new Dictionary<string, IOpenApiMediaType> { [Json] = new OpenApiMediaType { Schema = Reference(schema) } },
        };

    private static OpenApiResponse Answer(IOpenApiSchema? schema, string description) =>
        new()
        {
            Description = description,
            Content = schema is null
                ? null
                : new Dictionary<string, IOpenApiMediaType> { [Json] = new OpenApiMediaType { Schema = schema } },
        };

    private OpenApiOperation Batch() =>
        new()
        {
            Summary = "Send a group of requests",
            RequestBody = new OpenApiRequestBody
            {
                Required = true,
                Content = new Dictionary<string, IOpenApiMediaType>
                {
                    ["multipart/mixed;boundary=request-separator"] = new OpenApiMediaType
                    {
                        Schema = new OpenApiSchema { Type = JsonSchemaType.String },
                    },
                    [Json] = new OpenApiMediaType { Schema = new OpenApiSchema { Type = JsonSchemaType.Object } },
                },
            },
            Responses = new OpenApiResponses
            {
                ["200"] = new OpenApiResponse { Description = "Batch response" },
                ["4XX"] = new OpenApiResponseReference("error", _document),
            },
        };
}
