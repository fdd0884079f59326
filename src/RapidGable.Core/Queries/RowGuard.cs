using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>
/// Keeps expressions of a caller from rows that rules take away. A database evaluates conditions in whatever order it likes; one that
/// fails for some values, or takes long, would tell of rows that are not in the answer. So such an expression stands in a CASE that asks
/// first whether the row is seen: no engine looks at a branch whose condition does not hold.
/// </summary>
/// <param name="table">Writes a table, or what of it the caller may see.</param>
internal sealed class RowGuard(SqlDialect dialect, Func<RowSource, string> table)
{
    /// <summary>Column of a restricted table: whether the rules leave the row. Never null for a row that is there.</summary>
    public const string Marker = "gable_seen";

    /// <summary>The guard of rows that a fence has chosen already; only what is nested in an expression needs more.</summary>
    public const string Fenced = "TRUE";

    /// <summary>Whether some of a table's rows are kept from the caller.</summary>
    public static bool IsRestricted(RowSource source) => RestrictionOf(source) is not null;

    private static RestrictedSource? RestrictionOf(RowSource source) =>
        source switch
        {
            RestrictedSource restriction => restriction,
            ComputedSource computed => RestrictionOf(computed.Rows),
            _ => null,
        };

    /// <summary>
    /// Whether an expression can fail or take long for some value. Comparisons of columns with values do not; they stay as they are, so
    /// that indexes serve them.
    /// </summary>
    public static bool IsNeeded(BoundExpression expression) =>
        ExpressionPaths
            .All(expression)
            .Any(e =>
                e
                    is BoundArithmetic
                        or BoundNegation
                        or BoundCast
                        or BoundOverValues
                        or BoundCall { Function: not CanonicalFunction.Now }
                        or BoundSearchTerm { Indexed: null }
            );

    /// <summary>Whether a statement may evaluate such an expression where it chooses rows.</summary>
    public static bool IsNeeded(SelectPlan plan) =>
        plan.Where.Any(c => c is PlanFilter filter && IsNeeded(filter.Condition))
        || IsNeeded(plan.Order)
        || plan.From.Apply is { } apply && (IsNeeded(apply.Input) || IsNeeded(apply.Stages));

    public static bool IsNeeded(RelatedPlan plan) => (plan.Expand.Filter is { } filter && IsNeeded(filter)) || IsNeeded(plan.Order);

    private static bool IsNeeded(ImmutableArray<PlanOrder> order) =>
        order.Any(o => o.Value is PlanExpression by && IsNeeded(by.Expression));

    /// <summary>
    /// Whether a statement looks at every row whatever is done: nothing plain narrows it down, and no order lets it end early. Then it is
    /// cheaper to choose the rows by themselves than to look each up once more.
    /// </summary>
    public static bool ReadsAll(SelectPlan plan) =>
        plan.Where.All(c => c is PlanFilter filter && Parts(filter.Condition).All(IsNeeded))
        && (plan.Output.IsEmpty || plan.Order is [{ Value: PlanExpression first }, ..] && IsNeeded(first.Expression));

    private static IEnumerable<BoundExpression> Parts(BoundExpression condition) =>
        condition is BoundLogical { Operator: BinaryOperator.And } both ? Parts(both.Left).Concat(Parts(both.Right)) : [condition];

    private static bool IsNeeded(ImmutableArray<StagePlan> stages) =>
        stages.Any(s => s.Stage.Expressions.Any(IsNeeded) || s.Branches.Any(IsNeeded));

    /// <summary>An expression that is evaluated where all guards hold, and null elsewhere.</summary>
    public static string Of(ImmutableArray<string> guards, string sql) => $"(CASE WHEN {string.Join(" AND ", guards)} THEN {sql} END)";

    /// <summary>For each restricted one of some tables: that the rules leave its row, or that an outer join found none.</summary>
    public IEnumerable<string> Seen(IEnumerable<(string Alias, RowSource Source)> tables) =>
        tables.Select(t => RestrictionOf(t.Source) is { } restriction ? Seen(t.Alias, restriction) : null).OfType<string>();

    /// <summary>
    /// That the rules leave a row. A marker serves where the engine evaluates it as it stands. Others put values in the place of columns
    /// that a condition beside it compares with them, and would then ask about another row; they look the row up once more by its key, in
    /// a subquery, where they do not.
    /// </summary>
    private string? Seen(string alias, RestrictedSource restriction)
    {
        if (dialect.KeepsMarkers)
            return $"{alias}.{Marker} IS NOT FALSE";
        var key = restriction.Set.Type.Key.Select(k => dialect.Quote(k.Column)).ToList();
        if (key.Count == 0)
            return null; // its rows are fenced, see SqlWriter
        var rows = table(restriction.RowsOnly);
        var isSame = string.Join(" AND ", key.Select(k => $"seen.{k} = {alias}.{k}"));
        return $"({alias}.{key[0]} IS NULL OR EXISTS (SELECT 1 FROM {rows} AS seen WHERE {isSame}))";
    }

    /// <summary>Whether rows of a table can only be kept apart by a fence, since nothing tells one from another.</summary>
    public bool NeedsFence(RowSource source) => !dialect.KeepsMarkers && RestrictionOf(source) is { Set.Type.Key.IsEmpty: true };

    /// <summary>Conditions in a form in which no engine simplifies them by what else it knows.</summary>
    public IEnumerable<string> Opaque(IEnumerable<string> conditions) => conditions.Select(dialect.Opaque);
}
