using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>The statement of <c>$apply</c>: each stage is a SELECT from the one before.</summary>
/// <param name="table">Writes a table, or what of it the caller may see.</param>
/// <param name="parameter">The placeholder of a parameter of the statement that this is a part of.</param>
/// <param name="select">Writes a plain plan with the given output.</param>
/// <param name="join">Writes one join.</param>
internal sealed class ApplySql(
    SqlDialect dialect,
    Func<RowSource, string> table,
    Func<PlanParameter, string> parameter,
    Func<SelectPlan, string, string> select,
    Func<PlanJoin, string> join
)
{
    /// <summary>As in <see cref="SqlExpressions.Guards"/>.</summary>
    public ImmutableArray<string> Guards { get; init; } = [];

    public RowGuard? Guard { get; init; }

    public string Write(ApplyPlan plan)
    {
        var alias = plan.Input.From.Alias;
        var input = select(
            plan.Input,
            plan.Columns.IsEmpty ? "1 AS gable_none" : string.Join(", ", plan.Columns.Select(c => $"{alias}.{dialect.Quote(c)}"))
        );
        return Stages(plan.Stages, input);
    }

    private string Stages(ImmutableArray<StagePlan> stages, string input)
    {
        foreach (var stage in stages)
            input = Stage(stage, input);
        return input;
    }

    private string Stage(StagePlan plan, string input)
    {
        var expressions = new SqlExpressions(dialect, table, plan.Aliases, parameter) { Guards = Guards, Guard = Guard };
        var from = $"FROM (\n{input}\n) AS s{string.Concat(plan.Joins.Select(j => "\n" + join(j)))}";
        var carried = string.Join(", ", plan.Carried.Select(c => "s." + dialect.Quote(c)));
        string Computed(BoundComputed item) =>
            $"{expressions.Output(new PlanExpression(item.Expression))} AS {dialect.Quote(item.Property.Column)}";
        return plan.Stage switch
        {
            BoundRestriction restriction => $"SELECT {carried}\n{from}\nWHERE {expressions.Condition(restriction.Condition)}",
            BoundExtension extension => $"SELECT {carried}, {string.Join(", ", extension.Items.Select(Computed))}\n{from}",
            BoundRanking ranking => Ranking(ranking, plan, expressions, from, carried),
            BoundSlice slice => $"SELECT {carried}\n{from}\nORDER BY {Order(slice.Order, expressions)}\n{Slice(slice)}",
            BoundGroup group => string.Join("\nUNION ALL\n", group.Sets.Select(s => Group(group, s, expressions, from))),
            BoundUnion union => string.Join(
                "\nUNION ALL\n",
                union.Branches.Select((b, i) => Branch(union, b.Columns, Stages(plan.Branches[i], input)))
            ),
            _ => throw new InvalidOperationException(plan.Stage.GetType().Name),
        };
    }

    private string Order(IEnumerable<BoundOrderTerm> order, SqlExpressions expressions) =>
        string.Join(
            ", ",
            order.Select(o => dialect.OrderTerm(expressions.Value(new PlanExpression(o.Expression)), o.Descending, o.Expression.MayBeNull))
        );

    private string Slice(BoundSlice slice)
    {
        string Number(int slot) => parameter(new NumberParameter(slot));
        var limit = slice.Top is { } top ? Number(top) : dialect.NoLimit;
        return $"LIMIT {limit}{(slice.Skip is { } skip ? $" OFFSET {Number(skip)}" : "")}";
    }

    /// <summary>Ranked by the value and then by the key, so that ties are cut in one way always.</summary>
    private string Ranking(BoundRanking ranking, StagePlan plan, SqlExpressions expressions, string from, string carried)
    {
        var order = Order(TotalOrders.Of(ranking.Result, [new BoundOrderTerm(ranking.By, ranking.IsTop)]), expressions);
        var partition = ranking.Partition.IsEmpty
            ? ""
            : $"PARTITION BY {string.Join(", ", ranking.Partition.Select(p => expressions.Value(new PlanExpression(p))))} ";
        var limit = parameter(
            ranking.Kind == RankKind.Count
                ? new NumberParameter(ranking.Limit.Slot)
                : new LiteralParameter(ranking.Limit.Slot, EdmType.Decimal, null)
        );
        var value = expressions.Value(new PlanExpression(ranking.By));
        var rank =
            ranking.Kind == RankKind.Count
                ? $"ROW_NUMBER() OVER ({partition}ORDER BY {order}) AS gable_rank"
                // What the rows before it reach together; a row belongs to the result as long as that is not enough.
                : $"COALESCE(SUM({value}) OVER ({partition}ORDER BY {order} ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING), "
                    + $"0) AS gable_rank, SUM({value}) OVER ({Whole(partition)}) AS gable_total";
        var keeps = ranking.Kind switch
        {
            RankKind.Count => $"gable_rank <= {limit}",
            RankKind.Sum => $"gable_rank < {limit}",
            _ => $"gable_rank * 100 < gable_total * {limit}",
        };
        var columns = string.Join(", ", plan.Carried.Select(c => "s." + dialect.Quote(c)));
        return $"SELECT {columns} FROM (SELECT {carried}, {rank}\n{from}) AS s WHERE {keeps}";
    }

    private static string Whole(string partition) => partition.TrimEnd();

    private string Group(BoundGroup group, ImmutableArray<int> keys, SqlExpressions expressions, string from)
    {
        var output = new List<string>();
        for (var i = 0; i < group.Keys.Length; i++)
        {
            var (key, property) = group.Keys[i];
            var isThere = keys.Contains(i);
            output.Add($"{(isThere ? expressions.Groupable(key) : "NULL")} AS {dialect.Quote(property.Column)}");
            if (property.PresenceColumn is { } presence)
                output.Add($"{(isThere ? 1 : 0)} AS {dialect.Quote(presence)}");
        }
        output.AddRange(group.Aggregates.Select(a => $"{Aggregate(a, expressions)} AS {dialect.Quote(a.Property.Column)}"));
        // Without an aggregate the groups themselves are the rows.
        var by =
            keys.Length > 0 ? $"\nGROUP BY {string.Join(", ", keys.Select(k => expressions.Groupable(group.Keys[k].From)))}"
            : group.Aggregates.IsEmpty ? "\nLIMIT 1"
            : group.Sets.Length > 1 || !group.Keys.IsEmpty ? "\nHAVING COUNT(*) > 0"
            : "";
        return $"SELECT {string.Join(", ", output)}\n{from}{by}";
    }

    private string Aggregate(BoundAggregate aggregate, SqlExpressions expressions)
    {
        string When(string sql) =>
            aggregate.Condition is { } condition ? $"CASE WHEN {expressions.Predicate(condition, exact: false)} THEN {sql} END" : sql;
        if (aggregate.Value is not { } value)
            return aggregate.Condition is null ? "COUNT(*)" : $"COUNT({When("1")})";
        var isKept =
            aggregate.Method is AggregationMethod.Min or AggregationMethod.Max or AggregationMethod.CountDistinct && value is BoundProperty;
        var sql = When(isKept ? expressions.Groupable((BoundProperty)value) : expressions.Value(new PlanExpression(value)));
        var whole = dialect.Aggregate(
            aggregate.Method switch
            {
                AggregationMethod.Sum => "SUM",
                AggregationMethod.Min => "MIN",
                AggregationMethod.Max => "MAX",
                AggregationMethod.Average => "AVG",
                _ => "COUNT",
            },
            sql,
            aggregate.Property.Type
        );
        // A number of related entities is 0 when there is nothing to add up.
        return value is BoundCount && aggregate.Method == AggregationMethod.Sum ? $"COALESCE({whole}, 0)" : whole;
    }

    private string Branch(BoundUnion union, ImmutableArray<Property?> columns, string rows)
    {
        var output = new List<string>();
        for (var i = 0; i < union.Columns.Length; i++)
        {
            output.Add(
                $"{(columns[i] is { } own ? "u." + dialect.Quote(own.Column) : "NULL")} AS {dialect.Quote(union.Columns[i].Column)}"
            );
            if (union.Columns[i].PresenceColumn is { } presence)
                output.Add(
                    $"{(columns[i] is null ? "0" : columns[i]!.PresenceColumn is { } inner ? "u." + dialect.Quote(inner) : "1")} "
                        + $"AS {dialect.Quote(presence)}"
                );
        }
        return $"SELECT {string.Join(", ", output)} FROM (\n{rows}\n) AS u";
    }
}
