using Microsoft.OpenApi;
using RapidGable.Model;
using RapidGable.Payloads.Plain;
using RapidGable.Requests.Rest;

namespace RapidGable.Metadata.OpenApi;

/// <summary>Describes a service on the plain REST face, as one caller may use it.</summary>
public sealed class RestOpenApi
{
    private readonly OpenApiFacts _facts;
    private readonly OpenApiSchemas _schemas;
    private readonly OpenApiDocument _document = new();
    private readonly RestOperations _operations;
    private readonly RestPaths _paths;

    private RestOpenApi(OpenApiFacts facts, bool isOlder)
    {
        _facts = facts;
        _schemas = new OpenApiSchemas(isOlder, _document);
        _operations = new RestOperations(facts, _schemas, _document);
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
        _document.Components.Parameters = RestParameterParts.OfReads();
        var rows = new RestRowSchemas(_facts, _schemas, _document);
        _schemas.AddDefinitions(_facts.Model.Definitions);
        foreach (var set in _facts.Sets)
            rows.Add(set);
        _document.Paths = [];
        _document.Paths["/"] = Item(HttpMethod.Get, _operations.Documents());
        foreach (var set in _facts.Sets.Where(s => s.Set.ContainedIn is null))
            AddSet(set);
        if (_facts.TakesSql)
        {
            rows.AddStatement();
            _document.Paths["/" + SqlAccess.Path] = Item(HttpMethod.Post, _operations.Statement());
        }
        OpenApiExamples.Add(_document, _facts);
        OpenApiParts.SortResponses(_document);
        return _document;
    }

    private static OpenApiPathItem Item(HttpMethod method, OpenApiOperation operation)
    {
        var item = new OpenApiPathItem();
        item.AddOperation(method, operation);
        return item;
    }

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

    /// <summary>What a query is called with: in its path, or behind it.</summary>
    private List<OpenApiParameter> Arguments(EntitySet set)
    {
        var inPath = _paths.VariablesOf(set.Name).Select(v => v.Name).ToHashSet();
        return
        [
            .. set.Parameters.Select(p => new OpenApiParameter
            {
                Name = p.Name,
                In = inPath.Contains(p.Name) ? ParameterLocation.Path : ParameterLocation.Query,
                Required = p.IsRequired || inPath.Contains(p.Name),
                Schema = _schemas.OfArgument(p),
                Description = p.Description,
                Example = OpenApiSchemas.Constant(p.Sample, p.Type),
            }),
        ];
    }

    private void AddSet(OpenApiSet set)
    {
        var path = "/" + Uri.UnescapeDataString(_paths.Of(set.Set.Name));
        if (set.Set.IsAction)
        {
            var inPath = Arguments(set.Set).Where(p => p.In == ParameterLocation.Path).ToList();
            var hasBody = inPath.Count < set.Set.Parameters.Length;
            _document.Paths[path] = Item(HttpMethod.Post, _operations.Call(set, Words(set.Set.Name), inPath, hasBody));
            return;
        }
        if (set.Set.Gives != QueryResult.Rows)
        {
            _document.Paths[path] = Item(HttpMethod.Get, _operations.Get(set, Words(set.Set.Name), Arguments(set.Set), hasKey: false));
            return;
        }
        AddCollection(set, path, Words(set.Set.Name), Arguments(set.Set));
        if (set.Set.IsFunction)
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
                _document.Paths[path] = Item(HttpMethod.Get, _operations.Get(target, name, KeyParameters(parentKey), hasKey: false));
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
            item.AddOperation(HttpMethod.Get, _operations.List(set, name, key));
        if (!set.Create.IsEmpty)
            item.AddOperation(HttpMethod.Post, _operations.Create(set, name, key));
        if (item.Operations is { Count: > 0 })
            _document.Paths[path] = item;
    }

    private void AddRow(OpenApiSet set, string path, string name, List<OpenApiParameter> key)
    {
        var item = new OpenApiPathItem();
        if (set.May(SetOperations.Read))
            item.AddOperation(HttpMethod.Get, _operations.Get(set, name, key, hasKey: true));
        if (!set.Update.IsEmpty)
        {
            item.AddOperation(HttpMethod.Put, _operations.Replace(set, name, key));
            item.AddOperation(HttpMethod.Patch, _operations.Update(set, name, key));
        }
        if (set.May(SetOperations.Delete))
            item.AddOperation(HttpMethod.Delete, _operations.Delete(set, name, key));
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
            item.AddOperation(HttpMethod.Get, _operations.Content(set, stream, "get" + id, key));
        if (set.Streams.Contains(stream.Name))
        {
            item.AddOperation(HttpMethod.Put, _operations.NewContent(set, stream, "replace" + id, key));
            if (stream.Nullable)
                item.AddOperation(HttpMethod.Delete, _operations.NoContent(set, stream, "delete" + id, key));
        }
        if (item.Operations is { Count: > 0 })
            _document.Paths[$"{parent}/{Shape.Paths.Apply(stream.Name)}"] = item;
    }

    /// <summary>The words of a name as a part of an operation's id, without '_': generators of clients cut ids there.</summary>
    private static string Words(string name) => Casing.PascalCase.Apply(name);
}
