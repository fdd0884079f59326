using System.Text;
using RapidGable.Core.Tests;
using RapidGable.Verification;

namespace RapidGable.Service.Tests;

/// <summary>Verification of the plain REST face passes what is right, and each check fires when its one thing is wrong.</summary>
public sealed class RestVerifierTests : IAsyncLifetime
{
    private static readonly string[] AlwaysSkipped = ["getTwinOfItem"];

    private readonly TestWorkspace _folder = new();
    private RunningService _service = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .WithDatabase(
                """
                CREATE TABLE item (id INTEGER PRIMARY KEY, name VARCHAR(5) NOT NULL, weight DOUBLE, twin_id INTEGER REFERENCES item);
                CREATE TABLE secret (id INTEGER PRIMARY KEY);
                INSERT INTO item VALUES (1, 'a', 1.5, NULL), (2, 'b', NULL, 1), (3, 'c', 2.5, 1);
                """
            )
            .Write(
                "services/s.yaml",
                """
                title: S
                source: main
                namespace: T
                rules: { read: anyone }
                sets:
                  - { from: item, name: Items, type: Item, page: 2, largest-page: 2, relations: { twin: { to: Items, on: twin_id, back: twins } } }
                  - { from: secret, name: Secrets, rules: { read: nobody } }
                """
            );
        _service = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _service.DisposeAsync();
        _folder.Dispose();
    }

    /// <summary>Asks the real service, and spoils what it answers.</summary>
    private sealed class SpoilingProbe(IRestProbe real, Func<string, RestResponse, RestResponse> spoil) : IRestProbe
    {
        public async Task<RestResponse> SendAsync(
            string method,
            string url,
            IReadOnlyList<(string Name, string Value)> headers,
            (string Type, string Text)? content,
            CancellationToken cancellation
        )
        {
            var format = headers.Where(h => h.Name == "Accept").Select(h => h.Value + " ").FirstOrDefault("");
            return spoil(format + url, await real.SendAsync(method, url, headers, content, cancellation));
        }
    }

    private async Task<ServiceReport> VerifyAsync(Func<string, RestResponse, RestResponse> spoil)
    {
        using var client = new HttpClient();
        var options = new RestVerificationOptions(
            "S",
            _service.Address + "/rest/s/",
            new Dictionary<string, string> { ["Items"] = _service.Address + "/odata/s/Items" },
            ["Secrets"],
            100_000
        );
        return await RestVerifier.VerifyAsync(new SpoilingProbe(new RestProbe(client), spoil), options, CancellationToken.None);
    }

    [Fact]
    public async Task A_service_that_is_right_passes()
    {
        var report = await VerifyAsync((_, right) => right);
        Assert.All(report.Results, r =>
            Assert.True(r.Outcome == (AlwaysSkipped.Contains(r.Subject) ? CheckOutcome.Skipped : CheckOutcome.Passed), $"{r}")
        );
        Assert.Equal(
            ["rest-absent", "rest-answers", "rest-csv", "rest-formats", "rest-openapi", "rest-pages", "rest-same-as-odata", "rest-values"],
            report.Results.Select(r => r.Check).Distinct().Order(StringComparer.Ordinal)
        );
    }

    [Theory]
    [InlineData("rest-openapi", "openapi.json", "\"getItem\"", "\"listItems\"")]
    [InlineData("rest-openapi", "openapi.json", "\"#/components/schemas/ItemList\"", "\"#/components/schemas/Nothing\"")]
    [InlineData("rest-values", "Items?format=json&limit=200", "\"a\"", "5")]
    [InlineData("rest-values", "Items?format=json&limit=200", "\"a\"", "\"abcdef\"")]
    [InlineData("rest-values", "Items?format=json&limit=200", "\"name\":\"a\"", "\"name\":null")]
    [InlineData("rest-values", "Items?format=json&limit=200", "\"name\":\"a\",", "")]
    [InlineData("rest-values", "Items?format=json&limit=200", "\"weight\":1.5", "\"weight\":\"heavy\"")]
    [InlineData("rest-pages", "Items?format=json&total=true&limit=1000", "{\"id\":2,\"name\":\"b\",\"weight\":null,\"twin_id\":1}", "")]
    [InlineData("rest-pages", "after=", "\"id\":3,\"name\":\"c\",\"weight\":2.5", "\"id\":2,\"name\":\"b\",\"weight\":null")]
    [InlineData("rest-same-as-odata", "/odata/s/Items", "\"name\":\"b\"", "\"name\":\"x\"")]
    [InlineData("rest-same-as-odata", "/odata/s/Items", "{\"id\":1,\"name\":\"a\",\"weight\":1.5,\"twin_id\":null},", "")]
    [InlineData("rest-csv", "Items?format=csv", "1.5", "1.50")]
    [InlineData("rest-csv", "Items?format=csv", "2,b,,1\r\n", "")]
    [InlineData("rest-formats", "Items?format=jsonl", "\"name\":\"b\"", "\"name\":\"x\"")]
    [InlineData("rest-formats", "Items?format=xml", "<Item>", "<Item/><Item>")]
    [InlineData("rest-formats", "Items?format=xlsx", "PK", "XX")]
    [InlineData("rest-answers", "openapi.json", "\"406\"", "\"407\"")]
    [InlineData("rest-answers", "image/png", "\"status\":406", "\"status\":400")]
    [InlineData("rest-absent", "/rest/s/Secrets", "There is no", "There is a")]
    public async Task Each_check_fires(string check, string url, string right, string wrong)
    {
        var isHit = false;
        var report = await VerifyAsync(
            (asked, answer) =>
            {
                if (!asked.Contains(url, StringComparison.Ordinal))
                    return answer;
                var text = Encoding.Latin1.GetString(answer.Body);
                isHit |= text.Contains(right, StringComparison.Ordinal);
                return answer with
                {
                    Body = Encoding.Latin1.GetBytes(text.Replace(right, wrong, StringComparison.Ordinal).Replace(",]", "]")),
                };
            }
        );
        Assert.True(isHit, "Nothing was spoiled.");
        Assert.Contains(report.Results, r => r.Check == check && r.Outcome == CheckOutcome.Failed);
    }

    [Fact]
    public async Task A_link_that_is_missing_is_found()
    {
        var report = await VerifyAsync(
            (asked, answer) =>
                asked.Contains("format=csv", StringComparison.Ordinal)
                    ? answer with
                    {
                        Headers = answer.Headers.Where(h => h.Key != "Link").ToDictionary(),
                    }
                    : answer
        );
        Assert.Contains(report.Results, r => r is { Check: "rest-formats", Outcome: CheckOutcome.Failed });
    }

    [Fact]
    public async Task An_answer_that_never_comes_is_found()
    {
        var report = await VerifyAsync((asked, answer) => answer.Status == 304 ? answer with { Status = 200 } : answer);
        Assert.Contains(report.Results, r => r is { Check: "rest-answers", Outcome: CheckOutcome.Failed } && r.Message.Contains("304"));
    }
}
