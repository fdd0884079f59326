using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>Reads the enumerations, complex types and names for primitive types of a service file.</summary>
internal sealed class TypeReader(Diagnostics diagnostics)
{
    public ImmutableArray<TypeDeclaration> Read(MappingReader service) =>
        [.. service.Entries("types").Select(t => Type(t.Name, t.Value, service)).OfType<TypeDeclaration>()];

    private TypeDeclaration? Type(Located<string> name, YamlNode node, MappingReader service)
    {
        if (!SimpleIdentifier.IsValid(name.Value))
            diagnostics.Error(
                "identifier",
                $"'{name.Value}' cannot be a type's name.",
                name.Location,
                $"Write for example '{SimpleIdentifier.From(name.Value)}'."
            );
        if (node is YamlScalar { IsNothing: false } word)
            return new TypeDeclaration(name) { Base = new Located<string>(word.Value, word.Location) };
        if (node is not YamlMapping mapping)
            return service.Wrong<TypeDeclaration>(
                node,
                $"'{name.Value}' under 'types' is a primitive type, or holds 'type', 'members' or 'properties'"
            );
        var reader = new MappingReader(mapping, diagnostics);
        var type = new TypeDeclaration(name)
        {
            Description = reader.Text("description")?.Value,
            Members = Members(reader),
            Properties = [.. reader.Entries("properties").Select(p => Property(p.Name, p.Value, reader)).OfType<MemberDeclaration>()],
            IsOpen = reader.Flag("open", false),
            Base = reader.Text("type"),
        };
        reader.ReportUnknown("a type");
        if (type.IsEnum && (!type.Properties.IsEmpty || type.IsOpen))
            diagnostics.Error(
                "type-kind",
                $"'{name.Value}' is an enumeration by its 'members', and cannot have 'properties' or be 'open'.",
                name.Location
            );
        if (type.Base is not null && (type.IsEnum || !type.Properties.IsEmpty || type.IsOpen))
            diagnostics.Error(
                "type-kind",
                $"'{name.Value}' is a name for a primitive type by its 'type', and cannot have 'members' or 'properties' or be 'open'.",
                name.Location
            );
        if (type.Base is null && !type.IsEnum && type.Properties.IsEmpty && !type.IsOpen)
            diagnostics.Error(
                "type-kind",
                $"'{name.Value}' has neither 'type', 'members' nor 'properties'.",
                name.Location,
                "Write 'type: string(12)' for a name of a primitive type, 'members: [first, second]' for an enumeration, 'properties:' for "
                    + "a complex type, or 'open: true' for any."
            );
        return type;
    }

    /// <summary>A list of names that are stored as they are, or names with their stored values.</summary>
    private ImmutableArray<(Located<string>, Located<string>)> Members(MappingReader reader)
    {
        var members = reader.Node("members") is YamlMapping ? reader.Pairs("members") : [.. reader.Texts("members").Select(m => (m, m))];
        foreach (var (name, _) in members.Where(m => !SimpleIdentifier.IsValid(m.Item1.Value)))
            diagnostics.Error(
                "identifier",
                $"'{name.Value}' cannot be the name of a member.",
                name.Location,
                $"Name it and say what is stored, as in 'members: {{ {SimpleIdentifier.From(name.Value)}: \"{name.Value}\" }}'."
            );
        foreach (var twice in members.GroupBy(m => m.Item1.Value).Where(g => g.Count() > 1))
            diagnostics.Error("member-twice", $"The member '{twice.Key}' is given twice.", twice.Last().Item1.Location);
        foreach (var twice in members.GroupBy(m => m.Item2.Value).Where(g => g.Select(m => m.Item1.Value).Distinct().Count() > 1))
            diagnostics.Error("member-twice", $"Two members stand for the stored value '{twice.Key}'.", twice.Last().Item2.Location);
        return members;
    }

    private MemberDeclaration? Property(Located<string> name, YamlNode node, MappingReader type)
    {
        if (!SimpleIdentifier.IsValid(name.Value))
            diagnostics.Error(
                "identifier",
                $"'{name.Value}' cannot be a property's name.",
                name.Location,
                $"Write for example '{{ {SimpleIdentifier.From(name.Value)}: {{ type: string, from: \"{name.Value}\" }} }}'."
            );
        if (node is YamlScalar { IsNothing: false } word)
            return new MemberDeclaration(name, new Located<string>(word.Value, word.Location), name.Value, false);
        if (node is not YamlMapping mapping)
            return type.Wrong<MemberDeclaration>(node, $"'{name.Value}' under 'properties' is a type, or holds names with values");
        var reader = new MappingReader(mapping, diagnostics);
        var declared = reader.RequiredText("type", "the type of the property");
        var from = reader.Text("from")?.Value ?? name.Value;
        var isRequired = reader.Flag("required", false);
        reader.ReportUnknown("a property");
        return declared is null ? null : new MemberDeclaration(name, declared, from, isRequired);
    }
}
