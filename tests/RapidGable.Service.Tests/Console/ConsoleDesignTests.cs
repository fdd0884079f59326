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
        Assert.InRange(await Page.EvaluateAsync<int>("document.querySelectorAll('*').length"), 200, 15_000);
        await Page.SetViewportSizeAsync(390, 800);
        await CheckPageAsync();
        Assert.Empty(PageErrors);
    }
}
