using Microsoft.Playwright;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The console edits the draft: files with their faults while they are typed, and tables that are ticked.</summary>
public sealed class ConsoleDraftTests : BrowserTests
{
    private string _path = "";

    private protected override void Fill(TestWorkspace folder)
    {
        folder.WithSource().WithNetwork(30).WithService("  - { from: station, name: Stations }   # the gauges\n");
        _path = folder.Folder;
    }

    private string Written => File.ReadAllText(Path.Combine(_path, "services/s.yaml"));

    private ILocator Text => Page.GetByLabel("Text of services/s.yaml");

    [Fact]
    public async Task A_file_is_edited_with_its_faults_and_nothing_is_lost()
    {
        await GoAsync("files?file=services/s.yaml");
        await Expect(Text).ToContainTextAsync("# the gauges");
        await Expect(Page.GetByText("No faults.")).ToBeVisibleAsync();
        await CheckPageAsync();
        await Text.ClickAsync();
        await Page.Keyboard.PressAsync("Control+End");
        await Page.Keyboard.TypeAsync("  - vist");
        await Expect(Page.GetByText("1 faults")).ToBeVisibleAsync();
        await Expect(Page.GetByLabel("Findings")).ToContainTextAsync("'vist'");
        await CheckPageAsync();
        // What was typed outlives a page that is loaded again.
        await Page.ReloadAsync();
        await Expect(Text).ToContainTextAsync("- vist");
        await Text.ClickAsync();
        await Page.Keyboard.PressAsync("Control+End");
        await Page.Keyboard.PressAsync("Backspace");
        await Page.Keyboard.TypeAsync("it");
        await Expect(Page.GetByText("No faults.")).ToBeVisibleAsync();
        await Page.Keyboard.PressAsync("Control+s");
        await Expect(Page.GetByText("All is written.")).ToBeVisibleAsync();
        Assert.EndsWith("# the gauges\n  - visit", Written.TrimEnd());
    }

    [Fact]
    public async Task Who_comes_second_is_told_what_the_first_changed()
    {
        await GoAsync("files?file=services/s.yaml");
        await Expect(Text).ToContainTextAsync("# the gauges");
        await Text.ClickAsync();
        await Page.Keyboard.PressAsync("Control+End");
        await Page.Keyboard.TypeAsync("  - visit");
        await File.WriteAllTextAsync(Path.Combine(_path, "services/s.yaml"), Written.Replace("# the gauges", "# all gauges"));
        await Expect(Page.GetByText("Somebody else changed this file")).ToBeVisibleAsync();
        var lines = Page.GetByLabel("From theirs to yours");
        await Expect(lines).ToContainTextAsync("# all gauges");
        await Expect(Role(AriaRole.Button, "Write")).ToBeDisabledAsync();
        await CheckPageAsync();
        await Role(AriaRole.Button, "Take theirs").ClickAsync();
        await Expect(Text).ToContainTextAsync("# all gauges");
        await Expect(Page.GetByText("All is written.")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task Tables_are_ticked_and_published()
    {
        await GoAsync("sources");
        await Role(AriaRole.Checkbox, "Tick technician").CheckAsync();
        // Shift ticks all between two.
        await Role(AriaRole.Checkbox, "Tick visit").ClickAsync(new() { Modifiers = [KeyboardModifier.Shift] });
        await Expect(Role(AriaRole.Checkbox, "Tick technician_certificate")).ToBeCheckedAsync();
        await Role(AriaRole.Checkbox, "Tick technician_certificate").UncheckAsync();
        await Role(AriaRole.Button, "Publish …").ClickAsync();
        await Role(AriaRole.Combobox, "In the service").FillAsync("s");
        await Page.Keyboard.PressAsync("Escape");
        await Role(AriaRole.Button, "Show what is written").ClickAsync();
        await Expect(Page.GetByText("services/s.yaml: 2 added")).ToBeVisibleAsync();
        Assert.DoesNotContain("visit", Written);
        await CheckPageAsync();
        await Role(AriaRole.Button, "Write").ClickAsync();
        await Role(AriaRole.Link, "Open the service").ClickAsync();
        await Expect(Page.GetByLabel("Entity sets")).ToContainTextAsync("visit");
        Assert.StartsWith(
            "  - { from: station, name: Stations }   # the gauges",
            Written[Written.IndexOf("  - {", StringComparison.Ordinal)..]
        );
    }
}
