using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Queries;

/// <summary>Bound tree -> relational plan.</summary>
public sealed class Planner
{
    private const string Main = "t0";

    private readonly EntityModel _model;
    private readonly BoundRequest _request;
    private readonly List<PlanJoin> _joins = [];
    private readonly Dictionary<string, string> _aliases = new() { [""] = Main };
    private readonly List<PlanValue> _output = [];
    private int _tables = 1;

    private Planner(EntityModel model, BoundRequest request)
    {
        _model = model;
        _request = request;
    }

    public static QueryPlan Plan(PermittedRequest permitted, EntityModel model) => new Planner(model, permitted.Request).Plan();

    private QueryPlan Plan()
    {
        var path = _request.Path;
        var from = new PlanTable(path.Target.Source, Main);
        var conditions = PathConditions();
        // Over a bridge its own row tells whether the entity before the last step exists.
        var probe = path.Hops.Length == 0 || path.Hops[^1].Navigation.IsRemote ? null : ParentProbe();
        var bridge = Bridge();
        if (_request.Filter is { } filter)
        {
            Reach(filter);
            conditions.Add(new PlanFilter(filter));
        }
        var filtered = new SelectPlan(from) { Joins = [.. _joins], Where = [.. conditions], Aliases = _aliases.ToImmutableDictionary() };
        if (path.Kind == ResourceKind.Count)
            return new QueryPlan(filtered, null, probe, [], Shape(Entity(new BoundSelect([], false, []), path.Target, Main), null, [])) { Bridge = bridge };

        var isCollection = path.Kind == ResourceKind.Collection;
        var order = isCollection ? Order() : [];
        var entity = Entity(_request.Select ?? new BoundSelect([], false, []), path.Target, Main);
        var value = path.Property is { } property ? Cell(property, Main) : null;
        int? mediaType = path.Property?.MediaTypeColumn is { } column ? Output(new PlanColumn(Main, new Property(column, EdmType.String, true, column))) : null;
        var singles = _request.Expand.Where(e => e.Navigation is { IsCollection: false, IsRemote: false }).Select(Single).ToImmutableArray();
        var remoteOwn = _request.Expand.Where(e => e.Navigation.IsRemote).ToDictionary(e => e, e => e.Navigation.Joins.Select(j => Cell(j.Own, Main)).ToImmutableArray());
        var orderColumns = order.Select(o => Output(o.Value)).ToImmutableArray();
        if (_request.SkipTokenNulls is { } nulls && !path.Target.IsUnkeyed)
            conditions.Add(new PlanSeek(nulls));
        var main = new SelectPlan(from)
        {
            Joins = [.. _joins],
            Output = [.. _output],
            Where = [.. conditions],
            Order = order,
            Limited = isCollection,
            Skips = _request.SkipTokenNulls is null ? _request.Skip is not null : path.Target.IsUnkeyed,
            Aliases = _aliases.ToImmutableDictionary(),
        };
        var children = _request.Expand.Where(e => e.Navigation is { IsCollection: true, IsRemote: false }).Select(e => Children(e, main)).ToImmutableArray();
        var remotes = remoteOwn.Select((r, i) => Remote(r.Key, main, r.Value, i)).ToImmutableArray();
        entity = entity with { Singles = singles, Many = [.. children.Select((c, i) => c.Shape with { Child = i })], Remotes = [.. remotes.Select(r => r.Shape)] };
        return new QueryPlan(main, _request.Count ? filtered : null, probe, [.. children.Select(c => c.Plan)], Shape(entity, value, orderColumns) with { MediaTypeColumn = mediaType })
        {
            Remotes = [.. remotes.Select(r => r.Plan)],
            Bridge = bridge,
        };
    }

    /// <summary>What the last entity before the step into another source is related by; null when there is no such step.</summary>
    private BridgePlan? Bridge()
    {
        var path = _request.Path;
        var step = path.Hops.TakeWhile(h => !h.Navigation.IsRemote).Count();
        if (step == path.Hops.Length)
            return null;
        var before = path with { Hops = path.Hops[..step], Property = null, Kind = ResourceKind.Entity };
        var planner = new Planner(_model, new BoundRequest(before, null));
        var conditions = planner.PathConditions();
        var navigation = path.Hops[step].Navigation;
        return new BridgePlan(new SelectPlan(new PlanTable(before.Target.Source, Main))
        {
            Joins = [.. planner._joins],
            Output = [.. navigation.Joins.Select(j => new PlanColumn(Main, j.Own))],
            Where = [.. conditions],
            Aliases = planner._aliases.ToImmutableDictionary(),
        }, [.. navigation.Joins.Select(j => j.Own)], [.. navigation.Joins.Select(j => j.Target)]);
    }

    private (RemotePlan Plan, RemoteShape Shape) Remote(BoundExpand expand, SelectPlan parent, ImmutableArray<ShapeCell> own, int number)
    {
        var (output, entity, order) = Related(expand);
        var joins = expand.Navigation.Joins;
        var plan = new RemotePlan(parent, [.. joins.Select(j => j.Own)], new PlanTable(expand.Target.Source, "c"), [.. joins.Select(j => j.Target)], output, expand.Target.Type.Key, expand.TotalOrder, expand);
        return (plan, new RemoteShape(expand, number, own, entity, order));
    }

    private ResultShape Shape(EntityShape entity, ShapeCell? value, ImmutableArray<int> order) => new(_request.Path.Kind, entity, value, order);

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
        }
        AddKey(conditions, path.RootKey, alias);
        return conditions;
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
        var parentPath = path with { Hops = path.Hops[..^1], Property = null, Kind = ResourceKind.Entity };
        var parent = new Planner(_model, new BoundRequest(parentPath, null));
        var conditions = parent.PathConditions();
        return new SelectPlan(new PlanTable(parentPath.Target.Source, Main))
        {
            Joins = [.. parent._joins],
            Where = [.. conditions],
            Aliases = parent._aliases.ToImmutableDictionary(),
        };
    }

    private ImmutableArray<PlanOrder> Order()
    {
        var terms = _request.TotalOrder;
        foreach (var term in terms)
            Reach(term.Expression);
        return [.. terms.Select(t => new PlanOrder(new PlanExpression(t.Expression), t.Descending, t.Expression.MayBeNull))];
    }

    private EntityShape Entity(BoundSelect select, EntitySet set, string alias) => new(
        set, select, [.. Written(select).Select(p => Cell(p, alias))],
        [.. set.Type.Key.Select(k => Cell(k, alias))], [], [])
    {
        Container = Container(set, p => Cell(p, alias)),
    };

    /// <summary>Streams are fetched by themselves (JSON format 9).</summary>
    private static IEnumerable<Property> Written(BoundSelect select) => select.Properties.Where(p => p.Type.Kind != EdmKind.Stream);

    private ShapeCell Cell(Property property, string alias) => property.IsGroup
        ? new ShapeCell(property, -1) { Members = [.. property.Members.Select(m => Cell(m, alias))] }
        : new ShapeCell(property, Output(new PlanColumn(alias, property)));

    private ContainerShape? Container(EntitySet set, Func<Property, ShapeCell> cell)
    {
        if (set.ContainedIn is not { } name || _model.FindSet(name) is not { } container)
            return null;
        var navigation = container.Type.Navigations.First(n => n.IsContained && n.TargetSet == set.Name);
        return new ContainerShape(container, navigation, [.. container.Type.Key.Select(k => cell(navigation.Joins.First(j => j.Own.Column == k.Column).Target))]);
    }

    private SingleShape Single(BoundExpand expand)
    {
        var alias = Hop("", Main, expand.Navigation);
        var entity = Entity(expand.Select, expand.Target, alias);
        return new SingleShape(expand.Navigation, entity.Key[0].Column, entity);
    }

    private (ChildrenPlan Plan, ManyShape Shape) Children(BoundExpand expand, SelectPlan parent)
    {
        var (output, entity, order) = Related(expand);
        var plan = new ChildrenPlan(parent, new PlanTable(expand.Target.Source, "c"), expand.Navigation.Joins, expand.Navigation.Link, output, expand.Target.Type.Key, expand.TotalOrder, expand);
        return (plan, new ManyShape(expand, 0, entity, order));
    }

    /// <summary>Columns and shape of related entities in a statement of their own, whose first column is the parent's number.</summary>
    private (ImmutableArray<Property> Output, EntityShape Entity, ImmutableArray<ShapeCell> Order) Related(BoundExpand expand)
    {
        var output = new List<Property>();
        ShapeCell Cell(Property property)
        {
            if (property.IsGroup)
                return new ShapeCell(property, -1) { Members = [.. property.Members.Select(Cell)] };
            if (!output.Contains(property))
                output.Add(property);
            return new ShapeCell(property, output.IndexOf(property) + 1);
        }
        var cells = Written(expand.Select).Select(Cell).ToImmutableArray();
        var key = expand.Target.Type.Key.Select(Cell).ToImmutableArray();
        var order = expand.TotalOrder.Select(o => Cell(o.Property)).ToImmutableArray();
        var entity = new EntityShape(expand.Target, expand.Select, cells, key, [], []) { Container = Container(expand.Target, Cell) };
        return ([.. output], entity, order);
    }

    /// <summary>The number of an output column; a column that is there already is used again.</summary>
    private int Output(PlanValue value)
    {
        if (value is PlanExpression { Expression: BoundProperty property })
            value = new PlanColumn(_aliases[PathOf(property.Hops)], property.Property);
        var index = _output.IndexOf(value);
        if (index >= 0)
            return index;
        _output.Add(value);
        return _output.Count - 1;
    }

    /// <summary>Joins the tables that an expression's paths lead to.</summary>
    private void Reach(BoundExpression expression)
    {
        foreach (var hops in ExpressionPaths.Of(expression))
        {
            var (path, alias) = ("", Main);
            foreach (var hop in hops)
            {
                alias = Hop(path, alias, hop);
                path = PathOf(path, hop);
            }
        }
    }

    private string Hop(string path, string alias, NavigationProperty navigation)
    {
        var longer = PathOf(path, navigation);
        if (!_aliases.TryGetValue(longer, out var target))
            _aliases[longer] = target = Join(_model.Target(navigation).Source, alias, navigation.Joins, outer: true);
        return target;
    }

    /// <summary>Joins the entity that a step came from to the one that it led to.</summary>
    private string JoinBack(EntitySet parent, string alias, NavigationProperty navigation)
    {
        if (navigation.Link is not { } link)
            return Join(parent.Source, alias, [.. navigation.Joins.Select(j => new JoinPair(j.Target, j.Own))], outer: false);
        Property Column(string name) => new(name, EdmType.String, true, name);
        var between = Join(link.Source, alias, [.. link.Target.Select(t => new JoinPair(t.Target, Column(t.Link)))], outer: false);
        return Join(parent.Source, between, [.. link.Own.Select(o => new JoinPair(Column(o.Link), o.Own))], outer: false);
    }

    private string Join(SourceObjectName table, string leftAlias, ImmutableArray<JoinPair> on, bool outer)
    {
        var alias = "t" + _tables++;
        _joins.Add(new PlanJoin(new PlanTable(table, alias), leftAlias, on, outer));
        return alias;
    }

    internal static string PathOf(ImmutableArray<NavigationProperty> hops) => hops.Aggregate("", PathOf);

    /// <summary>Where the alias of a table is kept: its path, below the scope that it starts in.</summary>
    internal static string AliasKey(string scope, string path) => scope.Length == 0 ? path : $"{scope}:{path}";

    private static string PathOf(string path, NavigationProperty hop) => path.Length == 0 ? hop.Name : $"{path}/{hop.Name}";
}
