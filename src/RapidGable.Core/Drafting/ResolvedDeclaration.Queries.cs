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
        if (set.IsAction || declaration.Query!.Routine is not null)
            Line(2, $"changes: {(set.IsAction ? "true" : "false")}", Origin(declaration, "changes"));
        if (set.Call is { Commits: true })
            Line(2, "commits: true", Origin(declaration, "commits"));
        var routine = declaration.Query!.Routine;
        if (routine is not null)
            Line(2, $"routine: {YamlText.Of(routine.Value)}", "declared");
        else
            Line(2, "select: |", "declared");
        foreach (var line in routine is null ? ((QuerySource)set.Source).Select.Split('\n') : [])
            Line(4, line.TrimEnd());
        if (set.Source.Source != _declaration.Source.Value)
            Line(2, $"source: {YamlText.Of(set.Source.Source)}", "declared");
        if (declaration.Query!.Parameters is { IsEmpty: false } parameters && routine is null)
        {
            var last = (QuerySource)set.Source;
            var all = (set.Call?.Before ?? [])
                .Append(last)
                .SelectMany(s => s.Parameters)
                .DistinctBy(p => p.Placeholder)
                .ToDictionary(p => p.Placeholder);
            Line(2, "parameters:");
            foreach (var parameter in parameters)
                Line(3, $"{parameter.Name.Value}: {Parameter(all[parameter.Name.Value], parameter)}", "declared");
        }
        else if (routine is not null && !set.Parameters.IsEmpty)
            RoutineParameters(set, declaration);
        if (set.Binding is { } binding)
            Line(2, $"bound-to: {binding.Set}", "declared");
        Line(2, $"gives: {set.Gives.ToString().ToLowerInvariant()}", Origin(declaration, "gives"));
        if (set.EntitiesOf is { } of)
            Line(2, $"of: {of}", "declared");
        else
            Line(2, $"type: {set.Type.Name}", declaration.TypeName is null ? Reason(set.Name, "type ") : "declared");
        if (set.Type.Description is { } description)
            Line(2, $"description: {YamlText.Of(description)}", "declared");
        if (!set.IsUnkeyed && set.EntitiesOf is null)
            Line(2, $"key: {List(set.Type.Key.Select(k => k.Column))}", "declared");
        Faces(set, declaration);
        if (set is { Gives: QueryResult.Rows, EntitiesOf: null })
        {
            if (!set.IsAction)
                Line(2, $"page: {set.PageSize}", Origin(declaration, "page"));
            Line(2, $"largest-page: {set.LargestPage}", Origin(declaration, "largest-page"));
        }
        Rules(set, declaration);
        if (set.EntitiesOf is not null)
            return;
        var order = set.DefaultOrder.Select(o => YamlText.Of(o.Property.Column + (o.Descending ? " desc" : ""))).ToList();
        if (order.Count > 0)
            Line(2, $"order: [{string.Join(", ", order)}]", "declared");
        Columns(set, declaration);
    }

    /// <summary>What carries out changes of a set in the place of the service.</summary>
    private void Writes(SetDeclaration declaration)
    {
        if (declaration.Writes.IsEmpty)
            return;
        Line(2, "writes:", "declared");
        foreach (var write in declaration.Writes)
        {
            var parameters = string.Join(
                ", ",
                write.Parameters.Select(p => $"{YamlText.Of(p.Parameter.Value)}: {YamlText.Of(p.Column.Value)}")
            );
            var takes = parameters.Length == 0 ? "" : $", parameters: {{ {parameters} }}";
            if (write.Routine is { } routine)
                Line(3, $"{Grant.Words(write.Operation)}: {{ routine: {YamlText.Of(routine.Value)}{takes} }}");
            else
            {
                Line(3, $"{Grant.Words(write.Operation)}:");
                Line(4, "statement: |");
                foreach (var line in write.Text!.Value.Trim().Split('\n'))
                    Line(6, line.TrimEnd());
            }
        }
    }

    /// <summary>The parameters of a routine, of which the catalog says what the declaration does not.</summary>
    private void RoutineParameters(EntitySet set, SetDeclaration declaration)
    {
        Line(2, "# its parameters: " + string.Join(", ", set.Parameters.Select(p => $"{p.Name} {p.Type}")));
        if (declaration.Query!.Parameters.IsEmpty)
            return;
        Line(2, "parameters:");
        foreach (var declared in declaration.Query.Parameters)
        {
            var name = declared.Public?.Value ?? declared.Name.Value;
            if (set.Parameters.FirstOrDefault(p => p.Name == name) is { } parameter)
                Line(3, $"{YamlText.Of(declared.Name.Value)}: {Parameter(parameter, declared)}", "declared");
        }
    }

    private static string Parameter(OperationParameter parameter, ParameterDeclaration declared)
    {
        var parts = new List<string>();
        Add("name", declared.Public?.Value);
        Add("type", declared.Column.Type?.Value);
        void Add(string word, string? value)
        {
            if (value is not null)
                parts.Add($"{word}: {YamlText.Of(value)}");
        }
        Add("description", parameter.Description);
        Add("format", declared.Column.Format?.Value);
        Add("unit", declared.Column.Unit?.Value);
        Add("taken-from", parameter.TakenFrom);
        Add("key", declared.Key?.Value);
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
