using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Stored values that no payload has: one of them never makes a page unreadable, and what becomes of them is declared.</summary>
[Collection("engines")]
public sealed class UnrepresentableTests(EnginesFixture engines) : IDisposable
{
    private readonly TestWorkspace _folder = new();

    public void Dispose() => _folder.Dispose();

    private async Task<RunningService> ServeAsync(string engine, string columns = "", string ofSource = "")
    {
        var isPostgres = engine == "postgresql";
        var database = isPostgres ? await engines.Postgres.CreateDatabaseAsync() : await engines.MariaDb.CreateDatabaseAsync();
        await (
            isPostgres
                ? engines.Postgres.ExecuteAsync(database, ForeignSchemas.Postgres)
                : engines.MariaDb.ExecuteAsync(database, ForeignSchemas.MariaDb)
        );
        _folder
            .Write("workspace.yaml", "title: T\n")
            .Write(
                "sources/main.yaml",
                (isPostgres ? engines.Postgres.SourceFile(database) : engines.MariaDb.SourceFile(database))
                    + "read-only: false\n"
                    + ofSource
            );
        _folder.Write(
            "services/s.yaml",
            $"title: S\nsource: main\nrules: {{ read: anyone, create: anyone }}\nsets:\n  - from: odd\n    allow: [read, create]\n{columns}"
        );
        return await RunningService.StartAsync(_folder.Folder);
    }

    private static async Task<string> IdsAsync(RunningService http, string query)
    {
        var answer = await http.SendAsync("/odata/s/odd?$select=id&" + query);
        Assert.True(answer.Status == 200, answer.Text);
        return string.Join(' ', answer.Json.GetProperty("value").EnumerateArray().Select(r => r.GetProperty("id").GetInt32()));
    }

    [Theory]
    [InlineData("postgresql", "day at local length amount")]
    [InlineData("mariadb", "day at due")]
    public async Task Undeclared_they_are_null_in_answers(string engine, string columns)
    {
        await using var http = await ServeAsync(engine);
        var rows = (await http.SendAsync("/odata/s/odd")).Json.GetProperty("value").EnumerateArray().ToList();
        Assert.Equal(3, rows.Count);
        Assert.All(columns.Split(' '), c => Assert.Equal(System.Text.Json.JsonValueKind.Null, rows[1].GetProperty(c).ValueKind));
        Assert.Equal("2024-01-01", rows[0].GetProperty("day").GetString());
        if (engine == "postgresql")
            Assert.Equal(
                "NaN INF -INF NaN",
                $"{rows[1].GetProperty("ratio")} {rows[1].GetProperty("small")} {rows[2].GetProperty("ratio")} "
                    + $"{rows[2].GetProperty("small")}"
            );
    }

    [Theory] // as null they are null for conditions and orders, too; as text they are found by their own values
    [InlineData("postgresql", "null", "day%20eq%20null", "2 3")]
    [InlineData("postgresql", "null", "at%20ne%20null", "1")]
    [InlineData("postgresql", "null", "day%20gt%202023-01-01", "1")]
    [InlineData("postgresql", "null", "year(at)%20eq%202024", "1")]
    [InlineData("postgresql", "null", "amount%20eq%20null", "2")]
    [InlineData("postgresql", "null", "length%20eq%20null", "2 3")]
    [InlineData("postgresql", "text", "day%20eq%20'infinity'", "2")]
    [InlineData("postgresql", "text", "day%20eq%20'0044-03-15%20BC'", "3")]
    [InlineData("postgresql", "text", "length%20eq%20'1%20mon'", "2")]
    [InlineData("mariadb", "null", "day%20eq%20null", "2 3")]
    [InlineData("mariadb", "null", "due%20eq%20null", "2 3")]
    [InlineData("mariadb", "null", "at%20lt%202030-01-01T00:00:00Z", "1")]
    [InlineData("mariadb", "text", "day%20eq%20'0000-00-00'", "2")]
    [InlineData("mariadb", "text", "day%20eq%20'2024-00-10'", "3")]
    public async Task Declared_they_are_found_as_they_are_shown(string engine, string policy, string filter, string ids)
    {
        await using var http = await ServeAsync(engine, ofSource: $"unrepresentable: {policy}\n");
        Assert.Equal(ids, await IdsAsync(http, "$orderby=id&$filter=" + filter));
    }

    [Theory]
    [InlineData("postgresql", "")]
    [InlineData("postgresql", "unrepresentable: null\n")]
    [InlineData("postgresql", "unrepresentable: text\n")]
    [InlineData("mariadb", "")]
    [InlineData("mariadb", "unrepresentable: null\n")]
    public async Task Pages_in_their_order_lose_no_row(string engine, string ofSource)
    {
        await using var http = await ServeAsync(engine, ofSource: ofSource);
        foreach (
            var order in new[] { "day", "day%20desc", "at", "at%20desc" }.Concat(
                engine == "postgresql" ? ["amount", "length%20desc", "big"] : ["big%20desc"]
            )
        )
        {
            var ids = new List<int>();
            for (var next = "/odata/s/odd?$select=id&$orderby=" + order; next is not null; )
            {
                var page = await http.SendAsync(next, headers: ("Prefer", "maxpagesize=1"));
                Assert.True(page.Status == 200, order + page.Text);
                ids.AddRange(page.Json.GetProperty("value").EnumerateArray().Select(r => r.GetProperty("id").GetInt32()));
                next = page.Json.TryGetProperty("@odata.nextLink", out var link) ? link.GetString() : null;
            }
            Assert.Equal([1, 2, 3], ids.Order());
        }
    }

    [Theory]
    [InlineData("postgresql", "'infinity'")]
    [InlineData("mariadb", "'0000-00-00")]
    public async Task A_fault_names_the_row_the_column_and_the_value(string engine, string value)
    {
        await using var http = await ServeAsync(engine, "    columns: { day: { unrepresentable: fault } }\n");
        var answer = await http.SendAsync("/odata/s/odd");
        Assert.Equal((500, "bad-data"), (answer.Status, answer.Json.GetProperty("error").GetProperty("code").GetString()));
        Assert.DoesNotContain(value.Trim('\''), answer.Text);
        Assert.Equal(200, (await http.SendAsync("/odata/s/odd(1)")).Status);
        var check = await Gable.RunAsync(_folder.Folder, "check");
        Assert.Equal(1, check.Code);
        var told = check.Output.Split('\n').First(l => l.Contains("day:"));
        Assert.Contains(value, told);
        Assert.Contains("(id = 2)", told);
    }

    [Theory]
    [InlineData("postgresql", "big", "123456789012345678901234567890.12345678901234567890", "2")]
    [InlineData("postgresql", "amount", "10000000000000000000000000000000000000000", "3")]
    [InlineData("mariadb", "big", "123456789012345678901234567890.12345678901234567890", "2")]
    public async Task Decimals_keep_all_their_digits(string engine, string column, string digits, string id)
    {
        await using var http = await ServeAsync(engine);
        Assert.Contains($"\"{column}\":{digits}", (await http.SendAsync($"/odata/s/odd({id})")).Text);
        Assert.Equal(digits, (await http.SendAsync($"/odata/s/odd({id})/{column}/$value")).Text);
        Assert.Contains(
            $"\"{column}\":\"{digits}\"",
            (await http.SendAsync($"/odata/s/odd({id})", headers: ("Accept", "application/json;IEEE754Compatible=true"))).Text
        );
        Assert.Equal(id, await IdsAsync(http, $"$filter={column}%20eq%20{digits}"));
        var more = "987654321098765432109876543210.7654321";
        var made = await http.SendAsync("/odata/s/odd", "POST", $$"""{"{{column}}":{{more}}}""");
        Assert.True(made.Status == 201, made.Text);
        Assert.Contains($"\"{column}\":{more}", made.Text);
        Assert.Single(
            (
                await IdsAsync(
                    http,
                    $"$filter={column}%20gt%20987654321098765432109876543210.7%20and%20{column}%20lt%20987654321098765432109876543211"
                )
            ).Split(' ')
        );
        // More than the column keeps is refused, and not cut.
        if (column == "big")
            Assert.Equal(400, (await http.SendAsync("/odata/s/odd", "POST", $$"""{"big":1{{digits}}{{digits[..10]}}1}""")).Status);
    }

    [Theory]
    [InlineData("columns: { ratio: { unrepresentable: null } }", "unrepresentable", "Every value of the column 'ratio'")]
    [InlineData("columns: { day: { unrepresentable: nul } }", "unrepresentable", "Did you mean 'null'?")]
    public async Task A_word_that_means_nothing_is_told(string columns, string code, string message)
    {
        await (await ServeAsync("postgresql")).DisposeAsync();
        _folder.Write("services/s.yaml", $"title: S\nsource: main\nsets:\n  - from: odd\n    {columns}\n");
        await using var workspace = await _folder.LoadAsync();
        Assert.Contains(workspace.Diagnostics.Items, d => d.Code == code && d.Message.Contains(message));
    }
}
