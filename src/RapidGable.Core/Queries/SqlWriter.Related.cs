using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Queries;

public sealed partial class SqlWriter
{
    /// <summary>
    /// The rows of one relation. The rows that they belong to are numbered in a common table expression, <c>p1</c> for the page's,
    /// <c>p2</c> for those of a relation below it, and so on: each is built on the one before.
    /// </summary>
    private string Children(ImmutableArray<ChildrenPlan> all, int number)
    {
        var chain = new List<ChildrenPlan>();
        for (int? i = number; i is { } at; i = all[at].Parent)
            chain.Insert(0, all[at]);
        var tables = new List<string>();
        for (var depth = 0; depth < chain.Count; depth++)
        {
            var on = References(chain[depth]);
            var root = chain[depth].RootKey;
            var keys = on.Select((pair, k) => $"{chain[depth].ParentAlias}.{_dialect.Quote(pair.Own)} AS k{k}")
                .Concat(root.Select((k, i) => depth == 0 ? $"{chain[0].Main.From.Alias}.{_dialect.Quote(k.Column)} AS r{i}" : $"p.r{i}"));
            var page = depth == 0 ? Page(chain[0].Main, keys) : Page(chain[depth - 1], depth, keys);
            var order = page.Order.Count == 0 ? "1" : string.Join(", ", page.Order);
            tables.Add(
                $"p{depth + 1} AS (SELECT ROW_NUMBER() OVER (ORDER BY {order}) AS n, "
                    + $"{string.Join(", ", on.Select((_, k) => "k" + k).Concat(root.Select((_, i) => "r" + i)))} FROM "
                    + $"(\n{page.Sql}\n) AS q)"
            );
        }
        var plan = chain[^1];
        var expressions = Expressions(plan.Related);
        return $"""
            WITH {string.Join(",\n", tables)}
            SELECT {string.Join(", ", Outputs(plan.Related.Output, expressions))}
            {From(plan, chain.Count)}
            ORDER BY {string.Join(", ", ChildOrder(plan.Related).Prepend("p.n"))}
            """;
    }

    /// <summary>What ties related rows to their parents: columns of the parents, and of the related rows or what stands for them.</summary>
    private static List<(string Own, string Child)> References(ChildrenPlan plan) =>
        plan.Link is { } link
            ? [.. link.Own.Select((o, i) => (o.Own.Column, "gable_p" + i))]
            : [.. plan.On.Select(pair => (pair.Own.Column, pair.Target.Column))];

    /// <summary>The page with the given columns and those of its order.</summary>
    private (string Sql, List<string> Order) Page(SelectPlan plan, IEnumerable<string> keys)
    {
        var expressions = new SqlExpressions(_dialect, Inner, plan.Aliases, Parameter, new RootAlias(plan.From.Alias, IsTable: true));
        var orders = plan.Order.Select((o, i) => $"{expressions.Value(o.Value)} AS o{i}");
        return (
            Select(plan, string.Join(", ", keys.Concat(orders))),
            [.. plan.Order.Select((o, i) => _dialect.OrderTerm("o" + i, o.Descending, o.MayBeNull))]
        );
    }

    /// <summary>The rows of a relation with the given columns and those of their order.</summary>
    private (string Sql, List<string> Order) Page(ChildrenPlan plan, int depth, IEnumerable<string> keys)
    {
        var expressions = Expressions(plan.Related);
        var orders = plan.Related.Order.Select((o, i) => $"{expressions.Value(o.Value)} AS o{i + 1}");
        return (
            $"SELECT {string.Join(", ", keys.Append("p.n AS o0").Concat(orders))}\n{From(plan, depth)}",
            [
                _dialect.OrderTerm("o0", false, false),
                .. plan.Related.Order.Select((o, i) => _dialect.OrderTerm($"o{i + 1}", o.Descending, o.MayBeNull)),
            ]
        );
    }

    /// <summary>The numbered parents, joined with the first children of each and what these lead to.</summary>
    private string From(ChildrenPlan plan, int depth)
    {
        var on = References(plan);
        var children = FirstChildren(
            plan.Related,
            plan.Link,
            [.. on.Select((pair, i) => (_dialect.Quote(pair.Child), "k" + i))],
            $"SELECT * FROM p{depth}",
            plan.Related.Expand.NeedsRoot
        );
        return string.Join('\n', plan.Related.Joins.Select(j => Join(j, alias => alias)).Prepend($"FROM p{depth} AS p\n{children}"));
    }

    private SqlExpressions Expressions(RelatedPlan plan) =>
        new(_dialect, Inner, plan.Aliases, Parameter, new RootAlias("p", IsTable: false));

    private string FirstChildren(RelatedPlan plan, LinkTable? link, IReadOnlyList<(string, string)> references, string page, bool needsRoot)
    {
        // Inside, the table and what it is joined to go by other aliases.
        static string Inside(string alias, string outer) => alias + outer[1..];
        SqlExpressions At(string alias) =>
            new(
                _dialect,
                Inner,
                plan.Aliases.ToImmutableDictionary(a => a.Key, a => Inside(alias, a.Value)),
                Parameter,
                new RootAlias(_dialect.InnerParents, IsTable: false)
            )
            {
                Guards = _guard is null ? [] : [.. _guard.Seen(Tables(plan).Select(t => (Inside(alias, t.Alias), t.Source)))],
                Guard = _guard,
            };
        return _dialect.FirstChildren(
            new ChildrenSql(
                link is null ? From(plan.From.Source) : Linked(plan.From, link),
                [.. plan.Set.Type.Key.Select(k => _dialect.Quote(k.Column))],
                references,
                link is not null,
                Parameter(new ChildLimitParameter(plan.Expand.Top)),
                page
            )
            {
                IsPerParent = needsRoot,
                IsGuarded = GuardsChildren && plan.Expand.Filter is { } own && RowGuard.IsNeeded(own),
                RowId = link is null ? (plan.From.Source as TableSource)?.RowId : null,
                Skip = plan.Expand.Skip is { } slot ? Parameter(new ChildSkipParameter(slot)) : null,
                Joins = alias => string.Concat(plan.Joins.Take(plan.InnerJoins).Select(j => " " + Join(j, outer => Inside(alias, outer)))),
                Order = alias => [.. plan.Order.Select(o => _dialect.OrderTerm(At(alias).Value(o.Value), o.Descending, o.MayBeNull))],
                Filter = plan.Expand.Filter is { } filter ? alias => At(alias).Condition(filter) : null,
            }
        );
    }

    private List<string> ChildOrder(RelatedPlan plan) =>
        [.. plan.Order.Select(o => _dialect.OrderTerm(Expressions(plan).Value(o.Value), o.Descending, o.MayBeNull))];

    /// <summary>The rows on the far side of a link table, each with what it is linked to.</summary>
    private string Linked(PlanTable child, LinkTable link)
    {
        var own = string.Join(", ", link.Own.Select((o, i) => $"l.{_dialect.Quote(o.Link)} AS {_dialect.Quote("gable_p" + i)}"));
        var on = string.Join(" AND ", link.Target.Select(t => $"t.{_dialect.Quote(t.Target.Column)} = l.{_dialect.Quote(t.Link)}"));
        return $"(SELECT {own}, t.* FROM {_dialect.From(link.Source)} AS l JOIN {From(child.Source)} AS t ON {on})";
    }

    /// <summary>What the entities of a page are related by, each once.</summary>
    private static SqlStatement WriteKeys(RemotePlan plan, SqlDialect dialect)
    {
        var writer = new SqlWriter(dialect, plan.Parent);
        var keys = string.Join(", ", plan.Own.Select((p, i) => $"{writer.Column(plan.Parent.From.Alias, p)} AS k{i}"));
        var page = writer.Select(plan.Parent, keys);
        var text =
            $"SELECT DISTINCT {string.Join(", ", plan.Own.Select((_, i) => "k" + i))} FROM (\n{page}\n) AS q WHERE "
            + $"{string.Join(" AND ", plan.Own.Select((_, i) => $"k{i} IS NOT NULL"))}";
        return new SqlStatement(text, [.. writer._parameters]);
    }

    /// <summary>The related rows of a batch of these.</summary>
    private static SqlStatement WriteBatch(RemotePlan plan, SqlDialect dialect)
    {
        var writer = new SqlWriter(dialect, RowGuard.IsNeeded(plan.Related), isStaged: false, Tables(plan.Related));
        var items = Enumerable
            .Range(0, RemotePlan.BatchSize)
            .Select(n =>
                $"SELECT {n + 1} AS n, "
                + $"{string.Join(", ", plan.Target.Select((t, i) => $"{writer.Parameter(new BatchParameter(n, i, t))} AS k{i}"))}"
            );
        var page = string.Join("\nUNION ALL ", items);
        var children = writer.FirstChildren(
            plan.Related,
            null,
            [.. plan.Target.Select((t, i) => (dialect.Quote(t.Column), "k" + i))],
            page,
            needsRoot: false
        );
        var expressions = writer.Expressions(plan.Related);
        var joins = string.Concat(plan.Related.Joins.Select(j => "\n" + writer.Join(j, alias => alias)));
        var text =
            $"SELECT {string.Join(", ", Outputs(plan.Related.Output, expressions))}\nFROM (\n{page}\n) AS "
            + $"p\n{children}{joins}\nORDER BY {string.Join(", ", writer.ChildOrder(plan.Related).Prepend("p.n"))}";
        return new SqlStatement(text, [.. writer._parameters]);
    }
}
