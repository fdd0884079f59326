using System.Text;
using System.Text.RegularExpressions;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>
/// Bodies that nobody would send: good ones with pieces taken out, put in, and mixed. They are done or refused with a reason, never a
/// fault of ours and never half done.
/// </summary>
[Collection("writing")]
public sealed class MutatedBodiesTests(WritingFixture engines) : IAsyncLifetime
{
    private const string Root = "/odata/s/";

    private static readonly (string Method, string Target, string Body)[] Seeds =
    [
        (
            "POST",
            "Gauges",
            """{"code":"C","basin_id":1,"level":1.5,"opened":"2001-02-03","place":{"lat":5.5,"lon":-1},"sort":"Level","settings":{"rate":5,"limits":{"low":1.25}},"parts":[{"line":1,"title":"Mast"}],"tags":[{"id":5,"label":"five"}]}"""
        ),
        (
            "POST",
            "Gauges",
            """{"code":"D","basin":{"id":7,"name":"New","parent@odata.bind":"Basins(1)"},"tags@odata.bind":["Tags(1)","Tags(2)"],"@odata.type":"#W.Gauge"}"""
        ),
        ("PATCH", "Gauges('B')", """{"level":2.5,"online":false,"basin@odata.bind":"Basins(2)","place":{"lat":null}}"""),
        (
            "PATCH",
            "Gauges('A%2F1')",
            """{"parts":[{"line":1,"title":"Float"},{"line":7,"title":"New"}],"tags@delta":[{"id":9,"label":"nine"},{"@removed":{"reason":"changed"},"@id":"Tags(1)"}],"basin":{"@id":"Basins(2)"}}"""
        ),
        ("PUT", "Gauges('B')", """{"basin_id":2,"level":null}"""),
        ("PUT", "Gauges('B')/place", """{"lat":1.5,"lon":null}"""),
        ("PUT", "Gauges('B')/level", """{"value":12.5}"""),
        ("POST", "Gauges('B')/tags/$ref", """{"@odata.id":"Tags(2)"}"""),
        (
            "PATCH",
            "Tags",
            """{"@context":"#$delta","value":[{"id":2,"label":"changed"},{"id":8,"label":"eight"},{"@removed":{"reason":"deleted"},"@id":"Tags(2)"}]}"""
        ),
        ("PATCH", "Tags/$filter(@f)/$each?@f=id%20gt%201", """{"label":"each"}"""),
        ("POST", "Devices", """{"@odata.type":"#W.Echo","id":9,"label":"x","reach":5}"""),
        (
            "POST",
            "Kept",
            """{"small":-5,"large":9007199254740993,"amount":12.3456,"ratio":1.5e-7,"flag":true,"day":"2024-02-29","at":"2024-05-01T10:00:00.125+02:00","clock":"23:59:59.5","word":"it's \"so\" \u00e9","data":"AQID","uid":"11ec2020-3aea-4069-a2dd-08002b30309d"}"""
        ),
        (
            "POST",
            "$batch",
            """{"requests":[{"id":"1","atomicityGroup":"g","method":"POST","url":"Basins","headers":{"content-type":"application/json"},"body":{"id":8,"name":"Eight"}},{"id":"2","atomicityGroup":"g","method":"PATCH","url":"$1","headers":{"content-type":"application/json"},"body":{"parent_id":1}}]}"""
        ),
        (
            "POST",
            "$batch",
            """{"requests":[{"id":"1","method":"DELETE","url":"Tags(2)"},{"id":"2","method":"POST","url":"Tags","dependsOn":["1"],"headers":{"content-type":"application/json","odata-version":"4.01"},"body":{"id":6,"label":"six"}}]}"""
        ),
    ];

    private static readonly string[] Pieces =
    [
        "{",
        "}",
        "[",
        "]",
        ",",
        ":",
        "\"",
        "null",
        "true",
        "{}",
        "[]",
        "-",
        "0",
        "1e999",
        "1e5",
        "99999999999999999999",
        "\"\"",
        "\"@odata.id\":\"Basins(1)\",",
        "\"@removed\":{},",
        "@",
        "#",
        "$",
        "'",
        "\\u0000",
        "\\ud800",
        "\\",
        "é",
        "/*x*/",
        "\"id\":1,",
        "\"code\":\"B\",",
        "\"value\":[",
        "\"@odata.bind\":",
        "\"@context\":\"x\",",
        " ",
        "\n",
        ".5",
        "INF",
        "\"NaN\"",
        "\"nope\":1,",
        "Basins(1)",
        "/",
    ];

    private static readonly (string, string)[][] Headers =
    [
        [],
        [("OData-Version", "4.01")],
        [("OData-Version", "4.0")],
        [("Prefer", "continue-on-error")],
        [("Prefer", "return=representation")],
        [("If-Match", "W/\"1\"")],
        [("If-None-Match", "*")],
        [("OData-Version", "4.01"), ("Prefer", "return=representation, continue-on-error")],
        [("Content-Type", "application/json;IEEE754Compatible=true")],
    ];

    public Task InitializeAsync() => engines.ResetAsync();

    public Task DisposeAsync() => Task.CompletedTask;

    private static string Mutated(string body, Random random)
    {
        var text = new StringBuilder(body);
        for (var changes = random.Next(0, 4); changes > 0; changes--)
        {
            var at = random.Next(text.Length + 1);
            switch (random.Next(5))
            {
                case 0 when at < text.Length:
                    text.Remove(at, Math.Min(random.Next(1, 8), text.Length - at));
                    break;
                case 1:
                    var other = Seeds[random.Next(Seeds.Length)].Body;
                    var start = random.Next(other.Length);
                    text.Insert(at, other.AsSpan(start, random.Next(Math.Min(40, other.Length - start))));
                    break;
                case 2:
                    // A value in place of another, so that the body stays JSON.
                    var colon = text.ToString().IndexOf(':', Math.Min(at, text.Length - 1));
                    var end = colon < 0 ? -1 : text.ToString().IndexOfAny([',', '}'], colon);
                    if (end > 0)
                        text.Remove(colon + 1, end - colon - 1)
                            .Insert(
                                colon + 1,
                                new[] { "null", "true", "1", "-1.5", "\"x\"", "[]", "{}", "\"2024-01-01\"", "1e400", "\"\\u0000\"" }[
                                    random.Next(10)
                                ]
                            );
                    break;
                default:
                    text.Insert(at, Pieces[random.Next(Pieces.Length)]);
                    break;
            }
        }
        return text.ToString();
    }

    private static async Task<string> StateAsync(RunningService service)
    {
        var state = new StringBuilder();
        foreach (
            var target in new[]
            {
                "Basins?$orderby=id",
                "Gauges?$orderby=code&$expand=parts($orderby=line),tags($orderby=id)",
                "Tags?$orderby=id",
                "Devices?$orderby=id",
                "Kept?$orderby=id",
            }
        )
            state.AppendLine((await service.SendAsync(Root + target)).Text);
        return state.ToString();
    }

    [Theory]
    [InlineData(0, 1_200)]
    [InlineData(1, 500)]
    [InlineData(2, 500)]
    public async Task They_are_done_or_refused_with_a_reason(int engine, int count)
    {
        count *= Soak.Times;
        var service = engines.Services[engine];
        var random = new Random(engine + 3);
        var statuses = new Dictionary<int, int>();
        var before = await StateAsync(service);
        for (var n = 0; n < count; n++)
        {
            // Now and then everything is as it was, so that there is something to change.
            if (n % 50 == 49)
            {
                await engines.ResetAsync();
                before = await StateAsync(service);
            }
            var seed = Seeds[random.Next(Seeds.Length)];
            var body = Mutated(seed.Body, random);
            var answer = await service.SendAsync(Root + seed.Target, seed.Method, body, Headers[random.Next(Headers.Length)]);
            var said = $"{n}: {seed.Method} {seed.Target}\n{body}\n{answer.Status} {answer.Text}";
            statuses[answer.Status] = statuses.GetValueOrDefault(answer.Status) + 1;
            Assert.True(answer.Status is < 500 or 501, said);
            var after = await StateAsync(service);
            if (answer.Status >= 400)
            {
                Assert.NotEmpty(answer.Json.GetProperty("error").GetProperty("message").GetString()!);
                Assert.True(before == after, $"{said}\nbefore {before}\nafter {after}");
            }
            else if (seed.Target == "$batch")
                Assert.True(
                    answer.Json.GetProperty("responses").EnumerateArray().All(r => r.GetProperty("status").GetInt32() is < 500 or 501),
                    said
                );
            before = after;
        }
        Assert.True(
            statuses.Where(s => s.Key < 300).Sum(s => s.Value) > count / 8 && statuses.GetValueOrDefault(400) > count / 4,
            string.Join(", ", statuses)
        );
    }

    private const string Multipart = """
        --b
        Content-Type: multipart/mixed;boundary=c

        --c
        Content-Type: application/http
        Content-Transfer-Encoding: binary
        Content-ID: 1

        POST Basins HTTP/1.1
        Content-Type: application/json

        {"id":8,"name":"Eight"}
        --c
        Content-Type: application/http
        Content-ID: 2

        PATCH $1 HTTP/1.1
        Content-Type: application/json
        Prefer: return=representation

        {"parent_id":1}
        --c--
        --b
        Content-Type: application/http

        GET Basins(8)?$select=name HTTP/1.1
        Accept: application/json

        --b
        Content-Type: application/http

        DELETE Tags(2) HTTP/1.1

        --b--
        """;

    [Fact] // batches of the older form
    public async Task Mutated_parts_are_done_or_refused_with_a_reason()
    {
        var service = engines.Services[0];
        var random = new Random(8);
        var statuses = new Dictionary<int, int>();
        for (var n = 0; n < 300; n++)
        {
            if (n % 20 == 0)
                await engines.ResetAsync();
            var before = await StateAsync(service);
            var text = new StringBuilder(Multipart.ReplaceLineEndings(random.Next(8) == 0 ? "\n" : "\r\n"));
            for (var changes = random.Next(0, 3); changes > 0; changes--)
            {
                var at = random.Next(text.Length);
                _ = random.Next(3) switch
                {
                    0 => text.Remove(at, Math.Min(random.Next(1, 12), text.Length - at)),
                    1 => text.Insert(
                        at,
                        new[]
                        {
                            "\r\n",
                            "--b",
                            "--c--",
                            ":",
                            " ",
                            "\0",
                            "é",
                            "Content-Length: 5\r\n",
                            "HTTP/1.1",
                            "\r\n\r\n",
                            "Content-ID: 1\r\n",
                            "GET ",
                            "//",
                        }[random.Next(13)]
                    ),
                    _ => text.Insert(at, Multipart.AsSpan(random.Next(Multipart.Length - 30), 30)),
                };
            }
            var answer = await service.SendAsync(Root + "$batch", "POST", text.ToString(), ("Content-Type", "multipart/mixed;boundary=b"));
            var said = $"{n}:\n{text}\n{answer.Status} {answer.Text}";
            statuses[answer.Status] = statuses.GetValueOrDefault(answer.Status) + 1;
            Assert.True(answer.Status is < 500 or 501, said);
            if (answer.Status >= 400)
            {
                Assert.NotEmpty(answer.Json.GetProperty("error").GetProperty("message").GetString()!);
                Assert.True(before == await StateAsync(service), said);
            }
            else
                Assert.True(
                    Regex
                        .Matches(answer.Text, @"^HTTP/1\.1 (\d{3})", RegexOptions.Multiline)
                        .All(m => int.Parse(m.Groups[1].Value) is < 500 or 501),
                    said
                );
        }
        Assert.True(statuses.GetValueOrDefault(200) > 75 && statuses.GetValueOrDefault(400) > 35, string.Join(", ", statuses));
    }
}
