using System.Text;
using System.Text.Json;
using System.Xml.Linq;
using RapidGable.Access;
using RapidGable.Drafting;
using RapidGable.Metadata;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Publishing;

namespace RapidGable.Core.Tests;

/// <summary>Names for primitive types: declared once, used by many properties, and told in every document (CSDL 11).</summary>
public class ScalarTypeTests
{
    private const string Tables = """
        CREATE TABLE station (
            id INTEGER NOT NULL PRIMARY KEY, code VARCHAR(12) NOT NULL, former VARCHAR(12), level NUMERIC(9,2), note TEXT, tags TEXT
        );
        """;

    private const string Types = """
        title: S
        source: main
        namespace: T
        rules:
          read: anyone
        types:
          Code:
            type: string(12)
            description: What stations are called.
          Level: decimal(9,2)
          Unused: int32
        sets:
          - from: station
            name: Stations
            columns:
              code: Code
              former: { type: Code, description: Before it moved. }
              level: Level
              note: string
              tags: collection(Code)

        """;

    private static readonly XNamespace Edm = "http://docs.oasis-open.org/odata/ns/edm";

    private static async Task<(EntityModel? Model, List<string> Faults, string Shown)> BuildAsync(string service)
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(Tables).Write("services/s.yaml", service);
        await using var workspace = await folder.LoadAsync();
        var built = workspace.FindService("s");
        return (
            built?.Model,
            [.. workspace.Diagnostics.Items.Select(d => $"{d.Code} {d.Location.Line}: {d.Message}")],
            built is null ? "" : string.Join('\n', ResolvedDeclaration.Of(workspace.Declaration.Services[0], built).Select(l => l.Text))
        );
    }

    [Fact]
    [Proves("C-17")]
    public async Task A_type_is_named_once_and_used_by_many_properties()
    {
        var (model, faults, _) = await BuildAsync(Types);
        Assert.Empty(faults);
        var document = XDocument.Parse(Encoding.UTF8.GetString(CsdlXmlWriter.Write(model!, ODataVersion.V401)));
        var definitions = document.Descendants(Edm + "TypeDefinition").ToList();
        Assert.Equal(["Code", "Level"], definitions.Select(d => (string)d.Attribute("Name")!));
        Assert.Equal(
            ("Edm.String", "12"),
            ((string)definitions[0].Attribute("UnderlyingType")!, (string)definitions[0].Attribute("MaxLength")!)
        );
        Assert.Contains("What stations are called.", definitions[0].ToString());
        string Property(string name) =>
            document
                .Descendants(Edm + "Property")
                .Single(p => (string)p.Attribute("Name")! == name)
                .ToString(SaveOptions.DisableFormatting);
        // Facets of the type are not stated again.
        Assert.Contains("Type=\"T.Code\"", Property("code"));
        Assert.DoesNotContain("MaxLength", Property("code"));
        Assert.DoesNotContain("Scale", Property("level"));
        Assert.Contains("Type=\"Collection(T.Code)\"", Property("tags"));
        Assert.Contains("Type=\"Edm.String\"", Property("note"));
    }

    [Fact]
    public async Task The_json_document_names_it_too()
    {
        var (model, _, _) = await BuildAsync(Types);
        using var json = JsonDocument.Parse(CsdlJsonWriter.Write(CsdlXmlWriter.Write(model!, ODataVersion.V401)));
        var schema = json.RootElement.GetProperty("T");
        Assert.Equal(
            ("TypeDefinition", "Edm.String", 12),
            (
                schema.GetProperty("Code").GetProperty("$Kind").GetString(),
                schema.GetProperty("Code").GetProperty("$UnderlyingType").GetString(),
                schema.GetProperty("Code").GetProperty("$MaxLength").GetInt32()
            )
        );
        Assert.Equal("T.Code", schema.GetProperty("station").GetProperty("code").GetProperty("$Type").GetString());
    }

    [Fact]
    public async Task The_resolved_declaration_reads_back_as_the_same()
    {
        var (model, _, shown) = await BuildAsync(Types);
        Assert.Contains("type: Code", shown);
        var (again, faults, _) = await BuildAsync(shown);
        Assert.Empty(faults);
        byte[] Document(EntityModel of) => CsdlXmlWriter.Write(of, ODataVersion.V401);
        Assert.Equal(Encoding.UTF8.GetString(Document(model!)), Encoding.UTF8.GetString(Document(again!)));
    }

    [Fact]
    public async Task Who_sees_no_property_of_a_type_sees_no_trace_of_it()
    {
        var hidden = Types.Replace("    columns:", "    rules: [{ who: anyone, may: read, hide: [code, former, tags] }]\n    columns:");
        using var folder = new TestWorkspace().WithSource().WithDatabase(Tables).Write("services/s.yaml", hidden);
        await using var workspace = await folder.LoadAsync();
        var service = new PublishedService(workspace.Services[0].Model, workspace.Sources, "r");
        var seen = Encoding.UTF8.GetString(CsdlXmlWriter.Write(service.ModelFor(Caller.Anonymous), ODataVersion.V401));
        Assert.DoesNotContain("Code", seen);
        Assert.Contains("\"Level\"", seen);
    }

    [Theory]
    [InlineData("Code: { type: nothing }", "unknown-type")]
    [InlineData("Code: { type: collection(string) }", "unknown-type")]
    [InlineData("Code: { type: Other }", "unknown-type")]
    [InlineData("Code: { type: string, members: [a] }", "type-kind")]
    [InlineData("Code: { type: string, open: true }", "type-kind")]
    [InlineData("Code: {}", "type-kind")]
    [InlineData("Code: [string]", "shape")]
    public async Task What_is_wrong_with_a_type_is_told(string type, string code)
    {
        var (_, faults, _) = await BuildAsync($"title: S\nsource: main\ntypes:\n  {type}\nsets:\n  - station\n");
        Assert.Contains(faults, f => f.StartsWith(code + " ", StringComparison.Ordinal));
    }

    [Fact]
    public async Task A_value_that_does_not_fit_the_facets_is_no_type_of_its_own()
    {
        // The column is longer than the type: values of it are served, and the document says what the type says.
        var (model, faults, _) = await BuildAsync(Types.Replace("string(12)", "string(3)"));
        Assert.Empty(faults);
        Assert.Equal(3, model!.Sets[0].Type.FindProperty("code")!.Type.MaxLength);
    }
}
