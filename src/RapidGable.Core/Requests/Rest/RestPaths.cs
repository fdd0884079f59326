using System.Collections.Frozen;
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests.Rest;

/// <summary>The paths of a service's sets on the plain REST face.</summary>
public sealed class RestPaths
{
    private readonly FrozenDictionary<string, string> _sets;
    private readonly FrozenDictionary<string, string> _former;
    private readonly ImmutableArray<(string[] Segments, string Set)> _templates;
    private readonly FrozenDictionary<string, FrozenSet<string>> _parameters;
    private readonly FrozenSet<string> _single;
    private readonly FrozenSet<string> _members;
    private readonly RestShape _shape;
    private readonly int _longest;

    /// <param name="model">All of the service, in the names of the face.</param>
    public RestPaths(EntityModel model)
    {
        _shape = model.Faces.Rest;
        var standing = model.Sets.Where(s => s.ContainedIn is null && !_shape.Without.Contains(s.Name)).ToList();
        // Two paths that are alike are a fault of the declaration, which is told elsewhere.
        _sets = standing.DistinctBy(s => _shape.PathOf(s.Name)).ToFrozenDictionary(s => _shape.PathOf(s.Name), s => s.Name);
        _templates =
        [
            .. _sets
                .Where(s => s.Key.Contains('{'))
                .Select(s => (Segments: s.Key.Split('/'), Set: s.Value))
                .OrderByDescending(t => t.Segments.Length),
        ];
        _single = standing.Where(s => s.Gives != QueryResult.Rows).Select(s => s.Name).ToFrozenSet();
        _parameters = standing
            .Where(s => !s.Parameters.IsEmpty)
            .ToFrozenDictionary(s => s.Name, s => s.Parameters.Select(p => p.Name).ToFrozenSet());
        _former = standing
            .SelectMany(s => _shape.Of(s.Name).FormerPaths.Select(f => (Former: f, s.Name)))
            .DistinctBy(f => f.Former)
            .ToFrozenDictionary(f => f.Former, f => _shape.PathOf(f.Name));
        _members = model
            .Sets.SelectMany(s => s.Type.MemberNames.Concat(s.Type.Derived.SelectMany(d => d.Properties).Select(p => p.Name)))
            .Select(n => _shape.Paths.Apply(n))
            .ToFrozenSet();
        _longest = _sets.Keys.Concat(_former.Keys).Select(p => p.Count(c => c == '/') + 1).DefaultIfEmpty(1).Max();
    }

    /// <summary>How segments that name properties and relations are written.</summary>
    public Casing Casing => _shape.Paths;

    /// <summary>Keys are written with the names of their properties.</summary>
    public bool HasNamedKeys => _shape.HasNamedKeys;

    /// <summary>The path of a set, percent-encoded.</summary>
    public string Of(string set) => Encode(_shape.PathOf(set));

    /// <summary>The path of an action with sample values in the place of its variables, and the parameters that are left.</summary>
    public (string Path, IReadOnlyList<OperationParameter> Others) SampleOf(EntitySet action)
    {
        var inPath = VariablesOf(action.Name).Select(v => v.Name).ToHashSet();
        var path = Of(action.Name);
        foreach (var parameter in action.Parameters.Where(p => inPath.Contains(p.Name)))
            path = path.Replace($"{{{parameter.Placeholder}}}", Uri.EscapeDataString(parameter.Sample), StringComparison.Ordinal);
        return (path, [.. action.Parameters.Where(p => !inPath.Contains(p.Name))]);
    }

    /// <summary>The set that a path starts with, and how many segments name it.</summary>
    /// <returns>For a path that names none, a name that no set has; 0 segments for an empty path.</returns>
    public (string Set, int Segments) Find(IReadOnlyList<AddressSegment> segments)
    {
        if (segments.Count == 0)
            return ("", 0);
        var fitting = _templates.FirstOrDefault(t => Fits(t.Segments, segments));
        for (var count = Math.Min(_longest, segments.Count); count > 0; count--)
        {
            // What is asked of a row stands below the set of the row.
            if (fitting.Segments is { Length: var length } && length > count)
                return (fitting.Set, length);
            if (_sets.TryGetValue(string.Join('/', segments.Take(count).Select(s => s.Text)), out var set))
                return (set, count);
        }
        return ("/" + segments[0].Text, 1);
    }

    /// <summary>The parameters that stand in the path of a query, with the numbers of their segments.</summary>
    public IEnumerable<(string Name, int Segment)> VariablesOf(string set) =>
        _templates
            .Where(t => t.Set == set)
            .SelectMany(t => t.Segments.Select((s, i) => (Name: PathVariable.Of(s), Segment: i)))
            .Where(v => v.Name is not null)
            .Select(v => (_shape.Names.Apply(v.Name!), v.Segment));

    /// <summary>The parameters of a query that gives one row, so that nothing else can stand behind it; null = it is none.</summary>
    public IEnumerable<string>? OnlyParametersOf(string set) =>
        _single.Contains(set)
            ? _parameters.TryGetValue(set, out var own)
                ? own
                : []
            : null;

    /// <summary>Whether a query takes a parameter of a name.</summary>
    public bool Takes(string set, string parameter) => _parameters.TryGetValue(set, out var parameters) && parameters.Contains(parameter);

    private static bool Fits(string[] template, IReadOnlyList<AddressSegment> segments) =>
        template.Length <= segments.Count
        && template.Zip(segments).All(p => PathVariable.Of(p.First) is not null || p.First == p.Second.Text);

    /// <summary>Where a path that begins with a former path of a set is now, percent-encoded; null = it does not.</summary>
    public string? Moved(IReadOnlyList<AddressSegment> segments)
    {
        if (_former.Count == 0)
            return null;
        for (var count = Math.Min(_longest, segments.Count); count > 0; count--)
        {
            if (_former.TryGetValue(string.Join('/', segments.Take(count).Select(s => s.Text)), out var path))
                return string.Join('/', segments.Skip(count).Select(s => s.Raw).Prepend(Encode(path)));
        }
        return null;
    }

    /// <summary>Whether a segment may name a property or a relation.</summary>
    internal bool IsMember(string segment) => _members.Contains(segment);

    private static string Encode(string path) =>
        string.Join('/', path.Split('/').Select(s => PathVariable.Of(s) is null ? Uri.EscapeDataString(s) : s));
}
