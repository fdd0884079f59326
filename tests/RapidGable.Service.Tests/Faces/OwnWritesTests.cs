using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Sets whose changes are carried out by statements and routines of their publisher, on every engine.</summary>
[Collection("writing")]
public sealed class OwnWritesTests(WritingFixture fixture) : IAsyncLifetime
{
    public const string Service = """
        title: By hand
        source: main
        namespace: Hand
        rules: { read: anyone, create: anyone, update: anyone, delete: anyone }
        sets:
          - select: SELECT g.code, g.basin_id, g.level, g.version FROM gauge g
            name: Levels
            type: Level
            key: code
            allow: [read, create, update, delete]
            version: version
            columns: { code: { type: string(12) }, basin_id: { type: int32, required: true }, level: { maximum: 99 } }
            rules: [ { who: anyone, may: [read, create, update, delete], rows: basin_id eq 1 } ]
            valid: [ { where: level ne 13, column: level, message: Not that one. } ]
            log: { to: note, columns: { operation: body } }
            writes:
              create: { statement: "INSERT INTO gauge (code, basin_id, level, version) VALUES (:code, :basin_id, :level, 1)" }
              update: { statement: "UPDATE gauge SET level = :level, basin_id = :basin_id, version = :version WHERE code = :code" }
              delete: { statement: DELETE FROM gauge_tag WHERE gauge_code = :code; DELETE FROM part WHERE gauge_code = :code; UPDATE note SET gauge_code = NULL WHERE gauge_code = :code; DELETE FROM gauge WHERE code = :code }
          - from: note
            name: Memos
            type: Memo
            allow: [read, create, update]
            columns: { id: { write: never } }
            writes:
              create: { statement: "INSERT INTO note (gauge_code, body) VALUES (:gauge_code, UPPER(:body)) RETURNING id" }
          - from: closed
            name: Kept
            type: Kept
            allow: [read, create, update, delete]
            writes:
              create: { statement: "UPDATE closed SET word = :word WHERE id = 1" }
              delete: { statement: "UPDATE closed SET word = 'gone' WHERE id = :id" }
        """;

    public Task InitializeAsync() => fixture.ResetAsync();

    public Task DisposeAsync() => Task.CompletedTask;

    private Task<Answer> SendAsync(string method, string target, string? body, params (string, string)[] headers) =>
        fixture.SameAsync(method, "/odata/hand/" + target, body?.Replace('\'', '"'), headers);

    private async Task<string> TextAsync(string target) => (await SendAsync("GET", target, null)).Text;

    [Theory]
    [InlineData("POST", "Levels", "{'code':'N','basin_id':1,'level':2.5}", 201, "'code':'N','basin_id':1,'level':2.5")]
    [InlineData("POST", "Levels", "{'code':'N','basin_id':2,'level':2.5}", 403, "")]
    [InlineData("POST", "Levels", "{'code':'N','basin_id':1,'level':13}", 422, "Not that one")]
    [InlineData("POST", "Levels", "{'code':'N','basin_id':1,'level':100}", 400, "more than 99")]
    [InlineData("POST", "Levels", "{'code':'A/1','basin_id':1}", 409, "already")]
    [InlineData("POST", "Levels", "{'code':'N','basin_id':9}", 422, "not there")]
    [InlineData("POST", "Levels", "{'basin_id':1}", 400, "'code' is missing")]
    [InlineData("PATCH", "Levels('A%2F1')", "{'level':7}", 204, "")]
    [InlineData("PATCH", "Levels('A%2F1')", "{'level':13}", 422, "Not that one")]
    [InlineData("PATCH", "Levels('A%2F1')", "{'basin_id':2}", 403, "")]
    [InlineData("PATCH", "Levels('A%2F1')", "{'level':-1}", 422, "")]
    [InlineData("PATCH", "Levels('B')", "{'level':7}", 400, "'basin_id' is missing")]
    [InlineData("DELETE", "Levels('A%2F1')", null, 204, "")]
    [InlineData("DELETE", "Levels('B')", null, 404, "")]
    public async Task Rules_go_around_what_a_publisher_writes(string method, string target, string? body, int status, string part)
    {
        var before = await TextAsync("Levels");
        foreach (var service in fixture.Services)
        {
            var answer = await service.SendAsync("/odata/hand/" + target, method, body?.Replace('\'', '"'));
            Assert.True(status == answer.Status, answer.Text);
            Assert.Contains(status == 201 ? part.Replace('\'', '"') : part, answer.Text);
        }
        // What is refused leaves nothing.
        if (status >= 400)
            Assert.Equal(before, await TextAsync("Levels"));
        Assert.Equal(status < 400 ? "1" : "0", await TextAsync("Memos/$count?$filter=body ne 'First'".Replace(" ", "%20")));
    }

    [Fact]
    public async Task What_is_not_sent_stays_and_the_version_goes_on()
    {
        var tag = (await SendAsync("GET", "Levels('A%2F1')", null)).Header("ETag")!;
        Assert.Equal(204, (await SendAsync("PATCH", "Levels('A%2F1')", "{'level':8}", ("If-Match", tag))).Status);
        Assert.Equal(412, (await SendAsync("PATCH", "Levels('A%2F1')", "{'level':9}", ("If-Match", tag))).Status);
        Assert.Contains("\"basin_id\":1,\"level\":8", await TextAsync("Levels('A%2F1')"));
    }

    [Fact]
    public async Task A_statement_gives_the_key_that_it_made()
    {
        foreach (var service in fixture.Services)
        {
            var answer = await service.SendAsync("/odata/hand/Memos", "POST", "{\"gauge_code\":\"B\",\"body\":\"loud\"}");
            Assert.Equal(201, answer.Status);
            Assert.Contains("\"body\":\"LOUD\"", answer.Text);
            Assert.Equal(200, (await service.SendAsync(answer.Header("Location")!)).Status);
            // What no statement is declared for is done by the service itself.
            Assert.Equal(204, (await service.SendAsync(answer.Header("Location")!, "PATCH", "{\"body\":\"low\"}")).Status);
        }
    }

    [Fact] // a statement that does something else than it should is undone
    public async Task What_is_left_must_be_what_was_asked()
    {
        Assert.Equal(500, (await SendAsync("POST", "Kept", "{'id':5,'word':'x'}")).Status);
        Assert.Equal(500, (await SendAsync("DELETE", "Kept(1)", null)).Status);
        Assert.Contains("\"word\":\"kept\"", await TextAsync("Kept(1)"));
        Assert.Equal("1", await TextAsync("Kept/$count"));
    }

    [Fact]
    public async Task A_routine_may_carry_it_out()
    {
        foreach (var service in fixture.Services.Skip(1))
        {
            var answer = await service.SendAsync("/odata/routines/OwnTags", "POST", "{\"label\":\"made\"}");
            Assert.Equal(201, answer.Status);
            Assert.EndsWith("\"id\":77,\"label\":\"made\"}", answer.Text);
            answer = await service.SendAsync("/rest/routines/OwnTags", "POST", "{\"label\":\"bad\"}");
            Assert.True(answer.Status == 422 && answer.Text.Contains("No such label"), answer.Text);
        }
    }

    [Theory]
    [InlineData("create: { statement: INSERT INTO tag (id) VALUES (:ide) }", "no column ':ide'. Did you mean 'id'?")]
    [InlineData("create: { statement: CREATE TABLE x (id INT) }", "starts with CREATE")]
    [InlineData("create: { statement: 'INSERT INTO tag (id, label) VALUES (:id, :label) RETURNING label' }", "does not give 'id'")]
    [InlineData("create: { statement: INSERT INTO nowhere VALUES (:id) }", "cannot be used")]
    [InlineData("create: { }", "is carried out by")]
    [InlineData("create: { statement: INSERT INTO tag (id) VALUES (:id), routine: x }", "is carried out by")]
    [InlineData("create: { routine: nothing_here }", "no function or procedure")]
    [InlineData("update: { statement: UPDATE tag SET label = :label }", "does not allow it")]
    [InlineData("upsert: { statement: UPDATE tag SET label = :label }", "'upsert'")]
    public async Task What_is_wrong_is_told(string writes, string part)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase("CREATE TABLE tag (id INTEGER PRIMARY KEY, label TEXT NOT NULL)")
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .WithService($"  - {{ from: tag, allow: [read, create], writes: {{ {writes} }} }}\n");
        await using var loaded = await folder.LoadAsync();
        Assert.Contains(loaded.Diagnostics.Items, d => d.Message.Contains(part, StringComparison.Ordinal));
    }
}
