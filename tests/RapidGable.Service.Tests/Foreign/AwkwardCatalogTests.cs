using System.Net;
using System.Net.Sockets;
using RapidGable.Core.Tests;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Service.Tests;

/// <summary>What real databases hold that nobody would draw up: published right, or left out with a reason.</summary>
[Collection("engines")]
public sealed class AwkwardCatalogTests(EnginesFixture engines)
{
    private static readonly string Long = new('n', 63);

    private static readonly string Wide = string.Join(", ", Enumerable.Range(0, 1_599).Select(i => $"c{i} SMALLINT"));

    private static readonly string PostgresSql = $$"""
        CREATE SCHEMA other; CREATE SCHEMA "select";
        CREATE TYPE mood AS ENUM ('good', 'so so', '', '3'); CREATE TYPE plain AS ENUM ('low', 'high'); CREATE DOMAIN short AS VARCHAR(5);
        CREATE TABLE "Order" (id BIGINT PRIMARY KEY, "select" TEXT, "a b" TEXT, "a.b" TEXT, "it's" TEXT, "q""q" TEXT, "größe m³/s" REAL, "2nd" TEXT, {{Long}} TEXT);
        CREATE TABLE "order" (id BIGINT PRIMARY KEY, "Id2" BIGINT, "id2" BIGINT);
        CREATE TABLE "select"."from" (id BIGINT PRIMARY KEY, "order" BIGINT REFERENCES "Order" (id));
        CREATE TABLE other.child (id BIGINT PRIMARY KEY, parent BIGINT NOT NULL REFERENCES "Order" (id), feeling mood, level plain, code short, place POINT);
        CREATE TABLE other."Order" (id BIGINT PRIMARY KEY);
        CREATE TABLE nothing ();
        CREATE TABLE wide (id BIGINT PRIMARY KEY, {{Wide}});
        CREATE VIEW fails AS SELECT 1 AS id, 1 / (SELECT count(*) - 1 FROM "Order") AS x;
        CREATE MATERIALIZED VIEW kept AS SELECT id AS order_id, "select" FROM "Order";
        CREATE TABLE parts (id BIGINT, day DATE) PARTITION BY RANGE (day); CREATE TABLE parts_2024 PARTITION OF parts FOR VALUES FROM ('2024-01-01') TO ('2025-01-01');
        INSERT INTO "Order" VALUES (1, 's', 'x', 'y', 'z', 'q', 1.5, '2', 'n');
        INSERT INTO other.child VALUES (1, 1, 'so so', 'high', 'abc', '(1,2)');
        INSERT INTO wide (id) VALUES (1);
        CREATE FUNCTION other.twice(n BIGINT) RETURNS BIGINT LANGUAGE SQL AS 'SELECT n * 2';
        COMMENT ON COLUMN other.child.code IS 'A short one';
        """;

    [Fact]
    public async Task Everything_in_a_postgresql_database_is_offered_or_refused_with_a_reason()
    {
        var database = await engines.Postgres.CreateDatabaseAsync();
        await engines.Postgres.ExecuteAsync(database, PostgresSql);
        using var folder = new TestWorkspace();
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", engines.Postgres.SourceFile(database));
        var draft = await Gable.RunAsync(folder.Folder, "draft", ".", "s", "--json");
        Assert.True(draft.Code == 1, draft.Errors + draft.Output);
        Assert.Equal(
            "nothing: it has no columns; fails: division by zero",
            string.Join(
                "; ",
                draft.Json.GetProperty("refused").EnumerateArray().Select(r => $"{r.GetProperty("object")}: {r.GetProperty("why")}")
            )
        );
        var file = Path.Combine(folder.Folder, "services/s.yaml");
        var drafted = (await File.ReadAllTextAsync(file)).Replace("# rules:\n#   read: anyone", "rules:\n  read: anyone");
        // A view that fails when it is read is found by check, too.
        var text = drafted + "  - { from: fails, key: id }\n";
        await File.WriteAllTextAsync(file, text);
        Assert.Contains("# left out: place, the type point has no counterpart", text);
        Assert.Contains("keyless: true", text);
        var check = await Gable.RunAsync(folder.Folder, "check");
        Assert.Equal(1, check.Code);
        Assert.Contains("fails: the rows cannot be read: division by zero", check.Output);
        await using (var workspace = await folder.LoadAsync())
        {
            var model = workspace.Services[0].Model;
            Assert.Equal(
                ["Order", "order", "select_from", "other_child", "other_Order", "wide", "fails", "kept", "parts"],
                model
                    .Sets.Select(s => (TableSource)s.Source)
                    .Select(t => t.Schema is "public" or null ? t.Name : $"{t.Schema}_{t.Name}")
                    .OrderBy(n =>
                        Array.IndexOf(["Order", "order", "select_from", "other_child", "other_Order", "wide", "fails", "kept", "parts"], n)
                    )
            );
            Assert.Equal(
                "id, select, a_b, a_b_2, it_s, q_q, größe_m_s, _2nd, " + Long,
                string.Join(
                    ", ",
                    model.Sets.First(s => s.Source is TableSource { Name: "Order", Schema: "public" }).Type.Properties.Select(p => p.Name)
                )
            );
            Assert.Equal(1_600, model.FindSet("wide")!.Type.Properties.Length);
            Assert.Equal(SourceObjectKind.MaterializedView, workspace.Catalogs["main"].Find("kept")!.Kind);
            var child = model.Sets.First(s => s.Source is TableSource { Name: "child" });
            Assert.Equal("good|so so||3", string.Join('|', child.Type.FindProperty("feeling")!.AllowedValues));
            Assert.Equal("A short one", child.Type.FindProperty("code")!.Description);
            Assert.Contains(child.Type.Navigations, n => model.Target(n).Source is TableSource { Schema: "public", Name: "Order" });
            var routine = Assert.Single(workspace.Catalogs["main"].Routines);
            Assert.Equal(
                "other twice function n bigint bigint",
                $"{routine.Schema} {routine.Name} {routine.Kind} {routine.Parameters[0].Name} "
                    + $"{routine.Parameters[0].DeclaredType} {routine.Returns}"
            );
            Assert.Contains(workspace.Diagnostics.Items, d => d is { Code: "name-case", Severity: Severity.Warning });
        }
        await File.WriteAllTextAsync(file, drafted);
        var verify = await Gable.RunAsync(folder.Folder, "verify");
        Assert.True(verify.Code == 0, verify.Output + verify.Errors);
    }

    [Fact]
    public async Task A_source_offers_the_schemas_that_its_file_names()
    {
        var database = await engines.Postgres.CreateDatabaseAsync();
        await engines.Postgres.ExecuteAsync(
            database,
            "CREATE SCHEMA a; CREATE SCHEMA b; CREATE TABLE a.t (id BIGINT PRIMARY KEY); CREATE TABLE b.t (id BIGINT PRIMARY "
                + "KEY); CREATE TABLE b.hidden (id BIGINT); CREATE MATERIALIZED VIEW b.m AS SELECT 1 AS x"
        );
        using var folder = new TestWorkspace();
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", engines.Postgres.SourceFile(database) + "offer: { schemas: [b], exclude: [b.hid*] }\n");
        await using (var workspace = await folder.LoadAsync())
            Assert.Equal(["b.m", "b.t"], workspace.Catalogs["main"].Objects.Select(o => o.FullName));
        folder.Write("sources/main.yaml", engines.Postgres.SourceFile(database) + "offer: { kinds: [materialized-view] }\n");
        await using (var workspace = await folder.LoadAsync())
            Assert.Equal(["b.m"], workspace.Catalogs["main"].Objects.Select(o => o.FullName));
    }

    [Fact] // what the catalog lists becomes an enumeration by its name alone, and a type without counterpart text
    public async Task A_declared_type_reaches_what_only_the_engine_knows()
    {
        var database = await engines.Postgres.CreateDatabaseAsync();
        await engines.Postgres.ExecuteAsync(
            database,
            PostgresSql
                + "CREATE TABLE times (id BIGINT PRIMARY KEY, tags TEXT[], grid INT[][], days DATE[], no_tags TEXT[]); INSERT "
                + "INTO times VALUES (1, '{a,NULL}', '{{1,2},{3,4}}', '{2024-05-01}', NULL)"
        );
        using var folder = new TestWorkspace();
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", engines.Postgres.SourceFile(database))
            .WithService(
                "  - { from: other.child, name: Children, columns: { level: Level, place: string } }\n  - { from: times, "
                    + "columns: { grid: string } }\n"
            );
        await using var http = await RunningService.StartAsync(folder.Folder);
        Assert.Contains("\"level\":\"high\",\"code\":\"abc\",\"place\":\"(1,2)\"", (await http.SendAsync("/odata/s/Children")).Text);
        Assert.Contains(
            "\"tags\":[\"a\",null],\"grid\":\"{{1,2},{3,4}}\",\"days\":[\"2024-05-01\"],\"no_tags\":[]",
            (await http.SendAsync("/odata/s/times")).Text
        );
        Assert.Equal("1", (await http.SendAsync("/odata/s/Children/$count?$filter=level%20eq%20'high'")).Text);
        Assert.Equal("1", (await http.SendAsync("/odata/s/Children/$count?$filter=place%20eq%20'(1,2)'")).Text);
        var verified = await Gable.RunAsync(folder.Folder, "verify");
        Assert.True(verified.Code == 0, verified.Output);
    }

    [Fact]
    public async Task Everything_in_a_mariadb_database_is_offered()
    {
        var database = await engines.MariaDb.CreateDatabaseAsync();
        await engines.MariaDb.ExecuteAsync(
            database,
            $$"""
            CREATE TABLE `Order` (id BIGINT PRIMARY KEY, `select` TEXT, `a b` TEXT, `a.b` TEXT, `it's` TEXT, `q``q` TEXT, `größe m³/s` FLOAT, `2nd` TEXT, {{Long}} TEXT, mood ENUM('good', 'so so', '', 'it''s'), small TINYINT(1), clock TIME(3));
            CREATE TABLE `order` (id BIGINT PRIMARY KEY);
            CREATE VIEW fails AS SELECT id, (SELECT 1 UNION ALL SELECT 2) AS x FROM `Order`;
            INSERT INTO `Order` VALUES (1, 's', 'x', 'y', 'z', 'q', 1.5, '2', 'n', 'it''s', 7, '07:30:00.125');
            CREATE FUNCTION twice(n BIGINT) RETURNS BIGINT DETERMINISTIC RETURN n * 2;
            CREATE PROCEDURE both_ways(IN a INT, OUT b INT) SET b = a;
            """
        );
        using var folder = new TestWorkspace();
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", engines.MariaDb.SourceFile(database))
            .WithService(
                "  - { from: Order, rename: { a.b: dotted }, columns: { small: sbyte, clock: timeofday, mood: { type: Mood, "
                    + "filter: true } } }\n  - order\n"
            )
            .Write("services/t.yaml", "title: T\nsource: main\nrules: { read: anyone }\nsets: [{ from: fails, key: id }]\n");
        var check = await Gable.RunAsync(folder.Folder, "check");
        Assert.Contains("fails: the rows cannot be read:", check.Output);
        await using (var workspace = await folder.LoadAsync())
            Assert.Equal(
                ["both_ways procedure in a int(11), out b int(11)", "twice function in n bigint(20)"],
                workspace
                    .Catalogs["main"]
                    .Routines.Select(r =>
                        $"{r.Name} {r.Kind} {string.Join(", ", r.Parameters.Select(p => $"{p.Direction} {p.Name} {p.DeclaredType}"))}"
                    )
            );
        File.Delete(Path.Combine(folder.Folder, "services/t.yaml"));
        await using var http = await RunningService.StartAsync(folder.Folder);
        Assert.Contains("\"größe_m_s\":1.5,\"_2nd\":\"2\"", (await http.SendAsync("/odata/s/Order(1)")).Text);
        Assert.Contains("\"mood\":\"it_s\",\"small\":7,\"clock\":\"07:30:00.125\"", (await http.SendAsync("/odata/s/Order(1)")).Text);
        Assert.Equal(
            "1",
            (
                await http.SendAsync(
                    "/odata/s/Order/$count?$filter=mood%20eq%20'it_s'%20and%20clock%20lt%2008:00:00%20and%20small%20eq%207"
                )
            ).Text
        );
        Assert.Equal(0, (await Gable.RunAsync(folder.Folder, "verify")).Code);
    }

    [Fact]
    public async Task A_text_that_is_published_as_a_uuid_is_not_joined_to_one()
    {
        var database = await engines.Postgres.CreateDatabaseAsync();
        await engines.Postgres.ExecuteAsync(
            database,
            "CREATE TABLE a (id UUID PRIMARY KEY); CREATE TABLE b (id BIGINT PRIMARY KEY, a_id TEXT); INSERT INTO a VALUES "
                + "('21ec2020-3aea-1069-a2dd-08002b30309d'); INSERT INTO b VALUES (1, '21EC2020-3AEA-1069-A2DD-08002B30309D'), "
                + "(2, 'no uuid')"
        );
        using var folder = new TestWorkspace();
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", engines.Postgres.SourceFile(database))
            .WithService("  - a\n  - { from: b, columns: { a_id: guid }, relations: { a: { to: a, on: a_id } } }\n");
        await using (var workspace = await folder.LoadAsync())
            Assert.Equal("relation-types", Assert.Single(workspace.Diagnostics.Items).Code);
        folder.WithService("  - a\n  - { from: b, columns: { a_id: guid } }\n");
        Assert.Contains("invalid input syntax for type uuid", (await Gable.RunAsync(folder.Folder, "check")).Output);
        await using var http = await RunningService.StartAsync(folder.Folder);
        Assert.Equal(
            "21ec2020-3aea-1069-a2dd-08002b30309d",
            (await http.SendAsync("/odata/s/b(1)/a_id")).Json.GetProperty("value").GetString()
        );
        var bad = await http.SendAsync("/odata/s/b(2)");
        Assert.Equal((500, "bad-data"), (bad.Status, bad.Json.GetProperty("error").GetProperty("code").GetString()));
    }

    [Theory] // a SELECT of a declaration has no parameters, and is one SELECT
    [InlineData("SELECT $1::int AS id")]
    [InlineData("SELECT @p AS id")]
    [InlineData("SELECT 1 AS id, 2 AS id")]
    [InlineData("DELETE FROM station RETURNING id")]
    [InlineData("SELECT id FROM nowhere")]
    [InlineData("SELECT 1 AS id) AS q; DROP TABLE station; --")]
    public async Task A_select_that_is_none_is_refused_on_every_engine(string select)
    {
        foreach (var folder in engines.Folders)
        {
            using var own = new TestWorkspace();
            own.Write("workspace.yaml", "title: T\n")
                .Write(
                    "sources/main.yaml",
                    File.ReadAllText(Path.Combine(folder.Folder, "sources/main.yaml"))
                        .Replace("data.db", Path.Combine(folder.Folder, "data.db"))
                )
                .Write(
                    "services/s.yaml",
                    $"title: S\nsource: main\nsets:\n  - {{ name: X, key: id, select: '{select.Replace("'", "''")}' }}\n"
                );
            await using var workspace = await own.LoadAsync();
            Assert.Contains(workspace.Diagnostics.Items, d => d is { Severity: Severity.Error, Code: "select" or "source" });
        }
    }

    [Theory] // a server that hangs up while it is spoken to
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public async Task A_connection_that_breaks_says_so(string engine)
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        using var stop = new CancellationTokenSource();
        var hangUp = HangUpAsync(listener, stop.Token);
        using var folder = new TestWorkspace();
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write(
                "sources/main.yaml",
                $"engine: {engine}\nhost: 127.0.0.1\nport: {((IPEndPoint)listener.LocalEndpoint).Port}\ndatabase: d\nuser: "
                    + $"u\npassword: secret-4\ntls: off\n"
            )
            .WithService("  - t\n");
        await using (var workspace = await folder.LoadAsync())
        {
            var said = Assert.Single(workspace.Diagnostics.Items).Render();
            Assert.Matches(
                "error source-down: The source 'main' cannot be read: .*(broke|refused|cannot be resolved|did not answer)",
                said
            );
            Assert.DoesNotContain("secret-4", said);
        }
        await stop.CancelAsync();
        await hangUp;
    }

    private static async Task HangUpAsync(TcpListener listener, CancellationToken stop)
    {
        while (!stop.IsCancellationRequested)
        {
            try
            {
                using var connection = await listener.AcceptTcpClientAsync(stop);
                await connection.GetStream().WriteAsync(new byte[] { 0x52, 0, 0 }, stop);
            }
            catch (Exception exception) when (exception is OperationCanceledException or IOException or SocketException)
            {
                // The other side went away first, or the test is over.
            }
        }
    }
}
