using System.Text;
using System.Text.Json;
using System.Xml;
using System.Xml.Linq;
using Microsoft.OData.Edm.Csdl;
using Microsoft.OData.Edm.Validation;
using RapidGable.Building;
using RapidGable.Core.Tests;
using RapidGable.Metadata;
using RapidGable.Payloads;

namespace RapidGable.Service.Tests;

/// <summary>
/// Metadata documents as a strict reader takes them, on which many tools are built; and held to what the schemas of CSDL allow.
/// </summary>
public sealed class StrictMetadataTests
{
    /// <summary>A service with everything that documents have something to say about.</summary>
    private const string Sql = """
        CREATE TABLE site (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, title TEXT DEFAULT 'it''s', kind TEXT NOT NULL DEFAULT 'well', opened DATE DEFAULT '2024-01-01', depth DECIMAL(9,2) DEFAULT .5, flag BOOLEAN NOT NULL DEFAULT 1, lat REAL, lon REAL, photo BLOB, at TIMESTAMP, tags TEXT);
        CREATE TABLE visit (id INTEGER PRIMARY KEY, site_id INTEGER NOT NULL REFERENCES site ON DELETE CASCADE, helper_id INTEGER REFERENCES site ON DELETE SET NULL, later_id INTEGER REFERENCES visit ON DELETE SET DEFAULT, minutes INTEGER NOT NULL DEFAULT 30, cost DECIMAL(8,2), note TEXT, changed TIMESTAMP NOT NULL DEFAULT '2024-01-01');
        CREATE TABLE line (visit_id INTEGER NOT NULL REFERENCES visit, no INTEGER NOT NULL, text TEXT, PRIMARY KEY (visit_id, no));
        CREATE TABLE log (at TIMESTAMP, word TEXT);
        CREATE TABLE bytes (id BLOB PRIMARY KEY NOT NULL, name TEXT);
        """;

    private const string Sets = """
          - from: site
            allow: [read, create, update, delete]
            group: { place: [lat, lon] }
            discriminator: kind
            derived: { Well: { when: well, columns: [depth] }, Spring: { when: spring } }
            columns:
              photo: { stream: true, media-type: image/png }
              title: { pattern: '[A-Z].*', min-length: 2, message: Say it well. }
              code: { write: create }
              at: { generate: now }
              tags: "collection(string)"
          - from: visit
            allow: [read, create, update, delete]
            version: row
            changes: changed
            valid:
              - { where: "cost gt 0 or minutes lt 10", message: It costs. }
              - { where: "not (length(note) lt 3) and site/code ne 'X'", message: Say more. }
            columns:
              minutes: { minimum: 0, maximum: 600, measured-in: min }
              cost: { currency: EUR }
            relations: { lines: { to: line, contained: true } }
          - { from: line, allow: [read, create, update, delete], columns: { text: { filter: false, sort: false } } }
          - { from: log, keyless: true }
          - bytes

        """;

    public static TheoryData<string> Versions => ["4.0", "4.01"];

    private static async Task<List<byte[]>> DocumentsAsync(ODataVersion version)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .Write("sources/main.yaml", "engine: sqlite\nfile: data.db\nread-only: false\n")
            .WithDatabase(Sql)
            .WithService(Sets);
        await using var own = await folder.LoadAsync();
        Assert.DoesNotContain(own.Diagnostics.Items, d => d.Severity == Declarations.Severity.Error);
        await using var demo = await WorkspaceLoader.LoadAsync(Path.Combine(Gable.Root, "demo"), _ => null, CancellationToken.None);
        return [.. own.Services.Concat(demo.Services).Select(s => CsdlXmlWriter.Write(s.Model, version))];
    }

    [Theory]
    [MemberData(nameof(Versions))]
    public async Task A_strict_reader_takes_every_document(string version)
    {
        foreach (var document in await DocumentsAsync(version == "4.0" ? ODataVersion.V40 : ODataVersion.V401))
        {
            // Conditions, and two of the actions on delete, are in the schema of 4.01, and not in this reader.
            using var xml = XmlReader.Create(new MemoryStream(version == "4.0" ? document : WithoutConditions(document)));
            Assert.True(CsdlReader.TryParse(xml, out var model, out var faults), string.Join('\n', faults.Select(f => f.ToString())));
            model.Validate(out var wrong);
            // It takes a bound for a value of the abstract type that its term is declared with, and its copy of one vocabulary
            // lacks a member.
            var own = wrong
                .Where(w =>
                    w.ErrorCode is not (EdmErrorCode.ExpressionPrimitiveKindNotValidForAssertedType or EdmErrorCode.BadUnresolvedEnumMember)
                )
                .Select(f => f.ToString())
                .ToList();
            Assert.True(own.Count == 0, string.Join('\n', own));
        }
    }

    private static byte[] WithoutConditions(byte[] document)
    {
        var xml = XDocument.Parse(Encoding.UTF8.GetString(document));
        xml.Descendants()
            .Where(e => e.Attribute("Term")?.Value == "Validation.Constraint" || e.Attribute("Action")?.Value is "SetNull" or "SetDefault")
            .Remove();
        return Encoding.UTF8.GetBytes(xml.ToString());
    }

    /// <summary>What the schemas of CSDL 4.0 and 4.01 allow, as far as it is used: element, attributes, children.</summary>
    private static readonly Dictionary<string, (string[] Attributes, string[] Children)> Allowed = """
        Edmx | Version | Reference DataServices
        Reference | Uri | Include Annotation
        Include | Namespace Alias |
        DataServices | | Schema
        Schema | Namespace Alias | EntityType ComplexType EnumType Function Action EntityContainer Annotation
        EntityType | Name BaseType Abstract OpenType HasStream | Key Property NavigationProperty Annotation
        ComplexType | Name BaseType Abstract OpenType | Property NavigationProperty Annotation
        Key | | PropertyRef
        PropertyRef | Name Alias |
        Property | Name Type Nullable MaxLength Precision Scale Unicode SRID DefaultValue | Annotation
        NavigationProperty | Name Type Nullable Partner ContainsTarget | ReferentialConstraint OnDelete Annotation
        ReferentialConstraint | Property ReferencedProperty | Annotation
        OnDelete | Action | Annotation
        EnumType | Name UnderlyingType IsFlags | Member Annotation
        Member | Name Value | Annotation
        Function | Name IsBound IsComposable EntitySetPath | Parameter ReturnType Annotation
        Action | Name IsBound EntitySetPath | Parameter ReturnType Annotation
        Parameter | Name Type Nullable MaxLength Precision Scale SRID | Annotation
        ReturnType | Type Nullable MaxLength Precision Scale SRID | Annotation
        EntityContainer | Name Extends | EntitySet FunctionImport ActionImport Annotation
        EntitySet | Name EntityType IncludeInServiceDocument | NavigationPropertyBinding Annotation
        NavigationPropertyBinding | Path Target |
        FunctionImport | Name Function EntitySet IncludeInServiceDocument | Annotation
        ActionImport | Name Action EntitySet | Annotation
        """.Split('\n').Select(l => l.Split('|')).ToDictionary(l => l[0].Trim(), l => (Words(l[1]), Words(l[2])));

    private static string[] Words(string text) => text.Split(' ', StringSplitOptions.RemoveEmptyEntries);

    /// <summary>Each term with the form of its value: a kind of constant, [ ] for a collection, { } for a record.</summary>
    private static readonly Dictionary<string, string[]> Terms = """
        Core.Description String
        Core.LongDescription String
        Core.Computed Bool
        Core.ComputedDefaultValue Bool
        Core.Immutable Bool
        Core.Permissions EnumMember
        Core.OptionalParameter {} {DefaultValue:String}
        Core.Example {Description:String,Value:String}
        Core.Revisions [{Kind:EnumMember,Description:String}]
        Core.IsMediaType Bool
        Core.MediaType String
        Core.AlternateKeys [{Key:[{Name:PropertyPath,Alias:String}]}]
        Core.OptimisticConcurrency [] [PropertyPath]
        Core.ODataVersions String
        Core.ConventionalIDs Bool
        Core.DereferenceableIDs Bool
        Capabilities.ConformanceLevel EnumMember
        Capabilities.SupportedFormats [String]
        Capabilities.SupportedMetadataFormats [String]
        Capabilities.AsynchronousRequestsSupported Bool
        Capabilities.BatchSupported Bool
        Capabilities.BatchSupport {Supported:Bool,ContinueOnErrorSupported:Bool,ReferencesInRequestBodiesSupported:Bool,ReferencesAcrossChangeSetsSupported:Bool,EtagReferencesSupported:Bool,RequestDependencyConditionsSupported:Bool,SupportedFormats:[String]}
        Capabilities.KeyAsSegmentSupported Bool
        Capabilities.QuerySegmentSupported Bool
        Capabilities.CrossJoinSupported Bool
        Capabilities.FilterFunctions [String]
        Capabilities.InsertRestrictions {Insertable:Bool}
        Capabilities.UpdateRestrictions {Updatable:Bool} {Updatable:Bool,Upsertable:Bool,FilterSegmentSupported:Bool,DeltaUpdateSupported:Bool}
        Capabilities.DeleteRestrictions {Deletable:Bool} {Deletable:Bool,FilterSegmentSupported:Bool}
        Capabilities.DeepInsertSupport {Supported:Bool}
        Capabilities.DeepUpdateSupport {Supported:Bool}
        Capabilities.FilterRestrictions {RequiresFilter:Bool} {NonFilterableProperties:[PropertyPath]} {RequiresFilter:Bool,NonFilterableProperties:[PropertyPath]}
        Capabilities.SortRestrictions {NonSortableProperties:[PropertyPath]}
        Capabilities.SearchRestrictions {Searchable:Bool}
        Capabilities.ExpandRestrictions {MaxLevels:Int}
        Capabilities.SelectSupport {Supported:Bool,Expandable:Bool,Filterable:Bool,Searchable:Bool,TopSupported:Bool,SkipSupported:Bool,ComputeSupported:Bool,Countable:Bool,Sortable:Bool}
        Capabilities.ComputeSupported Bool
        Capabilities.ChangeTracking {Supported:Bool}
        Aggregation.ApplySupported {Transformations:[String],Rollup:EnumMember}
        Validation.Minimum Int Decimal Float Date DateTimeOffset TimeOfDay Duration
        Validation.Maximum Int Decimal Float Date DateTimeOffset TimeOfDay Duration
        Validation.Pattern String
        Validation.AllowedValues [{Value:String}]
        Validation.Constraint {FailureMessage:String,Condition:Condition}
        Measures.Unit String Path
        Measures.ISOCurrency String Path
        """.Split('\n').Select(l => l.Split(' ')).ToDictionary(l => l[0], l => l[1..]);

    private static readonly HashSet<string> Constants =
    [
        "String",
        "Bool",
        "Int",
        "Decimal",
        "Float",
        "Date",
        "DateTimeOffset",
        "TimeOfDay",
        "Duration",
        "EnumMember",
        "Path",
        "PropertyPath",
    ];
    private static readonly HashSet<string> Conditions = ["And", "Or", "Not", "Eq", "Ne", "Gt", "Ge", "Lt", "Le", "Apply"];

    /// <summary>The form of a value: as an attribute, or as a child.</summary>
    private static string Form(XElement element)
    {
        if (element.Elements().FirstOrDefault(e => e.Name.LocalName != "Annotation") is not { } child)
            return Assert.Single(element.Attributes(), a => Constants.Contains(a.Name.LocalName)).Name.LocalName;
        return Expression(child);
    }

    private static string Expression(XElement element) =>
        element.Name.LocalName switch
        {
            "Collection" => $"[{string.Join(' ', element.Elements().Select(Expression).Distinct())}]",
            "Record" => $"{{{string.Join(',', element.Elements().Select(p => $"{p.Attribute("Property")!.Value}:{Form(p)}"))}}}",
            var name when Conditions.Contains(name) => "Condition",
            var name => Constants.Contains(name) ? name : $"unknown {name}",
        };

    private static string? Fault(XElement element, bool is40)
    {
        var name = element.Name.LocalName;
        if (name == "Annotation")
        {
            var term = element.Attribute("Term")!.Value;
            if (is40 && element.Descendants().FirstOrDefault(d => Conditions.Contains(d.Name.LocalName)) is { } dynamic)
                return $"{term} holds {dynamic.Name.LocalName} in 4.0";
            return !Terms.TryGetValue(term, out var forms) ? $"{term} is no term that is known here"
                : forms.Contains(Form(element)) ? null
                : $"{term} has the form {Form(element)}";
        }
        if (!Allowed.TryGetValue(name, out var allowed))
            return $"{name} is no element that is allowed";
        if (
            element.Attributes().FirstOrDefault(a => !a.IsNamespaceDeclaration && !allowed.Attributes.Contains(a.Name.LocalName)) is
            { } attribute
        )
            return $"{name} has an attribute {attribute.Name.LocalName}";
        if (
            name == "OnDelete"
            && !(is40 ? new[] { "Cascade", "None" } : ["Cascade", "None", "SetNull", "SetDefault"]).Contains(
                element.Attribute("Action")!.Value
            )
        )
            return $"OnDelete is {element.Attribute("Action")!.Value}";
        return element.Elements().FirstOrDefault(e => !allowed.Children.Contains(e.Name.LocalName)) is { } child
            ? $"{name} holds {child.Name.LocalName}"
            : element.Elements().Select(e => Fault(e, is40)).FirstOrDefault(f => f is not null);
    }

    [Theory]
    [MemberData(nameof(Versions))]
    public async Task A_document_holds_what_its_version_allows_and_terms_of_their_types(string version)
    {
        foreach (var document in await DocumentsAsync(version == "4.0" ? ODataVersion.V40 : ODataVersion.V401))
        {
            var xml = XDocument.Parse(Encoding.UTF8.GetString(document));
            Assert.Null(Fault(xml.Root!, version == "4.0"));
            if (version != "4.0" && xml.Descendants().Any(e => e.Attribute("Name")?.Value == "bytes"))
                Assert.Equal(2, xml.Descendants().Count(e => e.Attribute("Term")?.Value == "Validation.Constraint"));
        }
    }

    [Fact] // CSDL JSON 7.2.7: a default is a value of the property's type
    public async Task Defaults_stand_in_json_as_their_types_do()
    {
        var document = (await DocumentsAsync(ODataVersion.V401)).First(d => Encoding.UTF8.GetString(d).Contains("\"bytes\""));
        using var json = JsonDocument.Parse(CsdlJsonWriter.Write(document));
        var types = json
            .RootElement.EnumerateObject()
            .First(p => p.Value.ValueKind == JsonValueKind.Object && p.Value.TryGetProperty("site", out _))
            .Value;
        string Default(string type, string property) =>
            types.GetProperty(type).GetProperty(property).GetProperty("$DefaultValue").GetRawText();
        Assert.Equal(
            ["\"it's\"", "\"2024-01-01\"", "0.5", "true"],
            [Default("site", "title"), Default("site", "opened"), Default("Well", "depth"), Default("site", "flag")]
        );
        Assert.Equal("30", Default("visit", "minutes"));
    }
}
