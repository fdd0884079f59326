using System.Globalization;
using System.Text;
using System.Xml;
using RapidGable.Model;
using RapidGable.Payloads;

namespace RapidGable.Metadata;

/// <summary>The metadata document as CSDL XML 4.0 or 4.01.</summary>
public sealed class CsdlXmlWriter
{
    private const string Edmx = "http://docs.oasis-open.org/odata/ns/edmx";
    private const string Edm = "http://docs.oasis-open.org/odata/ns/edm";
    private static readonly (string Namespace, string Alias)[] Vocabularies = [("Org.OData.Core.V1", "Core"), ("Org.OData.Capabilities.V1", "Capabilities")];

    private readonly EntityModel _model;
    private readonly XmlWriter _xml;

    private CsdlXmlWriter(EntityModel model, XmlWriter xml)
    {
        _model = model;
        _xml = xml;
    }

    /// <summary>The whole document in UTF-8 without a byte order mark.</summary>
    public static byte[] Write(EntityModel model, ODataVersion version)
    {
        using var stream = new MemoryStream();
        using (var xml = XmlWriter.Create(stream, new XmlWriterSettings { Encoding = new UTF8Encoding(false), Indent = true }))
            new CsdlXmlWriter(model, xml).WriteDocument(version);
        return stream.ToArray();
    }

    private void WriteDocument(ODataVersion version)
    {
        _xml.WriteStartElement("edmx", "Edmx", Edmx);
        _xml.WriteAttributeString("Version", version == ODataVersion.V40 ? "4.0" : "4.01");
        foreach (var (ns, alias) in Vocabularies)
        {
            _xml.WriteStartElement("Reference", Edmx);
            _xml.WriteAttributeString("Uri", $"https://oasis-tcs.github.io/odata-vocabularies/vocabularies/{ns}.xml");
            Element("Include", Edmx, ("Namespace", ns), ("Alias", alias));
            _xml.WriteEndElement();
        }
        _xml.WriteStartElement("DataServices", Edmx);
        _xml.WriteStartElement("Schema", Edm);
        _xml.WriteAttributeString("Namespace", _model.Namespace);
        foreach (var set in _model.Sets)
            WriteType(set.Type);
        WriteContainer();
        _xml.WriteEndElement();
        _xml.WriteEndElement();
        _xml.WriteEndElement();
    }

    private void WriteType(EntityType type)
    {
        _xml.WriteStartElement("EntityType", Edm);
        _xml.WriteAttributeString("Name", type.Name);
        _xml.WriteStartElement("Key", Edm);
        foreach (var key in type.Key)
            Element("PropertyRef", Edm, ("Name", key.Name));
        _xml.WriteEndElement();
        foreach (var property in type.Properties)
            WriteProperty(property);
        foreach (var navigation in type.Navigations)
            WriteNavigation(type, navigation);
        if (type.Description is { } description)
            Annotation("Core.Description", "String", description);
        _xml.WriteEndElement();
    }

    private void WriteProperty(Property property)
    {
        var type = property.Type;
        _xml.WriteStartElement("Property", Edm);
        _xml.WriteAttributeString("Name", property.Name);
        _xml.WriteAttributeString("Type", type.Name);
        if (!property.Nullable)
            _xml.WriteAttributeString("Nullable", "false");
        if (type.MaxLength is { } length)
            _xml.WriteAttributeString("MaxLength", Text(length));
        if (type.Kind == EdmKind.Decimal || (type.Kind is EdmKind.DateTimeOffset or EdmKind.TimeOfDay or EdmKind.Duration && type.Precision is > 0))
        {
            if (type.Precision is { } precision)
                _xml.WriteAttributeString("Precision", Text(precision));
            if (type.Kind == EdmKind.Decimal)
                _xml.WriteAttributeString("Scale", type.Scale is { } scale ? Text(scale) : "variable");
        }
        if (property.DefaultValue is { } value && DefaultLiteral(type, value) is { } literal)
            _xml.WriteAttributeString("DefaultValue", literal);
        if (property.Description is { } description)
            Annotation("Core.Description", "String", description);
        if (property.IsComputed)
            Annotation("Core.Computed", "Bool", "true");
        else if (property.HasComputedDefault)
            Annotation("Core.ComputedDefaultValue", "Bool", "true");
        if (property.MediaType is { } mediaType)
            Annotation("Core.MediaType", "String", mediaType);
        _xml.WriteEndElement();
    }

    /// <summary>A default as a literal of the type; null when the source's text is none.</summary>
    private static string? DefaultLiteral(EdmType type, string value) => type.Kind switch
    {
        EdmKind.Boolean => value switch { "0" or "false" => "false", "1" or "true" => "true", _ => null },
        EdmKind.Duration => null,
        _ => value,
    };

    private void WriteNavigation(EntityType type, NavigationProperty navigation)
    {
        var target = _model.Target(navigation);
        var targetName = _model.QualifiedName(target.Type);
        _xml.WriteStartElement("NavigationProperty", Edm);
        _xml.WriteAttributeString("Name", navigation.Name);
        _xml.WriteAttributeString("Type", navigation.IsCollection ? $"Collection({targetName})" : targetName);
        if (!navigation.IsCollection && !navigation.Nullable)
            _xml.WriteAttributeString("Nullable", "false");
        if (navigation.Partner is { } partner && target.Type.FindNavigation(partner) is not null)
            _xml.WriteAttributeString("Partner", partner);
        if (IsConstraint(type, navigation, target))
        {
            foreach (var join in navigation.Joins)
                Element("ReferentialConstraint", Edm, ("Property", join.Own.Name), ("ReferencedProperty", join.Target.Name));
        }
        if (navigation.OnDelete is { } action)
            Element("OnDelete", Edm, ("Action", action));
        _xml.WriteEndElement();
    }

    /// <summary>Only a single-valued relation to the whole key, over properties that callers see, is a constraint (C-29, C-32).</summary>
    private static bool IsConstraint(EntityType type, NavigationProperty navigation, EntitySet target) =>
        !navigation.IsCollection
        && navigation.Joins.Length == target.Type.Key.Length
        && navigation.Joins.All(j => target.Type.Key.Contains(j.Target) && type.FindProperty(j.Own.Name)?.Column == j.Own.Column);

    private void WriteContainer()
    {
        _xml.WriteStartElement("EntityContainer", Edm);
        _xml.WriteAttributeString("Name", _model.ContainerName);
        foreach (var set in _model.Sets)
        {
            _xml.WriteStartElement("EntitySet", Edm);
            _xml.WriteAttributeString("Name", set.Name);
            _xml.WriteAttributeString("EntityType", _model.QualifiedName(set.Type));
            foreach (var navigation in set.Type.Navigations)
                Element("NavigationPropertyBinding", Edm, ("Path", navigation.Name), ("Target", navigation.TargetSet));
            Restriction("Insert", "Insertable");
            Restriction("Update", "Updatable");
            Restriction("Delete", "Deletable");
            _xml.WriteEndElement();
        }
        Annotation("Core.ODataVersions", "String", "4.0 4.01");
        Annotation("Capabilities.BatchSupported", "Bool", "false");
        _xml.WriteEndElement();
    }

    private void Restriction(string kind, string member)
    {
        _xml.WriteStartElement("Annotation", Edm);
        _xml.WriteAttributeString("Term", $"Capabilities.{kind}Restrictions");
        _xml.WriteStartElement("Record", Edm);
        Element("PropertyValue", Edm, ("Property", member), ("Bool", "false"));
        _xml.WriteEndElement();
        _xml.WriteEndElement();
    }

    private void Annotation(string term, string kind, string value) => Element("Annotation", Edm, ("Term", term), (kind, value));

    private void Element(string name, string ns, params (string Name, string Value)[] attributes)
    {
        _xml.WriteStartElement(name, ns);
        foreach (var (attribute, value) in attributes)
            _xml.WriteAttributeString(attribute, value);
        _xml.WriteEndElement();
    }

    private static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);
}
