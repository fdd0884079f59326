using System.Text;
using RapidGable.Service.Hosting;

namespace RapidGable.Service.Tests;

/// <summary>Requests that are small and mean much, or fail where they should not, the same on every engine.</summary>
[Collection("writing")]
[Trait("Category", "Attack")]
public sealed class SealedRequestTests(WritingFixture engines) : IAsyncLifetime
{
    public Task InitializeAsync() => engines.ResetAsync();

    public Task DisposeAsync() => Task.CompletedTask;

    private static string Doubled(string first, string join, int times) =>
        string.Join(',', Enumerable.Range(1, times).Select(i => $"{string.Format(join, i == 1 ? first : $"x{i - 1}")} as x{i}"));

    // Each value names the one before twice.
    [Theory]
    [InlineData("/odata/s/Gauges?$compute=#&$select=code,x20", "level", "{0} add {0}")]
    [InlineData("/odata/s/Gauges?$compute=#&$filter=x20 gt 0", "level", "{0} add {0}")]
    [InlineData("/odata/s/Gauges?$compute=#&$orderby=x20", "level", "{0} add {0}")]
    [InlineData("/odata/s/Basins?$expand=Gauges($compute=#;$select=x20)", "level", "{0} add {0}")]
    [InlineData("/odata/s/Gauges?$apply=compute(#)", "level", "{0} add {0}")]
    [InlineData("/odata/s/Gauges?$compute=#&$select=x20", "code", "concat({0},{0})")]
    public async Task Values_that_name_others_do_not_grow_without_bound(string url, string first, string join)
    {
        var answer = await engines.SameAsync("GET", url.Replace("#", Doubled(first, join, 20)), null);
        Assert.True(answer.Status == 400 && answer.Text.Contains("\"code\":\"too-large\""), $"{answer.Status} {answer.Text}");
        var few = await engines.SameAsync("GET", url.Replace("#", Doubled(first, join, 3)).Replace("x20", "x3"), null);
        Assert.True(few.Status == 200, $"{few.Status} {few.Text}");
    }

    [Fact] // through the stages of $apply each value is a property of the one before
    public async Task Stages_do_not_grow_without_bound()
    {
        var stages = string.Join(
            '/',
            Enumerable
                .Range(1, 20)
                .Select(i => $"compute({(i == 1 ? "level" : $"x{i - 1}")} add {(i == 1 ? "level" : $"x{i - 1}")} as x{i})")
        );
        var answer = await engines.SameAsync("GET", $"/odata/s/Gauges?$apply={stages}", null);
        Assert.True(answer.Status == 400 && answer.Text.Contains("too-large"), $"{answer.Status} {answer.Text}");
    }

    [Theory]
    [InlineData(8, 200)]
    [InlineData(9, 400)]
    [InlineData(30, 400)]
    public async Task Conditions_over_related_entities_nest_so_deep(int depth, int status)
    {
        var condition = "v" + depth + "/id gt 0";
        for (var i = depth; i > 0; i--)
            condition = $"{(i == 1 ? "" : $"v{i - 1}/")}Branches/any(v{i}:{condition})";
        var answer = await engines.SameAsync("GET", $"/odata/s/Branches?$filter={condition}", null);
        Assert.True(answer.Status == status, $"{answer.Status} {answer.Text}");
    }

    [Theory]
    [InlineData("/odata/s/Notes?$filter=written add duration'P100000000D' gt 2024-01-01T00:00:00Z")]
    [InlineData("/odata/s/Gauges?$filter=opened sub duration'P5000000D' lt 2024-01-01")]
    public async Task Dates_beyond_what_an_engine_knows_are_the_callers_fault(string url)
    {
        foreach (var service in engines.Services)
        {
            await engines.RunAsync("UPDATE note SET written = '2024-05-01 10:00:00'");
            var answer = await service.SendAsync(url.Replace(" ", "%20"));
            Assert.True(answer.Status is 400 or 200, $"{answer.Status} {answer.Text}");
        }
    }

    private const string Inner =
        """{"requests":[{"id":"i","method":"POST","url":"Tags","headers":{"content-type":"application/json"},"body":{"id":77,"label":"inner"}}]}""";

    [Theory]
    [InlineData("")]
    [InlineData(",\"prefer\":\"respond-async\"")]
    [InlineData(",\"prefer\":\"respond-async, wait=5\"")]
    public async Task A_batch_holds_no_batch_in_whatever_form(string prefer)
    {
        foreach (var group in new[] { "", "\"atomicityGroup\":\"g\"," })
        {
            var batch =
                $$"""{"requests":[{"id":"1",{{group}}"method":"POST","url":"$batch","headers":{"content-type":"application/json"{{prefer}}},"body":{{Inner}}}]}""";
            foreach (var headers in new[] { Array.Empty<(string, string)>(), [("Prefer", "respond-async, wait=5")] })
            {
                var answer = await engines.SameAsync("POST", "/odata/s/$batch", batch, headers);
                Assert.True(
                    answer.Status == 200 && answer.Text.Contains("\"status\":400") && answer.Text.Contains("cannot contain another batch"),
                    $"{answer.Status} {answer.Text}"
                );
            }
        }
        var multipart =
            $"--b\r\nContent-Type: application/http\r\n\r\nPOST /odata/s/$batch HTTP/1.1\r\nContent-Type: "
            + $"application/json\r\nPrefer: respond-async\r\n\r\n{Inner}\r\n--b--\r\n";
        Assert.Contains(
            "400 Bad Request",
            (await engines.Services[0].SendAsync("/odata/s/$batch", "POST", multipart, ("Content-Type", "multipart/mixed;boundary=b"))).Text
        );
        Assert.Equal("0", (await engines.SameAsync("GET", "/odata/s/Tags/$count?$filter=id eq 77", null)).Text);
    }

    [Fact] // nothing of a group runs outside of its transaction: it reads what it has written, and nobody else does
    public async Task A_group_reads_in_its_own_transaction()
    {
        var batch = """
            {"requests":[
              {"id":"0","atomicityGroup":"g","method":"GET","url":"Tags/$count"},
              {"id":"1","atomicityGroup":"g","method":"POST","url":"Tags","headers":{"content-type":"application/json"},"body":{"id":78,"label":"mine"}},
              {"id":"2","atomicityGroup":"g","method":"GET","url":"Tags?$filter=id eq 78&$select=label"},
              {"id":"3","atomicityGroup":"g","method":"GET","url":"$all/W.Tag?$count=true&$top=1"},
              {"id":"4","atomicityGroup":"g","method":"POST","url":"Tags","headers":{"content-type":"application/json"},"body":{"id":78}}]}
            """;
        var good = batch.Replace("""{"id":78}}""", """{"id":79,"label":"more"}}""");
        var answer = await engines.SameAsync("POST", "/odata/s/$batch", good);
        var bodies = answer.Json.GetProperty("responses").EnumerateArray().Select(r => r.GetProperty("body").ToString()).ToList();
        Assert.Equal("2", bodies[0]);
        Assert.Contains("mine", bodies[2]);
        Assert.Contains("\"@odata.count\":3", bodies[3]);
        await engines.ResetAsync();
        Assert.DoesNotContain("\"status\":200", (await engines.SameAsync("POST", "/odata/s/$batch", batch)).Text);
        Assert.Equal("2", (await engines.SameAsync("GET", "/odata/s/Tags/$count", null)).Text);
    }

    // The change is made and told, whatever stands in the preferences.
    [Theory]
    [InlineData("respond-async, wait=5", null)]
    [InlineData("return=representation, before=é", "return=representation, before")]
    [InlineData("return=representation, before=\u0001", "return=representation, before")]
    [InlineData("return=minimal, x=#", "return=minimal")]
    [InlineData("return=representation, before=#", "return=representation, before")]
    public async Task After_a_commit_nothing_fails(string prefer, string? applied)
    {
        foreach (var service in engines.Services)
        {
            var body = """{"label":"changed"}""";
            var request =
                $"PATCH /odata/s/Tags(1) HTTP/1.1\r\nHost: {new Uri(service.Address).Authority}\r\nContent-Type: "
                + $"application/json\r\nContent-Length: {body.Length}\r\nPrefer: "
                + $"{prefer.Replace("#", new string('a', 20_000))}\r\nConnection: close\r\n\r\n{body}";
            var answer = await service.SendRawAsync(Encoding.UTF8.GetBytes(request));
            // A server may refuse a header that is none before anything is done.
            if (prefer.Contains('\u0001') && answer.StartsWith("HTTP/1.1 400"))
                continue;
            Assert.True(answer.StartsWith("HTTP/1.1 20"), answer[..Math.Min(300, answer.Length)]);
            Assert.DoesNotContain("aaaaaaaaaa", answer);
            if (applied is not null)
                Assert.Contains($"Preference-Applied: {applied}\r\n", answer);
            Assert.Contains("changed", (await service.SendAsync("/odata/s/Tags(1)")).Text);
        }
    }

    [Fact]
    public async Task What_cannot_be_understood_is_refused()
    {
        var service = engines.Services[0];
        var query = await service.SendRawAsync([
            .. Encoding.ASCII.GetBytes(
                $"POST /odata/s/Tags/$query HTTP/1.1\r\nHost: {new Uri(service.Address).Authority}\r\nContent-Type: "
                    + $"text/plain\r\nContent-Length: 22\r\nConnection: close\r\n\r\n$filter=label eq '"
            ),
            0xC3,
            0x28,
            .. "'\n"u8,
        ]);
        Assert.StartsWith("HTTP/1.1 400", query);
        Assert.Contains("\"encoding\"", query);
        Assert.Equal(501, (await engines.SameAsync("GET", "/odata/s/Tags", null, ("Range", "items=0-1"))).Status);
        var two = await engines.SameAsync(
            "PATCH",
            "/odata/s/Tags",
            """{"value":[{"@id":"Tags(1)","id":2,"label":"both"}]}""",
            ("OData-Version", "4.01")
        );
        Assert.True(two.Status == 400 && two.Text.Contains("contradiction"), $"{two.Status} {two.Text}");
    }

    [Theory]
    [InlineData("GET /odata/s/Tags%00 HTTP/1.1")]
    [InlineData("GET /odata/%00 HTTP/1.1")]
    [InlineData("NO REQUEST")]
    public async Task What_no_server_reads_is_told_in_our_words(string line)
    {
        foreach (var service in engines.Services.Take(1))
        {
            var answer = await service.SendRawAsync(
                Encoding.ASCII.GetBytes($"{line}\r\nHost: {new Uri(service.Address).Authority}\r\n\r\n")
            );
            Assert.StartsWith("HTTP/1.1 400 Bad Request\r\n", answer);
            var body = answer[(answer.IndexOf("\r\n\r\n", StringComparison.Ordinal) + 4)..];
            Assert.Equal(
                "request",
                System.Text.Json.JsonDocument.Parse(body).RootElement.GetProperty("error").GetProperty("code").GetString()
            );
            Assert.Equal(200, (await service.SendAsync("/odata/s/Tags")).Status);
        }
    }

    [Fact] // the same on a connection over which others were answered before
    public async Task What_no_server_reads_is_told_after_other_answers_too()
    {
        var service = engines.Services.First();
        var host = $"Host: {new Uri(service.Address).Authority}\r\n\r\n";
        var answer = await service.SendRawAsync(
            Encoding.ASCII.GetBytes($"GET /odata/s/Tags HTTP/1.1\r\n{host}GET /odata/s/Tags%00 HTTP/1.1\r\n{host}")
        );
        Assert.StartsWith("HTTP/1.1 200 OK\r\n", answer);
        Assert.Contains("HTTP/1.1 400 Bad Request\r\n", answer);
        Assert.EndsWith("holds what no address can.\"}}", answer);
    }

    [Fact] // bytes that somebody stored may look like an answer of the web server, wherever they are cut
    public async Task Stored_bytes_never_become_an_answer_of_their_own()
    {
        var forged = Encoding.ASCII.GetBytes("HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\nConnection: close\r\n\r\n");
        var pipe = new System.IO.Pipelines.Pipe();
        var writer = new UnreadableRequests.Writer(pipe.Writer);
        async Task<string> SentAsync()
        {
            forged.CopyTo(writer.GetSpan(4_096));
            writer.Advance(forged.Length);
            await writer.FlushAsync();
            var read = await pipe.Reader.ReadAsync();
            var text = Encoding.ASCII.GetString(System.Buffers.BuffersExtensions.ToArray(read.Buffer));
            pipe.Reader.AdvanceTo(read.Buffer.End);
            return text;
        }
        Assert.Contains("\"request\"", await SentAsync());
        writer.Begin();
        Assert.Equal(Encoding.ASCII.GetString(forged), await SentAsync());
        writer.End();
        Assert.Contains("\"request\"", await SentAsync());
    }
}
