using System.Collections.Immutable;
using System.Text;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Requests;
using RapidGable.Requests.OData;
using static RapidGable.Core.Tests.RuleWorld;

namespace RapidGable.Core.Tests;

/// <summary>Random rules about writing: what is let through and what is then in the table is what an evaluator without SQL says.</summary>
[Trait("Category", "Attack")]
public abstract class RandomWriteRuleTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : EngineTests(engine, postgres, mariaDb)
{
    private static readonly string[] Operations = ["read", "create", "update", "delete"];

    // The last condition counts other rows, which a change changes too.
    private static readonly int KnownConditions = Conditions.Length - 1;

    protected override string Tables => RuleWorld.Tables;

    protected override bool IsWritable => true;

    protected override string Declaration => Declared([]);

    /// <param name="seesNorth">Callers read the technicians of the north alone.</param>
    private static string Declared(IEnumerable<Rule> rules, bool seesNorth = false) =>
        """
            title: S
            source: main
            caller-keys: true
            namespace: T
            sets:
              - { from: technician, name: Technicians, allow: [read, create, update, delete], rules: [{ who: anyone, may: read {north} }, { who: anyone, may: [create, update, delete] }] }
              - from: visit
                name: Visits
                key: id
                allow: [read, create, update, delete]
                rules: [@]
            """.Replace("{north}", seesNorth ? ", rows: region eq 'north'" : "").Replace(
            "@",
            string.Join(", ", rules.Select(Written)),
            StringComparison.Ordinal
        );

    private static string Written(Rule rule)
    {
        var rows = Conditions[rule.Condition].Text is { } text ? $", rows: \"{text}\"" : "";
        var check = rule.WithCheck is { } n && Conditions[n].Text is { } after ? $", with-check: \"{after}\"" : "";
        return $"{{ who: {rule.Who}, {(rule.Denies ? "deny" : "may")}: [{string.Join(", ", rule.May)}]{rows}{check}, hide: "
            + $"[{string.Join(", ", rule.Hide)}] }}";
    }

    /// <summary>Whether a caller may do something with a row: before it is done, or with what it leaves.</summary>
    private static bool May(List<Rule> rules, Caller caller, string operation, Visit? visit, bool after = false)
    {
        var mine = rules.Where(r => r.May.Contains(operation) && Applies(r, caller)).ToList();
        int Condition(Rule rule) => after && rule.WithCheck is { } check && Conditions[check].Text is not null ? check : rule.Condition;
        bool? Holds(Rule rule, Visit v) => Conditions[Condition(rule)].Holds(v, caller);
        // Without a row: whether there can be any.
        var allows = mine.Exists(r => !r.Denies && Holds(r, Visits[0]) is not null && (visit is null || Holds(r, visit) == true));
        var denies = mine.Exists(r =>
            r.Denies && (Condition(r) == 0 || Holds(r, Visits[0]) is null || (visit is not null && Holds(r, visit) == true))
        );
        return allows && !denies;
    }

    /// <summary>Whether rules keep the column that relates a visit to its technician from an operation.</summary>
    private static bool IsClosed(List<Rule> rules, Caller caller, string operation)
    {
        var allowing = rules
            .Where(r =>
                !r.Denies && r.May.Contains(operation) && Applies(r, caller) && Conditions[r.Condition].Holds(Visits[0], caller) is not null
            )
            .ToList();
        return allowing.Count > 0 && allowing.TrueForAll(r => r.Hide.Contains("technician_id"));
    }

    internal sealed record Change(ChangeVerb Verb, string Path, string? Body, Func<bool> IsAllowed, Func<IEnumerable<Visit>> After);

    private static IEnumerable<Change> Changes(List<Rule> rules, bool seesNorth, Caller caller, Random random)
    {
        bool Sees(int? id) => id is null || !seesNorth || Technicians.First(t => t.Id == id).Region == "north";
        bool Opens(string operation) => !IsClosed(rules, caller, operation);
        // A value that was there already tells nothing new to who reads it.
        bool MayRefer(Visit was, int? to) => Sees(to) || (was.TechnicianId == to && Can("read", null) && Can("read", was));
        bool Can(string operation, Visit? visit, bool after = false) => May(rules, caller, operation, visit, after);
        bool CanAtAll(string operation) => Can(operation, null) && Can(operation, null, after: true);
        // Who may read the set sees some rows of it only; who may not, and may write it, finds every row.
        bool Finds(Visit visit) => Can("read", null) ? Can("read", visit) : Operations.Skip(1).Any(o => Can(o, null));
        IEnumerable<Visit> With(Visit visit) => Visits.Select(v => v.Id == visit.Id ? visit : v);
        string Body(int? technician, int? level, string? note) =>
            $$"""{"technician_id":{{Json(technician)}},"level":{{Json(level)}},"note":{{Json(note)}} }""";

        var visit = Visits[random.Next(Visits.Length)];
        int? technician = random.Next(4) is > 0 and var t ? t : null;
        int? level = random.Next(5) is > 0 and var l ? l : null;
        var note = random.Next(3) switch
        {
            0 => null,
            1 => "a",
            _ => "z",
        };
        var changed = visit with { TechnicianId = technician, Level = level, Note = note };
        yield return new Change(
            ChangeVerb.Patch,
            $"Visits({visit.Id})",
            Body(technician, level, note),
            () =>
                CanAtAll("update")
                && Opens("update")
                && Finds(visit)
                && MayRefer(visit, technician)
                && Can("update", visit)
                && Can("update", changed, true),
            () => With(changed)
        );
        var levelled = visit with { Level = level };
        yield return new Change(
            ChangeVerb.Put,
            $"Visits({visit.Id})/level",
            $$"""{"value":{{Json(level)}} }""",
            () => CanAtAll("update") && Finds(visit) && Can("update", visit) && Can("update", levelled, true),
            () => With(levelled)
        );
        var moved = visit with { TechnicianId = 2 };
        // Every way of relating them asks the same.
        bool MayMove() =>
            CanAtAll("update") && Opens("update") && Finds(visit) && Sees(2) && Can("update", visit) && Can("update", moved, true);
        yield return new Change(ChangeVerb.Put, $"Visits({visit.Id})/technician/$ref", """{"@odata.id":"Technicians(2)"}""", MayMove, () =>
            With(moved)
        );
        yield return new Change(ChangeVerb.Patch, $"Visits({visit.Id})", """{"technician@odata.bind":"Technicians(2)"}""", MayMove, () =>
            With(moved)
        );
        yield return new Change(ChangeVerb.Patch, $"Visits({visit.Id})", """{"technician":{"@id":"Technicians(2)"}}""", MayMove, () =>
            With(moved)
        );
        yield return new Change(
            ChangeVerb.Post,
            "Technicians(2)/Visits/$ref",
            $$"""{"@odata.id":"Visits({{visit.Id}})"}""",
            () => Can("read", null) && MayMove(),
            () => With(moved)
        );
        yield return new Change(
            ChangeVerb.Patch,
            "Technicians(2)",
            $$"""{"Visits@odata.bind":["Visits({{visit.Id}})"]}""",
            () => Can("read", null) && Sees(2) && Can("read", visit) && (visit.TechnicianId == 2 || MayMove()),
            () => With(moved)
        );
        if (Can("read", null))
            yield return new Change(
                ChangeVerb.Patch,
                "Visits",
                $$"""{"value":[{"id":{{visit.Id}},"technician@odata.bind":"Technicians(2)"}]}""",
                MayMove,
                () => With(moved)
            );
        var freed = visit with { TechnicianId = null };
        bool MayFree() => CanAtAll("update") && Opens("update") && Finds(visit) && Can("update", visit) && Can("update", freed, true);
        yield return new Change(ChangeVerb.Delete, $"Visits({visit.Id})/technician/$ref", null, MayFree, () => With(freed));
        yield return new Change(ChangeVerb.Patch, $"Visits({visit.Id})", """{"technician":null}""", MayFree, () => With(freed));
        yield return new Change(
            ChangeVerb.Delete,
            $"Technicians(2)/Visits({visit.Id})/$ref",
            null,
            () => Can("read", null) && Sees(2) && visit.TechnicianId == 2 && MayFree(),
            () => With(freed)
        );
        yield return new Change(
            ChangeVerb.Delete,
            $"Visits({visit.Id})",
            null,
            () => CanAtAll("delete") && Finds(visit) && Can("delete", visit),
            () => Visits.Remove(visit)
        );
        var made = new Visit(99, technician, level, note);
        yield return new Change(
            ChangeVerb.Post,
            "Visits",
            Body(technician, level, note).Replace("{", "{\"id\":99,"),
            () => CanAtAll("create") && Opens("create") && Sees(technician) && Can("create", made, true),
            () => Visits.Add(made)
        );
        yield return new Change(
            ChangeVerb.Post,
            "Visits",
            """{"id":99,"technician@odata.bind":"Technicians(2)"}""",
            () => CanAtAll("create") && Opens("create") && Sees(2) && Can("create", new Visit(99, 2, null, null), true),
            () => Visits.Add(new Visit(99, 2, null, null))
        );
        yield return new Change(
            ChangeVerb.Post,
            "Technicians(2)/Visits",
            """{"id":99}""",
            () =>
                Can("read", null) && CanAtAll("create") && Opens("create") && Sees(2) && Can("create", new Visit(99, 2, null, null), true),
            () => Visits.Add(new Visit(99, 2, null, null))
        );
        var below = made with { TechnicianId = 9 };
        if (Can("read", null))
            yield return new Change(
                ChangeVerb.Post,
                "Technicians",
                """{"id":9,"region":"west","Visits":[""" + Body(null, level, note).Replace("\"technician_id\":null,", "\"id\":99,") + "]}",
                () => CanAtAll("create") && Opens("create") && Can("create", below, true),
                () => Visits.Add(below)
            );
        // Of no rows, none is left that the caller may not leave.
        var all = Visits.Where(v => v.Id <= 3 && Finds(v)).ToList();
        yield return new Change(
            ChangeVerb.Patch,
            "Visits/$filter(id le 3)/$each",
            $$"""{"level":{{Json(level)}} }""",
            () =>
                Can("update", null)
                && Can("read", null)
                && all.TrueForAll(v => Can("update", v) && Can("update", v with { Level = level }, true)),
            () => Visits.Select(v => all.Contains(v) ? v with { Level = level } : v)
        );
        yield return new Change(
            ChangeVerb.Patch,
            "Visits/$filter(id le 3)/$each",
            """{"technician@odata.bind":"Technicians(2)"}""",
            () =>
                Can("update", null)
                && Can("read", null)
                && (all.Count == 0 || (Opens("update") && Sees(2)))
                && all.TrueForAll(v => Can("update", v) && Can("update", v with { TechnicianId = 2 }, true)),
            () => Visits.Select(v => all.Contains(v) ? v with { TechnicianId = 2 } : v)
        );
    }

    private static string Json(object? value) =>
        value switch
        {
            null => "null",
            string text => $"\"{text}\"",
            var other => $"{other}",
        };

    /// <summary>How many sets of rules are tried.</summary>
    protected virtual int Worlds => Engine == Engine.Sqlite ? 80 : 25;

    [Fact]
    public async Task What_is_written_is_what_an_evaluator_of_its_own_lets_through()
    {
        var random = new Random(23);
        var worlds = Worlds * Soak.Times;
        var (done, refused) = (0, 0);
        for (var world = 0; world < worlds; world++)
        {
            var rules = Enumerable
                .Range(0, random.Next(1, 6))
                .Select(_ =>
                {
                    var denies = random.Next(5) == 0;
                    var may = Operations.Where(_ => random.Next(2) == 0).DefaultIfEmpty("update").ToImmutableArray();
                    var writes = !denies && (may.Contains("create") || may.Contains("update"));
                    return new Rule(
                        new[] { "anyone", "signed-in", "[a]", "[b]", "[a, b]" }[random.Next(5)],
                        denies,
                        random.Next(KnownConditions),
                        !denies && !may.Contains("read") && random.Next(3) == 0 ? ["technician_id"] : [],
                        []
                    )
                    {
                        May = may,
                        WithCheck = writes && random.Next(2) == 0 ? random.Next(KnownConditions) : null,
                    };
                })
                .ToList();
            var seesNorth = random.Next(2) == 0;
            await using var workspace = await LoadAsync(Declared(rules, seesNorth));
            Assert.Empty(workspace.Diagnostics.Items.Where(d => d.Severity == Declarations.Severity.Error).Select(d => d.Render()));
            var service = new PublishedService(workspace.Services[0].Model, workspace.Sources, "r");
            for (var n = 0; n < 6; n++)
            {
                var attributes = ImmutableDictionary<string, ImmutableArray<string>>.Empty;
                if (random.Next(3) > 0)
                    attributes = attributes.Add("region", [random.Next(2) == 0 ? "north" : "south"]);
                if (random.Next(3) > 0)
                    attributes = attributes.Add("level", [$"{random.Next(1, 5)}"]);
                var caller =
                    random.Next(6) == 0
                        ? Caller.Anonymous
                        : Caller.WithRoles([.. new[] { "a", "b" }.Where(_ => random.Next(2) == 0)]) with
                        {
                            Attributes = attributes,
                        };
                foreach (var change in Changes(rules, seesNorth, caller, random))
                {
                    var (fault, rows) = await TryAsync(workspace, service, caller, change);
                    var expected = change.IsAllowed();
                    var told =
                        $"{change.Verb} {change.Path} {change.Body}\nas {string.Join('+', caller.Roles)} "
                        + $"{string.Join(' ', attributes.Select(a => $"{a.Key}={a.Value[0]}"))}\n{Declared(rules, seesNorth)}\n"
                        + $"{fault?.Status} "
                        + $"{fault?.Message}";
                    Assert.True(expected == fault is null, $"{(expected ? "refused" : "let through")}: {told}");
                    if (expected)
                        Assert.Equal(string.Join('\n', change.After().OrderBy(v => v.Id)), rows);
                    else
                        // A key that is taken cannot be given again, whoever may see the row that has it.
                        Assert.True(fault!.Status is 400 or 401 or 403 or 404 or 409 or 422, told);
                    _ = expected ? done++ : refused++;
                }
            }
        }
        Assert.True(done > worlds * 3 && refused > worlds * 3, $"{done} done, {refused} refused");
    }

    /// <summary>Does a change, gives what is then in the table, and undoes it.</summary>
    private protected virtual async Task<(RequestFault? Fault, string Rows)> TryAsync(
        LoadedWorkspace workspace,
        PublishedService service,
        Caller caller,
        Change change
    )
    {
        var lexed = LexedRequest.Read(RequestAddress.Read(change.Path.Replace(" ", "%20"), "").Value!).Value!;
        if (!service.PrepareChange(lexed, caller).Is(out var prepared, out var fault))
            return (fault, "");
        if (!ChangeRunner.Taken(prepared.Request.Path, prepared.Request.Path.Target, prepared.Model).Contains(change.Verb))
            return (new RequestFault(403, "forbidden", "the face refuses it"), "");
        await using var unit = new ChangeUnit(service, caller, Environment);
        using var body = change.Body is null ? null : ODataJsonBody.Parse(Encoding.UTF8.GetBytes(change.Body), ODataJsonForm.V401).Value;
        var request = new ChangeRequest(change.Verb, prepared, lexed, body, null, null, Preconditions.None, ODataAddresses.Relative);
        if (!(await ChangeRunner.RunAsync(unit, request, CancellationToken.None)).Is(out _, out fault))
            return (fault, "");
        return (null, await RowsAsync(unit.Within(service.SourceOf(service.Model.FindSet("Visits")!))!));
    }

    /// <summary>All visits, by their numbers.</summary>
    private protected static async Task<string> RowsAsync(Sources.ISourceSession session)
    {
        var visits = new List<Visit>();
        await using var rows = await session.QueryAsync(
            "SELECT id, technician_id, level, note FROM visit ORDER BY id",
            ReadOnlyMemory<StoredValue>.Empty,
            CancellationToken.None
        );
        while (await rows.ReadAsync(CancellationToken.None))
            visits.Add(
                new Visit(
                    (int)rows.GetInt64(0),
                    rows.IsNull(1) ? null : (int)rows.GetInt64(1),
                    rows.IsNull(2) ? null : (int)rows.GetInt64(2),
                    rows.IsNull(3) ? null : System.Text.Encoding.UTF8.GetString(rows.GetUtf8(3))
                )
            );
        return string.Join('\n', visits);
    }

    private static readonly ChangeEnvironment Environment = new(new FixedTime(), Random.Shared, Guid.NewGuid);

    private sealed class FixedTime : TimeProvider
    {
        public override DateTimeOffset GetUtcNow() => new(2024, 5, 1, 0, 0, 0, TimeSpan.Zero);
    }
}
