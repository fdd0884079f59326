using System.Xml.Linq;
using RapidGable.Model;

namespace RapidGable.Payloads.Xml;

/// <summary>The XML schema of what <see cref="RowsXmlWriter"/> writes of a model.</summary>
public static class RowsXsd
{
    private static readonly XNamespace Xs = "http://www.w3.org/2001/XMLSchema";

    /// <summary>The schema of all sets of a model, in UTF-8.</summary>
    public static byte[] Write(EntityModel model)
    {
        var sets = model.Sets.Where(s => s is { GivesRows: true, EntitiesOf: null }).ToList();
        var schema = new XElement(
            Xs + "schema",
            new XAttribute(XNamespace.Xmlns + "xs", Xs),
            new XAttribute("elementFormDefault", "unqualified"),
            sets.Select(s => List(s, model)),
            sets.DistinctBy(s => s.Type.Name).Select(s => Element(s.Type.Name, s.Type.Name)),
            sets.DistinctBy(s => s.Type.Name).Select(s => Type(s, model))
        );
        using var buffer = new MemoryStream();
        new XDocument(schema).Save(buffer);
        return buffer.ToArray();
    }

    private static XElement Element(string name, string type, bool isOptional = false, bool isRepeated = false) =>
        new(
            Xs + "element",
            new XAttribute("name", RowsXmlWriter.Name(name)),
            new XAttribute("type", RowsXmlWriter.Name(type)),
            isOptional || isRepeated ? new XAttribute("minOccurs", 0) : null,
            isRepeated ? new XAttribute("maxOccurs", "unbounded") : null
        );

    private static XElement List(EntitySet set, EntityModel model) =>
        new(
            Xs + "element",
            new XAttribute("name", RowsXmlWriter.ListName(set, model)),
            new XElement(
                Xs + "complexType",
                new XElement(Xs + "sequence", Element(set.Type.Name, set.Type.Name, isRepeated: true)),
                new XElement(Xs + "attribute", new XAttribute("name", "total"), new XAttribute("type", "xs:long"))
            )
        );

    private static XElement Type(EntitySet set, EntityModel model) =>
        new(
            Xs + "complexType",
            new XAttribute("name", RowsXmlWriter.Name(set.Type.Name)),
            new XElement(
                Xs + "sequence",
                set.Type.Properties.Concat(set.Type.Derived.SelectMany(d => d.Properties)).Where(IsWritten).Select(Property),
                set.Type.Navigations.IsEmpty
                    ? null
                    : new XElement(
                        Xs + "choice",
                        new XAttribute("minOccurs", 0),
                        new XAttribute("maxOccurs", "unbounded"),
                        set.Type.Navigations.Select(n => Related(n, model.Target(n).Type))
                    )
            )
        );

    private static bool IsWritten(Property property) => property.Type.Kind != EdmKind.Stream;

    private static XElement Related(NavigationProperty navigation, EntityType type) =>
        navigation.IsCollection
            ? new XElement(
                Xs + "element",
                new XAttribute("name", RowsXmlWriter.Name(navigation.Name)),
                new XElement(Xs + "complexType", new XElement(Xs + "sequence", Element(type.Name, type.Name, isRepeated: true)))
            )
            : Element(navigation.Name, type.Name);

    private static XElement Property(Property property)
    {
        var element = new XElement(
            Xs + "element",
            new XAttribute("name", RowsXmlWriter.Name(property.Name)),
            new XAttribute("minOccurs", 0),
            property.Description is { } text ? new XElement(Xs + "annotation", new XElement(Xs + "documentation", text)) : null
        );
        if (property.IsGroup)
            element.Add(
                new XElement(Xs + "complexType", new XElement(Xs + "sequence", property.Members.Where(IsWritten).Select(Property)))
            );
        else if (property.Conversion is JsonConversion || property.Type.IsCollection)
            element.Add(
                new XElement(
                    Xs + "complexType",
                    new XAttribute("mixed", true),
                    new XElement(
                        Xs + "sequence",
                        new XElement(
                            Xs + "any",
                            new XAttribute("processContents", "skip"),
                            new XAttribute("minOccurs", 0),
                            new XAttribute("maxOccurs", "unbounded")
                        )
                    )
                )
            );
        else if (Restricted(property.Type) is { } simple)
            element.Add(simple);
        else
            element.Add(new XAttribute("type", Simple(property.Type)));
        return element;
    }

    private static XElement? Restricted(EdmType type) =>
        type.Enum is { } enumeration
            ? Restriction("xs:string", enumeration.Members.Select(m => new XElement(Xs + "enumeration", new XAttribute("value", m.Name))))
        : type is { Kind: EdmKind.String, MaxLength: { } most }
            ? Restriction("xs:string", [new XElement(Xs + "maxLength", new XAttribute("value", most))])
        : null;

    private static XElement Restriction(string type, IEnumerable<XElement> facets) =>
        new(Xs + "simpleType", new XElement(Xs + "restriction", new XAttribute("base", type), facets));

    private static string Simple(EdmType type) =>
        type.Kind switch
        {
            EdmKind.Boolean => "xs:boolean",
            EdmKind.Byte => "xs:unsignedByte",
            EdmKind.SByte => "xs:byte",
            EdmKind.Int16 => "xs:short",
            EdmKind.Int32 => "xs:int",
            EdmKind.Int64 => "xs:long",
            EdmKind.Decimal => "xs:decimal",
            EdmKind.Date => "xs:date",
            EdmKind.TimeOfDay => "xs:time",
            EdmKind.DateTimeOffset => "xs:dateTime",
            EdmKind.Duration => "xs:duration",
            // A double may be INF or NaN, which are written as XML schema has them.
            EdmKind.Single => "xs:float",
            EdmKind.Double => "xs:double",
            _ => "xs:string",
        };
}
