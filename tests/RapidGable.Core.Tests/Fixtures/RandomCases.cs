using System.Text;
using System.Text.Json.Nodes;
using CsCheck;
using RapidGable.Access;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Core.Tests;

/// <summary>Asks a service random questions and compares with what the evaluator says.</summary>
internal static class RandomCases
{
    /// <param name="maxPage">Rows of a page, whose next links are followed; null = all in one.</param>
    public static async Task QueriesAsync(PublishedService service, MemorySet set, int cases, int? maxPage = null, bool fixedCases = false)
    {
        var queries = new List<(string Url, string Expected)>();
        RandomQuery
            .For(set, 3)
            .Sample(
                q =>
                {
                    lock (queries)
                        queries.Add(($"{set.Name}?{q.Text("&")}", q.Collection("value", set.Rows).ToJsonString()));
                },
                iter: fixedCases ? cases : cases * Soak.Times,
                threads: 1
            );
        foreach (var (url, expected) in queries)
        {
            var body = await AllAsync(service, url, maxPage);
            Assert.True(JsonNode.DeepEquals(JsonNode.Parse(expected), body), $"{url}\nexpected {expected}\nfound    {body.ToJsonString()}");
        }
    }

    public static async Task AggregatesAsync(PublishedService service, MemorySet set, int cases, bool fixedCases = false)
    {
        var queries = new List<RandomApply>();
        RandomApply
            .For(set)
            .Sample(
                a =>
                {
                    lock (queries)
                        queries.Add(a);
                },
                iter: fixedCases ? cases : cases * Soak.Times,
                threads: 1
            );
        foreach (var query in queries)
        {
            var url = $"{set.Name}?$apply={query.Text}";
            var (expected, rows) = (
                RandomApply.Shown(query.Answer),
                RandomApply.Shown((await AllAsync(service, url, null))["value"]!.AsArray().Select(r => RandomApply.Flat(r!.AsObject())))
            );
            Assert.True(expected.SequenceEqual(rows), $"{url}\nexpected\n{string.Join('\n', expected)}\nfound\n{string.Join('\n', rows)}");
        }
    }

    /// <summary>The whole answer: every next link is followed, also those of related entities.</summary>
    private static async Task<JsonObject> AllAsync(PublishedService service, string url, int? maxPage)
    {
        var page = await PageAsync(service, url, maxPage);
        var rows = page["value"]!.AsArray();
        if (page.Remove("@odata.nextLink", out var next))
        {
            Assert.Equal(maxPage, rows.Count);
            foreach (var row in (await AllAsync(service, next!.GetValue<string>(), maxPage))["value"]!.AsArray().ToList())
                rows.Add(row!.DeepClone());
        }
        foreach (var row in rows)
            await CompleteAsync(service, row, maxPage);
        return page;
    }

    private static async Task CompleteAsync(PublishedService service, JsonNode? node, int? maxPage)
    {
        if (node is JsonArray array)
        {
            foreach (var item in array)
                await CompleteAsync(service, item, maxPage);
        }
        if (node is not JsonObject entity)
            return;
        foreach (var name in entity.Select(p => p.Key).ToList())
        {
            if (!name.EndsWith("@odata.nextLink", StringComparison.Ordinal) || !entity.Remove(name, out var link))
                continue;
            foreach (var row in (await AllAsync(service, link!.GetValue<string>(), maxPage))["value"]!.AsArray().ToList())
                entity[name[..^"@odata.nextLink".Length]]!.AsArray().Add(row!.DeepClone());
        }
        foreach (var (_, value) in entity)
            await CompleteAsync(service, value, maxPage);
    }

    private static async Task<JsonObject> PageAsync(PublishedService service, string url, int? maxPage)
    {
        url = url.Replace("http://x/", "").Replace(" ", "%20");
        var address = RequestAddress.Read(url.Split('?')[0], url.Contains('?') ? url[(url.IndexOf('?') + 1)..] : "");
        Assert.True(address.Fault is null, $"{url}: {address.Fault?.Message}");
        var lexed = LexedRequest.Read(address.Value!);
        Assert.True(lexed.Fault is null, $"{url}: {lexed.Fault?.Message}");
        var prepared = service.Prepare(lexed.Value!, Caller.Anonymous);
        Assert.True(prepared.Fault is null, $"{url}: {prepared.Fault?.Message}");
        var values = QueryValues.Make(prepared.Value!.Request, lexed.Value!, maxPage, DateTime.UnixEpoch).Value!;
        // Twice, since servers keep what they made of a statement.
        await using (var first = (await QueryRun.StartAsync(prepared.Value, values, CancellationToken.None)).Value!)
            Assert.True(first.ParentExists);
        await using var run = (await QueryRun.StartAsync(prepared.Value, values, CancellationToken.None)).Value!;
        var bytes = new MemoryStream();
        using var output = new PayloadOutput(
            (b, _) =>
            {
                bytes.Write(b.Span);
                return default;
            }
        );
        await ODataJsonWriter
            .For(prepared.Value, new PayloadFormat(ODataVersion.V40, MetadataLevel.None, false))
            .WriteAsync(run, new LinkBuilder("http://x/", lexed.Value!), output, CancellationToken.None);
        return JsonNode.Parse(Encoding.UTF8.GetString(bytes.ToArray()))!.AsObject();
    }
}
