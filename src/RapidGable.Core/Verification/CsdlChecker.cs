using System.Collections.Frozen;
using System.Globalization;
using RapidGable.Model;

namespace RapidGable.Verification;

/// <summary>Holds a metadata document to the rules of CSDL (sections 5 to 14), and says each breach in one sentence.</summary>
public sealed class CsdlChecker
{
    private static readonly FrozenSet<string> Primitives =
    [
        "Binary",
        "Boolean",
        "Byte",
        "Date",
        "DateTimeOffset",
        "Decimal",
        "Double",
        "Duration",
        "Guid",
        "Int16",
        "Int32",
        "Int64",
        "SByte",
        "Single",
        "Stream",
        "String",
        "TimeOfDay",
        "Untyped",
        "PrimitiveType",
        "ComplexType",
        "EntityType",
        "Geography",
        "Geometry",
        .. new[] { "Point", "LineString", "Polygon", "MultiPoint", "MultiLineString", "MultiPolygon", "Collection" }.SelectMany(s =>
            new[] { "Geography" + s, "Geometry" + s }
        ),
    ];

    private static readonly FrozenSet<string> KeyTypes =
    [
        "Boolean",
        "Byte",
        "SByte",
        "Int16",
        "Int32",
        "Int64",
        "Decimal",
        "String",
        "Guid",
        "Date",
        "DateTimeOffset",
        "TimeOfDay",
        "Duration",
    ];

    private readonly CsdlDocument _document;
    private readonly List<string> _faults = [];

    private CsdlChecker(CsdlDocument document) => _document = document;

    /// <summary>What is wrong with a metadata document by the rules of CSDL; empty = nothing.</summary>
    public static IReadOnlyList<string> Check(CsdlDocument document)
    {
        var checker = new CsdlChecker(document);
        checker.CheckDocument();
        return checker._faults;
    }

    private void Fault(string message) => _faults.Add(message);

    private void CheckDocument()
    {
        if (_document.Version is not ("4.0" or "4.01"))
            Fault($"The Edmx version is '{_document.Version}', not 4.0 or 4.01.");
        foreach (var schema in _document.Schemas)
        {
            if (
                schema.Namespace is "" or "Edm" or "odata" or "System" or "Transient"
                || schema.Namespace.Length > 511
                || !schema.Namespace.Split('.').All(SimpleIdentifier.IsValid)
            )
                Fault($"'{schema.Namespace}' cannot be a schema's namespace.");
            if (schema.Alias is "Edm" or "odata" or "System" or "Transient")
                Fault($"'{schema.Alias}' is reserved and cannot be an alias.");
            Unique(schema.Types.Select(t => t.Name).Concat(schema.Containers.Select(c => c.Name)), $"schema {schema.Namespace}");
            foreach (var type in schema.Types)
                CheckType(type);
        }
        var containers = _document.Containers.ToList();
        if (containers.Count != 1)
            Fault($"There are {containers.Count} entity containers, and a service has exactly one.");
        foreach (var container in containers)
        {
            Unique(container.Sets.Select(s => s.Name), "the container");
            foreach (var set in container.Sets)
                CheckSet(set, container);
        }
    }

    private void Unique(IEnumerable<string> names, string place)
    {
        foreach (var group in names.GroupBy(n => n).Where(g => g.Count() > 1))
            Fault($"The name '{group.Key}' stands {group.Count()} times in {place}.");
    }

    private void Name(string name, string what)
    {
        if (!SimpleIdentifier.IsValid(name))
            Fault($"'{name}' is not a simple identifier ({what}).");
    }

    private void CheckType(CsdlType type)
    {
        Name(type.Name, "name of a type");
        if (type.Kind == CsdlTypeKind.Enum)
            CheckEnum(type);
        if (
            type.Kind == CsdlTypeKind.Definition
            && (type.Underlying?.StartsWith("Edm.", StringComparison.Ordinal) != true || !Primitives.Contains(type.Underlying[4..]))
        )
            Fault($"The type definition {type.Name} has no primitive underlying type.");
        if (type.BaseType is { } baseType && _document.FindType(baseType)?.Kind != type.Kind && !IsForeign(baseType))
            Fault($"The base type '{baseType}' of {type.Name} is not declared as the same kind.");
        Unique(
            _document.PropertiesOf(type).Select(p => p.Name).Concat(_document.NavigationsOf(type).Select(n => n.Name)),
            $"{type.Name} and its base types"
        );
        foreach (var property in type.Properties)
            CheckProperty(property, type);
        foreach (var navigation in type.Navigations)
            CheckNavigation(navigation, type);
        if (type.Kind == CsdlTypeKind.Entity)
            CheckKey(type);
    }

    private void CheckEnum(CsdlType type)
    {
        var given = type.Members.Count(m => m.Value is not null);
        if (given > 0 && given < type.Members.Length)
            Fault($"The enumeration {type.Name} gives values to some members and not to others.");
        if (type.IsFlags && given < type.Members.Length)
            Fault($"The flags of {type.Name} need values.");
        if (type.Underlying is not ("Edm.Byte" or "Edm.SByte" or "Edm.Int16" or "Edm.Int32" or "Edm.Int64"))
            Fault($"The enumeration {type.Name} cannot have the underlying type {type.Underlying}.");
        Unique(type.Members.Select(m => m.Name), $"the enumeration {type.Name}");
    }

    private void CheckKey(CsdlType type)
    {
        if (type.Key.Length > 0 && type.BaseType is { } name && _document.FindType(name) is { } parent && !_document.KeyOf(parent).IsEmpty)
            Fault($"{type.Name} declares a key, and inherits one.");
        var properties = _document.PropertiesOf(type).ToList();
        foreach (var part in type.Key.Where(k => !k.Contains('/')))
        {
            if (properties.Find(p => p.Name == part) is not { } property)
            {
                Fault($"The key of {type.Name} names '{part}', which is not a property.");
                continue;
            }
            if (property.NullableText != "false")
                Fault($"The key property {type.Name}/{part} is nullable.");
            if (_document.FindType(property.Type) is { Kind: CsdlTypeKind.Complex } || property.IsCollection)
                Fault($"The key property {type.Name}/{part} is {property.Type}, which a key cannot be.");
            if (property.Type.StartsWith("Edm.", StringComparison.Ordinal) && !KeyTypes.Contains(property.Type[4..]))
                Fault($"The key property {type.Name}/{part} is {property.Type}, which a key cannot be.");
        }
    }

    private bool IsForeign(string qualifiedName)
    {
        var dot = qualifiedName.LastIndexOf('.');
        return dot > 0 && _document.References.Contains(qualifiedName[..dot]);
    }

    private void CheckProperty(CsdlProperty property, CsdlType type)
    {
        var place = $"{type.Name}/{property.Name}";
        Name(property.Name, $"property of {type.Name}");
        var item = property.ItemType;
        if (item.StartsWith("Edm.", StringComparison.Ordinal))
        {
            if (!Primitives.Contains(item[4..]))
                Fault($"{place} has the type {item}, which does not exist.");
        }
        else if (_document.FindType(item) is null && !IsForeign(item))
            Fault($"{place} has the type '{item}', which is not declared.");
        if (property.NullableText is not (null or "true" or "false"))
            Fault($"{place}: Nullable is '{property.NullableText}', not true or false.");
        CheckFacets(property, item, place);
    }

    private void CheckFacets(CsdlProperty property, string item, string place)
    {
        var isDecimal = item == "Edm.Decimal";
        var isTemporal = item is "Edm.DateTimeOffset" or "Edm.Duration" or "Edm.TimeOfDay";
        var isPlain = item.StartsWith("Edm.", StringComparison.Ordinal);
        foreach (var (facet, text) in property.Facets)
        {
            var isNumber = int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number);
            switch (facet)
            {
                case "MaxLength" when isPlain && item is not ("Edm.String" or "Edm.Binary" or "Edm.Stream"):
                case "Precision" when isPlain && !isDecimal && !isTemporal:
                case "Scale" when isPlain && !isDecimal:
                case "SRID" when isPlain && !item.StartsWith("Edm.Geo", StringComparison.Ordinal):
                case "Unicode" when isPlain && item != "Edm.String":
                    Fault($"{place}: the facet {facet} does not belong to {item}.");
                    break;
                case "MaxLength" when !(isNumber && number > 0) && !(text == "max" && _document.Version == "4.0"):
                    Fault($"{place}: MaxLength is '{text}'.");
                    break;
                case "Precision" when isDecimal && !(isNumber && number > 0):
                    Fault($"{place}: Precision is '{text}', and a decimal needs at least 1.");
                    break;
                case "Precision" when isTemporal && !(isNumber && number <= 12):
                    Fault($"{place}: Precision is '{text}', and a time has 0 to 12 fraction digits.");
                    break;
                case "Scale" when isDecimal && !isNumber && text != "variable" && !(text == "floating" && _document.Version != "4.0"):
                    Fault($"{place}: Scale is '{text}'.");
                    break;
                case "Scale" when isDecimal && isNumber && property.Number("Precision") < number:
                    Fault($"{place}: Scale {number} is more than Precision {property.Number("Precision")}.");
                    break;
            }
        }
    }

    private void CheckNavigation(CsdlNavigation navigation, CsdlType type)
    {
        var place = $"{type.Name}/{navigation.Name}";
        Name(navigation.Name, $"navigation property of {type.Name}");
        if (navigation.IsCollection && navigation.NullableText is not null)
            Fault($"{place} is a collection and must not state Nullable.");
        var target = _document.FindType(navigation.ItemType);
        if (target is null)
        {
            if (!IsForeign(navigation.ItemType) && navigation.ItemType != "Edm.EntityType")
                Fault($"{place} leads to '{navigation.ItemType}', which is not declared.");
            return;
        }
        if (target.Kind != CsdlTypeKind.Entity)
            Fault($"{place} leads to {target.Name}, which is not an entity type.");
        CheckPartner(navigation, type, target, place);
        foreach (var (own, referenced) in navigation.Constraints)
            CheckConstraint(own, referenced, navigation, type, target, place);
    }

    private void CheckPartner(CsdlNavigation navigation, CsdlType type, CsdlType target, string place)
    {
        if (navigation.Partner is not { } name || name.Contains('/'))
            return;
        if (_document.NavigationsOf(target).FirstOrDefault(n => n.Name == name) is not { } partner)
            Fault($"{place}: its partner '{name}' is not a navigation property of {target.Name}.");
        else if (partner.Partner is { } back && back != navigation.Name)
            Fault($"{place}: its partner {target.Name}/{name} points at '{back}' instead.");
        else if (
            _document.FindType(partner.ItemType) is { } backType
            && !_document.Lineage(type).Contains(backType)
            && !_document.Lineage(backType).Contains(type)
        )
            Fault($"{place}: its partner {target.Name}/{name} leads to {backType.Name}.");
    }

    private void CheckConstraint(string own, string referenced, CsdlNavigation navigation, CsdlType type, CsdlType target, string place)
    {
        var dependent = _document.PropertiesOf(type).FirstOrDefault(p => p.Name == own);
        var principal = _document.PropertiesOf(target).FirstOrDefault(p => p.Name == referenced);
        if (own.Contains('/') || referenced.Contains('/'))
            return;
        if (dependent is null || principal is null)
            Fault($"{place}: the constraint {own} -> {referenced} names a property that is not there.");
        else if (dependent.Type != principal.Type)
            Fault($"{place}: the constraint ties {own} ({dependent.Type}) to {referenced} ({principal.Type}).");
        else if (!navigation.IsCollection && navigation.NullableText == "false" && dependent.IsNullable && !principal.IsNullable)
            Fault($"{place} is never null, and the property {own} that it follows is nullable.");
    }

    private void CheckSet(CsdlSet set, CsdlContainer container)
    {
        Name(set.Name, "name of an entity set");
        if (_document.FindType(set.Type) is not { } type)
        {
            if (!IsForeign(set.Type) && !(set.IsSingle && set.Type.StartsWith("Edm.", StringComparison.Ordinal)))
                Fault($"The set {set.Name} has the type '{set.Type}', which is not declared.");
            return;
        }
        if (set.IsFunction)
            return;
        if (type.Kind != CsdlTypeKind.Entity)
            Fault($"The set {set.Name} has the type {type.Name}, which is not an entity type.");
        else if (!set.IsSingleton && !type.IsAbstract && _document.KeyOf(type).IsEmpty)
            Fault($"The set {set.Name} has the type {type.Name}, which has no key.");
        Unique(set.Bindings.Select(b => b.Path), $"the bindings of {set.Name}");
        foreach (var (path, target) in set.Bindings.Where(b => !b.Path.Contains('/')))
            CheckBinding(set, type, path, target, container);
    }

    private void CheckBinding(CsdlSet set, CsdlType type, string path, string target, CsdlContainer container)
    {
        if (_document.NavigationsOf(type).FirstOrDefault(n => n.Name == path) is not { } navigation)
        {
            Fault($"{set.Name}: the binding '{path}' names no navigation property of {type.Name}.");
            return;
        }
        if (navigation.ContainsTarget)
            Fault($"{set.Name}: the binding '{path}' binds a navigation property that contains its target.");
        var name = target[(target.LastIndexOf('/') + 1)..];
        if (container.Sets.FirstOrDefault(s => s.Name == name) is not { } targetSet)
        {
            if (!target.Contains('/'))
                Fault($"{set.Name}: the binding '{path}' leads to the set '{target}', which is not there.");
        }
        else if (
            _document.FindType(targetSet.Type) is { } found
            && _document.FindType(navigation.ItemType) is { } wanted
            && !_document.Lineage(found).Contains(wanted)
            && !_document.Lineage(wanted).Contains(found)
        )
            Fault($"{set.Name}: the binding '{path}' leads to {targetSet.Name} of {found.Name}, and the navigation to {wanted.Name}.");
    }
}
