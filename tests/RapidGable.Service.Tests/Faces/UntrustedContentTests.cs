using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Bytes that callers store are never a page of this origin, whatever they and their media type say.</summary>
[Trait("Category", "Attack")]
public sealed class UntrustedContentTests : IAsyncLifetime
{
    private const string Script = "<script>fetch('/manage/accounts')</script>";

    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
        .WithDatabase("CREATE TABLE picture (id INTEGER PRIMARY KEY, name TEXT, type TEXT, content BLOB)")
        .WithService(
            """
              - from: picture
                name: Pictures
                allow: [read, create, update]
                rules: { read: anyone, create: anyone, update: anyone }
                columns:
                  content: { stream: true, media-type-column: type }

            """
        );

    private RunningService _http = null!;

    public async Task InitializeAsync() => _http = await RunningService.StartAsync(_folder.Folder);

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    [Theory]
    [InlineData("text/html", true)]
    [InlineData("TEXT/HTML; charset=utf-8", true)]
    [InlineData("image/svg+xml", true)]
    [InlineData("Image/SVG+xml; x=y", true)]
    [InlineData("application/xhtml+xml", true)]
    [InlineData("text/xml", true)]
    [InlineData("application/pdf", true)]
    [InlineData("text/plain", true)]
    [InlineData("text/javascript", true)]
    [InlineData("", true)]
    [InlineData("nonsense", true)]
    [InlineData("image/png", false)]
    [InlineData("IMAGE/JPEG", false)]
    [InlineData("image/webp; q=1", false)]
    public async Task A_stream_is_saved_and_not_shown(string type, bool isSaved)
    {
        Store(type);
        foreach (
            var address in new[] { "/odata/s/Pictures(1)/content", "/odata/s/Pictures(1)/content/$value", "/rest/s/Pictures/1/content" }
        )
        {
            var answer = await _http.SendAsync(address);
            if (answer.Status is 404 or 406)
                continue;
            Assert.True(answer.Status == 200, $"{address}: {answer.Status} {answer.Text}");
            Assert.Equal("sandbox; default-src 'none'", answer.Header("Content-Security-Policy"));
            Assert.Equal("nosniff", answer.Header("X-Content-Type-Options"));
            Assert.Equal(isSaved ? "attachment" : null, answer.Header("Content-Disposition"));
            Assert.False(string.IsNullOrEmpty(answer.Header("Content-Type")));
        }
    }

    private void Store(string type)
    {
        _folder.WithDatabase("DELETE FROM picture");
        var content = Convert.ToHexString(System.Text.Encoding.UTF8.GetBytes(Script));
        _folder.WithDatabase($"INSERT INTO picture VALUES (1, '{Script.Replace("'", "''")}', '{type}', x'{content}')");
    }

    [Theory] // each kind of answer that a face gives, faults among them
    [InlineData("/odata/s/")]
    [InlineData("/odata/s/$metadata")]
    [InlineData("/odata/s/Pictures")]
    [InlineData("/odata/s/Pictures?$format=xml")]
    [InlineData("/odata/s/Pictures(1)/name/$value")]
    [InlineData("/odata/s/Pictures/$count")]
    [InlineData("/odata/s/openapi.json")]
    [InlineData("/rest/s/Pictures")]
    [InlineData("/rest/s/Pictures?format=xml")]
    [InlineData("/rest/s/Pictures?format=csv")]
    [InlineData("/rest/s/Pictures?format=jsonl")]
    [InlineData("/rest/s/openapi.json")]
    [InlineData("/rest/s/openapi.yaml")]
    [InlineData("/rest/s/rows.xsd")]
    [InlineData("/rest/s/Nothing<script>")]
    [InlineData("/odata/none/Pictures")]
    [InlineData("/manage/view?url=/rest/s/Pictures/1/content")]
    [InlineData("/manage/preview/rest/s/Pictures")]
    [InlineData("/manage/services")]
    [InlineData("/manage/nothing")]
    public async Task No_answer_is_a_page_that_runs_something(string address)
    {
        Store("text/html");
        var answer = await _http.SendAsync(address);
        Assert.NotEqual(500, answer.Status);
        var policy = answer.Header("Content-Security-Policy");
        Assert.True(
            policy?.Contains("default-src 'none'", StringComparison.Ordinal) == true || answer.Bytes.Length == 0,
            $"{address}: {policy}"
        );
        Assert.Equal("nosniff", answer.Header("X-Content-Type-Options"));
    }
}
