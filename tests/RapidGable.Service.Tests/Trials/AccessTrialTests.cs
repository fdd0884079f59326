using RapidGable.Core.Tests;
using RapidGable.Publishing;
using RapidGable.Service.Hosting;
using RapidGable.Service.Publishing;
using RapidGable.Service.Trials;
using RapidGable.Verification;

namespace RapidGable.Service.Tests;

/// <summary>
/// The trial of who may do what: what it expects comes from one declaration, and what is served from another that is wrong in one
/// point, which it must find.
/// </summary>
public sealed class AccessTrialTests
{
    private const string Strict = """
        title: S
        source: main
        namespace: T
        sets:
          - { from: place, name: Places, rules: { read: signed-in } }
          - from: visit
            name: Visits
            rules:
              - { who: office, may: read }
              - { who: field, may: read, rows: region eq @region, hide: email, mask: note }
              - { who: suspended, deny: read }
          - { from: secret, name: Secrets, rules: { read: office } }
          - from: mast
            name: Masts
            group: { spot: { type: Spot, columns: [lat, lon, label] } }
            rules:
              - { who: [office], may: read }
              - { who: field, may: read, rows: id eq 1, hide: lat, mask: label }
          - { from: mast, name: Others, type: Other, group: { spot: { type: Spot, columns: [lat, lon, label] } }, rules: { read: signed-in } }
        """;

    private const string Checks = """
        access:
          - { title: south, service: s, as: field, attributes: { region: north }, cannot: read, set: Visits, rows: region eq 'south' }
          - { title: own, service: s, as: field, attributes: { region: north }, can: read, set: Visits, rows: region eq 'north' }
          - { title: email, service: s, as: field, attributes: { region: north }, cannot: read, set: Visits, property: email }
          - { title: open, service: s, as: anyone, cannot: read, set: Visits }
          - { title: writes, service: s, as: office, cannot: create, set: Visits }
          - { title: reads, service: s, as: office, can: read, set: Visits, property: email }
        """;

    private static TestWorkspace Workspace(string service, string checks = Checks) =>
        new TestWorkspace()
            .WithSource()
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .WithDatabase(
                """
                CREATE TABLE place (id INTEGER PRIMARY KEY, name TEXT);
                INSERT INTO place VALUES (1, 'old weir');
                CREATE TABLE visit (id INTEGER PRIMARY KEY, region TEXT, email TEXT, note TEXT, place_id INTEGER REFERENCES place (id));
                INSERT INTO visit VALUES (1, 'north', 'ann@example.org', 'gate stuck', 1), (2, 'south', 'ben@example.org', 'all quiet', 1), (3, 'north', NULL, NULL, 1), (4, NULL, 'cas@example.org', 'odd smell', NULL);
                CREATE TABLE mast (id INTEGER PRIMARY KEY, lat REAL NOT NULL, lon REAL NOT NULL, label TEXT NOT NULL);
                INSERT INTO mast VALUES (1, 51.5, -0.25, 'north mast'), (2, 52.5, 0.75, 'south mast');
                CREATE TABLE secret (id INTEGER PRIMARY KEY, place_id INTEGER REFERENCES place (id), code TEXT);
                INSERT INTO secret VALUES (7, 1, 'lock 8841');
                """
            )
            .Write("services/s.yaml", service)
            .Write("checks/access.yaml", checks);

    private static async Task<List<CheckResult>> TryAsync(string served, string expected = Strict, string checks = Checks)
    {
        using var strict = Workspace(expected, checks);
        using var other = Workspace(served);
        await using var workspace = await strict.LoadAsync();
        Assert.Empty(workspace.Diagnostics.Items.Where(d => d.Severity == Declarations.Severity.Error).Select(d => d.Render()));
        await using var loose = await other.LoadAsync();
        Assert.Empty(loose.Diagnostics.Items.Where(d => d.Severity == Declarations.Severity.Error).Select(d => d.Render()));
        var registry = new ServiceRegistry(workspace);
        var trial = await AccessTrial.PrepareAsync(workspace, registry, all: true, CancellationToken.None);
        await using var app = ServiceHost.Build(loose, new ServiceOptions(0, IsQuiet: true, Lent: trial.Keys, IsTrial: true));
        await app.StartAsync();
        using var client = new HttpClient();
        var reports = new List<ServiceReport>();
        foreach (var service in registry.All)
            reports.AddRange(await trial.RunAsync(service, client, app.Urls.First(), _ => { }, CancellationToken.None));
        return [.. reports.SelectMany(r => r.Results)];
    }

    private static IEnumerable<string> Failures(IEnumerable<CheckResult> results) =>
        results.Where(r => r.Outcome == CheckOutcome.Failed).Select(r => $"{r.Check} {r.Subject}: {r.Message}");

    [Fact]
    public async Task What_is_declared_is_what_is_served()
    {
        var results = await TryAsync(Strict);
        Assert.Empty(Failures(results));
        Assert.Equal(
            ["access-absent", "access-documents", "access-hidden", "access-leaks", "access-refused", "access-rows", "saved"],
            results.Select(r => r.Check).Distinct().Order()
        );
        Assert.Contains(results, r =>
            r is { Check: "access-rows", Subject: "Visits for field region=north" }
            && r.Message.StartsWith("2 rows", StringComparison.Ordinal)
        );
        Assert.Contains(results, r =>
            r is { Check: "access-rows", Subject: "Visits for field region=south" }
            && r.Message.StartsWith("1 rows", StringComparison.Ordinal)
        );
    }

    [Theory] // what is served otherwise -> the check that finds it, and for whom
    [InlineData("rows: region eq @region, ", "", "access-rows Visits for field region=north", "saved south")]
    [InlineData("region eq @region", "region ne @region", "access-rows Visits for field region=south", "saved own")]
    [InlineData(", hide: email", "", "access-hidden Visits for field region=north", "saved email")]
    [InlineData(", hide: email", "", "access-leaks field region=north", null)]
    [InlineData(", hide: email", "", "access-documents field region=north", null)]
    [InlineData(", mask: note", "", "access-rows Visits for field region=north", null)]
    [InlineData("{ who: office, may: read }", "{ who: [office, suspended], may: read }", null, null)]
    [InlineData("- { who: suspended, deny: read }", "- { who: suspended, may: read }", "access-absent Visits for suspended", null)]
    [InlineData("- { who: suspended, deny: read }", "- { who: suspended, may: read }", "access-leaks suspended", null)]
    [InlineData("- { who: office, may: read }", "- { who: anyone, may: read }", "access-absent Visits for not signed in", "saved open")]
    [InlineData("{ read: office }", "{ read: signed-in }", "access-documents signed in", null)]
    [InlineData("{ read: office }", "{ read: signed-in }", "access-absent Secrets for field", null)]
    [InlineData(
        "- { who: office, may: read }",
        "- { who: office, may: [read, create] }\n    allow: [read, create]",
        "access-refused Visits for office",
        "saved writes"
    )]
    [InlineData(
        "- { who: office, may: read }",
        "- { who: office, may: read, hide: email }",
        "access-rows Visits for office",
        "saved reads"
    )]
    [InlineData("hide: lat, mask: label", "mask: label", "access-rows Masts for field", null)]
    [InlineData("hide: lat, mask: label", "hide: lat", "access-rows Masts for field", null)]
    [InlineData("hide: lat, mask: label", "hide: [lat, lon, label]", "access-rows Masts for field", null)]
    [InlineData("name: Secrets, ", "name: Secrets, page: 1, largest-page: 1, ", null, null)]
    public async Task What_is_served_otherwise_is_found(string declared, string served, string? check, string? saved)
    {
        Assert.Contains(declared, Strict);
        // Other keys of the set stand beside its rules.
        var at = served.IndexOf("\n    allow", StringComparison.Ordinal);
        var wrong =
            at < 0
                ? Strict.Replace(declared, served, StringComparison.Ordinal)
                : Strict
                    .Replace(declared, served[..at], StringComparison.Ordinal)
                    .Replace("    name: Visits\n", "    name: Visits\n    allow: [read, create]\n", StringComparison.Ordinal);
        var failures = Failures(await TryAsync(wrong)).ToList();
        var (found, kept) = (
            failures.Exists(f => check is not null && f.StartsWith(check, StringComparison.Ordinal)),
            failures.Exists(f => saved is not null && f.StartsWith(saved, StringComparison.Ordinal))
        );
        Assert.True(
            found == check is not null && kept == saved is not null && failures.Count > 0 == (check ?? saved) is not null,
            string.Join('\n', failures.DefaultIfEmpty("nothing found"))
        );
    }

    [Theory] // a saved check that proves nothing is a fault of its own
    [InlineData("{ service: s, as: field, cannot: read, set: Visits, rows: region eq 'nowhere' }", "No row fulfils")]
    [InlineData("{ service: s, as: field, cannot: read, set: Visits, rows: nothing eq 1 }", "cannot be asked for")]
    [InlineData("{ service: s, as: field, cannot: read, set: Visit }", "There is no set 'Visit'. Did you mean 'Visits'?")]
    [InlineData("{ service: s, as: field, cannot: read, set: Visits, property: mail }", "has no property 'mail'. Did you mean 'email'?")]
    public async Task A_check_that_proves_nothing_fails(string check, string message) =>
        Assert.Contains(Failures(await TryAsync(Strict, checks: $"access: [{check}]")), f => f.Contains(message, StringComparison.Ordinal));

    [Theory]
    [InlineData("access: [{ service: s, as: field, set: Visits }]", "says with 'can' or 'cannot'")]
    [InlineData("access: [{ service: s, as: field, set: Visits, can: read, cannot: read }]", "says with 'can' or 'cannot'")]
    [InlineData("access: [{ service: s, as: field, set: Visits, can: raed }]", "Did you mean 'read'?")]
    [InlineData("access: [{ service: t, as: field, set: Visits, can: read }]", "There is no service 't'")]
    [InlineData("access: [{ service: s, set: Visits, can: read }]", "says with 'as' who")]
    [InlineData("access: [{ service: s, as: [anyone, field], set: Visits, can: read }]", "cannot be a role here")]
    [InlineData("access: [{ service: s, as: field, set: Visits, can: create, rows: id eq 1 }]", "belong to checks of reading")]
    [InlineData("access: [{ service: s, as: field, set: Visits, can: read, when: now }]", "'when' is not known")]
    [InlineData("access: [3]", "each check holds names with values")]
    [InlineData("acess: []", "Did you mean 'access'?")]
    public void A_wrong_check_is_told(string checks, string message)
    {
        using var folder = Workspace(Strict, checks);
        Assert.Contains(folder.Read().Diagnostics.Items, d => d.Render().Contains(message, StringComparison.Ordinal));
    }

    [Fact] // a complex value without some of its members has a type of its own where other sets show the whole
    public async Task A_group_keeps_what_is_left_of_it()
    {
        using var folder = Workspace(Strict, "{}");
        await using var workspace = await folder.LoadAsync();
        var trial = new Dictionary<string, Access.Caller> { ["key"] = Access.Caller.WithRoles("field") };
        await using var app = ServiceHost.Build(workspace, new ServiceOptions(0, IsQuiet: true, Lent: trial, IsTrial: true));
        await app.StartAsync();
        using var client = new HttpClient
        {
            DefaultRequestHeaders = { { "Authorization", "Bearer key" }, { "Accept", "application/json;odata.metadata=none" } },
        };
        async Task<string> GetAsync(string path)
        {
            using var answer = await client.GetAsync(app.Urls.First() + "/odata/s/" + path);
            return $"{(int)answer.StatusCode} {await answer.Content.ReadAsStringAsync()}";
        }

        Assert.Equal("""200 {"value":[{"id":1,"spot":{"lon":-0.25,"label":null}}]}""", await GetAsync("Masts"));
        Assert.Equal("""200 {"value":[{"id":1,"spot":{"lat":51.5,"lon":-0.25,"label":"north mast"}}]}""", await GetAsync("Others?$top=1"));
        foreach (
            var probe in new[]
            {
                "Masts?$filter=spot/lat gt 1",
                "Masts?$orderby=spot/lat",
                "Masts?$select=spot/lat",
                "Masts?$apply=groupby((spot/lat))",
            }
        )
            Assert.StartsWith("400", await GetAsync(probe));
        Assert.StartsWith("404", await GetAsync("Masts(1)/spot/lat"));
        Assert.Equal("""200 {"value":[]}""", await GetAsync("Masts?$filter=spot/label ne null&$select=id"));
        using var metadata = await client.GetAsync(app.Urls.First() + "/odata/s/$metadata?$format=xml");
        var faults = new List<string>();
        var document = CsdlReader.Read(await metadata.Content.ReadAsByteArrayAsync(), faults)!;
        Assert.Empty(faults);
        Assert.Empty(CsdlChecker.Check(document));
        var text = await metadata.Content.ReadAsStringAsync();
        Assert.Contains("Name=\"mast_Spot\"", text);
        Assert.Contains("Name=\"Spot\"", text);
    }

    [Fact]
    public async Task Columns_of_a_derived_type_are_hidden_and_masked()
    {
        const string Service = """
            title: S
            source: main
            namespace: T
            sets:
              - from: mast
                name: Masts
                discriminator: label
                derived:
                  Tall: { when: north mast, columns: [lat, lon] }
                rules:
                  - { who: office, may: read }
                  - { who: field, may: read, hide: lat, mask: lon }
            """;
        Assert.Empty(Failures(await TryAsync(Service, Service, "{}")));
        Assert.Contains(Failures(await TryAsync(Service.Replace(", hide: lat", "", StringComparison.Ordinal), Service, "{}")), f =>
            f.StartsWith("access-rows Masts for field", StringComparison.Ordinal)
        );
        Assert.Contains(Failures(await TryAsync(Service.Replace(", mask: lon", "", StringComparison.Ordinal), Service, "{}")), f =>
            f.StartsWith("access-rows Masts for field", StringComparison.Ordinal)
        );
    }

    [Theory] // before, now -> what is said
    [InlineData("{ read: office }", "{ read: anyone }", "anyone can now read Secrets")]
    [InlineData("{ read: office }", "{ read: [office, field] }", "field can now read Secrets")]
    [InlineData("[{ who: office, may: read, hide: code }]", "{ read: office }", "office can now read Secrets.code")]
    [InlineData("[{ who: office, may: read, mask: code }]", "{ read: office }", "office can now read Secrets.code")]
    [InlineData(
        "[{ who: office, may: read, rows: id lt 3 }]",
        "{ read: office }",
        "office can now read all rows of Secrets, and before where id lt 3"
    )]
    [InlineData(
        "[{ who: office, may: read, rows: id lt 3 }]",
        "[{ who: office, may: read, rows: id lt 9 }]",
        "office can now read other rows of Secrets where id lt 9, and before where id lt 3"
    )]
    [InlineData("{ read: anyone }", "{ read: office }", "")]
    [InlineData("{ read: anyone }", "{ read: [office, newcomer] }", "")]
    [InlineData("{ read: office }", "[{ who: office, may: read, rows: id lt 3 }]", "")]
    [InlineData("{ read: office }", "{ read: office, create: office }\n    allow: [read, create]", "office can now create Secrets")]
    public async Task What_becomes_visible_is_told(string before, string now, string expected)
    {
        static string With(string rules) =>
            $"title: S\nsource: main\nnamespace: T\nsets:\n  - from: secret\n    name: Secrets\n    rules: {rules}\n";
        using var folder = Workspace(With(before), "{}");
        await using var old = await folder.LoadAsync();
        folder.Write("services/s.yaml", With(now));
        var registry = new ServiceRegistry(old, _ => folder.LoadAsync());
        var outcome = await registry.RefreshAsync(TimeProvider.System, null, CancellationToken.None);
        Assert.Empty(outcome.Faults.Select(f => f.Render()));
        Assert.Equal(expected, string.Join('\n', outcome.Opened.Select(o => o.Text)));
        var visible = AccessVisibility.Of(registry.Find("s")!);
        Assert.Empty(visible.NewSince(visible));
    }

    [Fact]
    public async Task Checks_run_by_the_command()
    {
        using var folder = Workspace(Strict);
        var result = await Gable.RunAsync(folder.Folder, "verify", ".", "--access");
        Assert.True(result.Code == 0, result.Output + result.Errors);
        Assert.Contains("field region=north", result.Output);
        folder.Write(
            "checks/access.yaml",
            Checks.Replace(
                "cannot: read, set: Visits, property: email",
                "can: read, set: Visits, property: email",
                StringComparison.Ordinal
            )
        );
        var failed = await Gable.RunAsync(folder.Folder, "verify", ".");
        Assert.Equal(1, failed.Code);
        Assert.Contains("field region=north can see no such rows with a 'email'", failed.Output.ReplaceLineEndings(" "));
    }
}
