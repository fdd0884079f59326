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
        var pathJoins = _joins.ToImmutableArray();
        var probe = path.Hops.Length == 0 ? null : ParentProbe();
        if (_request.Filter is { } filter)
        {
            Reach(filter);
            conditions.Add(new PlanFilter(filter));
        }
        var filtered = new SelectPlan(from) { Joins = [.. _joins], Where = [.. conditions], Aliases = _aliases.ToImmutableDictionary() };
        if (path.Kind == ResourceKind.Count)
            return new QueryPlan(filtered, null, probe, [], Shape(Entity(new BoundSelect([], false, []), path.Target, Main), null, []));

        var isCollection = path.Kind == ResourceKind.Collection;
        var order = isCollection ? Order() : [];
        var entity = Entity(_request.Select ?? new BoundSelect([], false, []), path.Target, Main);
        var value = path.Property is { } property ? new ShapeCell(property, Output(new PlanColumn(Main, property))) : null;
        var singles = _request.Expand.Where(e => !e.Navigation.IsCollection).Select(Single).ToImmutableArray();
        var orderColumns = order.Select(o => Output(o.Value)).ToImmutableArray();
        if (_request.SkipTokenNulls is { } nulls)
            conditions.Add(new PlanSeek(nulls));
        var main = new SelectPlan(from)
        {
            Joins = [.. _joins],
            Output = [.. _output],
            Where = [.. conditions],
            Order = order,
            Limited = isCollection,
            Skips = _request.Skip is not null && _request.SkipTokenNulls is null,
            Aliases = _aliases.ToImmutableDictionary(),
        };
        var children = _request.Expand.Where(e => e.Navigation.IsCollection).Select(e => Children(e, main)).ToImmutableArray();
        entity = entity with { Singles = singles, Many = [.. children.Select((c, i) => c.Shape with { Child = i })] };
        return new QueryPlan(main, _request.Count ? filtered : null, probe, [.. children.Select(c => c.Plan)], Shape(entity, value, orderColumns));
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
            var parent = i == 0 ? path.Root! : path.Hops[i - 1].Target;
            alias = Join(parent, alias, [.. hop.Navigation.Joins.Select(j => new JoinPair(j.Target, j.Own))], outer: false);
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
        set, select, [.. select.Properties.Select(p => new ShapeCell(p, Output(new PlanColumn(alias, p))))],
        [.. set.Type.Key.Select(k => new ShapeCell(k, Output(new PlanColumn(alias, k))))], [], []);

    private SingleShape Single(BoundExpand expand)
    {
        var alias = Hop("", Main, expand.Navigation);
        var entity = Entity(expand.Select, expand.Target, alias);
        return new SingleShape(expand.Navigation, entity.Key[0].Column, entity);
    }

    private static (ChildrenPlan Plan, ManyShape Shape) Children(BoundExpand expand, SelectPlan parent)
    {
        var output = new List<Property>();
        int Column(Property property)
        {
            if (!output.Contains(property))
                output.Add(property);
            return output.IndexOf(property) + 1;
        }
        var cells = expand.Select.Properties.Select(p => new ShapeCell(p, Column(p))).ToImmutableArray();
        var key = expand.Target.Type.Key.Select(p => new ShapeCell(p, Column(p))).ToImmutableArray();
        var plan = new ChildrenPlan(parent, new PlanTable(expand.Target.Source, "c"), expand.Navigation.Joins, [.. output], expand.Target.Type.Key);
        return (plan, new ManyShape(expand.Navigation, 0, new EntityShape(expand.Target, expand.Select, cells, key, [], [])));
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
            _aliases[longer] = target = Join(_model.Target(navigation), alias, navigation.Joins, outer: true);
        return target;
    }

    private string Join(EntitySet set, string leftAlias, ImmutableArray<JoinPair> on, bool outer)
    {
        var alias = "t" + _tables++;
        _joins.Add(new PlanJoin(new PlanTable(set.Source, alias), leftAlias, on, outer));
        return alias;
    }

    internal static string PathOf(ImmutableArray<NavigationProperty> hops) => hops.Aggregate("", PathOf);

    private static string PathOf(string path, NavigationProperty hop) => path.Length == 0 ? hop.Name : $"{path}/{hop.Name}";
}
