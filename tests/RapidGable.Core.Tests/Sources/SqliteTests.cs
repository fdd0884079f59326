using System.Text;
using CsCheck;
using RapidGable.Sources;
using RapidGable.Sources.Sqlite;

namespace RapidGable.Core.Tests;

public class SqliteTests
{
    private static readonly Gen<DateTime> Instants = Gen.Long[0, 3_155_378_975_999_999_999].Select(t => new DateTime(t, DateTimeKind.Utc));

    [Fact]
    public void An_instant_comes_back_from_the_usual_form() =>
        Instants.Sample(instant =>
        {
            Assert.True(
                SqliteText.TryInstant(Encoding.UTF8.GetBytes(SqliteText.Instant(instant, SqliteText.UsualInstantForm)), out var read)
            );
            Assert.Equal(instant, read);
        });

    [Theory] // what is cut to a coarser form still sorts where it belongs
    [InlineData("T3Z")]
    [InlineData(" 0")]
    [InlineData("T0Z")]
    [InlineData(" 6")]
    public void Text_of_a_form_sorts_as_time(string form) =>
        Gen.Select(Instants, Gen.Long[-20_000_000, 20_000_000])
            .Sample(
                (at, distance) =>
                {
                    var digits = SqliteText.FractionDigits(form);
                    var unit = (long)Math.Pow(10, 7 - digits);
                    var stored = new DateTime(at.Ticks / unit * unit, DateTimeKind.Utc);
                    if (stored.Ticks + distance < 0 || stored.Ticks + distance > DateTime.MaxValue.Ticks)
                        return;
                    var literal = stored.AddTicks(distance);
                    Assert.Equal(
                        Math.Sign(stored.CompareTo(literal)),
                        Math.Sign(string.CompareOrdinal(SqliteText.Instant(stored, form), SqliteText.Instant(literal, form)))
                    );
                },
                iter: 5_000
            );

    [Theory]
    [InlineData("2024-02-30T00:00:00Z")]
    [InlineData("2024-02-29T24:00:00Z")]
    [InlineData("2024-02-29X00:00:00Z")]
    [InlineData("soon")]
    [InlineData("")]
    [InlineData("2024-02-29T00:00:00.Z")]
    public void Text_that_is_no_time_is_refused(string text) => Assert.False(SqliteText.TryInstant(Encoding.UTF8.GetBytes(text), out _));

    [Theory]
    [InlineData("2024-02-29T01:30:00+02:00", "2024-02-28T23:30:00.0000000Z")]
    [InlineData("2024-02-29 01:30", "2024-02-29T01:30:00.0000000Z")]
    [InlineData("2024-02-29", "2024-02-29T00:00:00.0000000Z")]
    public void Other_forms_are_read_too(string text, string expected)
    {
        Assert.True(SqliteText.TryInstant(Encoding.UTF8.GetBytes(text), out var instant));
        Assert.Equal(expected, SqliteText.Instant(instant, SqliteText.UsualInstantForm));
    }

    [Fact] // a program was killed in the middle of a change: what it left is undone, though it is only read here
    public async Task A_change_that_was_left_in_the_middle_is_undone()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase("CREATE TABLE big (id INTEGER PRIMARY KEY, text TEXT NOT NULL)")
            .WithService("  - { from: big, name: Bigs }\n");
        var file = Path.Combine(folder.Folder, "data.db");
        using (var connection = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={file};Pooling=False"))
        {
            connection.Open();
            void Run(string sql)
            {
                using var command = connection.CreateCommand();
                command.CommandText = sql;
                command.ExecuteNonQuery();
            }
            Run(
                "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 2000) INSERT INTO big SELECT i, "
                    + "'before' || hex(zeroblob(200)) FROM n"
            );
            // With so small a cache the change reaches the file before it is final.
            Run("PRAGMA cache_size = 5");
            Run("BEGIN");
            Run("UPDATE big SET text = 'after' || hex(zeroblob(200))");
            File.Copy(file, file + ".left");
            File.Copy(file + "-journal", file + ".left-journal");
            Run("ROLLBACK");
        }
        File.Move(file + ".left", file, overwrite: true);
        File.Move(file + ".left-journal", file + "-journal", overwrite: true);
        Assert.Contains("after", Encoding.Latin1.GetString(await File.ReadAllBytesAsync(file)));

        await using var workspace = await folder.LoadAsync();
        Assert.Empty(workspace.Diagnostics.Items);
        await using var source = new SqliteEngine().Open(
            "main",
            folder.Folder,
            new Dictionary<string, string> { ["file"] = "data.db" },
            []
        )!;
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, CancellationToken.None);
        await using var rows = await session.QueryAsync(
            "SELECT count(*) FROM big WHERE text LIKE 'before%'",
            default,
            CancellationToken.None
        );
        Assert.True(await rows.ReadAsync(CancellationToken.None));
        Assert.Equal(2000, rows.GetInt64(0));
        Assert.False(File.Exists(file + "-journal"));
    }

    [Fact]
    public async Task The_catalog_is_read_whole()
    {
        using var folder = new TestWorkspace().WithSource().WithNetwork();
        await using var workspace = await folder.LoadAsync();
        var catalog = workspace.Catalogs["main"];
        Assert.Equal(18, catalog.Objects.Length);
        var sensor = catalog.Find("sensor")!;
        Assert.Equal("station_id,sensor_no", string.Join(',', sensor.PrimaryKey));
        Assert.Equal(("station", "Cascade"), (sensor.ForeignKeys[0].TargetObject, sensor.ForeignKeys[0].OnDelete));
        Assert.Equal("code", string.Join(',', Assert.Single(catalog.Find("station")!.UniqueKeys)));
        Assert.Equal("station_id,sensor_no", string.Join(',', catalog.Find("reading")!.ForeignKeys[0].TargetColumns));
        Assert.Empty(catalog.Find("import_log")!.PrimaryKey);
        Assert.Equal(SourceObjectKind.View, catalog.Find("daily_summary")!.Kind);
    }

    [Fact]
    public async Task A_statement_ends_at_its_time_limit()
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase("CREATE TABLE t (id INTEGER PRIMARY KEY)");
        var faults = new List<SettingFault>();
        await using var source = EngineRegistry
            .Find("sqlite")!
            .Open("main", folder.Folder, new Dictionary<string, string> { ["file"] = "data.db", ["statement-seconds"] = "1" }, faults)!;
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, CancellationToken.None);
        await using var cursor = await session.QueryAsync(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT COUNT(*) FROM n",
            default,
            CancellationToken.None
        );
        Assert.Equal(
            SourceFaultKind.TooSlow,
            (await Assert.ThrowsAsync<SourceException>(async () => await cursor.ReadAsync(CancellationToken.None))).Kind
        );
    }

    [Fact]
    public async Task A_statement_ends_when_the_caller_goes()
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase("CREATE TABLE t (id INTEGER PRIMARY KEY)");
        await using var source = EngineRegistry
            .Find("sqlite")!
            .Open("main", folder.Folder, new Dictionary<string, string> { ["file"] = "data.db" }, [])!;
        using var cancellation = new CancellationTokenSource();
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, cancellation.Token);
        await using var cursor = await session.QueryAsync(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT COUNT(*) FROM n",
            default,
            cancellation.Token
        );
        var reading = Task.Run(async () => await cursor.ReadAsync(cancellation.Token));
        cancellation.Cancel();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => reading);
    }

    [Fact] // the source is opened for reading only, whatever statement were to reach it
    public async Task Nothing_can_be_written()
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase("CREATE TABLE t (id INTEGER PRIMARY KEY)");
        await using var source = EngineRegistry
            .Find("sqlite")!
            .Open("main", folder.Folder, new Dictionary<string, string> { ["file"] = "data.db" }, [])!;
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, CancellationToken.None);
        await Assert.ThrowsAsync<SourceException>(async () =>
        {
            await using var cursor = await session.QueryAsync("INSERT INTO t VALUES (1)", default, CancellationToken.None);
            await cursor.ReadAsync(CancellationToken.None);
        });
    }
}
