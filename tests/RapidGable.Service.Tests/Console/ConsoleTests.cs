using Microsoft.Playwright;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The console's pages about services, sets and sources.</summary>
public sealed class ConsoleTests : BrowserTests
{
    private protected override void Fill(TestWorkspace folder) =>
        folder
            .WithSource()
            .WithNetwork(2_000)
            .WithService(NetworkFixture.AllSets)
            .Write("services/closed.yaml", "title: Closed\nsource: main\nsets: [station]\n")
            .Write("services/asked.yaml", Asked);

    private const string Asked = """
        source: main
        rules: { read: anyone }
        queries:
          - name: StationsFrom
            description: Stations whose code is at least another.
            select: SELECT s.id, s.code, s.name FROM station s WHERE s.code >= :code AND s.id <= :most
            parameters:
              code: { type: string(12), example: AB-010, description: The first code }
              most: { type: int32, default: 120, minimum: 1 }
            key: id
          - name: StationCount
            gives: value
            select: SELECT COUNT(*) AS stations FROM station s WHERE s.code >= :code
            parameters: { code: { type: string, example: AB-101 } }
        """;

    [Fact]
    public async Task A_query_is_called_by_a_form_that_remembers()
    {
        await GoAsync("services/asked?set=StationsFrom");
        await Expect(Page.GetByText("WHERE s.code >= :code")).ToBeVisibleAsync();
        await Role(AriaRole.Link, "Call it").ClickAsync();
        // It starts with the example.
        await Expect(Page.GetByText("Rows 1 to 20 of 111")).ToBeVisibleAsync();
        await Role(AriaRole.Textbox, "code").FillAsync("AB-100");
        await Role(AriaRole.Textbox, "most").FillAsync("many");
        await Expect(Role(AriaRole.Button, "Call")).ToBeDisabledAsync();
        await Role(AriaRole.Textbox, "most").FillAsync("0");
        await Role(AriaRole.Button, "Call").ClickAsync();
        await Expect(Page.GetByText("'most' is less than 1")).ToBeVisibleAsync();
        await Role(AriaRole.Textbox, "most").FillAsync("");
        await Role(AriaRole.Button, "Call").ClickAsync();
        await Expect(Page.GetByText("Rows 1 to 20 of 21")).ToBeVisibleAsync();
        Assert.Contains("StationsFrom(code='AB-100')", await ShownRequestAsync());
        await Role(AriaRole.Button, "name").ClickAsync();
        await Expect(Page.GetByRole(AriaRole.Columnheader, new() { Name = "name" })).ToHaveAttributeAsync("aria-sort", "ascending");
        await Role(AriaRole.Button, "Show the statement and its plan").ClickAsync();
        await Expect(Page.GetByText("?1 = 'AB-100'").First).ToBeVisibleAsync();
        await Page.ReloadAsync();
        await Expect(Role(AriaRole.Textbox, "code")).ToHaveValueAsync("AB-100");
        await GoAsync("services/asked/StationCount");
        await Expect(Page.GetByLabel("Value of StationCount")).ToHaveTextAsync("20");
        // The refused call alone.
        Assert.Contains("400", Assert.Single(PageErrors));
    }

    private async Task<string> ShownRequestAsync() =>
        (await Page.GetByRole(AriaRole.Group, new() { Name = "Request" }).Locator("a").InnerTextAsync()).Trim();

    private ILocator Rows => Page.Locator("tbody tr");

    [Fact]
    public async Task Services_show_addresses_that_can_be_copied_and_followed()
    {
        await Page.Context.GrantPermissionsAsync(["clipboard-read", "clipboard-write"]);
        await Page.GotoAsync(Service.Address + "/");
        await Expect(Page).ToHaveURLAsync(Service.Address + "/console/");
        await Expect(Role(AriaRole.Heading, "Overview")).ToBeVisibleAsync();
        await Page.GetByRole(AriaRole.Navigation).GetByRole(AriaRole.Link, new() { Name = "Services", Exact = true }).ClickAsync();
        await Expect(Role(AriaRole.Heading, "Services")).ToBeVisibleAsync();
        await Expect(Page.GetByText("not open to anyone")).ToBeVisibleAsync();
        await Page.GetByRole(AriaRole.Button, new() { Name = "Copy the address of the service document" }).Last.ClickAsync();
        Assert.Equal(Service.Address + "/odata/s/", await Page.EvaluateAsync<string>("navigator.clipboard.readText()"));
        await Page.GetByRole(AriaRole.Link, new() { Name = "Sets", Exact = true }).Last.ClickAsync();
        await Expect(Role(AriaRole.Heading, "Catchments")).ToBeVisibleAsync();
        Assert.Empty(PageErrors);
    }

    [Fact]
    public async Task A_set_shows_key_properties_and_relations()
    {
        await GoAsync("services/s?set=Sensors");
        await Expect(Page.GetByText("of type Sensor")).ToBeVisibleAsync();
        await Expect(Page.GetByLabel("part of the key")).ToHaveCountAsync(2);
        await Expect(Page.GetByText("Edm.String(12)")).ToBeVisibleAsync();
        await Expect(Page.GetByText("station_id = station_id, sensor_no = sensor_no")).ToBeVisibleAsync();
        await Page.GetByRole(AriaRole.Row)
            .Filter(new() { HasText = "one of" })
            .GetByRole(AriaRole.Link, new() { Name = "Stations" })
            .ClickAsync();
        await Expect(Page.GetByText("Hidden columns: photo.")).ToBeVisibleAsync();
        Assert.Empty(PageErrors);
    }

    [Fact]
    public async Task Data_isPaged_sorted_and_filtered_by_theService()
    {
        await GoAsync("services/s/Stations");
        await Expect(Page.GetByText("Rows 1 to 20 of 120")).ToBeVisibleAsync();
        await Role(AriaRole.Button, "Next page").ClickAsync();
        await Expect(Page.GetByText("Rows 21 to 40 of 120")).ToBeVisibleAsync();
        Assert.Contains("$skiptoken=", await ShownRequestAsync());
        await Role(AriaRole.Button, "Previous page").ClickAsync();
        await Expect(Rows.First).ToContainTextAsync("AB-001");

        await Role(AriaRole.Button, "code").ClickAsync();
        // A second click turns the order that is shown.
        await Expect(Page.GetByRole(AriaRole.Columnheader, new() { Name = "code" })).ToHaveAttributeAsync("aria-sort", "ascending");
        await Role(AriaRole.Button, "code").ClickAsync();
        await Expect(Rows.First).ToContainTextAsync("AB-120");
        await Expect(Page.GetByRole(AriaRole.Columnheader, new() { Name = "code" })).ToHaveAttributeAsync("aria-sort", "descending");

        await Role(AriaRole.Textbox, "Filter").FillAsync("contains(name,'Weir') and id lt 30");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Page.GetByText("Rows 1 to 1 of 1")).ToBeVisibleAsync();
        var request = await ShownRequestAsync();
        Assert.Contains("$filter=contains(name,'Weir')%20and%20id%20lt%2030", request);
        // Each condition is a chip of its own, to be changed or taken away.
        await Role(AriaRole.Button, "id lt 30").ClickAsync();
        await Role(AriaRole.Textbox, "Condition").FillAsync("id lt 31");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Role(AriaRole.Button, "id lt 31")).ToBeVisibleAsync();
        await Role(AriaRole.Button, "Remove id lt 31").ClickAsync();
        await Expect(Role(AriaRole.Button, "id lt 31")).ToBeHiddenAsync();
        await Role(AriaRole.Textbox, "Filter").FillAsync("id lt 30");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Page.GetByText("Rows 1 to 1 of 1")).ToBeVisibleAsync();
        Assert.Contains("$orderby=code%20desc", request);
        // The request that is shown is the one that was sent: asked again, it gives the same rows.
        var rows = (await Service.SendAsync(request))
            .Json.GetProperty("value")
            .EnumerateArray()
            .Select(r => r.GetProperty("code").GetString()!)
            .ToList();
        await Expect(Rows).ToHaveCountAsync(rows.Count);
        for (var i = 0; i < rows.Count; i++)
            await Expect(Rows.Nth(i)).ToContainTextAsync(rows[i]);
        Assert.Empty(PageErrors);
    }

    [Fact]
    public async Task A_list_is_saved_as_JSON_Lines()
    {
        await GoAsync("services/s/Stations?filter=id%20lt%2070&select=code");
        var saved = await Page.RunAndWaitForDownloadAsync(() => Role(AriaRole.Button, "Save as JSON Lines").ClickAsync());
        Assert.Equal("Stations.jsonl", saved.SuggestedFilename);
        var lines = await File.ReadAllLinesAsync((await saved.PathAsync())!);
        // More than a page of the service, and no line about the list.
        Assert.Equal(Enumerable.Range(1, 69).Select(n => $"{{\"code\":\"AB-{n:000}\"}}"), lines);
        Assert.Empty(PageErrors);
    }

    [Fact]
    public async Task A_search_finds_words_in_texts()
    {
        await GoAsync("services/s/Stations");
        await Role(AriaRole.Textbox, "Search").FillAsync("\"ashford weir\" NOT left");
        await Page.Keyboard.PressAsync("Enter");
        var expected = (await Service.SendAsync("/odata/s/Stations/$count?$search=%22ashford%20weir%22%20NOT%20left")).Text;
        await Expect(Page.GetByText($"of {expected}")).ToBeVisibleAsync();
        Assert.Contains("$search=%22ashford%20weir%22%20NOT%20left", await ShownRequestAsync());
        await Role(AriaRole.Textbox, "Search").FillAsync("(weir");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Page.GetByText("A parenthesis in $search is not closed.")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task A_condition_is_built_without_writing()
    {
        await GoAsync("services/s/Readings");
        await Role(AriaRole.Button, "Build a condition").ClickAsync();
        await Role(AriaRole.Combobox, "Property").ClickAsync();
        await Page.GetByRole(AriaRole.Option, new() { Name = "quality" }).ClickAsync();
        await Role(AriaRole.Combobox, "Test").ClickAsync();
        await Page.GetByRole(AriaRole.Option, new() { Name = "is empty" }).ClickAsync();
        await Role(AriaRole.Button, "Add condition").ClickAsync();
        await Expect(Role(AriaRole.Button, "quality eq null")).ToBeVisibleAsync();
        var expected = (await Service.SendAsync("/odata/s/Readings/$count?$filter=quality%20eq%20null")).Text;
        await Expect(Page.GetByText($"of {expected}")).ToBeVisibleAsync();
        Assert.Contains("$filter=quality%20eq%20null", await ShownRequestAsync());
    }

    [Fact]
    public async Task A_refusal_shows_the_place_and_an_empty_result_says_so()
    {
        await GoAsync("services/s/Stations?filter=nam%20eq%201");
        await Expect(Page.GetByRole(AriaRole.Alert)).ToContainTextAsync("'Station' has no property 'nam'. Did you mean 'name'?");
        await Expect(Page.GetByRole(AriaRole.Alert)).ToContainTextAsync("nam eq 1");
        await GoAsync("services/s/Stations?filter=id%20eq%200");
        await Expect(Page.GetByText("No row matches.")).ToBeVisibleAsync();
        await GoAsync("services/s/Absent");
        await Expect(Page.GetByText("There is no such entity set")).ToBeVisibleAsync();
        await GoAsync("services/absent");
        await Expect(Page.GetByRole(AriaRole.Alert)).ToContainTextAsync("There is no service 'absent'.");
    }

    [Fact]
    public async Task AService_that_stops_is_noticed()
    {
        await GoAsync("services/s/Stations");
        await Expect(Rows.First).ToBeVisibleAsync();
        await Page.RouteAsync("**/odata/**", route => route.AbortAsync());
        await Role(AriaRole.Button, "code").ClickAsync();
        await Expect(Page.GetByRole(AriaRole.Alert)).ToContainTextAsync("The service does not answer.");
        await Page.UnrouteAllAsync();
        await Role(AriaRole.Button, "Try again").ClickAsync();
        await Expect(Rows.First).ToContainTextAsync("AB-001");
    }

    [Fact]
    public async Task Metadata_can_be_read_and_folded()
    {
        await GoAsync("services/s/metadata");
        await Expect(Page.GetByText("<EntityType").Or(Page.GetByText("EntityType")).First).ToBeVisibleAsync();
        await Role(AriaRole.Button, "Fold types").ClickAsync();
        await Expect(Page.Locator(".cm-foldPlaceholder").First).ToBeVisibleAsync();
        await Expect(Page.GetByText("area_km2")).ToHaveCountAsync(0);
        await Role(AriaRole.Button, "Unfold all").ClickAsync();
        await Expect(Page.Locator(".cm-foldPlaceholder")).ToHaveCountAsync(0);
        // The documents of the other faces are read the same way.
        await Page.GetByText("REST, OpenAPI").ClickAsync();
        await Expect(Role(AriaRole.Textbox, "Metadata document")).ToContainTextAsync("\"openapi\"");
        await Role(AriaRole.Button, "Fold all").ClickAsync();
        await Expect(Page.Locator(".cm-foldPlaceholder").First).ToBeVisibleAsync();
        await CheckPageAsync();
        Assert.Empty(PageErrors);
    }

    [Fact]
    public async Task Everything_can_be_done_by_keyboard()
    {
        await GoAsync("services/s/Stations");
        await Expect(Rows.First).ToBeVisibleAsync();
        for (var i = 0; i < 40 && await Page.EvaluateAsync<string>("document.activeElement.textContent") != "name"; i++)
            await Page.Keyboard.PressAsync("Tab");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Page.GetByRole(AriaRole.Columnheader, new() { Name = "name", Exact = true }))
            .ToHaveAttributeAsync("aria-sort", "ascending");
        for (var i = 0; i < 40 && await Page.EvaluateAsync<string>("document.activeElement.textContent") != "Next page"; i++)
            await Page.Keyboard.PressAsync("Tab");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Page.GetByText("Rows 21 to 40 of 120")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task A_source_is_searched_and_an_object_looked_at()
    {
        await GoAsync("sources");
        var objects = Page.GetByRole(AriaRole.Navigation, new() { Name = "Objects of main" });
        await Expect(objects.GetByRole(AriaRole.Link)).ToHaveCountAsync(18);
        await Page.GetByRole(AriaRole.Textbox, new() { Name = "Search tables, views and columns" }).FillAsync("technician_id");
        await Expect(objects.GetByRole(AriaRole.Link)).ToHaveCountAsync(2);
        await objects.GetByRole(AriaRole.Link).Filter(new() { HasText = "visit" }).ClickAsync();
        await Expect(Role(AriaRole.Heading, "visit")).ToBeVisibleAsync();
        await Expect(Page.GetByText("Primary key: id.")).ToBeVisibleAsync();
        await Expect(Page.GetByText("published as s/Visits")).ToBeVisibleAsync();
        await Expect(Page.GetByRole(AriaRole.Region, new() { Name = "Rows of visit" }).Locator("tbody tr")).ToHaveCountAsync(10);
        await Page.GetByRole(AriaRole.Link, new() { Name = "technician", Exact = true }).ClickAsync();
        await Expect(Role(AriaRole.Heading, "technician")).ToBeVisibleAsync();
        await Page.GetByRole(AriaRole.Textbox, new() { Name = "Search tables, views and columns" }).FillAsync("no such thing");
        await Expect(Page.GetByText("Nothing is called like “no such thing”.")).ToBeVisibleAsync();
        Assert.Empty(PageErrors);
    }

    [Theory]
    [InlineData("", ColorScheme.Light)]
    [InlineData("", ColorScheme.Dark)]
    [InlineData("services", ColorScheme.Light)]
    [InlineData("services", ColorScheme.Dark)]
    [InlineData("compose", ColorScheme.Light)]
    [InlineData("compose", ColorScheme.Dark)]
    [InlineData("sources?source=main&object=station&tab=relations", ColorScheme.Light)]
    [InlineData("sources?source=main&object=station&tab=relations", ColorScheme.Dark)]
    [InlineData("sources?source=main&object=station&tab=rows", ColorScheme.Dark)]
    [InlineData("sources", ColorScheme.Light)]
    [InlineData("sources?source=main&object=wide_form", ColorScheme.Dark)]
    [InlineData("services/s?set=wide_form", ColorScheme.Light)]
    [InlineData("services/s?set=Stations", ColorScheme.Dark)]
    [InlineData("services/s/wide_form", ColorScheme.Light)]
    [InlineData("services/s/Stations?orderby=closed_on%20desc", ColorScheme.Dark)]
    [InlineData("services/s/Stations?filter=nam%20eq%201", ColorScheme.Dark)]
    [InlineData("services/s/metadata", ColorScheme.Light)]
    public async Task APage_fits_and_is_accessible(string path, ColorScheme scheme)
    {
        await OpenAsync(scheme);
        await GoAsync(path);
        await Expect(Page.GetByRole(AriaRole.Heading, new() { Level = 2 })).ToBeVisibleAsync();
        await CheckPageAsync();
    }
}
