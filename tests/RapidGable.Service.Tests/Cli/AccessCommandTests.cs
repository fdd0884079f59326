using RapidGable.Core.Tests;
using RapidGable.Service.Identity;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>The commands about callers: user, api-key, access, and explaining as somebody.</summary>
public sealed class AccessCommandTests : IDisposable
{
    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithNetwork(10)
        .Write(
            "services/rivers.yaml",
            """
            title: R
            source: main
            rules: { read: office }
            sets:
              - { from: station, hide: [photo, access_notes] }
              - from: visit
                rules:
                  - { who: office, may: read }
                  - { who: field, may: read, rows: technician/region eq @region, hide: report, mask: purpose }
                  - { who: suspended, deny: read }
              - { from: technician }
            """
        );

    public void Dispose() => _folder.Dispose();

    private Task<CommandResult> RunAsync(string? input, params string[] arguments) => Gable.RunWithAsync(input, _folder.Folder, arguments);

    [Fact]
    public async Task Users_and_keys_are_made_listed_and_taken_back()
    {
        var made = await RunAsync("correct horse", "user", "set", ".", "tom", "--role", "field", "--attribute", "region=north");
        Assert.True(made.Code == 0, made.Errors);
        Assert.DoesNotContain(
            "horse",
            made.Output + File.ReadAllText(Path.Combine(_folder.Folder, "state", "accounts", AccountsInState.Name))
        );
        Assert.Matches(@"tom\s+field\s+region=north", (await RunAsync(null, "user", "list", ".")).Output);
        var key = await RunAsync(null, "api-key", "make", ".", "loader", "--role", "office", "--days", "30");
        var secret = key.Output.Split('\n').First(l => l.StartsWith(AccountDirectory.KeyPrefix, StringComparison.Ordinal)).Trim();
        var listed = (await RunAsync(null, "api-key", "list", ".", "--json")).Json.GetProperty("keys")[0];
        Assert.Equal(("loader", secret.Split('_')[1]), (listed.GetProperty("name").GetString(), listed.GetProperty("id").GetString()));
        Assert.False(listed.TryGetProperty("secret", out _));
        Assert.NotNull(AccountsInState.Read(WorkspaceState.Of(_folder.Folder))!.FindKey(secret, DateTime.UtcNow));
        Assert.Equal(0, (await RunAsync(null, "api-key", "revoke", ".", secret.Split('_')[1])).Code);
        Assert.Null(AccountsInState.Read(WorkspaceState.Of(_folder.Folder))!.FindKey(secret, DateTime.UtcNow));
        Assert.Equal(0, (await RunAsync(null, "user", "remove", ".", "tom")).Code);
        Assert.Empty(AccountsInState.Read(WorkspaceState.Of(_folder.Folder))!.Users);
    }

    [Theory]
    [InlineData(2, "at least 8 characters", "short", "user", "set", ".", "tom")]
    [InlineData(2, "cannot be a role", "long enough", "user", "set", ".", "tom", "--role", "No Role")]
    [InlineData(2, "write name=value", "long enough", "user", "set", ".", "tom", "--attribute", "region")]
    [InlineData(2, "without ':'", "long enough", "user", "set", ".", "a:b")]
    [InlineData(2, "is not a workspace", "long enough", "user", "set", "nowhere", "tom")]
    [InlineData(1, "there is no user 'tim'", null, "user", "remove", ".", "tim")]
    [InlineData(1, "there is no key", null, "api-key", "revoke", ".", "00")]
    [InlineData(2, "--days takes", null, "api-key", "make", ".", "x", "--days", "0")]
    [InlineData(2, "has no service 'river'. Did you mean 'rivers'?", null, "access", ".", "river")]
    [InlineData(2, "say who with --as", null, "explain", "-w", ".", "rivers/visit", "--attribute", "a=b")]
    [InlineData(2, "say who with --as", null, "explain", "http://127.0.0.1:1/odata/rivers/visit", "--attribute", "region=north")]
    public async Task A_wrong_call_says_what_is_wrong(int code, string message, string? input, params string[] arguments)
    {
        var result = await RunAsync(input, arguments);
        Assert.True(
            result.Code == code && (result.Errors + result.Output).Contains(message),
            $"{result.Code}: {result.Errors}{result.Output}"
        );
    }

    [Fact]
    public async Task The_matrix_shows_who_may_do_what()
    {
        var result = await RunAsync(null, "access", ".", "rivers", "--json");
        var cells = result
            .Json.GetProperty("access")
            .EnumerateArray()
            .ToDictionary(c => $"{c.GetProperty("set").GetString()} {c.GetProperty("caller").GetString()}");
        string Cell(string key) =>
            $"{cells[key].GetProperty("may").GetString()}|"
            + $"{(cells[key].TryGetProperty("rows", out var rows) ? rows.GetString() : null)}|"
            + $"{string.Join(',', cells[key].GetProperty("notShown").EnumerateArray())}|"
            + $"{string.Join(',', cells[key].GetProperty("masked").EnumerateArray())}";
        Assert.Equal("read|||", Cell("visit office"));
        Assert.Equal("read|technician/region eq @region|report|purpose", Cell("visit field"));
        Assert.Equal("|||", Cell("visit suspended"));
        Assert.Equal("|||", Cell("station not signed in"));
        Assert.Contains(
            "technician/region eq @region",
            (await RunAsync(null, "access", ".", "rivers", "--as", "field", "--attribute", "region=north")).Output
        );
    }

    [Fact]
    public async Task A_statement_is_explained_as_somebody()
    {
        var result = await RunAsync(
            null,
            "explain",
            "-w",
            ".",
            "--as",
            "field",
            "--attribute",
            "region=north",
            "--attribute",
            "level=1",
            "rivers/visit?$select=id"
        );
        Assert.Contains("'north'  the caller's region, for an access rule", result.Output);
        Assert.DoesNotContain("north", result.Output.Split("-- ?1")[0]);
        Assert.Equal(1, (await RunAsync(null, "explain", "-w", ".", "rivers/visit?$select=id", "--as", "field")).Code);
        Assert.Equal(
            1,
            (
                await RunAsync(null, "explain", "-w", ".", "rivers/visit?$select=id,report", "--as", "field", "--attribute", "region=north")
            ).Code
        );
    }

    [Fact]
    public async Task Administrators_are_made_and_removed_and_the_log_is_read()
    {
        Assert.Equal(0, (await RunAsync("correct horse", "administrator", "set", ".", "ada")).Code);
        var ada = (await RunAsync(null, "administrator", "list", ".", "--json")).Json.GetProperty("administrators")[0];
        Assert.Equal("ada", ada.GetProperty("name").GetString());
        Assert.Equal(4, ada.GetProperty("rights").GetArrayLength());
        await RunAsync(null, "api-key", "make", ".", "pipeline", "--administrator");
        Assert.Contains("management", (await RunAsync(null, "api-key", "list", ".")).Output);
        Assert.Equal(0, (await RunAsync(null, "administrator", "remove", ".", "ada")).Code);
        Assert.Equal(1, (await RunAsync(null, "administrator", "remove", ".", "ada")).Code);
        var events = (await RunAsync(null, "audit", ".", "--event", "management", "--json"))
            .Json.GetProperty("events")
            .EnumerateArray()
            .Select(e => e.GetProperty("detail").GetString()!.Split(' ')[0] + " " + e.GetProperty("by").GetString());
        Assert.Equal(["administrator command", "key command", "administrator command"], events);
        Assert.Contains("Nothing of that kind", (await RunAsync(null, "audit", ".", "--event", "refused")).Output);
        _folder.Write("workspace.yaml", "title: T\naudit: false\n");
        Assert.Equal(1, (await RunAsync(null, "audit", ".")).Code);
    }

    [Fact] // a role that is renamed in the rules alone
    public async Task A_role_that_no_rule_names_is_told()
    {
        var made = await RunAsync("correct horse", "user", "set", ".", "tom", "--role", "feild");
        Assert.Equal(0, made.Code);
        Assert.Contains("No rule names the role 'feild'. Did you mean 'field'?", made.Errors.ReplaceLineEndings(" "));
        var check = await RunAsync(null, "check", ".", "--no-data", "--json");
        Assert.Contains(check.Json.GetProperty("findings").EnumerateArray(), f => f.GetProperty("code").GetString() == "role");
    }

    [Fact]
    public async Task Explaining_says_which_rule_gives_and_which_does_not()
    {
        var refused = await RunAsync(null, "explain", "-w", ".", "--as", "suspended,field", "--attribute", "region=north", "rivers/visit");
        Assert.Equal(1, refused.Code);
        Assert.Contains("+ visit: read: suspended never  takes everything  services/rivers.yaml:10", refused.Output);
        var nobody = await RunAsync(null, "explain", "-w", ".", "--as", "field", "rivers/visit?$expand=technician");
        Assert.Contains("gives nothing, since the caller has no @region", nobody.Output);
        Assert.Contains("- technician: read: office  is for others", nobody.Output);
    }

    [Theory]
    [InlineData(2, "is not an operation. Did you mean 'read'?", "api-key", "make", ".", "x", "--may", "raed")]
    [InlineData(2, "has no service 'river'", "api-key", "make", ".", "x", "--service", "river")]
    [InlineData(2, "opens no service", "api-key", "make", ".", "x", "--administrator", "--role", "office")]
    [InlineData(2, "is not a kind of event", "audit", ".", "--event", "refusal")]
    [InlineData(2, "take numbers from 1", "audit", ".", "--count", "0")]
    [InlineData(2, "Declare a certificate, or the proxies", "serve", ".", "--address", "0.0.0.0")]
    [InlineData(2, "--address needs an address", "serve", ".", "--address", "everywhere")]
    [InlineData(2, "--access needs the workspace", "verify", "--url", "http://127.0.0.1:1/odata/x/", "--access")]
    [InlineData(2, "--service chooses services of a workspace", "verify", "--url", "http://127.0.0.1:1/odata/x/", "--service", "x")]
    [InlineData(2, "There is no service 'river'", "verify", ".", "--service", "river")]
    public async Task A_wrong_call_of_the_newer_commands_says_what_is_wrong(int code, string message, params string[] arguments)
    {
        var result = await RunAsync(null, arguments);
        Assert.True(
            result.Code == code && (result.Errors + result.Output).ReplaceLineEndings(" ").Contains(message),
            $"{result.Code}: {result.Errors}{result.Output}"
        );
    }
}
