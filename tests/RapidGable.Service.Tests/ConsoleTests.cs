using Microsoft.Playwright;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The console in a real browser at 1280x800.</summary>
public sealed class ConsoleTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private readonly List<string> _errors = [];
    private RunningService _service = null!;
    private IPlaywright _playwright = null!;
    private IBrowser _browser = null!;
    private IPage _page = null!;

    public async Task InitializeAsync()
    {
        _folder.WithSource().WithNetwork(2_000).WithService(NetworkFixture.AllSets).Write("services/closed.yaml", "title: Closed\nsource: main\nsets: [station]\n");
        _service = await RunningService.StartAsync(_folder.Folder);
        _playwright = await Playwright.CreateAsync();
        _browser = await _playwright.Chromium.LaunchAsync(new BrowserTypeLaunchOptions
        {
            ExecutablePath = "/usr/bin/chromium",
            Args = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync"],
        });
        await OpenAsync(ColorScheme.Light);
    }

    public async Task DisposeAsync()
    {
        await _browser.DisposeAsync();
        _playwright.Dispose();
        await _service.DisposeAsync();
        _folder.Dispose();
    }

    private async Task OpenAsync(ColorScheme scheme)
    {
        var context = await _browser.NewContextAsync(new BrowserNewContextOptions { ViewportSize = new ViewportSize { Width = 1280, Height = 800 }, ColorScheme = scheme, Locale = "en-GB" });
        _page = await context.NewPageAsync();
        _page.SetDefaultTimeout(15_000);
        _page.Console += (_, message) =>
        {
            if (message.Type == "error")
                _errors.Add(message.Text);
        };
    }

    private Task GoAsync(string path) => _page.GotoAsync(_service.Address + "/console/" + path);

    private ILocator Role(AriaRole role, string name) => _page.GetByRole(role, new PageGetByRoleOptions { Name = name, Exact = true });

    private static ILocatorAssertions Expect(ILocator locator) => Assertions.Expect(locator);

    private async Task<string> ShownRequestAsync() => (await _page.GetByRole(AriaRole.Group, new() { Name = "Request" }).Locator("a").InnerTextAsync()).Trim();

    private ILocator Rows => _page.Locator("tbody tr");

    [Fact]
    public async Task Services_show_addresses_that_can_be_copied_and_followed()
    {
        await _page.Context.GrantPermissionsAsync(["clipboard-read", "clipboard-write"]);
        await _page.GotoAsync(_service.Address + "/");
        await Expect(_page).ToHaveURLAsync(_service.Address + "/console/");
        await Expect(Role(AriaRole.Heading, "Services")).ToBeVisibleAsync();
        await Expect(_page.GetByText("closed to callers")).ToBeVisibleAsync();
        await _page.GetByRole(AriaRole.Button, new() { Name = "Copy the address of the service document" }).Last.ClickAsync();
        Assert.Equal(_service.Address + "/odata/s/", await _page.EvaluateAsync<string>("navigator.clipboard.readText()"));
        await _page.GetByRole(AriaRole.Link, new() { Name = "Sets", Exact = true }).Last.ClickAsync();
        await Expect(Role(AriaRole.Heading, "Catchments")).ToBeVisibleAsync();
        Assert.Empty(_errors);
    }

    private static IPageAssertions Expect(IPage page) => Assertions.Expect(page);

    [Fact]
    public async Task A_set_shows_key_properties_and_relations()
    {
        await GoAsync("services/s?set=Sensors");
        await Expect(_page.GetByText("of type Sensor")).ToBeVisibleAsync();
        await Expect(_page.GetByLabel("part of the key")).ToHaveCountAsync(2);
        await Expect(_page.GetByText("Edm.String(12)")).ToBeVisibleAsync();
        await Expect(_page.GetByText("station_id = station_id, sensor_no = sensor_no")).ToBeVisibleAsync();
        await _page.GetByRole(AriaRole.Row).Filter(new() { HasText = "one of" }).GetByRole(AriaRole.Link, new() { Name = "Stations" }).ClickAsync();
        await Expect(_page.GetByText("Hidden columns: photo.")).ToBeVisibleAsync();
        Assert.Empty(_errors);
    }

    [Fact]
    public async Task Data_is_paged_sorted_and_filtered_by_the_service()
    {
        await GoAsync("services/s/Stations");
        await Expect(_page.GetByText("Rows 1 to 20 of 120")).ToBeVisibleAsync();
        await Role(AriaRole.Button, "Next page").ClickAsync();
        await Expect(_page.GetByText("Rows 21 to 40 of 120")).ToBeVisibleAsync();
        Assert.Contains("$skiptoken=", await ShownRequestAsync());
        await Role(AriaRole.Button, "Previous page").ClickAsync();
        await Expect(Rows.First).ToContainTextAsync("AB-001");

        await Role(AriaRole.Button, "code").ClickAsync();
        await Role(AriaRole.Button, "code").ClickAsync();
        await Expect(Rows.First).ToContainTextAsync("AB-120");
        await Expect(_page.GetByRole(AriaRole.Columnheader, new() { Name = "code" })).ToHaveAttributeAsync("aria-sort", "descending");

        await Role(AriaRole.Textbox, "Filter").FillAsync("contains(name,'Weir') and id lt 30");
        await _page.Keyboard.PressAsync("Enter");
        await Expect(_page.GetByText("Rows 1 to 1 of 1")).ToBeVisibleAsync();
        var request = await ShownRequestAsync();
        Assert.Contains("$filter=contains(name,'Weir')%20and%20id%20lt%2030", request);
        Assert.Contains("$orderby=code%20desc", request);
        // The request that is shown is the one that was sent: asked again, it gives the same rows.
        var rows = (await _service.SendAsync(request)).Json.GetProperty("value").EnumerateArray().Select(r => r.GetProperty("code").GetString()!).ToList();
        await Expect(Rows).ToHaveCountAsync(rows.Count);
        for (var i = 0; i < rows.Count; i++)
            await Expect(Rows.Nth(i)).ToContainTextAsync(rows[i]);
        Assert.Empty(_errors);
    }

    [Fact]
    public async Task A_search_finds_words_in_texts()
    {
        await GoAsync("services/s/Stations");
        await Role(AriaRole.Textbox, "Search").FillAsync("\"ashford weir\" NOT left");
        await _page.Keyboard.PressAsync("Enter");
        var expected = (await _service.SendAsync("/odata/s/Stations/$count?$search=%22ashford%20weir%22%20NOT%20left")).Text;
        await Expect(_page.GetByText($"of {expected}")).ToBeVisibleAsync();
        Assert.Contains("$search=%22ashford%20weir%22%20NOT%20left", await ShownRequestAsync());
        await Role(AriaRole.Textbox, "Search").FillAsync("(weir");
        await _page.Keyboard.PressAsync("Enter");
        await Expect(_page.GetByText("A parenthesis in $search is not closed.")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task A_condition_is_built_without_writing()
    {
        await GoAsync("services/s/Readings");
        await Role(AriaRole.Combobox, "Property").ClickAsync();
        await _page.GetByRole(AriaRole.Option, new() { Name = "quality" }).ClickAsync();
        await Role(AriaRole.Combobox, "Test").ClickAsync();
        await _page.GetByRole(AriaRole.Option, new() { Name = "is empty" }).ClickAsync();
        await Role(AriaRole.Button, "Add condition").ClickAsync();
        await Expect(Role(AriaRole.Textbox, "Filter")).ToHaveValueAsync("quality eq null");
        var expected = (await _service.SendAsync("/odata/s/Readings/$count?$filter=quality%20eq%20null")).Text;
        await Expect(_page.GetByText($"of {expected}")).ToBeVisibleAsync();
        Assert.Contains("$filter=quality%20eq%20null", await ShownRequestAsync());
    }

    [Fact]
    public async Task A_refusal_shows_the_place_and_an_empty_result_says_so()
    {
        await GoAsync("services/s/Stations?filter=nam%20eq%201");
        await Expect(_page.GetByRole(AriaRole.Alert)).ToContainTextAsync("'Station' has no property 'nam'. Did you mean 'name'?");
        await Expect(_page.GetByRole(AriaRole.Alert)).ToContainTextAsync("nam eq 1");
        await GoAsync("services/s/Stations?filter=id%20eq%200");
        await Expect(_page.GetByText("No row matches.")).ToBeVisibleAsync();
        await GoAsync("services/s/Absent");
        await Expect(_page.GetByText("There is no such entity set")).ToBeVisibleAsync();
        await GoAsync("services/absent");
        await Expect(_page.GetByRole(AriaRole.Alert)).ToContainTextAsync("There is no service 'absent'.");
    }

    [Fact]
    public async Task A_service_that_stops_is_noticed()
    {
        await GoAsync("services/s/Stations");
        await Expect(Rows.First).ToBeVisibleAsync();
        await _page.RouteAsync("**/odata/**", route => route.AbortAsync());
        await Role(AriaRole.Button, "code").ClickAsync();
        await Expect(_page.GetByRole(AriaRole.Alert)).ToContainTextAsync("The service does not answer.");
        await _page.UnrouteAllAsync();
        await Role(AriaRole.Button, "Try again").ClickAsync();
        await Expect(Rows.First).ToContainTextAsync("AB-001");
    }

    [Fact]
    public async Task Metadata_can_be_read_and_folded()
    {
        await GoAsync("services/s/metadata");
        await Expect(_page.GetByText("<EntityType").Or(_page.GetByText("EntityType")).First).ToBeVisibleAsync();
        await Role(AriaRole.Button, "Fold types").ClickAsync();
        await Expect(_page.Locator(".cm-foldPlaceholder").First).ToBeVisibleAsync();
        await Expect(_page.GetByText("area_km2")).ToHaveCountAsync(0);
        await Role(AriaRole.Button, "Unfold all").ClickAsync();
        await Expect(_page.Locator(".cm-foldPlaceholder")).ToHaveCountAsync(0);
        Assert.Empty(_errors);
    }

    [Fact]
    public async Task Everything_can_be_done_by_keyboard()
    {
        await GoAsync("services/s/Stations");
        await Expect(Rows.First).ToBeVisibleAsync();
        for (var i = 0; i < 40 && await _page.EvaluateAsync<string>("document.activeElement.textContent") != "name"; i++)
            await _page.Keyboard.PressAsync("Tab");
        await _page.Keyboard.PressAsync("Enter");
        await Expect(_page.GetByRole(AriaRole.Columnheader, new() { Name = "name", Exact = true })).ToHaveAttributeAsync("aria-sort", "ascending");
        for (var i = 0; i < 40 && await _page.EvaluateAsync<string>("document.activeElement.textContent") != "Next page"; i++)
            await _page.Keyboard.PressAsync("Tab");
        await _page.Keyboard.PressAsync("Enter");
        await Expect(_page.GetByText("Rows 21 to 40 of 120")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task A_source_is_searched_and_an_object_looked_at()
    {
        await GoAsync("sources");
        var objects = _page.GetByRole(AriaRole.Navigation, new() { Name = "Objects of main" });
        await Expect(objects.GetByRole(AriaRole.Link)).ToHaveCountAsync(18);
        await _page.GetByRole(AriaRole.Textbox, new() { Name = "Search tables, views and columns" }).FillAsync("technician_id");
        await Expect(objects.GetByRole(AriaRole.Link)).ToHaveCountAsync(2);
        await objects.GetByRole(AriaRole.Link).Filter(new() { HasText = "visit" }).ClickAsync();
        await Expect(Role(AriaRole.Heading, "visit")).ToBeVisibleAsync();
        await Expect(_page.GetByText("Primary key: id.")).ToBeVisibleAsync();
        await Expect(_page.GetByText("published as s/Visits")).ToBeVisibleAsync();
        await Expect(_page.GetByRole(AriaRole.Region, new() { Name = "Rows of visit" }).Locator("tbody tr")).ToHaveCountAsync(10);
        await _page.GetByRole(AriaRole.Link, new() { Name = "technician", Exact = true }).ClickAsync();
        await Expect(Role(AriaRole.Heading, "technician")).ToBeVisibleAsync();
        await _page.GetByRole(AriaRole.Textbox, new() { Name = "Search tables, views and columns" }).FillAsync("no such thing");
        await Expect(_page.GetByText("Nothing is called like “no such thing”.")).ToBeVisibleAsync();
        Assert.Empty(_errors);
    }

    [Theory]
    [InlineData("", ColorScheme.Light)]
    [InlineData("", ColorScheme.Dark)]
    [InlineData("sources", ColorScheme.Light)]
    [InlineData("sources?source=main&object=wide_form", ColorScheme.Dark)]
    [InlineData("services/s?set=wide_form", ColorScheme.Light)]
    [InlineData("services/s?set=Stations", ColorScheme.Dark)]
    [InlineData("services/s/wide_form", ColorScheme.Light)]
    [InlineData("services/s/Stations?orderby=closed_on%20desc", ColorScheme.Dark)]
    [InlineData("services/s/Stations?filter=nam%20eq%201", ColorScheme.Dark)]
    [InlineData("services/s/metadata", ColorScheme.Light)]
    public async Task A_page_fits_and_is_accessible(string path, ColorScheme scheme)
    {
        await OpenAsync(scheme);
        await GoAsync(path);
        await Expect(_page.GetByRole(AriaRole.Heading, new() { Level = 2 })).ToBeVisibleAsync();
        await _page.WaitForLoadStateAsync(LoadState.NetworkIdle);
        Assert.True(await _page.EvaluateAsync<bool>("document.documentElement.scrollWidth <= window.innerWidth"), "the page scrolls sideways");
        await _page.EvaluateAsync(await File.ReadAllTextAsync(Path.Combine(Gable.Root, "console/node_modules/axe-core/axe.min.js")));
        var violations = await _page.EvaluateAsync<string[]>("axe.run({ runOnly: ['wcag2a', 'wcag2aa'] }).then(r => r.violations.filter(v => v.impact !== 'minor').map(v => v.id + ': ' + v.nodes[0].html + ' ' + v.nodes[0].failureSummary))");
        Assert.True(violations.Length == 0, string.Join('\n', violations));
    }
}
