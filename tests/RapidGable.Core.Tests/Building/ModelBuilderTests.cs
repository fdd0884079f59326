using RapidGable.Inspection;
using RapidGable.Model;

namespace RapidGable.Core.Tests;

public class ModelBuilderTests
{
    private static async Task<(EntityModel? Model, List<string> Faults)> BuildAsync(string sql, string sets)
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(sql).WithService(sets);
        await using var workspace = await folder.LoadAsync();
        return (
            workspace.Services.FirstOrDefault()?.Model,
            [.. workspace.Diagnostics.Items.Select(d => $"{d.Code} {d.Location.Line}:{d.Location.Column} {d.Message} {d.Advice}")]
        );
    }

    [Theory]
    [InlineData("INTEGER", "Edm.Int64")]
    [InlineData("BIGINT UNSIGNED", "Edm.Int64")]
    [InlineData("VARCHAR(12)", "Edm.String(12)")]
    [InlineData("TEXT", "Edm.String")]
    [InlineData("CLOB", "Edm.String")]
    [InlineData("BLOB", "Edm.Binary")]
    [InlineData("DOUBLE PRECISION", "Edm.Double")]
    [InlineData("FLOAT", "Edm.Double")]
    [InlineData("DECIMAL(7,3)", "Edm.Decimal(7,3)")]
    [InlineData("NUMERIC(5)", "Edm.Decimal(5,0)")]
    [InlineData("NUMERIC", "Edm.Decimal")]
    [InlineData("BOOLEAN", "Edm.Boolean")]
    [InlineData("DATE", "Edm.Date")]
    [InlineData("TIMESTAMP", "Edm.DateTimeOffset(7)")]
    [InlineData("TIME", "Edm.TimeOfDay(7)")]
    [InlineData("UUID", "Edm.Guid")]
    [InlineData("INTERVAL MINUTE", "Edm.Duration(6)")]
    [InlineData("JSON", "Edm.String")]
    [Proves("T-11 to T-20")]
    public async Task A_declared_type_maps(string declared, string expected)
    {
        var (model, faults) = await BuildAsync($"CREATE TABLE t (id INTEGER PRIMARY KEY, v {declared})", "  - t\n");
        Assert.Empty(faults);
        Assert.Equal(expected, model!.Sets[0].Type.FindProperty("v")!.Type.ToString());
    }

    [Theory] // the form of stored times is read from the rows
    [InlineData("2024-05-01T12:00:00.125Z", "T3Z", 3)]
    [InlineData("2024-05-01 12:00:00", " 0", 0)]
    [InlineData("2024-05-01 12:00:00.5", " 1", 1)]
    [Proves("C-23, T-18")]
    public async Task The_form_of_a_time_is_read(string value, string form, int precision)
    {
        var (model, _) = await BuildAsync(
            $"CREATE TABLE t (id INTEGER PRIMARY KEY, v TIMESTAMP); INSERT INTO t VALUES (1, '{value}')",
            "  - t\n"
        );
        var property = model!.Sets[0].Type.FindProperty("v")!;
        Assert.Equal((form, precision), (property.StorageForm, property.Type.Precision));
    }

    [Theory] // columns of a view without a declared type
    [InlineData("count(*)", "Edm.Int64")]
    [InlineData("avg(n)", "Edm.Double")]
    [InlineData("upper(s)", "Edm.String")]
    [InlineData("x''", "Edm.Binary")]
    [Proves("T-22")]
    public async Task A_view_columns_type_is_read_from_its_values(string expression, string expected)
    {
        var (model, _) = await BuildAsync(
            $"CREATE TABLE t (id INTEGER PRIMARY KEY, n REAL, s TEXT); INSERT INTO t VALUES (1, 1.5, 'a'); CREATE VIEW w AS "
                + $"SELECT id, {expression} AS v FROM t GROUP BY id",
            "  - { from: w, key: id }\n"
        );
        Assert.Equal(expected, model!.Sets[0].Type.FindProperty("v")!.Type.ToString());
    }

    [Fact] // a declared key makes its columns never null
    [Proves("C-12, T-01")]
    public async Task A_view_without_a_key_is_refused_and_works_once_it_is_declared()
    {
        const string Sql = "CREATE TABLE t (id INTEGER PRIMARY KEY, s TEXT); CREATE VIEW w AS SELECT id AS t_id, s FROM t";
        var (refused, faults) = await BuildAsync(Sql, "  - w\n");
        Assert.Empty(refused!.Sets);
        Assert.StartsWith("no-key 7:5 The view 'w' has no key, and an entity needs one.", Assert.Single(faults));
        Assert.Contains("key: [t_id]", faults[0]);
        var (model, none) = await BuildAsync(Sql, "  - { from: w, key: t_id }\n");
        Assert.Empty(none);
        Assert.False(Assert.Single(model!.Sets[0].Type.Key).Nullable);
    }

    [Theory]
    [InlineData("  - statoin\n", "no-object 7:5", "Did you mean 'station'?")]
    [InlineData("  - { from: station, key: [idd] }\n", "no-column 7:28", "Did you mean 'id'?")]
    [InlineData("  - { from: station, hide: [nmae] }\n", "no-column 7:29", "Did you mean 'name'?")]
    [InlineData("  - { from: station, hide: [id] }\n", "key-hidden 7:13", "cannot be hidden")]
    [InlineData("  - { from: station, key: [ratio] }\n", "key-type 7:28", "Edm.Double")]
    [InlineData("  - { from: station, key: [id, id] }\n", "key-twice 7:32", "twice")]
    [InlineData("  - { from: station, rename: { name: code } }\n", "name-collision 7:38", "'code' and 'name'")]
    [InlineData("  - station\n  - station\n", "set-twice 8:5", "'station'")]
    [InlineData("  - { from: station, type: X }\n  - { from: other, type: X }\n", "type-twice 8:26", "'X'")]
    [InlineData("  - broken\n", "broken-object 7:5", "cannot be read")]
    [InlineData("  - odd\n", "name-collision 7:5", "'a b' and 'a-b'")]
    public async Task A_declaration_that_does_not_fit_is_refused(string sets, string start, string part)
    {
        var (_, faults) = await BuildAsync(
            """
            CREATE TABLE station (id INTEGER PRIMARY KEY, code TEXT, name TEXT, ratio REAL);
            CREATE TABLE other (id INTEGER PRIMARY KEY);
            CREATE TABLE odd (id INTEGER PRIMARY KEY, "a b" TEXT, "a-b" TEXT);
            CREATE TABLE gone (id INTEGER); CREATE VIEW broken AS SELECT id FROM gone; DROP TABLE gone;
            """,
            sets
        );
        Assert.Contains(faults, f => f.StartsWith(start, StringComparison.Ordinal) && f.Contains(part));
    }

    [Fact]
    [Proves("C-28, C-29, T-05")]
    public async Task Foreign_keys_become_navigation_both_ways()
    {
        var (model, faults) = await BuildAsync(
            """
            CREATE TABLE river (id INTEGER PRIMARY KEY, parent_id INTEGER REFERENCES river (id));
            CREATE TABLE gauge (river_id INTEGER NOT NULL REFERENCES river, no INTEGER NOT NULL, PRIMARY KEY (river_id, no));
            CREATE TABLE level (id INTEGER PRIMARY KEY, r INTEGER NOT NULL, n INTEGER NOT NULL, checked_by_id INTEGER REFERENCES person, made_by_id INTEGER REFERENCES person,
                FOREIGN KEY (r, n) REFERENCES gauge (river_id, no) ON DELETE CASCADE);
            CREATE TABLE person (id INTEGER PRIMARY KEY);
            """,
            "  - river\n  - { from: gauge, name: Gauges }\n  - { from: level, name: Levels, hide: [r] }\n  - person\n"
        );
        Assert.Empty(faults);
        string Of(string set) =>
            string.Join(
                "; ",
                model!
                    .FindSet(set)!
                    .Type.Navigations.Select(n =>
                        $"{n.Name}{(n.IsCollection ? "*" : n.Nullable ? "?" : "")} -> {n.TargetSet} "
                        + $"[{string.Join(",", n.Joins.Select(j => $"{j.Own.Column}={j.Target.Column}"))}] {n.Partner}"
                    )
            );
        Assert.Equal(
            "parent? -> river [parent_id=id] river_by_parent; river_by_parent* -> river [id=parent_id] parent; Gauges* -> "
                + "Gauges [id=river_id] river",
            Of("river")
        );
        Assert.Equal("river -> river [river_id=id] Gauges; Levels* -> Levels [river_id=r,no=n] gauge", Of("Gauges"));
        Assert.Equal(
            "gauge -> Gauges [r=river_id,n=no] Levels; checked_by? -> person [checked_by_id=id] Levels_by_checked_by; made_by? "
                + "-> person [made_by_id=id] Levels_by_made_by",
            string.Join(
                "; ",
                Of("Levels")
                    .Split("; ")
                    .Order()
                    .Reverse()
                    .OrderBy(s =>
                        s[0] == 'g' ? 0
                        : s[0] == 'c' ? 1
                        : 2
                    )
            )
        );
        Assert.Equal("Cascade", model!.FindSet("Gauges")!.Type.FindNavigation("Levels")!.OnDelete);
    }

    [Theory]
    [InlineData(
        "pascal-case",
        "WaterBodies WaterBody [Id,OpenedOn,UrlOfSite,GrößeMS,_2ndCode,Select] Catchment",
        "Catchments Catchment [Id,Name] WaterBodies"
    )]
    [InlineData(
        "camel-case",
        "waterBodies WaterBody [id,openedOn,urlOfSite,größeMS,_2ndCode,select] catchment",
        "catchments Catchment [id,name] waterBodies"
    )]
    [InlineData(
        "as-is",
        "water_body water_body [id,opened_on,URLOfSite,größe_m_s,_2nd_code,select] catchment",
        "catchment catchment [id,name] water_body"
    )]
    public async Task A_policy_makes_the_names(string policy, string first, string second)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(
                "CREATE TABLE catchment (id INTEGER PRIMARY KEY, name TEXT); CREATE TABLE water_body (id INTEGER PRIMARY KEY, "
                    + "opened_on DATE, URLOfSite TEXT, \"größe m³/s\" REAL, \"2nd code\" TEXT, \"select\" TEXT, catchment_id "
                    + "INTEGER REFERENCES catchment)"
            )
            .WithService("  - { from: water_body, hide: [catchment_id] }\n  - catchment\n")
            .Write("workspace.yaml", $"title: T\nnames: {policy}\n");
        await using var workspace = await folder.LoadAsync();
        Assert.Empty(workspace.Diagnostics.Items);
        Assert.Equal(
            [first, second],
            workspace
                .Services[0]
                .Model.Sets.Select(s =>
                    $"{s.Name} {s.Type.Name} [{string.Join(',', s.Type.Properties.Select(p => p.Name))}] "
                    + $"{string.Join(',', s.Type.Navigations.Select(n => n.Name))}"
                )
        );
    }

    [Fact]
    public async Task A_policy_that_makes_two_names_one_is_refused()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase("CREATE TABLE t (id INTEGER PRIMARY KEY, opened_on DATE, openedOn DATE)")
            .WithService("  - t\n")
            .Write("workspace.yaml", "title: T\nnames: pascal-case\n");
        await using var workspace = await folder.LoadAsync();
        Assert.Contains(
            "'opened_on' and 'openedOn' of 't' would both be called 'OpenedOn'",
            Assert.Single(workspace.Diagnostics.Items).Message
        );
    }

    [Fact]
    public async Task Names_depend_on_nothing_but_the_column()
    {
        var (model, _) = await BuildAsync(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, \"select\" TEXT, \"größe m³/s\" REAL, plain TEXT)",
            "  - { from: t, rename: { plain: nice } }\n"
        );
        Assert.Equal(["id", "select", "größe_m_s", "nice"], model!.Sets[0].Type.Properties.Select(p => p.Name));
    }

    [Fact]
    public async Task Check_proves_keys_and_values_over_all_rows()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithNetwork()
            .WithDatabase(
                """
                CREATE TABLE loose (id INTEGER PRIMARY KEY, flag BOOLEAN, day DATE, code VARCHAR(3), price DECIMAL(4,1), at TIMESTAMP);
                INSERT INTO loose VALUES (1, 1, '2024-05-01', 'abc', 1.5, '2024-05-01T00:00:00Z'), (2, 7, 'soon', 'abcd', 1.55, '2024-05-01T00:00:00Z');
                """
            )
            .WithService(
                "  - { from: import_log, key: [imported_on, file_name] }\n  - { from: reading_by_quality, key: [kind, quality] "
                    + "}\n  - loose\n  - { from: daily_summary, key: [station_id, sensor_no, day] }\n"
            );
        await using var workspace = await folder.LoadAsync();
        var findings = await DataProof.ProveAsync(workspace, _ => { }, CancellationToken.None);
        var faults = findings.Where(f => f.Fault is not null).ToDictionary(f => $"{f.Set} {f.What}", f => string.Join(" | ", f.Examples));
        Assert.Equal("imported_on = '2024-04-30', file_name = 'alder-2024-04.csv': 2 rows", faults["import_log key"]);
        Assert.Contains("quality = NULL", faults["reading_by_quality key"]);
        Assert.Contains("flag: ", faults["loose values"]);
        Assert.Contains("day: ", faults["loose values"]);
        Assert.Contains("a text is longer than 3 characters", faults["loose values"]);
        Assert.Contains("1.55 has more than 1 digits after the point", faults["loose values"]);
        Assert.DoesNotContain(faults.Keys, k => k.StartsWith("daily_summary", StringComparison.Ordinal));
    }

    [Theory]
    [InlineData("daily_summary", "station_id,sensor_no,day")]
    [InlineData("station_latest", "station_id", "code", "name")]
    [InlineData("visit_report", "visit_id", "station_code,planned_for,purpose")]
    [InlineData("open_alert", "threshold_id")]
    [InlineData("import_log")]
    public async Task Keys_are_found_and_proved_over_all_rows(string name, params string[] first)
    {
        using var folder = new TestWorkspace().WithSource().WithNetwork(50_000);
        await using var workspace = await folder.LoadAsync();
        var source = workspace.Sources["main"];
        var catalog = workspace.Catalogs["main"];
        var item = await source.DescribeAsync(catalog.Find(name)!, CancellationToken.None);
        var findings = await KeyFinder.FindAsync(source, item, catalog, _ => { }, CancellationToken.None);
        Assert.Equal(first, findings.Candidates.Take(first.Length).Select(c => string.Join(',', c.Columns)));
        Assert.Equal(first.Length == 0, findings.Candidates.IsEmpty);
        // No candidate holds a smaller one.
        Assert.DoesNotContain(findings.Candidates, c => findings.Candidates.Any(o => o != c && o.Columns.All(c.Columns.Contains)));
    }

    [Fact]
    public async Task A_column_with_nulls_or_a_chance_of_rows_is_no_key()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(
                "CREATE TABLE t (a INTEGER, b INTEGER, c REAL, d TEXT); INSERT INTO t VALUES (1, 1, 0.1, 'x'), (1, 2, 0.2, "
                    + "'x'), (2, 1, 0.3, NULL)"
            );
        await using var workspace = await folder.LoadAsync();
        var findings = await KeyFinder.FindAsync(
            workspace.Sources["main"],
            workspace.Catalogs["main"].Find("t")!,
            workspace.Catalogs["main"],
            _ => { },
            CancellationToken.None
        );
        // c is a binary number and d holds a null, so neither can be a key.
        Assert.Equal(["a,b"], findings.Candidates.Select(c => string.Join(',', c.Columns)));
    }

    [Theory]
    [InlineData("engine: sqlte\nfile: data.db\n", "no-engine")]
    [InlineData("engine: sqlite\n", "source-setting")]
    [InlineData("engine: sqlite\nfile: data.db\nsesions: 3\n", "source-setting")]
    [InlineData("engine: sqlite\nfile: data.db\nstatement-seconds: 0\n", "source-setting")]
    [InlineData("engine: sqlite\nfile: not-there.db\n", "source")]
    public async Task A_source_that_cannot_be_opened_is_explained(string source, string code)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase("CREATE TABLE t (id INTEGER PRIMARY KEY)")
            .WithService("  - t\n")
            .Write("sources/main.yaml", source);
        await using var workspace = await folder.LoadAsync();
        Assert.Equal(code, Assert.Single(workspace.Diagnostics.Items).Code);
    }

    [Fact]
    public async Task A_file_that_is_no_database_is_explained()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .Write("data.db", "this is not a database, only text that is long enough to look at")
            .WithService("  - t\n");
        await using var workspace = await folder.LoadAsync();
        var found = Assert.Single(workspace.Diagnostics.Items);
        Assert.Equal("source", found.Code);
        Assert.Contains("file is not a database", found.Message);
    }
}
