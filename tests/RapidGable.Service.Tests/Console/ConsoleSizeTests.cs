using System.Collections.Concurrent;
using System.Text;
using Microsoft.Playwright;
using RapidGable.Core.Tests;
using Xunit.Abstractions;

namespace RapidGable.Service.Tests;

/// <summary>The console over a database of 2,000 tables, of which 300 are published: requests, bytes and nodes of each page.</summary>
public sealed class ConsoleSizeTests(ITestOutputHelper output) : BrowserTests
{
    private const int Tables = 2_000;
    private const int Published = 300;

    private protected override void Fill(TestWorkspace folder)
    {
        var sql = new StringBuilder("BEGIN;");
        for (var i = 0; i < Tables; i++)
        {
            var refers = i % 10 == 0 ? "" : $", parent_id INTEGER REFERENCES table_{i - (i % 10)} (id)";
            sql.Append(
                $"CREATE TABLE table_{i} (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(40), day DATE, amount NUMERIC(9,2){refers});"
            );
        }
        sql.Append("COMMIT;");
        folder.WithSource().WithDatabase(sql.ToString());
        var sets = string.Concat(Enumerable.Range(0, Published).Select(i => $"  - table_{i}\n"));
        var rules = string.Concat(Enumerable.Range(0, 40).Select(i => $"      - {{ who: role-{i}, may: read, rows: id gt {i} }}\n"));
        folder.Write(
            "services/s.yaml",
            $"title: S\nsource: main\nrules: {{ read: anyone }}\nsets:\n{sets}  - from: table_400\n    rules:\n{rules}"
        );
    }

    /// <param name="requests">How many may be sent after the page's own files.</param>
    /// <param name="kilobytes">What may come over the wire for them.</param>
    /// <param name="nodes">What may stand in the document.</param>
    [Theory]
    [InlineData("", 6, 40, 1_500)]
    [InlineData("services", 5, 60, 1_000)]
    [InlineData("sources", 6, 160, 1_500)]
    [InlineData("services/s", 6, 260, 16_000)]
    [InlineData("design/s?set=table_7&tab=columns", 10, 260, 6_500)]
    [InlineData("design/s?set=table_400&tab=access", 12, 260, 12_000)]
    [InlineData("compose?method=GET&target=/rest/s/table_1", 8, 260, 1_500)]
    [InlineData("publishing", 8, 260, 6_000)]
    public async Task A_page_asks_and_shows_no_more_than_it_needs(string page, int requests, int kilobytes, int nodes)
    {
        // What came over the wire, compressed as it is, by the browser's own count.
        var asked = new ConcurrentDictionary<string, string>();
        var bytes = 0L;
        var devices = await Page.Context.NewCDPSessionAsync(Page);
        await devices.SendAsync("Network.enable");
        devices.Event("Network.requestWillBeSent").OnEvent += (_, told) =>
        {
            var url = told!.Value.GetProperty("request").GetProperty("url").GetString()!;
            if (url.Contains("/manage/", StringComparison.Ordinal))
                asked[told.Value.GetProperty("requestId").GetString()!] = url;
        };
        devices.Event("Network.loadingFinished").OnEvent += (_, told) =>
        {
            if (asked.ContainsKey(told!.Value.GetProperty("requestId").GetString()!))
                Interlocked.Add(ref bytes, (long)told.Value.GetProperty("encodedDataLength").GetDouble());
        };
        var clock = System.Diagnostics.Stopwatch.StartNew();
        await GoAsync(page);
        await Expect(Page.GetByRole(AriaRole.Heading, new() { Level = 2 })).ToBeVisibleAsync();
        await Page.WaitForLoadStateAsync(LoadState.NetworkIdle);
        var time = clock.Elapsed;
        var count = await Page.EvaluateAsync<int>("document.querySelectorAll('*').length");
        output.WriteLine($"/{page}: {asked.Count} requests, {bytes / 1024} KiB, {count} nodes, {time.TotalMilliseconds:0} ms");
        Assert.True(asked.Count <= requests, $"{asked.Count} requests: {string.Join('\n', asked.Values)}");
        Assert.True(bytes <= kilobytes * 1024, $"{bytes / 1024} KiB");
        Assert.True(count <= nodes, $"{count} nodes");
    }

    [Fact]
    public async Task Thousands_of_tables_are_searched_ticked_and_published()
    {
        await GoAsync("sources");
        var objects = Page.GetByRole(AriaRole.Navigation, new() { Name = "Objects of main" });
        await Expect(objects).ToContainTextAsync("2,000 of 2,000");
        var search = Page.GetByRole(AriaRole.Textbox, new() { Name = "Search tables, views and columns" });
        await search.FillAsync("table_199?");
        await Expect(objects).ToContainTextAsync("10 of 2,000");
        await search.FillAsync("table_19*");
        await Expect(objects).ToContainTextAsync("111 of 2,000");
        await search.FillAsync("table_4??");
        await Role(AriaRole.Checkbox, "All 100 found").CheckAsync();
        await Expect(Page.GetByText("100 ticked")).ToBeVisibleAsync();
        await Role(AriaRole.Button, "Publish …").ClickAsync();
        await Role(AriaRole.Combobox, "In the service").FillAsync("n");
        await Page.Keyboard.PressAsync("Escape");
        await Role(AriaRole.Button, "Show what is written").ClickAsync();
        await Expect(Page.GetByText("services/n.yaml: 100 added")).ToBeVisibleAsync();
        await Expect(Page.GetByRole(AriaRole.Table, new() { Name = "Sets that are added" }).Locator("tbody tr")).ToHaveCountAsync(100);
        await Role(AriaRole.Button, "Write").ClickAsync();
        await Expect(Role(AriaRole.Link, "Go on with its design")).ToBeVisibleAsync();
    }
}
