using System.Collections.Immutable;
using System.Text;
using System.Text.Json.Nodes;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Drafting;

/// <summary>A service as it is declared, beside what becomes of it: what a form needs to show and change it.</summary>
/// <param name="File">Its file, such as <c>services/rivers.yaml</c>.</param>
/// <param name="Written">The file's words as texts, lists and mappings, without those of sets.</param>
/// <param name="Sets">In the order of the file; queries are no part of it.</param>
public sealed record ServiceDesign(string Service, string File, JsonObject Written, ImmutableArray<SetDesign> Sets)
{
    /// <summary>Queries, actions and routines, in the order of the file, those of groups last.</summary>
    public ImmutableArray<QueryDesign> Queries { get; init; } = [];

    /// <summary>The design of a service; null = the draft has none, or it cannot be read as YAML.</summary>
    public static ServiceDesign? Of(LoadedWorkspace workspace, string service)
    {
        if (workspace.Declaration.Services.FirstOrDefault(s => s.Name == service) is not { } declaration)
            return null;
        var file = declaration.Location.File;
        if (!workspace.Declaration.Texts.Files.TryGetValue(file, out var bytes))
            return null;
        var text = Encoding.UTF8.GetString(bytes.AsSpan()).TrimStart('\ufeff');
        if (Root(text) is not { } root)
            return null;
        var items = root.Find("sets") is YamlList list ? list.Items : [];
        var built = workspace.FindService(service);
        var sets = declaration
            .Sets.Where(s => s.Query is null)
            .Select(s => (Declaration: s, Index: PlaceOf(s, items, text)))
            .Where(s => s.Index >= 0)
            .Select(s => SetDesign.Of(s.Declaration, s.Index, items[s.Index], declaration.Names, workspace, built));
        var queries = declaration
            .Sets.Where(s => s.Query is not null)
            .Select(s => (Declaration: s, Place: Places(root).FirstOrDefault(p => IsAt(s, p.Node, text))))
            .Where(s => s.Place.Node is YamlMapping)
            .Select(s => QueryDesign.Of(s.Declaration, s.Place.Path, (YamlMapping)s.Place.Node, built));
        return new ServiceDesign(service, file, Words(root, "sets", "queries", "query-groups"), [.. sets]) { Queries = [.. queries] };
    }

    /// <summary>All queries of a file with the words that lead to them.</summary>
    private static IEnumerable<(ImmutableArray<YamlEdit.Step> Path, YamlNode Node)> Places(YamlMapping root)
    {
        if (root.Find("queries") is YamlList queries)
            for (var at = 0; at < queries.Items.Length; at++)
                yield return (["queries", at], queries.Items[at]);
        if (root.Find("query-groups") is not YamlList groups)
            yield break;
        for (var group = 0; group < groups.Items.Length; group++)
        {
            if ((groups.Items[group] as YamlMapping)?.Find("queries") is not YamlList own)
                continue;
            for (var at = 0; at < own.Items.Length; at++)
                yield return (["query-groups", group, "queries", at], own.Items[at]);
        }
    }

    private static YamlMapping? Root(string text)
    {
        try
        {
            return YamlTree.Read(text) as YamlMapping;
        }
        catch (InvalidDataException)
        {
            return null;
        }
    }

    /// <summary>The place of a declared set in the list of the file.</summary>
    private static int PlaceOf(SetDeclaration set, ImmutableArray<YamlNode> items, string text)
    {
        for (var at = 0; at < items.Length; at++)
        {
            if (IsAt(set, items[at], text))
                return at;
        }
        return -1;
    }

    private static bool IsAt(SetDeclaration set, YamlNode node, string text)
    {
        var before = text.AsSpan(0, node.Start);
        var column = node.Start - (before.LastIndexOf('\n') + 1) + 1;
        return before.Count('\n') + 1 == set.Location.Line && column == set.Location.Column;
    }

    internal static JsonObject Words(YamlMapping mapping, params ReadOnlySpan<string> without)
    {
        var words = new JsonObject();
        foreach (var (key, value) in mapping.Entries)
        {
            if (!without.Contains(key.Value))
                words[key.Value] = Json(value);
        }
        return words;
    }

    private static JsonNode? Json(YamlNode node) =>
        node switch
        {
            YamlMapping mapping => Words(mapping),
            YamlList list => new JsonArray([.. list.Items.Select(Json)]),
            YamlScalar { IsEmpty: false } scalar => System.Text.Json.Nodes.JsonValue.Create(scalar.Value),
            _ => null,
        };
}

/// <summary>A set as it is declared, beside what becomes of it.</summary>
/// <param name="Index">Its place in the file's list of sets, from 0.</param>
/// <param name="From">The table or view; the name of the set when it stands over a SELECT.</param>
/// <param name="OwnName">The name that it has when none is declared.</param>
/// <param name="OwnTypeName">The same of its entity type.</param>
/// <param name="Written">Its words as texts, lists and mappings.</param>
public sealed record SetDesign(
    int Index,
    string From,
    string Source,
    string Name,
    string OwnName,
    string TypeName,
    string OwnTypeName,
    JsonObject Written
)
{
    /// <summary>The line of the file in which it starts, from 1.</summary>
    public int Line { get; init; }

    /// <summary>What it is read from; null = it is not in the catalog, or a SELECT.</summary>
    public SourceObject? Item { get; init; }

    /// <summary>The set that is published; null = its declaration has faults.</summary>
    public EntitySet? Built { get; init; }

    /// <summary>Columns of the key, by declaration or by the catalog; empty = it has none.</summary>
    public ImmutableArray<string> Key { get; init; } = [];

    /// <summary>The operations that are allowed.</summary>
    public SetOperations Operations { get; init; }

    /// <summary>The rules that hold, those of the service where it has none itself.</summary>
    public ImmutableArray<RuleDeclaration> Rules { get; init; } = [];

    /// <summary>In the order of the properties; without a declared one, in that of the table.</summary>
    public ImmutableArray<ColumnDesign> Columns { get; init; } = [];

    internal static SetDesign Of(
        SetDeclaration set,
        int index,
        YamlNode node,
        NamingPolicy names,
        LoadedWorkspace workspace,
        BuiltService? built
    )
    {
        var catalog = workspace.Catalogs.GetValueOrDefault(set.Source.Value);
        var found = set.Select is null ? catalog?.Find(set.From.Value) : null;
        // What was described knows more than the list of the catalog.
        var item = found is null ? null : built?.Facts.LastOrDefault(f => f.Name == found.Name && f.Schema == found.Schema) ?? found;
        var (ownName, ownType) = (
            PublicNames.Set(item?.Name ?? set.From.Value, names),
            PublicNames.Type(item?.Name ?? set.From.Value, names)
        );
        var name = set.Name?.Value ?? ownName;
        var model = built?.Model.FindSet(name);
        return new SetDesign(
            index,
            set.From.Value,
            set.Source.Value,
            name,
            ownName,
            set.TypeName?.Value ?? ownType,
            ownType,
            node is YamlMapping words ? ServiceDesign.Words(words) : new JsonObject { ["from"] = set.From.Value }
        )
        {
            Line = set.Location.Line,
            Item = item,
            Built = model,
            Key =
                set.IsKeyless ? []
                : !set.Key.IsEmpty ? [.. set.Key.Select(k => k.Value)]
                : item?.NaturalKey ?? [],
            Operations = set.Operations,
            Rules = set.Rules,
            Columns = [.. Arranged(ColumnsOf(item, model), set).Select(c => ColumnDesign.Of(c, set, names, model))],
        };
    }

    /// <summary>Columns that are shown in a declared order stand in it, before the others.</summary>
    private static IEnumerable<SourceColumn> Arranged(IEnumerable<SourceColumn> columns, SetDeclaration set)
    {
        var places = set.Show.Select((s, at) => (s.Value, at)).DistinctBy(s => s.Value).ToDictionary(s => s.Value, s => s.at);
        return columns.OrderBy(c => places.GetValueOrDefault(c.Name, int.MaxValue));
    }

    /// <summary>The columns of the table; of a SELECT those that are published.</summary>
    private static IEnumerable<SourceColumn> ColumnsOf(SourceObject? item, EntitySet? model) =>
        item?.Columns
        ?? (model?.Type.Properties.SelectMany(p => p.Leaves).Concat(model.Type.Hidden) ?? [])
            .Where(p => p.Expression is null)
            .Select(p => new SourceColumn(p.Column, p.DeclaredType ?? "", p.Type, p.Nullable, ""));
}

/// <summary>A column as it is declared, beside the property that becomes of it.</summary>
/// <param name="OwnName">The public name that it has when none is declared.</param>
/// <param name="Type">What it is published as; null = it cannot be.</param>
/// <param name="OwnType">The type that it has when none is declared; null = it has none.</param>
/// <param name="Reason">Why it maps to its own type, or why it does not.</param>
public sealed record ColumnDesign(
    string Column,
    string DeclaredType,
    string Name,
    string OwnName,
    string? Type,
    string? OwnType,
    string Reason
)
{
    public bool IsNullable { get; init; }

    /// <summary>Callers see it.</summary>
    public bool IsShown { get; init; }

    /// <summary>The comment of the database; null = it has none.</summary>
    public string? Comment { get; init; }

    /// <summary>The complex property that holds it; null = it stands by itself.</summary>
    public string? Group { get; init; }

    internal static ColumnDesign Of(SourceColumn column, SetDeclaration set, NamingPolicy names, EntitySet? model)
    {
        var declared = set.Columns.FirstOrDefault(c => c.Column.Value == column.Name);
        var renamed = declared?.Name ?? set.Rename.FirstOrDefault(r => r.Column.Value == column.Name).Name;
        var ownName = PublicNames.Property(column.Name, names);
        var property = model
            ?.Type.Properties.SelectMany(p => p.Leaves)
            .Concat(model.Type.Hidden)
            .FirstOrDefault(p => p.Column == column.Name);
        var isHidden = set.Hide.Any(h => h.Value == column.Name) || (set.Show.Length > 0 && set.Show.All(s => s.Value != column.Name));
        return new ColumnDesign(
            column.Name,
            column.DeclaredType,
            renamed?.Value ?? ownName,
            ownName,
            property?.Type.ToString() ?? declared?.Type?.Value ?? column.Type?.ToString(),
            column.Type?.ToString(),
            column.Reason
        )
        {
            IsNullable = property?.Nullable ?? column.Nullable,
            IsShown = !isHidden && (column.Type is not null || property is not null),
            Comment = column.Comment,
            Group = set.Groups.FirstOrDefault(g => g.Columns.Any(c => c.Value == column.Name))?.Name.Value,
        };
    }
}
