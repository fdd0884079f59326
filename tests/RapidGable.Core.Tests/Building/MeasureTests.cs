using System.Text;
using System.Text.Json;
using System.Xml.Linq;
using RapidGable.Access;
using RapidGable.Declarations;
using RapidGable.Metadata;
using RapidGable.Payloads;

namespace RapidGable.Core.Tests;

/// <summary>What numbers are measured in, from the declaration to the metadata documents.</summary>
public class MeasureTests
{
    private static TestWorkspace Workspace(string columns, string rest = "") =>
        new TestWorkspace()
            .WithSource()
            .WithDatabase(
                """
                CREATE TABLE sensor (id INTEGER PRIMARY KEY, unit TEXT NOT NULL, currency TEXT);
                CREATE TABLE reading (id INTEGER PRIMARY KEY, value DECIMAL(9,3), cost DECIMAL(9,2), span INTEGER, at TIMESTAMP, unit TEXT, lat REAL, lon REAL, sensor_id INTEGER REFERENCES sensor (id));
                """
            )
            .WithService(
                $"  - {{ from: sensor, name: Sensors, type: Sensor{rest} }}\n  - from: reading\n    name: Readings\n    type: "
                    + $"Reading\n    group: {{ place: {{ type: Place, columns: [lat, lon] }} }}\n    columns:\n      {columns}\n"
            );

    [Theory]
    [InlineData("value: { measured-in: m³/s }", "value", "Measures.Unit", "String", "m³/s")]
    [InlineData("value: { measured-in: 10 }", "value", "Measures.Unit", "String", "10")]
    [InlineData("value: { measured-in: = unit }", "value", "Measures.Unit", "Path", "unit")]
    [InlineData("value: { measured-in: =sensor/unit }", "value", "Measures.Unit", "Path", "sensor/unit")]
    [InlineData("cost: { currency: EUR }", "cost", "Measures.ISOCurrency", "String", "EUR")]
    [InlineData("cost: { currency: = sensor/currency }", "cost", "Measures.ISOCurrency", "Path", "sensor/currency")]
    [InlineData("lat: { measured-in: ° }", "lat", "Measures.Unit", "String", "°")]
    [InlineData("lat: { measured-in: = unit }", "lat", "Measures.Unit", "Path", null)] // a part of a complex value has no way to the row
    [Proves("A-44, A-45")]
    public async Task Both_documents_tell_it(string column, string property, string term, string kind, string? expected)
    {
        using var folder = Workspace(column);
        await using var workspace = await folder.LoadAsync();
        Assert.Empty(workspace.Diagnostics.Items);
        var xml = CsdlXmlWriter.Write(workspace.Services[0].Model, ODataVersion.V401);
        var told = XDocument.Parse(Encoding.UTF8.GetString(xml)).Descendants().Where(e => e.Attribute("Term")?.Value == term).ToList();
        using var json = JsonDocument.Parse(CsdlJsonWriter.Write(xml));
        var inJson = json.RootElement.GetProperty("T").GetProperty(property == "lat" ? "Place" : "Reading").GetProperty(property);
        if (expected is null)
        {
            Assert.Empty(told);
            Assert.False(inJson.TryGetProperty("@" + term, out _));
            return;
        }
        Assert.Equal(property, Assert.Single(told).Parent!.Attribute("Name")!.Value);
        Assert.Equal(expected, told[0].Attribute(kind)!.Value);
        var value = inJson.GetProperty("@" + term);
        Assert.Equal(expected, (kind == "Path" ? value.GetProperty("$Path") : value).GetString());
    }

    [Theory] // who may not see the text is not told where it is
    [InlineData("")]
    [InlineData(", rules: { read: office }")]
    [InlineData(", rules: [{ who: anyone, may: read, hide: [unit] }]")]
    public async Task Only_who_sees_the_text_is_told_of_it(string rule)
    {
        using var folder = Workspace("value: { measured-in: = sensor/unit }", rule);
        await using var workspace = await folder.LoadAsync();
        Assert.False(workspace.Diagnostics.HasErrors, string.Join('\n', workspace.Diagnostics.Items));
        var model = workspace.Services[0].Model;
        var seen = Encoding.UTF8.GetString(
            CsdlXmlWriter.Write(AccessGate.VisibleTo(model, Caller.Anonymous, AccessGate.Bind(model)), ODataVersion.V401)
        );
        Assert.Contains("Name=\"value\"", seen);
        Assert.Equal(rule.Length == 0, seen.Contains("Measures.Unit", StringComparison.Ordinal));
    }

    [Fact]
    public async Task What_is_looked_up_keeps_its_unit_and_the_resolved_declaration_says_it()
    {
        using var folder = Workspace(
            "value: { measured-in: m }\n      cost: { currency: = unit }\n    compute: { doubled: value mul 2, copy: value }"
        );
        await using var workspace = await folder.LoadAsync();
        Assert.Empty(workspace.Diagnostics.Items);
        var set = workspace.Services[0].Model.FindSet("Readings")!;
        Assert.Equal("m", set.Type.FindProperty("copy")!.Measure!.ToString());
        Assert.Null(set.Type.FindProperty("doubled")!.Measure);
        var shown = string.Join(
            '\n',
            Drafting.ResolvedDeclaration.Of(workspace.Declaration.Services[0], workspace.Services[0]).Select(l => l.Text)
        );
        Assert.Matches("value: .*measured-in: m[,} ]", shown);
        Assert.Matches("cost: .*currency: \"= unit\"", shown);
    }

    [Theory]
    [InlineData("unit: { measured-in: m }", "'unit' is Edm.String, and only numbers have a unit or a currency.")]
    [InlineData("at: { measured-in: s }", "'at' is Edm.DateTimeOffset, and only numbers have a unit or a currency.")]
    [InlineData(
        "span: { type: duration, unit: minutes, measured-in: min }",
        "'span' is Edm.Duration, and only numbers have a unit or a currency."
    )]
    [InlineData("cost: { currency: eur }", "'eur' is not a currency code: three capital letters, such as EUR.")]
    [InlineData("cost: { currency: EURO }", "'EURO' is not a currency code: three capital letters, such as EUR.")]
    [InlineData("cost: { currency: EUR, measured-in: m }", "'cost' has a 'currency' and is 'measured-in' something; it is one of them.")]
    [InlineData("value: { measured-in: \"\" }", "'value' has an empty unit.")]
    [InlineData("value: { measured-in: \"=\" }", "'value' has an empty unit.")]
    [InlineData(
        "value: { measured-in: = sensor/unti }",
        "The unit cannot be looked up: 'Sensor' has no property 'unti'. Did you mean 'unit'?"
    )]
    [InlineData(
        "value: { measured-in: = sensor/id }",
        "'= sensor/id' does not lead to a text of the same entity or of one that it refers to."
    )]
    [InlineData(
        "value: { measured-in: = sensor }",
        "The unit cannot be looked up: A related entity is not a value; name one of its properties."
    )]
    [InlineData(
        "value: { measured-in: \"= tolower(unit)\" }",
        "'= tolower(unit)' does not lead to a text of the same entity or of one that it refers to."
    )]
    [InlineData("value: { measured-in: \"= 'm'\" }", "'= 'm'' does not lead to a text of the same entity or of one that it refers to.")]
    [InlineData("value: { measured-in: [m] }", "'measured-in' must be one text.")]
    public async Task What_cannot_be_is_told(string column, string message)
    {
        using var folder = Workspace(column);
        await using var workspace = await folder.LoadAsync();
        var fault = Assert.Single(workspace.Diagnostics.Items, d => d.Severity == Severity.Error);
        Assert.Equal(message, fault.Message);
    }
}
