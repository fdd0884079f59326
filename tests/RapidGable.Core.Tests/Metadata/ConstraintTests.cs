using System.Text;
using System.Text.Json;
using System.Xml.Linq;
using RapidGable.Access;
using RapidGable.Metadata;
using RapidGable.Payloads;

namespace RapidGable.Core.Tests;

/// <summary>Rules about rows in metadata documents as expressions that both document formats have.</summary>
public class ConstraintTests
{
    private static async Task<LoadedService> LoadAsync(string valid, string more = "")
    {
        var folder = new TestWorkspace()
            .WithSource()
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .WithDatabase(
                """
                CREATE TABLE station (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, altitude DECIMAL(6,1));
                CREATE TABLE visit (id INTEGER PRIMARY KEY, purpose TEXT, planned DATE, done TIMESTAMP, cost DECIMAL(8,2), hours DOUBLE PRECISION, urgent BOOLEAN, sealed TEXT, lat REAL, lon REAL, station_id INTEGER REFERENCES station (id));
                """
            )
            .WithService(
                $"  - {{ from: station, name: Stations }}\n  - from: visit\n    name: Visits\n    allow: [read, create, "
                    + $"update]\n    hide: [sealed]\n    group: {{ place: [lat, lon] }}\n    valid: {valid}\n{more}"
            );
        var workspace = await folder.LoadAsync();
        Assert.Empty(workspace.Diagnostics.Items);
        return new LoadedService(folder, workspace);
    }

    private sealed record LoadedService(TestWorkspace Folder, Building.LoadedWorkspace Workspace) : IAsyncDisposable
    {
        public byte[] Document(ODataVersion version, string? hidden = null)
        {
            var model = Workspace.Services[0].Model;
            return CsdlXmlWriter.Write(
                hidden is null ? model : AccessGate.VisibleTo(model, Caller.Anonymous, AccessGate.Bind(model)),
                version
            );
        }

        public IEnumerable<XElement> Annotations(ODataVersion version, string term, string? hidden = null) =>
            XDocument
                .Parse(Encoding.UTF8.GetString(Document(version, hidden)))
                .Descendants()
                .Where(e => e.Name.LocalName == "EntityType")
                .Elements()
                .Where(e => e.Attribute("Term")?.Value == term);

        public async ValueTask DisposeAsync()
        {
            await Workspace.DisposeAsync();
            Folder.Dispose();
        }
    }

    /// <summary>An expression on one line, without the namespace.</summary>
    private static string Short(XElement element)
    {
        var name = element.Name.LocalName;
        var inside = element.HasElements ? string.Join(' ', element.Elements().Select(Short)) : element.Value;
        return $"{name}{(element.Attribute("Function") is { } function ? ":" + function.Value : "")}({inside})";
    }

    [Theory]
    [InlineData("cost gt 0", "Gt(Path(cost) Int(0))")]
    [InlineData("cost eq null or done ne null", "Or(Eq(Path(cost) Null()) Ne(Path(done) Null()))")]
    [InlineData(
        "planned ge 2024-01-01 and not (urgent eq true)",
        "And(Ge(Path(planned) Date(2024-01-01)) Not(Eq(Path(urgent) Bool(true))))"
    )]
    [InlineData("done lt 2030-01-01T00:00:00Z", "Lt(Path(done) DateTimeOffset(2030-01-01T00:00:00Z))")]
    [InlineData("hours le 7.5", "Le(Path(hours) Decimal(7.5))")]
    [InlineData("purpose in ('Read','It''s due')", "Or(Eq(Path(purpose) String(Read)) Eq(Path(purpose) String(It's due)))")]
    [InlineData("place/lat gt 50", "Gt(Path(place/lat) Float(50))")]
    [InlineData("station/code ne 'X'", "Ne(Path(station/code) String(X))")]
    [InlineData("station ne null", "Ne(Path(station) Null())")]
    [InlineData("concat(purpose,'!') ne '!'", "Ne(Apply:odata.concat(Path(purpose) String(!)) String(!))")]
    [InlineData("length(purpose) ge 3", "Ge(Apply:odata.length(Path(purpose)) Int(3))")]
    [InlineData("matchesPattern(purpose,'^[A-Z]')", "Apply:odata.matchesPattern(Path(purpose) String(^[A-Z]))")]
    [InlineData("date(done) ge planned", "Ge(Apply:odata.date(Path(done)) Path(planned))")]
    [InlineData("cost add 1 lt 100", "Lt(Add(Path(cost) Int(1)) Int(100))")]
    [Proves("A-42")]
    public async Task A_condition_is_told_as_an_expression(string where, string expected)
    {
        await using var service = await LoadAsync($"[{{ where: \"{where}\", message: No. }}]");
        var told = Assert.Single(service.Annotations(ODataVersion.V401, "Validation.Constraint"));
        Assert.Equal(expected, Short(told.Descendants().First(e => e.Attribute("Property")?.Value == "Condition").Elements().Single()));
        Assert.Equal("No.", told.Descendants().First(e => e.Attribute("Property")?.Value == "FailureMessage").Attribute("String")!.Value);
        Assert.Empty(service.Annotations(ODataVersion.V40, "Validation.Constraint"));
        Assert.Equal(["No."], service.Annotations(ODataVersion.V40, "Core.LongDescription").Select(a => a.Attribute("String")!.Value));
    }

    [Theory] // what single values must be
    [InlineData("cost: { minimum: 0, maximum: 99.5 }", "Validation.Minimum Decimal=0, Validation.Maximum Decimal=99.5")]
    [InlineData("hours: { maximum: 7.5 }", "Validation.Maximum Float=7.5")]
    [InlineData("station_id: { minimum: 1 }", "Validation.Minimum Int=1")]
    [InlineData("planned: { minimum: 2000-01-01 }", "Validation.Minimum Date=2000-01-01")]
    [InlineData("done: { maximum: 2100-01-01T00:00:00Z }", "Validation.Maximum DateTimeOffset=2100-01-01T00:00:00Z")]
    [InlineData("purpose: { pattern: '[A-Z].*' }", "Validation.Pattern String=^(?:[A-Z].*)$")]
    [InlineData("purpose: { values: [Read, Clean] }", "Validation.AllowedValues Read Clean")]
    [InlineData(
        "purpose: { min-length: 3, max-length: 80, message: Say why. }",
        "Core.LongDescription String=At least 3 characters. At most 80 characters. Say why."
    )]
    [InlineData("purpose: { exists: Stations/code }", "Core.LongDescription String=Must be the code of one of Stations.")]
    [InlineData("purpose: { write: create }", "Core.Immutable Bool=true")]
    [InlineData("purpose: { write: never }", "Core.Permissions EnumMember=Core.Permission/Read")]
    [InlineData("purpose: { generate: user }", "Core.Computed Bool=true")]
    [InlineData("purpose: { default: user }", "Core.ComputedDefaultValue Bool=true")]
    [Proves("A-39 to A-41")]
    public async Task A_rule_of_a_value_stands_with_its_property(string column, string expected)
    {
        await using var service = await LoadAsync("[]", $"    columns:\n      {column}\n");
        var property = XDocument
            .Parse(Encoding.UTF8.GetString(service.Document(ODataVersion.V40)))
            .Descendants()
            .First(e => e.Name.LocalName == "Property" && e.Attribute("Name")!.Value == column.Split(':')[0]);
        Assert.Equal(
            expected,
            string.Join(
                ", ",
                property
                    .Elements()
                    .Select(a =>
                        a.Attributes().Skip(1).FirstOrDefault() is { } value
                            ? $"{a.Attribute("Term")!.Value} {value.Name.LocalName}={value.Value}"
                            : $"{a.Attribute("Term")!.Value} {string.Join(' ', a.Descendants().Attributes("String").Select(t => t.Value))}"
                    )
            )
        );
    }

    [Theory]
    [InlineData("[{ where: purpose ne @region, message: About the caller. }]", "About the caller.")]
    [InlineData("[{ where: cost gt 0, on: update, message: Say what it cost. }]", "When changed: Say what it cost.")]
    [InlineData("[{ where: cost gt 0, who: technician, message: For some. }]", null)]
    [InlineData("[{ unique: [station_id, planned] }]", "No two entities have the same station_id, planned.")]
    [InlineData("[{ unique: [lat, sealed] }]", null)]
    [InlineData("[{ unique: [lat, sealed], message: About what is hidden. }]", null)]
    [InlineData("[{ where: 'station/Visits/any(v:v/cost gt 1 and v/place/lat gt 2)', message: Some visit costs. }]", "Some visit costs.")]
    [InlineData("[{ where: station/Visits/$count gt 0, message: There are some. }]", "There are some.")]
    [InlineData("[{ unique: [lat], on: create, message: One a place. }]", "When created: One a place.")]
    public async Task What_has_no_form_is_told_in_words_or_not_at_all(string valid, string? words)
    {
        await using var service = await LoadAsync(valid);
        Assert.Empty(service.Annotations(ODataVersion.V401, "Validation.Constraint"));
        Assert.Equal(
            words is null ? [] : [words],
            service.Annotations(ODataVersion.V401, "Core.LongDescription").Select(a => a.Attribute("String")!.Value)
        );
    }

    [Fact]
    public async Task Several_have_qualifiers_and_the_other_format_says_the_same()
    {
        await using var service = await LoadAsync("[{ where: cost gt 0 }, { where: \"not (length(purpose) lt -1)\" }]");
        Assert.Equal(
            ["Rule1", "Rule2"],
            service.Annotations(ODataVersion.V401, "Validation.Constraint").Select(a => a.Attribute("Qualifier")!.Value)
        );
        using var json = JsonDocument.Parse(CsdlJsonWriter.Write(service.Document(ODataVersion.V401)));
        var type = json.RootElement.GetProperty("T").GetProperty("visit");
        Assert.Equal(
            """{"$Gt":[{"$Path":"cost"},0]}""",
            JsonSerializer.Serialize(type.GetProperty("@Validation.Constraint#Rule1").GetProperty("Condition"))
        );
        Assert.Equal(
            """{"$Not":{"$Lt":[{"$Apply":[{"$Path":"purpose"}],"$Function":"odata.length"},-1]}}""",
            JsonSerializer.Serialize(type.GetProperty("@Validation.Constraint#Rule2").GetProperty("Condition"))
        );
    }

    [Theory] // what a caller may not see is not told by a rule about it
    [InlineData("[{ where: cost gt 0, message: It costs. }]", "Validation.Constraint")]
    [InlineData("[{ where: cost gt 0, on: update, message: It costs. }]", "Core.LongDescription")]
    [InlineData("[{ where: cost gt 0 or purpose ne @region, message: It costs. }]", "Core.LongDescription")]
    [InlineData("[{ where: 'station/Visits/any(v:v/cost gt 1)', message: It costs. }]", "Core.LongDescription")]
    [InlineData("[{ unique: [cost], message: It costs. }]", "Core.LongDescription")]
    public async Task A_rule_about_what_a_caller_does_not_see_is_not_told(string valid, string term)
    {
        await using var service = await LoadAsync(valid, "    rules: [{ who: anyone, may: [read, create], hide: [cost] }]\n");
        Assert.Single(service.Annotations(ODataVersion.V401, term));
        Assert.Empty(service.Annotations(ODataVersion.V401, term, "cost"));
    }
}
