using Microsoft.Playwright;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The console sends requests that are put together, and tells how the service is doing.</summary>
public sealed class ConsoleComposeTests : BrowserTests
{
    private string _path = "";

    private protected override void Fill(TestWorkspace folder)
    {
        folder
            .WithSource()
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .WithNetwork(30)
            .Write(
                "services/s.yaml",
                """
                title: Rivers
                source: main
                rules:
                  read: anyone
                sets:
                  - { from: station, name: Stations }
                  - from: technician
                    name: Technicians
                    allow: [read, create]
                    rules:
                      - { who: office, may: [read, create] }

                """
            );
        _path = folder.Folder;
    }

    private const string Zoe =
        """{"id": "0d9b3f5e-6c1a-4e8b-9f42-7a5c8d2e1b30", "full_name": "Zoe Marsh", "email": "zoe@alder.example", "region": "north"}""";

    private ILocator Address => Role(AriaRole.Textbox, "Address");

    private ILocator Answer => Page.GetByRole(AriaRole.Region, new() { Name = "Answer", Exact = true });

    [Fact]
    public async Task Forms_and_address_are_one_and_the_answer_shows_what_is_behind_it()
    {
        await GoAsync("compose?method=GET&target=/rest/s/Stations");
        await Role(AriaRole.Textbox, "Rows").FillAsync("2");
        await Role(AriaRole.Textbox, "Order").FillAsync("-name");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Address).ToHaveValueAsync("/rest/s/Stations?limit=2&sort=-name");
        await Address.FillAsync("/rest/s/Stations?limit=3&sort=-name");
        await Expect(Role(AriaRole.Textbox, "Rows")).ToHaveValueAsync("3");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Answer).ToContainTextAsync("200 done");
        await Role(AriaRole.Tab, "Table").ClickAsync();
        await Expect(Answer.Locator("tbody tr")).ToHaveCountAsync(3);
        await Page.GetByRole(AriaRole.Tab, new() { NameRegex = new("^Statements") }).ClickAsync();
        await Expect(Answer).ToContainTextAsync("ORDER BY");
        await Page.GetByRole(AriaRole.Tab, new() { NameRegex = new("^Rules") }).ClickAsync();
        await Expect(Answer).ToContainTextAsync("gives all rows");
        await CheckPageAsync();
        // The address of the page says all of it.
        await Page.ReloadAsync();
        await Expect(Address).ToHaveValueAsync("/rest/s/Stations?limit=3&sort=-name");
        Assert.Empty(PageErrors);
    }

    [Fact]
    public async Task The_service_document_is_walked_by_its_links()
    {
        await GoAsync("compose?method=GET&target=/odata/s/");
        await Role(AriaRole.Button, "Send").ClickAsync();
        await Answer.GetByRole(AriaRole.Button, new() { Name = "\"Stations\"" }).ClickAsync();
        await Expect(Address).ToHaveValueAsync("/odata/s/Stations");
        await Role(AriaRole.Tab, "Table").ClickAsync();
        await Expect(Answer).ToContainTextAsync("Ashford Weir");
    }

    [Fact]
    public async Task A_change_is_sent_as_somebody_and_kept_as_a_request()
    {
        await GoAsync("compose?method=GET&target=/rest/s/Technicians");
        await Role(AriaRole.Button, "Send").ClickAsync();
        await Expect(Answer).ToContainTextAsync("refused");
        await Role(AriaRole.Combobox, "Method").ClickAsync();
        await Role(AriaRole.Option, "POST").ClickAsync();
        await Role(AriaRole.Button, "Fill the body").ClickAsync();
        await Role(AriaRole.Textbox, "Body").FillAsync(Zoe);
        await Role(AriaRole.Combobox, "Caller").FillAsync("office");
        await Page.Keyboard.PressAsync("Escape");
        // It is tried, and then sent for real.
        await Role(AriaRole.Button, "Try, and undo").ClickAsync();
        await Expect(Answer).ToContainTextAsync("tried and undone");
        await Role(AriaRole.Checkbox, "For real").CheckAsync();
        await Role(AriaRole.Button, "Send, and change data").ClickAsync();
        await Expect(Answer).Not.ToContainTextAsync("tried and undone");
        await Expect(Answer).ToContainTextAsync("as office");
        await Page.GetByRole(AriaRole.Tab, new() { NameRegex = new("^Statements") }).ClickAsync();
        await Expect(Answer).ToContainTextAsync("INSERT");
        await Role(AriaRole.Button, "Keep …").ClickAsync();
        await Role(AriaRole.Textbox, "Name").FillAsync("new-technician");
        await Role(AriaRole.Textbox, "Comment").FillAsync("When somebody joins.");
        await CheckPageAsync();
        await Role(AriaRole.Button, "Keep").ClickAsync();
        await Expect(Role(AriaRole.Link, "Open it among the requests")).ToBeVisibleAsync();
        var kept = await File.ReadAllTextAsync(Path.Combine(_path, "requests/s.http"));
        Assert.Contains(
            "# When somebody joins.\n# @name new-technician\n# @as office\n# @expect status 201\nPOST {{host}}/rest/s/Technicians\n",
            kept
        );
        Assert.Contains("Content-Type: application/json\n", kept);
    }

    [Fact]
    public async Task The_overview_counts_what_is_asked()
    {
        for (var i = 0; i < 3; i++)
            Assert.Equal(200, (await Service.SendAsync("/rest/s/Stations")).Status);
        Assert.Equal(400, (await Service.SendAsync("/rest/s/Stations?limit=x")).Status);
        await GoAsync("");
        var services = Page.GetByRole(AriaRole.Table, new() { Name = "Services" });
        var requests = services.GetByRole(AriaRole.Row).Nth(1).GetByRole(AriaRole.Cell);
        await Expect(requests.Nth(2)).ToHaveTextAsync("4");
        await Expect(requests.Nth(3)).ToHaveTextAsync("1");
        await Expect(Page.GetByRole(AriaRole.Table, new() { Name = "Sets that took most of the time" })).ToContainTextAsync("s/Stations");
        await Expect(Page.GetByRole(AriaRole.Table, new() { Name = "Databases" })).ToContainTextAsync("answers");
        // It is live: another request shows without a touch.
        await Service.SendAsync("/rest/s/Stations");
        await Expect(requests.Nth(2)).ToHaveTextAsync("5");
        await CheckPageAsync();
        await Page.SetViewportSizeAsync(390, 800);
        await CheckPageAsync();
    }

    [Theory] // a page says that the database is away, and goes on when it is back
    [InlineData("sources?source=main&object=station&tab=rows", "cannot be read")]
    [InlineData("sources?source=main&object=station&tab=definition", "cannot be read")]
    [InlineData("services/s/Stations", "")]
    [InlineData("design/s?set=Stations&tab=rows", "")]
    [InlineData("", "does not answer")]
    public async Task A_source_that_goes_away_is_told_on_each_page(string page, string told)
    {
        // The file is there, and no database any more. It is the same file, since sessions that are open keep theirs.
        var file = Path.Combine(_path, "data.db");
        var kept = await File.ReadAllBytesAsync(file);
        await GoAsync("verify");
        await Expect(Page.GetByRole(AriaRole.Heading, new() { Level = 2 })).ToBeVisibleAsync();
        await File.WriteAllTextAsync(file, new string('x', 4096));
        await GoAsync(page);
        await Expect(Page.GetByRole(AriaRole.Alert).First).ToBeVisibleAsync();
        if (told.Length > 0)
            await Expect(Page.GetByText(told).First).ToBeVisibleAsync();
        await Expect(Page.GetByRole(AriaRole.Heading, new() { Level = 2 })).ToBeVisibleAsync();
        await CheckPageAsync();
        await File.WriteAllBytesAsync(file, kept);
        if (await Role(AriaRole.Button, "Try again").CountAsync() > 0)
            await Role(AriaRole.Button, "Try again").First.ClickAsync();
        await Expect(Page.GetByRole(AriaRole.Alert)).ToHaveCountAsync(0);
    }
}
