using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>
/// Which properties and which related entities are written: <c>$compute</c>, <c>$select</c> and <c>$expand</c> with all that nests in
/// it.
/// </summary>
/// <param name="root">The entities that are asked for, when a nested expression can go back to them; null = it cannot.</param>
internal sealed class ExpandBinder(EntityModel model, string expandText, EntitySet? root, StepBudget steps)
{
    private int _relations;

    /// <summary>Properties that a request computes, each of which may use the ones before it (URL conventions 5.1.9).</summary>
    public static Dictionary<string, BoundComputed> Compute(
        ImmutableArray<ComputeItemSyntax> items,
        EntityType type,
        Func<IReadOnlyDictionary<string, BoundComputed>, ExpressionBinder> binder
    )
    {
        var computed = new Dictionary<string, BoundComputed>();
        foreach (var item in items)
        {
            var bound = binder(computed);
            var expression = bound.BindComputed(item.Expression);
            if (type.FindProperty(item.Alias.Text) is not null || type.FindNavigation(item.Alias.Text) is not null)
                throw bound.Refused(
                    "alias",
                    $"'{type.Name}' has a property '{item.Alias.Text}' already; a computed one needs another name.",
                    item.Alias.Position
                );
            if (ExpressionSize.Fault(expression, "$compute") is { } tooLarge)
                throw new FaultException(tooLarge);
            var property = new Property(item.Alias.Text, expression.Type!, true, item.Alias.Text)
            {
                IsDynamic = true,
                Size = ExpressionSize.Of(expression),
            };
            if (!computed.TryAdd(item.Alias.Text, new BoundComputed(property, expression)))
                throw bound.Refused("alias", $"'{item.Alias.Text}' is computed twice.", item.Alias.Position);
        }
        return computed;
    }

    public static BoundSelect Select(
        SelectSyntax? select,
        EntityType type,
        string schemaNamespace,
        IReadOnlyDictionary<string, BoundComputed> computed,
        string option,
        string text
    )
    {
        ImmutableArray<(DerivedType, ImmutableArray<Property>)> all = [.. type.Derived.Select(d => (d, d.Properties))];
        if (select is null)
            return new BoundSelect(type.Properties, false, []) { Computed = [.. computed.Values], Derived = all };
        var added = new Dictionary<DerivedType, List<Property>>();
        FaultException Unknown(string owner, NameSyntax name, IEnumerable<string> names) =>
            new(
                new RequestFault(
                    400,
                    "unknown-property",
                    $"'{owner}' has no property '{name.Text}'.{NearestName.Hint(name.Text, names)}",
                    option,
                    text,
                    name.Position
                )
            );
        var chosen = new Dictionary<Property, Property?>();
        var navigations = new List<NavigationProperty>();
        var values = new List<BoundComputed>();
        var paths = new List<string>();
        foreach (var item in select.Items)
        {
            var name = item.Path[0];
            paths.Add(string.Join('/', item.Path.Select(n => n.Text)));
            if (name.Text.Contains('.'))
            {
                if (DerivedTypes.Find(type, name.Text, schemaNamespace) is not { } derived || item.Path.Length != 2)
                    throw new FaultException(
                        DerivedTypes.Find(type, name.Text, schemaNamespace) is null
                            ? new RequestFault(
                                400,
                                "unknown-type",
                                $"No type '{name.Text}' derives from '{type.Name}'.",
                                option,
                                text,
                                name.Position
                            )
                            : new RequestFault(400, "not-a-path", $"One property follows '{name.Text}'.", option, text, name.Position)
                    );
                added.TryAdd(derived, []);
                added[derived]
                    .Add(
                        derived.Properties.FirstOrDefault(p => p.Name == item.Path[1].Text)
                            ?? throw Unknown(derived.Name, item.Path[1], derived.Properties.Select(p => p.Name))
                    );
                continue;
            }
            if (item.Path.Length == 1 && item.Select is null && computed.TryGetValue(name.Text, out var value))
                values.Add(value);
            else if (type.FindProperty(name.Text) is { } property)
                chosen[property] = Merge(
                    chosen.GetValueOrDefault(property, null),
                    Part(property, item, 0),
                    property,
                    chosen.ContainsKey(property)
                );
            else if (type.FindNavigation(name.Text) is { } navigation)
            {
                if (item.Path.Length > 1 || item.Select is not null)
                    throw new FaultException(
                        new RequestFault(
                            400,
                            "not-a-path",
                            $"'{name.Text}' leads to other entities; what of them is wanted stands in $expand: "
                                + $"$expand={name.Text}($select=…).",
                            option,
                            text,
                            name.Position
                        )
                    );
                navigations.Add(navigation);
            }
            else
                throw Unknown(type.Name, name, type.MemberNames);
        }
        var properties = select.All ? type.Properties : [.. type.Properties.Where(chosen.ContainsKey).Select(p => chosen[p] ?? p)];
        return new BoundSelect(properties, true, [.. navigations.Distinct()])
        {
            Computed = select.All ? [.. computed.Values] : [.. values.Distinct()],
            Derived = select.All
                ? all
                :
                [
                    .. type.Derived.Select(d =>
                        (d, added.TryGetValue(d, out var own) ? [.. d.Properties.Where(own.Contains)] : ImmutableArray<Property>.Empty)
                    ),
                ],
            Paths = select.All ? [.. paths.Where(p => type.FindNavigation(p) is not null).Prepend("*").Distinct()] : [.. paths.Distinct()],
        };

        // The whole property, or the chosen members of a complex one.
        Property Part(Property property, SelectItemSyntax item, int index)
        {
            var nested = item.Select;
            if (index == item.Path.Length - 1 && nested is null)
                return property;
            var next =
                index + 1 < item.Path.Length ? item.Path[index + 1]
                : nested!.Items is [var only, ..] ? only.Path[0]
                : item.Path[index];
            if (property.Type.Complex is not { } complex)
                throw new FaultException(
                    new RequestFault(
                        400,
                        "not-a-path",
                        $"'{item.Path[index].Text}' is a single value, of which no part can be selected.",
                        option,
                        text,
                        next.Position
                    )
                );
            if (!property.IsGroup)
                throw new FaultException(
                    RequestFault.NotImplemented(
                        $"'{property.Name}' is kept as JSON, and its members are not selected one by one.",
                        option,
                        text,
                        next.Position
                    )
                );
            var wanted = index + 1 < item.Path.Length ? [item.Path[index + 1]] : nested!.Items.Select(i => i.Path[0]).ToList();
            if (nested?.All == true && index == item.Path.Length - 1)
                return property;
            if (item.Path.Length > index + 2 || nested?.Items.Any(i => i.Path.Length > 1 || i.Select is not null) == true)
                throw new FaultException(
                    new RequestFault(
                        400,
                        "not-a-path",
                        $"'{wanted[0].Text}' is a single value, of which no part can be selected.",
                        option,
                        text,
                        next.Position
                    )
                );
            if (wanted.Find(w => complex.FindProperty(w.Text) is null) is { } unknown)
                throw Unknown(complex.Name, unknown, complex.Properties.Select(p => p.Name));
            return property with { Members = [.. property.Members.Where(m => wanted.Exists(w => w.Text == m.Name))] };
        }

        static Property? Merge(Property? before, Property next, Property whole, bool isThere) =>
            !isThere || before is null
                ? next
                : whole with
                {
                    Members = [.. whole.Members.Where(m => before.Members.Contains(m) || next.Members.Contains(m))],
                };
    }

    /// <param name="depth">1 for the request's own.</param>
    public ImmutableArray<BoundExpand> Expand(ImmutableArray<ExpandItemSyntax> items, EntitySet set, int depth)
    {
        if (depth > model.Limits.ExpandDepth)
            throw TooDeep(items[0].Position);
        var named = items.Where(i => i is { Name: not null, Cast: null }).Select(i => i.Name!.Text).ToHashSet();
        var bound = ImmutableArray.CreateBuilder<BoundExpand>();
        foreach (var item in items)
        {
            if (item.Name is null)
            {
                // What is named beside the asterisk stands for itself (Protocol 11.2.5.2).
                foreach (var navigation in set.Type.Navigations.Where(n => !named.Contains(n.Name)))
                    bound.Add(Item(item, navigation, set, depth));
                continue;
            }
            if (set.Type.FindNavigation(item.Name.Text) is not { } found)
                throw Fault(
                    "unknown-property",
                    set.Type.FindProperty(item.Name.Text) is null
                        ? $"'{set.Type.Name}' has no navigation property "
                            + $"'{item.Name.Text}'.{NearestName.Hint(item.Name.Text, set.Type.Navigations.Select(n => n.Name))}"
                        : $"'{item.Name.Text}' is a value, not a navigation property; it cannot be expanded.",
                    item.Name.Position
                );
            var cast =
                item.Cast is { } type && type.Text != model.QualifiedName(set.Type)
                    ? DerivedTypes.Find(set.Type, type.Text, model.Namespace)
                        ?? throw Fault(
                            "unknown-type",
                            $"No type '{type.Text}' derives from "
                                + $"'{set.Type.Name}'."
                                + $"{NearestName.Hint(type.Text, set.Type.Derived.Select(d => $"{model.Namespace}.{d.Name}"))}",
                            type.Position
                        )
                    : null;
            if (bound.Any(b => b.Navigation == found && (b.Cast is null || cast is null || b.Cast == cast)))
                throw Fault("expand-twice", $"'{item.Name.Text}' is expanded twice.", item.Name.Position);
            bound.Add(Item(item, found, set, depth) with { Cast = cast });
        }
        return bound.ToImmutable();
    }

    private FaultException TooDeep(int position) =>
        Fault("too-deep", $"$expand nests more than {model.Limits.ExpandDepth} levels deep.", position);

    private BoundExpand Item(ExpandItemSyntax item, NavigationProperty navigation, EntitySet set, int depth)
    {
        if (++_relations > Limits.ExpandedRelations)
            throw Fault("too-large", $"The request expands more than {Limits.ExpandedRelations} relations.", item.Position);
        CheckOptions(item, navigation, set, depth);
        var target = model.Target(navigation);
        var computed = Compute(item.Compute, target.Type, c => Expressions(target, isFilter: false, c, !navigation.IsRemote));
        var filters = new List<BoundExpression>();
        if (item.Search is { } search)
            filters.Add(Expressions(target, isFilter: true, computed).BindSearch(search, target));
        if (item.Filter is { } filter)
            filters.Add(Expressions(target, isFilter: true, computed, !navigation.IsRemote).BindCondition(filter));
        if (item.Expand.IsEmpty && item.Levels <= 1 && item.Kind == ExpandKind.Count)
            return new BoundExpand(navigation, target, BoundSelect.Nothing)
            {
                Kind = item.Kind,
                Count = Count(item, navigation, set),
                Filter = ExpressionBinder.And(filters),
            };
        var levels = item.Levels == int.MaxValue ? model.Limits.ExpandDepth - depth + 1 : item.Levels;
        if (depth + levels - 1 > model.Limits.ExpandDepth)
            throw TooDeep(item.Position);
        return new BoundExpand(
            navigation,
            target,
            item.Kind == ExpandKind.References
                ? BoundSelect.Nothing
                : Select(item.Select, target.Type, model.Namespace, computed, "$expand", expandText)
        )
        {
            Kind = item.Kind,
            Filter = ExpressionBinder.And(filters),
            Count = item.Count ? Count(item, navigation, set) : null,
            OrderBy =
            [
                .. item.OrderBy.Select(o => new BoundOrderTerm(
                    Expressions(target, isFilter: false, computed, !navigation.IsRemote).BindOrder(o.Expression),
                    o.Descending
                )),
            ],
            Expand = Nested(item, navigation, target, levels, depth + 1),
            Top = item.Top,
            Skip = item.Skip,
            Options = item.Options,
            Levels = levels,
        };
    }

    /// <summary>The item's own nested relations and, as long as levels are left, the same relation again.</summary>
    private ImmutableArray<BoundExpand> Nested(
        ExpandItemSyntax item,
        NavigationProperty navigation,
        EntitySet target,
        int levels,
        int depth
    )
    {
        if (levels <= 1)
            return item.Expand.IsEmpty ? [] : Expand(item.Expand, target, depth);
        if (item.Expand.FirstOrDefault(e => e.Name?.Text == navigation.Name) is { } twice)
            throw Fault("expand-twice", $"'{navigation.Name}' is expanded again by $levels and by name.", twice.Position);
        return Expand(item.Expand.Add(item with { Levels = levels - 1 }), target, depth);
    }

    private void CheckOptions(ExpandItemSyntax item, NavigationProperty navigation, EntitySet set, int depth)
    {
        FaultException NotHere(string option) =>
            Fault("option-not-here", $"'{navigation.Name}' leads to one entity; {option} cannot be used on it.", item.Position);
        if (
            !navigation.IsCollection
            && item.Options.FirstOrDefault(o => o.Name is "$filter" or "$orderby" or "$top" or "$skip" or "$count" or "$search")
                is { } collective
        )
            throw NotHere(collective.Name);
        if (!navigation.IsCollection && item.Kind == ExpandKind.Count)
            throw NotHere("/$count");
        if (
            item.Levels > 1
            && item.Name is not null
            && model.Target(navigation).Type.FindNavigation(navigation.Name)?.TargetSet != navigation.TargetSet
        )
            throw Fault(
                "option-not-here",
                $"$levels follows a relation that leads on from its own target, and '{navigation.Name}' does not.",
                item.Position
            );
        if (!navigation.IsRemote)
            return;
        if (depth > 1 || !item.Expand.IsEmpty || item.Count || item.Kind != ExpandKind.Entities || item.Levels > 1 || item.Skip is not null)
            throw new FaultException(
                RequestFault.NotImplemented(
                    $"'{navigation.Name}' leads to another database. It can be expanded at the first level, without $expand, "
                        + $"$count, $skip, $levels and /$ref.",
                    "$expand",
                    expandText,
                    item.Position
                )
            );
    }

    private BoundCount Count(ExpandItemSyntax item, NavigationProperty navigation, EntitySet set) =>
        Expressions(set, isFilter: true, new Dictionary<string, BoundComputed>())
            .Count("", [], navigation, item.Filter, item.Search, item.Compute);

    /// <param name="isNear">The rows are in the same database as those asked for.</param>
    private ExpressionBinder Expressions(
        EntitySet set,
        bool isFilter,
        IReadOnlyDictionary<string, BoundComputed> computed,
        bool isNear = true
    ) =>
        new(model, set, "$expand", expandText, isFilter)
        {
            Computed = computed,
            IsNested = true,
            Root = isNear ? root : null,
            Steps = steps,
        };

    private FaultException Fault(string code, string message, int position) =>
        new(new RequestFault(400, code, message, "$expand", expandText, position));
}
