using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Tables to be written, on every engine, published by one declaration; every test starts with the same few rows.</summary>
public sealed class WritingFixture : IAsyncLifetime
{
    public const string Service = """
        title: Writing
        source: main
        namespace: W
        rules: { read: anyone, create: anyone, update: anyone, delete: anyone }
        sets:
          - { from: basin, name: Basins, type: Basin, allow: [read, create, update, delete] }
          - from: gauge
            name: Gauges
            type: Gauge
            version: version
            allow: [read, create, update, delete]
            group: { place: { type: Place, columns: [lat, lon] } }
            columns:
              photo: { stream: true, media-type: image/png }
              settings: { type: Settings }
              sort: { type: Sort }
            relations:
              parts: { to: Parts, contained: true }
              tags: { to: Tags, through: gauge_tag, back: gauges }
          - { from: part, name: Parts, type: Part, allow: [read, create, update, delete] }
          - { from: tag, name: Tags, type: Tag, allow: [read, create, update, delete] }
          - { from: note, name: Notes, type: Note, version: row, require-version: true, allow: [read, create, update, delete] }
          - { from: closed, name: Closed, type: Closed, allow: [read, create] }
          - { from: branch, name: Branches, type: Branch, allow: [read, create, update, delete] }
          - { from: kept, name: Kept, type: Kept, allow: [read, create, update, delete], columns: { clock: timeofday } }
          - { from: looked, name: Looked, type: Looked, key: code }
          - from: device
            name: Devices
            type: Device
            discriminator: kind
            allow: [read, create, update, delete]
            derived:
              Echo: { when: [radar, sonar], columns: [reach] }
              Wheel: { when: wheel, columns: [blades] }
          - from: site
            name: Sites
            type: Site
            allow: [read, create, update, delete]
            derived:
              Mast: { from: mast }
        types:
          Sort: { members: { Level: l, Flow: f } }
          Settings: { properties: { rate: int32, unit: string, limits: Limits } }
          Limits: { properties: { low: "decimal(6,2)", high: "decimal(6,2)" } }

        """;

    private const string Tables = """
        CREATE TABLE basin (id INT NOT NULL PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE, parent_id INT NULL, FOREIGN KEY (parent_id) REFERENCES basin (id));
        CREATE TABLE gauge (
            code VARCHAR(12) NOT NULL PRIMARY KEY, basin_id INT NOT NULL, level DECIMAL(7,3) NULL, online BOOLEAN DEFAULT {true} NOT NULL, opened DATE NULL,
            lat {double} NULL, lon {double} NULL, settings TEXT NULL, sort CHAR(1) NULL, photo {blob} NULL, version INTEGER DEFAULT 1 NOT NULL, CHECK (level >= 0),
            FOREIGN KEY (basin_id) REFERENCES basin (id));
        CREATE TABLE tag (id INT NOT NULL PRIMARY KEY, label VARCHAR(20) NOT NULL);
        CREATE TABLE gauge_tag (gauge_code VARCHAR(12) NOT NULL, tag_id INT NOT NULL, PRIMARY KEY (gauge_code, tag_id), FOREIGN KEY (gauge_code) REFERENCES gauge (code), FOREIGN KEY (tag_id) REFERENCES tag (id));
        CREATE TABLE part (gauge_code VARCHAR(12) NOT NULL, line INT NOT NULL, title VARCHAR(30) NOT NULL, PRIMARY KEY (gauge_code, line), FOREIGN KEY (gauge_code) REFERENCES gauge (code));
        CREATE TABLE note (id {serial}, gauge_code VARCHAR(12) NULL, body VARCHAR(200) NOT NULL, written {timestamp} NULL, FOREIGN KEY (gauge_code) REFERENCES gauge (code));
        CREATE TABLE closed (id INT NOT NULL PRIMARY KEY, word VARCHAR(10) NULL);
        CREATE TABLE device (id INT NOT NULL PRIMARY KEY, kind VARCHAR(10) NULL, label VARCHAR(20) NULL, reach INT NULL, blades INT NULL);
        CREATE TABLE site (id INT NOT NULL PRIMARY KEY, title VARCHAR(20) NULL);
        CREATE TABLE mast (site_id INT NOT NULL PRIMARY KEY, height DECIMAL(6,2) NULL, FOREIGN KEY (site_id) REFERENCES site (id));
        CREATE TABLE branch (id INT NOT NULL PRIMARY KEY, parent_id INT NULL, FOREIGN KEY (parent_id) REFERENCES branch (id) ON DELETE CASCADE);
        CREATE TABLE kept (id {serial}, small SMALLINT NULL, whole INT NULL, large BIGINT NULL, amount DECIMAL(18,4) NULL, ratio {double} NULL, flag BOOLEAN NULL, day DATE NULL, at {timestamp} NULL, clock TIME(3) NULL,
            word VARCHAR(20) NULL, body TEXT NULL, data {blob} NULL, uid UUID NULL);
        CREATE VIEW looked AS SELECT code, level FROM gauge;
        """;

    private const string Rows = """
        DELETE FROM gauge_tag; DELETE FROM part; DELETE FROM note; DELETE FROM tag; DELETE FROM gauge; UPDATE basin SET parent_id = NULL; DELETE FROM basin; DELETE FROM closed; DELETE FROM device; DELETE FROM mast; DELETE FROM site; DELETE FROM branch; DELETE FROM kept;
        INSERT INTO branch (id, parent_id) VALUES (1, NULL);
        INSERT INTO branch (id, parent_id) VALUES (2, 1);
        INSERT INTO branch (id, parent_id) VALUES (3, 2);
        INSERT INTO device (id, kind, label, reach) VALUES (1, 'radar', 'r1', 10);
        INSERT INTO device (id, kind, label, blades) VALUES (2, 'wheel', 'w1', 4);
        INSERT INTO site (id, title) VALUES (1, 'one');
        INSERT INTO site (id, title) VALUES (2, 'two');
        INSERT INTO mast (site_id, height) VALUES (2, 12.5);
        INSERT INTO basin (id, name, parent_id) VALUES (1, 'Alder', NULL);
        INSERT INTO basin (id, name, parent_id) VALUES (2, 'Ferrin', 1);
        INSERT INTO gauge (code, basin_id, level, opened, lat, lon, sort, settings) VALUES ('A/1', 1, 1.5, '1990-05-01', 52.5, -1.5, 'l', '{"rate":5,"unit":"m"}');
        INSERT INTO gauge (code, basin_id) VALUES ('B', 2);
        INSERT INTO tag (id, label) VALUES (1, 'old');
        INSERT INTO tag (id, label) VALUES (2, 'new');
        INSERT INTO gauge_tag (gauge_code, tag_id) VALUES ('A/1', 1);
        INSERT INTO part (gauge_code, line, title) VALUES ('A/1', 1, 'Float');
        INSERT INTO part (gauge_code, line, title) VALUES ('A/1', 2, 'Cable');
        INSERT INTO note (id, gauge_code, body) VALUES (10001, 'A/1', 'First');
        INSERT INTO closed (id, word) VALUES (1, 'kept')
        """;

    public PostgresServer Postgres { get; } = new();

    public MariaDbServer MariaDb { get; } = new();

    internal TestWorkspace[] Folders { get; } = [new(), new(), new()];

    public List<RunningService> Services { get; } = [];

    private string _postgres = "";
    private string _mariaDb = "";

    /// <summary>The same statements in the words of an engine: 0 = SQLite, 1 = PostgreSQL, 2 = MariaDB.</summary>
    public static string For(int engine, string sql) =>
        sql.Replace("{true}", engine == 1 ? "TRUE" : "1")
            .Replace("{double}", engine == 1 ? "DOUBLE PRECISION" : "DOUBLE")
            .Replace("{blob}", engine == 1 ? "BYTEA" : "BLOB")
            .Replace(
                "{serial}",
                engine switch
                {
                    0 => "INTEGER PRIMARY KEY",
                    1 => "INTEGER GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY",
                    _ => "INTEGER AUTO_INCREMENT PRIMARY KEY",
                }
            )
            .Replace(
                "{timestamp}",
                engine switch
                {
                    0 => "TIMESTAMP",
                    1 => "TIMESTAMPTZ(3)",
                    _ => "TIMESTAMP(3)",
                }
            );

    public async Task InitializeAsync()
    {
        await Task.WhenAll(Postgres.InitializeAsync(), MariaDb.InitializeAsync());
        _postgres = await Postgres.CreateDatabaseAsync();
        _mariaDb = await MariaDb.CreateDatabaseAsync();
        Folders[0].WithSource().Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n");
        Folders[1].Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", Postgres.SourceFile(_postgres) + "read-only: false\n");
        Folders[2].Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", MariaDb.SourceFile(_mariaDb) + "read-only: false\n");
        await RunAsync(Tables);
        for (var i = 0; i < 3; i++)
            await RunAsync(For(i, RuledTests.Tables), i);
        for (var i = 1; i < 3; i++)
        {
            foreach (var routine in RoutineTests.Routines[i])
                await RunAsync(routine, i);
            Folders[i].Write("services/routines.yaml", RoutineTests.Service(i));
        }
        foreach (var folder in Folders)
            Services.Add(
                await RunningService.StartAsync(
                    folder
                        .Write("services/s.yaml", Service)
                        .Write("services/ruled.yaml", RuledTests.Service)
                        .Write("services/calls.yaml", ActionTests.Service)
                        .Write("services/hand.yaml", OwnWritesTests.Service)
                        .Folder
                )
            );
    }

    /// <summary>Puts every table back as it was.</summary>
    public Task ResetAsync() => RunAsync(Rows + ";" + RuledTests.Rows);

    /// <summary>Runs statements on all engines.</summary>
    public async Task RunAsync(string sql)
    {
        for (var engine = 0; engine < 3; engine++)
            await RunAsync(For(engine, sql), engine);
    }

    public async Task RunAsync(string sql, int engine)
    {
        if (engine == 0)
            Folders[0].WithDatabase(sql);
        else if (engine == 1)
            await Postgres.ExecuteAsync(_postgres, sql);
        else
            await MariaDb.ExecuteAsync(_mariaDb, sql);
    }

    public async Task DisposeAsync()
    {
        foreach (var service in Services)
            await service.DisposeAsync();
        foreach (var folder in Folders)
            folder.Dispose();
        await Postgres.DisposeAsync();
        await MariaDb.DisposeAsync();
    }

    /// <summary>Sends a request to all engines; what comes back must be the same.</summary>
    public async Task<Answer> SameAsync(string method, string target, string? body, params (string Name, string Value)[] headers)
    {
        target = target.Replace(" ", "%20");
        Answer? first = null;
        foreach (var service in Services)
        {
            var answer = await service.SendAsync(target, method, body, headers);
            var text = Plain(answer.Text, service);
            if (first is null)
            {
                first = answer with { Bytes = System.Text.Encoding.UTF8.GetBytes(text) };
                continue;
            }
            Assert.True(
                first.Status == answer.Status,
                $"{method} {target}: {first.Status} and {answer.Status}\n{first.Text}\n{answer.Text}"
            );
            Assert.Equal(first.Text, text);
            foreach (var name in new[] { "ETag", "OData-EntityId", "Location", "Preference-Applied", "Allow" })
                Assert.Equal(first.Header(name)?.Replace(Services[0].Address, ""), answer.Header(name)?.Replace(service.Address, ""));
        }
        return first!;
    }

    private static string Plain(string text, RunningService service) =>
        System
            .Text.RegularExpressions.Regex.Replace(
                text.Replace(service.Address, "").Replace("Edm.Int32", "Edm.Int64"),
                @"(\.\d*?)0+(?=[,}\]])",
                "$1"
            )
            .Replace(".,", ",")
            .Replace(".}", "}");
}

/// <summary>The classes that share the written tables.</summary>
[CollectionDefinition("writing")]
public sealed class WritingCollection : ICollectionFixture<WritingFixture>;
