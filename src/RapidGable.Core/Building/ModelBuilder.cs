using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>Something that the declaration left open, with what was taken and why.</summary>
/// <param name="Subject">Set, or set and member: <c>Stations</c>, <c>Stations/opened_on</c>.</param>
public sealed record Inference(string Subject, string Value, string Reason);

/// <summary>A service's model with the reasons for everything in it that nobody wrote.</summary>
public sealed record BuiltService(EntityModel Model, ImmutableArray<Inference> Inferences);

/// <summary>Declaration + catalog -> model. Reports every fault it finds and goes on with the rest.</summary>
public sealed class ModelBuilder
{
    private readonly ServiceDeclaration _declaration;
    private readonly IReadOnlyDictionary<string, SourceCatalog> _catalogs;
    private readonly IReadOnlyDictionary<string, ISource> _sources;
    private readonly Diagnostics _diagnostics;
    private readonly List<Inference> _inferences = [];

    private ModelBuilder(
        ServiceDeclaration declaration, IReadOnlyDictionary<string, SourceCatalog> catalogs, IReadOnlyDictionary<string, ISource> sources, Diagnostics diagnostics)
    {
        _declaration = declaration;
        _catalogs = catalogs;
        _sources = sources;
        _diagnostics = diagnostics;
    }

    /// <summary>Builds one service. The result holds the sets that are sound; look at the diagnostics for the others.</summary>
    /// <param name="catalogs">Of every source that the service's sets name.</param>
    public static async Task<BuiltService> BuildAsync(
        ServiceDeclaration declaration, IReadOnlyDictionary<string, SourceCatalog> catalogs, IReadOnlyDictionary<string, ISource> sources,
        Diagnostics diagnostics, CancellationToken cancellation)
    {
        var builder = new ModelBuilder(declaration, catalogs, sources, diagnostics);
        return await builder.BuildAsync(cancellation);
    }

    private async Task<BuiltService> BuildAsync(CancellationToken cancellation)
    {
        var drafts = new List<SetDraft>();
        foreach (var set in _declaration.Sets)
        {
            if (FindObject(set) is not { } item)
                continue;
            item = await _sources[set.Source.Value].DescribeAsync(item, cancellation);
            if (Draft(set, item, drafts) is { } draft)
                drafts.Add(draft);
        }
        var navigations = new NavigationBuilder(drafts, _declaration.Names, _diagnostics).Build();
        var sets = drafts.Select(d => EntitySet(d, navigations[d.Name])).ToImmutableArray();
        foreach (var (set, navigation) in sets.SelectMany(s => s.Type.Navigations.Select(n => (s, n))))
            Note($"{set.Name}/{navigation.Name}", navigation.IsCollection ? $"many {navigation.TargetSet}" : $"one of {navigation.TargetSet}",
                "foreign key " + string.Join(", ", navigation.Joins.Select(j => $"{j.Own.Column} = {j.Target.Column}")));
        return new BuiltService(new EntityModel(_declaration.Name, _declaration.Title, _declaration.Namespace, sets), [.. _inferences]);
    }

    private SourceObject? FindObject(SetDeclaration set)
    {
        var catalog = _catalogs[set.Source.Value];
        var item = catalog.Find(set.From.Value);
        if (item is null)
        {
            var names = catalog.Objects.Select(catalog.ShortName).ToList();
            _diagnostics.Error("no-object", $"The source '{set.Source.Value}' has no table or view '{set.From.Value}'.{NearestName.Hint(set.From.Value, names)}",
                set.From.Location, $"See what it offers with 'gable look'.");
            return null;
        }
        if (item.Fault is null)
            return item;
        _diagnostics.Error("broken-object", $"'{item.Name}' cannot be published: {item.Fault}.", set.From.Location);
        return null;
    }

    private SetDraft? Draft(SetDeclaration set, SourceObject item, List<SetDraft> earlier)
    {
        var name = set.Name?.Value ?? OutsideNames.Set(item.Name, _declaration.Names);
        if (set.Name is null)
            Note(name, name, $"name of {KindOf(item)} {item.Name}");
        if (earlier.Find(d => d.Name == name) is { } same)
        {
            _diagnostics.Error("set-twice", $"Two sets are called '{name}': from '{same.Item.Name}' and from '{item.Name}'.", set.Location,
                "Give one of them another 'name'.");
            return null;
        }
        if (new ColumnBuilder(set, item, name, _declaration.Names, _diagnostics, Note).Build() is not { } columns)
            return null;
        var key = Key(set, item, columns, name);
        if (key.Length == 0)
            return null;
        var visible = columns.Where(c => !c.Hidden).Select(c => key.Contains(c.Property) ? c.Property with { Nullable = false } : c.Property).ToImmutableArray();
        var hidden = columns.Where(c => c.Hidden).Select(c => c.Property).ToImmutableArray();
        return new SetDraft(name, TypeName(set, item, name, earlier), set, item, visible, hidden,
            [.. key.Select(k => visible.First(p => p.Column == k.Column))]);
    }

    private string TypeName(SetDeclaration set, SourceObject item, string setName, List<SetDraft> earlier)
    {
        var name = set.TypeName?.Value ?? OutsideNames.Type(item.Name, _declaration.Names);
        if (set.TypeName is null && (earlier.Exists(d => d.TypeName == name) || name == "Container"))
            name = setName + "_type";
        if (earlier.Find(d => d.TypeName == name) is { } same)
            _diagnostics.Error("type-twice", $"The sets '{same.Name}' and '{setName}' both call their type '{name}'.", (set.TypeName ?? set.From).Location);
        if (name == "Container")
            _diagnostics.Error("type-name", "'Container' is the name of the entity container; a type needs another.", (set.TypeName ?? set.From).Location);
        if (set.TypeName is null)
            Note(setName, "type " + name, $"name of {KindOf(item)} {item.Name}");
        return name;
    }

    private ImmutableArray<Property> Key(SetDeclaration set, SourceObject item, List<ColumnDraft> columns, string setName)
    {
        ImmutableArray<string> names;
        var location = set.From.Location;
        if (set.Key.Length > 0)
        {
            location = set.Key[0].Location;
            names = [.. set.Key.Select(k => k.Value)];
            foreach (var unknown in set.Key.Where(k => item.Column(k.Value) is null))
                _diagnostics.Error("no-column", $"'{item.Name}' has no column '{unknown.Value}'.{NearestName.Hint(unknown.Value, item.Columns.Select(c => c.Name))}", unknown.Location);
            if (names.Any(n => item.Column(n) is null))
                return [];
            foreach (var twice in set.Key.GroupBy(k => k.Value).Where(g => g.Count() > 1))
                _diagnostics.Error("key-twice", $"The column '{twice.Key}' stands twice in the key.", twice.Last().Location);
        }
        else if (item.PrimaryKey.Length > 0)
        {
            names = item.PrimaryKey;
            Note(setName, "key " + string.Join(", ", names), "primary key");
        }
        else if (item.UniqueKeys.FirstOrDefault(u => u.All(c => item.Column(c) is { Nullable: false })) is { IsDefault: false } unique)
        {
            names = unique;
            Note(setName, "key " + string.Join(", ", names), "unique index without nulls");
        }
        else
        {
            _diagnostics.Error("no-key", $"The {KindOf(item)} '{item.Name}' has no key, and an entity needs one.", set.From.Location,
                $"Name the columns that identify a row, and 'gable check' proves it:\n  - from: {item.Name}\n    key: [{KeyExample(item)}]\nIts columns: {string.Join(", ", item.Columns.Select(c => c.Name))}. 'gable keys' finds the ones that do.");
            return [];
        }
        var key = names.Select(n => columns.Find(c => c.Property.Column == n)).ToList();
        for (var i = 0; i < key.Count; i++)
        {
            if (key[i] is null)
                _diagnostics.Error("key-type", $"The key column '{names[i]}' of '{item.Name}' has no type to publish it with.", location);
            else if (key[i]!.Hidden)
                _diagnostics.Error("key-hidden", $"The column '{names[i]}' is part of the key of '{item.Name}' and cannot be hidden.", location);
            else if (!key[i]!.Property.Type.MayBeKey)
                _diagnostics.Error("key-type", $"The key column '{names[i]}' of '{item.Name}' is {key[i]!.Property.Type.Name}, which the standard forbids in a key.", location,
                    "Declare another 'key'.");
        }
        return key.All(k => k is { Hidden: false } && k.Property.Type.MayBeKey) ? [.. key.Select(k => k!.Property)] : [];
    }

    private static string KeyExample(SourceObject item) =>
        string.Join(", ", item.Columns.Where(c => c.Name.EndsWith("id", StringComparison.OrdinalIgnoreCase)).Select(c => c.Name).DefaultIfEmpty(item.Columns[0].Name));

    private EntitySet EntitySet(SetDraft draft, ImmutableArray<NavigationProperty> navigations)
    {
        var page = draft.Declaration.Page ?? Math.Min(Limits.DefaultPageSize, draft.Declaration.LargestPage ?? Limits.DefaultPageSize);
        return new EntitySet(draft.Name, new EntityType(draft.TypeName, draft.Visible, draft.Hidden, draft.Key, navigations, draft.Item.Comment),
            new SourceObjectName(draft.Declaration.Source.Value, draft.Item.Schema, draft.Item.Name))
        {
            PageSize = page,
            LargestPage = draft.Declaration.LargestPage ?? Math.Max(page, Limits.DefaultLargestPage),
            Operations = draft.Declaration.Operations,
            Read = draft.Declaration.Read,
        };
    }

    private static string KindOf(SourceObject item) => item.Kind == SourceObjectKind.Table ? "table" : "view";

    private void Note(string subject, string value, string reason) => _inferences.Add(new Inference(subject, value, reason));
}

/// <summary>A set on its way to the model, before it knows its relations.</summary>
internal sealed record SetDraft(
    string Name, string TypeName, SetDeclaration Declaration, SourceObject Item,
    ImmutableArray<Property> Visible, ImmutableArray<Property> Hidden, ImmutableArray<Property> Key)
{
    public Property? FindColumn(string column) => Visible.Concat(Hidden).FirstOrDefault(p => p.Column == column);
}
