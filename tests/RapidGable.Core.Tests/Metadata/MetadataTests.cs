using System.Text;
using RapidGable.Metadata;
using RapidGable.Payloads;

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
}
