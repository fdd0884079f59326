using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Queries;

/// <summary>One statement on its way to a plan: the tables that its expressions reach and the columns that are read.</summary>
/// <param name="alias">Alias of the table whose rows the statement is about.</param>
/// <param name="joinAlias">Makes the alias of the next joined table, from its number.</param>
internal sealed class PlanLevel(EntityModel model, string alias, Func<int, string> joinAlias)
{
    private readonly Dictionary<string, string> _aliases = new() { [""] = alias };
    private readonly List<PlanValue> _output = [];
    private readonly List<PlanJoin> _joins = [];

    public ImmutableArray<PlanJoin> Joins => [.. _joins];

    public int JoinCount => _joins.Count;

    public ImmutableArray<PlanValue> Outputs => [.. _output];

    public ImmutableDictionary<string, string> Aliases => _aliases.ToImmutableDictionary();

    /// <summary>Joins the tables that an expression's paths lead to.</summary>
    public void Reach(BoundExpression expression, string from = "")
    {
        foreach (var hops in ExpressionPaths.Of(expression))
            AliasOf(hops, from);
    }

    /// <summary>Gives a joined table a path of its own, from which expressions about it start.</summary>
    public string Anchor(string table)
    {
        // No relation is called like this.
        var path = "^" + table;
        _aliases[path] = table;
        return path;
    }

    /// <summary>The table of the entity that single steps lead to.</summary>
    public string AliasOf(ImmutableArray<NavigationProperty> hops, string from = "")
    {
        var (path, current) = (from, _aliases[from]);
        foreach (var hop in hops)
        {
            path = Planner.PathOf(path, hop);
            if (!_aliases.TryGetValue(path, out var known))
                _aliases[path] = known = Join(model.Target(hop).Source, current, hop.Joins, outer: true);
            current = known;
        }
        return current;
    }

    /// <summary>Joins all rows of the set that a relation of a cross join leads to.</summary>
    public void JoinAll(NavigationProperty navigation) =>
        _aliases[navigation.Name] = Join(model.Target(navigation).Source, alias, [], outer: false);

    public string Join(RowSource table, string leftAlias, ImmutableArray<JoinPair> on, bool outer)
    {
        var name = joinAlias(_joins.Count + 1);
        _joins.Add(new PlanJoin(new PlanTable(table, name), leftAlias, on, outer));
        return name;
    }

    /// <summary>The number of an output column; a column that is there already is used again.</summary>
    public int Output(PlanValue value)
    {
        if (value is PlanExpression { Base: "", Expression: BoundProperty { Scope: "" } property })
            value = new PlanColumn(AliasOf(property.Hops), property.Property);
        else if (value is PlanExpression { Base: "" } expression)
            Reach(expression.Expression);
        var index = _output.IndexOf(value);
        if (index >= 0)
            return index;
        _output.Add(value);
        return _output.Count - 1;
    }

    /// <summary>The column of an expression about the entity that single steps lead to.</summary>
    public int Output(BoundExpression expression, ImmutableArray<NavigationProperty> hops)
    {
        foreach (var path in ExpressionPaths.Of(expression))
            AliasOf([.. hops, .. path]);
        return Output(hops.IsEmpty ? new PlanExpression(expression) : new PlanExpression(expression, Planner.PathOf(hops)));
    }

    public ImmutableArray<PlanOrder> Order(ImmutableArray<BoundOrderTerm> terms)
    {
        foreach (var term in terms)
            Reach(term.Expression);
        return [.. terms.Select(t => new PlanOrder(new PlanExpression(t.Expression), t.Descending, t.Expression.MayBeNull))];
    }
}
