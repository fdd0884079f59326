using RapidGable.Declarations;

namespace RapidGable.Core.Tests;

public class DeclarationTests
{
    private const string Head = "title: S\nsource: main\n";

    [Theory]
    [InlineData("sets:\n  - from: station\n    nam: X\n", "unknown-name", 5, 5, "'name'")]
    [InlineData("sets:\n  - name: X\n", "missing", 4, 5, "'from'")]
    [InlineData("sets:\n  - from: a\n    page: many\n", "number", 5, 11, "many")]
    [InlineData("sets:\n  - from: a\n    page: 0\n", "number", 5, 11, "0")]
    [InlineData("sets:\n  - from: a\n    page: 50\n    largest-page: 10\n", "page", 5, 5, "50")]
    [InlineData("sets:\n  - from: a\n    name: my set\n", "identifier", 5, 11, "my set")]
    [InlineData("sets:\n  - from: a\n    rename: { x: 1st }\n", "identifier", 5, 18, "1st")]
    [InlineData("sets:\n  - from: a\n    allow: [raed]\n", "operation", 5, 13, "'read'")]
    [InlineData("sets:\n  - from: a\n    allow: [delte]\n", "operation", 5, 13, "Did you mean 'delete'?")]
    [InlineData("sets:\n  - from: a\n    rules: { read: [anyone, staff] }\n", "rule", 5, 21, "alone")]
    [InlineData("sets:\n  - from: a\n    from: b\n", "yaml-duplicate", 5, 5, "line 4")]
    [InlineData("sets:\n\t- a\n", "yaml-tab", 4, 1, "tab")]
    [InlineData("sets:\n  - [a]\n", "shape", 4, 5, "mapping")]
    [InlineData("sets: station\n", "no-sets", 3, 1, "list")]
    [InlineData("sets: [a\n", "yaml-syntax", null, null, "YAML")]
    [InlineData("sets: *x\n", "yaml-syntax", 3, 7, "alias")]
    [InlineData("names: pascal\nsets: [a]\n", "names", 3, 8, "'pascal'")]
    [InlineData("namespace: Edm\nsets: [a]\n", "namespace", 3, 12, "Edm")]
    public void A_fault_is_reported_where_it_is(string text, string code, int? line, int? column, string inMessage)
    {
        using var folder = new TestWorkspace().WithSource().Write("services/s.yaml", Head + text);
        var (_, diagnostics) = folder.Read();
        var found = Assert.Single(diagnostics.Items, d => d.Code == code);
        Assert.Equal("services/s.yaml", found.Location.File);
        if (line is not null)
            Assert.Equal((line.Value, column!.Value), (found.Location.Line, found.Location.Column));
        Assert.Contains(inMessage, found.Message + found.Advice);
    }

    [Fact]
    public void All_faults_of_all_files_come_at_once()
    {
        using var folder = new TestWorkspace()
            .Write("workspace.yaml", "titel: X\n")
            .Write("sources/main.yaml", "file: ${NOT_SET}\n")
            .Write("services/one.yaml", "source: mian\nsets:\n  - from: a\n    keys: x\n    hied: y\n")
            .Write("services/Two.yaml", "source: main\nsets: [a]\n");
        var found = folder.Read().Diagnostics.Items.Select(d => $"{d.Location.File} {d.Code}").Order();
        Assert.Equal(
            [
                "services/Two.yaml no-source",
                "services/Two.yaml service-name",
                "services/one.yaml no-source",
                "services/one.yaml unknown-name",
                "services/one.yaml unknown-name",
                "sources/main.yaml missing",
                "sources/main.yaml no-variable",
                "workspace.yaml unknown-name",
            ],
            found.Order(StringComparer.Ordinal)
        );
        Assert.Contains("Did you mean 'title'?", folder.Read().Diagnostics.Items[0].Message);
    }

    [Theory] // texts that are made to hurt
    [InlineData("anchors", "a: &a [x, x]\nb: &b [*a, *a]\nc: [*b, *b]\n", "anchors and aliases")]
    [InlineData("deep", null, "nested more than 50 levels")]
    [InlineData("merge", "a: &x { b: 1 }\nc: { <<: *x }\n", "anchors and aliases")]
    [InlineData("twice", "title: a\ntitle: b\n", "'title' is given twice; the first is in line 1.")]
    [InlineData("list", "- a\n- b\n", "must hold names with values")]
    [InlineData("two", "title: a\n--- \ntitle: b\n", "")]
    public void A_hostile_file_is_refused_at_once(string name, string? text, string part)
    {
        text ??= "a: " + new string('[', 5_000);
        using var folder = new TestWorkspace().WithSource().Write($"services/{name}.yaml", text);
        var found = folder.Read().Diagnostics.Items;
        Assert.Contains(found, d => d.Location.File == $"services/{name}.yaml" && d.Message.Contains(part));
    }

    [Fact]
    public void A_declaration_of_two_megabytes_is_read()
    {
        var sets = string.Concat(
            Enumerable
                .Range(0, 20_000)
                .Select(i => $"  - {{ from: table_{i}, name: Set_{i}, hide: [a, b, c], rename: {{ long_column_name: short_{i} }} }}\n")
        );
        Assert.True(sets.Length > 1_500_000);
        using var folder = new TestWorkspace()
            .WithSource()
            .Write("services/s.yaml", Head + "# " + new string('x', 500_000) + "\nsets:\n" + sets + "  - { from: last, hied: [a] }\n");
        var (workspace, diagnostics) = folder.Read();
        Assert.Equal(20_001, workspace.Services[0].Sets.Length);
        Assert.Equal("'hied' is not known in a set. Did you mean 'hide'?", Assert.Single(diagnostics.Items).Message);
    }

    [Fact]
    public void The_line_is_shown_with_a_caret()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .Write("services/s.yaml", Head + "sets:\n  - from: station\n    hied: [photo]\n");
        var text = folder.Read().Diagnostics.Items[0].Render();
        Assert.Equal(
            """
            services/s.yaml:5:5: error unknown-name: 'hied' is not known in a set. Did you mean 'hide'?
              5 |     hied: [photo]
                |     ^^^^
              Known here: select, from, name, source, hide, show, rename, page, largest-page, key, keyless, type, description, deprecated, columns, group, relations, order, search, version, require-version, valid, log, writes, compute, discriminator, derived, changes, require-filter, caller-keys, allow, rules, faces, rest.
            """,
            text
        );
    }

    [Fact]
    public void A_tables_name_alone_takes_the_services_defaults()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .Write(
                "services/s.yaml",
                Head
                    + "page: 7\nrules: { read: [field-staff, office] }\nsets:\n  - station\n  - { from: visit, rules: { read: "
                    + "nobody }, page: 9 }\n"
            );
        var (workspace, diagnostics) = folder.Read();
        Assert.Empty(diagnostics.Items);
        var sets = workspace.Services[0].Sets;
        Assert.Equal(("station", 7, "field-staff, office"), (sets[0].From.Value, sets[0].Page, sets[0].Rules.Single().Who.ToString()));
        Assert.Equal(("visit", 9, "nobody"), (sets[1].From.Value, sets[1].Page, sets[1].Rules.Single().Who.ToString()));
    }

    [Fact]
    public void Without_a_rule_nobody_may_read()
    {
        using var folder = new TestWorkspace().WithSource().Write("services/s.yaml", Head + "sets: [station]\n");
        Assert.Empty(folder.Read().Workspace.Services[0].Sets[0].Rules);
    }

    [Fact]
    public void A_variable_is_put_in_its_place()
    {
        using var folder = new TestWorkspace()
            .Write("workspace.yaml", "title: T\n")
            .Write("sources/main.yaml", "engine: sqlite\nfile: x/${KNOWN}\n");
        var (workspace, diagnostics) = folder.Read();
        Assert.Empty(diagnostics.Items);
        Assert.Equal("x/data.db", workspace.Sources[0].Settings["file"].Value.Reveal());
    }

    [Theory]
    [InlineData(new byte[] { 0x74, 0x3A, 0x20, 0xFF, 0xFE }, "encoding")]
    [InlineData(new byte[0], "yaml-empty")]
    public void Bytes_that_are_no_text_are_refused(byte[] bytes, string code)
    {
        using var folder = new TestWorkspace().WithSource();
        File.WriteAllBytes(Path.Combine(folder.Folder, "workspace.yaml"), bytes);
        Assert.Contains(folder.Read().Diagnostics.Items, d => d.Code == code);
    }

    [Theory] // a line that is quoted never shows a secret, whatever is wrong with it
    [InlineData("engine: mariadb\npassword: very-secret\npassword: very-secret\n")]
    [InlineData("engine: mariadb\n\tpassword: very-secret\n")]
    [InlineData("engine: mariadb\npassword: [very-secret]\n")]
    [InlineData("{ engine: mariadb, connection: { a: very-secret } }\n")]
    public void A_secret_is_not_quoted(string source)
    {
        using var folder = new TestWorkspace().WithSource().Write("sources/main.yaml", source);
        var found = folder.Read().Diagnostics.Items;
        Assert.NotEmpty(found);
        Assert.DoesNotContain("very-secret", string.Join('\n', found.Select(d => d.Render())));
    }

    [Fact]
    public void A_folder_that_is_not_there_is_said_to_be_missing() =>
        Assert.Equal(
            "no-workspace",
            Assert.Single(WorkspaceReader.Read(new WorkspaceFolder("/nowhere/at/all"), _ => null).Diagnostics.Items).Code
        );
}
