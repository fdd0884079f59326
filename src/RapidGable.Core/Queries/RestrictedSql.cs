using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>Writes the rows and values of a table that a caller may see, as a table of the statement.</summary>
internal sealed class RestrictedSql(SqlDialect dialect, Func<PlanParameter, string> parameter)
{
    /// <param name="isMarked">Rows say by <see cref="RowGuard.Marker"/> that they are seen, for expressions that must not meet
    /// others.</param>
    /// <param name="isFenced">Nothing around it is evaluated before its rows have been chosen.</param>
    public string Write(RestrictedSource restriction, bool isMarked = false, bool isFenced = false)
    {
        // The conditions are about the tables as they are, whatever the caller may see of them.
        var level = new PlanLevel(restriction.Model, "a", n => "a" + n);
        foreach (var rule in restriction.Allowing.Concat(restriction.Denying).Where(r => r.Condition is not null))
            level.Reach(rule.Condition!);
        SqlExpressions For(BoundRule rule) =>
            new(dialect, dialect.From, level.Aliases, p => parameter(Of(rule, p))) { ComparesExactly = true };
        string Any(IEnumerable<BoundRule> rules) =>
            string.Join(
                " OR ",
                rules.Select(r =>
                    r.Condition is { } condition ? For(r).Predicate(condition, exact: false) : $"({dialect.False} = {dialect.False})"
                )
            );

        var conditions = new List<string>();
        if (restriction.Allowing.All(r => r.Condition is not null))
            conditions.Add($"({Any(restriction.Allowing)})");
        conditions.AddRange(
            restriction.Denying.Select(r => $"(NOT COALESCE({For(r).Predicate(r.Condition!, exact: true)}, {dialect.False}))")
        );
        var covered = restriction.Covered.ToDictionary(c => c.Column, c => c.ShownBy);
        string Column(string name)
        {
            var column = $"a.{dialect.Quote(name)}";
            return !covered.TryGetValue(name, out var shownBy)
                ? column
                : $"CASE WHEN {(shownBy.IsEmpty ? $"NOT ({dialect.False} = {dialect.False})" : Any(shownBy))} THEN {column} "
                    + $"END AS {dialect.Quote(name)}";
        }
        var columns = covered.Count == 0 ? "a.*" : string.Join(", ", restriction.Columns.Select(Column));
        var joins = PlainJoins.Of(level.Joins, dialect);
        if (isMarked)
            columns +=
                $", {(conditions.Count == 0 ? dialect.True : $"COALESCE({string.Join(" AND ", conditions)}, {dialect.False})")} "
                + $"AS {RowGuard.Marker}";
        return $"(SELECT {columns} FROM {QuerySql.Write(restriction.Rows, dialect, parameter)} AS "
            + $"a{joins}{(conditions.Count == 0 ? "" : " WHERE " + string.Join(" AND ", conditions))}{(isFenced ? dialect.Fence : "")})";
    }

    internal static PlanParameter Of(BoundRule rule, PlanParameter asked) =>
        asked switch
        {
            LiteralParameter literal => new RuleParameter(rule, literal),
            PatternParameter pattern => new ConstantParameter(rule.LiteralOf(pattern.Slot, Caller.Anonymous).Value, EdmType.String, null),
            _ => asked,
        };
}
