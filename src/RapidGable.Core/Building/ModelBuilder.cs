using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>Something that the declaration left open, with what was taken and why.</summary>
/// <param name="Subject">Set, or set and member: <c>Stations</c>, <c>Stations/opened_on</c>.</param>
public sealed record Inference(string Subject, string Value, string Reason);

/// <summary>A service's model with the reasons for everything in it that nobody wrote.</summary>
/// <param name="Facts">All objects of catalogs that it was built on, as they were described.</param>
public sealed record BuiltService(EntityModel Model, ImmutableArray<Inference> Inferences, ImmutableArray<SourceObject> Facts);

/// <summary>Declaration + catalog -> model. Reports every fault it finds and goes on with the rest.</summary>
public sealed class ModelBuilder
{
    private readonly ServiceDeclaration _declaration;
    private readonly IReadOnlyDictionary<string, SourceCatalog> _catalogs;
    private readonly IReadOnlyDictionary<string, ISource> _sources;
    private readonly Diagnostics _diagnostics;
    private readonly List<Inference> _inferences = [];
    private readonly ServiceParts _parts;
    private readonly WritingBuilder _writing;
    private readonly BuildGuard _guard;
    private readonly HashSet<SourceObject> _facts = new(ReferenceEqualityComparer.Instance);

    /// <summary>The word for a version that is made of all values.</summary>
    private const string RowVersion = "row";

    private ModelBuilder(
        ServiceDeclaration declaration,
        IReadOnlyDictionary<string, SourceCatalog> catalogs,
        IReadOnlyDictionary<string, ISource> sources,
        Diagnostics diagnostics
    )
    {
        _declaration = declaration;
        _catalogs = catalogs.ToDictionary(c => c.Key, c => c.Value with { Found = item => _facts.Add(item) });
        _sources = sources;
        _diagnostics = diagnostics;
        _writing = new WritingBuilder(diagnostics);
        _guard = new BuildGuard(diagnostics);
        _parts = new ServiceParts(declaration.Names, new TypeBuilder(declaration, diagnostics), diagnostics, Note, _guard);
    }

    /// <summary>Builds one service. The result holds the sets that are sound; look at the diagnostics for the others.</summary>
    /// <param name="catalogs">Of every source that the service's sets name.</param>
    public static async Task<BuiltService> BuildAsync(
        ServiceDeclaration declaration,
        IReadOnlyDictionary<string, SourceCatalog> catalogs,
        IReadOnlyDictionary<string, ISource> sources,
        Diagnostics diagnostics,
        CancellationToken cancellation
    )
    {
        var builder = new ModelBuilder(declaration, catalogs, sources, diagnostics);
        return await builder.BuildAsync(cancellation);
    }

    private async Task<BuiltService> BuildAsync(CancellationToken cancellation)
    {
        var drafts = new List<SetDraft>();
        foreach (var set in _declaration.Sets)
        {
            if (await _guard.TryAsync(set, () => DraftAsync(set, drafts, cancellation)) is { } draft)
                drafts.Add(draft);
        }
        var relations = new RelationBuilder(drafts, _catalogs, _sources, _parts).Build();
        var sets = drafts.Select(d => _guard.Try(d.Declaration, () => EntitySet(d, relations))).OfType<EntitySet>().ToImmutableArray();
        var model = new EntityModel(_declaration.Name, _declaration.Title, _declaration.Namespace, sets) { Limits = _declaration.Limits };
        _writing.Check(drafts, model);
        model = WithComputed(WithForms(model), drafts);
        return new BuiltService(model, [.. _inferences], [.. _facts]);
    }

    /// <summary>One set with all that needs no other set; null when it cannot be published, which is then reported.</summary>
    private async Task<SetDraft?> DraftAsync(SetDeclaration set, List<SetDraft> earlier, CancellationToken cancellation)
    {
        if (await FindAsync(set, cancellation) is not { } item)
            return null;
        var source = _sources[set.Source.Value];
        item = item with { Columns = [.. item.Columns.Select(c => Retyped(c, set, source))] };
        item = await source.DescribeAsync(item, cancellation);
        _facts.Add(item);
        if (Draft(set, item, earlier) is not { } draft)
            return null;
        var catalog = _catalogs[set.Source.Value];
        var hasDerived = !draft.Declaration.Derived.IsEmpty && !draft.Key.IsEmpty;
        var whole = draft;
        if (hasDerived)
            whole = await new DerivedBuilder(draft, catalog, source, _declaration.Names, _diagnostics).BuildAsync(cancellation);
        return whole with
        {
            Changes = await ChangesAsync(draft, source, cancellation),
            Log = await _writing.LogAsync(draft, catalog, source, cancellation),
        };
    }

    /// <summary>The model with the rules about rows in the form that documents have for them.</summary>
    private static EntityModel WithForms(EntityModel model) =>
        model.With([
            .. model.Sets.Select(set =>
                set.RowRules.IsEmpty
                    ? set
                    : set with
                    {
                        RowRules =
                        [
                            .. set.RowRules.Select(r =>
                                r.Condition is { } condition && Access.BoundRule.BindCondition(model, set, condition).Value is { } rule
                                    ? new ConstraintBuilder(model, set, rule).Describe(r)
                                    : r
                            ),
                        ],
                    }
            ),
        ]);

    /// <summary>The model with the properties that are computed; their types are those of their expressions.</summary>
    private EntityModel WithComputed(EntityModel model, List<SetDraft> drafts) =>
        model.With([
            .. model.Sets.Select(set =>
            {
                var computed = drafts
                    .First(d => d.Name == set.Name)
                    .Declaration.Computed.Select(c => Computed(model, set, c.Name, c.Expression))
                    .OfType<Property>()
                    .ToList();
                return computed.Count == 0 ? set : set with { Type = set.Type.With([.. set.Type.Properties, .. computed]) };
            }),
        ]);

    private Property? Computed(EntityModel model, EntitySet set, Located<string> name, Located<string> expression)
    {
        var bound = Access.BoundRule.BindValue(model, set, expression.Value);
        if (!SimpleIdentifier.IsValid(name.Value))
            _diagnostics.Error(
                "identifier",
                $"'{name.Value}' cannot be a public name.",
                name.Location,
                $"Write for example '{SimpleIdentifier.From(name.Value)}'."
            );
        else if (set.Type.MemberNames.Contains(name.Value) || set.Type.Hidden.Any(h => h.Column == name.Value))
            _diagnostics.Error(
                "name-collision",
                $"'{set.Name}' has another property or column called '{name.Value}'.",
                name.Location,
                "Give the computed property another name."
            );
        else if (set.IsUnkeyed)
            _diagnostics.Error(
                "compute",
                $"Rows without a key have no computed properties; compute '{name.Value}' in a SELECT.",
                name.Location
            );
        else if (bound.Fault is { } fault)
            _diagnostics.Error("compute", $"'{name.Value}' cannot be computed: {fault.Message}", expression.Location, fault.Pointer());
        else if (
            bound.Value!.Condition!.Type is not { IsCollection: false } type
            || type.Kind is EdmKind.Complex or EdmKind.Stream or EdmKind.Enum
            || bound.Value.Attributes.Any()
        )
            _diagnostics.Error("compute", $"'{name.Value}' is no single plain value that is the same for everybody.", expression.Location);
        else
        {
            Note($"{set.Name}/{name.Value}", type.ToString(), $"declared; computed as {expression.Value}");
            // A value that is only looked up stays as it is kept; any other has the engine's usual form.
            var kept = (bound.Value.Condition as BoundProperty)?.Property;
            return new Property(name.Value, type, true, name.Value, kept?.StorageForm)
            {
                Expression = expression.Value,
                Access = PropertyAccess.ReadOnly,
                Conversion = kept?.Conversion,
                Description = kept?.Description,
                Measure = kept?.Measure is { IsPath: false } measure ? measure : null,
            };
        }
        return null;
    }

    /// <summary>A column as a declared type that the engine itself can read it with.</summary>
    private SourceColumn Retyped(SourceColumn column, SetDeclaration set, ISource source) =>
        set.Columns.FirstOrDefault(c => c.Column.Value == column.Name) is { Type: { } word, Format: null, Unit: null, True: null }
        && !_parts.Types.IsTaken(word.Value)
        && TypeBuilder.Primitive(word.Value) is { } wanted
        && source.Retype(column, wanted) is { } retyped
            ? retyped
            : column;

    private async Task<SourceObject?> FindAsync(SetDeclaration set, CancellationToken cancellation)
    {
        if (set.Select is not { } select)
            return FindObject(set);
        try
        {
            return await _sources[set.Source.Value]
                .DescribeQueryAsync(set.From.Value, select.Value.Trim().TrimEnd(';').TrimEnd(), cancellation);
        }
        catch (SourceException exception) when (exception.Kind is SourceFaultKind.Broken or SourceFaultKind.Changed)
        {
            _diagnostics.Error(
                "select",
                $"The SELECT of '{set.From.Value}' cannot be published: {exception.Message}",
                select.Location,
                "It must be one SELECT without parameters, as the database itself understands it."
            );
            return null;
        }
    }

    private SourceObject? FindObject(SetDeclaration set)
    {
        var catalog = _catalogs[set.Source.Value];
        var item = catalog.Find(set.From.Value);
        if (item is null)
        {
            var names = catalog.Objects.Select(catalog.ShortName).ToList();
            _diagnostics.Error(
                "no-object",
                $"The source '{set.Source.Value}' has no table or view '{set.From.Value}'.{NearestName.Hint(set.From.Value, names)}",
                set.From.Location,
                $"See what it offers with 'gable look'."
            );
            return null;
        }
        if (item.Fault is null)
            return item;
        _diagnostics.Error("broken-object", $"'{item.Name}' cannot be published: {item.Fault}.", set.From.Location);
        return null;
    }

    private SetDraft? Draft(SetDeclaration set, SourceObject item, List<SetDraft> earlier)
    {
        var name = set.Name?.Value ?? PublicNames.Set(item.Name, _declaration.Names);
        if (set.Name is null)
            Note(name, name, $"name of {KindOf(item)} {item.Name}");
        if (earlier.Find(d => d.Name == name) is { } same)
        {
            _diagnostics.Error(
                "set-twice",
                $"Two sets are called '{name}': from '{same.Item.Name}' and from '{item.Name}'.",
                set.Location,
                "Give one of them another 'name'."
            );
            return null;
        }
        var builder = new ColumnBuilder(set, item, name, _parts);
        var columns = builder.Build();
        var key = set.IsKeyless ? [] : Key(set, item, columns, name);
        if (key.IsEmpty != set.IsKeyless)
            return null;
        columns = [.. columns.Select(c => key.Contains(c.Property) ? c with { Property = c.Property with { Nullable = false } } : c)];
        key = [.. key.Select(k => k with { Nullable = false })];
        builder.Explain(columns);
        if (builder.Assemble(columns, key) is not { } visible)
            return null;
        if (visible.IsEmpty)
        {
            _diagnostics.Error("no-columns", $"The {KindOf(item)} '{item.Name}' has no column that can be published.", set.From.Location);
            return null;
        }
        if ((set.Operations & ~SetOperations.Read) != 0)
            CheckWritable(set, item);
        if (set.Select is not null)
            Note(name, "a SELECT", "declared");
        if (set.IsKeyless)
            Note(name, "no key", "declared: published as a function that returns a collection");
        return new SetDraft(
            name,
            TypeName(set, item, name, visible, earlier),
            set,
            item,
            visible,
            [.. columns.Where(c => c.Hidden).Select(c => c.Property)],
            key
        );
    }

    private void CheckWritable(SetDeclaration set, SourceObject item)
    {
        var why =
            item.Kind == SourceObjectKind.Query ? "a SELECT is only read"
            : set.IsKeyless ? "rows without a key are only read"
            : item.Kind == SourceObjectKind.MaterializedView ? "a materialized view is only read"
            : null;
        if (why is not null)
            _diagnostics.Error("operation", $"'{item.Name}' cannot be changed: {why}.", set.From.Location, "Allow only 'read'.");
    }

    /// <summary>The unique keys beside the key, as far as callers see their columns and none can be null.</summary>
    private ImmutableArray<ImmutableArray<Property>> AlternateKeys(SetDraft draft)
    {
        var keys = draft
            .Item.UniqueKeys.Append(draft.Item.PrimaryKey)
            .Where(u => u.Length > 0)
            .Select(u => u.Select(c => draft.Visible.FirstOrDefault(p => p.Column == c && !p.IsGroup)).ToList())
            .Where(u => u.All(p => p is { Nullable: false } && p.Type.MayBeKey && p.Conversion is null or { Use: not ConvertedUse.Read }))
            .Select(u => u.Select(p => p!).ToImmutableArray())
            .Where(u => !u.Select(p => p.Name).Order().SequenceEqual(draft.Key.Select(k => k.Name).Order()))
            .ToImmutableArray();
        foreach (var key in keys)
            Note(draft.Name, "alternate key " + string.Join(", ", key.Select(p => p.Name)), "unique index without nulls");
        return keys;
    }

    private ImmutableArray<OrderTerm> Order(SetDraft draft)
    {
        var terms = ImmutableArray.CreateBuilder<OrderTerm>();
        foreach (var (column, descending) in draft.Declaration.Order)
        {
            if (draft.Visible.SelectMany(p => p.Leaves).FirstOrDefault(p => p.Column == column.Value) is not { } property)
            {
                if (draft.Item.Column(column.Value) is not null)
                    _diagnostics.Error(
                        "order",
                        $"The column '{column.Value}' is hidden, and its values would show in next links.",
                        column.Location
                    );
            }
            else if (
                property.Type.Kind is EdmKind.Binary or EdmKind.Complex
                || property.Type.IsCollection
                || property.Conversion is { Use: ConvertedUse.Read or ConvertedUse.Equality }
            )
                _diagnostics.Error(
                    "order",
                    $"The column '{column.Value}' is {property.Type.Name}{(property.Conversion is null ? "" : ", converted,")} "
                        + $"and has no order that the database knows.",
                    column.Location
                );
            else
                terms.Add(new OrderTerm(property, descending));
        }
        return terms.ToImmutable();
    }

    /// <summary>The declared columns of a search; null = none is declared.</summary>
    private ImmutableArray<Property>? Searched(SetDraft draft)
    {
        if (draft.Declaration.Search is not { } columns)
            return null;
        var found = ImmutableArray.CreateBuilder<Property>();
        foreach (var column in columns)
        {
            if (draft.Visible.SelectMany(p => p.Leaves).FirstOrDefault(p => p.Column == column.Value) is { } property)
            {
                if (property is { Type: { Kind: EdmKind.String, IsCollection: false }, Conversion: null })
                    found.Add(property);
                else
                    _diagnostics.Error(
                        "search",
                        $"The column '{column.Value}' is "
                            + $"{property.Type.Name}{(property.Conversion is null ? "" : ", converted")}, and only texts are searched.",
                        column.Location
                    );
            }
            else if (draft.Item.Column(column.Value) is not null)
                _diagnostics.Error(
                    "search",
                    $"The column '{column.Value}' is hidden, and a search would tell what it holds.",
                    column.Location
                );
            else
                _diagnostics.Error(
                    "no-column",
                    $"'{draft.Item.Name}' has no column "
                        + $"'{column.Value}'.{NearestName.Hint(column.Value, draft.Item.Columns.Select(c => c.Name))}",
                    column.Location
                );
        }
        return found.ToImmutable();
    }

    /// <summary>The declared full-text index; null = none is.</summary>
    private TextIndex? SearchIndex(SetDraft draft)
    {
        if (draft.Declaration.SearchIndex is not { } declared)
            return null;
        var known = draft.Item.TextIndexes;
        if (known.FirstOrDefault(i => i.Name == declared.Value) is not { } index)
        {
            _diagnostics.Error(
                "search",
                $"'{draft.Item.Name}' has no full-text index "
                    + $"'{declared.Value}'.{NearestName.Hint(declared.Value, known.Select(i => i.Name))}",
                declared.Location,
                known.IsEmpty
                    ? "It has none at all; name the columns to look through instead: search: [name]."
                    : $"It has {string.Join(", ", known.Select(i => i.Name))}."
            );
            return null;
        }
        if (draft.Key.IsEmpty)
            _diagnostics.Error(
                "search",
                "Rows without a key cannot be found by a full-text index.",
                declared.Location,
                "Declare a 'key', or name the columns to look through."
            );
        foreach (var hidden in index.Columns.Where(c => draft.Visible.SelectMany(p => p.Leaves).All(p => p.Column != c)))
            _diagnostics.Error(
                "search",
                $"The index '{index.Name}' holds the column '{hidden}', which is hidden, and a search would tell what is in it.",
                declared.Location
            );
        return index;
    }

    private async Task<ChangeTracking?> ChangesAsync(SetDraft draft, ISource source, CancellationToken cancellation)
    {
        if (draft.Declaration.Changes is not { } declared)
            return null;
        if (draft.Key.IsEmpty)
        {
            _diagnostics.Error(
                "changes",
                "Rows without a key cannot be told apart, so their changes cannot be tracked.",
                declared.Stamp.Location
            );
            return null;
        }
        if (Stamp(draft.FindColumn(declared.Stamp.Value), declared.Stamp, draft.Item) is not { } stamp)
            return null;
        if (declared.Log is not { } name)
            return new ChangeTracking(stamp, null);
        if (_catalogs[draft.Declaration.Source.Value].Find(name.Value) is not { Fault: null } found)
        {
            _diagnostics.Error("no-object", $"The source has no table '{name.Value}'.", name.Location);
            return null;
        }
        var log = await source.DescribeAsync(found, cancellation);
        Property? Column(string column) =>
            log.Column(column) is { Type: { } type } there
                ? new Property(there.Name, type, there.Nullable, there.Name, there.StorageForm)
                : null;
        var key = draft.Key.Select(k => Column(k.Column)).ToList();
        if (draft.Key.Zip(key).FirstOrDefault(p => p.Second?.Type.Kind != p.First.StoredType.Kind) is { First: { } missing })
        {
            _diagnostics.Error(
                "changes",
                $"'{name.Value}' has no column '{missing.Column}' of type {missing.StoredType.Name} for the key of deleted rows.",
                name.Location
            );
            return null;
        }
        return Stamp(Column(declared.LogStamp!.Value), declared.LogStamp, log) is { } at
            ? new ChangeTracking(
                stamp,
                new DeletionLog(
                    new TableSource(draft.Declaration.Source.Value, log.Schema, log.Name),
                    [.. key.Zip(draft.Key, (own, set) => own! with { Name = set.Name, Type = set.Type, Conversion = set.Conversion })],
                    at
                )
            )
            : null;
    }

    private Property? Stamp(Property? property, Located<string> column, SourceObject item)
    {
        if (property is null)
            _diagnostics.Error(
                "no-column",
                $"'{item.Name}' has no column '{column.Value}'.{NearestName.Hint(column.Value, item.Columns.Select(c => c.Name))}",
                column.Location
            );
        else if (property.Conversion is not null || !(property.Type.IsIntegral || property.Type.Kind == EdmKind.DateTimeOffset))
            _diagnostics.Error(
                "changes",
                $"The column '{column.Value}' is {property.Type.Name}{(property.Conversion is null ? "" : ", converted")}; "
                    + $"changes are found by a whole number or a point in time.",
                column.Location
            );
        else
            return property;
        return null;
    }

    private Property? Version(SetDraft draft)
    {
        if (draft.Declaration.RequiresVersion && draft.Declaration.Version is null)
            _diagnostics.Error(
                "version",
                $"'{draft.Name}' asks for a version that its entities do not have.",
                draft.Declaration.Location,
                "Name the column with 'version', or write 'version: row'."
            );
        if (draft.Declaration.Version is not { } column || column.Value == RowVersion)
            return null;
        if (draft.FindColumn(column.Value) is not { } property)
        {
            _diagnostics.Error(
                "no-column",
                $"'{draft.Item.Name}' has no column "
                    + $"'{column.Value}'.{NearestName.Hint(column.Value, draft.Item.Columns.Select(c => c.Name))}",
                column.Location
            );
            return null;
        }
        if (
            property.Type.Kind is not (EdmKind.Stream or EdmKind.Binary or EdmKind.Complex)
            && !property.Type.IsCollection
            && property.Conversion is null
        )
            return property;
        _diagnostics.Error(
            "version",
            $"The column '{column.Value}' is {property.Type.Name}{(property.Conversion is null ? "" : ", converted")}; a "
                + $"version is a number, a point in time, a uuid or a short text.",
            column.Location
        );
        return null;
    }

    private string TypeName(SetDeclaration set, SourceObject item, string setName, ImmutableArray<Property> members, List<SetDraft> earlier)
    {
        var name = set.TypeName?.Value ?? PublicNames.Type(item.Name, _declaration.Names);
        // The function that reads rows without a key is called like the set, in the same schema; and members are not called like
        // their type.
        if (
            set.TypeName is null
            && (
                earlier.Exists(d => d.TypeName == name)
                || name == "Container"
                || (set.IsKeyless && name == setName)
                || members.Any(m => m.Name == name)
            )
        )
            name = setName + "_type";
        if (earlier.Find(d => d.TypeName == name) is { } same)
            _diagnostics.Error(
                "type-twice",
                $"The sets '{same.Name}' and '{setName}' both call their type '{name}'.",
                (set.TypeName ?? set.From).Location
            );
        if (name == "Container")
            _diagnostics.Error(
                "type-name",
                "'Container' is the name of the entity container; a type needs another.",
                (set.TypeName ?? set.From).Location
            );
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
                _diagnostics.Error(
                    "no-column",
                    $"'{item.Name}' has no column '{unknown.Value}'.{NearestName.Hint(unknown.Value, item.Columns.Select(c => c.Name))}",
                    unknown.Location
                );
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
        else if (item.NaturalKey is { IsEmpty: false } unique)
        {
            names = unique;
            Note(
                setName,
                "key " + string.Join(", ", names),
                item.Kind == SourceObjectKind.MaterializedView ? "unique index of the materialized view" : "unique index without nulls"
            );
        }
        else
        {
            _diagnostics.Error(
                "no-key",
                $"The {KindOf(item)} '{item.Name}' has no key, and an entity needs one.",
                set.From.Location,
                $"Name the columns that identify a row, and 'gable check' proves it:\n  - from: {item.Name}\n    key: "
                    + $"[{KeyExample(item)}]\nIts columns: {string.Join(", ", item.Columns.Select(c => c.Name))}. 'gable keys' "
                    + $"finds the ones that do. Without any, 'keyless: true' publishes it for reading only."
            );
            return [];
        }
        var key = names.Select(n => columns.Find(c => c.Property.Column == n)).ToList();
        for (var i = 0; i < key.Count; i++)
        {
            if (key[i] is null)
                _diagnostics.Error("key-type", $"The key column '{names[i]}' of '{item.Name}' has no type to publish it with.", location);
            else if (key[i]!.Hidden)
                _diagnostics.Error(
                    "key-hidden",
                    $"The column '{names[i]}' is part of the key of '{item.Name}' and cannot be hidden.",
                    location
                );
            else if (key[i]!.Property.Conversion is { Use: ConvertedUse.Read })
                _diagnostics.Error(
                    "key-type",
                    $"The key column '{names[i]}' of '{item.Name}' is converted in a way that the database cannot search by.",
                    location,
                    "Publish it as it is, or declare another 'key'."
                );
            else if (!key[i]!.Property.Type.MayBeKey)
                _diagnostics.Error(
                    "key-type",
                    $"The key column '{names[i]}' of '{item.Name}' is {key[i]!.Property.Type.Name}, which the standard forbids in a key.",
                    location,
                    "Declare another 'key'."
                );
        }
        return key.All(k => k is { Hidden: false } && k.Property.Type.MayBeKey && k.Property.Conversion is not { Use: ConvertedUse.Read })
            ? [.. key.Select(k => k!.Property)]
            : [];
    }

    private static string KeyExample(SourceObject item) =>
        string.Join(
            ", ",
            item.Columns.Where(c => c.Name.EndsWith("id", StringComparison.OrdinalIgnoreCase))
                .Select(c => c.Name)
                .DefaultIfEmpty(item.Columns[0].Name)
        );

    private EntitySet EntitySet(SetDraft draft, Relations relations)
    {
        var page = draft.Declaration.Page ?? Math.Min(_declaration.Limits.Page, draft.Declaration.LargestPage ?? _declaration.Limits.Page);
        var description = draft.Declaration.Description?.Value ?? draft.Item.Comment;
        var type = new EntityType(draft.TypeName, draft.Visible, draft.Hidden, draft.Key, relations.Of(draft.Name), description)
        {
            AlternateKeys = AlternateKeys(draft),
            Derived = draft.Derived,
        };
        return new EntitySet(
            draft.Name,
            type,
            draft.Item.Query is { } select
                ? new QuerySource(draft.Declaration.Source.Value, select)
                : new TableSource(draft.Declaration.Source.Value, draft.Item.Schema, draft.Item.Name) { RowId = draft.Item.RowId }
        )
        {
            PageSize = page,
            LargestPage = draft.Declaration.LargestPage ?? Math.Max(page, _declaration.Limits.LargestPage),
            Operations = draft.Declaration.Operations,
            Rules = Rules(draft),
            DefaultOrder = Order(draft),
            SearchedProperties = Searched(draft),
            SearchIndex = SearchIndex(draft),
            Version = Version(draft),
            IsVersionedByRow = draft.Declaration.Version?.Value == RowVersion,
            RequiresVersion = draft.Declaration.RequiresVersion,
            RowRules = _writing.RowRules(draft),
            Log = draft.Log,
            Changes = draft.Changes,
            RequiresFilter = draft.Declaration.RequiresFilter,
            ContainedIn = relations.ContainedIn(draft.Name),
        };
    }

    /// <summary>The rules of a set, whose columns must be properties outside of the key.</summary>
    private ImmutableArray<Grant> Rules(SetDraft draft)
    {
        // A type with a table of its own adds columns that the rows of the set do not hold.
        var columns = draft
            .Visible.SelectMany(p => p.Leaves)
            .Concat(draft.Derived.SelectMany(d => d.Properties).Where(p => p.Via is null))
            .Select(p => p.Column)
            .ToList();
        foreach (var column in draft.Declaration.Rules.SelectMany(r => r.Hide.Concat(r.Mask)))
        {
            if (draft.Key.Any(k => k.Column == column.Value))
                _diagnostics.Error(
                    "rule",
                    $"'{column.Value}' is part of the key, which tells the entities of '{draft.Name}' apart, so everybody who "
                        + $"sees them sees it.",
                    column.Location
                );
            else if (!columns.Contains(column.Value))
                _diagnostics.Error(
                    "rule",
                    $"'{draft.Name}' has no property of the column '{column.Value}'.{NearestName.Hint(column.Value, columns)}",
                    column.Location
                );
        }
        // The rules of a service are for sets that allow different things.
        foreach (
            var rule in draft.Declaration.Rules.Where(r =>
                draft.Declaration.Written.Contains("rules") && (r.May & ~draft.Declaration.Operations) != 0
            )
        )
            _diagnostics.Warning(
                "rule",
                $"The rule is about '{Grant.Words(rule.May & ~draft.Declaration.Operations)}', which 'allow' of '{draft.Name}' "
                    + $"does not list.",
                rule.Location
            );
        ReportOpenSecrets(draft);
        return [.. draft.Declaration.Rules.Select(r => r.ToGrant())];
    }

    /// <summary>
    /// What looks secret is not opened to everybody by the rules of the whole service without a word; rules of its own are meant.
    /// </summary>
    private void ReportOpenSecrets(SetDraft draft)
    {
        var isOpen = draft.Declaration.Rules.Any(r =>
            r is { Denies: false, Who.Scope: AccessScope.Anyone } && r.May.HasFlag(SetOperations.Read)
        );
        if (!isOpen || draft.Declaration.Written.Contains("rules"))
            return;
        var columns = draft
            .Visible.SelectMany(p => p.Leaves)
            .Select(p => draft.Item.Column(p.Column))
            .OfType<SourceColumn>()
            .Where(c => SensitiveNames.SecretColumn(c) is not null)
            .Select(c => c.Name)
            .ToList();
        if (columns.Count == 0 && SensitiveNames.SecretTable(draft.Item.Name) is null)
            return;
        var what = columns.Count == 0 ? "looks as if it held secrets" : $"has columns that look secret ({string.Join(", ", columns)})";
        _diagnostics.Warning(
            "open-secret",
            $"'{draft.Item.Name}' {what}, and the rules of the service let anyone read it.",
            draft.Declaration.From.Location,
            "Hide them, or write 'rules' for this set that say who may read it."
        );
    }

    private static string KindOf(SourceObject item) => item.Kind.Word().Replace('-', ' ');

    private void Note(string subject, string value, string reason) => _inferences.Add(new Inference(subject, value, reason));
}

/// <summary>A set on its way to the model, before it knows its relations.</summary>
internal sealed record SetDraft(
    string Name,
    string TypeName,
    SetDeclaration Declaration,
    SourceObject Item,
    ImmutableArray<Property> Visible,
    ImmutableArray<Property> Hidden,
    ImmutableArray<Property> Key
)
{
    public ChangeTracking? Changes { get; init; }

    public ChangeLog? Log { get; init; }

    public ImmutableArray<DerivedType> Derived { get; init; } = [];

    /// <summary>The property of a column, alone or in a group; null when the column has none.</summary>
    public Property? FindColumn(string column) => Visible.SelectMany(p => p.Leaves).Concat(Hidden).FirstOrDefault(p => p.Column == column);

    /// <summary>Whether some of these columns identify a row: they hold the key, or a unique key without nulls.</summary>
    public bool IsUnique(IEnumerable<string> columns)
    {
        var names = columns.ToHashSet();
        return Key.All(k => names.Contains(k.Column)) && !Key.IsEmpty
            || (!Item.PrimaryKey.IsEmpty && Item.PrimaryKey.All(names.Contains))
            || Item.UniqueKeys.Any(u => u.All(c => names.Contains(c) && Item.Column(c) is { Nullable: false }));
    }
}
