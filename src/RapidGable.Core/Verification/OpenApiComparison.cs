using System.Collections.Immutable;
using System.Text.Json;

namespace RapidGable.Verification;

/// <summary>Compares two OpenAPI documents of a service in the eyes of those who call it by its addresses.</summary>
public sealed class OpenApiComparison
{
    private static readonly string[] Methods = ["get", "post", "put", "patch", "delete"];

    /// <summary>The endings of schemas of bodies that callers send.</summary>
    private static readonly string[] Sent = ["Create", "Update", "Replace", "Arguments"];

    private readonly JsonElement _before;
    private readonly JsonElement _now;
    private readonly List<CsdlDifference> _found = [];

    private OpenApiComparison(JsonElement before, JsonElement now) => (_before, _now) = (before, now);

    /// <summary>What has changed between two documents, and which of it breaks clients.</summary>
    /// <exception cref="JsonException">When one of them is no JSON.</exception>
    public static ImmutableArray<CsdlDifference> Compare(string before, string now)
    {
        using var first = JsonDocument.Parse(before);
        using var second = JsonDocument.Parse(now);
        var comparison = new OpenApiComparison(first.RootElement, second.RootElement);
        comparison.Operations();
        comparison.Schemas();
        return [.. comparison._found];
    }

    private void Breaks(string subject, string what, string meaning) => _found.Add(new CsdlDifference(subject, what, meaning, true));

    private void Adds(string subject, string what, string meaning) => _found.Add(new CsdlDifference(subject, what, meaning, false));

    private void Operations()
    {
        var (before, now) = (OperationsOf(_before), OperationsOf(_now));
        // An address is told once, however many operations it has.
        var (paths, left) = (now.Keys.Select(PathOf).ToHashSet(), before.Keys.Select(PathOf).ToHashSet());
        foreach (var path in left.Where(p => !paths.Contains(p)))
            Breaks(path, "the address is gone", "Requests to it answer 404.");
        foreach (var path in paths.Where(p => !left.Contains(p)))
            Adds(path, "the address is new", "Nothing changes for those who do not use it.");
        foreach (var operation in before.Keys.Where(o => paths.Contains(PathOf(o)) && !now.ContainsKey(o)))
            Breaks(operation, "the operation is gone", "Requests with this method answer 405.");
        foreach (var operation in now.Keys.Where(o => left.Contains(PathOf(o)) && !before.ContainsKey(o)))
            Adds(operation, "the operation is new", "Nothing changes for those who do not use it.");
        foreach (var (operation, was) in before.Where(o => now.ContainsKey(o.Key)))
            Parameters(operation, Named(_before, was), Named(_now, now[operation]));
    }

    private static string PathOf(string operation) => operation[(operation.IndexOf(' ') + 1)..];

    private static Dictionary<string, JsonElement> OperationsOf(JsonElement root) =>
        !root.TryGetProperty("paths", out var paths)
            ? []
            : paths
                .EnumerateObject()
                .SelectMany(p =>
                    p.Value.EnumerateObject()
                        .Where(o => Methods.Contains(o.Name))
                        .Select(o => ($"{o.Name.ToUpperInvariant()} {p.Name}", o.Value))
                )
                .ToDictionary(o => o.Item1, o => o.Value);

    private static Dictionary<string, JsonElement> Named(JsonElement root, JsonElement operation) =>
        !operation.TryGetProperty("parameters", out var list)
            ? []
            : list.EnumerateArray()
                .Select(p => Resolve(root, p))
                .Where(p => p.TryGetProperty("name", out _) && p.TryGetProperty("in", out _))
                .Select(p => (Key: NameOf(p), Parameter: p))
                .DistinctBy(p => p.Key)
                .ToDictionary(p => p.Key, p => p.Parameter);

    /// <summary>What stands in the path and behind it may have one name.</summary>
    private static string NameOf(JsonElement parameter)
    {
        var name = parameter.GetProperty("name").GetString()!;
        return parameter.GetProperty("in").GetString() switch
        {
            "path" => $"{{{name}}}",
            "header" => $"header {name}",
            _ => name,
        };
    }

    private void Parameters(string operation, Dictionary<string, JsonElement> before, Dictionary<string, JsonElement> now)
    {
        foreach (var name in before.Keys.Where(n => !now.ContainsKey(n)))
            Breaks($"{operation} {name}", "the parameter is gone", "Requests that send it answer 400.");
        foreach (var (name, parameter) in now)
        {
            var isRequired = IsRequired(parameter);
            if (!before.TryGetValue(name, out var was))
            {
                if (isRequired)
                    Breaks($"{operation} {name}", "the parameter is new and must be sent", "Requests without it answer 400.");
            }
            else if (isRequired && !IsRequired(was))
                Breaks($"{operation} {name}", "the parameter must be sent now", "Requests without it answer 400.");
            else if (TypeOf(was, _before) != TypeOf(parameter, _now))
                Breaks(
                    $"{operation} {name}",
                    $"the parameter was {TypeOf(was, _before)} and is {TypeOf(parameter, _now)}",
                    "Values that were right may answer 400."
                );
        }
    }

    private static bool IsRequired(JsonElement parameter) =>
        parameter.TryGetProperty("required", out var required) && required.ValueKind == JsonValueKind.True;

    private static string TypeOf(JsonElement parameter, JsonElement root) =>
        parameter.TryGetProperty("schema", out var schema) ? Shown(root, schema) : "any value";

    private void Schemas()
    {
        var (before, now) = (SchemasOf(_before), SchemasOf(_now));
        foreach (var (name, was) in before.Where(s => now.ContainsKey(s.Key)))
            Schema(name, was, now[name]);
    }

    private static Dictionary<string, JsonElement> SchemasOf(JsonElement root) =>
        root.TryGetProperty("components", out var parts) && parts.TryGetProperty("schemas", out var schemas)
            ? schemas.EnumerateObject().ToDictionary(s => s.Name, s => s.Value)
            : [];

    private void Schema(string name, JsonElement before, JsonElement now)
    {
        var (had, has) = (Members(before, "properties"), Members(now, "properties"));
        var isSent = Sent.Any(e => name.EndsWith(e, StringComparison.Ordinal));
        foreach (var member in had.Keys.Where(m => !has.ContainsKey(m)))
            Breaks(
                $"{name}.{member}",
                "the member is gone",
                isSent ? "Bodies that hold it answer 400." : "Clients that read it find nothing, and filters by it answer 400."
            );
        foreach (var member in has.Keys.Where(m => !had.ContainsKey(m)))
            Adds($"{name}.{member}", $"the member is new ({Shown(_now, has[member])})", "Clients that do not know it pass it over.");
        foreach (var (member, was) in had.Where(m => has.ContainsKey(m.Key)))
        {
            var (old, present) = (Shown(_before, was), Shown(_now, has[member]));
            if (old != present)
                Breaks($"{name}.{member}", $"it was {old} and is {present}", "Clients read or send it as the wrong type.");
        }
        var (mustHave, mustNow) = (Required(before), Required(now));
        foreach (var member in mustNow.Where(m => isSent && !mustHave.Contains(m)))
            Breaks($"{name}.{member}", "the member must be sent now", "Bodies without it answer 400.");
    }

    private static Dictionary<string, JsonElement> Members(JsonElement schema, string name) =>
        schema.ValueKind == JsonValueKind.Object
        && schema.TryGetProperty(name, out var members)
        && members.ValueKind == JsonValueKind.Object
            ? members.EnumerateObject().ToDictionary(m => m.Name, m => m.Value)
            : [];

    private static HashSet<string> Required(JsonElement schema) =>
        schema.ValueKind == JsonValueKind.Object && schema.TryGetProperty("required", out var list) && list.ValueKind == JsonValueKind.Array
            ? [.. list.EnumerateArray().Select(r => r.GetString()!)]
            : [];

    /// <summary>The type of a schema in a few words.</summary>
    private static string Shown(JsonElement root, JsonElement schema)
    {
        if (schema.ValueKind != JsonValueKind.Object)
            return "any value";
        if (schema.TryGetProperty("$ref", out var reference))
            return reference.GetString()!.Split('/')[^1];
        foreach (var choice in new[] { "oneOf", "anyOf", "allOf" })
        {
            if (schema.TryGetProperty(choice, out var list))
                return string.Join(" or ", list.EnumerateArray().Select(c => Shown(root, c)));
        }
        var type = schema.TryGetProperty("type", out var named)
            ? named.ValueKind == JsonValueKind.Array
                ? string.Join(" or ", named.EnumerateArray().Select(t => t.GetString()))
                : named.GetString()!
            : "any value";
        var format = schema.TryGetProperty("format", out var said) ? $" ({said.GetString()})" : "";
        var length = schema.TryGetProperty("maxLength", out var most) ? $" of {most} characters" : "";
        var items = schema.TryGetProperty("items", out var item) ? $" of {Shown(root, item)}" : "";
        return type + format + length + items;
    }

    private static JsonElement Resolve(JsonElement root, JsonElement element)
    {
        if (element.ValueKind != JsonValueKind.Object || !element.TryGetProperty("$ref", out var reference))
            return element;
        foreach (var segment in reference.GetString()!.Split('/').Skip(1))
            root = root.TryGetProperty(segment, out var next) ? next : default;
        return root;
    }
}
