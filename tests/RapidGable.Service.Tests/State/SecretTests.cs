using RapidGable.Core.Tests;
using RapidGable.Service.Identity;
using RapidGable.Service.Publishing;
using RapidGable.Service.State;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>Secrets that the state keeps: they open a database, and nobody sees them again.</summary>
[Collection("engines")]
public sealed class SecretTests(EnginesFixture engines) : IDisposable
{
    private const string Key = "0123456789abcdef0123456789abcdef";
    private readonly TestWorkspace _folder = new();

    public void Dispose() => _folder.Dispose();

    private static Func<string, string?> With(params (string Name, string Value)[] variables) =>
        name => variables.FirstOrDefault(v => v.Name == name).Value;

    private SecretKeeper Keeper(params (string, string)[] variables) => new(WorkspaceState.Of(_folder.Folder), With(variables));

    [Fact]
    public void A_secret_is_kept_under_a_key_that_is_not_beside_it()
    {
        _folder.WithSource();
        var keyed = Keeper((SecretKeeper.KeyVariable, Key));
        Assert.Null(keyed.Find("NONE"));
        keyed.Set("LAB_PASSWORD", "sésame, öffne dich");
        Assert.Equal("sésame, öffne dich", keyed.Find("LAB_PASSWORD"));
        Assert.Equal("LAB_PASSWORD", Assert.Single(keyed.Names()));
        Assert.DoesNotContain(
            "sésame",
            string.Concat(Directory.EnumerateFiles(_folder.Folder, "*", SearchOption.AllDirectories).Select(File.ReadAllText))
        );
        // The same value twice does not look the same.
        var before = WorkspaceState.Of(_folder.Folder).Find(StateRooms.Secrets, "LAB_PASSWORD.json")!.Bytes.ToArray();
        keyed.Set("LAB_PASSWORD", "sésame, öffne dich");
        Assert.NotEqual(before, WorkspaceState.Of(_folder.Folder).Find(StateRooms.Secrets, "LAB_PASSWORD.json")!.Bytes.ToArray());
        // By a file, too, with a line end as editors leave it.
        _folder.Write("../key-of-" + Path.GetFileName(_folder.Folder), Key + "\n");
        var file = Path.GetFullPath(Path.Combine(_folder.Folder, "../key-of-" + Path.GetFileName(_folder.Folder)));
        Assert.Equal("sésame, öffne dich", Keeper((SecretKeeper.KeyFileVariable, file)).Find("LAB_PASSWORD"));
        File.Delete(file);
    }

    [Fact]
    public void The_key_is_derived_slowly_with_a_salt_and_formats_have_versions()
    {
        _folder.WithSource();
        Keeper((SecretKeeper.KeyVariable, Key)).Set("A", "b");
        string Text(string name) =>
            System.Text.Encoding.UTF8.GetString(WorkspaceState.Of(_folder.Folder).Find(StateRooms.Secrets, name)!.Bytes.Span);
        Assert.Contains("\"version\":2", Text("A.json").Replace(" ", ""), StringComparison.OrdinalIgnoreCase);
        Assert.Contains("600000", Text("derivation"));
        // Another workspace has another salt, so that the same key and value have another print.
        using var other = new TestWorkspace().WithSource();
        new SecretKeeper(WorkspaceState.Of(other.Folder), With((SecretKeeper.KeyVariable, Key))).Set("A", "b");
        var prints = new[] { _folder, other }.Select(f => WorkspaceState.Of(f.Folder).Read<SealedText>(StateRooms.Secrets, "A.json")!.Key);
        Assert.Equal(2, prints.Distinct().Count());
    }

    [Fact]
    public void A_key_is_changed_for_all_secrets_and_what_broke_off_is_done_again()
    {
        const string Next = "fedcba9876543210fedcba9876543210";
        _folder.WithSource();
        var keeper = Keeper((SecretKeeper.KeyVariable, Key));
        keeper.Set("A", "first");
        keeper.Set("B", "second");
        var state = WorkspaceState.Of(_folder.Folder);
        // One of a former version, whose key was made of the passphrase at once.
        state.Change<SealedText>(StateRooms.Secrets, "OLD.json", _ => Former("OLD", "third"));
        Assert.Equal("third", keeper.Find("OLD"));
        Assert.Equal(3, keeper.Rotate(With((SecretKeeper.KeyVariable, Next))));
        Assert.Equal(0, keeper.Rotate(With((SecretKeeper.KeyVariable, Next))));
        Assert.Throws<StateException>(() => keeper.Find("A"));
        var after = Keeper((SecretKeeper.KeyVariable, Next));
        Assert.Equal(["first", "second", "third"], new[] { "A", "B", "OLD" }.Select(after.Find));
    }

    /// <summary>A secret as version 1 kept it.</summary>
    private static SealedText Former(string name, string value)
    {
        var key = System.Security.Cryptography.HKDF.DeriveKey(
            System.Security.Cryptography.HashAlgorithmName.SHA256,
            System.Text.Encoding.UTF8.GetBytes(Key),
            32,
            info: "secrets of a workspace"u8.ToArray()
        );
        var (nonce, text, tag) = (new byte[12], System.Text.Encoding.UTF8.GetBytes(value), new byte[16]);
        var hidden = new byte[text.Length];
        using var cipher = new System.Security.Cryptography.AesGcm(key, 16);
        cipher.Encrypt(nonce, text, hidden, tag, System.Text.Encoding.UTF8.GetBytes(name));
        var print = Convert.ToHexStringLower(System.Security.Cryptography.HMACSHA256.HashData(key, "print"u8).AsSpan(0, 8));
        return new SealedText(print, Convert.ToBase64String([.. nonce, .. tag, .. hidden]));
    }

    [Theory]
    [InlineData(null, null, "there is no key. Set GABLE_SECRETS_KEY")]
    [InlineData("short", null, "at least 32 characters, and this one has 5")]
    [InlineData("another-key-another-key-another-key", null, "with another key")]
    [InlineData(null, "/does/not/exist", "cannot be read from the file in GABLE_SECRETS_KEY_FILE")]
    public void Without_its_key_a_secret_is_told_to_be_there(string? key, string? file, string message)
    {
        _folder.WithSource();
        Keeper((SecretKeeper.KeyVariable, Key)).Set("A", "b");
        var other = Keeper([(SecretKeeper.KeyVariable, key!), (SecretKeeper.KeyFileVariable, file!)]);
        Assert.Contains(message, Assert.Throws<StateException>(() => other.Find("A")).Message);
    }

    [Fact]
    public void A_secret_that_was_changed_or_moved_is_told()
    {
        _folder.WithSource();
        var keyed = Keeper((SecretKeeper.KeyVariable, Key));
        keyed.Set("A", "b");
        var state = WorkspaceState.Of(_folder.Folder);
        // Under another name it is another secret.
        state.Write(StateRooms.Secrets, "C.json", state.Find(StateRooms.Secrets, "A.json")!.Bytes, null);
        Assert.Contains("damaged", Assert.Throws<StateException>(() => keyed.Find("C")).Message);
        Assert.Equal("b", keyed.Find("A"));
    }

    [Theory]
    [InlineData("", "x", "cannot be the name")]
    [InlineData("1A", "x", "no digit first")]
    [InlineData("../accounts", "x", "cannot be the name")]
    [InlineData("A", "", "not empty")]
    [InlineData("A", "a\tb", "control characters")]
    public async Task What_can_be_no_secret_is_refused(string name, string value, string message)
    {
        _folder.WithSource();
        var command = await Gable.RunWithAsync(
            value,
            new Dictionary<string, string> { [SecretKeeper.KeyVariable] = Key },
            _folder.Folder,
            "secret",
            "set",
            ".",
            name
        );
        Assert.Equal(2, command.Code);
        Assert.Contains(message, command.Errors);
    }

    [Fact]
    public async Task A_secret_opens_a_database_and_never_comes_out()
    {
        var database = await engines.Postgres.CreateDatabaseAsync();
        await engines.Postgres.ExecuteAsync(database, "CREATE TABLE river (id int PRIMARY KEY); INSERT INTO river VALUES (1)");
        _folder
            .WithSource()
            .WithService("  - { from: river, rules: { read: anyone } }\n")
            .Write("sources/main.yaml", engines.Postgres.SourceFile(database).Replace(PostgresServer.Password, "${RIVER_PASSWORD}"));
        var environment = new Dictionary<string, string> { [SecretKeeper.KeyVariable] = Key };
        var missing = await Gable.RunWithAsync(null, environment, _folder.Folder, "check", ".", "--no-data");
        Assert.Contains("RIVER_PASSWORD", missing.Errors);
        var set = await Gable.RunWithAsync(PostgresServer.Password, environment, _folder.Folder, "secret", "set", ".", "RIVER_PASSWORD");
        Assert.True(set.Code == 0, set.Errors);
        Assert.DoesNotContain(PostgresServer.Password, set.Output);
        Assert.Equal(0, (await Gable.RunWithAsync(null, environment, _folder.Folder, "check", ".", "--no-data")).Code);
        var list = await Gable.RunWithAsync(null, environment, _folder.Folder, "secret", "list", ".");
        Assert.Equal("RIVER_PASSWORD  sources/main.yaml", list.Output.Trim());
        // Without the key, what is wrong is said.
        var locked = await Gable.RunAsync(_folder.Folder, "check", ".", "--no-data");
        Assert.Equal(1, locked.Code);
        Assert.Contains("'RIVER_PASSWORD' cannot be read: there is no key", locked.Errors);

        var (accounts, _, key) = new AccountDirectory().WithKey(new ApiKey("tests", "", DateTime.UtcNow) { IsAdministrator = true });
        AccountsInState.Change(WorkspaceState.Of(_folder.Folder), _ => accounts);
        await using var http = await RunningService.StartAsync(_folder.Folder, environment: With((SecretKeeper.KeyVariable, Key)));
        (string, string)[] administrator = [("Authorization", "Bearer " + key), ("Gable-Client", "test")];
        Assert.Equal(200, (await http.SendAsync("/odata/s/river")).Status);
        Assert.Equal(401, (await http.SendAsync("/manage/secrets")).Status);
        Assert.Equal(204, (await http.SendAsync("/manage/secrets/OTHER", "PUT", """{"value":"s3cret-value"}""", administrator)).Status);
        Assert.Equal(400, (await http.SendAsync("/manage/secrets/1", "PUT", """{"value":"x"}""", administrator)).Status);
        Assert.Equal(400, (await http.SendAsync("/manage/secrets/A", "PUT", """{"valeu":"x"}""", administrator)).Status);
        var all = await http.SendAsync("/manage/secrets", "GET", administrator);
        Assert.Equal("""[{"name":"OTHER","usedBy":[]},{"name":"RIVER_PASSWORD","usedBy":["sources/main.yaml"]}]""", all.Text);
        Assert.Equal(204, (await http.SendAsync("/manage/secrets/OTHER", "DELETE", administrator)).Status);
        Assert.Equal(404, (await http.SendAsync("/manage/secrets/OTHER", "DELETE", administrator)).Status);
        var noted = string.Concat((await http.SendAsync("/manage/audit", "GET", administrator)).Text);
        Assert.DoesNotContain("s3cret-value", noted);
    }
}
