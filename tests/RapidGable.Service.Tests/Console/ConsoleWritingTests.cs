using Microsoft.Playwright;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Creating, changing and deleting in the console's data page, in a real browser.</summary>
public sealed class ConsoleWritingTests : BrowserTests
{
    private protected override void Fill(TestWorkspace folder) =>
        folder
            .WithSource()
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .WithNetwork(100)
            .Write(
                "services/s.yaml",
                """
                title: S
                source: main
                namespace: T
                rules: { read: anyone, create: anyone, update: anyone, delete: anyone, call: anyone }
                sets:
                  - { from: station, name: Stations, type: Station, hide: [photo] }
                  - { from: sensor, name: Sensors, type: Sensor }
                  - from: reading
                    name: Readings
                    caller-keys: true
                    type: Reading
                    allow: [read, create, update]
                    columns: { value: { measured-in: = Sensor/unit } }
                  - from: visit
                    name: Visits
                    type: Visit
                    allow: [read, create, update, delete]
                    version: version
                    require-version: true
                    columns:
                      purpose: { min-length: 3, message: Say what for. }
                    valid:
                      - { where: report eq null or done_at ne null, column: report, message: A report belongs to a visit that is done. }
                queries:
                  - name: NoteReport
                    description: Writes the report of a visit.
                    changes: true
                    gives: row
                    select: UPDATE visit SET report = :text, done_at = planned_for WHERE id = :id; SELECT v.id, v.report FROM visit v WHERE v.id = :id
                    parameters:
                      id: { type: int64, minimum: 1, example: 1 }
                      text: { type: string(60), min-length: 4, description: What was found }
                  - name: Forget
                    changes: true
                    gives: nothing
                    select: UPDATE visit SET report = NULL WHERE id = :id
                    parameters: { id: { type: int64, example: 1 } }
                """
            );

    [Fact]
    public async Task An_action_is_called_by_a_form()
    {
        await GoAsync("services/s?set=NoteReport");
        await Expect(Page.GetByText("may call: anyone")).ToBeVisibleAsync();
        await Expect(Page.GetByText("UPDATE visit SET report = :text")).ToBeVisibleAsync();
        await Role(AriaRole.Link, "Call it").ClickAsync();
        await Role(AriaRole.Textbox, "text").FillAsync("ok");
        await Role(AriaRole.Button, "Call").ClickAsync();
        // Rules are told beside the value, before anything is sent.
        await Expect(Page.GetByText("At least 4 characters")).ToBeVisibleAsync();
        await Role(AriaRole.Textbox, "text").FillAsync("All in order");
        await CheckPageAsync();
        await Role(AriaRole.Button, "Call").ClickAsync();
        await Expect(Page.GetByRole(AriaRole.Cell, new() { Name = "All in order" })).ToBeVisibleAsync();
        Assert.Contains("\"report\":\"All in order\"", (await Service.SendAsync("/odata/s/Visits(1)?$select=report")).Text);
        // The values are kept for the next time.
        await Page.ReloadAsync();
        await Expect(Role(AriaRole.Textbox, "text")).ToHaveValueAsync("All in order");
        // What the service refuses stands beside the value, too.
        await Role(AriaRole.Textbox, "id").FillAsync("99999999999999999999");
        await Role(AriaRole.Button, "Call").ClickAsync();
        await Expect(Page.GetByText("nothing has changed")).ToBeVisibleAsync();
        await GoAsync("services/s/Forget");
        await Role(AriaRole.Button, "Call").ClickAsync();
        await Expect(Page.GetByRole(AriaRole.Status).GetByText("Done")).ToBeVisibleAsync();
        Assert.Contains("\"report\":null", (await Service.SendAsync("/odata/s/Visits(1)?$select=report")).Text);
        Assert.Contains("400", Assert.Single(PageErrors));
    }

    private ILocator Dialog => Page.GetByRole(AriaRole.Dialog);

    private ILocator Field(string name) => Dialog.GetByLabel(name);

    private async Task OpenAsync(string filter)
    {
        await GoAsync("services/s/Visits?filter=" + Uri.EscapeDataString(filter));
        await Expect(Page.GetByText("Rows 1 to 1 of 1")).ToBeVisibleAsync();
        await Role(AriaRole.Button, "Edit row 1").ClickAsync();
        await Expect(Field("purpose")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task An_entity_is_created_changed_and_deleted()
    {
        await GoAsync("services/s/Visits");
        await Role(AriaRole.Button, "New entity").ClickAsync();
        // Rules are told as one types, and what is missing when one sends.
        await Field("purpose").FillAsync("Go");
        await Expect(Dialog.GetByText("Say what for.")).ToBeVisibleAsync();
        await Role(AriaRole.Button, "Create").ClickAsync();
        await Expect(Dialog.GetByText("This is needed.").First).ToBeVisibleAsync();
        // A related row is chosen by what people know it by.
        await Field("station_id").FillAsync("Ashford");
        await Page.GetByRole(AriaRole.Option, new() { Name = "Ashford Weir (1)" }).ClickAsync();
        await Field("planned_for").FillAsync("2024-05-01");
        await Field("purpose").FillAsync("Made in a browser");
        await Field("report").FillAsync("Too early");
        await CheckPageAsync();
        await Role(AriaRole.Button, "Create").ClickAsync();
        // The service is the judge: its fault stands at the field.
        await Expect(Dialog.GetByText("A report belongs to a visit that is done.")).ToBeVisibleAsync();
        await Field("report").FillAsync("");
        await Role(AriaRole.Button, "Create").ClickAsync();
        await Expect(Dialog).ToBeHiddenAsync();

        await OpenAsync("purpose eq 'Made in a browser'");
        await Expect(Field("station_id")).ToHaveValueAsync("Ashford Weir (1)");
        await Field("purpose").FillAsync("Changed in a browser");
        await Field("done_at").FillAsync("2024-05-02T10:15:30");
        await Role(AriaRole.Button, "Save").ClickAsync();
        await Expect(Dialog).ToBeHiddenAsync();
        Assert.Contains(
            "\"done_at\":\"2024-05-02T10:15:30Z\"",
            (await Service.SendAsync("/odata/s/Visits?$filter=purpose%20eq%20'Changed%20in%20a%20browser'")).Text
        );

        await OpenAsync("purpose eq 'Changed in a browser'");
        await Role(AriaRole.Button, "Delete …").ClickAsync();
        await Role(AriaRole.Button, "Delete").ClickAsync();
        await Expect(Dialog).ToBeHiddenAsync();
        await Expect(Page.GetByText("No row matches.")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task A_conflict_shows_both_versions()
    {
        await OpenAsync("id eq 3");
        await Field("purpose").FillAsync("Mine");
        Assert.Equal(204, (await Service.SendAsync("/odata/s/Visits(3)", "PATCH", """{"purpose":"Theirs"}""", ("If-Match", "*"))).Status);
        await Role(AriaRole.Button, "Save").ClickAsync();
        await Expect(Page.GetByRole(AriaRole.Table, new() { Name = "Both versions" })).ToContainTextAsync("TheirsMine");
        await CheckPageAsync();
        await Role(AriaRole.Button, "Write mine over it").ClickAsync();
        await Expect(Dialog).ToBeHiddenAsync();
        Assert.Contains("\"purpose\":\"Mine\"", (await Service.SendAsync("/odata/s/Visits(3)")).Text);

        await OpenAsync("id eq 3");
        await Field("purpose").FillAsync("Mine again");
        await Service.SendAsync("/odata/s/Visits(3)", "PATCH", """{"purpose":"Theirs again"}""", ("If-Match", "*"));
        await Role(AriaRole.Button, "Save").ClickAsync();
        await Role(AriaRole.Button, "Start again from theirs").ClickAsync();
        await Expect(Field("purpose")).ToHaveValueAsync("Theirs again");
    }

    [Fact]
    public async Task A_set_tells_what_its_rows_must_be()
    {
        await GoAsync("services/s?set=Visits");
        await Expect(Page.GetByText("Allows read, create, update, delete.")).ToBeVisibleAsync();
        await Expect(Page.GetByRole(AriaRole.Row, new() { Name = "purpose Edm.String" })).ToContainTextAsync("3 characters or more");
        await Expect(Page.GetByRole(AriaRole.Row, new() { Name = "report eq null or done_at ne null" }))
            .ToContainTextAsync("A report belongs to a visit that is done.");
        await CheckPageAsync();
    }

    [Fact] // a browser's own numbers would round them, and another row would be changed
    public async Task Numbers_stay_exact_and_stand_beside_their_unit()
    {
        Assert.Equal(
            201,
            (
                await Service.SendAsync(
                    "/odata/s/Readings",
                    "POST",
                    """{"id":9007199254740993,"station_id":1,"sensor_no":1,"taken_at":"2024-05-01T00:00:00Z","value":1.5}"""
                )
            ).Status
        );
        await GoAsync("services/s/Readings?filter=" + Uri.EscapeDataString("id eq 9007199254740993"));
        await Expect(Role(AriaRole.Region, "Rows of Readings")).ToContainTextAsync("9007199254740993");
        await Role(AriaRole.Button, "Edit row 1").ClickAsync();
        await Expect(Field("value")).ToHaveValueAsync("1.5");
        await Expect(Dialog.GetByText("m", new() { Exact = true })).ToBeVisibleAsync();
        await Field("value").FillAsync("1234567.8901");
        await Role(AriaRole.Button, "Save").ClickAsync();
        await Expect(Dialog).ToBeHiddenAsync();
        Assert.Contains("\"value\":1234567.8901", (await Service.SendAsync("/odata/s/Readings(9007199254740993)")).Text);
    }

    [Fact]
    public async Task What_is_only_read_offers_no_changes()
    {
        await GoAsync("services/s/Stations");
        await Expect(Page.GetByText("Rows 1 to 20 of 120")).ToBeVisibleAsync();
        await Expect(Role(AriaRole.Button, "New entity")).ToHaveCountAsync(0);
        await Expect(Role(AriaRole.Button, "Edit row 1")).ToHaveCountAsync(0);
    }

    [Fact]
    public async Task The_form_reads_well_in_the_dark()
    {
        await OpenAsync(ColorScheme.Dark);
        await OpenAsync("id eq 4");
        await Field("purpose").FillAsync("x");
        await Expect(Dialog.GetByText("Say what for.")).ToBeVisibleAsync();
        await CheckPageAsync();
    }
}
