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
    public static Result<CompiledQuery> Compile(QueryPlan plan, SqlDialect dialect)
    {
        try
        {
            return new CompiledQuery(
                Write(plan.Main, dialect), plan.Count is { } count ? Write(count, dialect) : null, plan.Probe is { } probe ? Write(probe, dialect) : null,
                [.. plan.Children.Select(c => Write(c, dialect))], plan.Shape);
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
        sql.Append("\nFROM ").Append(_dialect.Table(plan.From.Source.Schema, plan.From.Source.Name)).Append(" AS ").Append(plan.From.Alias);
        foreach (var join in plan.Joins)
        {
            sql.Append(join.Outer ? "\nLEFT JOIN " : "\nJOIN ").Append(_dialect.Table(join.Table.Source.Schema, join.Table.Source.Name)).Append(" AS ").Append(join.Table.Alias)
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
        PlanKeyCondition key => [$"{expressions.Value(key.Column)} = {Parameter(new LiteralParameter(key.Value.Slot, key.Column.Property.Type, key.Column.Property.StorageForm))}"],
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
        var keys = plan.On.Select((pair, i) => $"{parent.From.Alias}.{_dialect.Quote(pair.Own.Column)} AS k{i}");
        var orders = parent.Order.Select((o, i) => $"{expressions.Value(o.Value)} AS o{i}");
        var page = Select(parent, string.Join(", ", keys.Concat(orders)));
        var order = parent.Order.IsEmpty ? "1" : string.Join(", ", parent.Order.Select((o, i) => _dialect.OrderTerm("o" + i, o.Descending)));
        var parentKeys = string.Join(", ", plan.On.Select((_, i) => "k" + i));
        var children = new ChildrenSql(_dialect.Table(plan.Child.Source.Schema, plan.Child.Source.Name), [.. plan.ChildKey.Select(k => _dialect.Quote(k.Column))],
            [.. plan.On.Select((pair, i) => (_dialect.Quote(pair.Target.Column), "k" + i))], Parameter(new ChildLimitParameter()), page);
        return $"""
            SELECT p.n, {Columns("c", plan.Output)}
            FROM (SELECT ROW_NUMBER() OVER (ORDER BY {order}) AS n, {parentKeys} FROM (
            {page}
            ) AS q) AS p
            {_dialect.FirstChildren(children)}
            ORDER BY p.n, {Columns("c", plan.ChildKey)}
            """;
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
            LiteralParameter literal => _dialect.Parameter(index + 1, literal.Type, literal.StorageForm),
            NowParameter now => _dialect.Parameter(index + 1, EdmType.DateTimeOffset, now.StorageForm),
            SeekParameter seek => _dialect.Parameter(index + 1, seek.Type, seek.StorageForm),
            _ => _dialect.Parameter(index + 1),
        };
    }
}
