using System.Collections;
using System.Reflection;
using System.Text;
using System.Text.Json;
using System.Text.Json.Serialization;
using System.Xml.Linq;
using RapidGable.Service.Management.Contracts;

namespace RapidGable.Service.Tests;

/// <summary>Writes the messages of the management interface as TypeScript interfaces, with their comments.</summary>
internal sealed class TypeScriptContracts
{
    private readonly NullabilityInfoContext _nullability = new();
    private readonly Dictionary<string, XElement> _comments = [];
    private readonly SortedDictionary<string, string> _interfaces = new(StringComparer.Ordinal);

    private TypeScriptContracts(IEnumerable<Assembly> documented)
    {
        foreach (var assembly in documented)
        foreach (var member in XDocument.Load(Path.ChangeExtension(assembly.Location, ".xml")).Descendants("member"))
            _comments[member.Attribute("name")!.Value] = member;
    }

    /// <summary>All types of the contracts' room, and those that they are made of.</summary>
    public static string Write()
    {
        var service = typeof(Session).Assembly;
        var contracts = new TypeScriptContracts([service, typeof(Model.EntityModel).Assembly]);
        foreach (var type in service.GetTypes().Where(IsMessage))
            contracts.Add(type);
        return "// The messages of the management interface. 'make contracts' writes this file from the service; do not edit it.\n\n"
            + string.Join('\n', contracts._interfaces.Values);
    }

    private static bool IsMessage(Type type) =>
        type.Namespace == typeof(Session).Namespace && !type.IsNested && !type.IsAssignableTo(typeof(Attribute));

    private void Add(Type type)
    {
        if (!_interfaces.TryAdd(type.Name, ""))
            return;
        var text = new StringBuilder(Comment("", _comments.GetValueOrDefault("T:" + type.FullName)?.Element("summary")));
        text.Append($"export interface {type.Name} {{\n");
        foreach (var property in type.GetProperties(BindingFlags.Public | BindingFlags.Instance).Where(p => p.Name != "EqualityContract"))
        {
            var ignored = property.GetCustomAttribute<JsonIgnoreAttribute>()?.Condition;
            if (ignored == JsonIgnoreCondition.Always)
                continue;
            var isNullable = _nullability.Create(property).ReadState == NullabilityState.Nullable;
            var (optional, orNull) =
                !isNullable ? ("", "")
                : ignored == JsonIgnoreCondition.Never ? ("", " | null")
                : ("?", "");
            var name = property.GetCustomAttribute<JsonPropertyNameAttribute>()?.Name
                ?? JsonNamingPolicy.CamelCase.ConvertName(property.Name);
            text.Append(Comment("  ", CommentOf(type, property)));
            text.Append($"  {name}{optional}: {TypeOf(property)}{orNull};\n");
        }
        _interfaces[type.Name] = text.Append("}\n").ToString();
    }

    private XElement? CommentOf(Type type, System.Reflection.PropertyInfo property) =>
        _comments.GetValueOrDefault($"P:{type.FullName}.{property.Name}")?.Element("summary")
        ?? _comments
            .GetValueOrDefault("T:" + type.FullName)
            ?.Elements("param")
            .FirstOrDefault(p => p.Attribute("name")!.Value == property.Name);

    private static string Comment(string indent, XElement? element) =>
        element is null
            ? ""
            : $"{indent}/** {string.Join(' ', Text(element).Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries))} */\n";

    /// <summary>The text, in which a reference is the name of what it refers to.</summary>
    private static string Text(XElement element) =>
        string.Concat(
            element.Nodes().Select(n => n is XElement { Name.LocalName: "see" } see ? see.Attribute("cref")!.Value.Split('.')[^1] : $"{n}")
        );

    private string TypeOf(System.Reflection.PropertyInfo property) =>
        property.GetCustomAttribute<OneOfAttribute>() is { } words
            ? string.Join(" | ", words.Words.Select(w => $"'{w}'"))
            : TypeOf(property.PropertyType, _nullability.Create(property));

    private string TypeOf(Type type, NullabilityInfo? nullability)
    {
        type = Nullable.GetUnderlyingType(type) ?? type;
        if (type == typeof(string) || type == typeof(DateTime))
            return "string";
        if (type == typeof(bool))
            return "boolean";
        if (type == typeof(int) || type == typeof(long) || type == typeof(double))
            return "number";
        if (type == typeof(object))
            return "string | number";
        if (type == typeof(System.Text.Json.Nodes.JsonObject))
            return "Record<string, unknown>";
        if (type == typeof(System.Text.Json.JsonElement) || type == typeof(System.Text.Json.Nodes.JsonNode))
            return "unknown";
        var generic = type.GetInterfaces().Append(type).Where(i => i.IsGenericType).ToList();
        if (generic.Find(i => i.GetGenericTypeDefinition() == typeof(IReadOnlyDictionary<,>)) is { } dictionary)
            return $"Record<string, {TypeOf(dictionary.GetGenericArguments()[1], null)}>";
        if (type.IsAssignableTo(typeof(IEnumerable)))
        {
            var item = generic.First(i => i.GetGenericTypeDefinition() == typeof(IEnumerable<>)).GetGenericArguments()[0];
            var inner = nullability?.GenericTypeArguments.ElementAtOrDefault(0);
            var text = TypeOf(item, inner) + (inner?.ReadState == NullabilityState.Nullable ? " | null" : "");
            return text.Contains(' ') ? $"({text})[]" : text + "[]";
        }
        Add(type);
        return type.Name;
    }
}
