using Microsoft.Playwright;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The forms of a service: forms and text follow each other, several people change it, and odd names are only names.</summary>
public sealed class ConsoleDesignTests : BrowserTests
{
    private const string Markup = "<img src=x onerror=document.title='bad'>";
    private const string RightToLeft = "\u05e0\u05d4\u05e8";
    private string _path = "";

    private protected override void Fill(TestWorkspace folder)
    {
        var wide = string.Join(", ", Enumerable.Range(1, 200).Select(i => $"c{i} INTEGER"));
        folder
            .WithSource()
            .WithDatabase(
                $"""
                CREATE TABLE river (id INTEGER NOT NULL PRIMARY KEY, name TEXT, "it's" TEXT, "{Markup}" TEXT, "{RightToLeft}" TEXT);
                CREATE TABLE wide (id INTEGER NOT NULL PRIMARY KEY, {wide});
                CREATE TABLE gauge (id INTEGER NOT NULL PRIMARY KEY, river_id INTEGER REFERENCES river (id), opened TEXT, kind TEXT);
                INSERT INTO gauge VALUES (1, 1, '01.05.2024', 'level'), (2, 9, '31.12.2024', 'flow'), (3, NULL, NULL, 'flow');
                INSERT INTO river VALUES (1, 'Alder', 'a', '{Markup.Replace("'", "''")}', 'x'), (2, 'Birch', 'b', 'c', 'y');
                """
            )
            .Write(
                "services/s.yaml",
                """
                title: S
                source: main
                rules:
                  read: anyone

                sets:
                  # The rivers.
                  - from: river
                    name: Rivers
                    rules:
                      - { who: office, may: read }   # all of them
                      - { who: field, may: read, rows: name eq 'Alder', largest-page: 7 }
                  - wide
                  - gauge

                """
            );
        _path = Path.Combine(folder.Folder, "services/s.yaml");
    }

    private ILocator Text => Page.GetByLabel("Text of services/s.yaml");

    [Fact]
    public async Task Forms_and_text_follow_each_other_and_share_one_undo()
    {
        await GoAsync("design/s?set=Rivers&tab=columns");
        await Role(AriaRole.Checkbox, "Show it's").UncheckAsync();
        await Expect(Text).ToContainTextAsync("hide: [\"it's\"]");
        await Role(AriaRole.Textbox, "Public name of name").FillAsync("title");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Text).ToContainTextAsync("rename: { name: title }");
        await CheckPageAsync();
        await Role(AriaRole.Button, "Undo").ClickAsync();
        await Expect(Text).Not.ToContainTextAsync("rename");
        await Expect(Role(AriaRole.Textbox, "Public name of name")).ToHaveValueAsync("");
        await Role(AriaRole.Button, "Undo").ClickAsync();
        await Expect(Role(AriaRole.Checkbox, "Show it's")).ToBeCheckedAsync();
        await Role(AriaRole.Button, "Redo").ClickAsync();
        await Expect(Role(AriaRole.Checkbox, "Show it's")).Not.ToBeCheckedAsync();
        // What is typed into the text shows in the forms.
        await Text.ClickAsync();
        await Page.Keyboard.PressAsync("Control+End");
        await Page.Keyboard.TypeAsync("  - { from: river, name: Brooks }");
        await Expect(Page.GetByLabel("Sets of the draft").GetByText("Brooks")).ToBeVisibleAsync();
        // A text that says nothing any more leaves the forms and tells why.
        await Page.Keyboard.TypeAsync(" [");
        await Expect(Page.GetByLabel("Findings")).ToContainTextAsync("fault");
        await Expect(Page.GetByLabel("Sets of the draft").GetByText("Brooks")).ToBeVisibleAsync();
        Assert.Empty(PageErrors);
    }

    [Fact]
    public async Task A_rule_is_changed_in_its_row_and_tried_at_once()
    {
        await GoAsync("design/s?set=Rivers&tab=access");
        await Role(AriaRole.Combobox, "Caller").FillAsync("field");
        var rows = Page.GetByLabel("Rows of Rivers as a caller sees them");
        await Expect(rows).ToContainTextAsync("1 row, the first 1");
        await Role(AriaRole.Combobox, "Rows, in rule 2").FillAsync("id gt 0");
        await Page.Keyboard.PressAsync("Enter");
        // Words that the form does not show stay.
        await Expect(Text).ToContainTextAsync("rows: id gt 0, largest-page: 7");
        await Expect(Text).ToContainTextAsync("# all of them");
        await Expect(rows).ToContainTextAsync("2 rows, the first 2");
        await CheckPageAsync();
        await OpenAsync(ColorScheme.Dark);
        await GoAsync("design/s?set=Rivers&tab=access");
        await Expect(Role(AriaRole.Combobox, "Rows, in rule 2")).ToBeVisibleAsync();
        await CheckPageAsync();
    }

    [Fact]
    public async Task What_others_write_meanwhile_is_told_and_nothing_is_lost()
    {
        await GoAsync("design/s?set=Rivers&tab=set");
        await Role(AriaRole.Textbox, "Description").FillAsync("All rivers");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Text).ToContainTextAsync("description: All rivers");
        var theirs = (await File.ReadAllTextAsync(_path)).Replace("title: S", "title: T");
        await File.WriteAllTextAsync(_path, theirs);
        await Expect(Page.GetByText("Somebody else changed this file")).ToBeVisibleAsync();
        await Expect(Role(AriaRole.Button, "Write")).ToBeDisabledAsync();
        await Role(AriaRole.Button, "Take theirs").ClickAsync();
        await Expect(Text).ToContainTextAsync("title: T");
        // Somebody breaks the file by hand.
        await File.WriteAllTextAsync(_path, "title: [\n");
        await Expect(Page.GetByLabel("Findings")).ToContainTextAsync("fault");
        await Expect(Page.GetByLabel("Sets of the draft").GetByText("Rivers")).ToBeVisibleAsync();
        await File.WriteAllTextAsync(_path, theirs);
        await Expect(Page.GetByText("No faults.")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task Odd_names_are_names_and_200_columns_are_rows()
    {
        await GoAsync("design/s?set=Rivers&tab=columns");
        await Expect(Page.GetByText(Markup, new() { Exact = true })).ToBeVisibleAsync();
        await Expect(Page.GetByText(RightToLeft, new() { Exact = true }).First).ToBeVisibleAsync();
        await Role(AriaRole.Checkbox, $"Show {Markup}").UncheckAsync();
        await Expect(Text).ToContainTextAsync("hide:");
        await Role(AriaRole.Tab, "Rows").ClickAsync();
        await Expect(Page.GetByLabel("Rows of Rivers as a caller sees them")).ToContainTextAsync("404");
        await Expect(Page).Not.ToHaveTitleAsync("bad");
        await Page.GetByLabel("Sets of the draft").GetByText("wide", new() { Exact = true }).ClickAsync();
        await Role(AriaRole.Tab, "Columns").ClickAsync();
        await Expect(Role(AriaRole.Checkbox, "Show c200")).ToBeCheckedAsync();
        Assert.InRange(await Page.EvaluateAsync<int>("document.querySelectorAll('*').length"), 200, 17_000);
        await Page.SetViewportSizeAsync(390, 800);
        await CheckPageAsync();
        Assert.Empty(PageErrors);
    }

    [Fact]
    public async Task A_column_takes_a_type_that_its_values_fit_and_another_place()
    {
        await GoAsync("design/s?set=gauge&tab=columns");
        await Role(AriaRole.Button, "More of opened").ClickAsync();
        await Role(AriaRole.Button, "Look at its values").ClickAsync();
        await Expect(Page.GetByLabel("Values of opened")).ToContainTextAsync("3 rows, 1 of them null, 2 different values.");
        await Role(AriaRole.Button, "Take date, format dd.MM.yyyy").ClickAsync();
        await Expect(Text).ToContainTextAsync("columns: { opened: { type: date, format: dd.MM.yyyy } }");
        await Role(AriaRole.Button, "More of kind").ClickAsync();
        await Role(AriaRole.Button, "Look at its values").ClickAsync();
        await Expect(Page.GetByLabel("Values of kind")).ToContainTextAsync("flow (2), level (1)");
        await Role(AriaRole.Button, "Make one of these 2 values").ClickAsync();
        await Expect(Text).ToContainTextAsync("members: [flow, level]");
        await Expect(Text).ToContainTextAsync("kind: Kind");
        await Role(AriaRole.Button, "Move kind; Alt with an arrow key moves it, too").PressAsync("Alt+ArrowUp");
        await Expect(Text).ToContainTextAsync("show: [id, river_id, kind, opened]");
        await Role(AriaRole.Button, "Move opened; Alt with an arrow key moves it, too").PressAsync("Alt+ArrowUp");
        // The order of the table needs no word.
        await Expect(Text).Not.ToContainTextAsync("show:");
        await Expect(Page.GetByText("No faults.")).ToBeVisibleAsync();
        await CheckPageAsync();
        Assert.Empty(PageErrors);
    }

    [Fact]
    public async Task Orphans_and_rows_that_break_a_rule_are_counted()
    {
        await GoAsync("design/s?set=gauge&tab=relations");
        await Role(AriaRole.Button, "Count").First.ClickAsync();
        await Expect(Page.GetByText("1 of 2 rows of gauge")).ToBeVisibleAsync();
        await CheckPageAsync();
        await Role(AriaRole.Tab, "Access").ClickAsync();
        await Role(AriaRole.Button, "Add a condition").ClickAsync();
        await Role(AriaRole.Combobox, "Condition 1").FillAsync("river_id ne null and riv");
        await Role(AriaRole.Option, "river_id").ClickAsync();
        await Expect(Role(AriaRole.Combobox, "Condition 1")).ToHaveValueAsync("river_id ne null and river_id");
        await Role(AriaRole.Combobox, "Condition 1").FillAsync("river_id ne null");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Text).ToContainTextAsync("where: river_id ne null");
        await Expect(Text).Not.ToContainTextAsync("ne null and");
        await Role(AriaRole.Button, "Try on the rows").ClickAsync();
        await Expect(Page.GetByText("1 of 3 rows break it.")).ToBeVisibleAsync();
        await CheckPageAsync();
    }

    [Fact]
    public async Task A_query_is_written_with_its_parameters_and_run()
    {
        await GoAsync("design/s?set=Rivers");
        await Role(AriaRole.Button, "Add a query").ClickAsync();
        var statement = Page.GetByLabel("Statement of Query1");
        await statement.ClickAsync();
        await Page.Keyboard.PressAsync("Control+a");
        await Page.Keyboard.TypeAsync("SELECT name FROM river WHERE id = :which");
        await Role(AriaRole.Textbox, "Description").FillAsync("One of them");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Text).ToContainTextAsync("which: string");
        await Role(AriaRole.Combobox, "Type of which").ClickAsync();
        await Role(AriaRole.Option, "int64").ClickAsync();
        await Expect(Text).ToContainTextAsync("which: int64");
        await Expect(Page.GetByText("It gives name (String).")).ToBeVisibleAsync();
        await Role(AriaRole.Textbox, ":which").FillAsync("2");
        await Role(AriaRole.Button, "Run").ClickAsync();
        await Expect(Page.GetByLabel("Run Query1")).ToContainTextAsync("Birch");
        await CheckPageAsync();
        await Role(AriaRole.Textbox, ":which").FillAsync("two");
        await Role(AriaRole.Button, "Run").ClickAsync();
        await Expect(Page.GetByLabel("Run Query1")).ToContainTextAsync("Refused with 400");
    }

    [Fact]
    public async Task A_primitive_type_gets_a_name_that_columns_take()
    {
        await GoAsync("design/s?set=");
        await Role(AriaRole.Textbox, "Name of a type").FillAsync("RiverName");
        await Role(AriaRole.Textbox, "Primitive type").FillAsync("string(40)");
        await Page.GetByRole(AriaRole.Form, new() { Name = "New type" }).GetByRole(AriaRole.Button).ClickAsync();
        await Expect(Text).ToContainTextAsync("RiverName: string(40)");
        await Role(AriaRole.Textbox, "Description of RiverName").FillAsync("What people say");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Text).ToContainTextAsync("description: What people say");
        await CheckPageAsync();
        await Page.GetByLabel("Sets of the draft").GetByText("Rivers", new() { Exact = true }).ClickAsync();
        await Role(AriaRole.Combobox, "Type of name").ClickAsync();
        await Role(AriaRole.Option, "RiverName").ClickAsync();
        await Expect(Text).ToContainTextAsync("name: RiverName");
        await Role(AriaRole.Button, "More of name").ClickAsync();
        await Role(AriaRole.Textbox, "In the complex value").FillAsync("facts");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Text).ToContainTextAsync("group: { facts: { type: Facts, columns: [name] } }");
        await CheckPageAsync();
        await Role(AriaRole.Textbox, "In the complex value").FillAsync("");
        await Page.Keyboard.PressAsync("Enter");
        await Expect(Text).Not.ToContainTextAsync("group:");
        await Expect(Page.GetByText("No faults.")).ToBeVisibleAsync();
    }
}
