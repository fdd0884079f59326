using Microsoft.Playwright;
using RapidGable.Core.Tests;
using RapidGable.Demo;

namespace RapidGable.Service.Tests;

/// <summary>The whole way in the console, from an empty workspace with a SQLite file.</summary>
public sealed class SqliteWalkTests : ConsoleWalkTests
{
    private protected override void Make(string sqliteFile) { }

    private protected override async Task ConnectAsync()
    {
        await ClickAsync(Page.GetByText("SQLite file"));
        await FillAsync(Role(AriaRole.Textbox, "Name"), "network");
        await FillAsync(Role(AriaRole.Combobox, "Database file"), "network.db");
        // The list of files covers what comes next.
        await PressAsync("Escape");
    }

    private protected override string Source => "engine: sqlite\nfile: network.db\n";
}

/// <summary>The whole way in the console, from an empty workspace with a PostgreSQL server whose password is kept encrypted.</summary>
public sealed class PostgresWalkTests(PostgresServer server) : ConsoleWalkTests, IClassFixture<PostgresServer>
{
    private string _database = "";

    private protected override Func<string, string?> Environment =>
        name => name == "GABLE_SECRETS_KEY" ? "0123456789abcdef0123456789abcdef" : null;

    private protected override void Make(string sqliteFile)
    {
        _database = server.CreateDatabaseAsync().GetAwaiter().GetResult();
        PostgresDatabase.Make(server.Connection(_database), sqliteFile);
    }

    private protected override async Task ConnectAsync()
    {
        await FillAsync(Role(AriaRole.Textbox, "Name"), "network");
        await FillAsync(Role(AriaRole.Textbox, "Port"), $"{server.Port}");
        await FillAsync(Role(AriaRole.Textbox, "Database"), _database);
        await FillAsync(Role(AriaRole.Textbox, "User"), "tester");
        await ClickAsync(Role(AriaRole.Combobox, "Password"));
        await ClickAsync(Role(AriaRole.Option, "kept here, encrypted"));
        await FillAsync(Role(AriaRole.Textbox, "Its value"), PostgresServer.Password);
    }

    private protected override string Source =>
        $$"""
            engine: postgresql
            host: "127.0.0.1"
            port: {{server.Port}}
            database: {{_database}}
            user: tester
            password: "${NETWORK_PASSWORD}"

            """;
}

/// <summary>
/// Connect, choose 12 tables and 2 views, name, key, relate, rule, publish, try and verify: no more than 60 clicks, chords and filled
/// fields, and the files are those that an experienced person would have written.
/// </summary>
public abstract class ConsoleWalkTests : BrowserTests
{
    private const int MostInteractions = 60;
    private string _path = "";
    private int _interactions;

    /// <summary>Makes the database, from a SQLite file with the same rows.</summary>
    private protected abstract void Make(string sqliteFile);

    /// <summary>Fills in what the form asks for.</summary>
    private protected abstract Task ConnectAsync();

    /// <summary>The file of the source as it must be.</summary>
    private protected abstract string Source { get; }

    private protected override void Fill(TestWorkspace folder)
    {
        folder.Write("workspace.yaml", "title: Walk\n");
        _path = folder.Folder;
        var file = Path.Combine(_path, "network.db");
        NetworkDatabase.Make(file, 23_000, _ => { });
        Make(file);
    }

    private protected Task ClickAsync(ILocator locator, params KeyboardModifier[] keys)
    {
        _interactions++;
        return locator.ClickAsync(new LocatorClickOptions { Modifiers = keys });
    }

    private protected Task FillAsync(ILocator locator, string text)
    {
        _interactions++;
        return locator.FillAsync(text);
    }

    private protected Task PressAsync(string keys)
    {
        _interactions++;
        return Page.Keyboard.PressAsync(keys);
    }

    /// <summary>A list opens, and one of it is taken.</summary>
    private async Task ChooseAsync(string list, string option)
    {
        await ClickAsync(Role(AriaRole.Combobox, list));
        await ClickAsync(Role(AriaRole.Option, option));
    }

    private string Written(string file) => File.ReadAllText(Path.Combine(_path, file));

    [Fact]
    public async Task From_a_connection_to_a_verified_service()
    {
        await ClickAsync(Role(AriaRole.Link, "Sources"));
        await ClickAsync(Role(AriaRole.Link, "Connect a database"));
        await ConnectAsync();
        await ClickAsync(Role(AriaRole.Button, "Test"));
        await Expect(Page.GetByText("18 objects on offer")).ToBeVisibleAsync();
        await CheckPageAsync();
        await ClickAsync(Role(AriaRole.Button, "Connect"));

        await ClickAsync(Role(AriaRole.Checkbox, "Tick alert_threshold"));
        await ClickAsync(Role(AriaRole.Checkbox, "Tick visit_task"), KeyboardModifier.Shift);
        await ClickAsync(Role(AriaRole.Checkbox, "Tick daily_summary"));
        await ClickAsync(Role(AriaRole.Checkbox, "Tick station_latest"));
        await Expect(Page.GetByText("14 ticked")).ToBeVisibleAsync();
        await ClickAsync(Role(AriaRole.Button, "Publish …"));
        await FillAsync(Role(AriaRole.Combobox, "In the service"), "water");
        await ClickAsync(Role(AriaRole.Button, "Show what is written"));
        await Expect(Page.GetByText("services/water.yaml: 14 added")).ToBeVisibleAsync();
        await ClickAsync(Role(AriaRole.Button, "Write"));
        await ClickAsync(Role(AriaRole.Link, "Go on with its design"));

        await DesignAsync();
        Assert.Equal(Source, Written("sources/network.yaml"));
        Assert.Equal(Service14, Written("services/water.yaml"));

        await ClickAsync(Role(AriaRole.Link, "Publishing"));
        await FillAsync(Role(AriaRole.Textbox, "Why"), "The first one");
        await ClickAsync(Page.GetByLabel("Draft").GetByRole(AriaRole.Button, new() { Name = "Publish", Exact = true }));
        await Expect(Page.GetByRole(AriaRole.Table, new() { Name = "Revisions" })).ToContainTextAsync("The first one");

        await ClickAsync(Page.GetByLabel("Workspace").GetByRole(AriaRole.Link, new() { Name = "Rivers", Exact = true }));
        await ClickAsync(Page.GetByLabel("Entity sets").GetByText("Stations", new() { Exact = true }));
        await ClickAsync(Role(AriaRole.Link, "Look at the data"));
        await Expect(Page.GetByRole(AriaRole.Table).First).ToContainTextAsync("AB-001");

        await ClickAsync(Role(AriaRole.Link, "Verify"));
        await ClickAsync(Role(AriaRole.Button, "Verify"));
        await Expect(Role(AriaRole.Heading, "Run 1")).ToBeVisibleAsync(new() { Timeout = 180_000 });
        await Expect(Page.GetByRole(AriaRole.Table, new() { Name = "Verifications" })).Not.ToContainTextAsync("failed");
        await CheckPageAsync();
        Assert.InRange(_interactions, 30, MostInteractions);
        Assert.Empty(PageErrors);
    }

    private async Task DesignAsync()
    {
        // What the service is called, and who may read it.
        await ClickAsync(Role(AriaRole.Button, "Service"));
        await FillAsync(Role(AriaRole.Textbox, "Title"), "Rivers");
        await ClickAsync(Role(AriaRole.Button, "Add a rule"));
        await Expect(Page.GetByLabel("Text of services/water.yaml")).ToContainTextAsync("who: signed-in");
        await FillAsync(Page.GetByLabel("Who, in rule 1").Locator("visible=true"), "anyone");
        await PressAsync("Enter");
        await Expect(Page.GetByLabel("Text of services/water.yaml")).ToContainTextAsync("who: anyone");

        // A name, a column that nobody sees, and one with a name of its own.
        var sets = Page.GetByLabel("Sets of the draft");
        await ClickAsync(sets.GetByText("station", new() { Exact = true }));
        await ClickAsync(Role(AriaRole.Tab, "Name and key"));
        await FillAsync(Role(AriaRole.Textbox, "Public name"), "Stations");
        await ClickAsync(Role(AriaRole.Tab, "Columns"));
        await ClickAsync(Role(AriaRole.Checkbox, "Show access_notes"));
        await FillAsync(Role(AriaRole.Textbox, "Public name of datum_m"), "datum");
        await PressAsync("Enter");
        await Expect(Page.GetByLabel("Text of services/water.yaml")).ToContainTextAsync("datum_m: datum");

        // A view gets its key, and a way to the table.
        await ClickAsync(sets.GetByText("station_latest", new() { Exact = true }));
        await ClickAsync(Role(AriaRole.Tab, "Name and key"));
        await ClickAsync(Role(AriaRole.Button, "Find keys"));
        await ClickAsync(Role(AriaRole.Button, "Take station_id"));
        await ClickAsync(Role(AriaRole.Tab, "Relations"));
        await FillAsync(Page.GetByLabel("New relation").GetByLabel("Name"), "station");
        await ChooseAsync("Leads to", "Stations");
        await ChooseAsync("Column of station_latest", "station_id");
        await ClickAsync(Role(AriaRole.Button, "Add"));
        await Expect(Page.GetByLabel("Text of services/water.yaml")).ToContainTextAsync("on: station_id");

        // Who is signed in may change visits.
        await ClickAsync(sets.GetByText("visit", new() { Exact = true }));
        await ClickAsync(Role(AriaRole.Tab, "Access"));
        await CheckPageAsync();
        await Expect(Page.GetByText("No faults.")).ToBeVisibleAsync();
        await PressAsync("Control+s");
        await Expect(Role(AriaRole.Button, "Write")).ToBeDisabledAsync();
    }

    /// <summary>What the draft wrote, with the names, the rule, the key and the relation that were chosen.</summary>
    private const string Service14 = """
        title: Rivers
        source: network
        rules:
          - { who: anyone, may: read }

        # Nobody may read anything until a rule says so. Uncomment to open the service to everyone:
        # rules:
        #   read: anyone

        # A table's name alone publishes it. 'gable show' prints all that is taken from the catalog.
        sets:
          - alert_threshold   # table, 5 columns, key id, refers to station
          - catchment   # table, 4 columns, key id, refers to catchment
          - certificate   # table, 3 columns, key code
          - group   # table, 5 columns, key id
          - from: import_log   # table, 3 columns, no key
            keyless: true   # no three columns identify a row, so it is read as a plain collection
          - reading   # table, 7 columns, key id, refers to sensor
          - sensor   # table, 7 columns, key station_id, sensor_no, refers to station
          - from: station   # table, 13 columns, key id, refers to catchment
            name: Stations
            hide: [access_notes]
            rename: { datum_m: datum }
          - from: technician   # table, 5 columns, key id
            hide: [email]   # it looks personal
          - technician_certificate   # table, 4 columns, key technician_id, certificate_code, refers to technician, certificate
          - visit   # table, 8 columns, key id, refers to station, technician
          - visit_task   # table, 5 columns, key visit_id, line_no, refers to visit
          - from: daily_summary   # view, 7 columns, no key in the catalog
            key: [station_id, sensor_no, day]   # identifies each of 462 rows; see 'gable keys' for others
          - from: station_latest   # view, 7 columns, no key in the catalog
            key: station_id   # identifies each of 120 rows; see 'gable keys' for others
            relations: { station: { to: Stations, on: station_id } }

        """;
}
