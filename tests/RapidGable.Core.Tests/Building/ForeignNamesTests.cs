using System.Collections.Immutable;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Inspection;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Core.Tests;

/// <summary>What names and checks of other people's tables mean: relations, secrets, bounds, indexes, addresses.</summary>
public sealed class ForeignNamesTests
{
    private static async Task<Dictionary<string, string>> NavigationsAsync(string sql, string policy = "as-is")
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(sql);
        await using var first = await folder.LoadAsync();
        var sets = string.Concat(first.Catalogs["main"].Objects.Select(o => $"  - {o.Name}\n"));
        folder.Write("services/s.yaml", $"title: S\nsource: main\nnames: {policy}\nsets:\n{sets}");
        await using var workspace = await folder.LoadAsync();
        Assert.DoesNotContain(workspace.Diagnostics.Items, d => d.Severity == Severity.Error);
        return workspace
            .Services[0]
            .Model.Sets.ToDictionary(
                s => ((TableSource)s.Source).Name,
                s => string.Join(' ', s.Type.Navigations.Select(n => n.Name).Order(StringComparer.Ordinal))
            );
    }

    private const string Host = "CREATE TABLE hosts (hostid INTEGER PRIMARY KEY); ";

    [Theory] // the column's end in any case; no type doubled; none of two that want one name gets it
    [InlineData("CREATE TABLE item (id INTEGER PRIMARY KEY, hostid INTEGER REFERENCES hosts)", "item", "host")]
    [InlineData("CREATE TABLE item (id INTEGER PRIMARY KEY, host_id INTEGER REFERENCES hosts)", "item", "host")]
    [InlineData("CREATE TABLE item (id INTEGER PRIMARY KEY, hostId INTEGER REFERENCES hosts)", "item", "host")]
    [InlineData("CREATE TABLE item (id INTEGER PRIMARY KEY, HOST_ID INTEGER REFERENCES hosts)", "item", "HOST")]
    [InlineData("CREATE TABLE item (id INTEGER PRIMARY KEY, owner INTEGER REFERENCES hosts)", "item", "hosts")]
    [InlineData("CREATE TABLE item (id INTEGER PRIMARY KEY, barcode INTEGER REFERENCES hosts)", "item", "hosts")]
    [InlineData(
        "CREATE TABLE item (id INTEGER PRIMARY KEY, owner INTEGER REFERENCES hosts, keeper INTEGER REFERENCES hosts)",
        "item",
        "hosts_keeper hosts_owner"
    )]
    [InlineData(
        "CREATE TABLE item (id INTEGER PRIMARY KEY, hosts_upper INTEGER REFERENCES hosts, hosts_lower INTEGER REFERENCES hosts)",
        "item",
        "lower upper"
    )]
    [InlineData("CREATE TABLE item (id INTEGER PRIMARY KEY, host TEXT, hostid INTEGER REFERENCES hosts)", "item", "host_by_id")]
    [InlineData(
        "CREATE TABLE item (id INTEGER PRIMARY KEY, host_id INTEGER REFERENCES hosts, host_no INTEGER REFERENCES hosts)",
        "item",
        "host_by_id host_by_no"
    )]
    [InlineData("CREATE TABLE item (id INTEGER PRIMARY KEY, hostid INTEGER REFERENCES hosts)", "hosts", "item")]
    [InlineData(
        "CREATE TABLE item (id INTEGER PRIMARY KEY, hostid INTEGER REFERENCES hosts, templateid INTEGER REFERENCES hosts)",
        "hosts",
        "item_by_host item_by_template"
    )]
    [InlineData("CREATE TABLE node (id INTEGER PRIMARY KEY, parent INTEGER REFERENCES node)", "node", "node_by_parent node_parent")]
    [InlineData(
        "CREATE TABLE node (id INTEGER PRIMARY KEY, parent_id INTEGER REFERENCES node, node INTEGER)",
        "node",
        "node_by_parent parent"
    )]
    public async Task A_relation_is_named_after_its_column(string sql, string table, string expected) =>
        Assert.Equal(expected, (await NavigationsAsync(Host + sql))[table]);

    [Fact] // any order of foreign keys and tables gives the same names
    public async Task Names_do_not_depend_on_an_order()
    {
        string[] keys =
        [
            "hostid INTEGER REFERENCES hosts",
            "templateid INTEGER REFERENCES hosts",
            "host_no INTEGER REFERENCES hosts",
            "parent INTEGER REFERENCES item",
            "itemid INTEGER REFERENCES item",
        ];
        var random = new Random(11);
        var names = new HashSet<string>();
        for (var i = 0; i < 12; i++)
        {
            random.Shuffle(keys);
            string[] tables =
            [
                Host,
                $"CREATE TABLE item (id INTEGER PRIMARY KEY, {string.Join(", ", keys)}); ",
                "CREATE TABLE a_note (id INTEGER PRIMARY KEY, itemid INTEGER REFERENCES item); ",
            ];
            random.Shuffle(tables);
            var found = await NavigationsAsync(string.Concat(tables));
            names.Add(string.Join("; ", found.OrderBy(f => f.Key, StringComparer.Ordinal).Select(f => $"{f.Key}: {f.Value}")));
        }
        Assert.Single(names);
    }

    [Theory]
    [InlineData("sessions", "session")]
    [InlineData("user_session", "session")]
    [InlineData("gpo_refresh_token", "token")]
    [InlineData("ApiKeys", "api key")]
    [InlineData("password_reset", "password")]
    [InlineData("station", null)]
    [InlineData("tokenizer", null)]
    [InlineData("obsession", null)]
    [InlineData("key_value", null)]
    public void A_table_that_may_hold_secrets_is_told_by_its_name(string table, string? word) =>
        Assert.Equal(word, SensitiveNames.SecretTable(table));

    [Theory]
    [InlineData("password_hash", "String", "secret")]
    [InlineData("PasswordHash", "String", "secret")]
    [InlineData("gc_password", "Binary", "secret")]
    [InlineData("ldap_bind_password", "String", "secret")]
    [InlineData("api_key", "String", "secret")]
    [InlineData("sessionid", "String", "secret")]
    [InlineData("password_changed_at", "DateTimeOffset", null)]
    [InlineData("token_count", "Int32", null)]
    [InlineData("email", "String", "personal")]
    [InlineData("contact_e_mail", "String", "personal")]
    [InlineData("date_of_birth", "Date", "personal")]
    [InlineData("has_phone", "Boolean", null)]
    [InlineData("passage", "String", null)]
    [InlineData("name", "String", null)]
    public void A_column_is_told_by_its_name_and_type(string name, string kind, string? kindOfData)
    {
        var column = new SourceColumn(name, "", new EdmType(Enum.Parse<EdmKind>(kind)), true, "");
        Assert.Equal(
            kindOfData,
            SensitiveNames.SecretColumn(column) is not null ? "secret"
                : SensitiveNames.PersonalColumn(column) is not null ? "personal"
                : null
        );
    }

    [Theory] // rules of the whole service do not open what looks secret without a word; rules of its own are meant
    [InlineData("rules: { read: anyone }", "  - sessions\n  - station\n", "'sessions' looks as if it held secrets")]
    [InlineData("rules: { read: anyone }", "  - account\n", "'account' has columns that look secret (api_token)")]
    [InlineData("rules: { read: anyone }", "  - { from: account, hide: [api_token] }\n", null)]
    [InlineData("rules: { read: anyone }", "  - { from: sessions, rules: { read: anyone } }\n", null)]
    [InlineData("rules: { read: office }", "  - sessions\n", null)]
    public async Task What_looks_secret_is_not_opened_without_a_word(string rules, string sets, string? message)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(
                "CREATE TABLE sessions (sid TEXT NOT NULL PRIMARY KEY); CREATE TABLE account (id INTEGER PRIMARY KEY, "
                    + "api_token TEXT); CREATE TABLE station (id INTEGER PRIMARY KEY)"
            )
            .Write("services/s.yaml", $"title: S\nsource: main\n{rules}\nsets:\n{sets}");
        await using var workspace = await folder.LoadAsync();
        Assert.Equal(
            message is null ? [] : [message],
            workspace
                .Diagnostics.Items.Select(d => $"{d.Code}: {d.Message}")
                .Select(m => m["open-secret: ".Length..].Split(", and the rules")[0])
        );
    }

    [Theory] // as each engine spells its checks
    [InlineData("CHECK (((slot >= 1) AND (slot <= 8)))", "Int32", "1..8")]
    [InlineData("`slot` between 1 and 8", "Int32", "1..8")]
    [InlineData("slot BETWEEN 1 AND 8", "Int32", "1..8")]
    [InlineData("\"slot\" > 0 and \"slot\" < 9", "Int32", "1..8")]
    [InlineData("CHECK ((slot > (0)::numeric))", "Decimal", "1..")]
    [InlineData("CHECK (((slot)::text = ANY ((ARRAY['a'::character varying, 'b c'::character varying])::text[])))", "String", "{a|b c}")]
    [InlineData("slot IN ('a', 'b c')", "String", "{a|b c}")]
    [InlineData("`slot` in (1,2)", "Int32", "{1|2}")]
    [InlineData("CHECK ((char_length(slot) >= 3))", "String", "length 3..")]
    [InlineData("slot >= '2024-01-01'", "Date", "01/01/2024..")]
    [InlineData("slot > 1 OR other > 1", "Int32", "")]
    [InlineData("other > 1", "Int32", "")]
    [InlineData("timeslot > 1", "Int32", "")]
    [InlineData("slot > other", "Int32", "")]
    public void A_check_bounds_what_is_made_up(string check, string kind, string expected)
    {
        var rules = CheckHints.Of("slot", new EdmType(Enum.Parse<EdmKind>(kind)), [check]);
        var text =
            rules.MinLength is { } shortest ? $"length {shortest}.."
            : !rules.Values.IsEmpty ? $"{{{string.Join('|', rules.Values)}}}"
            : rules.Minimum is null && rules.Maximum is null ? ""
            : FormattableString.Invariant($"{rules.Minimum}..{rules.Maximum}");
        Assert.Equal(expected, text);
    }

    [Fact]
    public void Names_of_indexes_fit_and_differ()
    {
        var table = new string('t', 60);
        var (one, two) = (IndexAdvice.IndexName(table, ["first_column"]), IndexAdvice.IndexName(table, ["first_colour"]));
        Assert.Equal(("station_code", 63, 63), (IndexAdvice.IndexName("station", ["code"]), one.Length, two.Length));
        Assert.NotEqual(one, two);
        Assert.True(System.Text.Encoding.UTF8.GetByteCount(IndexAdvice.IndexName(new string('ß', 40), ["größe"])) <= 63);
    }

    [Theory]
    [InlineData("postgresql://ada@db.example/net", "postgresql host=db.example database=net user=ada")]
    [InlineData(
        "postgres://a%40b:p%2Fw@[::1]:5544/n%20x?sslmode=verify-full",
        "postgresql host=::1 port=5544 database=n x user=a@b password=p/w tls=verify"
    )]
    [InlineData("mysql://root@127.0.0.1:3306/net?ssl-mode=DISABLED", "mariadb host=127.0.0.1 port=3306 database=net user=root tls=off")]
    [InlineData("mariadb://db/net?connect_timeout=3", "mariadb host=db database=net connect-seconds=3")]
    public void An_address_of_a_database_is_read(string text, string expected)
    {
        var address = DatabaseAddress.Parse(text, out var fault)!;
        Assert.Null(fault);
        string[] order = ["host", "port", "database", "user", "password", "tls", "connect-seconds"];
        Assert.Equal(
            expected,
            $"{address.Engine} {string.Join(' ', order.Where(address.Settings.ContainsKey).Select(o => $"{o}={address.Settings[o]}"))}"
        );
    }

    [Theory] // what is wrong is told without the address, which may hold a password
    [InlineData("postgresq://u:secret@h/d", "Did you mean 'postgresql'?")]
    [InlineData("postgresql://", "cannot be read")]
    [InlineData("postgresql://u:secret@h:port/d", "cannot be read")]
    [InlineData("postgresql://u:secret@h/d?sslmod=require", "'sslmod'")]
    [InlineData("postgresql://u:secret@h/d?sslmode=maybe", "one of disable")]
    public void A_wrong_address_is_told_without_its_password(string text, string message)
    {
        Assert.Null(DatabaseAddress.Parse(text, out var fault));
        Assert.Contains(message, fault);
        Assert.DoesNotContain("secret", fault);
    }

    [Theory]
    [InlineData("connection: postgresql://ada:x@127.0.0.1:1/net", "postgresql", "PostgreSQL 127.0.0.1:1/net as ada")]
    [InlineData("connection: mysql://ada:x@127.0.0.1:1/net\nuser: bo", "mysql", "MariaDB 127.0.0.1:1/net as bo")]
    [InlineData("connection: mysql://ada:x@127.0.0.1:1/net", "postgresql", null)]
    public void A_source_takes_a_uri(string settings, string engine, string? address)
    {
        using var folder = new TestWorkspace().WithSource().Write("sources/main.yaml", $"engine: {engine}\n{settings}\n");
        var (workspace, diagnostics) = folder.Read();
        Assert.Equal(address, WorkspaceLoader.Open(workspace.Sources[0], folder.Folder, diagnostics)?.Address);
        Assert.Equal(address is null, diagnostics.HasErrors);
    }

    [Fact]
    public void Secrets_of_a_workspace_are_its_owners()
    {
        using var folder = new TestWorkspace().WithSource().Write("sources/main.yaml", "engine: sqlite\nfile: ${NET_FILE}\n");
        Assert.Contains(folder.Read().Diagnostics.Items, d => d.Code == "no-variable");
        WorkspaceSecrets.Write(folder.Folder, "NET_FILE", "data=1.db");
        var (workspace, diagnostics) = folder.Read();
        Assert.Equal("data=1.db", workspace.Sources[0].Settings["file"].Value.Reveal());
        Assert.Empty(diagnostics.Items);
        if (OperatingSystem.IsWindows())
            return;
        File.SetUnixFileMode(Path.Combine(folder.Folder, "secrets.env"), UnixFileMode.UserRead | UnixFileMode.OtherRead);
        Assert.Contains(folder.Read().Diagnostics.Items, d => d.Code == "secrets-mode");
    }

    /// <summary>A source that fails in a way that nobody thought of.</summary>
    private sealed class FaultySource(ISource inner) : ISource
    {
        public string Name => inner.Name;

        public string Address => inner.Address;

        public SqlDialect Dialect => inner.Dialect;

        public Task<SourceCatalog> ReadCatalogAsync(CancellationToken cancellation) => inner.ReadCatalogAsync(cancellation);

        public Task<SourceObject> DescribeAsync(SourceObject item, CancellationToken cancellation) =>
            item.Name == "bad" ? throw new InvalidOperationException("odd") : inner.DescribeAsync(item, cancellation);

        public Task<SourceObject> DescribeQueryAsync(
            string name,
            string select,
            ReadOnlyMemory<StoredValue> arguments,
            CancellationToken cancellation
        ) => inner.DescribeQueryAsync(name, select, arguments, cancellation);

        public Task<IReadOnlyList<SourceColumn>?> DescribeChangeAsync(
            string sql,
            ReadOnlyMemory<StoredValue> arguments,
            CancellationToken cancellation
        ) => inner.DescribeChangeAsync(sql, arguments, cancellation);

        public ValueTask<ISourceSession> OpenSessionAsync(
            SessionKind kind,
            IReadOnlyList<(string Setting, string Value)> settings,
            RequestAllowance request,
            CancellationToken cancellation
        ) => inner.OpenSessionAsync(kind, settings, request, cancellation);

        public ValueTask DisposeAsync() => inner.DisposeAsync();
    }

    [Fact] // the others are still checked, and the fault has its place
    public async Task A_fault_of_ours_hides_no_other()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(
                "CREATE TABLE bad (id INTEGER PRIMARY KEY); CREATE TABLE good (id INTEGER PRIMARY KEY, bad_id INTEGER REFERENCES bad)"
            )
            .Write("services/s.yaml", "title: S\nsource: main\nsets:\n  - bad\n  - good\n  - gone\n");
        await using var loaded = await folder.LoadAsync();
        var diagnostics = new Diagnostics();
        var sources = new Dictionary<string, ISource> { ["main"] = new FaultySource(loaded.Sources["main"]) };
        var built = await ModelBuilder.BuildAsync(
            loaded.Declaration.Services[0],
            loaded.Catalogs,
            sources,
            diagnostics,
            CancellationToken.None
        );
        Assert.Equal(["good"], built.Model.Sets.Select(s => s.Name));
        Assert.Equal(
            ["unexpected services/s.yaml:4:5", "no-object services/s.yaml:6:5"],
            diagnostics.Items.Select(d => $"{d.Code} {d.Location}")
        );
        Assert.Contains("'bad' cannot be built, which is a fault of Rapid Gable: odd", diagnostics.Items[0].Message);
    }

    [Fact]
    public void A_materialized_views_unique_index_is_its_key()
    {
        var columns = ImmutableArray.Create(
            new SourceColumn("id", "integer", EdmType.Int32, true, ""),
            new SourceColumn("name", "text", EdmType.String, true, "")
        );
        Assert.Equal(
            "id",
            Assert.Single(
                new SourceObject(
                    "public",
                    "kept",
                    SourceObjectKind.MaterializedView,
                    columns,
                    [],
                    [
                        ["id"],
                    ],
                    []
                ).NaturalKey
            )
        );
        Assert.Empty(
            new SourceObject(
                "public",
                "t",
                SourceObjectKind.Table,
                columns,
                [],
                [
                    ["id"],
                ],
                []
            ).NaturalKey
        );
    }
}
