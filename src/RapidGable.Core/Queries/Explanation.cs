using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>One statement of a request, for the developer.</summary>
/// <param name="Purpose">What it is for, in a few words.</param>
/// <param name="Sql">Its text.</param>
/// <param name="Parameters">Each placeholder with its value.</param>
public sealed record ExplainedStatement(string Purpose, string Sql, ImmutableArray<ExplainedParameter> Parameters);

/// <param name="Origin">Where the value comes from.</param>
public sealed record ExplainedParameter(string Placeholder, string Value, string Origin);

/// <summary>Shows what a prepared request would send to its source.</summary>
public static class Explanation
{
    public static Result<List<ExplainedStatement>> Of(PreparedRequest prepared, QueryValues values)
    {
        var result = new List<ExplainedStatement>();
        if (prepared.Query is not { } query)
            return result;
        var (own, sources) = (prepared.Source!, prepared.Sources);
        var statements = new List<(string Purpose, SqlStatement? Statement, ISource Source)>
        {
            ("what the entity is related by, in the other source", query.Bridge?.Statement, query.Bridge is { } bridge ? sources[bridge.Plan.Select.From.Source.Source] : own),
            ("number of matches, for $count=true", query.Count, own),
            (query.Shape.Kind == ResourceKind.Count ? "number of matches" : "rows", query.Main, own),
            ("whether the entity before the last step exists; only when there are no rows", query.Probe, own),
        };
        statements.AddRange(query.Shape.Entity.Many.Select(m => ($"related {m.Navigation.Name}, for the whole page", (SqlStatement?)query.Children[m.Child], own)));
        foreach (var remote in query.Shape.Entity.Remotes)
        {
            var statement = query.Remotes[remote.Remote];
            var there = sources[statement.Plan.Child.Source.Source];
            statements.Add(($"what the page is related to {remote.Navigation.Name} by", statement.Keys, own));
            statements.Add(($"related {remote.Navigation.Name} in the source {there.Name}, for each {RemotePlan.BatchSize} of these", statement.Batch, there));
        }
        foreach (var (purpose, statement, source) in statements)
        {
            if (statement is null)
                continue;
            if (!values.Bind(statement, source.Dialect).Is(out var bound, out var fault))
                return fault;
            result.Add(new ExplainedStatement(purpose, statement.Text, [.. Parameters(statement, bound, source.Dialect)]));
        }
        return result;
    }

    private static IEnumerable<ExplainedParameter> Parameters(SqlStatement statement, StoredValue[] values, SqlDialect dialect)
    {
        var batch = statement.Parameters.Count(p => p is BatchParameter);
        for (var i = 0; i < values.Length; i++)
        {
            if (statement.Parameters[i] is not BatchParameter)
                yield return new ExplainedParameter(dialect.Parameter(i + 1), values[i].ToString(), Origin(statement.Parameters[i]));
            else if (i == 0 || statement.Parameters[i - 1] is not BatchParameter)
                yield return new ExplainedParameter($"{dialect.Parameter(i + 1)} to {dialect.Parameter(i + batch)}", "…", "values from the other source; null where a batch is not full");
        }
    }

    private static string Origin(PlanParameter parameter) => parameter switch
    {
        LiteralParameter literal => $"value {literal.Slot + 1} of the URL, as {literal.Type.Name}",
        SeekParameter => "position in the next link",
        LimitParameter => "rows of a page, and one to see whether more follow",
        SkipParameter => "$skip",
        ChildLimitParameter => "related rows of each parent, and one to see whether more follow",
        NowParameter => "time of the request",
        TruthParameter => "what is stored for true",
        BridgeParameter => "value from the other source",
        _ => "",
    };
}
