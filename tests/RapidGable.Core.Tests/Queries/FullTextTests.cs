namespace RapidGable.Core.Tests;

public sealed class SqliteFullTextTests() : FullTextTests(Engine.Sqlite)
{
    protected override string Index =>
        """
            CREATE VIRTUAL TABLE note_words USING fts5(title, body, content='note', content_rowid='id');
            INSERT INTO note_words(note_words) VALUES ('rebuild');
            """;
}

public sealed class PostgresFullTextTests(PostgresServer server) : FullTextTests(Engine.PostgreSql, server), IClassFixture<PostgresServer>
{
    protected override string Index =>
        "CREATE INDEX note_words ON note USING gin (to_tsvector('simple', coalesce(title, '') || ' ' || coalesce(body, '')));";
}

/// <summary>A column of words that the server keeps, under an index of its own.</summary>
public sealed class PostgresColumnFullTextTests(PostgresServer server)
    : FullTextTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>
{
    protected override string Index =>
        """
            ALTER TABLE note ADD COLUMN words tsvector GENERATED ALWAYS AS (to_tsvector('simple', coalesce(title, '') || ' ' || coalesce(body, ''))) STORED;
            CREATE INDEX note_words ON note USING gin (words);
            """;
}

public sealed class MariaDbFullTextTests(MariaDbServer server) : FullTextTests(Engine.MariaDb, null, server), IClassFixture<MariaDbServer>
{
    protected override string Index =>
        "ALTER TABLE note MODIFY title VARCHAR(40) COLLATE utf8mb4_general_ci, MODIFY body VARCHAR(200) COLLATE "
        + "utf8mb4_general_ci; CREATE FULLTEXT INDEX note_words ON note (title, body);";
}

/// <summary>A search that asks the source's own index: whole words, wherever the set is reached.</summary>
public abstract class FullTextTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : EngineTests(engine, postgres, mariaDb)
{
    protected abstract string Index { get; }

    protected override string Tables =>
        $"""
            CREATE TABLE place (id INTEGER PRIMARY KEY, name VARCHAR(20));
            CREATE TABLE note (id INTEGER PRIMARY KEY, place_id INTEGER REFERENCES place (id), title VARCHAR(40), body VARCHAR(200), secret VARCHAR(20));
            INSERT INTO place VALUES (1, 'weir'), (2, 'ford');
            INSERT INTO note VALUES (1, 1, 'Broken cable', 'The sensor cable was cut by ice', 'a'), (2, 1, 'Silt', 'Sensor cleaned of silt', 'b'), (3, 2, 'Cables', 'All fine', 'c'), (4, 2, NULL, 'Ice on the sensor head', 'd'), (5, NULL, 'Quotes', 'Say "hello there" twice', 'e');
            {Index}
            """;

    protected override string Declaration => Declared("note_words");

    private static string Declared(string index, string more = "hide: secret") =>
        $$"""
            title: S
            source: main
            namespace: T
            rules: { read: anyone }
            sets:
              - { from: place, name: Places }
              - { from: note, name: Notes, {{more}}, search: { index: {{index}} } }
            """;

    [Theory]
    [InlineData("Notes?$search=cable&$select=id", "1")]
    [InlineData("Notes?$search=CABLE&$select=id", "1")]
    [InlineData("Notes?$search=cab&$select=id", "")]
    [InlineData("Notes?$search=sensor ice&$select=id", "1,4")]
    [InlineData("Notes?$search=sensor NOT ice&$select=id", "2")]
    [InlineData("Notes?$search=silt OR cables&$select=id", "2,3")]
    [InlineData("Notes?$search=\"sensor cable\"&$select=id", "1")]
    [InlineData("Notes?$search=\"cable sensor\"&$select=id", "")]
    [InlineData("Notes?$search=\"hello there\"&$select=id", "5")]
    [InlineData("Notes?$search=\"say \\\"hello\"&$select=id", "5")]
    [InlineData("Notes?$search=\"sens* +x') OR 1\"&$select=id", "")]
    [InlineData("Notes?$search=sensor&$filter=place_id eq 1&$orderby=id desc&$top=1&$select=id", "2")]
    [InlineData("Places(1)/Notes?$search=ice&$select=id", "1")]
    [InlineData("Notes?$apply=search(sensor)/filter(id gt 1)&$select=id", "2,4")]
    [Proves("Q-70, Q-71")]
    public async Task Words_are_found(string url, string expected)
    {
        var found = await GetAsync(url);
        Assert.Equal(
            $"{{'#Notes(id)','value':["
                + $"{string.Join(',', expected.Split(',', StringSplitOptions.RemoveEmptyEntries).Select(i => $"{{'id':{i}}}"))}]}}",
            found.Replace("$metadata#Notes(id)", "#Notes(id)")
        );
    }

    [Theory]
    [InlineData(
        "Places?$expand=Notes($search=ice;$select=id)",
        "{'#Places(id,name,Notes(id))','value':[{'id':1,'name':'weir','Notes':[{'id':1}]},{'id':2,'name':'ford','Notes':[{'id':4}]}]}"
    )]
    [InlineData("Places?$filter=Notes/$count($search=sensor) gt 1&$select=id", "{'#Places(id)','value':[{'id':1}]}")]
    [InlineData("Notes/$count?$search=sensor", "3")]
    [InlineData("Notes?$apply=search(sensor)/aggregate($count as n)", "{'#Notes(n)','value':[{'@id':null,'n@type':'#Decimal','n':3}]}")]
    [InlineData("Notes?$search=cable AND", "400 syntax")]
    [Proves("X-05")]
    public async Task Words_are_found_wherever_the_set_is_reached(string url, string expected) =>
        Assert.Equal(expected, (await GetAsync(url)).Replace("'#Places(Notes(id))'", "'#Places(id,name,Notes(id))'"));

    [Theory]
    [InlineData("note_wrods", "hide: secret", "has no full-text index 'note_wrods'. Did you mean 'note_words'?")]
    [InlineData("note_words", "hide: body", "holds the column 'body', which is hidden")]
    [InlineData("note_words", "keyless: true", "Rows without a key cannot be found by a full-text index")]
    public async Task A_wrong_index_is_refused(string index, string more, string expected)
    {
        await using var workspace = await LoadAsync(Declared(index, more));
        Assert.Contains(workspace.Diagnostics.Items, d => d.Render().Contains(expected));
    }
}
