using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>Reads what a file says of faces.</summary>
internal static class FaceReader
{
    /// <summary>The short names of all faces.</summary>
    public static readonly string[] Faces = ["odata", "rest"];

    /// <summary>The short names of the formats that may be the usual one.</summary>
    public static readonly string[] Formats = ["json", "jsonl", "csv", "xml", "xlsx"];

    private static readonly (string Word, Casing Casing)[] Casings =
    [
        ("as-is", Casing.AsIs),
        ("camel-case", Casing.CamelCase),
        ("pascal-case", Casing.PascalCase),
        ("snake-case", Casing.SnakeCase),
        ("kebab-case", Casing.KebabCase),
    ];

    /// <summary>The words for cases of names.</summary>
    public static readonly string[] NameWords = [.. Casings.Where(c => c.Casing != Casing.KebabCase).Select(c => c.Word)];

    /// <summary>The words for cases of paths.</summary>
    public static readonly string[] PathWords = [.. Casings.Select(c => c.Word)];

    /// <summary>The word for a case.</summary>
    public static string Word(Casing casing) => Casings.First(c => c.Casing == casing).Word;

    /// <summary>The faces of a workspace, each with patterns of what stands on it.</summary>
    public static ImmutableArray<FacePatterns> ReadPatterns(MappingReader workspace)
    {
        if (workspace.Mapping("faces") is not { } reader)
            return [];
        var faces = Faces
            .Where(f => reader.Node(f) is not null)
            .Select(f => new FacePatterns(new Located<string>(f, reader.KeyLocation(f)), reader.Texts(f)))
            .ToImmutableArray();
        reader.ReportUnknown("'faces'");
        return faces;
    }

    /// <summary>The faces that a service or a set names; null = it says nothing.</summary>
    public static ImmutableArray<Located<string>>? Read(MappingReader reader)
    {
        if (reader.Node("faces") is null)
            return null;
        var named = reader.Texts("faces");
        foreach (var face in named.Where(f => !Faces.Contains(f.Value)))
            reader.Diagnostics.Error(
                "faces",
                $"'{face.Value}' is not a face.{NearestName.Hint(face.Value, Faces)}",
                face.Location,
                $"Faces: {string.Join(", ", Faces)}."
            );
        return named;
    }

    /// <summary>How a service stands on the plain REST face.</summary>
    public static RestDeclaration ReadRest(MappingReader service)
    {
        if (service.Mapping("rest") is not { } reader)
            return RestDeclaration.None;
        var rest = new RestDeclaration
        {
            Base = reader.Text("base"),
            FormerBases = reader.Texts("former-bases"),
            Names = CasingOf(reader, "names", NameWords),
            Paths = CasingOf(reader, "paths", PathWords),
            HasNamedKeys = Choice(reader, "keys", ["path", "named"]) == "named",
            HasBareLists = Choice(reader, "lists", ["object", "array"]) == "array",
            Format = Format(reader),
        };
        reader.ReportUnknown("'rest'");
        return rest;
    }

    /// <summary>How a set stands on the plain REST face.</summary>
    public static RestSetDeclaration ReadRestSet(MappingReader set)
    {
        if (set.Mapping("rest") is not { } reader)
            return RestSetDeclaration.None;
        var rest = new RestSetDeclaration
        {
            Path = reader.Text("path"),
            FormerPaths = reader.Texts("former-paths"),
            Format = Format(reader),
            CacheSeconds = reader.Number("cache-seconds", 1, 31_536_000),
        };
        reader.ReportUnknown("'rest' of a set");
        return rest;
    }

    private static Located<string>? Format(MappingReader reader) =>
        Choice(reader, "format", Formats) is { } word ? new Located<string>(word, reader.KeyLocation("format")) : null;

    private static Located<Casing>? CasingOf(MappingReader reader, string name, string[] words) =>
        Choice(reader, name, words) is { } word
            ? new Located<Casing>(Casings.First(c => c.Word == word).Casing, reader.KeyLocation(name))
            : null;

    private static string? Choice(MappingReader reader, string name, string[] words)
    {
        if (reader.Text(name) is not { } word)
            return null;
        if (words.Contains(word.Value))
            return word.Value;
        reader.Diagnostics.Error(
            "rest",
            $"'{word.Value}' is no value of '{name}'.{NearestName.Hint(word.Value, words)}",
            word.Location,
            $"Values: {string.Join(", ", words)}."
        );
        return null;
    }
}
