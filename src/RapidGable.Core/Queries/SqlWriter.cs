using System.Collections.Immutable;
using System.Text;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>Relational plan -> SQL. Values never become text: each is a parameter.</summary>
public sealed class SqlWriter
{
    private readonly SqlDialect _dialect;
    private readonly List<PlanParameter> _parameters = [];

    private SqlWriter(SqlDialect dialect) => _dialect = dialect;

    /// <summary>Writes all statements of a plan; the fault is 501 for what the dialect cannot express.</summary>
    /// <param name="dialectOf">The dialect of a source, by its name.</param>
    public static Result<CompiledQuery> Compile(QueryPlan plan, Func<string, SqlDialect> dialectOf)
    {
        try
        {
            var dialect = dialectOf(plan.Main.From.Source.Source);
            return new CompiledQuery(
                Write(plan.Main, dialect), plan.Count is { } count ? Write(count, dialect) : null, plan.Probe is { } probe ? Write(probe, dialect) : null,
                [.. plan.Children.Select(c => Write(c, dialect))], plan.Shape)
            {
                Remotes = [.. plan.Remotes.Select(r => new RemoteStatements(r, WriteKeys(r, dialect), WriteBatch(r, dialectOf(r.Child.Source.Source))))],
                Bridge = plan.Bridge is { } bridge ? new BridgeStatement(bridge, Write(bridge.Select, dialectOf(bridge.Select.From.Source.Source))) : null,
            };
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    public static SqlStatement Write(SelectPlan plan, SqlDialect dialect)
    {
        var writer = new SqlWriter(dialect);
        var text = writer.Select(plan, plan.Output.IsEmpty ? "COUNT(*)" : null);
        return new SqlStatement(text, [.. writer._parameters]);
    }

    public static SqlStatement Write(ChildrenPlan plan, SqlDialect dialect)
    {
        var writer = new SqlWriter(dialect);
        var text = writer.Children(plan);
        return new SqlStatement(text, [.. writer._parameters]);
    }

    private string Select(SelectPlan plan, string? output)
    {
        var expressions = new SqlExpressions(_dialect, plan.Aliases, Parameter);
        var sql = new StringBuilder("SELECT ").Append(output ?? string.Join(", ", plan.Output.Select(o => expressions.Value(o))));
        sql.Append("\nFROM ").Append(_dialect.From(plan.From.Source)).Append(" AS ").Append(plan.From.Alias);
        foreach (var join in plan.Joins)
        {
            sql.Append(join.Outer ? "\nLEFT JOIN " : "\nJOIN ").Append(_dialect.From(join.Table.Source)).Append(" AS ").Append(join.Table.Alias)
                .Append(" ON ").AppendJoin(" AND ", join.On.Select(p => $"{join.Table.Alias}.{_dialect.Quote(p.Target.Column)} = {join.LeftAlias}.{_dialect.Quote(p.Own.Column)}"));
        }
        var terms = plan.Order.Select(o => expressions.Value(o.Value)).ToList();
        var conditions = plan.Where.SelectMany(c => Conditions(c, plan, expressions, terms)).ToList();
        if (conditions.Count > 0)
            sql.Append("\nWHERE ").AppendJoin("\n  AND ", conditions);
        if (terms.Count > 0)
            sql.Append("\nORDER BY ").AppendJoin(", ", terms.Zip(plan.Order, (t, o) => _dialect.OrderTerm(t, o.Descending)));
        if (plan.Limited)
            sql.Append("\nLIMIT ").Append(Parameter(new LimitParameter()));
        if (plan.Skips)
            sql.Append(" OFFSET ").Append(Parameter(new SkipParameter()));
        return sql.ToString();
    }

    private IEnumerable<string> Conditions(PlanCondition condition, SelectPlan plan, SqlExpressions expressions, List<string> terms) => condition switch
    {
        PlanKeyCondition key => [$"{expressions.Value(key.Column)} = {Parameter(new LiteralParameter(key.Value.Slot, key.Column.Property.Type, key.Column.Property.StorageForm, key.Value.Conversion))}"],
        PlanBridgeCondition bridge => [$"{expressions.Value(bridge.Column)} = {Parameter(new BridgeParameter(bridge.Index, bridge.Column.Property))}"],
        PlanFilter filter => [expressions.Predicate(filter.Condition, exact: false)],
        PlanSeek seek => Seek(seek.Nulls, plan.Order, terms),
        _ => throw new InvalidOperationException(condition.GetType().Name),
    };

    /// <summary>
    /// "After this position" in lexicographic order, nulls first when ascending. Terms that all run one way and hold no
    /// null are compared as one row; otherwise a bound on the first term comes first, so that an index on it is used.
    /// </summary>
    private IEnumerable<string> Seek(ImmutableArray<bool> isNull, ImmutableArray<PlanOrder> order, List<string> terms)
    {
        var values = Enumerable.Range(0, order.Length).Select(i => isNull[i] ? "NULL" : Parameter(SeekParameter.For(i, order[i].Value))).ToList();
        if (order.All(o => !o.MayBeNull && o.Descending == order[0].Descending))
        {
            var sign = order[0].Descending ? "<" : ">";
            yield return order.Length == 1 ? $"{terms[0]} {sign} {values[0]}" : $"({string.Join(", ", terms)}) {sign} ({string.Join(", ", values)})";
            yield break;
        }
        if (!isNull[0] && order.Length > 1 && !(order[0].Descending && order[0].MayBeNull))
            yield return $"{terms[0]} {(order[0].Descending ? "<=" : ">=")} {values[0]}";
        var branches = new List<string>();
        for (var i = 0; i < order.Length; i++)
        {
            if (After(order[i], terms[i], isNull[i], values[i]) is not { } after)
                continue;
            var equal = Enumerable.Range(0, i).Select(j => isNull[j] ? $"{terms[j]} IS NULL" : $"{terms[j]} = {values[j]}");
            branches.Add($"({string.Join(" AND ", equal.Append(after))})");
        }
        yield return $"({string.Join(" OR ", branches)})";
    }

    private static string? After(PlanOrder order, string term, bool isNull, string value) => (order.Descending, isNull) switch
    {
        (false, true) => $"{term} IS NOT NULL",
        (false, false) => $"{term} > {value}",
        (true, true) => null,
        (true, false) => order.MayBeNull ? $"({term} < {value} OR {term} IS NULL)" : $"{term} < {value}",
    };

    private string Children(ChildrenPlan plan)
    {
        var parent = plan.Parent;
        var expressions = new SqlExpressions(_dialect, parent.Aliases, Parameter);
        var on = plan.Link is { } link ? [.. link.Own.Select((o, i) => (Own: o.Own.Column, Child: "gable_p" + i))] : plan.On.Select(pair => (Own: pair.Own.Column, Child: pair.Target.Column)).ToList();
        var keys = on.Select((pair, i) => $"{parent.From.Alias}.{_dialect.Quote(pair.Own)} AS k{i}");
        var orders = parent.Order.Select((o, i) => $"{expressions.Value(o.Value)} AS o{i}");
        var page = Select(parent, string.Join(", ", keys.Concat(orders)));
        var order = parent.Order.IsEmpty ? "1" : string.Join(", ", parent.Order.Select((o, i) => _dialect.OrderTerm("o" + i, o.Descending)));
        var parentKeys = string.Join(", ", on.Select((_, i) => "k" + i));
        var children = FirstChildren(plan.Child, plan.Link, [.. on.Select((pair, i) => (_dialect.Quote(pair.Child), "k" + i))], plan.ChildKey, plan.Order, plan.Expand, page);
        return $"""
            SELECT p.n, {Columns("c", plan.Output)}
            FROM (SELECT ROW_NUMBER() OVER (ORDER BY {order}) AS n, {parentKeys} FROM (
            {page}
            ) AS q) AS p
            {children}
            ORDER BY p.n, {ChildOrder(plan.Order)}
            """;
    }

    private string FirstChildren(PlanTable child, LinkTable? link, IReadOnlyList<(string, string)> references, ImmutableArray<Property> key, ImmutableArray<OrderTerm> order, BoundExpand expand, string page) =>
        _dialect.FirstChildren(new ChildrenSql(link is null ? _dialect.From(child.Source) : Linked(child, link), [.. key.Select(k => _dialect.Quote(k.Column))], references,
            [.. order.Select(o => (_dialect.Quote(o.Property.Column), o.Descending))], link is not null, Parameter(new ChildLimitParameter(expand.Top)), page)
        {
            Filter = expand.Filter is { } filter ? alias => new SqlExpressions(_dialect, ImmutableDictionary<string, string>.Empty.Add("", alias), Parameter).Predicate(filter, exact: false) : null,
        });

    private string ChildOrder(ImmutableArray<OrderTerm> order) => string.Join(", ", order.Select(o => _dialect.OrderTerm($"c.{_dialect.Quote(o.Property.Column)}", o.Descending)));

    /// <summary>The rows on the far side of a link table, each with what it is linked to.</summary>
    private string Linked(PlanTable child, LinkTable link)
    {
        var own = string.Join(", ", link.Own.Select((o, i) => $"l.{_dialect.Quote(o.Link)} AS {_dialect.Quote("gable_p" + i)}"));
        var on = string.Join(" AND ", link.Target.Select(t => $"t.{_dialect.Quote(t.Target.Column)} = l.{_dialect.Quote(t.Link)}"));
        return $"(SELECT {own}, t.* FROM {_dialect.From(link.Source)} AS l JOIN {_dialect.From(child.Source)} AS t ON {on})";
    }

    /// <summary>What the entities of a page are related by, each once.</summary>
    private static SqlStatement WriteKeys(RemotePlan plan, SqlDialect dialect)
    {
        var writer = new SqlWriter(dialect);
        var keys = string.Join(", ", plan.Own.Select((p, i) => $"{writer.Column(plan.Parent.From.Alias, p)} AS k{i}"));
        var page = writer.Select(plan.Parent, keys);
        var text = $"SELECT DISTINCT {string.Join(", ", plan.Own.Select((_, i) => "k" + i))} FROM (\n{page}\n) AS q WHERE {string.Join(" AND ", plan.Own.Select((_, i) => $"k{i} IS NOT NULL"))}";
        return new SqlStatement(text, [.. writer._parameters]);
    }

    /// <summary>The related rows of a batch of these.</summary>
    private static SqlStatement WriteBatch(RemotePlan plan, SqlDialect dialect)
    {
        var writer = new SqlWriter(dialect);
        var items = Enumerable.Range(0, RemotePlan.BatchSize).Select(n => $"SELECT {n + 1} AS n, {string.Join(", ", plan.Target.Select((t, i) => $"{writer.Parameter(new BatchParameter(n, i, t))} AS k{i}"))}");
        var page = string.Join("\nUNION ALL ", items);
        var children = writer.FirstChildren(plan.Child, null, [.. plan.Target.Select((t, i) => (dialect.Quote(t.Column), "k" + i))], plan.ChildKey, plan.Order, plan.Expand, page);
        var text = $"SELECT p.n, {writer.Columns("c", plan.Output)}\nFROM (\n{page}\n) AS p\n{children}\nORDER BY p.n, {writer.ChildOrder(plan.Order)}";
        return new SqlStatement(text, [.. writer._parameters]);
    }

    private string Columns(string alias, IEnumerable<Property> properties) => string.Join(", ", properties.Select(p => Column(alias, p)));

    private string Column(string alias, Property property) => _dialect.Column($"{alias}.{_dialect.Quote(property.Column)}", property.StorageForm);

    /// <summary>The placeholder of a parameter; one that is there already is used again.</summary>
    private string Parameter(PlanParameter parameter)
    {
        var index = _parameters.IndexOf(parameter);
        if (index < 0)
        {
            index = _parameters.Count;
            _parameters.Add(parameter);
        }
        return parameter switch
        {
            LiteralParameter literal => _dialect.Parameter(index + 1, literal.Conversion?.Parameter ?? literal.Type, literal.StorageForm),
            TruthParameter truth => _dialect.Parameter(index + 1, truth.Conversion.Parameter, null),
            BridgeParameter bridge => _dialect.Parameter(index + 1, bridge.Target.StoredType, bridge.Target.StorageForm),
            BatchParameter item => _dialect.Parameter(index + 1, item.Target.StoredType, item.Target.StorageForm),
            NowParameter now => _dialect.Parameter(index + 1, EdmType.DateTimeOffset, now.StorageForm),
            SeekParameter seek => _dialect.Parameter(index + 1, seek.Type, seek.StorageForm),
            _ => _dialect.Parameter(index + 1),
        };
    }
}
