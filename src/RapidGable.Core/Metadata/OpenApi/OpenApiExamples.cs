using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Microsoft.OpenApi;
using RapidGable.Model;
using RapidGable.Payloads.Json;
using RapidGable.Requests.Rest;

namespace RapidGable.Metadata.OpenApi;

/// <summary>Puts kept answers into a description, where the caller may see all that they hold.</summary>
internal static class OpenApiExamples
{
    private const string Json = "application/json";

    /// <summary>Members that answers have around their rows.</summary>
    private static readonly string[] Around = ["rows", "next", "total", "value"];

    public static void Add(OpenApiDocument document, OpenApiFacts facts)
    {
        foreach (var example in facts.Examples)
        {
            var path = example.Target.Split('?')[0];
            if (!path.StartsWith(facts.Path, StringComparison.Ordinal))
                continue;
            var below = "/" + path[facts.Path.Length..];
            var operation = document
                .Paths.Where(p => Fits(p.Key, below))
                .OrderBy(p => p.Key.Count(c => c == '{'))
                .SelectMany(p => p.Value.Operations!.Where(o => o.Key.Method == example.Method).Select(o => o.Value))
                .FirstOrDefault();
            if (
                operation?.Responses?.TryGetValue("200", out var response) != true
                || response?.Content?.TryGetValue(Json, out var media) != true
                || media is not OpenApiMediaType content
            )
                continue;
            if (!IsFor(facts.Model, below, example))
                continue;
            content.Examples ??= new Dictionary<string, IOpenApiExample>();
            content.Examples[example.Name] = new OpenApiExample
            {
                Summary = example.Summary,
                Value = JsonNode.Parse(example.Body.GetRawText()),
            };
        }
    }

    /// <summary>Whether a path is one of a template's.</summary>
    private static bool Fits(string template, string path) =>
        Regex.IsMatch(
            Uri.UnescapeDataString(path),
            "^" + Regex.Replace(Regex.Escape(template), @"\\\{[^}]*}", "[^/]+") + "$",
            RegexOptions.CultureInvariant,
            TimeSpan.FromSeconds(1)
        );

    /// <summary>
    /// Whether the caller knows every member of an example, and may see its rows: those that rules keep from them may be among it.
    /// </summary>
    private static bool IsFor(EntityModel model, string path, KeptAnswerExample example)
    {
        var first = Uri.UnescapeDataString(path.Split('/', '(')[1]);
        var sets = model.Sets.Where(s => first == s.Name || new RestPaths(model).Of(s.Name).Split('/')[0] == first).ToList();
        var known = sets.SelectMany(s => NamesOf(model, s)).Concat(Around).ToHashSet(StringComparer.Ordinal);
        return sets.Count > 0
            && (example.IsForAll || sets.TrueForAll(s => SeesAll(model, s)))
            && JsonMembers.NamesOf(example.Body).All(m => m.StartsWith('@') || m.Contains('@') || known.Contains(m));
    }

    /// <summary>Whether no rule takes rows or values of a set, or of what it is related to, from the caller.</summary>
    private static bool SeesAll(EntityModel model, EntitySet set) =>
        set.Type.Navigations.Select(model.Target).Append(set).All(s => s.Source is TableSource or QuerySource);

    private static IEnumerable<string> NamesOf(EntityModel model, EntitySet set) =>
        set.Type.Navigations.SelectMany(n => PropertiesOf(model.Target(n).Type).Append(n.Name)).Concat(PropertiesOf(set.Type));

    private static IEnumerable<string> PropertiesOf(EntityType type) =>
        type.Properties.SelectMany(p => p.Members.Select(m => m.Name).Concat(FieldsOf(p.Type)).Append(p.Name));

    private static IEnumerable<string> FieldsOf(EdmType type) =>
        type.Complex?.Properties.SelectMany(p => FieldsOf(p.Type).Append(p.Name)) ?? [];
}
