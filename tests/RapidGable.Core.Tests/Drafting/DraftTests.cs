using NJsonSchema;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Drafting;
using RapidGable.Inspection;
using RapidGable.Metadata;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Sources;
using RapidGable.Verification;
using YamlDotNet.Serialization;

namespace RapidGable.Core.Tests;

/// <summary>Declarations that are written for people: drafts, resolved ones, and the schemas that editors check them by.</summary>
public class DraftTests
{
    private static async Task<DraftResult> DraftAsync(TestWorkspace folder, string service = "s", params string[] patterns)
    {
        await using var workspace = await folder.LoadAsync();
        var catalog = workspace.Catalogs["main"];
        var file = Path.Combine(folder.Folder, $"services/{service}.yaml");
        var chosen = catalog.Objects.Where(o => patterns.Length == 0 || patterns.Any(p => Offer.Matches(p, o)));
        return await ServiceDraft.WriteAsync(
            File.Exists(file) ? File.ReadAllText(file) : null,
            service,
            workspace.Declaration.Services.FirstOrDefault(s => s.Name == service),
            workspace.Sources["main"],
            catalog,
            workspace.Declaration.Names,
            chosen,
            patterns,
            _ => { },
            CancellationToken.None
        );
    }

    private const string Awkward = """
        CREATE TABLE "select" (id INTEGER PRIMARY KEY, "a b" TEXT, "a-b" TEXT, "größe m³" REAL);
        CREATE TABLE "a.b" ("x'y" INTEGER PRIMARY KEY, "q""q" TEXT);
        CREATE TABLE "true" (ratio REAL PRIMARY KEY, code TEXT NOT NULL UNIQUE, geo GEOMETRY);
        CREATE TABLE twins (a TEXT, b INTEGER); INSERT INTO twins VALUES ('x', 1), ('x', 1);
        CREATE TABLE chance (a TEXT, b INTEGER); INSERT INTO chance VALUES ('x', 1), ('y', 1);
        CREATE VIEW named AS SELECT id AS select_id, "a b" FROM "select";
        INSERT INTO "select" VALUES (1, 'x', 'y', 1), (2, 'x', 'y', 1);
        CREATE TABLE gone (id INTEGER); CREATE VIEW broken AS SELECT id FROM gone; DROP TABLE gone;
        CREATE VIEW round1 AS SELECT 1 AS a; CREATE VIEW round2 AS SELECT * FROM round1; DROP VIEW round1; CREATE VIEW round1 AS SELECT * FROM round2;
        """;

    [Theory] // whatever the objects are called, a draft of all of them is sound
    [InlineData("as-is")]
    [InlineData("pascal-case")]
    [InlineData("camel-case")]
    public async Task A_draft_of_everything_is_valid(string names)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithNetwork(300)
            .WithDatabase(Awkward)
            .Write("workspace.yaml", $"title: T\nnames: {names}\n");
        var draft = await DraftAsync(folder);
        folder.Write("services/s.yaml", draft.Text);
        await using var workspace = await folder.LoadAsync();
        Assert.DoesNotContain(workspace.Diagnostics.Items, d => d.Severity == Severity.Error);
        Assert.Equal(draft.Added.Length, workspace.Services[0].Model.Sets.Length);
        Assert.Equal(["broken", "round1", "round2"], draft.Refused.Select(r => r.Object).Order());
        Assert.All(await DataProof.ProveAsync(workspace, _ => { }, CancellationToken.None), f => Assert.Null(f.Fault));
        Assert.Contains("keyless: true   # no three columns", draft.Text);
        Assert.Contains("keyless: true   # a is different in each of 2 rows, which may be chance", draft.Text);
        Assert.Contains("key: [select_id]   # identifies each of 2 rows", draft.Text);
        Assert.Contains("# - broken   # cannot be published:", draft.Text);
    }

    [Theory] // what a person wrote stays, to the last blank
    [InlineData(
        "# mine\ntitle: S   # the title\nsource: main\n\nsets:\n  # the river\n  - river   # keep\n\n# at the end\n",
        "# mine\ntitle: S   # the title\nsource: main\n\nsets:\n  # the river\n  - river   # keep\n  - gauge   # table, 2 "
            + "columns, key id\n\n# at the end\n"
    )]
    [InlineData(
        "title: S\nsource: main\nsets:\n- from: river\n  hide: [name]\nrules:\n  read: anyone\n",
        "title: S\nsource: main\nsets:\n- from: river\n  hide: [name]\n- gauge   # table, 2 columns, key id\nrules:\n  read: anyone\n"
    )]
    [InlineData(
        "title: S\r\nsource: main\r\nsets:\r\n    - river\r\n",
        "title: S\r\nsource: main\r\nsets:\r\n    - river\r\n    - gauge   # table, 2 columns, key id\r\n"
    )]
    [InlineData(
        "title: S\nsource: main\nsets:\n  - river",
        "title: S\nsource: main\nsets:\n  - river\n  - gauge   # table, 2 columns, key id"
    )]
    [InlineData("title: S\nsource: main\nsets:\n  - river\n  - gauge\n", "title: S\nsource: main\nsets:\n  - river\n  - gauge\n")]
    public async Task A_second_draft_adds_what_is_new_and_keeps_the_rest(string before, string after)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase("CREATE TABLE river (id INTEGER PRIMARY KEY, name TEXT); CREATE TABLE gauge (id INTEGER PRIMARY KEY, code TEXT)")
            .Write("services/s.yaml", before);
        var draft = await DraftAsync(folder);
        Assert.Equal(after, draft.Text);
        folder.Write("services/s.yaml", draft.Text);
        Assert.Equal(after, (await DraftAsync(folder)).Text);
    }

    [Fact]
    public async Task Sets_in_one_line_are_left_alone()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase("CREATE TABLE river (id INTEGER PRIMARY KEY); CREATE TABLE gauge (id INTEGER PRIMARY KEY)")
            .Write("services/s.yaml", "title: S\nsource: main\nsets: [river]\n");
        Assert.Contains("one set in a line", (await Assert.ThrowsAsync<InvalidDataException>(() => DraftAsync(folder))).Message);
    }

    private const string Full = """
        title: S
        source: main
        namespace: T.U
        names: pascal-case
        rules: { read: [office, field] }
        page: 20
        types:
          SensorKind: { members: { Level: level, Flow: flow, Temperature: temperature, Turbidity: turbidity }, description: "What: a kind" }
          Settings: { open: true, properties: { every: { type: int32, from: interval_s } } }
        sets:
          - from: station
            hide: [access_notes]
            group: { position: [latitude, longitude] }
            columns:
              photo: { stream: true, media-type: image/png }
              code: { write: create, description: "The 'name' that: people use" }
              datum_m: { type: string, sort: false }
              telemetered: { filter: false }
            relations: { latest: { to: Latest, on: { id: station_id }, back: station } }
            order: [name desc, code]
          - { from: sensor, columns: { kind: SensorKind, settings: Settings } }
          - { from: reading, largest-page: 500, rules: { read: anyone } }
          - { from: station_latest, name: Latest, key: station_id }
          - { from: daily_summary, key: [station_id, sensor_no, day], columns: { day: date } }
          - { from: technician, relations: { certificates: { to: Certificates, through: technician_certificate, back: holders } } }
          - certificate
          - { from: visit, relations: { tasks: { to: VisitTasks, contained: true } } }
          - visit_task
          - catchment
          - { from: import_log, keyless: true, type: ImportLine }
          - { select: "SELECT region, count(*) AS n FROM technician GROUP BY region;", name: Regions, key: region }
          - { from: station, name: Codes, type: Code, show: [code, id], key: code }
          - group

        """;

    [Fact] // the resolved declaration is itself a declaration, of the same service
    public async Task What_is_shown_publishes_the_same()
    {
        using var folder = new TestWorkspace().WithSource().WithNetwork(300).Write("services/s.yaml", Full);
        byte[] metadata;
        string text;
        await using (var workspace = await folder.LoadAsync())
        {
            Assert.Empty(workspace.Diagnostics.Items);
            metadata = CsdlXmlWriter.Write(workspace.Services[0].Model, ODataVersion.V401);
            var lines = ResolvedDeclaration.Of(workspace.Declaration.Services[0], workspace.Services[0]);
            text = string.Concat(lines.Select(l => l.Text + "\n"));
            Assert.All(lines, l =>
                Assert.True(
                    l.Origin.Length > 0
                        || l.Text.EndsWith(':')
                        || l.Text.TrimStart().StartsWith('#')
                        || l.Text.StartsWith("        ", StringComparison.Ordinal),
                    l.Text
                )
            );
            Assert.Contains(lines, l =>
                l is { Text: "    name: Stations", Origin: var origin }
                && origin.StartsWith("catalog: name of table station", StringComparison.Ordinal)
            );
            Assert.Contains(lines, l => l is { Text: "    page: 20", Origin: "declared for the service" });
            Assert.Contains(lines, l => l is { Text: "    largest-page: 500", Origin: "declared" });
            Assert.Contains(lines, l =>
                l.Text.TrimStart().StartsWith("kind: { name: Kind, type: SensorKind", StringComparison.Ordinal)
                && l.Origin.StartsWith("declared;", StringComparison.Ordinal)
            );
        }
        folder.Write("services/s.yaml", text);
        await using var again = await folder.LoadAsync();
        Assert.True(!again.Diagnostics.HasErrors, string.Join('\n', again.Diagnostics.Items.Select(d => d.Render())));
        var faults = new List<string>();
        var (before, now) = (
            CsdlReader.Read(metadata, faults)!,
            CsdlReader.Read(CsdlXmlWriter.Write(again.Services[0].Model, ODataVersion.V401), faults)!
        );
        Assert.Empty(CsdlComparison.Compare(before, now));
        string Said(Property p) =>
            $"{p.Name} {p.Column} {p.Conversion?.Description} {p.IsFilterable} {p.IsSortable} {p.Access} {p.MediaType}";
        string Rest(LoadedWorkspace w) =>
            string.Join(
                '\n',
                w.Services[0]
                    .Model.Sets.Select(s =>
                        $"{s.Name} {s.PageSize} {s.LargestPage} {string.Join(';', s.Rules)} "
                        + $"{string.Join(',', s.DefaultOrder.Select(o => o.Property.Name + o.Descending))} "
                        + $"{string.Join(',', s.Type.Properties.SelectMany(p => p.Leaves).Select(Said))}"
                    )
            );
        folder.Write("services/s.yaml", Full);
        await using var first = await folder.LoadAsync();
        Assert.Equal(Rest(first), Rest(again));
        Assert.True(await IsValidAsync("service", text));
    }

    private static object? AsJson(string yaml) =>
        new DeserializerBuilder().WithAttemptingUnquotedStringTypeDeserialization().Build().Deserialize<object?>(yaml);

    private static async Task<bool> IsValidAsync(string kind, string yaml)
    {
        var schema = await JsonSchema.FromJsonAsync(FileSchemas.All[kind].ToJsonString());
        var json = new SerializerBuilder().JsonCompatible().WithQuotingNecessaryStrings().Build().Serialize(AsJson(yaml)!);
        return schema.Validate(json).Count == 0;
    }

    [Theory] // what a schema and the loader say of one text; both must agree that it is sound, or that its shape is not
    [InlineData("service", Full, true)]
    [InlineData("service", "title: S\nsource: main\nsets:\n  - station\n", true)]
    [InlineData("service", "source: main\nsets: []\n", false)]
    [InlineData("service", "source: main\n", false)]
    [InlineData("service", "source: main\nqueries: [{ name: Q, select: 'SELECT 1 AS a' }]\n", true)]
    [InlineData("service", "source: main\nqueries: []\n", false)]
    [InlineData("service", "source: main\nqueries: [{ select: 'SELECT 1 AS a' }]\n", false)]
    [InlineData("service", "source: main\nqueries: [{ name: Q, select: 'SELECT 1 AS a', gives: all }]\n", false)]
    [InlineData(
        "service",
        "source: main\nqueries: [{ name: Q, select: 'SELECT :a AS a', parameters: { a: { type: int32, example: 1 } } }]\n",
        true
    )]
    [InlineData("service", "source: main\nqueries: [{ name: Q, select: 'SELECT :a AS a', parameters: { a: { typ: int32 } } }]\n", false)]
    [InlineData("service", "sets: [station]\n", false)]
    [InlineData("service", "source: main\nset: [station]\n", false)]
    [InlineData("service", "source: main\nsets: [station]\npage: many\n", false)]
    [InlineData("service", "source: main\nsets: [station]\npage: 0\n", false)]
    [InlineData("service", "source: main\nsets: [station]\nnames: PascalCase\n", false)]
    [InlineData("service", "source: main\nsets: [{ from: station, hied: [photo] }]\n", false)]
    [InlineData("service", "source: main\nsets: [{ from: station, name: a-b }]\n", false)]
    [InlineData("service", "source: main\nsets: [{ from: station, allow: [red] }]\n", false)]
    [InlineData("service", "source: main\nsets: [{ from: station, columns: { photo: { stream: perhaps } } }]\n", false)]
    [InlineData("service", "source: main\nsets: [{ from: station, columns: { photo: { unit: fortnights } } }]\n", false)]
    [InlineData("service", "source: main\nsets: [{ from: station, columns: { code: { write: once } } }]\n", false)]
    [InlineData("service", "source: main\nsets: [{ from: station, relations: { x: { on: id } } }]\n", false)]
    [InlineData("service", "source: main\nsets: [{ from: station, group: { g: { type: G } } }]\n", false)]
    [InlineData("service", "source: main\nsets: [station]\ntypes: { K: { member: [a] } }\n", false)]
    [InlineData("source", "engine: sqlite\nfile: data.db\noffer: { kinds: [view], include: ['a*'] }\nread-only: false\n", true)]
    [InlineData("source", "engine: oracel\nfile: data.db\n", false)]
    [InlineData("source", "file: data.db\n", false)]
    [InlineData("source", "engine: sqlite\nfile: data.db\noffer: { kind: [view] }\n", false)]
    [InlineData("source", "engine: sqlite\nfile: data.db\nread-only: sometimes\n", false)]
    [InlineData("source", "engine: sqlite\nfiel: data.db\n", false)]
    [InlineData("workspace", "title: T\nnames: camel-case\nrefresh-seconds: 60\n", true)]
    [InlineData("workspace", "title: T\nrefresh-seconds: 0\n", false)]
    [InlineData("workspace", "titel: T\n", false)]
    [InlineData("workspace", "limits: { memory: 256, waiting: 0, fair-share: false }\n", true)]
    [InlineData("workspace", "limits: { fair-share: often }\n", false)]
    [InlineData("workspace", "limits: { memory: 1 }\n", false)]
    [InlineData("service", "source: main\nsets: [{ from: station, columns: { code: { references: some } } }]\n", false)]
    public async Task A_schema_and_the_loader_agree(string kind, string text, bool isSound)
    {
        Assert.Equal(isSound, await IsValidAsync(kind, text));
        using var folder = new TestWorkspace()
            .WithSource()
            .WithNetwork(50)
            .Write(
                kind switch
                {
                    "workspace" => "workspace.yaml",
                    "source" => "sources/main.yaml",
                    _ => "services/s.yaml",
                },
                text
            );
        await using var workspace = await folder.LoadAsync();
        Assert.Equal(isSound, !workspace.Diagnostics.HasErrors);
    }

    [Theory] // every name that the loader takes is in the schema, and the other way round
    [InlineData("workspace", "workspace.yaml", "~", "$")]
    [InlineData("workspace", "workspace.yaml", "limits: { ~ }", "$.properties.limits")]
    [InlineData("workspace", "workspace.yaml", "transport: { ~ }", "$.properties.transport")]
    [InlineData("workspace", "workspace.yaml", "audit: { ~ }", "$.properties.audit.anyOf[1]")]
    [InlineData("source", "sources/main.yaml", "engine: sqlite\noffer: { ~ }", "$.properties.offer")]
    [InlineData("service", "services/s.yaml", "source: main\n~", "$")]
    [InlineData("service", "services/s.yaml", "source: main\nsets: [{ from: a, ~ }]", "$.properties.sets.items.anyOf[1]")]
    [InlineData(
        "service",
        "services/s.yaml",
        "source: main\nsets: [{ from: a, columns: { b: { ~ } } }]",
        "$.properties.sets.items.anyOf[1].properties.columns.additionalProperties.anyOf[1]"
    )]
    [InlineData(
        "service",
        "services/s.yaml",
        "source: main\nsets: [{ from: a, group: { b: { ~ } } }]",
        "$.properties.sets.items.anyOf[1].properties.group.additionalProperties.anyOf[1]"
    )]
    [InlineData(
        "service",
        "services/s.yaml",
        "source: main\nsets: [{ from: a, relations: { b: { to: c, ~ } } }]",
        "$.properties.sets.items.anyOf[1].properties.relations.additionalProperties.anyOf[1]"
    )]
    [InlineData(
        "service",
        "services/s.yaml",
        "source: main\nsets: [a]\ntypes: { T: { ~ } }",
        "$.properties.types.additionalProperties.anyOf[1]"
    )]
    [InlineData(
        "service",
        "services/s.yaml",
        "source: main\nsets: [a]\ntypes: { T: { properties: { p: { type: string, ~ } } } }",
        "$.properties.types.additionalProperties.anyOf[1].properties.properties.additionalProperties.anyOf[1]"
    )]
    [InlineData("service", "services/s.yaml", "source: main\nsets: [a]\nrules: { ~ }", "$.properties.rules.anyOf[0]")]
    [InlineData(
        "service",
        "services/s.yaml",
        "source: main\nsets: [a]\nrules: [{ who: office, may: read, ~ }]",
        "$.properties.rules.anyOf[1].items"
    )]
    public void A_schema_names_what_the_loader_takes(string kind, string file, string text, string path)
    {
        using var folder = new TestWorkspace().WithSource().Write(file, text.Replace("~", "zzz_unknown: 1"));
        var advice = Assert
            .Single(folder.Read().Diagnostics.Items, d => d.Code == "unknown-name" && d.Message.Contains("zzz_unknown"))
            .Advice!;
        var taken = advice["Known here: ".Length..].TrimEnd('.').Split(", ");
        System.Text.Json.Nodes.JsonNode node = FileSchemas.All[kind];
        foreach (var step in path.Split('.').Skip(1))
        {
            var bracket = step.IndexOf('[');
            node = bracket < 0 ? node[step]! : node[step[..bracket]]![step[bracket + 1] - '0']!;
        }
        Assert.Equal(taken.Order(), node["properties"]!.AsObject().Select(p => p.Key).Order());
    }

    [Fact]
    public void A_schema_names_the_settings_of_every_engine()
    {
        var named = FileSchemas.All["source"]["properties"]!.AsObject().Select(p => p.Key).ToHashSet();
        Assert.Equal(
            EngineRegistry.All.SelectMany(e => e.OtherNames.Append(e.Name)).Order(),
            FileSchemas.All["source"]["properties"]!["engine"]!["enum"]!.AsArray().Select(w => w!.GetValue<string>()).Order()
        );
        foreach (var engine in EngineRegistry.All)
        {
            var faults = new List<SettingFault>();
            engine.Open("x", ".", new Dictionary<string, string> { ["zzz"] = "1" }, faults);
            var settings = faults.First(f => f.Setting == "zzz").Advice!["Settings: ".Length..].TrimEnd('.').Split(", ");
            Assert.Empty(settings.Except(named));
        }
    }

    [Theory] // each kind of difference, and whether it breaks clients
    [InlineData(
        "title: S\nsource: main\nsets: [a, b]",
        "CREATE TABLE a (id INTEGER PRIMARY KEY); CREATE TABLE b (id INTEGER PRIMARY KEY)",
        "title: S\nsource: main\nsets: [a]",
        null,
        "breaks b the set is gone|breaks s.b the type is gone"
    )]
    [InlineData(
        "title: S\nsource: main\nsets: [a]",
        "CREATE TABLE a (id INTEGER PRIMARY KEY, x VARCHAR(5))",
        null,
        "ALTER TABLE a DROP COLUMN x",
        "breaks s.a/x the property is gone"
    )]
    [InlineData(
        "title: S\nsource: main\nsets: [a]",
        "CREATE TABLE a (id INTEGER PRIMARY KEY)",
        null,
        "ALTER TABLE a ADD COLUMN x DECIMAL(5,2)",
        "adds s.a/x the property is new (Edm.Decimal(5,2))"
    )]
    [InlineData(
        "title: S\nsource: main\nsets: [a]",
        "CREATE TABLE a (id INTEGER PRIMARY KEY, x VARCHAR(5))",
        null,
        "DROP TABLE a; CREATE TABLE a (id INTEGER PRIMARY KEY, x VARCHAR(9))",
        "breaks s.a/x it was Edm.String(5) and is Edm.String(9)"
    )]
    [InlineData(
        "title: S\nsource: main\nsets: [a]",
        "CREATE TABLE a (id INTEGER PRIMARY KEY, x VARCHAR(9) NOT NULL)",
        null,
        "DROP TABLE a; CREATE TABLE a (id INTEGER PRIMARY KEY, x VARCHAR(5))",
        "adds s.a/x it was Edm.String(9) and is Edm.String(5)|breaks s.a/x it was never null and may be null now"
    )]
    [InlineData(
        "title: S\nsource: main\nsets: [a]",
        "CREATE TABLE a (id INTEGER PRIMARY KEY, x TEXT)",
        null,
        "DROP TABLE a; CREATE TABLE a (id INTEGER PRIMARY KEY, x DATE)",
        "breaks s.a/x its type was Edm.String and is Edm.Date"
    )]
    [InlineData(
        "title: S\nsource: main\nsets: [{ from: a, key: id }]",
        "CREATE TABLE a (id INTEGER, no INTEGER)",
        "title: S\nsource: main\nsets: [{ from: a, key: [id, no] }]",
        null,
        "breaks s.a the key was id and is id, no|adds s.a/no it may no longer be null"
    )]
    [InlineData(
        "title: S\nsource: main\nsets: [{ from: a, columns: { k: K } }]\ntypes: { K: { members: [x, y] } }",
        "CREATE TABLE a (id INTEGER PRIMARY KEY, k TEXT)",
        "title: S\nsource: main\nsets: [{ from: a, columns: { k: K } }]\ntypes: { K: { members: [y, z] } }",
        null,
        "breaks s.K/x the member is gone|breaks s.K/y its number was 1 and is 0|breaks s.K/z the member is new"
    )]
    [InlineData(
        "title: S\nsource: main\nsets: [a, b]",
        "CREATE TABLE a (id INTEGER PRIMARY KEY); CREATE TABLE b (id INTEGER PRIMARY KEY, a_id INTEGER REFERENCES a)",
        null,
        "DROP TABLE b; CREATE TABLE b (id INTEGER PRIMARY KEY, a_id INTEGER)",
        "breaks s.a/b the relation is gone|breaks s.b/a the relation is gone"
    )]
    public async Task A_difference_says_what_it_means_for_consumers(
        string before,
        string sql,
        string? after,
        string? change,
        string expected
    )
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(sql).Write("services/s.yaml", before);
        var accepted = await MetadataAsync(folder);
        Assert.Empty(CsdlComparison.Compare(Read(accepted), Read(accepted)));
        if (change is not null)
            folder.WithDatabase(change);
        if (after is not null)
            folder.Write("services/s.yaml", after);
        var changes = CsdlComparison.Compare(Read(accepted), Read(await MetadataAsync(folder)));
        Assert.Equal(expected, string.Join('|', changes.Select(c => $"{(c.IsBreaking ? "breaks" : "adds")} {c.Subject} {c.What}")));
        Assert.All(changes, c => Assert.NotEmpty(c.Meaning));
    }

    private static CsdlDocument Read(byte[] metadata) => CsdlReader.Read(metadata, [])!;

    private static async Task<byte[]> MetadataAsync(TestWorkspace folder)
    {
        await using var workspace = await folder.LoadAsync();
        return CsdlXmlWriter.Write(workspace.Services[0].Model, ODataVersion.V401);
    }
}
