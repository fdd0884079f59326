using System.Collections.Immutable;
using System.Xml;
using System.Xml.Linq;

namespace RapidGable.Verification;

/// <summary>CSDL XML -> document; what is not understood is passed over, what is misplaced is reported.</summary>
public static class CsdlReader
{
    private static readonly XNamespace Edmx = "http://docs.oasis-open.org/odata/ns/edmx";
    private static readonly XNamespace Edm = "http://docs.oasis-open.org/odata/ns/edm";

    /// <summary>How deep elements may nest; a document of metadata needs a tenth of it.</summary>
    private const int MostLevels = 100;

    private static XmlReader ReaderOf(byte[] body) =>
        XmlReader.Create(new MemoryStream(body), new XmlReaderSettings { DtdProcessing = DtdProcessing.Prohibit, XmlResolver = null });

    /// <summary>What is deep takes the library time that grows with the square of it.</summary>
    private static bool NestsTooDeep(byte[] body)
    {
        using var reader = ReaderOf(body);
        while (reader.Read())
        {
            if (reader.Depth > MostLevels)
                return true;
        }
        return false;
    }

    /// <summary>Reads the bytes; null when they are no metadata document at all.</summary>
    /// <param name="faults">Receives what is wrong with the document's frame.</param>
    public static CsdlDocument? Read(byte[] body, ICollection<string> faults)
    {
        XElement root;
        try
        {
            if (NestsTooDeep(body))
            {
                faults.Add($"It nests more than {MostLevels} levels deep.");
                return null;
            }
            using var reader = ReaderOf(body);
            root = XElement.Load(reader);
        }
        catch (XmlException exception)
        {
            faults.Add($"It is not well-formed XML: {exception.Message}");
            return null;
        }
        if (root.Name != Edmx + "Edmx")
        {
            faults.Add($"The root element is {root.Name}, not {Edmx + "Edmx"}.");
            return null;
        }
        var services = root.Elements(Edmx + "DataServices").ToList();
        if (services.Count != 1)
            faults.Add($"It has {services.Count} DataServices elements, and needs exactly one.");
        foreach (var foreign in services.Elements().Where(e => e.Name.LocalName == "Schema" && e.Name.Namespace != Edm))
            faults.Add($"A Schema is in the namespace '{foreign.Name.NamespaceName}', not '{Edm}'.");
        foreach (
            var reference in root.Elements(Edmx + "Reference")
                .Where(r => !r.Elements().Any(e => e.Name.LocalName is "Include" or "IncludeAnnotations"))
        )
            faults.Add($"The reference to {(string?)reference.Attribute("Uri")} includes nothing.");
        foreach (
            var wrong in root.Descendants()
                .SelectMany(e => e.Attributes())
                .Where(a => a.Name.LocalName is "nullable" or "Isflags" or "isFlags" or "maxLength" or "precision" or "scale")
        )
            faults.Add($"The attribute '{wrong.Name.LocalName}' is written in the wrong case.");
        var included = root.Elements(Edmx + "Reference")
            .Elements(Edmx + "Include")
            .SelectMany(i => new[] { (string?)i.Attribute("Namespace"), (string?)i.Attribute("Alias") })
            .OfType<string>()
            .ToImmutableArray();
        return new CsdlDocument((string?)root.Attribute("Version") ?? "", [.. services.Elements(Edm + "Schema").Select(Schema)], included);
    }

    private static CsdlSchema Schema(XElement schema) =>
        new(
            Text(schema, "Namespace"),
            (string?)schema.Attribute("Alias"),
            [.. schema.Elements().Select(Type).OfType<CsdlType>()],
            [.. schema.Elements(Edm + "EntityContainer").Select(c => Container(c, schema))]
        );

    private static CsdlType? Type(XElement element) =>
        element.Name.LocalName switch
        {
            "EntityType" => Structured(element, CsdlTypeKind.Entity),
            "ComplexType" => Structured(element, CsdlTypeKind.Complex),
            "EnumType" => new CsdlType(CsdlTypeKind.Enum, Text(element, "Name"), null, false, [], [], [])
            {
                Underlying = (string?)element.Attribute("UnderlyingType") ?? "Edm.Int32",
                IsFlags = (string?)element.Attribute("IsFlags") == "true",
                Members = [.. element.Elements(Edm + "Member").Select(m => (Text(m, "Name"), (string?)m.Attribute("Value")))],
            },
            "TypeDefinition" => new CsdlType(CsdlTypeKind.Definition, Text(element, "Name"), null, false, [], [], [])
            {
                Underlying = Text(element, "UnderlyingType"),
            },
            _ => null,
        };

    private static CsdlType Structured(XElement element, CsdlTypeKind kind) =>
        new(
            kind,
            Text(element, "Name"),
            (string?)element.Attribute("BaseType"),
            (string?)element.Attribute("Abstract") == "true",
            [.. element.Elements(Edm + "Key").Elements(Edm + "PropertyRef").Select(r => (string?)r.Attribute("Alias") ?? Text(r, "Name"))],
            [.. element.Elements(Edm + "Property").Select(Property)],
            [.. element.Elements(Edm + "NavigationProperty").Select(Navigation)]
        )
        {
            IsOpen = (string?)element.Attribute("OpenType") == "true",
        };

    private static CsdlProperty Property(XElement element) =>
        new(
            Text(element, "Name"),
            Text(element, "Type"),
            (string?)element.Attribute("Nullable"),
            element
                .Attributes()
                .Where(a => a.Name.LocalName is not ("Name" or "Type" or "Nullable"))
                .ToImmutableDictionary(a => a.Name.LocalName, a => a.Value)
        );

    private static CsdlNavigation Navigation(XElement element) =>
        new(
            Text(element, "Name"),
            Text(element, "Type"),
            (string?)element.Attribute("Nullable"),
            (string?)element.Attribute("Partner"),
            (string?)element.Attribute("ContainsTarget") == "true",
            [.. element.Elements(Edm + "ReferentialConstraint").Select(c => (Text(c, "Property"), Text(c, "ReferencedProperty")))]
        );

    private static CsdlContainer Container(XElement element, XElement schema) =>
        new(
            Text(element, "Name"),
            [
                .. element.Elements().Where(e => e.Name.LocalName is "EntitySet" or "Singleton").Select(Set),
                .. element.Elements(Edm + "FunctionImport").Select(f => Function(f, schema)).OfType<CsdlSet>(),
            ]
        );

    /// <summary>
    /// A function that can be read: by its name alone, or with an example for each parameter that must be given. Null for others.
    /// </summary>
    private static CsdlSet? Function(XElement import, XElement schema)
    {
        var name = Text(import, "Function");
        var overloads = schema.Elements(Edm + "Function").Where(f => name == $"{Text(schema, "Namespace")}.{Text(f, "Name")}").ToList();
        if (overloads is not [var only] || only.Element(Edm + "ReturnType") is not { } result)
            return null;
        var parameters = only.Elements(Edm + "Parameter").Select(Parameter).ToList();
        if (parameters.Exists(p => p is { Example: null, IsOptional: false }))
            return null;
        var type = Text(result, "Type");
        var isCollection = type.StartsWith("Collection(", StringComparison.Ordinal);
        var isListed = (string?)import.Attribute("IncludeInServiceDocument") == "true";
        return new CsdlSet(Text(import, "Name"), isCollection ? type[11..^1] : type, false, isListed, [])
        {
            IsFunction = true,
            IsSingle = !isCollection,
            Parameters = [.. parameters.Where(p => p.Example is not null)],
        };
    }

    private static CsdlParameter Parameter(XElement element)
    {
        IEnumerable<XElement> Annotations(string term) =>
            element.Elements(Edm + "Annotation").Where(a => Text(a, "Term").EndsWith("." + term, StringComparison.Ordinal));
        string? Told(string term, string member) =>
            Annotations(term)
                .Descendants(Edm + "PropertyValue")
                .Where(v => Text(v, "Property") == member)
                .Select(v => (string?)v.Attribute("String"))
                .FirstOrDefault();
        return new CsdlParameter(
            Text(element, "Name"),
            Text(element, "Type"),
            Told("Example", "Value") ?? Told("OptionalParameter", "DefaultValue"),
            Annotations("OptionalParameter").Any()
        );
    }

    private static CsdlSet Set(XElement element)
    {
        var isSingleton = element.Name.LocalName == "Singleton";
        return new CsdlSet(
            Text(element, "Name"),
            Text(element, isSingleton ? "Type" : "EntityType"),
            isSingleton,
            (string?)element.Attribute("IncludeInServiceDocument") != "false",
            [.. element.Elements(Edm + "NavigationPropertyBinding").Select(b => (Text(b, "Path"), Text(b, "Target")))]
        )
        {
            NotSortable =
            [
                .. Restriction(element, "SortRestrictions", "NonSortableProperties").Descendants(Edm + "PropertyPath").Select(p => p.Value),
            ],
            RequiresFilter = Restriction(element, "FilterRestrictions", "RequiresFilter").Any(v => (string?)v.Attribute("Bool") == "true"),
            TracksChanges = Restriction(element, "ChangeTracking", "Supported").Any(v => (string?)v.Attribute("Bool") == "true"),
            IsSortable = Restriction(element, "SortRestrictions", "Sortable").All(v => (string?)v.Attribute("Bool") != "false"),
        };
    }

    /// <summary>A member of one of the Capabilities vocabulary's records on a set.</summary>
    private static IEnumerable<XElement> Restriction(XElement set, string term, string member) =>
        set.Elements(Edm + "Annotation")
            .Where(a => Text(a, "Term").EndsWith("." + term, StringComparison.Ordinal))
            .Elements(Edm + "Record")
            .Elements(Edm + "PropertyValue")
            .Where(v => Text(v, "Property") == member);

    private static string Text(XElement element, string attribute) => (string?)element.Attribute(attribute) ?? "";
}
