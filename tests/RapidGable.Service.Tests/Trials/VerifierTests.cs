using RapidGable.Core.Tests;
using RapidGable.Verification;

namespace RapidGable.Service.Tests;

/// <summary>Verification passes what is right, and each check fires when its one thing is wrong.</summary>
public class VerifierTests
{
    private static async Task<ServiceReport> VerifyAsync(
        string root,
        Func<string, CancellationToken, Task<long?>>? stored = null,
        long rows = 100_000
    )
    {
        using var client = new HttpClient();
        return await ServiceVerifier.VerifyAsync(
            new HttpProbe(client),
            new VerificationOptions("f", root, rows, DatabaseCount: stored),
            CancellationToken.None
        );
    }

    [Fact]
    public async Task A_service_that_is_right_passes()
    {
        await using var responder = await FaultyResponder.StartAsync((_, right) => right);
        var report = await VerifyAsync(responder.Root, (_, _) => Task.FromResult<long?>(3));
        Assert.All(report.Results, r => Assert.True(r.Outcome == CheckOutcome.Passed, $"{r.Check}: {r.Message}"));
        Assert.Equal(
            [
                "service-document",
                "metadata-valid",
                "documents-agree",
                "set-answers",
                "values-fit",
                "keys-unique",
                "found-by-key",
                "paging",
                "count",
                "database-count",
                "context-urls",
                "metadata-levels",
                "json-lines",
                "expand-agrees",
                "error-unknown-property",
                "error-unknown-segment",
                "error-unknown-key",
                "error-unknown-set",
            ],
            report.Results.Select(r => r.Check)
        );
    }

    [Theory]
    [InlineData("service-document", "", "\"value\"", "\"values\"")]
    [InlineData("service-document", "", ",\"url\":\"Items\"", "")]
    [InlineData("documents-agree", "", "Items\",\"url", "Things\",\"url")]
    [InlineData("metadata-valid", "$metadata", "Nullable=\"false\"", "")]
    [InlineData("metadata-valid", "$metadata", "</edmx:Edmx>", "")]
    [InlineData("metadata-valid", "$metadata", "Edm.String", "Edm.Text")]
    [InlineData("set-answers", "Items", "\"value\"", "\"values\"")]
    [InlineData("values-fit", "Items", "\"a\"", "5")]
    [InlineData("values-fit", "Items", "\"a\"", "\"abcdef\"")]
    [InlineData("values-fit", "Items", ",\"name\":\"a\"", "")]
    [InlineData("keys-unique", "Items", "\"id\":2", "\"id\":1")]
    [InlineData("keys-unique", "Items?$skiptoken=2", "\"id\":3", "\"id\":2")] // a row repeated over pages
    [InlineData("found-by-key", "Items(2)", "\"id\":2", "\"id\":1")]
    [InlineData("paging", "Items?$skiptoken=2", "}]}", "}],\"@odata.nextLink\":\"Items?$skiptoken=2\"}")]
    [InlineData("paging", "Items?$select=id&$orderby=name desc", "{\"id\":1},", "")]
    [InlineData("paging", "Items?$select=id&$orderby=name desc", "{\"id\":1}", "{\"id\":3}")]
    [InlineData("paging", "Items?$select=id&$orderby=name desc", "{\"id\":1}", "{\"id\":9}")]
    [InlineData("context-urls", "Items", "#Items\"", "#Item\"")]
    [InlineData("context-urls", "Items(1)?$select=id", "(id)", "")]
    [InlineData("expand-agrees", "Items(2)?$expand=twin", "\"twin\":{\"id\":2", "\"twin\":{\"id\":1")]
    [InlineData("expand-agrees", "Items(2)?$expand=twin", ",\"twin\":{\"id\":2,\"name\":\"a\"}", "")]
    [InlineData("expand-agrees", "Items(2)/twin", "\"id\":2", "\"id\":1")]
    [InlineData("json-lines", "lines of Items?$top=3", "\"a\"", "\"b\"")]
    [InlineData("json-lines", "lines of Items?$top=3", "{\"id\":3,\"name\":\"c\"}\n", "")]
    [InlineData("json-lines", "lines of Items?$top=3", "{\"id\":1", "[{\"id\":1")]
    [InlineData("count", "Items/$count", "3", "4")]
    [InlineData("count", "Items/$count", "3", "{\"value\":3}")]
    public async Task A_wrong_body_is_found(string check, string target, string right, string wrong)
    {
        await using var responder = await FaultyResponder.StartAsync(
            (t, answer) => t == target ? (answer.Status, Spoiled(answer.Body, right, wrong)) : answer
        );
        Assert.Contains((await VerifyAsync(responder.Root)).Results, r => r.Check == check && r.Outcome == CheckOutcome.Failed);
    }

    private static string Spoiled(string body, string right, string wrong)
    {
        var index = body.IndexOf(right, StringComparison.Ordinal);
        Assert.True(index >= 0, $"'{right}' is not in {body}");
        return body[..index] + wrong + body[(index + right.Length)..];
    }

    [Theory]
    [InlineData("service-document", "", 500)]
    [InlineData("metadata-valid", "$metadata", 404)]
    [InlineData("set-answers", "Items", 500)]
    [InlineData("found-by-key", "Items(2)", 404)]
    [InlineData("paging", "Items?$skiptoken=2", 500)]
    [InlineData("paging", "Items?$select=id&$orderby=name desc", 501)]
    [InlineData("count", "Items/$count", 500)]
    [InlineData("error-unknown-property", "Items?$filter=No_such_property_here eq 1", 200)]
    [InlineData("error-unknown-segment", "Items(1)/No_such_property_here", 200)]
    [InlineData("error-unknown-key", "Items(-2147483641)", 200)]
    [InlineData("error-unknown-set", "No_such_set_here", 500)]
    public async Task A_wrong_status_is_found(string check, string target, int status)
    {
        await using var responder = await FaultyResponder.StartAsync((t, answer) => t == target ? (status, answer.Body) : answer);
        Assert.Contains((await VerifyAsync(responder.Root)).Results, r => r.Check == check && r.Outcome == CheckOutcome.Failed);
    }

    [Fact]
    public async Task A_wrong_error_body_is_found()
    {
        await using var responder = await FaultyResponder.StartAsync(
            (t, answer) => answer.Status >= 400 ? (answer.Status, "Not found") : answer
        );
        Assert.Equal(
            ["error-unknown-property", "error-unknown-segment", "error-unknown-key", "error-unknown-set"],
            (await VerifyAsync(responder.Root)).Results.Where(r => r.Outcome == CheckOutcome.Failed).Select(r => r.Check)
        );
    }

    [Fact]
    public async Task Rows_that_the_database_has_and_the_service_lacks_are_found()
    {
        await using var responder = await FaultyResponder.StartAsync((_, right) => right);
        Assert.Contains((await VerifyAsync(responder.Root, (_, _) => Task.FromResult<long?>(4))).Results, r =>
            r is { Check: "database-count", Outcome: CheckOutcome.Failed }
        );
    }

    [Fact]
    public async Task A_walk_that_was_cut_short_says_so()
    {
        await using var responder = await FaultyResponder.StartAsync((_, right) => right);
        Assert.Equal(
            ["paging", "count"],
            (await VerifyAsync(responder.Root, rows: 2)).Results.Where(r => r.Outcome == CheckOutcome.Skipped).Select(r => r.Check)
        );
    }

    [Fact]
    public async Task Nothing_at_the_address_is_a_failure()
    {
        var report = await VerifyAsync("http://127.0.0.1:1/nothing/");
        Assert.Equal(
            ["service-document", "metadata-valid"],
            report.Results.Where(r => r.Outcome == CheckOutcome.Failed).Select(r => r.Check)
        );
    }

    [Fact] // our own service, over all the awkward tables
    public async Task Our_own_service_passes()
    {
        using var folder = new TestWorkspace().WithSource().WithNetwork(3_000).WithService(NetworkFixture.AllSets);
        await using var http = await RunningService.StartAsync(folder.Folder);
        var report = await VerifyAsync(http.Address + "/odata/s/");
        Assert.All(report.Results, r => Assert.True(r.Outcome == CheckOutcome.Passed, $"{r.Subject} {r.Check}: {r.Message}"));
        Assert.True(report.Results.Length > 100);
    }
}
