using System.Collections.Immutable;
using Microsoft.Playwright;
using RapidGable.Access;
using RapidGable.Core.Tests;
using RapidGable.Service.Identity;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>The console's pages about people: signing in, who may do what, accounts and keys, the audit log.</summary>
public sealed class ConsoleAccessTests : BrowserTests
{
    private static readonly string Ada = PasswordHash.Make("long enough");

    private string _path = "";

    private protected override void Fill(TestWorkspace folder)
    {
        folder
            .WithSource()
            .WithNetwork(100)
            .Write(
                "services/s.yaml",
                """
                title: Field work
                source: main
                namespace: T
                sets:
                  - { from: visit, name: Visits, rules: [{ who: office, may: read }, { who: field, may: read, rows: technician/region eq @region, hide: report, mask: purpose }] }
                  - { from: technician, name: Technicians, rules: [{ who: office, may: read }, { who: field, may: read, hide: email }] }
                sql: { who: field }
                """
            );
        new AccountDirectory
        {
            Administrators = ImmutableSortedDictionary<string, AdministratorAccount>.Empty.Add("ada", new AdministratorAccount(Ada)),
            Users = ImmutableSortedDictionary<string, UserAccount>.Empty.Add(
                "tom",
                new UserAccount(Ada) { Roles = ["field"], Attributes = Caller.AttributesOf([("region", "north")]) }
            ),
        }.Write(folder.Folder);
        _path = folder.Folder;
    }

    private async Task SignInAsync(string password = "long enough")
    {
        await Page.GetByLabel("Name").First.FillAsync("ada");
        await Page.GetByLabel("Password").First.FillAsync(password);
        await Role(AriaRole.Button, "Sign in").ClickAsync();
    }

    [Fact]
    public async Task Administrators_sign_in_and_out()
    {
        await GoAsync("services/s/access");
        await Expect(Role(AriaRole.Button, "Sign in")).ToBeVisibleAsync();
        await CheckPageAsync();
        await SignInAsync("wrong password");
        await Expect(Page.GetByText("The name or the password is wrong.")).ToBeVisibleAsync();
        await SignInAsync();
        await Expect(Role(AriaRole.Heading, "Who may do what")).ToBeVisibleAsync();
        Assert.Equal("", await Page.EvaluateAsync<string>("document.cookie"));
        await Role(AriaRole.Button, "Sign out").ClickAsync();
        await Expect(Role(AriaRole.Button, "Sign in")).ToBeVisibleAsync();
        await Page.ReloadAsync();
        await Expect(Role(AriaRole.Button, "Sign in")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task A_session_that_ends_in_the_middle_of_a_form_takes_nothing_that_was_typed()
    {
        await GoAsync("design/s?set=Visits&tab=relations");
        await SignInAsync();
        await Expect(Role(AriaRole.Heading, "Design")).ToBeVisibleAsync();
        await Role(AriaRole.Textbox, "Name").FillAsync("half_typed");
        await Page.Context.ClearCookiesAsync();
        // The page finds it out by itself.
        await Expect(Page.GetByText("The session has ended")).ToBeVisibleAsync();
        await Expect(Page.GetByLabel("Sets of the draft")).Not.ToBeVisibleAsync();
        await CheckPageAsync();
        await SignInAsync();
        await Expect(Role(AriaRole.Textbox, "Name")).ToHaveValueAsync("half_typed");
        await Expect(Page.GetByText("The session has ended")).Not.ToBeVisibleAsync();
        // Who signs out takes it all along.
        await Role(AriaRole.Button, "Sign out").ClickAsync();
        await Expect(Role(AriaRole.Button, "Sign in")).ToBeVisibleAsync();
        await Expect(Role(AriaRole.Textbox, "half_typed")).ToHaveCountAsync(0);
        Assert.DoesNotContain("Technicians", await Page.ContentAsync());
    }

    [Fact] // a statement reads what its sender sees, and says where it is wrong
    public async Task A_statement_is_sent_as_a_caller()
    {
        await GoAsync("services/s");
        await SignInAsync();
        await Role(AriaRole.Link, "Statements").ClickAsync();
        await Expect(Page.GetByText("open to: field")).ToBeVisibleAsync();
        await Role(AriaRole.Button, "Run").ClickAsync();
        await Expect(Page.GetByText("Not open to this caller; it is open to: field")).ToBeVisibleAsync();
        await Role(AriaRole.Button, "Ask as …").ClickAsync();
        await Page.GetByLabel("User").FillAsync("tom");
        await Page.GetByLabel("Password or key").First.FillAsync("long enough");
        await Role(AriaRole.Button, "Ask as this caller").ClickAsync();
        await Expect(Page.GetByText("Asked as tom")).ToBeVisibleAsync();
        var statement = Page.GetByLabel("One SELECT, in the names of sets and properties");
        await statement.FillAsync(
            "SELECT t.region, COUNT(*) AS visits FROM Visits v JOIN Technicians t ON t.id = v.technician_id WHERE v.id < :below GROUP BY t.region"
        );
        await Page.GetByLabel(":below").FillAsync("100000");
        await statement.PressAsync("Control+Enter");
        var rows = Page.GetByRole(AriaRole.Region, new() { Name = "Rows of the statement" });
        await Expect(rows).ToContainTextAsync("north");
        await Expect(rows).Not.ToContainTextAsync("south");
        await CheckPageAsync();
        await statement.FillAsync("SELECT report FROM Visits");
        await Role(AriaRole.Button, "Run").ClickAsync();
        await Expect(Page.GetByRole(AriaRole.Alert)).ToContainTextAsync("There is no column 'report'.");
        // The browser keeps what was sent.
        await Page.ReloadAsync();
        await Expect(statement).ToHaveValueAsync("SELECT report FROM Visits");
    }

    [Fact] // tom is of the north, reads visits only of its technicians, and of those no report
    public async Task A_request_is_sent_from_the_reference_as_the_chosen_caller()
    {
        var scripts = new List<string>();
        Page.Request += (_, request) => scripts.Add(request.Url);
        await GoAsync("services/s");
        await SignInAsync();
        await Expect(Role(AriaRole.Link, "REST reference")).ToBeVisibleAsync();
        Assert.DoesNotContain(scripts, s => s.Contains("ReferencePage", StringComparison.Ordinal));
        await Role(AriaRole.Link, "REST reference").ClickAsync();
        await Expect(Page.GetByText("the description answers 401")).ToBeVisibleAsync();
        await Page.GetByRole(AriaRole.Combobox, new() { Name = "Caller" }).ClickAsync();
        await Page.GetByRole(AriaRole.Option, new() { Name = "user tom" }).ClickAsync();
        await Expect(Page).ToHaveURLAsync(Service.Address + "/console/services/s/reference?as=user+tom");
        await Expect(Page.Locator("#operations-Visits-listVisits")).ToBeVisibleAsync();
        Assert.Contains(scripts, s => s.Contains("ReferencePage", StringComparison.Ordinal));
        await Page.Locator("#operations-Visits-listVisits .opblock-summary-control").ClickAsync();
        await Page.Locator("#operations-Visits-listVisits button.execute").ClickAsync();
        var body = Page.Locator(".live-responses-table tbody .response-col_description");
        await Expect(body).ToContainTextAsync("\"planned_for\"");
        await Expect(body).Not.ToContainTextAsync("\"report\"");
        await Expect(Page.Locator(".request-url")).ToContainTextAsync("/rest/s/Visits?limit=5");
        Assert.DoesNotContain(PageErrors, e => !e.Contains("401", StringComparison.Ordinal));
    }

    [Fact] // publish, look at the history, and switch something off and on
    public async Task Revisions_and_switches()
    {
        await GoAsync("publishing");
        await SignInAsync();
        await Expect(Page.GetByText("Nothing was published yet.")).ToBeVisibleAsync();
        await CheckPageAsync();
        var publish = Page.GetByRole(AriaRole.Button, new() { Name = "Publish", Exact = true });
        await Expect(publish).ToBeDisabledAsync();
        await Page.GetByLabel("Why").FillAsync("The first");
        await publish.ClickAsync();
        await Expect(Page.GetByText("The files say what revision 1 says.")).ToBeVisibleAsync();
        // What breaks needs a tick.
        var file = Path.Combine(_path, "services/s.yaml");
        await File.WriteAllTextAsync(file, (await File.ReadAllTextAsync(file)).Replace("name: Technicians", "name: People"));
        await Role(AriaRole.Button, "Look again").ClickAsync();
        await Expect(Page.GetByText("odata: Technicians: the set is gone")).ToBeVisibleAsync();
        await Page.GetByLabel("Why").FillAsync("People");
        await Expect(publish).ToBeDisabledAsync();
        await Page.GetByLabel("Consumers may break").CheckAsync();
        await Page.GetByLabel("More becomes visible or possible").CheckAsync();
        await publish.ClickAsync();
        var history = Page.GetByRole(AriaRole.Table, new() { Name = "Revisions" });
        await Expect(history).ToContainTextAsync("People");
        await Role(AriaRole.Button, "Go back to 1").ClickAsync();
        await Expect(Page.GetByText("It breaks consumers, and nobody agreed to that.")).ToBeVisibleAsync();
        await Role(AriaRole.Button, "Agree, and go back").ClickAsync();
        await Expect(history).ToContainTextAsync("back to 1");
        await Role(AriaRole.Button, "Differences of revision 2").ClickAsync();
        var differences = Page.GetByRole(AriaRole.Region, new() { Name = "Differences of two revisions" });
        await Expect(differences).ToContainTextAsync("odata: Technicians: the set is gone");
        await Role(AriaRole.Combobox, "From revision").ClickAsync();
        await Role(AriaRole.Option, "3").ClickAsync();
        await Role(AriaRole.Combobox, "To revision").ClickAsync();
        await Role(AriaRole.Option, "1").ClickAsync();
        await Expect(differences).ToContainTextAsync("Nothing differs");
        await Page.GetByRole(AriaRole.Combobox, new() { Name = "Service" }).ClickAsync();
        await Page.Keyboard.PressAsync("ArrowDown");
        await Page.Keyboard.PressAsync("Enter");
        await Page.GetByRole(AriaRole.Combobox, new() { Name = "What of it" }).FillAsync("face: odata");
        await Role(AriaRole.Option, "face: odata").ClickAsync();
        await Page.GetByLabel("Message to callers").FillAsync("Soon back");
        await Role(AriaRole.Button, "Switch off").ClickAsync();
        var off = Page.GetByRole(AriaRole.Table, new() { Name = "Switched off" });
        await Expect(off).ToContainTextAsync("Soon back");
        await Expect(off).ToContainTextAsync("odata");
        await Role(AriaRole.Button, "Switch on").ClickAsync();
        await Expect(Page.GetByText("Nothing is switched off.")).ToBeVisibleAsync();
        Assert.DoesNotContain(PageErrors, e =>
            !e.Contains("401", StringComparison.Ordinal) && !e.Contains("409", StringComparison.Ordinal)
        );
    }

    [Fact] // send what is kept, as somebody, and keep an answer
    public async Task Kept_requests()
    {
        await GoAsync("requests");
        await SignInAsync();
        await Expect(Page.GetByText("The workspace keeps no requests.")).ToBeVisibleAsync();
        Directory.CreateDirectory(Path.Combine(_path, "requests"));
        await File.WriteAllTextAsync(
            Path.Combine(_path, "requests/people.http"),
            """
            ### All of them
            # @name all
            # @as office
            # @expect status 200
            # @expect count 100
            GET /rest/s/Technicians

            ### Their names
            # @name names
            # @as office
            GET /rest/s/Technicians?fields=id

            ### One more
            # @name more
            POST /rest/s/Technicians

            {}
            """
        );
        await Page.EvaluateAsync("fetch('/manage/refresh', { method: 'POST', headers: { 'Gable-Client': 'test' } })");
        await Page.ReloadAsync();
        await Role(AriaRole.Button, "Send all that read").ClickAsync();
        var table = Page.GetByRole(AriaRole.Table, new() { Name = "Kept requests" });
        await Expect(table).ToContainTextAsync("fails200");
        await Expect(table).ToContainTextAsync("not sent");
        await Expect(Page.GetByText("rows, not 100.")).ToBeVisibleAsync();
        await CheckPageAsync();
        // What only some callers see is not kept for all.
        await Role(AriaRole.Button, "Keep as example").ClickAsync();
        await Expect(Page.GetByText("'email' is not for field, who may send this too.")).ToBeVisibleAsync();
        await Role(AriaRole.Button, "names").ClickAsync();
        await Role(AriaRole.Button, "Keep as example").ClickAsync();
        await Expect(Page.GetByText("Kept in requests/names.example.json")).ToBeVisibleAsync();
        await Role(AriaRole.Button, "more").ClickAsync();
        await Role(AriaRole.Button, "Send, and change data").ClickAsync();
        await Expect(Page.GetByLabel("Answer", new() { Exact = true })).ToContainTextAsync("sign");
    }

    [Fact] // a session that ends leads back to signing in
    public async Task A_session_that_ends_is_noticed()
    {
        await GoAsync("audit");
        await SignInAsync();
        await Expect(Role(AriaRole.Heading, "Audit log")).ToBeVisibleAsync();
        AccountsInState.Change(WorkspaceState.Of(_path), f =>
            f with
            {
                Administrators = f.Administrators.SetItem("ada", new AdministratorAccount(PasswordHash.Make("another one"))),
            }
        );
        await Role(AriaRole.Button, "Look again").ClickAsync();
        await Expect(Role(AriaRole.Button, "Sign in")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task The_matrix_and_what_somebody_else_sees()
    {
        await GoAsync("services/s/access");
        await SignInAsync();
        var row = Page.GetByRole(AriaRole.Table, new() { Name = "Who may do what" })
            .GetByRole(AriaRole.Row)
            .Filter(new() { HasText = "Visits" });
        await Expect(row).ToContainTextAsync("technician/region eq @region");
        await Expect(row).ToContainTextAsync("not shown: report");
        await Expect(row).ToContainTextAsync("always null: purpose");
        await Page.GetByLabel("Caller").First.ClickAsync();
        await Role(AriaRole.Option, "user tom").ClickAsync();
        await Page.GetByLabel("Request").FillAsync("Visits?$top=1&$expand=technician");
        await Role(AriaRole.Button, "Look").ClickAsync();
        await Expect(Page.GetByText("answers 200")).ToBeVisibleAsync();
        await Expect(Page.GetByLabel("What they see")).ToContainTextAsync("\"region\": \"north\"");
        await Expect(Page.GetByLabel("What they see")).Not.ToContainTextAsync("email");
        await Expect(Page.GetByRole(AriaRole.List, new() { Name = "Rules" })).ToContainTextAsync("gives rows (services/s.yaml:5)");
        await Page.GetByLabel("Request").FillAsync("Technicians?$filter=email ne null");
        await Role(AriaRole.Button, "Look").ClickAsync();
        await Expect(Page.GetByText("answers 400")).ToBeVisibleAsync();
        await CheckPageAsync();
    }

    [Fact]
    public async Task A_key_is_made_shown_once_and_revoked()
    {
        await GoAsync("accounts");
        await SignInAsync();
        await Expect(Page.GetByRole(AriaRole.Region, new() { Name = "Users" })).ToContainTextAsync("region=north");
        await Page.GetByLabel("What it is for").FillAsync("map");
        await Page.GetByLabel("Roles").First.FillAsync("office");
        await Page.Keyboard.PressAsync("Enter");
        await Role(AriaRole.Button, "Make the key").ClickAsync();
        await Expect(Page.GetByText("The key is shown only now")).ToBeVisibleAsync();
        var key = await Page.Locator("code").First.InnerTextAsync();
        Assert.Equal(200, (await Service.SendAsync("/odata/s/Visits", "GET", ("Authorization", "Bearer " + key))).Status);
        var keys = Page.GetByRole(AriaRole.Region, new() { Name = "Keys" });
        await Expect(keys).ToContainTextAsync("map");
        await CheckPageAsync();
        await keys.GetByRole(AriaRole.Button, new() { Name = "Revoke map" }).ClickAsync();
        await keys.GetByRole(AriaRole.Button, new() { NameRegex = new("really") }).ClickAsync();
        await Expect(Page.GetByText("No program has a key yet.")).ToBeVisibleAsync();
        Assert.Equal(401, (await Service.SendAsync("/odata/s/Visits", "GET", ("Authorization", "Bearer " + key))).Status);
        await Page.GetByText("User", new() { Exact = true }).ClickAsync();
        await Page.GetByLabel("Name", new() { Exact = false }).FillAsync("ines");
        await Page.GetByRole(AriaRole.Textbox, new() { Name = "Password" }).FillAsync("short");
        await Role(AriaRole.Button, "Set the user").ClickAsync();
        await Expect(Page.GetByText("A password has at least 8 characters")).ToBeVisibleAsync();
        // Without a key to encrypt it, a secret is not kept.
        await Page.GetByLabel("Variable").FillAsync("ARCHIVE_PASSWORD");
        await Page.GetByLabel("Secret", new() { Exact = true }).FillAsync("s3cret");
        await Role(AriaRole.Button, "Keep secret").ClickAsync();
        await Expect(Page.GetByText("'ARCHIVE_PASSWORD' cannot be kept: there is no key.")).ToBeVisibleAsync();
        await GoAsync("audit");
        await Expect(Page.GetByRole(AriaRole.Table, new() { Name = "Events" })).ToContainTextAsync("revoked");
        await CheckPageAsync();
    }
}
