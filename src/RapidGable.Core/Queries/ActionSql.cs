using System.Collections.Immutable;
using System.Text;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>Where the rows of an action's last statement hold what the answer is made of.</summary>
/// <param name="Columns">Names of the columns, in the order of the plan's output; null = they come in that order.</param>
public sealed record ActionResult(ImmutableArray<string>? Columns);

/// <summary>The statements of an action, with placeholders for its arguments.</summary>
internal static class ActionSql
{
    /// <summary>The name of the last statement's rows, where the engine reads them within another statement.</summary>
    private const string ResultName = "gable_result";

    /// <param name="plan">That of all rows of the set, as if they were read.</param>
    public static CompiledQuery Write(EntitySet action, QueryPlan plan, SqlDialect dialect)
    {
        var last = (QuerySource)action.Source;
        // The number of rows is told otherwise; it is the last column, since it is asked for last.
        var columns = plan.Main.Output.OfType<PlanColumn>().Select(c => c.Property).ToImmutableArray();
        var isWrapped = dialect.ReadsChanges && !IsRaw(last) && action.Gives != QueryResult.Nothing;
        var main = new StatementText(dialect).Of(last);
        if (isWrapped)
        {
            var read = columns.Select(c => dialect.Column($"q.{dialect.Quote(c.Column)}", c));
            var text = $"WITH {ResultName} AS (\n{main.Text}\n)\nSELECT {string.Join(", ", read)}\nFROM {ResultName} AS q";
            main = main with { Text = text };
        }
        return new CompiledQuery(main, null, null, [], plan.Shape with { TotalColumn = null })
        {
            Before = [.. action.Call!.Before.Select(s => new StatementText(dialect).Of(s))],
            Result = new ActionResult(isWrapped ? null : [.. columns.Select(c => c.Column)]),
        };
    }

    /// <summary>One statement with placeholders for its parameters.</summary>
    public static SqlStatement Text(QuerySource statement, SqlDialect dialect) => new StatementText(dialect).Of(statement);

    /// <summary>Whether the rows of a statement come only as they are, since it cannot stand within another one.</summary>
    public static bool IsRaw(QuerySource statement)
    {
        var text = statement.Pieces[0].TrimStart();
        return text.StartsWith("CALL", StringComparison.OrdinalIgnoreCase) || text.StartsWith("WITH", StringComparison.OrdinalIgnoreCase);
    }

    private sealed class StatementText(SqlDialect dialect)
    {
        private readonly List<PlanParameter> _parameters = [];

        public SqlStatement Of(QuerySource statement)
        {
            var sql = new StringBuilder();
            for (var i = 0; i < statement.Parameters.Length; i++)
                sql.Append(statement.Pieces[i]).Append(Placeholder(statement.Parameters[i]));
            return new SqlStatement(sql.Append(statement.Pieces[^1]).ToString(), [.. _parameters]);
        }

        private string Placeholder(OperationParameter parameter)
        {
            _parameters.Add(new ArgumentParameter(parameter));
            var type = parameter.Conversion?.Parameter ?? parameter.Type;
            return dialect.Argument(_parameters.Count, type, parameter.StorageForm);
        }
    }
}
