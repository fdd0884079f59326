using System.Collections.Immutable;
using System.IO.Enumeration;
using System.Text.RegularExpressions;
using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.Building;

/// <summary>How a service stands on its faces, from what its declaration and the workspace say.</summary>
internal sealed partial class FaceBuilder(ServiceDeclaration declaration, EntityModel model, Diagnostics diagnostics)
{
    /// <summary>First segments of paths that belong to the service as a whole, or to a face.</summary>
    private static readonly string[] Reserved =
    [
        "odata",
        "odata2",
        "console",
        "manage",
        "services",
        "health",
        "metrics",
        "pages",
        "problems",
        ".well-known",
        "session",
    ];

    private static readonly string[] Documents = ["openapi.json", "openapi.yaml", "openapi-3.0.json", "openapi-3.0.yaml", "schema.xsd"];

    private readonly SourceLocation _place = declaration.Location;

    /// <param name="sets">The declarations of the sets, by the names of the sets.</param>
    public ServiceFaces Build(IReadOnlyDictionary<string, SetDeclaration> sets)
    {
        var rest = RestOf(sets);
        CheckNames(rest);
        CheckPaths(rest, sets);
        if (declaration.Sql is { } sql && !rest.IsOffered)
            diagnostics.Error(
                "sql",
                "Statements are sent to the plain REST face, on which the service does not stand.",
                sql.Location,
                "Add rest to 'faces', or leave 'sql' out."
            );
        return new ServiceFaces(Standing(new FaceShape(), "odata", sets), rest);
    }

    /// <summary>Two services cannot stand at one path, nor one below another.</summary>
    public static void CheckBases(IReadOnlyList<(ServiceDeclaration Declaration, EntityModel Model)> services, Diagnostics diagnostics)
    {
        var paths = services
            .Where(s => s.Model.Faces.Rest.IsOffered)
            .SelectMany(s =>
                s.Model.Faces.Rest.FormerBases.Append(s.Model.Faces.Rest.BaseOf(s.Model.Service)).Select(p => (Path: p, s.Declaration))
            )
            .ToList();
        foreach (var (path, service) in paths)
        {
            // A version stands below the service that is current.
            var other = paths.Find(p =>
                p.Declaration != service
                && path.StartsWith(p.Path, StringComparison.Ordinal)
                && (path == p.Path || service.VersionOf?.Value.Service != p.Declaration.Name)
            );
            if (other.Path is not null)
                diagnostics.Error(
                    "rest-base",
                    $"The services '{service.Name}' and '{other.Declaration.Name}' stand at the same path on the plain REST face: {path}"
                        + $"{(other.Path == path ? "" : $" is below {other.Path}")}.",
                    service.Rest.Base?.Location ?? service.Location,
                    "Give one of them another 'base'."
                );
        }
    }

    /// <summary>A face with the sets that stand on it: what a set says beats the service, and that beats the workspace.</summary>
    private T Standing<T>(T shape, string face, IReadOnlyDictionary<string, SetDeclaration> sets)
        where T : FaceShape
    {
        var patterns = declaration.FacePatterns.FirstOrDefault(f => f.Face.Value == face)?.Patterns;
        bool Stands(string set) =>
            sets[set].Faces is { } own ? own.Any(f => f.Value == face)
            : declaration.Faces is { } service ? service.Any(f => f.Value == face)
            : patterns is not { } all || all.Any(p => Matches(p.Value, set));
        var without = model.Sets.Select(s => s.Name).Where(n => !Stands(n)).ToImmutableHashSet();
        return shape with { IsOffered = without.Count < model.Sets.Length || model.Sets.IsEmpty, Without = without };
    }

    private bool Matches(string pattern, string set) =>
        FileSystemName.MatchesSimpleExpression(pattern, declaration.Name, ignoreCase: false)
        || FileSystemName.MatchesSimpleExpression(pattern, $"{declaration.Name}/{set}", ignoreCase: false);

    private RestShape RestOf(IReadOnlyDictionary<string, SetDeclaration> sets)
    {
        var declared = declaration.Rest;
        var shape = new RestShape
        {
            Base = declared.Base is { } path ? BasePath(path) : null,
            FormerBases = [.. declared.FormerBases.Select(BasePath).OfType<string>()],
            Names = declared.Names?.Value ?? Casing.AsIs,
            Paths = declared.Paths?.Value ?? Casing.AsIs,
            HasNamedKeys = declared.HasNamedKeys,
            HasBareLists = declared.HasBareLists,
            Format = declared.Format?.Value,
            Sets = sets.Where(s => s.Value.Rest != RestSetDeclaration.None)
                .ToImmutableDictionary(
                    s => s.Key,
                    s => new RestSet
                    {
                        Path = s.Value.Rest.Path is { } own ? SetPath(own) : null,
                        FormerPaths = [.. s.Value.Rest.FormerPaths.Select(SetPath).OfType<string>()],
                        Format = s.Value.Rest.Format?.Value,
                        CacheSeconds = s.Value.Rest.CacheSeconds,
                    }
                ),
        };
        shape = shape with { Sets = shape.Sets.SetItems(Bound(shape)) };
        return Standing(shape, "rest", sets);
    }

    /// <summary>What is asked of a row stands below it, unless it has a path of its own.</summary>
    private IEnumerable<KeyValuePair<string, RestSet>> Bound(RestShape shape) =>
        model
            .Sets.Where(s => s.Binding is not null && shape.Of(s.Name).Path is null)
            .Select(s =>
                KeyValuePair.Create(
                    s.Name,
                    shape.Of(s.Name) with
                    {
                        Path =
                            $"{shape.PathOf(s.Binding!.Set)}/{string.Join('/', s.Binding.Key.Select(k => $"{{{k}}}"))}/"
                            + shape.Paths.Apply(s.Name),
                    }
                )
            );

    private string? BasePath(Located<string> path)
    {
        var segments = path.Value.Trim('/').Split('/');
        if (!path.Value.StartsWith('/') || !segments.All(PathSegment().IsMatch))
            diagnostics.Error(
                "rest-base",
                $"'{path.Value}' cannot be the path of a service: it starts with a slash, and its segments hold letters, digits, '-', '_', "
                    + "'.' and '~'.",
                path.Location,
                "Write for example '/water/v1'."
            );
        else if (Reserved.Contains(segments[0]) || (segments[0] == "rest" && segments.Length != 2))
            diagnostics.Error("rest-base", $"Addresses below /{segments[0]} belong to something else.", path.Location);
        else
            return $"/{string.Join('/', segments)}/";
        return null;
    }

    private string? SetPath(Located<string> path)
    {
        var segments = path.Value.Trim('/').Split('/');
        if (segments.All(s => s.Length > 0 && !s.Any(c => char.IsControl(c) || c is '\\' or '?' or '#' or '%')))
            return string.Join('/', segments);
        diagnostics.Error("rest-path", $"'{path.Value}' cannot be the path of a set.", path.Location, "Write for example 'stations'.");
        return null;
    }

    /// <summary>Names that are alike in the case of the face.</summary>
    private void CheckNames(RestShape shape)
    {
        foreach (var set in model.Sets)
        {
            var members = set.Type.MemberNames.Concat(set.Type.Derived.SelectMany(d => d.Properties).Select(p => p.Name)).ToList();
            Report(set, members, shape.Names, declaration.Rest.Names?.Location, "names");
            Report(set, [.. set.Parameters.Select(p => p.Name)], shape.Names, declaration.Rest.Names?.Location, "names");
            Report(set, [.. members.Select(n => shape.Names.Apply(n))], shape.Paths, declaration.Rest.Paths?.Location, "paths");
            foreach (var group in set.Type.Properties.Where(p => p.IsGroup))
                Report(set, [.. group.Members.Select(m => m.Name)], shape.Names, declaration.Rest.Names?.Location, "names");
        }
    }

    private void Report(EntitySet set, List<string> names, Casing casing, SourceLocation? place, string word)
    {
        if (names.GroupBy(n => casing.Apply(n)).FirstOrDefault(g => g.Distinct().Count() > 1) is { } alike)
            diagnostics.Error(
                "rest-names",
                $"'{string.Join("' and '", alike.Distinct())}' of {set.Name} would both be called '{alike.Key}' on the plain REST face.",
                place ?? _place,
                $"Rename one of them, or write another case as '{word}' under 'rest'."
            );
    }

    /// <summary>Paths that are alike, that lie below each other, or that belong to documents.</summary>
    private void CheckPaths(RestShape shape, IReadOnlyDictionary<string, SetDeclaration> sets)
    {
        var paths = model
            .Sets.Where(s => s.ContainedIn is null && !shape.Without.Contains(s.Name))
            .SelectMany(s => shape.Of(s.Name).FormerPaths.Append(shape.PathOf(s.Name)).Select(p => (Path: p, Set: s.Name)))
            .ToList();
        foreach (var (path, set) in paths)
        {
            var place = sets[set].Rest.Path?.Location ?? sets[set].Location;
            CheckVariables(model.FindSet(set)!, path, place);
            if (Documents.Contains(path))
                diagnostics.Error("rest-path", $"'{path}' is a document of the service, and no path of '{set}'.", place);
            if (declaration.Sql is not null && path.Split('/')[0] == SqlAccess.Path)
                diagnostics.Error("rest-path", $"'{SqlAccess.Path}' takes statements, and is no path of '{set}'.", place);
            var other = paths.Find(p =>
                (p.Set != set && IsAlike(p.Path, path))
                || (p.Path != path && IsBelow(path, p.Path) && model.FindSet(set)!.Binding?.Set != p.Set)
            );
            if (other.Path is not null)
                diagnostics.Error(
                    "rest-path",
                    IsAlike(other.Path, path)
                        ? $"The sets '{set}' and '{other.Set}' have the same path '{path}'."
                        : $"The path '{path}' of '{set}' lies below '{other.Path}' of '{other.Set}', where keys stand.",
                    place,
                    "Give one of them another 'path' under 'rest'."
                );
        }
    }

    /// <summary>Variables of a path must be parameters of the query, each once, and never its first segment.</summary>
    private void CheckVariables(EntitySet set, string path, SourceLocation place)
    {
        var variables = path.Split('/').Select(PathVariable.Of).ToList();
        void Wrong(string message, string advice) => diagnostics.Error("rest-path", message, place, advice);
        foreach (var segment in path.Split('/').Where((s, i) => variables[i] is null && s.AsSpan().ContainsAny("{}")))
            Wrong($"'{segment}' in the path of '{set.Name}' is no variable: one is a whole segment, such as {{from}}.", "Mend the braces.");
        foreach (var name in variables.OfType<string>().Where(n => set.Parameters.All(p => p.Placeholder != n)).Distinct())
            Wrong(
                $"'{set.Name}' has no parameter '{name}', which its path names."
                    + NearestName.Hint(name, set.Parameters.Select(p => p.Placeholder)),
                set.IsQuery ? "Callers give the parameters of a path." : "Only queries have variables in their paths."
            );
        if (variables.OfType<string>().GroupBy(n => n).FirstOrDefault(g => g.Count() > 1) is { } twice)
            Wrong($"The path of '{set.Name}' has the variable '{twice.Key}' twice.", "Each stands once.");
        if (variables[0] is not null)
            Wrong($"The path of '{set.Name}' starts with a variable.", "Start it with a name, such as near/{from}.");
    }

    /// <summary>Whether two paths can be the same address; a variable stands for any segment.</summary>
    private static bool IsAlike(string one, string other)
    {
        var (first, second) = (one.Split('/'), other.Split('/'));
        return first.Length == second.Length && first.Zip(second).All(AreAlike);
    }

    /// <summary>Whether a path can lie below another one, where keys and what follows them stand.</summary>
    private static bool IsBelow(string path, string other)
    {
        var (inner, outer) = (path.Split('/'), other.Split('/'));
        return inner.Length > outer.Length && outer.Zip(inner).All(AreAlike);
    }

    private static bool AreAlike((string First, string Second) segments) =>
        segments.First == segments.Second || PathVariable.Of(segments.First) is not null || PathVariable.Of(segments.Second) is not null;

    [GeneratedRegex("^[A-Za-z0-9._~-]+$")]
    private static partial Regex PathSegment();
}
