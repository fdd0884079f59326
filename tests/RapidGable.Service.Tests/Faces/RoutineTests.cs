using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Functions and procedures of the database, called over every face.</summary>
[Collection("writing")]
public sealed class RoutineTests(WritingFixture fixture) : IAsyncLifetime
{
    /// <summary>What the database has, by the number of the engine: 1 = PostgreSQL, 2 = MariaDB.</summary>
    public static readonly string[][] Routines =
    [
        [],
        [
            "CREATE FUNCTION add_up(a int, b int DEFAULT 5) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT a + b'",
            "COMMENT ON FUNCTION add_up IS 'The sum of two numbers'",
            "CREATE FUNCTION parts_of(p_gauge varchar, p_from int DEFAULT length('x')) RETURNS SETOF part LANGUAGE sql STABLE AS "
                + "'SELECT * FROM part WHERE gauge_code = p_gauge AND line >= p_from'",
            "CREATE FUNCTION cut(whole text, OUT head text, OUT tail text) LANGUAGE sql IMMUTABLE AS 'SELECT left(whole, 1), substr(whole, 2)'",
            "CREATE FUNCTION rename_part(gauge varchar, no int, new_title varchar) RETURNS TABLE (no_now int, title_now varchar) LANGUAGE plpgsql "
                + "AS 'BEGIN UPDATE part SET title = new_title WHERE gauge_code = gauge AND line = no; IF NOT FOUND THEN RAISE EXCEPTION "
                + "''There is no part % of %'', no, gauge; END IF; RETURN QUERY SELECT p.line, p.title FROM part p WHERE p.gauge_code = gauge "
                + "ORDER BY p.line; END'",
            "CREATE PROCEDURE drop_parts(gauge varchar, INOUT removed int DEFAULT 0) LANGUAGE plpgsql AS 'BEGIN DELETE FROM part WHERE "
                + "gauge_code = gauge; GET DIAGNOSTICS removed = ROW_COUNT; END'",
            "CREATE PROCEDURE mark(tag_id int, word varchar) LANGUAGE plpgsql AS 'BEGIN UPDATE tag SET label = word WHERE id = tag_id; COMMIT; END'",
            "CREATE FUNCTION forget(tag int) RETURNS void LANGUAGE sql AS 'DELETE FROM gauge_tag WHERE tag_id = tag'",
            "CREATE FUNCTION deeper(n int) RETURNS int LANGUAGE plpgsql AS 'BEGIN RETURN deeper(n + 1); END'",
            "CREATE FUNCTION twice(n int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT 2 * n'",
            "CREATE FUNCTION twice(n text) RETURNS text LANGUAGE sql IMMUTABLE AS 'SELECT n || n'",
            "CREATE FUNCTION sneaky(tag int) RETURNS int LANGUAGE sql STABLE AS 'SELECT id FROM tag'",
            "CREATE FUNCTION taking_all(VARIADIC numbers int[]) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT numbers[1]'",
            "CREATE FUNCTION make_tag(p_label varchar, OUT id int) LANGUAGE plpgsql AS 'BEGIN IF p_label = ''bad'' THEN RAISE EXCEPTION "
                + "''No such label''; END IF; id := 77; INSERT INTO tag (id, label) VALUES (77, p_label); END'",
            "CREATE TYPE span AS (first_line int, last_line int)",
            "CREATE FUNCTION spans(OUT gauge varchar, OUT lines span, OUT titles varchar[]) RETURNS SETOF record LANGUAGE sql STABLE AS 'SELECT "
                + "gauge_code, (min(line), max(line))::span, array_agg(title ORDER BY line) FROM part GROUP BY gauge_code ORDER BY gauge_code'",
            "CREATE TYPE mood AS ENUM ('calm', 'wild')",
            "CREATE FUNCTION next_mood(m mood) RETURNS mood LANGUAGE sql IMMUTABLE AS 'SELECT CASE m WHEN ''calm'' THEN ''wild''::mood ELSE "
                + "''calm''::mood END'",
        ],
        [
            "CREATE FUNCTION add_up(a INT, b INT) RETURNS INT DETERMINISTIC COMMENT 'The sum of two numbers' RETURN a + b",
            "CREATE PROCEDURE parts_of(p_gauge VARCHAR(12), p_from INT) READS SQL DATA SELECT * FROM part WHERE gauge_code = p_gauge AND line >= "
                + "p_from",
            "CREATE PROCEDURE cut(whole VARCHAR(40), OUT head VARCHAR(1), OUT tail VARCHAR(40)) NO SQL BEGIN SET head = LEFT(whole, 1); SET tail = "
                + "SUBSTR(whole, 2); END",
            "CREATE PROCEDURE rename_part(gauge VARCHAR(12), no INT, new_title VARCHAR(30)) MODIFIES SQL DATA BEGIN DECLARE text VARCHAR(80); "
                + "UPDATE part SET title = new_title WHERE gauge_code = gauge AND line = no; IF ROW_COUNT() = 0 THEN SET text = CONCAT('There is no "
                + "part ', no, ' of ', gauge); SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = text; END IF; SELECT p.line AS no_now, p.title AS "
                + "title_now FROM part p WHERE p.gauge_code = gauge ORDER BY p.line; END",
            "CREATE PROCEDURE drop_parts(gauge VARCHAR(12), INOUT removed INT) MODIFIES SQL DATA BEGIN DELETE FROM part WHERE gauge_code = gauge; "
                + "SET removed = ROW_COUNT(); END",
            "CREATE PROCEDURE mark(tag_id INT, word VARCHAR(20)) MODIFIES SQL DATA BEGIN UPDATE tag SET label = word WHERE id = tag_id; COMMIT; END",
            "CREATE PROCEDURE forget(tag INT) MODIFIES SQL DATA DELETE FROM gauge_tag WHERE tag_id = tag",
            "CREATE PROCEDURE deeper(n INT) MODIFIES SQL DATA CALL deeper(n + 1)",
            "CREATE FUNCTION sneaky(tag INT) RETURNS INT DETERMINISTIC BEGIN DELETE FROM gauge_tag WHERE tag_id = tag; RETURN 1; END",
            "CREATE PROCEDURE make_tag(p_label VARCHAR(20), OUT id INT) MODIFIES SQL DATA BEGIN IF p_label = 'bad' THEN SIGNAL SQLSTATE '45000' "
                + "SET MESSAGE_TEXT = 'No such label'; END IF; SET id = 77; INSERT INTO tag (id, label) VALUES (77, p_label); END",
            "CREATE PROCEDURE overview(gauge VARCHAR(12)) READS SQL DATA BEGIN SELECT line, title FROM part WHERE gauge_code = gauge ORDER BY "
                + "line; SELECT id, label FROM tag ORDER BY id LIMIT 1; END",
            "CREATE PROCEDURE hidden_commit(tag INT) MODIFIES SQL DATA CALL mark(tag, 'x')",
        ],
    ];

    private const string Overviews = """
          - name: Overview
            routine: overview
            gives: results
            columns: { lines: { type: collection(Line) }, labels: { type: collection(Label) } }
          - { name: Short, routine: overview, gives: results, columns: { lines: { type: collection(Line) } } }

        """;

    public static string Service(int engine) =>
        """
            title: Routines
            source: main
            namespace: R
            rules: { read: anyone, call: anyone }
            types:
              Line: { properties: { line: int32, title: string(30) } }
              Label: { properties: { id: int32, label: string(20) } }
            sets:
              - { from: tag, name: Tags, type: Tag, compute: { loud: toupper(label) } }
              - { from: part, name: Parts, type: Part }
              - from: tag
                name: OwnTags
                type: OwnTag
                allow: [read, create]
                rules: { read: anyone, create: anyone }
                columns: { id: { write: never } }
                writes: { create: { routine: make_tag, parameters: { p_label: label } } }
            queries:
              - { name: AddUp, routine: add_up, parameters: { a: { maximum: 100, example: 2 }B } }
              - name: PartsOf
                routine: parts_of
                parameters: { p_gauge: { name: gauge, example: A/1 }, p_from: { name: from, FROM } }
                gives: rows
                columns: { gauge_code: string(12), line: int32, title: string(30) }
                rest: { path: "gauges/{gauge}/parts" }
              - { name: Cut, routine: cut }
              - name: RenamePart
                routine: rename_part
                gives: rows
                columns: { no_now: { name: no, type: int32 }, title_now: { name: title, type: string(30) } }
              - { name: DropParts, routine: drop_parts, parameters: { removed: { required: false } } }
              - { name: Mark, routine: mark, commits: true, gives: nothing }
              - { name: Forget, routine: forget, gives: nothing }
              - { name: MakeTag, routine: make_tag, of: Tags, gives: row }
              - { name: Deeper, routine: deeper, gives: nothing, changes: true }

            """.Replace("B }", engine == 1 ? " }" : ", b: { default: 5 } }").Replace("FROM", engine == 1 ? "example: 1" : "default: 1")
        + (
            engine == 1
                ? "  - { name: Twice, routine: twice(text), gives: value }\n"
                    + "  - { name: NextMood, routine: next_mood, parameters: { m: { example: calm } } }\n"
                    + "  - { name: Spans, routine: spans }\n"
                : Overviews + "  - { name: HiddenCommit, routine: hidden_commit, gives: nothing }\n"
        );

    public Task InitializeAsync() => fixture.ResetAsync();

    public Task DisposeAsync() => Task.CompletedTask;

    /// <summary>Asks both engines, whose answers must be the same.</summary>
    private async Task<Answer> BothAsync(string method, string target, string? body = null)
    {
        var first = await fixture.Services[1].SendAsync(target, method, body?.Replace('\'', '"'));
        var second = await fixture.Services[2].SendAsync(target, method, body?.Replace('\'', '"'));
        Assert.True(first.Status == second.Status, $"{first.Status} {first.Text}\n{second.Status} {second.Text}");
        Assert.Equal(first.Text.Replace(fixture.Services[1].Address, ""), second.Text.Replace(fixture.Services[2].Address, ""));
        return first;
    }

    [Theory]
    [InlineData("odata", "AddUp(a=2,b=3)", 200, "'value':5")]
    [InlineData("odata", "AddUp(a=2)", 200, "'value':7")]
    [InlineData("odata", "AddUp(a=101)", 400, "more than 100")]
    [InlineData("odata", "AddUp(b=1)", 400, "is missing")]
    [InlineData("odata", "AddUp(a=1,c=1)", 400, "no parameter")]
    [InlineData("odata", "Cut(whole='abc')", 200, "'head':'a','tail':'bc'")]
    [InlineData("odata", "PartsOf(gauge='A%2F1')", 200, "'line':2")]
    [InlineData("odata", "PartsOf(gauge='A%2F1',from=2)", 200, "'value':[{'gauge_code':'A/1','line':2,'title':'Cable'}]")]
    [InlineData("odata", "PartsOf(gauge='none')", 200, "'value':[]")]
    [InlineData("rest", "AddUp?a=2&b=3", 200, "5}")]
    [InlineData("rest", "gauges/A%2F1/parts?from=2", 200, "'title':'Cable'")]
    [InlineData("rest", "gauges/A%2F1/parts?from=2&format=csv", 200, "A/1,2,Cable")]
    public async Task Functions_are_read(string face, string target, int status, string part)
    {
        var answer = await BothAsync("GET", $"/{face}/routines/{target}");
        Assert.Equal(status, answer.Status);
        Assert.Contains(part.Contains(':') ? part.Replace('\'', '"') : part, answer.Text);
    }

    [Theory]
    [InlineData("RenamePart", "{'gauge':'A/1','no':2,'new_title':'Rope'}", 200, "[{'no':1,'title':'Float'},{'no':2,'title':'Rope'}]")]
    [InlineData("RenamePart", "{'gauge':'A/1','no':9,'new_title':'Rope'}", 422, "There is no part 9 of A/1")]
    [InlineData("RenamePart", "{'gauge':'A/1','no':2}", 400, "is missing")]
    [InlineData("DropParts", "{'gauge':'A/1'}", 200, "'removed':2}")]
    [InlineData("DropParts", "{'gauge':'none','removed':7}", 200, "'removed':0}")]
    [InlineData("Mark", "{'tag_id':1,'word':'seen'}", 204, "")]
    [InlineData("Forget", "{'tag':1}", 204, "")]
    [InlineData("MakeTag", "{'p_label':'low'}", 200, "'label':'low','loud':'LOW'}")]
    public async Task Procedures_are_called(string target, string body, int status, string part)
    {
        var answer = await BothAsync("POST", "/odata/routines/" + target, body);
        Assert.Equal(status, answer.Status);
        Assert.Contains(part.Replace('\'', '"'), answer.Text);
        Assert.DoesNotContain("SELECT", answer.Text);
        Assert.Equal(405, (await BothAsync("GET", "/rest/routines/" + target)).Status);
    }

    [Fact]
    public async Task One_that_recurses_is_an_error_and_nothing_more()
    {
        var answer = await fixture.Services[1].SendAsync("/odata/routines/Deeper", "POST", "{\"n\":1}");
        Assert.InRange(answer.Status, 400, 503);
        answer = await fixture.Services[2].SendAsync("/odata/routines/Deeper", "POST", "{\"n\":1}");
        Assert.InRange(answer.Status, 400, 503);
        Assert.Equal(200, (await BothAsync("GET", "/odata/routines/AddUp(a=1)")).Status);
    }

    [Fact] // what is final by itself cannot be undone with a group
    public async Task One_that_commits_is_no_part_of_a_group()
    {
        const string Batch = """
            {"requests":[
              {"id":"1","atomicityGroup":"g","method":"POST","url":"Mark","headers":{"content-type":"application/json"},"body":{"tag_id":1,"word":"x"}}]}
            """;
        foreach (var service in fixture.Services.Skip(1))
        {
            var answer = await service.SendAsync("/odata/routines/$batch", "POST", Batch);
            Assert.Equal(501, answer.Json.GetProperty("responses")[0].GetProperty("status").GetInt32());
            Assert.Equal("old", (await service.SendAsync("/odata/routines/Tags(1)/label/$value")).Text);
        }
    }

    [Fact] // and one of which nobody knew it is told of
    public async Task A_hidden_commit_is_found()
    {
        var answer = await fixture.Services[2].SendAsync("/odata/routines/HiddenCommit", "POST", "{\"tag\":1}");
        Assert.Equal((500, true), (answer.Status, answer.Text.Contains("commits: true")));
    }

    [Theory]
    [InlineData(2, "routine: sneaky", "routine", "READ ONLY transaction")]
    [InlineData(1, "routine: sneak", "no-object", "Did you mean 'sneaky'?")]
    [InlineData(1, "routine: twice", "routine", "stands for 2 routines")]
    [InlineData(1, "routine: taking_all", "routine", "cannot be published")]
    [InlineData(1, "routine: add_up, parameters: { c: int32 }", "routine", "takes no parameter 'c'")]
    [InlineData(1, "routine: add_up, select: SELECT 1", "query", "either a 'select'")]
    [InlineData(1, "routine: add_up, parameters: { a: { minimum: x } }", "value-rule", "'x'")]
    [InlineData(1, "routine: add_up, commits: true", "routine", "it changes something")]
    [InlineData(2, "routine: parts_of, gives: row, columns: { line: int32 }", "routine", "read as rows")]
    [InlineData(2, "routine: parts_of, gives: rows", "query", "does not say what")]
    [InlineData(2, "routine: rename_part, gives: rows, columns: { no_now: int32 }, key: no_now", "query", "'key' is about rows")]
    [InlineData(
        2,
        "routine: rename_part, gives: rows, columns: { no_now: int32 }, changes: true, order: no_now",
        "query",
        "'order' is about"
    )]
    [InlineData(2, "routine: rename_part, gives: nothing, rules: [ { who: anyone, may: call, rows: x eq 1 } ]", "rule", "")]
    public async Task What_is_wrong_is_told(int engine, string query, string code, string part)
    {
        using var folder = new TestWorkspace();
        var source = File.ReadAllText(Path.Combine(fixture.Folders[engine].Folder, "sources/main.yaml"));
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", source)
            .Write("services/s.yaml", $"source: main\nrules: {{ read: anyone }}\nqueries:\n  - {{ name: Q, {query} }}\n");
        await using var loaded = await folder.LoadAsync();
        Assert.Contains(loaded.Diagnostics.Items, d => d.Code == code && d.Message.Contains(part, StringComparison.Ordinal));
    }

    [Fact] // a source that is only read has no procedure that writes
    public async Task A_read_only_source_calls_nothing_that_may_write()
    {
        using var folder = new TestWorkspace();
        var source = File.ReadAllText(Path.Combine(fixture.Folders[1].Folder, "sources/main.yaml"));
        folder
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", source.Replace("read-only: false\n", ""))
            .Write("services/s.yaml", "source: main\nqueries:\n  - { name: Q, routine: forget, gives: nothing }\n");
        await using var loaded = await folder.LoadAsync();
        Assert.Contains(loaded.Diagnostics.Items, d => d.Code == "read-only");
    }

    [Fact]
    public async Task Functions_of_one_engine()
    {
        var service = fixture.Services[1];
        Assert.Contains("\"abab\"", (await service.SendAsync("/odata/routines/Twice(n='ab')")).Text);
        Assert.Contains("\"wild\"", (await service.SendAsync("/odata/routines/NextMood(m='calm')")).Text);
        var odd = await service.SendAsync("/odata/routines/NextMood(m='odd')");
        Assert.True(odd.Status == 422, odd.Text);
        // Rows of a function are filtered, sorted, counted and paged by the database.
        var page = await service.SendAsync(
            "/odata/routines/PartsOf(gauge='A%2F1')?$filter=line gt 1&$count=true&$orderby=title&$top=1".Replace(" ", "%20")
        );
        Assert.Contains("\"@odata.count\":1", page.Text);
        // Those of a procedure are not.
        Assert.Equal(501, (await fixture.Services[2].SendAsync("/odata/routines/PartsOf(gauge='A%2F1')?$top=1")).Status);
        Assert.Contains("The sum of two numbers", (await service.SendAsync("/odata/routines/$metadata")).Text);
    }

    [Theory]
    [InlineData("odata", "Overview(gauge='A%2F1')")]
    [InlineData("rest", "Overview?gauge=A%2F1")]
    public async Task Several_results_are_one_object(string face, string target)
    {
        var answer = await fixture.Services[2].SendAsync($"/{face}/routines/{target}");
        Assert.True(answer.Status == 200, answer.Text);
        Assert.Contains("\"lines\":[{\"line\":1,\"title\":\"Float\"},{\"line\":2,\"title\":\"Cable\"}]", answer.Text);
        Assert.Contains("\"labels\":[{\"id\":1,\"label\":\"old\"}]", answer.Text);
    }

    [Fact]
    public async Task Results_beyond_the_declared_ones_are_a_fault_of_the_service()
    {
        var answer = await fixture.Services[2].SendAsync("/odata/routines/Short(gauge='A%2F1')");
        Assert.Equal((500, true), (answer.Status, answer.Text.Contains("declared to give 1 results, and it gives 2")));
    }

    [Fact]
    public async Task A_composite_type_and_an_array_in_a_result_are_published()
    {
        var service = fixture.Services[1];
        var answer = await service.SendAsync("/odata/routines/Spans()");
        Assert.True(answer.Status == 200, answer.Text);
        Assert.Contains("\"gauge\":\"A/1\",\"lines\":{\"first_line\":1,\"last_line\":2},\"titles\":[\"Float\",\"Cable\"]", answer.Text);
        var metadata = (await service.SendAsync("/odata/routines/$metadata")).Text;
        Assert.Contains("<Property Name=\"first_line\" Type=\"Edm.Int32\"", metadata);
        Assert.Contains("Collection(Edm.String)", metadata);
    }
}
