using System.Collections.Immutable;
using RapidGable.Requests;

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
        var dialect = prepared.Source!.Dialect;
        var statements = new List<(string Purpose, SqlStatement? Statement)>
        {
            ("number of matches, for $count=true", query.Count),
            (query.Shape.Kind == ResourceKind.Count ? "number of matches" : "rows", query.Main),
            ("whether the entity before the last step exists; only when there are no rows", query.Probe),
        };
        statements.AddRange(query.Shape.Entity.Many.Select(m => ($"related {m.Navigation.Name}, for the whole page", (SqlStatement?)query.Children[m.Child])));
        foreach (var (purpose, statement) in statements)
        {
            if (statement is null)
                continue;
            if (!values.Bind(statement, dialect).Is(out var bound, out var fault))
                return fault;
            result.Add(new ExplainedStatement(purpose, statement.Text,
                [.. statement.Parameters.Select((p, i) => new ExplainedParameter(dialect.Parameter(i + 1), bound[i].ToString(), Origin(p)))]));
        }
        return result;
    }

    private static string Origin(PlanParameter parameter) => parameter switch
    {
        LiteralParameter literal => $"value {literal.Slot + 1} of the URL, as {literal.Type.Name}",
        SeekParameter => "position in the next link",
        LimitParameter => "rows of a page, and one to see whether more follow",
        SkipParameter => "$skip",
        ChildLimitParameter => "related rows of each parent, and one to see whether more follow",
        NowParameter => "time of the request",
        _ => "",
    };
}
