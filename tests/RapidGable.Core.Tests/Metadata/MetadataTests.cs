using System.Text;
using System.Text.Json;
using RapidGable.Access;
using RapidGable.Metadata;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Publishing;

namespace RapidGable.Core.Tests;

public class MetadataTests
{
    private static async Task<string> MetadataAsync(string sql, string sets)
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(sql).WithService(sets);
        await using var workspace = await folder.LoadAsync();
        Assert.False(workspace.Diagnostics.HasErrors);
        return Encoding.UTF8.GetString(CsdlXmlWriter.Write(workspace.Services[0].Model, ODataVersion.V40));
    }

    private const string Sql = """
        CREATE TABLE a (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, price DECIMAL(9,2) DEFAULT 1.5, rate NUMERIC, at TIMESTAMP, flag BOOLEAN NOT NULL DEFAULT 0, note TEXT DEFAULT 'it''s', doubled INTEGER AS (id * 2), made DATE DEFAULT CURRENT_DATE);
        CREATE TABLE b (id INTEGER PRIMARY KEY, a_id INTEGER NOT NULL REFERENCES a (id) ON DELETE CASCADE, a_code TEXT REFERENCES a (code), opt_id INTEGER REFERENCES a (id) ON DELETE SET NULL);
        """;

    [Theory]
    [InlineData("<Property Name=\"id\" Type=\"Edm.Int64\" Nullable=\"false\">")]
    [InlineData("<Property Name=\"price\" Type=\"Edm.Decimal\" Precision=\"9\" Scale=\"2\" DefaultValue=\"1.5\" />")]
    [InlineData("<Property Name=\"rate\" Type=\"Edm.Decimal\" Scale=\"variable\" />")]
    [InlineData("<Property Name=\"at\" Type=\"Edm.DateTimeOffset\" Precision=\"7\" />")]
    [InlineData("<Property Name=\"flag\" Type=\"Edm.Boolean\" Nullable=\"false\" DefaultValue=\"false\" />")]
    [InlineData("<Property Name=\"note\" Type=\"Edm.String\" DefaultValue=\"it's\" />")]
    [InlineData("<Annotation Term=\"Core.Computed\" Bool=\"true\" />")]
    [InlineData("<Annotation Term=\"Core.ComputedDefaultValue\" Bool=\"true\" />")]
    [InlineData("<ReferentialConstraint Property=\"a_id\" ReferencedProperty=\"id\" />")]
    [InlineData("<OnDelete Action=\"Cascade\" />")]
    [InlineData("<NavigationPropertyBinding Path=\"b_by_a_id\" Target=\"b\" />")]
    [InlineData("<PropertyValue Property=\"Insertable\" Bool=\"false\" />")]
    [InlineData("<Annotation Term=\"Core.ODataVersions\" String=\"4.0 4.01\" />")]
    [Proves("P-07, C-12, C-23, C-24, C-26, C-29, C-30, C-33, A-02 to A-04, A-24, X-15")]
    public async Task The_document_says_it(string expected) => Assert.Contains(expected, await MetadataAsync(Sql, "  - a\n  - b\n"));

    [Theory] // no constraint on what is no key, nor over a property that nobody sees
    [InlineData("  - a\n  - b\n", "Property=\"a_code\"")]
    [InlineData("  - a\n  - { from: b, hide: [a_id] }\n", "Property=\"a_id\"")]
    [Proves("C-32")]
    public async Task The_document_does_not_say_it(string sets, string absent) =>
        Assert.DoesNotContain(absent, await MetadataAsync(Sql, sets));

    [Fact] // readers of 4.0 that are in use know two actions
    public async Task Actions_on_delete_depend_on_the_version()
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(Sql).WithService("  - a\n  - b\n");
        await using var workspace = await folder.LoadAsync();
        string Document(ODataVersion version) => Encoding.UTF8.GetString(CsdlXmlWriter.Write(workspace.Services[0].Model, version));
        Assert.DoesNotContain("SetNull", Document(ODataVersion.V40));
        Assert.Contains("<OnDelete Action=\"SetNull\" />", Document(ODataVersion.V401));
    }

    [Fact]
    public async Task Operations_are_told_to_those_who_may_call_them()
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(Sql).WithService("  - a\n  - { from: b, keyless: true }\n");
        await using var workspace = await folder.LoadAsync();
        var built = workspace.Services[0].Model;
        var model = built.With([
            new Operation("nearest", OperationKind.Function, null)
            {
                Parameters = [new("lat", EdmType.Double, false) { Description = "Degrees north." }, new("note", EdmType.String, true)],
                Value = EdmType.Int64,
                Who = AccessRule.ForRoles(["field-staff"]),
            },
            new Operation("recount", OperationKind.Action, null) { Who = AccessRule.Anyone },
            new Operation("latest", OperationKind.Function, built.FindSet("a")) { Who = AccessRule.Anyone },
        ]);
        var service = new PublishedService(model, workspace.Sources, "r");
        var staff = service.ModelFor(Caller.WithRoles("field-staff"));
        Assert.Equal(["nearest", "recount", "latest"], staff.DeclaredOperations.Select(o => o.Name));
        Assert.Equal(["recount", "latest"], service.ModelFor(Caller.Anonymous).DeclaredOperations.Select(o => o.Name));

        var xml = Encoding.UTF8.GetString(CsdlXmlWriter.Write(staff, ODataVersion.V401));
        Assert.Contains("<Parameter Name=\"lat\" Type=\"Edm.Double\" Nullable=\"false\">", xml);
        Assert.Contains("<FunctionImport Name=\"nearest\" Function=", xml);
        Assert.Contains("<ActionImport Name=\"recount\" Action=", xml);
        Assert.Contains(
            "<Function Name=\"latest\" IsComposable=\"true\"><ReturnType Type=\"Collection(",
            xml.Replace("\n", "").Replace("  ", "")
        );
        // What can be called by its name alone is in both documents, and is not answered with other rows.
        var document = Encoding.UTF8.GetString(ServiceDocumentWriter.Write(staff, new(ODataVersion.V401, MetadataLevel.None, false), "/"));
        Assert.Contains("latest", document);
        Assert.DoesNotContain("nearest", document);
        Assert.Equal(501, service.Prepare(NetworkFixture.Lex("latest").Value!, Caller.Anonymous).Fault?.Status);
        Assert.Equal(404, service.Prepare(NetworkFixture.Lex("nearest").Value!, Caller.Anonymous).Fault?.Status);
        using var json = JsonDocument.Parse(CsdlJsonWriter.Write(CsdlXmlWriter.Write(staff, ODataVersion.V401)));
        var nearest = json.RootElement.GetProperty(staff.Namespace).GetProperty("nearest")[0];
        Assert.Equal("Edm.Double", nearest.GetProperty("$Parameter")[0].GetProperty("$Type").GetString());
        Assert.Equal("Action", json.RootElement.GetProperty(staff.Namespace).GetProperty("recount")[0].GetProperty("$Kind").GetString());
        Assert.DoesNotContain(
            "nearest",
            Encoding.UTF8.GetString(CsdlXmlWriter.Write(service.ModelFor(Caller.Anonymous), ODataVersion.V401))
        );
    }

    [Fact]
    public async Task Rows_without_a_key_are_a_function_and_names_are_unique()
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(Sql).WithService("  - a\n  - { from: b, keyless: true }\n");
        await using var workspace = await folder.LoadAsync();
        var model = workspace.Services[0].Model;
        var rows = Assert.Single(model.Operations);
        Assert.Equal(("b", OperationKind.Function, true), (rows.Name, rows.Kind, rows.IsComposable));
        Assert.Null(model.FindOperation("a"));
        Assert.Throws<ArgumentException>(() => model.With([new Operation("a", OperationKind.Action, null)]));
    }
}
