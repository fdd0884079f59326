using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using System.Xml;
using RapidGable.Model;
using RapidGable.Payloads;

namespace RapidGable.Metadata;

/// <summary>The metadata document as CSDL XML 4.0 or 4.01.</summary>
public sealed partial class CsdlXmlWriter
{
    private const string Edmx = "http://docs.oasis-open.org/odata/ns/edmx";
    private const string Edm = "http://docs.oasis-open.org/odata/ns/edm";
    private static readonly (string Namespace, string Alias)[] Vocabularies =
    [
        ("Org.OData.Core.V1", "Core"),
        ("Org.OData.Capabilities.V1", "Capabilities"),
        ("Org.OData.Validation.V1", "Validation"),
        ("Org.OData.Aggregation.V1", "Aggregation"),
        ("Org.OData.Measures.V1", "Measures"),
    ];

    private readonly EntityModel _model;
    private readonly XmlWriter _xml;

    private readonly ODataVersion _version;

    private CsdlXmlWriter(EntityModel model, XmlWriter xml, ODataVersion version) => (_model, _xml, _version) = (model, xml, version);

    /// <summary>The whole document in UTF-8 without a byte order mark.</summary>
    public static byte[] Write(EntityModel model, ODataVersion version)
    {
        using var stream = new MemoryStream();
        using (var xml = XmlWriter.Create(stream, new XmlWriterSettings { Encoding = new UTF8Encoding(false), Indent = true }))
            new CsdlXmlWriter(model, xml, version).WriteDocument();
        return stream.ToArray();
    }

    private void WriteDocument()
    {
        _xml.WriteStartElement("edmx", "Edmx", Edmx);
        _xml.WriteAttributeString("Version", _version == ODataVersion.V40 ? "4.0" : "4.01");
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
        foreach (var definition in _model.Definitions)
            WriteDefinition(definition);
        foreach (var type in _model.DeclaredTypes)
        {
            if (type.Enum is { } enumeration)
                WriteEnum(enumeration);
            else
                WriteComplex(type.Complex!.Name, type.Complex.Properties, type.Complex.IsOpen, type.Complex.Description);
        }
        foreach (var set in _model.Sets)
        {
            if (set.IsFunction)
            {
                if (set.Gives is QueryResult.Rows or QueryResult.Row && set.EntitiesOf is null)
                    WriteComplex(set.Type.Name, set.Type.Properties, false, set.Type.Description);
                WriteOperation(Operation.OfRows(set));
            }
            else
                WriteType(set);
            foreach (var derived in set.EntitiesOf is null ? set.Type.Derived : [])
                WriteDerived(set.Type, derived);
        }
        foreach (var operation in _model.DeclaredOperations)
            WriteOperation(operation);
        WriteContainer();
        _xml.WriteEndElement();
        _xml.WriteEndElement();
        _xml.WriteEndElement();
    }

    private void WriteDefinition(TypeDefinition definition)
    {
        _xml.WriteStartElement("TypeDefinition", Edm);
        _xml.WriteAttributeString("Name", definition.Name);
        _xml.WriteAttributeString("UnderlyingType", definition.Underlying.Name);
        WriteFacets(definition.Underlying);
        if (definition.Description is { } description)
            Annotation("Core.Description", "String", description);
        _xml.WriteEndElement();
    }

    private void WriteEnum(EnumType type)
    {
        _xml.WriteStartElement("EnumType", Edm);
        _xml.WriteAttributeString("Name", type.Name);
        foreach (var member in type.Members)
            Element("Member", Edm, ("Name", member.Name), ("Value", Text(member.Value)));
        if (type.Description is { } description)
            Annotation("Core.Description", "String", description);
        _xml.WriteEndElement();
    }

    private void WriteComplex(string name, ImmutableArray<Property> properties, bool isOpen, string? description)
    {
        _xml.WriteStartElement("ComplexType", Edm);
        _xml.WriteAttributeString("Name", name);
        if (isOpen)
            _xml.WriteAttributeString("OpenType", "true");
        foreach (var property in properties)
            WriteProperty(property);
        if (description is not null)
            Annotation("Core.Description", "String", description);
        _xml.WriteEndElement();
    }

    /// <summary>A function or an action; rows without a key are a function that gives a collection of a complex type (CSDL 12).</summary>
    private void WriteOperation(Operation operation)
    {
        _xml.WriteStartElement(operation.Kind.ToString(), Edm);
        _xml.WriteAttributeString("Name", operation.Name);
        if (operation.Rows?.Binding is not null)
            _xml.WriteAttributeString("IsBound", "true");
        if (operation.IsComposable)
            _xml.WriteAttributeString("IsComposable", "true");
        if (operation.Rows?.Binding is { } binding)
            Element(
                "Parameter",
                Edm,
                ("Name", "bindingParameter"),
                ("Type", _model.QualifiedName(_model.FindSet(binding.Set)!.Type)),
                ("Nullable", "false")
            );
        foreach (var parameter in operation.Given)
            WriteParameter(parameter);
        if (operation.Value is { } value)
        {
            _xml.WriteStartElement("ReturnType", Edm);
            _xml.WriteAttributeString("Type", value.Name);
            WriteFacets(value);
            _xml.WriteEndElement();
        }
        else if (operation.Rows is { Gives: QueryResult.Row } row)
            Element("ReturnType", Edm, ("Type", _model.QualifiedName(row.Type)));
        else if (operation.Rows is { Gives: QueryResult.Rows } rows)
            Element("ReturnType", Edm, ("Type", $"Collection({_model.QualifiedName(rows.Type)})"), ("Nullable", "false"));
        if (operation.Rows?.IsQuery == true && operation.Description is { } description)
            Annotation("Core.Description", "String", description);
        WriteRevisions(operation.Rows?.Deprecation);
        _xml.WriteEndElement();
    }

    private void WriteParameter(OperationParameter parameter)
    {
        _xml.WriteStartElement("Parameter", Edm);
        _xml.WriteAttributeString("Name", parameter.Name);
        _xml.WriteAttributeString("Type", parameter.AsProperty().TypeName);
        if (!parameter.Nullable)
            _xml.WriteAttributeString("Nullable", "false");
        WriteFacets(parameter.Type, parameter.Definition);
        if (parameter.Description is { } description)
            Annotation("Core.Description", "String", description);
        if (!parameter.IsRequired)
            Annotated("Core.OptionalParameter", () => WriteDefault(parameter.DefaultValue));
        WriteRules(parameter.AsProperty());
        Annotated("Core.Example", () => WriteExample(parameter.Sample));
        _xml.WriteEndElement();
    }

    private void WriteExample(string value)
    {
        _xml.WriteStartElement("Record", Edm);
        _xml.WriteAttributeString("Type", "Core.PrimitiveExampleValue");
        Element("PropertyValue", Edm, ("Property", "Description"), ("String", "A value to try it with."));
        Element("PropertyValue", Edm, ("Property", "Value"), ("String", value));
        _xml.WriteEndElement();
    }

    /// <summary>The record of Core.OptionalParameter.</summary>
    private void WriteDefault(string? value)
    {
        _xml.WriteStartElement("Record", Edm);
        if (value is not null)
            Element("PropertyValue", Edm, ("Property", "DefaultValue"), ("String", value));
        _xml.WriteEndElement();
    }

    private void WriteType(EntitySet set)
    {
        var type = set.Type;
        _xml.WriteStartElement("EntityType", Edm);
        _xml.WriteAttributeString("Name", type.Name);
        _xml.WriteStartElement("Key", Edm);
        foreach (var key in type.Key)
            Element("PropertyRef", Edm, ("Name", key.Name));
        _xml.WriteEndElement();
        foreach (var property in type.Properties)
            WriteProperty(property, type.Properties.Any(s => s.MediaTypeColumn is { } column && column == property.Column), type);
        foreach (var navigation in type.Navigations)
            WriteNavigation(type, navigation);
        if (type.Description is { } description)
            Annotation("Core.Description", "String", description);
        if (!type.AlternateKeys.IsEmpty)
            WriteAlternateKeys(type);
        WriteRowRules(set);
        _xml.WriteEndElement();
    }

    private void WriteDerived(EntityType type, DerivedType derived)
    {
        _xml.WriteStartElement("EntityType", Edm);
        _xml.WriteAttributeString("Name", derived.Name);
        _xml.WriteAttributeString("BaseType", _model.QualifiedName(type));
        foreach (var property in derived.Properties)
            WriteProperty(property, owner: type);
        _xml.WriteEndElement();
    }

    private void WriteAlternateKeys(EntityType type) => Annotated("Core.AlternateKeys", () =>
        {
            _xml.WriteStartElement("Collection", Edm);
            foreach (var key in type.AlternateKeys)
            {
                _xml.WriteStartElement("Record", Edm);
                _xml.WriteStartElement("PropertyValue", Edm);
                _xml.WriteAttributeString("Property", "Key");
                _xml.WriteStartElement("Collection", Edm);
                foreach (var property in key)
                {
                    _xml.WriteStartElement("Record", Edm);
                    Element("PropertyValue", Edm, ("Property", "Name"), ("PropertyPath", property.Name));
                    Element("PropertyValue", Edm, ("Property", "Alias"), ("String", property.Name));
                    _xml.WriteEndElement();
                }
                _xml.WriteEndElement();
                _xml.WriteEndElement();
                _xml.WriteEndElement();
            }
            _xml.WriteEndElement();
        });

    /// <param name="definition">What it is a name for states its facets itself, and they must not be stated again (CSDL 7.2).</param>
    private void WriteFacets(EdmType type, TypeDefinition? definition = null)
    {
        if (definition is not null)
            type = type with
            {
                MaxLength = definition.Underlying.MaxLength is null ? type.MaxLength : null,
                Precision = definition.Underlying.Precision is null ? type.Precision : null,
            };
        if (type.MaxLength is { } length)
            _xml.WriteAttributeString("MaxLength", Text(length));
        var hasPrecision =
            type.Kind == EdmKind.Decimal
            || (type.Kind is EdmKind.DateTimeOffset or EdmKind.TimeOfDay or EdmKind.Duration && type.Precision is > 0);
        if (hasPrecision && type.Precision is { } precision)
            _xml.WriteAttributeString("Precision", Text(precision));
        // The scale of a decimal is always stated by what it is a name for.
        if (type.Kind == EdmKind.Decimal && definition is null)
            _xml.WriteAttributeString("Scale", type.Scale is { } scale ? Text(scale) : "variable");
    }

    /// <param name="owner">What paths in its annotations start at; null = it is part of complex values, which have none.</param>
    private void WriteProperty(Property property, bool isMediaType = false, EntityType? owner = null)
    {
        var type = property.Type;
        _xml.WriteStartElement("Property", Edm);
        _xml.WriteAttributeString("Name", property.Name);
        _xml.WriteAttributeString("Type", property.TypeName);
        if (!property.Nullable && !type.IsCollection)
            _xml.WriteAttributeString("Nullable", "false");
        if (type.IsCollection)
            _xml.WriteAttributeString("Nullable", "true");
        WriteFacets(type, property.Definition);
        if (property.DefaultValue is { } value && DefaultLiteral.Of(type, value) is { } literal)
            _xml.WriteAttributeString("DefaultValue", literal);
        if (property.Description is { } description)
            Annotation("Core.Description", "String", description);
        WriteRevisions(property.Deprecation);
        if (property.IsComputed || property.Expression is not null || property.Maker is { IsDefault: false })
            Annotation("Core.Computed", "Bool", "true");
        else if (property.HasComputedDefault || property.Maker is not null)
            Annotation("Core.ComputedDefaultValue", "Bool", "true");
        if (property.Access == PropertyAccess.CreateOnly)
            Annotation("Core.Immutable", "Bool", "true");
        else if (property.Access == PropertyAccess.ReadOnly && !property.IsComputed)
            Annotation("Core.Permissions", "EnumMember", "Core.Permission/Read");
        if (isMediaType)
            Annotation("Core.IsMediaType", "Bool", "true");
        if (!property.Rules.Values.IsEmpty)
            WriteAllowedValues([.. property.Rules.Values.Select(ValueConversion.Text)]);
        else if (!property.AllowedValues.IsEmpty)
            WriteAllowedValues(property.AllowedValues);
        WriteRules(property);
        if (property.Measure is { } measure && (!measure.IsPath || (owner is not null && IsSeen(owner, measure.Text))))
            Annotation(measure.IsCurrency ? "Measures.ISOCurrency" : "Measures.Unit", measure.IsPath ? "Path" : "String", measure.Text);
        if (property is { MediaType: { } mediaType, MediaTypeColumn: null })
            Annotation("Core.MediaType", "String", mediaType);
        _xml.WriteEndElement();
    }

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
        if (navigation.IsContained)
            _xml.WriteAttributeString("ContainsTarget", "true");
        if (IsConstraint(type, navigation, target))
        {
            foreach (var join in navigation.Joins)
                Element("ReferentialConstraint", Edm, ("Property", join.Own.Name), ("ReferencedProperty", join.Target.Name));
        }
        // The same readers know of no other actions.
        if (navigation.OnDelete is { } action && (_version != ODataVersion.V40 || action is "Cascade" or "None"))
            Element("OnDelete", Edm, ("Action", action));
        _xml.WriteEndElement();
    }

    /// <summary>
    /// Only a single-valued relation to the whole key, over properties that callers see and that are null just when it leads nowhere,
    /// is a constraint (C-29, C-32).
    /// </summary>
    private static bool IsConstraint(EntityType type, NavigationProperty navigation, EntitySet target) =>
        !navigation.IsCollection
        && navigation.Joins.Length == target.Type.Key.Length
        && navigation.Joins.All(j =>
            target.Type.Key.Contains(j.Target)
            && type.FindProperty(j.Own.Name)?.Column == j.Own.Column
            && j.Own.Type.Name == j.Target.Type.Name
        )
        && navigation.Nullable == navigation.Joins.Any(j => j.Own.Nullable);

    private void WriteContainer()
    {
        _xml.WriteStartElement("EntityContainer", Edm);
        _xml.WriteAttributeString("Name", _model.ContainerName);
        foreach (var set in _model.Sets.Where(s => s is { ContainedIn: null, Binding: null }))
        {
            if (_model.FindOperation(set.Name) is { } operation)
                WriteImport(operation);
            else
                WriteSet(set);
        }
        foreach (var operation in _model.DeclaredOperations)
            WriteImport(operation);
        Annotation("Core.ODataVersions", "String", "4.0 4.01");
        WriteCapabilities();
        _xml.WriteEndElement();
    }

    /// <summary>What the service as a whole can do (Capabilities vocabulary).</summary>
    private void WriteCapabilities()
    {
        Annotation("Core.ConventionalIDs", "Bool", "true");
        Annotation("Core.DereferenceableIDs", "Bool", "true");
        Annotation("Capabilities.ConformanceLevel", "EnumMember", "Capabilities.ConformanceLevelType/Advanced");
        Annotated("Capabilities.SupportedFormats", () =>
            Strings([
                "application/json;metadata=minimal;IEEE754Compatible=false",
                "application/json;metadata=minimal;IEEE754Compatible=true",
                "application/json;metadata=full",
                "application/json;metadata=none",
                Payloads.Json.JsonLinesWriter.MediaType,
            ])
        );
        Annotated("Capabilities.SupportedMetadataFormats", () => Strings(["application/xml", "application/json"]));
        Annotation("Capabilities.AsynchronousRequestsSupported", "Bool", "true");
        Annotation("Capabilities.BatchSupported", "Bool", "true");
        Annotated("Capabilities.BatchSupport", () =>
        {
            _xml.WriteStartElement("Record", Edm);
            foreach (
                var (name, value) in new[]
                {
                    ("Supported", "true"),
                    ("ContinueOnErrorSupported", "true"),
                    ("ReferencesInRequestBodiesSupported", "true"),
                    ("ReferencesAcrossChangeSetsSupported", "true"),
                    ("EtagReferencesSupported", "false"),
                    ("RequestDependencyConditionsSupported", "false"),
                }
            )
                Element("PropertyValue", Edm, ("Property", name), ("Bool", value));
            _xml.WriteStartElement("PropertyValue", Edm);
            _xml.WriteAttributeString("Property", "SupportedFormats");
            Strings(["multipart/mixed", "application/json"]);
            _xml.WriteEndElement();
            _xml.WriteEndElement();
        });
        Annotation("Capabilities.KeyAsSegmentSupported", "Bool", "true");
        Annotation("Capabilities.QuerySegmentSupported", "Bool", "true");
        Annotation("Capabilities.CrossJoinSupported", "Bool", "true");
        Annotated("Capabilities.FilterFunctions", () =>
            Strings(Enum.GetValues<CanonicalFunction>().Select(f => f.ToString().ToLowerInvariant()).Concat(["cast", "isof", "case"]))
        );
    }

    private void Strings(IEnumerable<string> values)
    {
        _xml.WriteStartElement("Collection", Edm);
        foreach (var value in values)
            _xml.WriteElementString("String", Edm, value);
        _xml.WriteEndElement();
    }

    private void WriteSet(EntitySet set)
    {
        _xml.WriteStartElement("EntitySet", Edm);
        _xml.WriteAttributeString("Name", set.Name);
        _xml.WriteAttributeString("EntityType", _model.QualifiedName(set.Type));
        WriteBindings(set.Type, "");
        WriteRestrictions(set);
        Annotation("Core.LongDescription", "String", Reading(set));
        WriteRevisions(set.Deprecation);
        _xml.WriteEndElement();
    }

    /// <summary>That something will not stay (vocabulary Core, Revisions).</summary>
    private void WriteRevisions(Deprecation? deprecation)
    {
        if (deprecation is null)
            return;
        Annotated("Core.Revisions", () =>
        {
            _xml.WriteStartElement("Collection", Edm);
            _xml.WriteStartElement("Record", Edm);
            Element("PropertyValue", Edm, ("Property", "Kind"), ("EnumMember", "Core.RevisionKind/Deprecated"));
            Element("PropertyValue", Edm, ("Property", "Description"), ("String", deprecation.Sentence));
            _xml.WriteEndElement();
            _xml.WriteEndElement();
        });
    }

    /// <summary>What no term of a vocabulary says: the pages and the order when none is asked for.</summary>
    private static string Reading(EntitySet set)
    {
        var order = string.Join(", ", set.DefaultOrder.Select(o => o.Property.Name + (o.Descending ? " descending" : "")));
        return $"Pages of {Text(set.PageSize)}, at most {Text(set.LargestPage)} on "
            + $"request{(order.Length == 0 ? "" : $"; ordered by {order}")}.";
    }

    /// <summary>Where related entities are found; those of contained ones over the path to them (CSDL 13.4).</summary>
    private void WriteBindings(EntityType type, string path)
    {
        foreach (var navigation in type.Navigations)
        {
            if (navigation.IsContained)
                WriteBindings(_model.Target(navigation).Type, $"{path}{navigation.Name}/");
            else if (_model.Target(navigation).ContainedIn is null)
                Element("NavigationPropertyBinding", Edm, ("Path", path + navigation.Name), ("Target", navigation.TargetSet));
        }
    }

    private void WriteImport(Operation operation)
    {
        _xml.WriteStartElement(operation.Kind + "Import", Edm);
        _xml.WriteAttributeString("Name", operation.Name);
        _xml.WriteAttributeString(operation.Kind.ToString(), $"{_model.Namespace}.{operation.Name}");
        if (operation.Rows?.EntitiesOf is { } of)
            _xml.WriteAttributeString("EntitySet", of);
        if (operation.IsInServiceDocument)
            _xml.WriteAttributeString("IncludeInServiceDocument", "true");
        if (operation is { Kind: OperationKind.Function, Rows: { } rows })
            Annotation("Core.LongDescription", "String", Reading(rows));
        _xml.WriteEndElement();
    }

    private void Annotated(string term, Action value)
    {
        _xml.WriteStartElement("Annotation", Edm);
        _xml.WriteAttributeString("Term", term);
        value();
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
