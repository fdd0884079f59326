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
public sealed partial class ModelBuilder
{
    private readonly ServiceDeclaration _declaration;
    private readonly IReadOnlyDictionary<string, SourceCatalog> _catalogs;
    private readonly IReadOnlyDictionary<string, ISource> _sources;
    private readonly Diagnostics _diagnostics;
    private readonly List<Inference> _inferences = [];
    private readonly ServiceParts _parts;
    private readonly WritingBuilder _writing;
    private readonly BuildGuard _guard;
    private readonly Dictionary<SetDeclaration, QueryDraft> _queries = new(ReferenceEqualityComparer.Instance);
    private readonly HashSet<SourceObject> _facts = new(ReferenceEqualityComparer.Instance);

    private const string PlainSelect = "It must be one SELECT without parameters, as the database itself understands it.";

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
        _catalogs = catalogs.ToDictionary(c => c.Key, c => c.Value with { Found = c.Value.Found + (item => _facts.Add(item)) });
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
        sets = WithEntities(sets, drafts);
        var model = new EntityModel(_declaration.Name, _declaration.Title, _declaration.Namespace, sets)
        {
            Limits = _declaration.Limits,
            Sql = _declaration.Sql?.Value,
            Handover = _declaration.Handover,
            RequiresAudit = _declaration.RequiresAudit is not null,
            About = _declaration.About,
            VersionOf = _declaration.VersionOf?.Value,
            Deprecation = _declaration.Deprecation,
        };
        _writing.Check(drafts, model);
        model = WithComputed(WithForms(model), drafts).WithEntityQueries();
        var declared = drafts.ToDictionary(d => d.Name, d => d.Declaration);
        model = model.On(new FaceBuilder(_declaration, model, _diagnostics).Build(declared));
        return new BuiltService(model, [.. _inferences], [.. _facts]);
    }

    /// <summary>One set with all that needs no other set; null when it cannot be published, which is then reported.</summary>
    private async Task<SetDraft?> DraftAsync(SetDeclaration set, List<SetDraft> earlier, CancellationToken cancellation)
    {
        var source = _sources[set.Source.Value];
        SourceObject? item;
        if (set.Query?.Routine is not null)
        {
            if (await RoutineAsync(set, source, cancellation) is not { } call)
                return null;
            (set, item) = call;
        }
        else
            item = await FindAsync(set, cancellation);
        if (item is null)
            return null;
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
            Writes = await new WriteCallBuilder(whole, catalog, source, _diagnostics).BuildAsync(cancellation),
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
            _diagnostics.Error(
                "compute",
                $"'{name.Value}' is not a single plain value that is the same for everybody.",
                expression.Location
            );
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
        var source = _sources[set.Source.Value];
        // Its start stays, so that places in it are those of its file.
        var text = select.Value.TrimEnd().TrimEnd(';').TrimEnd();
        var arguments = Array.Empty<StoredValue>();
        if (set.Query is not null)
        {
            var builder = new QueryBuilder(_parts.Types, _diagnostics);
            if (builder.Build(set, select with { Value = text }, source.Dialect) is not { } query)
                return null;
            _queries[set] = query;
            (text, arguments) = QueryBuilder.Trial(query, source.Dialect);
        }
        // Where sessions have variables, an engine takes a placeholder for one, and gives what another request left there.
        else if (SqlMarks.Read(text, source.Dialect.Lexis).Fault is { } fault)
        {
            _diagnostics.Error("select", $"The statement of '{set.From.Value}' cannot be published: {fault}", select.Location, PlainSelect);
            return null;
        }
        try
        {
            return set.Query?.Changes == true
                ? await ActionAsync(set, _queries[set], source, cancellation)
                : await source.DescribeQueryAsync(set.From.Value, text, arguments, cancellation);
        }
        catch (SourceException exception) when (exception.Kind is SourceFaultKind.Broken or SourceFaultKind.Changed)
        {
            _diagnostics.Error(
                "select",
                $"The statement of '{set.From.Value}' cannot be published: {exception.Message}",
                select.Location,
                set.Query switch
                {
                    null => PlainSelect,
                    { Changes: true } => "Each statement must be one that the database itself understands.",
                    _ => "It must be one SELECT that only reads, as the database itself understands it. Write 'changes: true' if it "
                        + "changes something.",
                }
            );
            return null;
        }
    }

    /// <summary>What an action gives, as the engine describes its last statement; where it does not, as the declaration says.</summary>
    private async Task<SourceObject?> ActionAsync(SetDeclaration set, QueryDraft query, ISource source, CancellationToken cancellation)
    {
        foreach (var step in query.Before)
        {
            var (sql, values) = QueryBuilder.Trial(step, source.Dialect);
            await source.DescribeChangeAsync(sql, values, cancellation);
        }
        var (last, arguments) = QueryBuilder.Trial(query, source.Dialect);
        var described = await source.DescribeChangeAsync(last, arguments, cancellation);
        if (set.Query!.Gives == QueryResult.Nothing)
            return QueryObject.Of(set.From.Value, last, arguments, []);
        if (described is null && set.Columns.Any(c => c.Type is null) | set.Columns.IsEmpty)
        {
            _diagnostics.Error(
                "query",
                $"The database does not say what '{set.From.Value}' gives.",
                set.From.Location,
                "Declare its 'columns', each with its type, or write 'gives: nothing'."
            );
            return null;
        }
        var columns = described ?? [.. set.Columns.Select(Declared)];
        if (columns.Count > 0)
            return QueryObject.Of(set.From.Value, last, arguments, columns);
        _diagnostics.Error(
            "query",
            $"The last statement of '{set.From.Value}' gives no rows.",
            set.From.Location,
            "End with a SELECT or with RETURNING, or write 'gives: nothing'."
        );
        return null;
    }

    /// <summary>A column that the engine does not describe, as its declaration says that it is kept.</summary>
    private SourceColumn Declared(ColumnDeclaration column)
    {
        var type =
            column.Unit is not null ? EdmType.Int64
            : column.Format is not null ? EdmType.String
            : TypeBuilder.Primitive(column.Type!.Value) ?? EdmType.String;
        return new SourceColumn(column.Column.Value, "", type, Nullable: true, "declared");
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
        if (visible.IsEmpty && set.Query is not { Gives: QueryResult.Nothing })
        {
            _diagnostics.Error("no-columns", $"The {KindOf(item)} '{item.Name}' has no column that can be published.", set.From.Location);
            return null;
        }
        if ((set.Operations & ~SetOperations.Read) != 0 && set.Query is null)
            CheckWritable(set, item);
        if (set.Query is { Gives: QueryResult.Value } && visible.Length > 1)
        {
            _diagnostics.Error(
                "query",
                $"The query '{name}' gives a value and has {visible.Length} columns.",
                set.From.Location,
                $"Show one of them with 'show', or write 'gives: row'. Its columns: {string.Join(", ", item.Columns.Select(c => c.Name))}."
            );
            return null;
        }
        if (set.Select is not null)
            Note(name, set.Query is null ? "a SELECT" : "a query", "declared");
        if (set.IsKeyless && set.Query is null)
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
            // What statements of the publisher carry out needs nothing of the object but a key.
            (set.Operations & ~SetOperations.Read & ~set.Writes.Aggregate(SetOperations.None, (all, w) => all | w.Operation)) == 0
            && !set.IsKeyless
                ? null
            : item.Kind == SourceObjectKind.Query ? "a SELECT is only read"
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
                || ((set.IsKeyless || set.Query is not null) && name == setName)
                || members.Any(m => m.Name == name)
            )
        )
            name = setName + (set.Query is null ? "_type" : "Row");
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

    private EntitySet EntitySet(SetDraft draft, Relations relations)
    {
        var page = draft.Declaration.Page ?? Math.Min(_declaration.Limits.Page, draft.Declaration.LargestPage ?? _declaration.Limits.Page);
        var description = draft.Declaration.Description?.Value ?? draft.Item.Comment;
        var type = new EntityType(draft.TypeName, draft.Visible, draft.Hidden, draft.Key, relations.Of(draft.Name), description)
        {
            AlternateKeys = AlternateKeys(draft),
            Derived = draft.Derived,
        };
        if (CallOf(draft.Declaration) is not null)
            page = draft.Declaration.LargestPage ?? Math.Max(page, _declaration.Limits.LargestPage);
        return new EntitySet(
            draft.Name,
            type,
            draft.Item.Query is { } select
                ? QueryOf(draft, select)
                : new TableSource(draft.Declaration.Source.Value, draft.Item.Schema, draft.Item.Name) { RowId = draft.Item.RowId }
        )
        {
            Deprecation = draft.Declaration.Deprecation,
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
            Writes = draft.Writes,
            Changes = draft.Changes,
            RequiresFilter = draft.Declaration.RequiresFilter,
            ContainedIn = relations.ContainedIn(draft.Name),
            IsQuery = draft.Declaration.Query is not null,
            Call = CallOf(draft.Declaration),
            Gives = draft.Declaration.Query?.Gives ?? QueryResult.Rows,
            Group = draft.Declaration.Query?.Group,
            Parameters = ParametersOf(draft),
            TakesFromCaller = _queries.GetValueOrDefault(draft.Declaration)?.Parameters.Any(p => p.TakenFrom is not null) == true,
        };
    }

    private QuerySource QueryOf(SetDraft draft, string select) =>
        _queries.TryGetValue(draft.Declaration, out var query)
            ? new QuerySource(draft.Declaration.Source.Value, draft.Declaration.Select?.Value.Trim() ?? CallText(query))
            {
                Pieces = query.Pieces,
                Parameters = query.Marks,
            }
            : new QuerySource(draft.Declaration.Source.Value, select);

    /// <summary>What callers give, those that they must give first (Core.OptionalParameter).</summary>
    private ImmutableArray<OperationParameter> ParametersOf(SetDraft draft) =>
        _queries.TryGetValue(draft.Declaration, out var query)
            ? [.. query.Parameters.Where(p => p.TakenFrom is null).OrderBy(p => p.IsRequired ? 0 : 1)]
            : [];

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
            r is { Denies: false, Who.Scope: AccessScope.Anyone } && (r.May & (SetOperations.Read | SetOperations.Call)) != 0
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
