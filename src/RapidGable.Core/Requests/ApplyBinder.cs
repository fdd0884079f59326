using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>Transformations -> stages.</summary>
internal sealed class ApplyBinder(EntityModel model, string text, StepBudget budget)
{
    private int _columns;

    public BoundApply Bind(ImmutableArray<TransformationSyntax> steps, EntitySet input)
    {
        var stages = Sequence(steps, input);
        var result = stages.IsEmpty ? input : stages[^1].Result;
        return new BoundApply(input, stages, result, result.IsTransient);
    }

    private ImmutableArray<BoundStage> Sequence(ImmutableArray<TransformationSyntax> steps, EntitySet input)
    {
        var stages = ImmutableArray.CreateBuilder<BoundStage>();
        var set = input;
        // An order counts for the skip and top that follow it at once.
        ImmutableArray<BoundOrderTerm> order = [];
        foreach (var step in steps)
        {
            foreach (var stage in Stage(step, set, order))
            {
                stages.Add(stage);
                set = stage.Result;
            }
            order =
                step is SliceSyntax { Order.IsEmpty: false } sorted
                    ? [.. sorted.Order.Select(o => new BoundOrderTerm(Expressions(set, false).BindOrder(o.Expression), o.Descending))]
                : step is SliceSyntax ? order
                : [];
        }
        return stages.ToImmutable();
    }

    private IEnumerable<BoundStage> Stage(TransformationSyntax step, EntitySet set, ImmutableArray<BoundOrderTerm> order) =>
        step switch
        {
            IdentitySyntax or SliceSyntax { Order.IsEmpty: false } => [],
            RestrictSyntax filter => [new BoundRestriction(set, Expressions(set, true).BindCondition(filter.Condition))],
            FindSyntax search => [new BoundRestriction(set, Expressions(set, true).BindSearch(search.Search, set))],
            ExtendSyntax compute => [Extension(compute, set)],
            AggregateSyntax aggregate =>
            [
                Aggregation(
                    aggregate,
                    [],
                    [
                        [],
                    ],
                    set,
                    null
                ),
            ],
            GroupSyntax group => Group(group, set),
            RankSyntax rank => [Ranking(rank, set, [])],
            ConcatSyntax concat => [Union(concat, set)],
            SliceSyntax slice => [new BoundSlice(set, TotalOrders.Of(set, order), slice.Skip, slice.Top)],
            _ => throw new InvalidOperationException(step.GetType().Name),
        };

    private BoundExtension Extension(ExtendSyntax compute, EntitySet set)
    {
        var items = ExpandBinder.Compute(compute.Items, set.Type, c => new ExpressionBinder(model, set, "$apply", text, isFilter: false)
        {
            Computed = c,
            Steps = budget,
        });
        var properties = items.Values.Select(i => i with { Property = i.Property with { Column = NextColumn() } }).ToImmutableArray();
        var type = set.Type.With([.. set.Type.Properties, .. properties.Select(p => p.Property)]);
        return new BoundExtension(set with { Type = type }, properties);
    }

    private string NextColumn() => $"gable_a{++_columns}";

    private BoundRanking Ranking(RankSyntax rank, EntitySet set, ImmutableArray<BoundProperty> partition)
    {
        var by = Expressions(set, false).BindOrder(rank.By);
        if (rank.Kind != RankKind.Count && by.Type is not { IsNumeric: true })
            throw Fault("type", "The values that are summed up are numbers.", rank.By.Position);
        var limit = new BoundLiteral(rank.Limit.Slot, rank.Limit.Kind, rank.Kind == RankKind.Count ? EdmType.Int64 : EdmType.Decimal);
        return new BoundRanking(set, rank.Kind, rank.IsTop, limit, by, partition);
    }

    private IEnumerable<BoundStage> Group(GroupSyntax group, EntitySet set)
    {
        var (keys, sets) = Keys(group, set);
        var stages = new List<BoundStage>();
        var conditions = new List<BoundExpression>();
        var current = set;
        for (var i = 0; i < group.Then.Length; i++)
        {
            var isLast = i == group.Then.Length - 1;
            switch (group.Then[i])
            {
                case AggregateSyntax aggregate when isLast:
                    stages.Add(Aggregation(aggregate, keys, sets, current, ExpressionBinder.And(conditions)));
                    return stages;
                case GroupSyntax inner when isLast && conditions.Count == 0 && sets.Length == 1:
                    // Groups within groups are groups by the keys of both.
                    return [.. stages, .. Group(inner with { Keys = [.. group.Keys, .. inner.Keys] }, current)];
                case RestrictSyntax filter:
                    conditions.Add(Expressions(current, true).BindCondition(filter.Condition));
                    break;
                case FindSyntax search:
                    conditions.Add(Expressions(current, true).BindSearch(search.Search, current));
                    break;
                case ExtendSyntax compute:
                    stages.Add(Extension(compute, current));
                    current = stages[^1].Result;
                    break;
                case IdentitySyntax:
                    break;
                case RankSyntax rank when conditions.Count == 0 && sets.Length == 1:
                    stages.Add(Ranking(rank, current, [.. keys.Select(k => k.From)]));
                    break;
                default:
                    throw new FaultException(
                        RequestFault.NotImplemented(
                            "This transformation inside of groupby, at this place, is not supported.",
                            "$apply",
                            text,
                            group.Then[i].Position
                        )
                    );
            }
        }
        if (group.Then.IsEmpty)
            return [Aggregation(null, keys, sets, set, null)];
        // The members of the groups themselves.
        return conditions.Count == 0 ? stages : [.. stages, new BoundRestriction(current, ExpressionBinder.And(conditions)!)];
    }

    /// <summary>
    /// The properties that are grouped by, as properties of the result, and the combinations that a rollup makes of them.
    /// </summary>
    private (ImmutableArray<(BoundProperty From, Property To)> Keys, ImmutableArray<ImmutableArray<int>> Sets) Keys(
        GroupSyntax group,
        EntitySet set
    )
    {
        var keys = new List<(BoundProperty, Property)>();
        List<int> Add(ImmutableArray<NameSyntax> path)
        {
            var added = new List<int>();
            foreach (var from in Expressions(set, false).BindGroupKey(path))
            {
                if (keys.Exists(k => k.Item1.Property == from.Property && k.Item1.Hops.SequenceEqual(from.Hops)))
                    throw Fault("group-twice", $"'{string.Join('/', path.Select(n => n.Text))}' is grouped by twice.", path[0].Position);
                keys.Add(
                    (
                        from,
                        from.Property with
                        {
                            Column = NextColumn(),
                            Nullable = from.MayBeNull || from.Property.Nullable,
                            Members = [],
                            PresenceColumn = null,
                        }
                    )
                );
                added.Add(keys.Count - 1);
            }
            return added;
        }
        var always = group.Keys.SelectMany(Add).ToList();
        List<List<int>> sets = [always];
        foreach (var rollup in group.Rollups)
        {
            var levels = rollup.Levels.Select(Add).ToList();
            // From the finest to the coarsest; with $all also without any.
            var steps = Enumerable
                .Range(rollup.All ? 0 : 1, levels.Count + (rollup.All ? 1 : 0))
                .Reverse()
                .Select(n => levels.Take(n).SelectMany(l => l))
                .ToList();
            sets = [.. sets.SelectMany(s => steps.Select(step => s.Concat(step).ToList()))];
            if (sets.Count > Limits.GroupingSets)
                throw Fault("too-large", $"The rollups make more than {Limits.GroupingSets} combinations.", group.Position);
        }
        return ([.. keys], [.. sets.Select(s => s.Order().ToImmutableArray())]);
    }

    private BoundGroup Aggregation(
        AggregateSyntax? aggregate,
        ImmutableArray<(BoundProperty From, Property To)> keys,
        ImmutableArray<ImmutableArray<int>> sets,
        EntitySet set,
        BoundExpression? condition
    )
    {
        var isRollup = sets.Length > 1;
        if (isRollup)
            keys =
            [
                .. keys.Select(
                    (k, i) => sets.All(s => s.Contains(i)) ? k : (k.From, k.To with { PresenceColumn = NextColumn(), Nullable = true })
                ),
            ];
        var aggregates = (aggregate?.Items ?? []).Select(i => Aggregate(i, set, condition)).ToImmutableArray();
        var properties = PathProperties.Of(keys.Select(k => (k.From.PathNames, k.To)), model.Namespace);
        foreach (var (item, bound) in (aggregate?.Items ?? []).Zip(aggregates))
        {
            if (
                properties.Any(p => p.Name == bound.Property.Name)
                || aggregates.Count(a => a.Property.Name == bound.Property.Name) > 1
                || set.Type.FindNavigation(bound.Property.Name) is not null
            )
                throw Fault("alias", $"'{bound.Property.Name}' is the name of another property of the result.", item.Alias.Position);
        }
        return new BoundGroup(Transient(set, [.. properties, .. aggregates.Select(a => a.Property)]), keys, aggregates, sets);
    }

    private BoundAggregate Aggregate(AggregateItemSyntax item, EntitySet set, BoundExpression? condition)
    {
        var column = NextColumn();
        Property Named(EdmType type, bool nullable) => new(item.Alias.Text, type, nullable, column) { IsDynamic = true };
        var counted = new EdmType(EdmKind.Decimal, Scale: 0);
        if (item.Value is null)
            return new BoundAggregate(Named(counted, false), AggregationMethod.Count, null, condition);
        var value = Expressions(set, false).BindAggregated(item.Value);
        if (item.Method is not { } method)
            return new BoundAggregate(Named(counted, true), AggregationMethod.Sum, value, condition);
        if (
            !Enum.TryParse<AggregationMethod>(method.Text, ignoreCase: true, out var known)
            || known == AggregationMethod.Count
            || char.IsAsciiDigit(method.Text[0])
        )
        {
            throw method.Text.Contains('.')
                ? new FaultException(
                    RequestFault.NotImplemented($"The aggregation method {method.Text} is not supported.", "$apply", text, method.Position)
                )
                : Fault(
                    "unknown-function",
                    $"There is no aggregation method "
                        + $"'{method.Text}'.{NearestName.Hint(method.Text, ["sum", "min", "max", "average", "countdistinct"])}",
                    method.Position
                );
        }
        if (known is AggregationMethod.Sum or AggregationMethod.Average && value.Type is not { IsNumeric: true })
            throw Fault("type", $"{method.Text} needs numbers, and this is {value.Type!.Name}.", item.Value.Position);
        if (known is AggregationMethod.Min or AggregationMethod.Max && value.Type!.Kind is EdmKind.Boolean or EdmKind.Guid or EdmKind.Enum)
            throw new FaultException(
                RequestFault.NotImplemented($"{method.Text} of {value.Type.Name} is not supported.", "$apply", text, item.Value.Position)
            );
        var property = known switch
        {
            AggregationMethod.Sum => Named(
                value.Type!.IsFloating ? EdmType.Double
                    : value.Type.IsIntegral ? counted
                    : value.Type with { Precision = null },
                true
            ),
            AggregationMethod.Average => Named(EdmType.Double, true),
            AggregationMethod.CountDistinct => Named(counted, false),
            // The lowest and highest are values of the property, kept as it keeps them.
            _ when value is BoundProperty own => own.Property with
            {
                Name = item.Alias.Text,
                Column = column,
                Nullable = true,
                IsDynamic = true,
                Members = [],
                PresenceColumn = null,
            },
            _ => Named(value.Type!, true),
        };
        return new BoundAggregate(property, known, value, condition);
    }

    private BoundUnion Union(ConcatSyntax concat, EntitySet set)
    {
        var branches = concat
            .Sequences.Select(s => Sequence(s, set))
            .Select(stages => (Stages: stages, Rows: stages.IsEmpty ? set : stages[^1].Result))
            .ToList();
        var paths = branches.Select(b => PathProperties.Paths(b.Rows.Type.Properties).ToList()).ToList();
        var all = new List<(string[] Names, Property Property)>();
        foreach (var (names, property) in paths.SelectMany(p => p))
        {
            if (all.Find(a => a.Names.SequenceEqual(names)) is not { Names: not null } known)
                all.Add((names, property));
            else if (
                known.Property.Type.Name != property.Type.Name
                || known.Property.StorageForm != property.StorageForm
                || known.Property.Conversion != property.Conversion
            )
                throw new FaultException(
                    RequestFault.NotImplemented(
                        $"The sequences of concat give '{string.Join('/', names)}' different types, which is not supported.",
                        "$apply",
                        text,
                        concat.Position
                    )
                );
        }
        var results = all.Select(a =>
                (
                    a.Names,
                    Property: a.Property with
                    {
                        Column = NextColumn(),
                        Nullable = true,
                        PresenceColumn = paths.TrueForAll(p =>
                            p.Exists(x => x.Names.SequenceEqual(a.Names) && x.Property.PresenceColumn is null)
                        )
                            ? null
                            : NextColumn(),
                    }
                )
            )
            .ToList();
        var properties = PathProperties.Of(results.Select(r => (r.Names, r.Property)), model.Namespace);
        return new BoundUnion(
            Transient(set, properties),
            [
                .. branches.Select(
                    (b, i) =>
                        (
                            b.Stages,
                            b.Rows,
                            results.Select(r => paths[i].Find(p => p.Names.SequenceEqual(r.Names)).Property).ToImmutableArray<Property?>()
                        )
                ),
            ]
        )
        {
            Columns = [.. results.Select(r => r.Property)],
        };
    }

    /// <summary>Rows that are entities of no set any more: without key and relations.</summary>
    private static EntitySet Transient(EntitySet set, ImmutableArray<Property> properties) =>
        set with
        {
            Type = new EntityType(set.Type.Name, properties, [], [], []),
            DefaultOrder = [],
            ContainedIn = null,
            Version = null,
            SearchedProperties = null,
            SearchIndex = null,
            IsTransient = true,
        };

    private ExpressionBinder Expressions(EntitySet set, bool isFilter) => new(model, set, "$apply", text, isFilter) { Steps = budget };

    private FaultException Fault(string code, string message, int position) =>
        new(new RequestFault(400, code, message, "$apply", text, position));
}
