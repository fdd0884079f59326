using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.Building;

/// <summary>The enumerations and complex types of one service, and the meaning of the type names in its declaration.</summary>
internal sealed partial class TypeBuilder
{
    private readonly string _namespace;
    private readonly Diagnostics _diagnostics;
    private readonly Dictionary<string, EdmType> _types = new(StringComparer.Ordinal);
    private readonly Dictionary<string, TypeDefinition> _definitions = new(StringComparer.Ordinal);

    public TypeBuilder(ServiceDeclaration declaration, Diagnostics diagnostics)
    {
        _namespace = declaration.Namespace;
        _diagnostics = diagnostics;
        foreach (var twice in declaration.Types.GroupBy(t => t.Name.Value).Where(g => g.Count() > 1))
            diagnostics.Error("type-twice", $"The type '{twice.Key}' is declared twice.", twice.Last().Name.Location);
        foreach (var type in declaration.Types.Where(t => t.Base is not null))
            Define(type);
        // Enumerations first: complex types name them, whatever the order in the file.
        foreach (var type in declaration.Types.Where(t => t.IsEnum))
            _types[type.Name.Value] = new EdmType(EdmKind.Enum)
            {
                Enum = new EnumType(
                    _namespace,
                    type.Name.Value,
                    [
                        .. type
                            .Members.DistinctBy(m => m.Name.Value)
                            .DistinctBy(m => m.Stored.Value)
                            .Select((m, i) => new EnumMember(m.Name.Value, i, m.Stored.Value)),
                    ],
                    type.Description
                ),
            };
        var open = declaration
            .Types.Where(t => t is { IsEnum: false, Base: null })
            .DistinctBy(t => t.Name.Value)
            .ToDictionary(t => t.Name.Value, t => t);
        foreach (var type in open.Values.ToList())
            Complex(type, open, []);
    }

    private void Define(TypeDeclaration declared)
    {
        var (name, word) = (declared.Name.Value, declared.Base!);
        if (Primitive(word.Value) is not { } underlying)
        {
            _diagnostics.Error(
                "unknown-type",
                $"'{word.Value}' is not a primitive type, and '{name}' can be a name for one only.",
                word.Location,
                "Write for example 'type: string(12)' or 'type: decimal(9,2)'."
            );
            return;
        }
        _types[name] = underlying;
        _definitions[name] = new TypeDefinition(_namespace, name, underlying, declared.Description);
    }

    /// <summary>The name for a primitive type that a word is, or that a collection is of; null = it is none.</summary>
    public TypeDefinition? DefinitionOf(string? word) => word is null ? null : _definitions.GetValueOrDefault(ItemName(word));

    public IEnumerable<string> Names => _types.Keys;

    /// <summary>Whether a name is one of the service's own types.</summary>
    public bool IsTaken(string name) => _types.ContainsKey(name);

    private void Complex(TypeDeclaration declaration, Dictionary<string, TypeDeclaration> open, ImmutableHashSet<string> within)
    {
        var name = declaration.Name.Value;
        if (_types.ContainsKey(name))
            return;
        foreach (var inner in declaration.Properties.Select(p => ItemName(p.Type.Value)).Where(open.ContainsKey))
        {
            if (within.Contains(inner) || inner == name)
                _diagnostics.Error("type-cycle", $"The type '{name}' contains itself over '{inner}'.", declaration.Name.Location);
            else
                Complex(open[inner], open, within.Add(name));
        }
        var properties = declaration
            .Properties.Select(p => new Property(p.Name.Value, Parse(p.Type) ?? EdmType.String, !p.IsRequired, p.From)
            {
                Definition = DefinitionOf(p.Type.Value),
            })
            .ToImmutableArray();
        _types[name] = new EdmType(EdmKind.Complex)
        {
            Complex = new ComplexType(_namespace, name, properties, declaration.IsOpen, declaration.Description),
        };
    }

    /// <summary>The type that a name means; null when there is none, which is then reported.</summary>
    public EdmType? Parse(Located<string> word)
    {
        if (Find(word.Value) is { } type)
            return type;
        var known = Enum.GetNames<EdmKind>()
            .Where(k => k is not ("Enum" or "Complex" or "Stream"))
            .Select(k => k.ToLowerInvariant())
            .Concat(_types.Keys)
            .ToList();
        _diagnostics.Error(
            "unknown-type",
            $"There is no type '{word.Value}'.{NearestName.Hint(word.Value, known)}",
            word.Location,
            $"Types: {string.Join(", ", known)}; with facets as in string(40), decimal(9,2), datetimeoffset(3), or collection(…) of them."
        );
        return null;
    }

    private EdmType? Find(string word)
    {
        if (_types.TryGetValue(word, out var declared))
            return declared;
        if (Shape().Match(word) is { Success: true } match && match.Groups["item"] is { Success: true } item)
            return Find(item.Value) is { IsCollection: false } inner ? inner with { IsCollection = true } : null;
        return Primitive(word);
    }

    /// <summary>A primitive type by its name, with facets; null when it is none.</summary>
    public static EdmType? Primitive(string word)
    {
        var match = Shape().Match(word);
        if (!match.Success)
            return null;
        if (
            !Enum.TryParse<EdmKind>(match.Groups["name"].Value, ignoreCase: true, out var kind)
            || kind is EdmKind.Enum or EdmKind.Complex or EdmKind.Stream
            || int.TryParse(match.Groups["name"].Value, out _)
        )
            return null;
        var first = Number(match.Groups["first"]);
        var second = Number(match.Groups["second"]);
        return kind switch
        {
            EdmKind.String or EdmKind.Binary when second is null => new EdmType(kind, MaxLength: first),
            EdmKind.Decimal when (second ?? 0) <= (first ?? 0) => new EdmType(
                kind,
                Precision: first,
                Scale: first is null ? null : second ?? 0
            ),
            EdmKind.DateTimeOffset or EdmKind.TimeOfDay or EdmKind.Duration when second is null && first is null or <= 7 => new EdmType(
                kind,
                Precision: first
            ),
            _ => first is null ? new EdmType(kind) : null,
        };
    }

    private static string ItemName(string word) =>
        Shape().Match(word) is { Success: true } match && match.Groups["item"].Success ? match.Groups["item"].Value : word;

    private static int? Number(Group group) =>
        group.Success
        && int.TryParse(group.ValueSpan, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
        && number is > 0 or 0
            ? number
            : null;

    /// <summary>An enumeration of the labels that a catalog lists; the same for the same name.</summary>
    public EdmType FromLabels(string name, ImmutableArray<string> labels) =>
        _types.TryGetValue(name, out var known)
            ? known
            : _types[name] = new EdmType(EdmKind.Enum)
            {
                Enum = new EnumType(
                    _namespace,
                    name,
                    [.. labels.Select((l, i) => new EnumMember(SimpleIdentifier.From(l), i, l)).DistinctBy(m => m.Name)]
                ),
            };

    /// <summary>
    /// The complex type of some members; sets share one of the same name if the members are the same. Null when they differ, which is
    /// then reported.
    /// </summary>
    public EdmType? FromMembers(string name, ImmutableArray<Property> members, SourceLocation location)
    {
        ImmutableArray<Property> plain =
        [
            .. members.Select(m => new Property(m.Name, m.Type, m.Nullable, m.Column)
            {
                Description = m.Description,
                Definition = m.Definition,
                Measure = m.Measure is { IsPath: true } ? null : m.Measure,
            }),
        ];
        if (!_types.TryGetValue(name, out var known))
            return _types[name] = new EdmType(EdmKind.Complex) { Complex = new ComplexType(_namespace, name, plain, false) };
        string Shown(IEnumerable<Property> properties) =>
            string.Join(
                ", ",
                properties.Select(p =>
                    $"{p.Name} {p.Type}{(p.Nullable ? "" : ", never null")}{(p.Measure is null ? "" : $" in {p.Measure}")}"
                )
            );
        if (known.Complex is { } complex && Shown(complex.Properties) == Shown(plain))
            return known;
        _diagnostics.Error(
            "type-differs",
            $"The complex type '{name}' would have other members here than elsewhere.",
            location,
            $"Here: {Shown(plain)}\nElsewhere: {Shown(known.Complex?.Properties ?? [])}\nGive this one another 'type', or make them alike."
        );
        return null;
    }

    [GeneratedRegex(
        @"^\s*(?:(?:Edm\.)?(?<name>[A-Za-z0-9]+)\s*(?:\(\s*(?<first>\d{1,5})\s*(?:,\s*(?<second>\d{1,5})\s*)?\))?"
            + @"|[Cc]ollection\(\s*(?<item>.+)\s*\))\s*$"
    )]
    private static partial Regex Shape();
}
