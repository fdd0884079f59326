using System.Text.RegularExpressions;
using Npgsql;
using RapidGable.Building;
using RapidGable.Core.Tests;
using RapidGable.Model;
using RapidGable.Verification;

namespace RapidGable.Service.Tests;

/// <summary>
/// Schemas as they are met: drafted by one command, checked, served, and verified reading, writing and by who may do what.
/// </summary>
[Collection("engines")]
public sealed class ForeignSchemaTests(EnginesFixture engines) : IDisposable
{
    private readonly TestWorkspace _files = new();

    public void Dispose() => _files.Dispose();

    /// <summary>The address of a new database with the schema of its engine.</summary>
    private async Task<string> DatabaseAsync(string engine)
    {
        switch (engine)
        {
            case "postgresql":
                var first = await engines.Postgres.CreateDatabaseAsync();
                await engines.Postgres.ExecuteAsync(first, ForeignSchemas.Postgres);
                return engines.Postgres.Uri(first);
            case "mariadb":
                var second = await engines.MariaDb.CreateDatabaseAsync();
                await engines.MariaDb.ExecuteAsync(second, ForeignSchemas.MariaDb);
                await engines.MariaDb.ExecuteAsync(second, ForeignSchemas.MariaDbTrigger);
                return engines.MariaDb.Uri(second);
            default:
                return ForeignWorkspace.SqliteFile(_files, ForeignSchemas.Sqlite);
        }
    }

    private async Task<ForeignWorkspace> NewAsync(string engine) => await ForeignWorkspace.NewAsync(await DatabaseAsync(engine));

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public async Task A_schema_is_verified_after_one_command(string engine)
    {
        using var workspace = await NewAsync(engine);
        Assert.Contains("Left out, since they may hold secrets: sessions", workspace.Said);
        Assert.Contains("account.email, account.password_hash, account.api_token", workspace.Said);
        var closed = await Gable.RunAsync(workspace.Folder, "verify", "--json");
        Assert.True(closed.Code == 0 && closed.Json.GetProperty("passed").GetInt32() > 100, closed.Output + closed.Errors);
        workspace.Opened();
        var check = await Gable.RunAsync(workspace.Folder, "check");
        Assert.True(check.Code == 0, check.Output + check.Errors);
        var verify = await Gable.RunAsync(workspace.Folder, "verify", "--writes", "--access");
        Assert.True(verify.Code == 0, verify.Output + verify.Errors);
        Assert.Contains("0 failed", verify.Output);
        var proposed = Regex.Matches(check.Errors, "CREATE INDEX [\"`]([^\"`]+)").Select(m => m.Groups[1].Value).ToList();
        Assert.Equal(proposed.Count, proposed.Distinct().Count());
        Assert.All(proposed, n => Assert.True(n.Length <= 63, n));
    }

    [Theory] // by make soak with many seeds
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public async Task RoundTrip_of_made_up_entities(string engine)
    {
        using var workspace = (await NewAsync(engine)).Opened();
        for (var seed = 1; seed <= Soak.Times; seed++)
        {
            var verify = await Gable.RunAsync(workspace.Folder, "verify", "--writes", "--seed", $"{seed}");
            Assert.True(verify.Code == 0, $"seed {seed}\n{verify.Output}{verify.Errors}");
        }
    }

    [Theory]
    [InlineData("jsonb")]
    [InlineData("xml")]
    [InlineData("int4range")]
    [InlineData("int8range")]
    [InlineData("numrange")]
    [InlineData("daterange")]
    [InlineData("tsrange")]
    [InlineData("tstzrange")]
    [InlineData("int4multirange")]
    [InlineData("int8multirange")]
    [InlineData("nummultirange")]
    [InlineData("inet")]
    [InlineData("cidr")]
    [InlineData("macaddr")]
    [InlineData("macaddr8")]
    [InlineData("bit(8)")]
    [InlineData("bit varying(8)")]
    [InlineData("time with time zone")]
    [InlineData("tsvector")]
    public async Task Samples_are_spelt_as_the_engine_spells_them(string type)
    {
        await using var connection = new NpgsqlConnection(engines.Postgres.Connection("postgres"));
        await connection.OpenAsync();
        await using (var zone = new NpgsqlCommand("SET TimeZone = 'UTC'", connection))
            await zone.ExecuteNonQueryAsync();
        var property = new Property("value", EdmType.String, true, "value") { DeclaredType = type };
        for (var number = 0L; number < 1_000_000_000; number = (number * 7) + 13)
        {
            var sample = SampleText.Of(property, number);
            await using var command = new NpgsqlCommand($"SELECT cast('{sample!.Replace("'", "''")}' AS {type})::text", connection);
            Assert.Equal(sample, await command.ExecuteScalarAsync());
        }
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public async Task Relations_have_short_names(string engine)
    {
        using var workspace = await NewAsync(engine);
        await using var loaded = await WorkspaceLoader.LoadAsync(workspace.Folder, _ => null, CancellationToken.None);
        Assert.False(loaded.Diagnostics.HasErrors, string.Join('\n', loaded.Diagnostics.Items.Select(d => d.Render())));
        var model = loaded.Services[0].Model;
        string? SchemaOf(string set) => ((TableSource)model.FindSet(set)!.Source).Schema;
        string Names(string set) =>
            string.Join(' ', model.FindSet(set)!.Type.Navigations.Select(n => n.Name).Order(StringComparer.Ordinal));
        Assert.Equal(
            "hosts_by_proxy_host hosts_by_template hosts_templates_by_host hosts_templates_by_template proxy_host template",
            Names("hosts")
        );
        Assert.Equal("host template", Names("hosts_templates"));
        Assert.StartsWith("a_table_name_that_fills_nearly_all_of_what_engines_take_by_one_long", Names("node"));
        Assert.Equal("bin", Names("bin_child"));
        if (engine == "postgresql")
        {
            Assert.Equal(("public", "aaa", "zzz"), (SchemaOf("node"), SchemaOf("aaa_node"), SchemaOf("zzz_node")));
            Assert.Equal(["id"], model.FindSet("kept")!.Type.Key.Select(k => k.Name));
        }
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public async Task Keys_of_bytes_are_hexadecimal_text(string engine)
    {
        using var workspace = (await NewAsync(engine)).Opened();
        await using var http = await RunningService.StartAsync(workspace.Folder);
        const string Set = "/odata/foreign/bin",
            First = "0102030405060708090a0b0c0d0e0f10";
        for (var i = 0; i < 3; i++)
            Assert.Equal(201, (await http.SendAsync(Set, "POST", $$"""{"id":"{{First[..^1]}}{{i}}","name":"Nr {{i}}"}""")).Status);
        Assert.Contains("\"name\":\"Nr 0\"", (await http.SendAsync($"{Set}('{First}')")).Text);
        Assert.Equal(404, (await http.SendAsync($"{Set}('zz')")).Status);
        Assert.Contains(
            "\"value\":[{\"name\":\"Nr 1\"}]",
            (
                await http.SendAsync(
                    $"{Set}?$filter=id%20eq%20'{First[..^1]}1'&$select=name",
                    headers: ("Accept", "application/json;odata.metadata=none")
                )
            ).Text
        );
        var page = await http.SendAsync(Set + "?$orderby=id%20desc", headers: ("Prefer", "maxpagesize=2"));
        Assert.Equal(["Nr 2", "Nr 1"], page.Json.GetProperty("value").EnumerateArray().Select(r => r.GetProperty("name").GetString()));
        var next = await http.SendAsync(page.Json.GetProperty("@odata.nextLink").GetString()!, headers: ("Prefer", "maxpagesize=2"));
        Assert.Equal("Nr 0", next.Json.GetProperty("value")[0].GetProperty("name").GetString());
        Assert.Equal(201, (await http.SendAsync("/odata/foreign/bin_child", "POST", $$"""{"bin_id":"{{First}}"}""")).Status);
        Assert.Equal(
            422,
            (await http.SendAsync("/odata/foreign/bin_child", "POST", $$"""{"bin_id":"{{First.Replace('1', '2')}}"}""")).Status
        );
        Assert.Equal(400, (await http.SendAsync("/odata/foreign/bin_child", "POST", """{"bin_id":"no"}""")).Status);
        Assert.Contains(
            "\"bin\":{\"id\":\"" + First,
            (await http.SendAsync("/odata/foreign/bin_child?$expand=bin", headers: ("Accept", "application/json;odata.metadata=none"))).Text
        );
    }

    [Theory] // the developer's words for P0001 and 45000 alone, and nothing of any other
    [InlineData("sqlite", 13, 422, "Thirteen is unlucky")]
    [InlineData("postgresql", 13, 422, "Thirteen is unlucky")]
    [InlineData("postgresql", 14, 422, "Room fourteen is shut")]
    [InlineData("postgresql", 15, 422, "This change violates a constraint of the database on booking.")]
    [InlineData("mariadb", 13, 422, "Thirteen is unlucky")]
    [InlineData("mariadb", 15, 422, "This change violates a constraint of the database on booking.")]
    public async Task What_a_trigger_says_is_told(string engine, int room, int status, string message)
    {
        using var workspace = (await NewAsync(engine)).Opened();
        await using var http = await RunningService.StartAsync(workspace.Folder);
        var answer = await http.SendAsync("/odata/foreign/booking", "POST", $$"""{"room":{{room}},"slot":3,"state":"open"}""");
        Assert.Equal(
            (status, "database-rule", message),
            (
                answer.Status,
                answer.Json.GetProperty("error").GetProperty("code").GetString(),
                answer.Json.GetProperty("error").GetProperty("message").GetString()
            )
        );
    }

    [Fact]
    public async Task What_a_column_does_not_take_is_told_with_its_property()
    {
        using var workspace = (await NewAsync("postgresql")).Opened();
        await using var http = await RunningService.StartAsync(workspace.Folder);
        foreach (
            var (property, value) in new[]
            {
                ("mood", "nope"),
                ("span", "[5,1]"),
                ("span", "x"),
                ("address", "1.2"),
                ("doc", "{"),
                ("tree", "<a>"),
            }
        )
        {
            var answer = await http.SendAsync("/odata/foreign/odd", "POST", $$"""{"{{property}}":"{{value}}"}""");
            Assert.Equal((400, property), (answer.Status, answer.Json.GetProperty("error").GetProperty("target").GetString()));
            var changed = await http.SendAsync("/odata/foreign/odd(1)", "PATCH", $$"""{"{{property}}":"{{value}}"}""");
            Assert.Equal((400, property), (changed.Status, changed.Json.GetProperty("error").GetProperty("target").GetString()));
        }
    }

    [Theory]
    [InlineData("doc", 2)]
    [InlineData("tree", 1)]
    [InlineData("mood", 2)]
    [InlineData("span", 2)]
    [InlineData("address", 2)]
    [InlineData("amount", 3)]
    [InlineData("day", 2)]
    [InlineData("length", 2)]
    public async Task Rows_are_grouped_by_any_column(string column, int groups)
    {
        using var workspace = (await NewAsync("postgresql")).Opened();
        await using var http = await RunningService.StartAsync(workspace.Folder);
        var answer = await http.SendAsync($"/odata/foreign/odd?$apply=groupby(({column}),aggregate($count%20as%20n))");
        Assert.Equal((200, groups), (answer.Status, answer.Status == 200 ? answer.Json.GetProperty("value").GetArrayLength() : 0));
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public async Task A_numbered_key_is_the_databases_unless_callers_may_choose(string engine)
    {
        using var workspace = (await NewAsync(engine)).Opened();
        await using (var http = await RunningService.StartAsync(workspace.Folder))
        {
            foreach (var placeholder in new[] { 0, -1, 0 })
            {
                var made = await http.SendAsync("/odata/foreign/account", "POST", $$"""{"id":{{placeholder}},"note":"n"}""");
                Assert.True(made.Status == 201 && made.Json.GetProperty("id").GetInt64() > 0, made.Text);
            }
            Assert.Equal(404, (await http.SendAsync("/odata/foreign/account(77)", "PUT", """{"note":"x"}""")).Status);
            Assert.Equal(404, (await http.SendAsync("/odata/foreign/account(77)", "PATCH", """{"note":"x"}""")).Status);
            Assert.Contains("<Property Name=\"id\" Type=\"Edm.Int", (await http.SendAsync("/odata/foreign/$metadata")).Text);
        }
        File.WriteAllText(
            workspace.ServiceFile,
            File.ReadAllText(workspace.ServiceFile).Replace("source: main\n", "source: main\ncaller-keys: true\n")
        );
        await using (var http = await RunningService.StartAsync(workspace.Folder))
        {
            Assert.Equal(
                77,
                (await http.SendAsync("/odata/foreign/account", "POST", """{"id":77,"note":"n"}""")).Json.GetProperty("id").GetInt64()
            );
            Assert.Equal(
                201,
                (await http.SendAsync("/odata/foreign/booking", "POST", """{"id":55,"room":1,"slot":2,"state":"open"}""")).Status
            );
        }
    }
}
