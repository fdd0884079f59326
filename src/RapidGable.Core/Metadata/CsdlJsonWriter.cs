using System.Globalization;
using System.Text.Json;
using System.Xml.Linq;
using RapidGable.Payloads;

namespace RapidGable.Metadata;

/// <summary>
/// The metadata document as CSDL JSON (CSDL JSON 4.01), made from the XML document, so that both say the same. It knows the elements that
/// <see cref="CsdlXmlWriter"/> writes.
/// </summary>
public sealed class CsdlJsonWriter
{
    private readonly Utf8JsonWriter _json;

    private CsdlJsonWriter(Utf8JsonWriter json) => _json = json;

    /// <param name="xml">The document of <see cref="CsdlXmlWriter.Write"/>.</param>
    public static byte[] Write(byte[] xml)
    {
        using var input = new MemoryStream(xml);
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream, new JsonWriterOptions { Encoder = JsonText.Encoder, Indented = true }))
            new CsdlJsonWriter(json).WriteDocument(XDocument.Load(input).Root!);
        return stream.ToArray();
    }

    private static string Name(XElement element) => element.Name.LocalName;

    private static string? Attribute(XElement element, string name) => element.Attribute(name)?.Value;

    private static IEnumerable<XElement> Children(XElement element, string name) => element.Elements().Where(e => Name(e) == name);

    private void WriteDocument(XElement root)
    {
        var schema = Children(Children(root, "DataServices").Single(), "Schema").Single();
        var space = Attribute(schema, "Namespace")!;
        _json.WriteStartObject();
        _json.WriteString("$Version", Attribute(root, "Version"));
        _json.WriteString("$EntityContainer", $"{space}.{Attribute(Children(schema, "EntityContainer").Single(), "Name")}");
        _json.WriteStartObject("$Reference");
        foreach (var reference in Children(root, "Reference"))
        {
            _json.WriteStartObject(Attribute(reference, "Uri")!.Replace(".xml", ".json", StringComparison.Ordinal));
            _json.WriteStartArray("$Include");
            foreach (var include in Children(reference, "Include"))
            {
                _json.WriteStartObject();
                _json.WriteString("$Namespace", Attribute(include, "Namespace"));
                _json.WriteString("$Alias", Attribute(include, "Alias"));
                _json.WriteEndObject();
            }
            _json.WriteEndArray();
            _json.WriteEndObject();
        }
        _json.WriteEndObject();
        _json.WriteStartObject(space);
        foreach (var element in schema.Elements().Where(e => Name(e) is not ("Function" or "Action")))
            WriteElement(element);
        foreach (var kind in new[] { "Function", "Action" })
        foreach (var overloads in Children(schema, kind).GroupBy(f => Attribute(f, "Name")!))
            WriteOperations(kind, overloads.Key, overloads);
        _json.WriteEndObject();
        _json.WriteEndObject();
    }

    private void WriteElement(XElement element)
    {
        if (Name(element) == "Annotation")
        {
            WriteAnnotation("", element);
            return;
        }
        _json.WriteStartObject(Attribute(element, "Name")!);
        _json.WriteString("$Kind", Name(element));
        switch (Name(element))
        {
            case "EnumType":
                foreach (var member in Children(element, "Member"))
                    _json.WriteNumber(Attribute(member, "Name")!, long.Parse(Attribute(member, "Value")!, CultureInfo.InvariantCulture));
                WriteAnnotations("", element);
                break;
            case "TypeDefinition":
                _json.WriteString("$UnderlyingType", Attribute(element, "UnderlyingType"));
                WriteFacets(element);
                WriteAnnotations("", element);
                break;
            case "EntityContainer":
                foreach (var child in element.Elements().Where(e => Name(e) != "Annotation"))
                    WriteContainerChild(child);
                WriteAnnotations("", element);
                break;
            default:
                WriteType(element);
                break;
        }
        _json.WriteEndObject();
    }

    private void WriteType(XElement type)
    {
        if (Attribute(type, "OpenType") == "true")
            _json.WriteBoolean("$OpenType", true);
        if (Attribute(type, "BaseType") is { } baseType)
            _json.WriteString("$BaseType", baseType);
        if (Attribute(type, "Abstract") == "true")
            _json.WriteBoolean("$Abstract", true);
        if (Children(type, "Key").SingleOrDefault() is { } key)
        {
            _json.WriteStartArray("$Key");
            foreach (var part in Children(key, "PropertyRef"))
                _json.WriteStringValue(Attribute(part, "Name"));
            _json.WriteEndArray();
        }
        foreach (var property in type.Elements())
        {
            if (Name(property) == "Property")
                WriteProperty(property);
            else if (Name(property) == "NavigationProperty")
                WriteNavigation(property);
        }
        WriteAnnotations("", type);
    }

    private void WriteProperty(XElement property)
    {
        _json.WriteStartObject(Attribute(property, "Name")!);
        WriteTypeOf(property);
        if (Attribute(property, "DefaultValue") is { } value)
        {
            _json.WritePropertyName("$DefaultValue");
            WriteDefault(UnderlyingOf(property), value);
        }
        WriteAnnotations("", property);
        _json.WriteEndObject();
    }

    /// <summary>The type of a property; of a name for a primitive type that one.</summary>
    private static string UnderlyingOf(XElement property)
    {
        var type = Attribute(property, "Type")!;
        return
            property
                .Document!.Descendants()
                .Where(e => Name(e) == "TypeDefinition")
                .FirstOrDefault(e => $"{Attribute(e.Parent!, "Namespace")}.{Attribute(e, "Name")}" == type)
                is { } definition
            ? Attribute(definition, "UnderlyingType")!
            : type;
    }

    /// <summary>A default value as the JSON of its type (CSDL JSON 7.2.7).</summary>
    private void WriteDefault(string type, string value)
    {
        switch (type)
        {
            case "Edm.Boolean":
                _json.WriteBooleanValue(value == "true");
                break;
            case "Edm.Byte" or "Edm.SByte" or "Edm.Int16" or "Edm.Int32" or "Edm.Int64" or "Edm.Decimal" or "Edm.Single" or "Edm.Double":
                // A number of JSON starts with no sign or point.
                _json.WriteRawValue(value.TrimStart('+') is ['.', ..] fraction ? "0" + fraction : value.TrimStart('+'));
                break;
            default:
                _json.WriteStringValue(value);
                break;
        }
    }

    /// <summary>Type, nullability and facets, whose defaults differ from those of XML (CSDL JSON 7.1, 7.2).</summary>
    private void WriteTypeOf(XElement element)
    {
        var type = Attribute(element, "Type")!;
        var isCollection = type.StartsWith("Collection(", StringComparison.Ordinal);
        if (isCollection)
        {
            _json.WriteBoolean("$Collection", true);
            type = type[11..^1];
        }
        if (type != "Edm.String")
            _json.WriteString("$Type", type);
        if (isCollection ? Attribute(element, "Nullable") == "true" : Attribute(element, "Nullable") != "false")
            _json.WriteBoolean("$Nullable", true);
        WriteFacets(element);
    }

    private void WriteFacets(XElement element)
    {
        if (Attribute(element, "MaxLength") is { } length)
            _json.WriteNumber("$MaxLength", int.Parse(length, CultureInfo.InvariantCulture));
        if (Attribute(element, "Precision") is { } precision)
            _json.WriteNumber("$Precision", int.Parse(precision, CultureInfo.InvariantCulture));
        if (Attribute(element, "Scale") is { } scale && scale != "variable")
            _json.WriteNumber("$Scale", int.Parse(scale, CultureInfo.InvariantCulture));
    }

    private void WriteNavigation(XElement navigation)
    {
        _json.WriteStartObject(Attribute(navigation, "Name")!);
        _json.WriteString("$Kind", "NavigationProperty");
        var type = Attribute(navigation, "Type")!;
        var isCollection = type.StartsWith("Collection(", StringComparison.Ordinal);
        if (isCollection)
            _json.WriteBoolean("$Collection", true);
        _json.WriteString("$Type", isCollection ? type[11..^1] : type);
        if (!isCollection && Attribute(navigation, "Nullable") != "false")
            _json.WriteBoolean("$Nullable", true);
        if (Attribute(navigation, "Partner") is { } partner)
            _json.WriteString("$Partner", partner);
        if (Attribute(navigation, "ContainsTarget") == "true")
            _json.WriteBoolean("$ContainsTarget", true);
        if (Children(navigation, "ReferentialConstraint").Any())
        {
            _json.WriteStartObject("$ReferentialConstraint");
            foreach (var constraint in Children(navigation, "ReferentialConstraint"))
                _json.WriteString(Attribute(constraint, "Property")!, Attribute(constraint, "ReferencedProperty"));
            _json.WriteEndObject();
        }
        if (Children(navigation, "OnDelete").SingleOrDefault() is { } onDelete)
            _json.WriteString("$OnDelete", Attribute(onDelete, "Action"));
        WriteAnnotations("", navigation);
        _json.WriteEndObject();
    }

    private void WriteOperations(string kind, string name, IEnumerable<XElement> overloads)
    {
        _json.WriteStartArray(name);
        foreach (var operation in overloads)
        {
            _json.WriteStartObject();
            _json.WriteString("$Kind", kind);
            if (Attribute(operation, "IsBound") == "true")
                _json.WriteBoolean("$IsBound", true);
            if (Attribute(operation, "IsComposable") == "true")
                _json.WriteBoolean("$IsComposable", true);
            WriteParameters(Children(operation, "Parameter").ToList());
            if (Children(operation, "ReturnType").SingleOrDefault() is { } result)
            {
                _json.WriteStartObject("$ReturnType");
                WriteTypeOf(result);
                _json.WriteEndObject();
            }
            WriteAnnotations("", operation);
            _json.WriteEndObject();
        }
        _json.WriteEndArray();
    }

    private void WriteParameters(List<XElement> parameters)
    {
        if (parameters.Count == 0)
            return;
        _json.WriteStartArray("$Parameter");
        foreach (var parameter in parameters)
        {
            _json.WriteStartObject();
            _json.WriteString("$Name", Attribute(parameter, "Name"));
            WriteTypeOf(parameter);
            WriteAnnotations("", parameter);
            _json.WriteEndObject();
        }
        _json.WriteEndArray();
    }

    private void WriteContainerChild(XElement child)
    {
        _json.WriteStartObject(Attribute(child, "Name")!);
        if (Name(child) == "EntitySet")
        {
            _json.WriteBoolean("$Collection", true);
            _json.WriteString("$Type", Attribute(child, "EntityType"));
            var bindings = Children(child, "NavigationPropertyBinding").ToList();
            if (bindings.Count > 0)
            {
                _json.WriteStartObject("$NavigationPropertyBinding");
                foreach (var binding in bindings)
                    _json.WriteString(Attribute(binding, "Path")!, Attribute(binding, "Target"));
                _json.WriteEndObject();
            }
        }
        else
        {
            var kind = Name(child) == "ActionImport" ? "Action" : "Function";
            _json.WriteString("$" + kind, Attribute(child, kind));
            if (Attribute(child, "EntitySet") is { } of)
                _json.WriteString("$EntitySet", of);
            if (Attribute(child, "IncludeInServiceDocument") == "true")
                _json.WriteBoolean("$IncludeInServiceDocument", true);
        }
        WriteAnnotations("", child);
        _json.WriteEndObject();
    }

    private void WriteAnnotations(string target, XElement element)
    {
        foreach (var annotation in Children(element, "Annotation"))
            WriteAnnotation(target, annotation);
    }

    private void WriteAnnotation(string target, XElement annotation)
    {
        _json.WritePropertyName(
            $"{target}@{Attribute(annotation, "Term")}{(Attribute(annotation, "Qualifier") is { } qualifier ? "#" + qualifier : "")}"
        );
        WriteValue(annotation);
    }

    /// <summary>
    /// The value of an annotation, of a record's member or of an item: as an attribute or as a child (CSDL JSON 14.3, 14.4).
    /// </summary>
    private void WriteValue(XElement element)
    {
        if (element.Elements().FirstOrDefault(e => Name(e) != "Annotation") is { } child)
        {
            WriteExpression(child);
            return;
        }
        var value = element.Attributes().FirstOrDefault(a => a.Name.LocalName is not ("Term" or "Property" or "Qualifier"));
        if (value is null)
            _json.WriteBooleanValue(true);
        else
            WriteConstant(value.Name.LocalName, value.Value);
    }

    private void WriteExpression(XElement element)
    {
        switch (Name(element))
        {
            case "Collection":
                _json.WriteStartArray();
                foreach (var item in element.Elements())
                    WriteExpression(item);
                _json.WriteEndArray();
                break;
            case "Record":
                _json.WriteStartObject();
                if (Attribute(element, "Type") is { } type)
                    _json.WriteString("@type", "#" + type);
                foreach (var member in Children(element, "PropertyValue"))
                {
                    _json.WritePropertyName(Attribute(member, "Property")!);
                    WriteValue(member);
                }
                _json.WriteEndObject();
                break;
            case "Null":
                _json.WriteNullValue();
                break;
            case "Not" or "Neg":
                _json.WriteStartObject();
                _json.WritePropertyName("$" + Name(element));
                WriteExpression(element.Elements().Single());
                _json.WriteEndObject();
                break;
            case "And"
            or "Or"
            or "Eq"
            or "Ne"
            or "Gt"
            or "Ge"
            or "Lt"
            or "Le"
            or "Add"
            or "Sub"
            or "Mul"
            or "Div"
            or "DivBy"
            or "Mod"
            or "Apply":
                _json.WriteStartObject();
                _json.WriteStartArray("$" + Name(element));
                foreach (var operand in element.Elements())
                    WriteExpression(operand);
                _json.WriteEndArray();
                if (Attribute(element, "Function") is { } function)
                    _json.WriteString("$Function", function);
                _json.WriteEndObject();
                break;
            default:
                WriteConstant(Name(element), element.Value);
                break;
        }
    }

    private void WriteConstant(string kind, string value)
    {
        switch (kind)
        {
            case "Bool":
                _json.WriteBooleanValue(value == "true");
                break;
            case "Int" or "Decimal" or "Float":
                _json.WriteRawValue(value);
                break;
            case "EnumMember":
                // The members without their type, as in a payload (CSDL JSON 14.3.7).
                _json.WriteStringValue(string.Join(',', value.Split(' ').Select(m => m[(m.LastIndexOf('/') + 1)..])));
                break;
            case "Path":
                _json.WriteStartObject();
                _json.WriteString("$Path", value);
                _json.WriteEndObject();
                break;
            default:
                _json.WriteStringValue(value);
                break;
        }
    }
}
