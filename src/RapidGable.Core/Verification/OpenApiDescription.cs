using System.Collections.Immutable;
using System.Text.Json;

namespace RapidGable.Verification;

/// <summary>An operation of a description.</summary>
/// <param name="Path">The template, such as <c>/Stations/{id}</c>.</param>
/// <param name="Statuses">The answers that are described, <c>default</c> among them.</param>
/// <param name="Row">The schema of a row, or of a list of rows, in the answer 200 as JSON; null = there is none.</param>
/// <param name="Takes">The media types of the body; empty = it has none.</param>
public sealed record DescribedOperation(
    string Method,
    string Path,
    string Id,
    ImmutableHashSet<string> Statuses,
    JsonElement? Row,
    ImmutableArray<string> Takes
)
{
    /// <summary>The names of the parameters in the path.</summary>
    public IEnumerable<string> PathParameters => Path.Split('{').Skip(1).Select(p => p.Split('}')[0]);

    /// <summary>The examples of what it is called with: parameters in the path that are no keys, and others that must be given.</summary>
    public ImmutableArray<(string Name, bool IsInPath, string Example)> Arguments { get; init; } = [];

    /// <summary>The example of its JSON body; null = there is none.</summary>
    public string? Example { get; init; }

    /// <summary>It takes statements over the sets.</summary>
    public bool TakesSql => Method == "POST" && Takes.Contains("application/sql");

    /// <summary>The names of the parameters behind the question mark.</summary>
    public ImmutableHashSet<string> QueryParameters { get; init; } = [];

    /// <summary>It is called with values, as a query is.</summary>
    public bool HasArguments => !Arguments.IsEmpty;

    /// <summary>It is the call of an action: it creates nothing that has an address.</summary>
    public bool IsCall => Method == "POST" && !Statuses.Contains("201");

    /// <summary>Whether all parameters of the path are told by examples.</summary>
    public bool IsCalledByExamples => PathParameters.All(n => Arguments.Any(a => a.IsInPath && a.Name == n));

    /// <summary>The path with the examples, percent-encoded, and what follows behind the question mark; empty = nothing.</summary>
    public (string Path, string Query) Called()
    {
        var segments = Path.Split('/')
            .Select(s => Arguments.FirstOrDefault(a => a.IsInPath && s == $"{{{a.Name}}}") is { Name: not null } found ? found.Example : s)
            .Select(Uri.EscapeDataString);
        var query = Arguments.Where(a => !a.IsInPath).Select(a => $"{Uri.EscapeDataString(a.Name)}={Uri.EscapeDataString(a.Example)}");
        return (string.Join('/', segments), string.Join('&', query));
    }
}

/// <summary>An OpenAPI 3.1 document, and what is wrong with it.</summary>
public sealed class OpenApiDescription
{
    private static readonly string[] Methods = ["get", "put", "post", "delete", "patch"];

    private readonly JsonElement _root;
    private readonly List<string> _faults = [];

    private OpenApiDescription(JsonElement root) => _root = root;

    /// <summary>What is wrong, in words; empty = nothing.</summary>
    public IReadOnlyList<string> Faults => _faults;

    /// <summary>All operations, in the order of the document.</summary>
    public IReadOnlyList<DescribedOperation> Operations { get; private set; } = [];

    /// <summary>How many schemas are declared.</summary>
    public int Schemas => Components("schemas").Count();

    /// <summary>Reads a document and checks it.</summary>
    public static OpenApiDescription Read(byte[] document)
    {
        try
        {
            var description = new OpenApiDescription(JsonDocument.Parse(document).RootElement);
            description.Check();
            return description;
        }
        catch (Exception exception) when (exception is JsonException or InvalidOperationException or KeyNotFoundException)
        {
            var broken = new OpenApiDescription(default);
            broken._faults.Add($"It is not an OpenAPI document: {exception.Message}");
            return broken;
        }
    }

    private void Check()
    {
        if (_root.GetProperty("openapi").GetString()?.StartsWith("3.1.", StringComparison.Ordinal) != true)
            _faults.Add($"'openapi' is {_root.GetProperty("openapi")}, not 3.1.");
        foreach (var name in new[] { "title", "version" })
        {
            if (!_root.GetProperty("info").TryGetProperty(name, out var text) || string.IsNullOrEmpty(text.GetString()))
                _faults.Add($"'info' has no '{name}'.");
        }
        foreach (var reference in References(_root).Distinct().Where(r => Resolve(r) is null))
            _faults.Add($"'{reference}' leads to nothing.");
        Operations = [.. ReadOperations()];
        var paths = Operations.Select(o => o.Path).ToHashSet();
        // What stands behind a described collection is a key of its rows.
        Operations =
        [
            .. Operations.Select(o =>
                o with
                {
                    Arguments = [.. o.Arguments.Where(a => !a.IsInPath || !paths.Contains(Before(o.Path, a.Name)))],
                }
            ),
        ];
        foreach (var twice in Operations.GroupBy(o => o.Id).Where(g => g.Count() > 1))
            _faults.Add($"Two operations are called '{twice.Key}'.");
        foreach (var alike in _root.GetProperty("paths").EnumerateObject().GroupBy(p => Blank(p.Name)).Where(g => g.Count() > 1))
            _faults.Add($"The paths {string.Join(" and ", alike.Select(p => p.Name))} are the same.");
        foreach (var schema in Components("schemas"))
            CheckExamples(schema);
    }

    /// <summary>The path up to a parameter in it, without other parameters right before.</summary>
    private static string Before(string path, string parameter)
    {
        var before = path[..path.IndexOf("{" + parameter + "}", StringComparison.Ordinal)].TrimEnd('/');
        while (before.EndsWith('}'))
            before = before[..before.LastIndexOf('/')];
        return before;
    }

    private static string Blank(string path) => string.Concat(path.Split('{').Select((p, i) => i == 0 ? p : "{" + p[p.IndexOf('}')..]));

    private IEnumerable<JsonProperty> Components(string kind) =>
        _root.ValueKind == JsonValueKind.Object
        && _root.TryGetProperty("components", out var components)
        && components.TryGetProperty(kind, out var all)
            ? all.EnumerateObject()
            : [];

    private void CheckExamples(JsonProperty schema)
    {
        if (!schema.Value.TryGetProperty("examples", out var examples))
            return;
        foreach (var example in examples.EnumerateArray())
        {
            if (Misfit(example, schema.Value) is { } fault)
                _faults.Add($"The example of '{schema.Name}' is none: {fault}");
        }
    }

    private IEnumerable<DescribedOperation> ReadOperations()
    {
        foreach (var path in _root.GetProperty("paths").EnumerateObject())
        {
            foreach (var item in path.Value.EnumerateObject().Where(i => Methods.Contains(i.Name)))
            {
                var operation = Read(item, path.Name);
                var declared = Parameters(item.Value).Where(p => p.In == "path").Select(p => p.Name).ToHashSet();
                if (!declared.SetEquals(operation.PathParameters))
                    _faults.Add($"The parameters of {item.Name} {path.Name} are {string.Join(", ", declared)}.");
                foreach (var twice in Parameters(item.Value).GroupBy(p => p).Where(g => g.Count() > 1))
                    _faults.Add($"{item.Name} {path.Name} has the parameter '{twice.Key.Name}' twice.");
                yield return operation;
            }
        }
    }

    private IEnumerable<(string Name, string In)> Parameters(JsonElement operation) =>
        operation.TryGetProperty("parameters", out var parameters)
            ? parameters
                .EnumerateArray()
                .Select(Followed)
                .Select(p => (p.GetProperty("name").GetString()!, p.GetProperty("in").GetString()!))
            : [];

    private DescribedOperation Read(JsonProperty item, string path)
    {
        var responses = item.Value.GetProperty("responses");
        JsonElement? row =
            responses.TryGetProperty("200", out var answer)
            && Followed(answer).TryGetProperty("content", out var content)
            && content.TryGetProperty("application/json", out var json)
            && json.TryGetProperty("schema", out var schema)
                ? schema
                : null;
        return new DescribedOperation(
            item.Name.ToUpperInvariant(),
            path,
            item.Value.TryGetProperty("operationId", out var id) ? id.GetString()! : "",
            [.. responses.EnumerateObject().Select(r => r.Name)],
            row,
            item.Value.TryGetProperty("requestBody", out var body)
                ? [.. Followed(body).GetProperty("content").EnumerateObject().Select(c => c.Name)]
                : []
        )
        {
            Arguments = [.. Examples(item.Value)],
            Example = ExampleOf(item.Value),
            QueryParameters = [.. Parameters(item.Value).Where(p => p.In == "query").Select(p => p.Name)],
        };
    }

    private string? ExampleOf(JsonElement operation) =>
        operation.TryGetProperty("requestBody", out var body)
        && Followed(body).GetProperty("content").TryGetProperty("application/json", out var json)
        && json.TryGetProperty("example", out var example)
            ? example.GetRawText()
            : null;

    /// <summary>The examples of parameters that must be given.</summary>
    private IEnumerable<(string Name, bool IsInPath, string Example)> Examples(JsonElement operation)
    {
        if (!operation.TryGetProperty("parameters", out var parameters))
            yield break;
        foreach (var parameter in parameters.EnumerateArray().Select(Followed))
        {
            var isRequired = parameter.TryGetProperty("required", out var required) && required.ValueKind == JsonValueKind.True;
            var place = parameter.GetProperty("in").GetString();
            if (isRequired && place is "path" or "query" && parameter.TryGetProperty("example", out var example))
                yield return (
                    parameter.GetProperty("name").GetString()!,
                    place == "path",
                    example.ValueKind == JsonValueKind.String ? example.GetString()! : example.GetRawText()
                );
        }
    }

    private static IEnumerable<string> References(JsonElement value) =>
        value.ValueKind switch
        {
            JsonValueKind.Object => value
                .EnumerateObject()
                .SelectMany(m =>
                    m.NameEquals("$ref") && m.Value.ValueKind == JsonValueKind.String ? [m.Value.GetString()!] : References(m.Value)
                ),
            JsonValueKind.Array => value.EnumerateArray().SelectMany(References),
            _ => [],
        };

    private JsonElement? Resolve(string reference)
    {
        var at = _root;
        foreach (var part in reference.TrimStart('#').Split('/', StringSplitOptions.RemoveEmptyEntries))
        {
            var name = Uri.UnescapeDataString(part)
                .Replace("~1", "/", StringComparison.Ordinal)
                .Replace("~0", "~", StringComparison.Ordinal);
            if (at.ValueKind != JsonValueKind.Object || !at.TryGetProperty(name, out at))
                return null;
        }
        return at;
    }

    private JsonElement Followed(JsonElement value) =>
        value.ValueKind == JsonValueKind.Object
        && value.TryGetProperty("$ref", out var reference)
        && Resolve(reference.GetString()!) is { } there
            ? Followed(there)
            : value;

    /// <summary>The schema of the rows of a list; null = the schema is of no list.</summary>
    public JsonElement? RowsOf(JsonElement schema)
    {
        schema = Followed(schema);
        if (schema.TryGetProperty("items", out var items))
            return items;
        return
            schema.TryGetProperty("properties", out var properties)
            && properties.TryGetProperty("rows", out var rows)
            && rows.TryGetProperty("items", out var inner)
            ? inner
            : null;
    }

    /// <summary>Why a value does not fit a schema, with the place; null = it does. Of formats those are looked at that tell types
    /// apart.</summary>
    public string? Misfit(JsonElement value, JsonElement schema, string path = "")
    {
        schema = Followed(schema);
        if (schema.ValueKind != JsonValueKind.Object)
            return null;
        string Wrong(string what) => $"{(path.Length == 0 ? "it" : path)} {what}";
        if (schema.TryGetProperty("oneOf", out var choices))
        {
            var fits = choices.EnumerateArray().Count(c => Misfit(value, c, path) is null);
            if (fits != 1)
                return Wrong($"fits {fits} of {choices.GetArrayLength()} schemas");
        }
        if (IsNoNumber(value) && schema.TryGetProperty("format", out var format) && format.GetString() is ("float" or "double"))
            return null;
        if (schema.TryGetProperty("type", out var type) && !Types(type).Any(t => IsOf(value, t)))
            return Wrong($"is {value.GetRawText()[..Math.Min(40, value.GetRawText().Length)]}, and its type is {type}");
        if (value.ValueKind == JsonValueKind.Null)
            return null;
        if (
            schema.TryGetProperty("allOf", out var parts)
            && parts.EnumerateArray().Select(p => Misfit(value, p, path)).FirstOrDefault(f => f is not null) is { } misfit
        )
            return misfit;
        if (schema.TryGetProperty("enum", out var values) && !values.EnumerateArray().Any(v => JsonElement.DeepEquals(v, value)))
            return Wrong($"is {value}, which is not listed");
        return value.ValueKind switch
        {
            JsonValueKind.Number => MisfitNumber(value, schema) is { } number ? Wrong(number) : null,
            JsonValueKind.String => MisfitText(value.GetString()!, schema) is { } text ? Wrong(text) : null,
            JsonValueKind.Array when schema.TryGetProperty("items", out var items) => value
                .EnumerateArray()
                .Select((v, i) => Misfit(v, items, $"{path}/{i}"))
                .FirstOrDefault(f => f is not null),
            JsonValueKind.Object => MisfitObject(value, schema, path),
            _ => null,
        };
    }

    private string? MisfitObject(JsonElement value, JsonElement schema, string path)
    {
        if (schema.TryGetProperty("required", out var required))
        {
            foreach (var name in required.EnumerateArray().Select(n => n.GetString()!))
            {
                if (!value.TryGetProperty(name, out _))
                    return $"{path}/{name} is missing";
            }
        }
        if (!schema.TryGetProperty("properties", out var properties))
            return null;
        var isClosed = schema.TryGetProperty("additionalProperties", out var more) && more.ValueKind == JsonValueKind.False;
        foreach (var member in value.EnumerateObject())
        {
            if (!properties.TryGetProperty(member.Name, out var inner))
            {
                // Answers hold nothing that is not described, whatever the schema lets through.
                if (isClosed || path.Length == 0)
                    return $"{path}/{member.Name} is not described";
            }
            else if (Misfit(member.Value, inner, $"{path}/{member.Name}") is { } fault)
                return fault;
        }
        return null;
    }

    /// <summary>The texts for what JSON has no numbers for; a schema that told of them would burden each double with a second
    /// type.</summary>
    private static bool IsNoNumber(JsonElement value) =>
        value.ValueKind == JsonValueKind.String && value.GetString() is ("INF" or "-INF" or "NaN");

    private static IEnumerable<string> Types(JsonElement type) =>
        type.ValueKind == JsonValueKind.Array ? type.EnumerateArray().Select(t => t.GetString()!) : [type.GetString()!];

    private static bool IsOf(JsonElement value, string type) =>
        type switch
        {
            "null" => value.ValueKind == JsonValueKind.Null,
            "boolean" => value.ValueKind is JsonValueKind.True or JsonValueKind.False,
            "integer" => value.ValueKind == JsonValueKind.Number && !value.GetRawText().Contains('.'),
            "number" => value.ValueKind == JsonValueKind.Number,
            "string" => value.ValueKind == JsonValueKind.String,
            "array" => value.ValueKind == JsonValueKind.Array,
            "object" => value.ValueKind == JsonValueKind.Object,
            _ => false,
        };

    private static string? MisfitNumber(JsonElement value, JsonElement schema)
    {
        var number = value.GetDouble();
        if (schema.TryGetProperty("minimum", out var least) && number < least.GetDouble())
            return $"is {value}, and at least {least}";
        return schema.TryGetProperty("maximum", out var most) && number > most.GetDouble() ? $"is {value}, and at most {most}" : null;
    }

    private static string? MisfitText(string text, JsonElement schema)
    {
        if (schema.TryGetProperty("maxLength", out var most) && text.EnumerateRunes().Count() > most.GetInt32())
            return $"has more than {most} characters";
        if (schema.TryGetProperty("minLength", out var least) && text.EnumerateRunes().Count() < least.GetInt32())
            return $"has less than {least} characters";
        if (schema.TryGetProperty("pattern", out var pattern) && !System.Text.RegularExpressions.Regex.IsMatch(text, pattern.GetString()!))
            return $"is '{text}', which does not match {pattern}";
        var invariant = System.Globalization.CultureInfo.InvariantCulture;
        var isRight = (schema.TryGetProperty("format", out var format) ? format.GetString() : "") switch
        {
            "date" => DateOnly.TryParseExact(text, "yyyy-MM-dd", invariant, System.Globalization.DateTimeStyles.None, out _),
            "date-time" => DateTimeOffset.TryParse(text, invariant, System.Globalization.DateTimeStyles.None, out _) && text.Contains('T'),
            "uuid" => Guid.TryParseExact(text, "D", out _),
            "duration" => text.TrimStart('-').StartsWith('P'),
            _ => true,
        };
        return isRight ? null : $"is '{text}', which is no {format}";
    }
}
