using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.Drafting;

/// <summary>The queries of a service.</summary>
public sealed partial class ResolvedDeclaration
{
    private void Queries(IEnumerable<EntitySet> queries, int depth)
    {
        var all = queries.ToList();
        if (all.Count == 0)
            return;
        Line(depth, "queries:");
        var start = _lines.Count;
        foreach (var set in all)
            Query(set, DeclarationOf(set));
        // Lines of a query are written for the top of the file.
        for (var i = start; depth > 0 && i < _lines.Count; i++)
            _lines[i] = _lines[i] with { Text = new string(' ', depth * 2) + _lines[i].Text };
    }

    private void Query(EntitySet set, SetDeclaration declaration)
    {
        Line(1, $"- name: {set.Name}", "declared");
        Line(2, "select: |", "declared");
        foreach (var line in ((QuerySource)set.Source).Select.Split('\n'))
            Line(4, line.TrimEnd());
        if (set.Source.Source != _declaration.Source.Value)
            Line(2, $"source: {YamlText.Of(set.Source.Source)}", "declared");
        if (declaration.Query!.Parameters is { IsEmpty: false } parameters)
        {
            var all = ((QuerySource)set.Source).Parameters.DistinctBy(p => p.Placeholder).ToDictionary(p => p.Placeholder);
            Line(2, "parameters:");
            foreach (var parameter in parameters)
                Line(3, $"{parameter.Name.Value}: {Parameter(all[parameter.Name.Value], parameter)}", "declared");
        }
        Line(2, $"gives: {set.Gives.ToString().ToLowerInvariant()}", Origin(declaration, "gives"));
        Line(2, $"type: {set.Type.Name}", declaration.TypeName is null ? Reason(set.Name, "type ") : "declared");
        if (set.Type.Description is { } description)
            Line(2, $"description: {YamlText.Of(description)}", "declared");
        if (!set.IsUnkeyed)
            Line(2, $"key: {List(set.Type.Key.Select(k => k.Column))}", "declared");
        Faces(set, declaration);
        if (set.Gives == QueryResult.Rows)
        {
            Line(2, $"page: {set.PageSize}", Origin(declaration, "page"));
            Line(2, $"largest-page: {set.LargestPage}", Origin(declaration, "largest-page"));
        }
        Rules(set, declaration);
        var order = set.DefaultOrder.Select(o => YamlText.Of(o.Property.Column + (o.Descending ? " desc" : ""))).ToList();
        if (order.Count > 0)
            Line(2, $"order: [{string.Join(", ", order)}]", "declared");
        Columns(set, declaration);
    }

    private static string Parameter(OperationParameter parameter, ParameterDeclaration declared)
    {
        var parts = new List<string> { $"type: {YamlText.Of(declared.Column.Type!.Value)}" };
        void Add(string word, string? value)
        {
            if (value is not null)
                parts.Add($"{word}: {YamlText.Of(value)}");
        }
        Add("description", parameter.Description);
        Add("format", declared.Column.Format?.Value);
        Add("unit", declared.Column.Unit?.Value);
        Add("taken-from", parameter.TakenFrom);
        if (parameter.Nullable)
            parts.Add("required: false");
        Add("default", parameter.DefaultValue);
        Add("example", parameter.Example);
        Add("minimum", declared.Column.Minimum?.Value);
        Add("maximum", declared.Column.Maximum?.Value);
        if (declared.Column.MinLength is { } shortest)
            parts.Add($"min-length: {shortest}");
        if (declared.Column.MaxLength is { } longest)
            parts.Add($"max-length: {longest}");
        Add("pattern", declared.Column.Pattern?.Value);
        if (!declared.Column.Values.IsEmpty)
            parts.Add($"values: {List(declared.Column.Values.Select(v => v.Value))}");
        Add("message", declared.Column.Message?.Value);
        return $"{{ {string.Join(", ", parts)} }}";
    }
}
