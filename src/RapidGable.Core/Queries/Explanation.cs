using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>One statement of a request, for the developer.</summary>
/// <param name="Purpose">What it is for, in a few words.</param>
/// <param name="Sql">Its text.</param>
/// <param name="Parameters">Each placeholder with its value.</param>
public sealed record ExplainedStatement(string Purpose, string Sql, ImmutableArray<ExplainedParameter> Parameters)
{
    /// <summary>How the engine means to run it, line by line; empty = not asked for.</summary>
    public ImmutableArray<string> Plan { get; init; } = [];
}

/// <summary>Where the time of a request goes, in microseconds.</summary>
/// <param name="Parse">Text to syntax tree.</param>
/// <param name="Bind">Names and types.</param>
/// <param name="Plan">Plan and SQL; like parsing and binding done once for each shape of request.</param>
/// <param name="Database">Until the first row is there.</param>
/// <param name="Write">All rows and the payload.</param>
/// <param name="Bytes">Length of the payload.</param>
public sealed record ExplainedTimes(long Parse, long Bind, long Plan, long Database, long Write, long Bytes);

/// <param name="Times">Null = it was not run.</param>
public sealed record ExplainedRequest(List<ExplainedStatement> Statements, ExplainedTimes? Times);

/// <param name="Origin">Where the value comes from.</param>
public sealed record ExplainedParameter(string Placeholder, string Value, string Origin);

/// <summary>Shows what a prepared request would send to its source.</summary>
public static class Explanation
{
    /// <summary>Asks the engines how they mean to run the statements.</summary>
    /// <exception cref="SourceException">When a source fails.</exception>
    public static async Task<List<ExplainedStatement>> WithPlansAsync(
        PreparedRequest prepared,
        QueryValues values,
        List<ExplainedStatement> statements,
        CancellationToken cancellation
    )
    {
        var result = new List<ExplainedStatement>();
        foreach (var (explained, (_, statement, source)) in statements.Zip(Statements(prepared).Where(s => s.Statement is not null)))
        {
            // A batch for another source is planned when its items are known.
            if (statement!.Parameters.Any(p => p is BatchParameter or BridgeParameter))
            {
                result.Add(explained);
                continue;
            }
            await using var session = await values.OpenAsync(source, SessionKind.Plain, cancellation);
            await using var cursor = await session.QueryAsync(
                source.Dialect.Explain + statement.Text,
                values.Bind(statement, source.Dialect).Value!,
                cancellation
            );
            var lines = ImmutableArray.CreateBuilder<string>();
            while (await cursor.ReadAsync(cancellation))
                lines.Add(
                    string.Join(
                        "  ",
                        Enumerable
                            .Range(source.Dialect.ExplainedFrom, cursor.Columns - source.Dialect.ExplainedFrom)
                            .Where(c => !cursor.IsNull(c))
                            .Select(c => Shown(cursor.GetStored(c)))
                    )
                );
            result.Add(explained with { Plan = lines.ToImmutable() });
        }
        return result;
    }

    private static string Shown(StoredValue value) => value.Kind == StoredValueKind.Text ? value.Text : value.ToString();

    /// <summary>The statements of a request with their parameters, as they would be sent.</summary>
    public static Result<List<ExplainedStatement>> Of(PreparedRequest prepared, QueryValues values)
    {
        var result = new List<ExplainedStatement>();
        if (prepared.Query is null)
            return result;
        foreach (var (purpose, statement, source) in Statements(prepared))
        {
            if (statement is null)
                continue;
            if (!values.Bind(statement, source.Dialect).Is(out var bound, out var fault))
                return fault;
            result.Add(new ExplainedStatement(purpose, statement.Text, [.. Parameters(statement, bound, source.Dialect)]));
        }
        return result;
    }

    private static List<(string Purpose, SqlStatement? Statement, ISource Source)> Statements(PreparedRequest prepared)
    {
        var query = prepared.Query!;
        var (own, sources) = (prepared.Source!, prepared.Sources);
        var statements = new List<(string Purpose, SqlStatement? Statement, ISource Source)>
        {
            (
                "what the entity is related by, in the other source",
                query.Bridge?.Statement,
                query.Bridge is { } bridge ? sources[bridge.Plan.Select.From.Source.Source] : own
            ),
            ("number of matches, for $count=true", query.Count, own),
            (query.Shape.Kind == ResourceKind.Count ? "number of matches" : "rows", query.Main, own),
            ("whether the entity before the last step exists; only when there are no rows", query.Probe, own),
        };
        statements.AddRange(
            query
                .Shape.Entity.AllMany.Where(m => m.Child is not null)
                .OrderBy(m => m.Child)
                .Select(m => ($"related {m.Navigation.Name}, for the whole page", (SqlStatement?)query.Children[m.Child!.Value], own))
        );
        foreach (var remote in query.Shape.Entity.Remotes)
        {
            var statement = query.Remotes[remote.Remote];
            var there = sources[statement.Plan.Related.From.Source.Source];
            statements.Add(($"what the page is related to {remote.Navigation.Name} by", statement.Keys, own));
            statements.Add(
                (
                    $"related {remote.Navigation.Name} in the source {there.Name}, for each {RemotePlan.BatchSize} of these",
                    statement.Batch,
                    there
                )
            );
        }
        return statements;
    }

    private static IEnumerable<ExplainedParameter> Parameters(SqlStatement statement, StoredValue[] values, SqlDialect dialect)
    {
        var batch = statement.Parameters.Count(p => p is BatchParameter);
        for (var i = 0; i < values.Length; i++)
        {
            if (statement.Parameters[i] is not BatchParameter)
                yield return new ExplainedParameter(dialect.Parameter(i + 1), values[i].ToString(), Origin(statement.Parameters[i]));
            else if (i == 0 || statement.Parameters[i - 1] is not BatchParameter)
                yield return new ExplainedParameter(
                    $"{dialect.Parameter(i + 1)} to {dialect.Parameter(i + batch)}",
                    "…",
                    "values from the other source; null where a batch is not full"
                );
        }
    }

    private static string Origin(PlanParameter parameter) =>
        parameter switch
        {
            LiteralParameter literal => $"value {literal.Slot + 1} of the URL, as {literal.Type.Name}",
            RuleParameter rule => rule.Rule.AttributeOf(rule.Literal.Slot) is { } attribute
                ? $"the caller's {attribute}, for an access rule"
                : "value of an access rule",
            SeekParameter => "position in the next link",
            LimitParameter => "rows of a page, and one to see whether more follow",
            SkipParameter => "$skip",
            MarkParameter or MarkAgainParameter => "mark in the delta link",
            NumberParameter number => $"value {number.Slot + 1} of the URL",
            ChildSkipParameter => "nested $skip",
            PatternParameter pattern => $"value {pattern.Slot + 1} of the URL, a regular expression",
            ConstantParameter => "part of the URL's shape",
            ChildLimitParameter => "related rows of each parent, and one to see whether more follow",
            NowParameter => "time of the request",
            TruthParameter => "what is stored for true",
            BridgeParameter => "value from the other source",
            _ => "",
        };
}
