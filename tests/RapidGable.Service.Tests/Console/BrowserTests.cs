using Microsoft.Playwright;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The console of a running service in a real browser at 1280x800.</summary>
public abstract class BrowserTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private IPlaywright _playwright = null!;
    private IBrowser _browser = null!;

    /// <summary>What the page wrote to its console as errors.</summary>
    protected List<string> PageErrors { get; } = [];

    private protected RunningService Service { get; private set; } = null!;

    protected IPage Page { get; private set; } = null!;

    /// <summary>Gives variables to the service; null = there are none.</summary>
    private protected virtual Func<string, string?>? Environment => null;

    /// <summary>Writes what is served.</summary>
    private protected abstract void Fill(TestWorkspace folder);

    public async Task InitializeAsync()
    {
        Fill(_folder);
        Service = await RunningService.StartAsync(_folder.Folder, environment: Environment);
        // The machine may be busy, and passwords are slow on purpose.
        Assertions.SetDefaultExpectTimeout(20_000);
        _playwright = await Playwright.CreateAsync();
        _browser = await _playwright.Chromium.LaunchAsync(
            new BrowserTypeLaunchOptions
            {
                ExecutablePath = "/usr/bin/chromium",
                Args =
                [
                    "--no-sandbox",
                    "--disable-gpu",
                    "--disable-quic",
                    "--no-first-run",
                    "--disable-background-networking",
                    "--disable-component-update",
                    "--disable-sync",
                ],
            }
        );
        await OpenAsync(ColorScheme.Light);
    }

    public async Task DisposeAsync()
    {
        await _browser.DisposeAsync();
        _playwright.Dispose();
        await Service.DisposeAsync();
        _folder.Dispose();
    }

    protected async Task OpenAsync(ColorScheme scheme)
    {
        var context = await _browser.NewContextAsync(
            new BrowserNewContextOptions
            {
                ViewportSize = new ViewportSize { Width = 1280, Height = 800 },
                ColorScheme = scheme,
                Locale = "en-GB",
            }
        );
        Page = await context.NewPageAsync();
        Page.SetDefaultTimeout(30_000);
        Page.Console += (_, message) =>
        {
            if (message.Type == "error")
                PageErrors.Add(message.Text);
        };
        if (Service.ConsoleLink is not { } link)
            return;
        await Page.GotoAsync(link);
        await Expect(Page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Sign out" })).ToBeVisibleAsync();
    }

    protected Task GoAsync(string path) => Page.GotoAsync(Service.Address + "/console/" + path);

    protected ILocator Role(AriaRole role, string name) => Page.GetByRole(role, new PageGetByRoleOptions { Name = name, Exact = true });

    protected static ILocatorAssertions Expect(ILocator locator) => Assertions.Expect(locator);

    protected static IPageAssertions Expect(IPage page) => Assertions.Expect(page);

    /// <summary>The page that is open fits into the window, and axe finds nothing wrong in it.</summary>
    protected async Task CheckPageAsync()
    {
        await Page.WaitForLoadStateAsync(LoadState.NetworkIdle);
        Assert.True(
            await Page.EvaluateAsync<bool>("document.documentElement.scrollWidth <= window.innerWidth"),
            "the page scrolls sideways"
        );
        await Page.EvaluateAsync(await File.ReadAllTextAsync(Path.Combine(Gable.Root, "console/node_modules/axe-core/axe.min.js")));
        var violations = await Page.EvaluateAsync<string[]>(
            "axe.run({ runOnly: ['wcag2a', 'wcag2aa'] }).then(r => r.violations.filter(v => v.impact !== 'minor').map(v => "
                + "v.id + ': ' + v.nodes[0].html + ' ' + v.nodes[0].failureSummary))"
        );
        Assert.True(violations.Length == 0, string.Join('\n', violations));
    }
}
