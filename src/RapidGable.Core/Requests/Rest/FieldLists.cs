using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests.Rest;

/// <summary>
/// The parameters <c>fields</c> and <c>include</c> -> what is selected and expanded. A field behind the path of an included relation
/// is one of that relation: <c>include=Station&amp;fields=id,Station/name</c>.
/// </summary>
internal sealed class FieldLists
{
    private readonly Node _root = new();

    /// <param name="fields">Null = not given.</param>
    /// <param name="include">Null = not given.</param>
    /// <exception cref="FaultException">One of them is no list of paths.</exception>
    public FieldLists(string? fields, string? include)
    {
        var count = 0;
        foreach (var path in include is null ? [] : Split(RestParameters.Include, include))
        {
            var node = _root;
            var names = Path(RestParameters.Include, path).Names;
            if (names.Length > Limits.ExpandDepth)
                throw TooMany($"'include' nests more than {Limits.ExpandDepth} levels deep.");
            foreach (var name in names)
            {
                if (node.Children.All(c => c.Name.Text != name.Text) && ++count > Limits.ExpandItems)
                    throw TooMany($"'include' has more than {Limits.ExpandItems} relations.");
                node = node.Child(name);
            }
        }
        foreach (var path in fields is null ? [] : Split(RestParameters.Fields, fields))
        {
            var node = _root;
            var names = Path(RestParameters.Fields, path).Names.AsEnumerable();
            while (names.Count() > 1 && node.Children.FirstOrDefault(c => c.Name.Text == names.First().Text) is { Node: { } below })
                (node, names) = (below, names.Skip(1));
            node.Fields.Add([.. names]);
        }
    }

    /// <summary>Null = everything.</summary>
    public SelectSyntax? Select => _root.Select;

    public ImmutableArray<ExpandItemSyntax> Expand => _root.Expand;

    /// <summary>The items of a list with commas between them.</summary>
    public static string[] Split(string parameter, string text) =>
        text.Split(',') is var items && Array.TrueForAll(items, i => i.Length > 0)
            ? items
            : throw new FaultException(
                new RequestFault(400, "parameter", $"'{parameter}' is a list with commas, such as {parameter}=id,name.", parameter, text, 0)
            );

    /// <summary>Names joined by slashes.</summary>
    public static PathSyntax Path(string parameter, string text) =>
        text.Split('/') is var names && Array.TrueForAll(names, SimpleIdentifier.IsValid)
            ? new PathSyntax([.. names.Select(n => new NameSyntax(n, 0))])
            : throw new FaultException(
                new RequestFault(400, "parameter", $"'{text}' in '{parameter}' is no name, nor names with slashes.", parameter, text, 0)
            );

    private static FaultException TooMany(string message) => new(new RequestFault(400, "too-large", message, RestParameters.Include));

    /// <summary>What is wanted of an entity.</summary>
    private sealed class Node
    {
        public List<(NameSyntax Name, Node Node)> Children { get; } = [];

        public List<ImmutableArray<NameSyntax>> Fields { get; } = [];

        public SelectSyntax? Select =>
            Fields.Count == 0 ? null : new SelectSyntax(false, [.. Fields.Select(f => new SelectItemSyntax(f, null))]);

        public ImmutableArray<ExpandItemSyntax> Expand =>
            [.. Children.Select(c => new ExpandItemSyntax(c.Name, c.Node.Select) { Expand = c.Node.Expand })];

        public Node Child(NameSyntax name)
        {
            if (Children.Find(c => c.Name.Text == name.Text) is { Node: { } known })
                return known;
            Children.Add((name, new Node()));
            return Children[^1].Node;
        }
    }
}
