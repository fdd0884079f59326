using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Queries;

/// <summary>Bound tree -> relational plan.</summary>
public sealed class Planner
{
    private const string Main = "t0";

    private readonly EntityModel _model;
    private readonly BoundRequest _request;
    private PlanLevel _main;
    private readonly List<ChildrenPlan> _children = [];

    private Planner(EntityModel model, BoundRequest request)
    {
        _model = model;
        _request = request;
        _main = new PlanLevel(model, Main, n => "t" + n);
    }

    /// <summary>The relational plan of a request: tables, joins, conditions, order and output, without SQL.</summary>
    public static QueryPlan Plan(PermittedRequest permitted, EntityModel model) => new Planner(model, permitted.Request).Plan();

    private QueryPlan Plan()
    {
        var path = _request.Path;
        var conditions = PathConditions();
        foreach (var joined in path.IsCrossJoin ? path.Root!.Type.Navigations : [])
            _main.JoinAll(joined);
        var table = new PlanTable(path.Target.Source, Main);
        if (_request.Apply is { } apply)
        {
            table = table with { Apply = Applied(apply, table, conditions) };
            conditions = [];
        }
        // Over a bridge its own row tells whether the entity before the last step exists.
        var probe = path.Hops.Length == 0 || path.Hops[^1].Navigation.IsRemote ? null : ParentProbe();
        var bridge = Bridge();
        conditions.AddRange(OptionConditions());
        var filtered = new SelectPlan(table)
        {
            Joins = _main.Joins,
            Where = [.. conditions],
            Aliases = _main.Aliases,
        };
        return path.Kind == ResourceKind.Count
            ? new QueryPlan(filtered, null, probe, [], Shape(Empty(_request.Target), null, [])) { Bridge = bridge }
            : Rows(filtered, probe) with
            {
                Bridge = bridge,
            };
    }

    /// <summary>The stages of <c>$apply</c> over what the path leads to; what follows names only their result.</summary>
    private ApplyPlan Applied(BoundApply apply, PlanTable table, List<PlanCondition> conditions)
    {
        var own = _request.Path.Filters;
        foreach (var filter in own)
            _main.Reach(filter);
        var input = new SelectPlan(table)
        {
            Joins = _main.Joins,
            Where = [.. conditions, .. own.Select(f => new PlanFilter(f))],
            Aliases = _main.Aliases,
        };
        _main = new PlanLevel(_model, Main, n => "t" + n);
        return ApplyPlanner.Plan(apply, input, _model);
    }

    /// <summary>The conditions that options make: the filter, or for changes what has changed since.</summary>
    private IEnumerable<PlanCondition> OptionConditions()
    {
        if (_request.Filter is { } filter)
            _main.Reach(filter);
        if (_request.IsDelta)
            yield return new PlanChanged(new PlanColumn(Main, _request.Target.Changes!.Stamp), 0);
        else if (_request.Filter is { } condition)
            yield return new PlanFilter(condition);
    }

    /// <summary>The plan of an answer that holds rows or values.</summary>
    /// <param name="filtered">All rows that belong to it, which a count is over.</param>
    /// <param name="probe">Whether the entity before the last step exists; null = it is not asked.</param>
    private QueryPlan Rows(SelectPlan filtered, SelectPlan? probe)
    {
        var path = _request.Path;
        var isCollection = path.Kind == ResourceKind.Collection;
        var order = isCollection ? _main.Order(_request.TotalOrder) : [];
        var level = new Expansion(_main, [], null);
        var entity = Entity(_request.Select ?? BoundSelect.Nothing, _request.Target, level) with { IsReference = path.IsReference };
        var value = Value(level);
        int? mediaType = path.Property?.MediaTypeColumn is { } column
            ? _main.Output(new PlanColumn(Main, new Property(column, EdmType.String, true, column)))
            : null;
        entity = Expanded(entity, _request.Expand, level);
        var remoteOwn = _request
            .Expand.Where(e => e.Navigation.IsRemote)
            .ToDictionary(e => e, e => e.Navigation.Joins.Select(j => Cell(j.Own, level)).ToImmutableArray());
        var orderColumns = order.Select(o => _main.Output(o.Value)).ToImmutableArray();
        int? matches = _request is { IsDelta: true, Filter: { } kept } ? _main.Output(new PlanExpression(kept)) : null;
        int? total = path is { Root.Gives: not QueryResult.Rows, Hops.IsEmpty: true } ? _main.Output(new PlanTotal()) : null;
        if (path.IsCrossJoin)
            entity = entity with { Joined = Joined(level) };
        var main = Page(filtered, order);
        var remotes = remoteOwn.Select((r, i) => Remote(r.Key, main, r.Value, i)).ToImmutableArray();
        entity = entity with { Remotes = [.. remotes.Select(r => r.Shape with { TypeColumn = entity.TypeColumn(r.Shape.Expand.Cast) })] };
        var shape = Shape(entity, value, orderColumns) with { MediaTypeColumn = mediaType, MatchColumn = matches, TotalColumn = total };
        return new QueryPlan(main, _request.Count ? filtered : null, probe, Children(main), shape)
        {
            Tracking = _request.CanTrack || _request.IsDelta ? _request.Target.Changes : null,
            Remotes = [.. remotes.Select(r => r.Plan)],
        };
    }

    /// <summary>The value of a path that ends with a property; null = it ends with entities.</summary>
    private ShapeCell? Value(Expansion level) =>
        _request.Path.Property is not { } property ? null
        : _request.Path.Kind == ResourceKind.ValueCount ? Counted(property)
        : Cell(property, level);

    /// <summary>The rows of one page, with all columns that anything asked for.</summary>
    private SelectPlan Page(SelectPlan filtered, ImmutableArray<PlanOrder> order)
    {
        var isSought = _request.PositionNulls is not null && !_request.Target.IsUnkeyed;
        return filtered with
        {
            Joins = _main.Joins,
            Output = _main.Outputs,
            Where = isSought ? [.. filtered.Where, new PlanSeek(_request.PositionNulls!.Value)] : filtered.Where,
            Order = order,
            Limited = _request.Path.Kind == ResourceKind.Collection,
            Skips = _request.PositionNulls is null ? _request.Skip is not null : _request.Target.IsUnkeyed,
            Aliases = _main.Aliases,
        };
    }

    private ImmutableArray<ChildrenPlan> Children(SelectPlan main)
    {
        var needsRoot = _request.AllExpands.Any(e => e.NeedsRoot);
        return [.. _children.Select(c => c with { Main = main, RootKey = needsRoot ? _request.Target.Type.Key : [] })];
    }

    private ImmutableArray<(NavigationProperty, EntityShape)> Joined(Expansion level) =>
        [
            .. _request.Path.Root!.Type.Navigations.Select(n =>
                (n, Entity(BoundSelect.Nothing, _model.Target(n), level with { Hops = [n] }))
            ),
        ];

    private static EntityShape Empty(EntitySet set) => new(set, BoundSelect.Nothing, [], [], [], []);

    private ShapeCell Counted(Property property) =>
        new(
            new Property("value", EdmType.Int64, false, ""),
            _main.Output(new PlanExpression(new BoundOverValues(new BoundProperty([], property), "v0", OverValues.Count, null)))
        );

    /// <summary>
    /// An entity in a statement: the statement, the single steps that lead to it, and the statement's number among the children.
    /// </summary>
    private sealed record Expansion(PlanLevel Level, ImmutableArray<NavigationProperty> Hops, int? Statement);

    /// <summary>What the last entity before the step into another source is related by; null when there is no such step.</summary>
    private BridgePlan? Bridge()
    {
        var path = _request.Path;
        var step = path.Hops.TakeWhile(h => !h.Navigation.IsRemote).Count();
        if (step == path.Hops.Length)
            return null;
        var before = path.Before(step);
        var planner = new Planner(_model, new BoundRequest(before, null));
        var conditions = planner.PathConditions();
        planner.AddBefore(conditions, path.Hops[step], Main);
        var navigation = path.Hops[step].Navigation;
        return new BridgePlan(
            new SelectPlan(new PlanTable(before.Target.Source, Main))
            {
                Joins = planner._main.Joins,
                Output = [.. navigation.Joins.Select(j => new PlanColumn(Main, j.Own))],
                Where = [.. conditions],
                Aliases = planner._main.Aliases,
            },
            [.. navigation.Joins.Select(j => j.Own)],
            [.. navigation.Joins.Select(j => j.Target)]
        );
    }

    private (RemotePlan Plan, RemoteShape Shape) Remote(BoundExpand expand, SelectPlan parent, ImmutableArray<ShapeCell> own, int number)
    {
        var (related, entity, order) = Related(expand, null);
        var joins = expand.Navigation.Joins;
        return (
            new RemotePlan(parent, [.. joins.Select(j => j.Own)], [.. joins.Select(j => j.Target)], related),
            new RemoteShape(expand, number, own, entity, order)
        );
    }

    private ResultShape Shape(EntityShape entity, ShapeCell? value, ImmutableArray<int> order) =>
        new(_request.Path.Kind, entity, value, order);

    /// <summary>
    /// Conditions of the path. Its last target is the main table; each entity before it is joined backwards. Every one
    /// of them is a single entity, so that no row is multiplied.
    /// </summary>
    private List<PlanCondition> PathConditions()
    {
        var path = _request.Path;
        var conditions = new List<PlanCondition>();
        var alias = Main;
        for (var i = path.Hops.Length - 1; i >= 0; i--)
        {
            var hop = path.Hops[i];
            AddKey(conditions, hop.Key, alias);
            if (hop.Navigation.IsRemote)
            {
                conditions.AddRange(hop.Navigation.Joins.Select((j, n) => new PlanBridgeCondition(new PlanColumn(alias, j.Target), n)));
                return conditions;
            }
            var parent = i == 0 ? path.Root! : path.Hops[i - 1].Target;
            alias = JoinBack(parent, alias, hop.Navigation);
            AddBefore(conditions, hop, alias);
        }
        AddKey(conditions, path.RootKey, alias);
        return conditions;
    }

    /// <summary>Conditions on the entity before a step, whose table has this alias.</summary>
    private void AddBefore(List<PlanCondition> conditions, BoundHop hop, string alias)
    {
        var from = alias == Main || hop.Before.IsEmpty ? "" : _main.Anchor(alias);
        foreach (var condition in hop.Before)
        {
            _main.Reach(condition, from);
            conditions.Add(new PlanFilter(condition, from));
        }
    }

    private static void AddKey(List<PlanCondition> conditions, BoundKey? key, string alias)
    {
        foreach (var (property, value) in key?.Parts ?? [])
            conditions.Add(new PlanKeyCondition(new PlanColumn(alias, property), value));
    }

    /// <summary>Tells a missing parent from one without related entities.</summary>
    private SelectPlan ParentProbe()
    {
        var path = _request.Path;
        var parentPath = path.Before(path.Hops.Length - 1);
        var parent = new Planner(_model, new BoundRequest(parentPath, null));
        var conditions = parent.PathConditions();
        parent.AddBefore(conditions, path.Hops[^1], Main);
        return new SelectPlan(new PlanTable(parentPath.Target.Source, Main))
        {
            Joins = parent._main.Joins,
            Where = [.. conditions],
            Aliases = parent._main.Aliases,
        };
    }

    private EntityShape Entity(BoundSelect select, EntitySet set, Expansion at)
    {
        var types = set
            .Type.Derived.Select(d =>
                (
                    d,
                    at.Level.Output(
                        new BoundCase([(DerivedTypes.Test(d, []), new BoundConstant(1L, EdmType.Int64))], EdmType.Int64),
                        at.Hops
                    )
                )
            )
            .ToImmutableArray();
        var added = select.Derived.SelectMany(d =>
            d.Properties.Where(p => p.Type.Kind != EdmKind.Stream)
                .Select(p => Cell(p, at) with { Presence = types.First(t => t.Item1 == d.Type).Item2 })
        );
        return Entity(select, set, at, [.. added]) with { Types = types };
    }

    private EntityShape Entity(BoundSelect select, EntitySet set, Expansion at, ImmutableArray<ShapeCell> added) =>
        new(set, select, [.. Written(select).Select(p => Cell(p, at)), .. added], [.. set.Type.Key.Select(k => Cell(k, at))], [], [])
        {
            Container = Container(set, p => Cell(p, at)),
            Version = set.Version is { } version ? Cell(version, at) : null,
            RowState = set.IsVersionedByRow ? [.. RowState(set).Select(p => Cell(p, at))] : [],
            Computed = [.. select.Computed.Select(c => new ShapeCell(c.Property, at.Level.Output(c.Expression, at.Hops)))],
        };

    /// <summary>
    /// What tells one state of a row from another: its values as far as they are seen, but for streams, whose tags are their own.
    /// </summary>
    internal static IEnumerable<Property> RowState(EntitySet set) =>
        set.Type.Properties.SelectMany(p => p.Leaves).Where(p => p.Type.Kind != EdmKind.Stream && p.Expression is null);

    /// <summary>Streams are fetched by themselves (JSON format 9).</summary>
    private static IEnumerable<Property> Written(BoundSelect select) => select.Properties.Where(p => p.Type.Kind != EdmKind.Stream);

    private static ShapeCell Cell(Property property, Expansion at) =>
        property.IsGroup
            ? new ShapeCell(property, -1) { Members = [.. property.Members.Select(m => Cell(m, at))] }
            : new ShapeCell(
                property,
                at.Level.Output(new PlanColumn(at.Level.AliasOf(property.Via is { } via ? at.Hops.Add(via) : at.Hops), property))
            )
            {
                Presence = property.PresenceColumn is { } column
                    ? at.Level.Output(new PlanColumn(at.Level.AliasOf(at.Hops), new Property(column, EdmType.Int64, false, column)))
                    : null,
            };

    private ContainerShape? Container(EntitySet set, Func<Property, ShapeCell> cell)
    {
        if (set.ContainedIn is not { } name || _model.FindSet(name) is not { } container)
            return null;
        var navigation = container.Type.Navigations.First(n => n.IsContained && n.TargetSet == set.Name);
        return new ContainerShape(
            container,
            navigation,
            [.. container.Type.Key.Select(k => cell(navigation.Joins.First(j => j.Own.Column == k.Column).Target))]
        );
    }

    /// <summary>
    /// Adds to an entity what is expanded below it, in the same source. Statements are planned outside in, since each is built on its
    /// parents'.
    /// </summary>
    private EntityShape Expanded(EntityShape entity, ImmutableArray<BoundExpand> expands, Expansion at)
    {
        var singles = expands
            .Where(e => e.Navigation is { IsCollection: false, IsRemote: false })
            .Select(e =>
            {
                var there = at with { Hops = at.Hops.Add(e.Navigation) };
                var shape = Entity(e.Select, e.Target, there) with { IsReference = e.Kind == ExpandKind.References };
                return new SingleShape(e, shape.Key[0].Column, Expanded(shape, e.Expand, there)) { TypeColumn = entity.TypeColumn(e.Cast) };
            })
            .ToImmutableArray();
        var counts = expands
            .Where(e => e.Navigation is { IsCollection: true, IsRemote: false })
            .Select(e =>
                (Expand: e, Count: e.Count is { } count ? at.Level.Output(new PlanExpression(count with { Hops = at.Hops })) : (int?)null)
            )
            .ToList();
        var parentAlias = at.Level.AliasOf(at.Hops);
        return entity with
        {
            Singles = singles,
            Many =
            [
                .. counts.Select(c => Children(c.Expand, c.Count, at, parentAlias) with { TypeColumn = entity.TypeColumn(c.Expand.Cast) }),
            ],
        };
    }

    private ManyShape Children(BoundExpand expand, int? count, Expansion at, string parentAlias)
    {
        if (expand.Kind == ExpandKind.Count)
            return new ManyShape(expand, null, Empty(expand.Target), [], count);
        var number = _children.Count;
        _children.Add(null!);
        var (related, entity, order) = Related(expand, number);
        _children[number] = new ChildrenPlan(null!, at.Statement, parentAlias, expand.Navigation.Joins, expand.Navigation.Link, related);
        return new ManyShape(expand, number, entity, order, count);
    }

    /// <summary>Columns and shape of related entities in a statement of their own, whose first column is the parent's number.</summary>
    private (RelatedPlan Plan, EntityShape Entity, ImmutableArray<int> Order) Related(BoundExpand expand, int? number)
    {
        var level = new PlanLevel(_model, "c", n => "c_" + n);
        if (expand.Filter is { } filter)
            level.Reach(filter);
        var order = level.Order(expand.TotalOrder);
        var inner = level.JoinCount;
        // The first column is the parent's number.
        level.Output(new PlanParentNumber());
        var at = new Expansion(level, [], number);
        var entity = Entity(expand.Select, expand.Target, at) with { IsReference = expand.Kind == ExpandKind.References };
        entity = Expanded(entity, expand.Expand, at);
        var columns = order.Select(o => level.Output(o.Value)).ToImmutableArray();
        return (
            new RelatedPlan(new PlanTable(expand.Target.Source, "c"), level.Joins, inner, level.Aliases, level.Outputs, order, expand),
            entity,
            columns
        );
    }

    /// <summary>Joins the entity that a step came from to the one that it led to.</summary>
    private string JoinBack(EntitySet parent, string alias, NavigationProperty navigation)
    {
        if (navigation.Link is not { } link)
            return _main.Join(parent.Source, alias, [.. navigation.Joins.Select(j => new JoinPair(j.Target, j.Own))], outer: false);
        Property Column(string name) => new(name, EdmType.String, true, name);
        var between = _main.Join(link.Source, alias, [.. link.Target.Select(t => new JoinPair(t.Target, Column(t.Link)))], outer: false);
        return _main.Join(parent.Source, between, [.. link.Own.Select(o => new JoinPair(Column(o.Link), o.Own))], outer: false);
    }

    internal static string PathOf(ImmutableArray<NavigationProperty> hops) => hops.Aggregate("", PathOf);

    /// <summary>Where the alias of a table is kept: its path, below the scope that it starts in.</summary>
    internal static string AliasKey(string scope, string path) => scope.Length == 0 ? path : $"{scope}:{path}";

    internal static string PathOf(string path, NavigationProperty hop) => path.Length == 0 ? hop.Name : $"{path}/{hop.Name}";
}
