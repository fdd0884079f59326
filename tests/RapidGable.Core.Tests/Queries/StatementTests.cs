using System.Globalization;
using System.Text.RegularExpressions;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Core.Tests;

public sealed class SqliteStatementTests() : StatementTests(Engine.Sqlite);

public sealed class PostgresStatementTests(PostgresServer server)
    : StatementTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>;

public sealed class MariaDbStatementTests(MariaDbServer server)
    : StatementTests(Engine.MariaDb, null, server),
        IClassFixture<MariaDbServer>;

/// <summary>
/// Statements over sets give what the same SELECT gives over what the caller sees of the tables, which views of the database hold here,
/// and reach nothing else.
/// </summary>
public abstract class StatementTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : EngineTests(engine, postgres, mariaDb)
{
    private const int Rows = 60;

    // What nobody may see fails when it is computed with: visits of level 9 cost nothing.
    protected override string Tables
    {
        get
        {
            var random = new Random(5);
            string Or(string value) => random.Next(5) == 0 ? "NULL" : value;
            var visits = Enumerable
                .Range(1, Rows)
                .Select(i =>
                {
                    var level = random.Next(10);
                    var cost = level == 9 ? "0" : Or($"{random.Next(1, 9)}.{random.Next(10)}5");
                    string[] notes = ["'a'", "'B'", "'it''s'", "''", "'north'"];
                    return $"({i}, {Or($"{random.Next(1, 7)}")}, {Or($"{level}")}, {cost}, {Or(notes[random.Next(5)])}, "
                        + $"{Or($"'2024-05-0{random.Next(1, 10)}'")})";
                });
            return $"""
                CREATE TABLE technician (id INTEGER PRIMARY KEY, region VARCHAR(10) NOT NULL, secret VARCHAR(10));
                CREATE TABLE visit (
                    id INTEGER PRIMARY KEY, technician_id INTEGER REFERENCES technician (id), level INTEGER, cost DECIMAL(8,2),
                    note VARCHAR(10), day DATE);
                CREATE TABLE unpublished (id INTEGER PRIMARY KEY);
                INSERT INTO technician VALUES (1, 'north', 's1'), (2, 'south', 's2'), (3, 'west', 's3'), (4, 'north', 's4'),
                    (5, 'east', 's5'), (6, 'west', 's6');
                INSERT INTO visit VALUES {string.Join(", ", visits)};
                CREATE VIEW technicians AS SELECT id, region FROM technician WHERE region <> 'west';
                CREATE VIEW visits AS SELECT id, technician_id, level AS rank_no, CASE WHEN level >= 5 THEN cost END AS cost, note, day
                    FROM visit WHERE level < 5 OR (level >= 5 AND level <> 9);
                """;
        }
    }

    protected override string Declaration =>
        """
            title: S
            source: main
            namespace: T
            sql: { who: anyone, rows: 1000 }
            sets:
              - from: technician
                name: technicians
                hide: secret
                rules: [ { who: anyone, may: read, rows: "region ne 'west'" } ]
              - from: visit
                name: visits
                rename: { level: rank_no }
                compute: { twice: rank_no mul 2 }
                rules:
                  - { who: anyone, may: read, rows: "rank_no lt 5", mask: [cost] }
                  - { who: anyone, may: read, rows: "rank_no ge 5 and rank_no ne 9" }
            """;

    private static readonly Dictionary<string, object?> None = [];

    /// <summary>The rows of a cursor, in one form for all engines.</summary>
    private static async Task<List<string>> ReadAsync(IRowCursor cursor, int columns, bool isRead)
    {
        var rows = new List<string>();
        while (isRead || await cursor.ReadAsync(CancellationToken.None))
        {
            isRead = false;
            rows.Add(
                string.Join(
                    " | ",
                    Enumerable.Range(0, columns).Select(i => Shown(cursor.IsNull(i) ? StoredValue.Null : cursor.GetStored(i)))
                )
            );
        }
        return rows;
    }

    private static string Shown(StoredValue value)
    {
        var text = $"{value}";
        return decimal.TryParse(text.Trim('\''), NumberStyles.Float, CultureInfo.InvariantCulture, out var number)
            ? $"{Math.Round(number, 6) / 1.000000m}"
            : text;
    }

    /// <summary>What a statement gives, or the code of its fault.</summary>
    private async Task<(List<string>? Rows, RequestFault? Fault, string Sql)> AskAsync(
        string text,
        Dictionary<string, object?>? arguments = null
    )
    {
        if (!Service.PrepareSql(text, arguments ?? None, Caller.Anonymous).Is(out var statement, out var fault))
            return (null, fault, "");
        var sql = statement.Prepared.Query!.Main.Text;
        var values = PreparedStatement.ValuesOf(Caller.Anonymous, DateTime.UnixEpoch, RequestAllowance.Own);
        if (!(await QueryRun.StartAsync(statement.Prepared, values, CancellationToken.None)).Is(out var run, out fault))
            return (null, fault, sql);
        await using (run)
            return statement.Fault(run) is { } tooMany
                ? (null, tooMany, sql)
                : (run.HasRow ? await ReadAsync(run.Rows, statement.Columns.Length, isRead: true) : [], null, sql);
    }

    private async Task<List<string>> ByHandAsync(string sql, int columns)
    {
        await using var session = await Database.OpenSessionAsync(SessionKind.Plain, [], RequestAllowance.Own, CancellationToken.None);
        await using var cursor = await session.QueryAsync(sql, ReadOnlyMemory<StoredValue>.Empty, CancellationToken.None);
        return await ReadAsync(cursor, columns, isRead: false);
    }

    [Fact]
    public async Task They_give_what_the_same_statement_gives_by_hand()
    {
        var statements = new RandomStatement(new Random(23));
        for (var i = 0; i < 250 * Soak.Times; i++)
        {
            var (text, columns, limit) = statements.Next();
            string Order(string ascending) => $" ORDER BY {string.Join(", ", Enumerable.Range(1, columns).Select(c => c + ascending))}";
            var (rows, fault, sql) = await AskAsync(text + Order("") + limit);
            Assert.True(fault is null, $"{text}\n{fault?.Message}");
            var expected = await ByHandAsync(text + Order(Engine == Engine.PostgreSql ? " NULLS FIRST" : "") + limit, columns);
            Assert.True(
                expected.SequenceEqual(rows!),
                $"{text}{Order("")}{limit}\n{sql}\nexpected\n{string.Join('\n', expected)}\nfound\n{string.Join('\n', rows!)}"
            );
        }
    }

    [Theory]
    // What is kept from the caller is not met, whatever is computed.
    [InlineData("SELECT COUNT(*) AS n FROM visits WHERE 1 / cost > 0", null)]
    [InlineData("SELECT v.id, 10 / (v.rank_no - 9) AS x FROM visits v ORDER BY 1", null)]
    [InlineData("SELECT COUNT(*) AS n FROM visits v JOIN technicians t ON t.id = v.technician_id WHERE 1 / (v.rank_no - 9) < 5", null)]
    [InlineData("SELECT rank_no, COUNT(*) AS n FROM visits GROUP BY rank_no HAVING SUM(1 / (rank_no - 9)) < 5 ORDER BY 1", null)]
    [InlineData("SELECT MAX(rank_no) AS most, MIN(cost) AS least FROM visits", null)]
    [InlineData("SELECT twice FROM visits WHERE twice = 16 ORDER BY 1", "SELECT rank_no * 2 FROM visits WHERE rank_no = 8 ORDER BY 1")]
    [InlineData("SELECT DISTINCT v.note || '!' AS x FROM visits v WHERE note = 'a'", "SELECT DISTINCT 'a!' AS x FROM visits v")]
    [InlineData("SELECT CAST(rank_no AS varchar) AS x FROM visits WHERE rank_no = 7 LIMIT 1", "SELECT '7' AS x")]
    [InlineData(
        "SELECT year(day) AS y, COUNT(*) AS n FROM visits WHERE day IS NOT NULL GROUP BY year(day)",
        "SELECT 2024, COUNT(*) FROM visits WHERE day IS NOT NULL"
    )]
    [InlineData("SELECT substring(region, 1, 2) AS x FROM technicians WHERE id = 1", "SELECT 'or' AS x")]
    [InlineData(
        "SELECT substring(region, 1, 2) AS x, COUNT(*) AS n FROM technicians GROUP BY substring(region, 1, 2) ORDER BY 1",
        "SELECT 'as', 1 UNION ALL SELECT 'or', 2 UNION ALL SELECT 'ou', 1"
    )]
    [InlineData(
        "SELECT COUNT(*) AS n FROM visits WHERE day BETWEEN DATE '2024-05-01' AND DATE '2024-05-03'",
        "SELECT COUNT(*) AS n FROM visits WHERE day BETWEEN '2024-05-01' AND '2024-05-03'"
    )]
    [InlineData("SELECT COUNT(*) AS n FROM visits WHERE NULL = note", "SELECT 0 AS n")]
    [InlineData("SELECT COUNT(*) AS n FROM visits WHERE note IN ('a', NULL)", "SELECT COUNT(*) AS n FROM visits WHERE note = 'a'")]
    [InlineData("SELECT COUNT(*) AS n FROM visits WHERE note NOT IN ('a', NULL)", "SELECT 0 AS n")]
    [InlineData("SELECT CAST(NULL AS integer) AS x FROM technicians WHERE id = 1", "SELECT NULL AS x")]
    [InlineData("SELECT \"region\" AS \"Where\" FROM TECHNICIANS WHERE Id = 2 -- by its number", "SELECT 'south' AS x")]
    public async Task Single_statements(string text, string? byHand)
    {
        var (rows, fault, sql) = await AskAsync(text);
        Assert.True(fault is null, fault?.Message);
        if (byHand is null)
            return;
        var expected = await ByHandAsync(byHand, rows!.FirstOrDefault()?.Split(" | ").Length ?? 1);
        Assert.True(expected.SequenceEqual(rows!), $"{sql}\n{string.Join('\n', rows!)}");
    }

    [Fact]
    public async Task Parameters_take_the_type_of_what_they_meet()
    {
        var arguments = new Dictionary<string, object?>
        {
            ["day"] = "2024-05-02",
            ["least"] = "3",
            ["cost"] = 1.5m,
            ["note"] = "it's; DROP TABLE visit --",
            ["most"] = 5L,
        };
        var (rows, fault, sql) = await AskAsync(
            "SELECT id FROM visits WHERE day >= :day AND rank_no >= :least AND (cost > :cost OR note = :note) ORDER BY id LIMIT :most",
            arguments
        );
        Assert.True(fault is null, fault?.Message);
        Assert.DoesNotContain("DROP", sql);
        Assert.Equal(
            await ByHandAsync("SELECT id FROM visits WHERE day >= '2024-05-02' AND rank_no >= 3 AND cost > 1.5 ORDER BY id LIMIT 5", 1),
            rows
        );
    }

    [Fact]
    public void A_key_for_other_things_sends_none()
    {
        Assert.True(Service.MaySendSql(Caller.Anonymous));
        Assert.False(Service.MaySendSql(Caller.Anonymous with { Scope = SetOperations.Create }));
        Assert.False(Service.MaySendSql(Caller.Anonymous with { Services = ["other"] }));
    }

    /// <summary>Names that may stand in the statement for the database.</summary>
    private static readonly HashSet<string> Known =
    [
        "id",
        "region",
        "technician_id",
        "level",
        "cost",
        "note",
        "day",
        "twice",
        "visit",
        "technician",
        "main",
        "public",
        "und-x-icu",
        "default",
        "C",
    ];

    [Fact]
    public async Task Mutated_ones_reach_nothing_that_is_not_published()
    {
        var random = new Random(29);
        var statements = new RandomStatement(random);
        string[] parts =
        [
            "visit",
            "technician",
            "secret",
            "level",
            "unpublished",
            "sqlite_master",
            "information_schema.tables",
            "pg_user",
            "*",
            "t.*",
            ";",
            "DROP TABLE visit",
            "UNION SELECT secret FROM technician",
            "--",
            "/*",
            "*/",
            "/*! secret */",
            "'",
            "\"",
            "(",
            ")",
            ",",
            ":x",
            "NULL",
            "TRUE",
            "v",
            "t",
            "SELECT",
            "FROM",
            "COUNT(*)",
            "OVER ()",
            "INTO x",
            "FOR UPDATE",
            "LIMIT 99999999",
            "gable_seen",
            "rowid",
            "`secret`",
            "[secret]",
            "$1",
            "?",
            "@x",
            "\\",
            "1e999",
            "0x10",
            "v.secret",
            "t.secret",
            "technician.secret",
            "CAST('x' AS integer)",
        ];
        var ran = 0;
        for (var i = 0; i < 600 * Soak.Times; i++)
        {
            var words = Regex.Split(statements.Next().Text, "(?<= )|(?=[(),])").ToList();
            for (var n = random.Next(1, 3); n > 0; n--)
            {
                var at = random.Next(words.Count);
                if (random.Next(3) == 0)
                    words.Insert(at, $" {parts[random.Next(parts.Length)]} ");
                else if (random.Next(2) == 0)
                    words[at] = $" {parts[random.Next(parts.Length)]} ";
                else if (words.Count > 1)
                    words.RemoveAt(at);
            }
            var text = string.Concat(words);
            try
            {
                var (_, fault, sql) = await AskAsync(text);
                Assert.True(fault is null || fault.Status is 400 or 501, $"{text}\n{fault?.Message}");
                var quoted = Regex.Matches(sql, "[\"`]([^\"`]+)[\"`]").Select(m => m.Groups[1].Value);
                Assert.True(quoted.All(Known.Contains), $"{text}\n{sql}");
                Assert.DoesNotContain("secret", sql.Replace("'secret'", ""));
                ran += fault is null ? 1 : 0;
            }
            catch (SourceException exception)
            {
                Assert.True(exception.Kind is SourceFaultKind.DivisionByZero or SourceFaultKind.Overflow, $"{text}\n{exception}");
            }
        }
        Assert.True(ran > 25, $"{ran} ran");
    }
}
