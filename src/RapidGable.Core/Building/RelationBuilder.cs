using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>The navigation properties of each set, and which sets are part of others.</summary>
internal sealed record Relations(
    IReadOnlyDictionary<string, List<NavigationProperty>> BySet,
    IReadOnlyDictionary<string, string> Containers
)
{
    public ImmutableArray<NavigationProperty> Of(string set) => [.. BySet[set]];

    public string? ContainedIn(string set) => Containers.GetValueOrDefault(set);
}

/// <summary>
/// Declared relations, then foreign keys -> navigation in both directions, under the names of <see cref="RelationNames"/>.
/// </summary>
internal sealed class RelationBuilder(
    List<SetDraft> drafts,
    IReadOnlyDictionary<string, SourceCatalog> catalogs,
    IReadOnlyDictionary<string, ISource> sources,
    ServiceParts service
)
{
    private readonly Diagnostics _diagnostics = service.Diagnostics;
    private readonly Dictionary<string, List<NavigationProperty>> _bySet = drafts.ToDictionary(
        d => d.Name,
        _ => new List<NavigationProperty>()
    );
    private readonly Dictionary<string, string> _containers = [];

    // Foreign keys that a declared relation speaks of, by the set that has them and the set they lead to.
    private readonly HashSet<(string From, string To, ForeignKey Key)> _declared = [];

    public Relations Build()
    {
        foreach (var draft in drafts)
        {
            foreach (var relation in draft.Declaration.Relations)
                service.Guard.Do(draft.Declaration, () => Declared(draft, relation));
        }
        var inferred = new List<InferredRelation>();
        foreach (var draft in drafts.Where(d => !d.Key.IsEmpty))
        {
            foreach (var foreignKey in draft.Item.ForeignKeys)
            {
                if (TargetOf(draft, foreignKey) is not { } target || _declared.Contains((draft.Name, target.Name, foreignKey)))
                    continue;
                if (service.Guard.Try(draft.Declaration, () => Inferred(draft, target, foreignKey)) is { } relation)
                    inferred.Add(relation);
            }
        }
        foreach (var (relation, (there, back)) in inferred.Zip(new RelationNames(service.Names, IsTaken).Choose(inferred)))
            Add(relation, there, back);
        return new Relations(_bySet, _containers);
    }

    private SetDraft? TargetOf(SetDraft from, ForeignKey foreignKey) => drafts.Find(d => !d.Key.IsEmpty && Leads(from, foreignKey, d));

    private static bool Leads(SetDraft from, ForeignKey foreignKey, SetDraft to) =>
        to.Declaration.Source.Value == from.Declaration.Source.Value
        && to.Item.Query is null
        && to.Item.FullName == foreignKey.TargetObject;

    private void Declared(SetDraft from, RelationDeclaration relation)
    {
        var place = relation.Name.Location;
        if (drafts.Find(d => d.Name == relation.To.Value) is not { } to)
        {
            _diagnostics.Error(
                "no-set",
                $"There is no set '{relation.To.Value}' to relate to.{NearestName.Hint(relation.To.Value, drafts.Select(d => d.Name))}",
                relation.To.Location
            );
            return;
        }
        if (from.Key.IsEmpty || to.Key.IsEmpty)
        {
            _diagnostics.Error("relation", $"A collection without a key takes part in no relation.", place);
            return;
        }
        if (from.Visible.Any(p => p.Name == relation.Name.Value) || _bySet[from.Name].Exists(n => n.Name == relation.Name.Value))
        {
            _diagnostics.Error(
                "name-collision",
                $"'{from.Name}' has another property called '{relation.Name.Value}'.",
                place,
                "Give the relation another name."
            );
            return;
        }
        if (relation.Through is { } through)
            Linked(from, to, relation, through);
        else if (Pairs(from, to, relation) is { } joins)
            Relate(from, to, relation, joins);
    }

    /// <summary>The column pairs of a declared relation; null when they cannot be told, which is then reported.</summary>
    private ImmutableArray<JoinPair>? Pairs(SetDraft from, SetDraft to, RelationDeclaration relation)
    {
        if (relation.On.IsEmpty)
            return ByForeignKey(from, to, relation);
        var pairs = relation.On;
        if (pairs.All(p => p.Target.Value.Length == 0))
        {
            if (pairs.Length != to.Key.Length)
            {
                _diagnostics.Error(
                    "relation",
                    $"'on' names {pairs.Length} of the {to.Key.Length} columns that identify '{to.Name}' "
                        + $"({string.Join(", ", to.Key.Select(k => k.Column))}).",
                    relation.Name.Location,
                    "Name as many columns, in the order of that key, or say which belong together: on: { own_column: other_column }."
                );
                return null;
            }
            pairs = [.. pairs.Select((p, i) => (p.Own, p.Target with { Value = to.Key[i].Column }))];
        }
        var joins = ImmutableArray.CreateBuilder<JoinPair>();
        foreach (var (own, target) in pairs)
        {
            var (left, right) = (Column(from, own), Column(to, target));
            if (left is null || right is null)
                return null;
            joins.Add(new JoinPair(left, right));
        }
        if (joins.FirstOrDefault(j => !AreAlike(j, from, to)) is { } wrong)
        {
            _diagnostics.Error(
                "relation-types",
                $"'{from.Name}' and '{to.Name}' cannot be related by '{wrong.Own.Column}' and '{wrong.Target.Column}': "
                    + $"{wrong.Own.Type.Name} and {wrong.Target.Type.Name} do not compare.",
                relation.Name.Location
            );
            return null;
        }
        return joins.ToImmutable();
    }

    private bool AreAlike(JoinPair pair, SetDraft from, SetDraft to)
    {
        var (a, b) = (pair.Own.StoredType, pair.Target.StoredType);
        var isSame = a.Kind == b.Kind || (a.IsIntegral && b.IsIntegral);
        var isRemote = from.Declaration.Source.Value != to.Declaration.Source.Value;
        return isSame
            && (isRemote || sources[from.Declaration.Source.Value].Dialect.CanJoin(pair.Own.StorageForm, pair.Target.StorageForm));
    }

    private Property? Column(SetDraft draft, Located<string> name)
    {
        if (draft.FindColumn(name.Value) is { } property)
            return property;
        _diagnostics.Error(
            "no-column",
            $"'{draft.Item.Name}' has no column '{name.Value}'.{NearestName.Hint(name.Value, draft.Item.Columns.Select(c => c.Name))}",
            name.Location
        );
        return null;
    }

    private ImmutableArray<JoinPair>? ByForeignKey(SetDraft from, SetDraft to, RelationDeclaration relation)
    {
        var there = from.Item.ForeignKeys.Where(f => Leads(from, f, to)).Select(f => (f.Columns, f.TargetColumns));
        var back =
            from == to
                ? []
                : to.Item.ForeignKeys.Where(f => Leads(to, f, from)).Select(f => (Columns: f.TargetColumns, TargetColumns: f.Columns));
        var found = there.Concat(back).ToList();
        if (found.Count == 1)
        {
            var joins = found[0]
                .Columns.Zip(found[0].TargetColumns, (o, t) => (Own: from.FindColumn(o), Target: to.FindColumn(t)))
                .ToList();
            if (joins.TrueForAll(j => j.Own is not null && j.Target is not null))
                return [.. joins.Select(j => new JoinPair(j.Own!, j.Target!))];
        }
        _diagnostics.Error(
            "relation",
            found.Count == 0
                ? $"No foreign key links '{from.Item.Name}' and '{to.Item.Name}', so the columns must be named."
                : $"{found.Count} foreign keys tie '{from.Item.Name}' and '{to.Item.Name}' together, so the columns have to be named.",
            relation.Name.Location,
            $"Write 'on: {{ column of {from.Item.Name}: column of {to.Item.Name} }}'."
        );
        return null;
    }

    private void Relate(SetDraft from, SetDraft to, RelationDeclaration relation, ImmutableArray<JoinPair> joins)
    {
        var reverse = joins.Select(j => new JoinPair(j.Target, j.Own)).ToImmutableArray();
        var isRemote = from.Declaration.Source.Value != to.Declaration.Source.Value;
        var (there, back) = (ForeignKeyOf(from, to, joins), ForeignKeyOf(to, from, reverse));
        var isMany = !to.IsUnique(joins.Select(j => j.Target.Column));
        var isManyBack = !from.IsUnique(joins.Select(j => j.Own.Column));
        // Without a foreign key, the side that many lead from is the one that says so.
        var isHeldByTarget = there is null && (back is not null || isMany);
        if (relation.IsContained && !Contain(from, to, relation, joins, isRemote))
            return;
        var backName = !relation.HasBack
            ? null
            : relation.Back?.Value
                ?? (
                    isManyBack ? Free(to, from.Name, $"{from.Name}_by_{relation.Name.Value}")
                    : back is not null ? ForwardName(to, from, [.. joins.Select(j => j.Target)])
                    : Free(to, PublicNames.Relation(from.TypeName, service.Names), $"{from.TypeName}_by_{relation.Name.Value}")
                );
        if (
            relation.Back is { } asked
            && (
                to.Visible.Any(p => p.Name == asked.Value)
                || _bySet[to.Name].Exists(n => n.Name == asked.Value)
                || (to == from && asked.Value == relation.Name.Value)
            )
        )
        {
            _diagnostics.Error(
                "name-collision",
                $"'{to.Name}' has another property called '{asked.Value}'.",
                asked.Location,
                "Give the way back another name."
            );
            return;
        }
        Add(
            from,
            to,
            new NavigationProperty(
                relation.Name.Value,
                to.Name,
                isMany,
                !isMany && (there is null || joins.Any(j => j.Own.Nullable)),
                joins,
                backName
            )
            {
                OnDelete = back?.OnDelete,
                IsContained = relation.IsContained,
                IsRemote = isRemote,
                IsHeldByTarget = isHeldByTarget,
            },
            Reason(there ?? back)
        );
        if (backName is not null)
            Add(
                to,
                from,
                new NavigationProperty(
                    backName,
                    from.Name,
                    isManyBack,
                    !isManyBack && (back is null || joins.Any(j => j.Target.Nullable)),
                    reverse,
                    relation.Name.Value
                )
                {
                    OnDelete = there?.OnDelete,
                    IsRemote = isRemote,
                    IsHeldByTarget = !isHeldByTarget,
                },
                Reason(there ?? back)
            );
    }

    private static string Reason(ForeignKey? foreignKey) => foreignKey is null ? "declared" : "declared, over a foreign key";

    /// <summary>The foreign key over exactly these pairs, which is then spoken for.</summary>
    private ForeignKey? ForeignKeyOf(SetDraft from, SetDraft to, ImmutableArray<JoinPair> joins)
    {
        var found = from.Item.ForeignKeys.FirstOrDefault(f =>
            Leads(from, f, to)
            && f.Columns.Length == joins.Length
            && f.Columns.Zip(f.TargetColumns).All(p => joins.Any(j => j.Own.Column == p.First && j.Target.Column == p.Second))
        );
        if (found is not null)
            _declared.Add((from.Name, to.Name, found));
        return found;
    }

    private bool Contain(SetDraft from, SetDraft to, RelationDeclaration relation, ImmutableArray<JoinPair> joins, bool isRemote)
    {
        var why =
            isRemote ? "its rows are in another source"
            : from == to ? "a set cannot be part of itself"
            : !from.Key.All(k => joins.Any(j => j.Own.Column == k.Column)) ? $"the relation does not run over the key of '{from.Name}'"
            : _containers.TryGetValue(to.Name, out var other) ? $"it is part of '{other}' already"
            : _containers.ContainsKey(from.Name) ? $"'{from.Name}' is itself part of another set, and one level is what this version serves"
            : _containers.ContainsValue(to.Name) ? $"'{to.Name}' itself contains others, and one level is what this version serves"
            : null;
        if (why is null)
            _containers[to.Name] = from.Name;
        else
            _diagnostics.Error("contained", $"'{to.Name}' cannot be contained in '{from.Name}': {why}.", relation.Name.Location);
        return why is null;
    }

    /// <summary>Many-to-many over a table that refers to both sides and holds each pair once.</summary>
    private void Linked(SetDraft from, SetDraft to, RelationDeclaration relation, Located<string> through)
    {
        var catalog = catalogs[from.Declaration.Source.Value];
        if (from.Declaration.Source.Value != to.Declaration.Source.Value || catalog.Find(through.Value) is not { } link)
        {
            _diagnostics.Error(
                "relation",
                $"The source '{from.Declaration.Source.Value}' has no table '{through.Value}' between '{from.Name}' and "
                    + $"'{to.Name}'.{NearestName.Hint(through.Value, catalog.Objects.Select(catalog.ShortName))}",
                through.Location
            );
            return;
        }
        var own = link.ForeignKeys.Where(f => f.TargetObject == from.Item.FullName).ToList();
        var target = link.ForeignKeys.Where(f => f.TargetObject == to.Item.FullName).ToList();
        if (from.Item.FullName == to.Item.FullName && own.Count == 2)
            (own, target) = ([own[0]], [own[1]]);
        if (own.Count != 1 || target.Count != 1)
        {
            _diagnostics.Error(
                "relation",
                $"The table '{through.Value}' needs one foreign key to '{from.Item.Name}' and one to '{to.Item.Name}'; it has "
                    + $"{own.Count} and {target.Count}.",
                through.Location
            );
            return;
        }
        var pair = own[0].Columns.Concat(target[0].Columns).ToHashSet();
        if (!link.UniqueKeys.Append(link.PrimaryKey).Any(k => k.Length > 0 && k.All(pair.Contains)))
        {
            _diagnostics.Error(
                "relation",
                $"The table '{through.Value}' may hold a pair twice: no key of it stands on {string.Join(", ", pair)} alone.",
                through.Location,
                "Publish the table as a set of its own instead."
            );
            return;
        }
        var ownSide = own[0].TargetColumns.Zip(own[0].Columns, (o, l) => (Own: from.FindColumn(o), Link: l)).ToList();
        var targetSide = target[0].Columns.Zip(target[0].TargetColumns, (l, t) => (Link: l, Target: to.FindColumn(t))).ToList();
        if (ownSide.Exists(s => s.Own is null) || targetSide.Exists(s => s.Target is null))
            return;
        var name = new TableSource(from.Declaration.Source.Value, link.Schema, link.Name);
        var backName = !relation.HasBack ? null : relation.Back?.Value ?? Free(to, from.Name, $"{from.Name}_by_{relation.Name.Value}");
        var needs = link
            .Columns.FirstOrDefault(c =>
                c is { Nullable: false, HasComputedDefault: false, IsComputed: false, DefaultValue: null } && !pair.Contains(c.Name)
            )
            ?.Name;
        var there = new LinkTable(name, [.. ownSide.Select(s => (s.Own!, s.Link))], [.. targetSide.Select(s => (s.Link, s.Target!))])
        {
            Needs = needs,
        };
        Add(
            from,
            to,
            new NavigationProperty(relation.Name.Value, to.Name, true, false, [], backName) { Link = there },
            $"declared, through the table {link.Name}"
        );
        if (backName is not null)
            Add(
                to,
                from,
                new NavigationProperty(backName, from.Name, true, false, [], relation.Name.Value)
                {
                    Link = new LinkTable(name, [.. targetSide.Select(s => (s.Target!, s.Link))], [.. ownSide.Select(s => (s.Link, s.Own!))])
                    {
                        Needs = needs,
                    },
                },
                $"declared, through the table {link.Name}"
            );
    }

    private void Add(SetDraft from, SetDraft to, NavigationProperty navigation, string reason)
    {
        _bySet[from.Name].Add(navigation);
        service.Note(
            $"{from.Name}/{navigation.Name}",
            navigation.IsCollection ? $"many {to.Name}" : $"one of {to.Name}",
            navigation.Joins.IsEmpty
                ? reason
                : $"{reason}{(reason.EndsWith("key", StringComparison.Ordinal) ? " " : ": ")}"
                    + $"{string.Join(", ", navigation.Joins.Select(j => $"{j.Own.Column} = {j.Target.Column}"))}"
        );
    }

    /// <summary>The relation of a foreign key; null when it cannot be published, which is then reported if it might surprise.</summary>
    private InferredRelation? Inferred(SetDraft from, SetDraft to, ForeignKey foreignKey)
    {
        var own = foreignKey.Columns.Select(from.FindColumn).ToList();
        var other = foreignKey.TargetColumns.Select(to.FindColumn).ToList();
        if (own.Contains(null) || other.Contains(null))
            return null;
        var joins = own.Zip(other, (o, t) => new JoinPair(o!, t!)).ToImmutableArray();
        if (joins.FirstOrDefault(j => !AreAlike(j, from, to)) is not { } wrong)
            return new InferredRelation(from, to, foreignKey, joins, from.IsUnique(foreignKey.Columns));
        var columns = $"{from.Item.Name}.{wrong.Own.Column} -> {to.Item.Name}.{wrong.Target.Column}";
        _diagnostics.Warning(
            "relation-types",
            $"The foreign key {columns} is not published: the types differ ({wrong.Own.Type.Name}, {wrong.Target.Type.Name}).",
            from.Declaration.From.Location
        );
        return null;
    }

    private void Add(InferredRelation relation, string there, string back)
    {
        var (from, to, joins) = (relation.From, relation.To, relation.Joins);
        var reverse = joins.Select(j => new JoinPair(j.Target, j.Own)).ToImmutableArray();
        Add(from, to, new NavigationProperty(there, to.Name, false, joins.Any(j => j.Own.Nullable), joins, back), "foreign key");
        var wayBack = new NavigationProperty(back, from.Name, !relation.IsOne, relation.IsOne, reverse, there)
        {
            OnDelete = relation.Key.OnDelete,
            IsHeldByTarget = true,
        };
        Add(to, from, wayBack, "foreign key");
    }

    /// <summary>The name of the single-valued way back of a declared relation.</summary>
    private string ForwardName(SetDraft from, SetDraft to, List<Property> own)
    {
        var (wanted, otherwise) = new RelationNames(service.Names, IsTaken).Forward(to, [.. own.Select(p => p.Name)]);
        return Free(from, wanted, otherwise);
    }

    // A member that is called like its type has no name in some languages.
    private bool IsTaken(SetDraft set, string name) =>
        set.TypeName == name
        || set.Visible.Any(p => p.Name == name)
        || _bySet[set.Name].Exists(n => n.Name == name)
        || set.Declaration.Relations.Any(r => r.Name.Value == name)
        || set.Declaration.Computed.Any(c => c.Name.Value == name)
        || drafts.Exists(d => d.Declaration.Relations.Any(r => r.To.Value == set.Name && r.Back?.Value == name));

    private string Free(SetDraft set, string wanted, string otherwise) =>
        IsTaken(set, wanted) ? RelationNames.FirstFree(otherwise, n => !IsTaken(set, n)) : wanted;
}
