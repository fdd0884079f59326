using System.Collections.Immutable;
using System.Text.RegularExpressions;
using RapidGable.Access;
using RapidGable.Publishing;
using static RapidGable.Core.Tests.RuleWorld;

namespace RapidGable.Core.Tests;

public sealed class SqliteRandomRuleTests() : RandomRuleTests(Engine.Sqlite);

public sealed class PostgresRandomRuleTests(PostgresServer server)
    : RandomRuleTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>;

public sealed class MariaDbRandomRuleTests(MariaDbServer server)
    : RandomRuleTests(Engine.MariaDb, null, server),
        IClassFixture<MariaDbServer>;

/// <summary>
/// Random rules, callers and requests: the answers are those of an evaluator of its own, which knows rows and delegates only.
/// </summary>
[Trait("Category", "Attack")]
public abstract class RandomRuleTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : EngineTests(engine, postgres, mariaDb)
{
    protected override string Tables => RuleWorld.Tables;

    protected override string Declaration => Declared([]);

    private static string Declared(IEnumerable<Rule> rules) =>
        """
            title: S
            source: main
            namespace: T
            rules: { read: anyone }
            sets:
              - from: technician
                name: Technicians
              - from: visit
                name: Visits
                rules: [@]
            """.Replace("@", string.Join(", ", rules.Select(Written)), StringComparison.Ordinal);

    private static string Written(Rule rule)
    {
        var rows = Conditions[rule.Condition].Text is { } text ? $", rows: \"{text}\"" : "";
        return $"{{ who: {rule.Who}, {(rule.Denies ? "deny" : "may")}: read{rows}, hide: [{string.Join(", ", rule.Hide)}], "
            + $"mask: [{string.Join(", ", rule.Mask)}] }}";
    }

    /// <summary>
    /// The rows that the caller sees with what they may see of them; null = the set is not there. A column that is not there is told in
    /// <paramref name="gone"/>.
    /// </summary>
    private static List<Visit>? Seen(List<Rule> rules, Caller caller, out List<string> gone)
    {
        var mine = rules.Where(r => Applies(r, caller)).ToList();
        var knows = mine.Where(r => Conditions[r.Condition].Holds(Visits[0], caller) is not null).ToList();
        var allowing = knows.Where(r => !r.Denies).ToList();
        gone = [.. new[] { "level", "note" }.Where(c => allowing.Count > 0 && allowing.TrueForAll(r => r.Hide.Contains(c)))];
        if (allowing.Count == 0 || mine.Exists(r => r.Denies && (r.Condition == 0 || !knows.Contains(r))))
            return null;
        bool Holds(Rule rule, Visit visit) => Conditions[rule.Condition].Holds(visit, caller) == true;
        bool Shows(Visit visit, string column) =>
            allowing.Exists(r => Holds(r, visit) && !r.Hide.Contains(column) && !r.Mask.Contains(column));
        return
        [
            .. Visits
                .Where(v => allowing.Exists(r => Holds(r, v)) && !mine.Exists(r => r.Denies && Holds(r, v)))
                .Select(v => v with { Level = Shows(v, "level") ? v.Level : null, Note = Shows(v, "note") ? v.Note : null }),
        ];
    }

    private static string Json(object? value) =>
        value switch
        {
            null => "null",
            string text => $"'{text}'",
            var other => $"{other}",
        };

    [Fact]
    public async Task The_answers_are_those_of_an_evaluator_of_its_own()
    {
        var random = new Random(11);
        var (worlds, asked) = ((Engine == Engine.Sqlite ? 100 : 30) * Soak.Times, 0);
        for (var world = 0; world < worlds; world++)
        {
            string[] Some(double chance) => [.. new[] { "level", "note" }.Where(_ => random.NextDouble() < chance)];
            var rules = Enumerable
                .Range(0, random.Next(1, 5))
                .Select(_ =>
                {
                    var denies = random.Next(4) == 0;
                    var hide = denies ? [] : Some(0.2);
                    return new Rule(
                        new[] { "anyone", "signed-in", "[a]", "[b]", "[a, b]" }[random.Next(5)],
                        denies,
                        random.Next(Conditions.Length),
                        [.. hide],
                        denies ? [] : [.. Some(0.2).Except(hide)]
                    );
                })
                .ToList();
            await using var workspace = await LoadAsync(Declared(rules));
            Assert.Empty(workspace.Diagnostics.Items.Where(d => d.Severity == Declarations.Severity.Error).Select(d => d.Render()));
            var service = new PublishedService(workspace.Services[0].Model, workspace.Sources, "r");
            for (var n = 0; n < 6; n++)
            {
                var roles = new[] { "a", "b" }.Where(_ => random.Next(2) == 0).ToArray();
                ImmutableArray<string> Values(params string[] all) => [.. all.Where(_ => random.Next(2) == 0).DefaultIfEmpty(all[0])];
                var attributes = ImmutableDictionary<string, ImmutableArray<string>>.Empty;
                if (random.Next(3) > 0)
                    attributes = attributes.Add("region", Values("north", "south"));
                if (random.Next(3) > 0)
                    attributes = attributes.Add("level", Values($"{random.Next(1, 5)}", "2"));
                var caller = random.Next(6) == 0 ? Caller.Anonymous : Caller.WithRoles(roles) with { Attributes = attributes };
                foreach (var (url, expected) in Requests(rules, caller))
                {
                    var answer = await GetAsync(url, caller, service);
                    answer = Regex.Replace(answer, "'@id':null,|'[a-z]+@type':'[^']+',", "");
                    answer =
                        answer.StartsWith('{') && !answer.Contains("'value':[") ? Regex.Replace(answer, "'#[^']*',", "")
                        : answer.StartsWith('{') ? answer[(answer.IndexOf("'value':", StringComparison.Ordinal) + 8)..^1]
                        : answer.Split(' ')[0];
                    Assert.True(
                        expected == answer,
                        $"{url} as {string.Join('+', roles)} "
                            + $"{string.Join(' ', attributes.Select(a => $"{a.Key}={string.Join('|', a.Value)}"))}\n"
                            + $"{Declared(rules)}\nexpected "
                            + $"{expected}\nanswered {answer}"
                    );
                    asked++;
                }
            }
        }
        Assert.True(asked > worlds * 30, $"{asked} requests");
    }

    private static IEnumerable<(string Url, string Expected)> Requests(List<Rule> rules, Caller caller)
    {
        var seen = Seen(rules, caller, out var gone);
        string Numbers(IEnumerable<int> ids) => $"[{string.Join(',', ids.Select(i => $"{{'id':{i}}}"))}]";
        string Ids(Func<Visit, bool> keeps) => $"[{string.Join(',', seen!.Where(keeps).Select(v => $"{{'id':{v.Id}}}"))}]";
        string Row(Visit v) =>
            $"{{'id':{v.Id},'technician_id':{Json(v.TechnicianId)}{(gone.Contains("level") ? "" : $",'level':{Json(v.Level)}")}"
            + $"{(gone.Contains("note") ? "" : $",'note':{Json(v.Note)}")}}}";
        yield return ("Visits", seen is null ? "404" : $"[{string.Join(',', seen.Select(Row))}]");
        yield return ("Visits/$count", seen is null ? "404" : $"{seen.Count}");
        yield return (
            "Visits?$filter=level ge 2&$select=id",
            seen is null ? "404"
            : gone.Contains("level") ? "400"
            : Ids(v => v.Level >= 2)
        );
        yield return (
            "Visits?$filter=note eq null&$select=id",
            seen is null ? "404"
            : gone.Contains("note") ? "400"
            : Ids(v => v.Note is null)
        );
        yield return (
            "Technicians?$select=id&$expand=Visits($select=id)",
            seen is null
                ? "400"
                : $"[{string.Join(',', Technicians.Select(t => $"{{'id':{t.Id},'Visits':{Ids(v => v.TechnicianId == t.Id)}}}"))}]"
        );
        yield return (
            "Technicians?$select=id&$filter=Visits/any(v:v/id ge 3)",
            seen is null ? "400" : Numbers(Technicians.Where(t => seen.Exists(v => v.TechnicianId == t.Id && v.Id >= 3)).Select(t => t.Id))
        );
        yield return ("Technicians(2)/Visits/$count", seen is null ? "404" : $"{seen.Count(v => v.TechnicianId == 2)}");
        yield return (
            "Visits?$orderby=level desc,id&$select=id",
            seen is null ? "404"
            : gone.Contains("level") ? "400"
            : $"[{string.Join(',', seen.OrderByDescending(v => v.Level ?? -1).ThenBy(v => v.Id).Select(v => $"{{'id':{v.Id}}}"))}]"
        );
        yield return (
            "Visits?$apply=aggregate(level with max as m)",
            seen is null ? "404"
            : gone.Contains("level") ? "400"
            : $"[{{'m':{Json(seen.Max(v => v.Level))}}}]"
        );
        yield return (
            "Visits?$apply=groupby((technician_id))/aggregate($count as n)",
            seen is null ? "404" : $"[{{'n':{seen.Select(v => v.TechnicianId).Distinct().Count()}}}]"
        );
        foreach (var id in new[] { 1, 5, 7 })
            yield return (
                $"Visits({id})?$select=id",
                seen is null ? "404"
                : seen.Exists(v => v.Id == id) ? $"{{'id':{id}}}"
                : "404"
            );
        yield return (
            "Visits(5)/level",
            seen is null || gone.Contains("level") || seen.Find(v => v.Id == 5) is not { } five ? "404" : $"{{'value':{Json(five.Level)}}}"
        );
        yield return (
            "Visits?$compute=level add 1 as x&$select=id,x",
            seen is null ? "404"
            : gone.Contains("level") ? "400"
            : $"[{string.Join(',', seen.Select(v => $"{{'id':{v.Id},'x':{Json(v.Level + 1)}}}"))}]"
        );
        yield return (
            "Technicians?$select=id&$orderby=Visits/$count desc,id",
            seen is null
                ? "400"
                : Numbers(Technicians.OrderByDescending(t => seen.Count(v => v.TechnicianId == t.Id)).ThenBy(t => t.Id).Select(t => t.Id))
        );
        yield return (
            "Visits?$search=a&$select=id",
            seen is null ? "404"
            : gone.Contains("note") ? "501"
            : Ids(v => v.Note?.Contains('a') ?? false)
        );
    }
}
