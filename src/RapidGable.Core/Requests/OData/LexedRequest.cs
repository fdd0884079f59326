using System.Text;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests.OData;

/// <summary>
/// A request in tokens: the last stage that looks at each character. Requests that differ only in literals have the
/// same <see cref="Shape"/>, and share everything that later stages make.
/// </summary>
public sealed class LexedRequest : ISpelledRequest
{
    // Known and supported, then known to the standard and not yet supported.
    private static readonly string[] Supported =
    [
        "$filter",
        "$orderby",
        "$select",
        "$expand",
        "$top",
        "$skip",
        "$count",
        "$format",
        "$skiptoken",
        "$search",
        "$compute",
        "$apply",
        "$schemaversion",
        "$id",
        "$deltatoken",
    ];
    private static readonly string[] Later = ["$index"];

    private LexedRequest(
        RequestAddress address,
        List<LexedSegment> segments,
        List<(string, List<Token>)> options,
        List<Literal> literals,
        string shape,
        Dictionary<string, string> texts
    )
    {
        Address = address;
        Segments = segments;
        Options = options;
        Literals = literals;
        Shape = shape;
        Texts = texts;
    }

    /// <summary>What it was read from.</summary>
    public RequestAddress Address { get; }

    internal List<LexedSegment> Segments { get; }

    /// <summary>
    /// Canonical option name and tokens, in the order of the URL, without those that have a property here. Names of parameter aliases
    /// start with an at sign.
    /// </summary>
    internal List<(string Name, List<Token> Tokens)> Options { get; }

    /// <summary>The literals by slot.</summary>
    public IReadOnlyList<Literal> Literals { get; }

    public PagePosition? Position { get; private init; }

    public ChangePosition? Since { get; private init; }

    public string OrderText => Texts.GetValueOrDefault("$orderby", "");

    public StepBudget Steps { get; } = new();

    public Result<RequestSyntax> Parse() => RequestParser.Parse(this);

    /// <summary>Value of <c>$format</c>; null = not given.</summary>
    public string? Format { get; private init; }

    /// <summary>Value of <c>$schemaversion</c>; null = not given.</summary>
    public string? SchemaVersion { get; private init; }

    /// <summary>Value of <c>$search</c>, with its terms among the literals; null = not given.</summary>
    internal SearchSyntax? Search { get; private init; }

    public string Shape { get; }

    internal Dictionary<string, string> Texts { get; }

    /// <param name="path">As in <see cref="RequestAddress.Read"/>.</param>
    public static Result<LexedRequest> Read(string path, string query) =>
        RequestAddress.Read(path, query).Is(out var address, out var fault) ? Read(address) : fault;

    /// <summary>Splits an address into tokens; the fault says which character cannot be read.</summary>
    public static Result<LexedRequest> Read(RequestAddress address)
    {
        try
        {
            return ReadOrThrow(address);
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    private static LexedRequest ReadOrThrow(RequestAddress address)
    {
        var literals = new List<Literal>();
        var shape = new StringBuilder();
        var segments = new List<LexedSegment>(address.Segments.Length);
        foreach (var segment in address.Segments)
        {
            segments.Add(LexedSegment.Read(segment.Text, isFirst: segments.Count == 0, literals, shape));
            shape.Append('\n');
        }
        var options = new List<(string, List<Token>)>();
        var texts = new Dictionary<string, string>();
        PagePosition? position = null;
        SearchSyntax? search = null;
        ChangePosition? since = null;
        foreach (var option in address.Options)
        {
            if (!CanonicalOption(option.Name).Is(out var name, out var unknown))
                throw new FaultException(unknown);
            if (!texts.TryAdd(name, option.Value))
                throw new FaultException(
                    new RequestFault(
                        400,
                        "option-twice",
                        $"{(name[0] == '@' ? "The parameter alias" : "The option")} {name} is given twice.",
                        name
                    )
                );
            if (name is "$format" or "$schemaversion" or "$id")
                continue;
            if (name == "$skiptoken")
            {
                position = PagePosition.Read(option.Value)
                    ?? throw new FaultException(
                        new RequestFault(
                            400,
                            "skiptoken",
                            "The $skiptoken was not made by this service. Follow the next link as it is.",
                            "$skiptoken"
                        )
                    );
                shape.Append("\n$skiptoken=").AppendJoin("", position.Values.Select(v => v.Kind == StoredValueKind.Null ? '0' : '1'));
                continue;
            }
            if (name == "$deltatoken")
            {
                since = ChangePosition.Read(option.Value) ?? throw new FaultException(RequestFault.ForeignChangePosition);
                shape.Append("\n$deltatoken=").Append(since.IsDelta);
                continue;
            }
            shape.Append('\n').Append(name).Append('=');
            if (name == "$search")
                search = new SearchParser(option.Value, name, literals, shape).Read();
            else
            {
                var lexer = new Lexer(option.Value, name, literals, shape);
                options.Add((name, name[0] == '@' && option.Value.TrimStart().StartsWith('[') ? lexer.ReadArray() : lexer.Read()));
            }
        }
        return new LexedRequest(address, segments, options, literals, shape.ToString(), texts)
        {
            Position = position,
            Since = since,
            Format = texts.GetValueOrDefault("$format"),
            SchemaVersion = texts.GetValueOrDefault("$schemaversion"),
            Search = search,
        };
    }

    /// <summary>The option's name as the standard spells it: 4.01 lets callers drop the <c>$</c> and write in any case.</summary>
    /// <returns>For a parameter alias its name as it is.</returns>
    public static Result<string> CanonicalOption(string name)
    {
        if (name.StartsWith('@'))
            return SimpleIdentifier.IsValid(name[1..])
                ? name
                : new RequestFault(400, "alias", $"'{name}' is not the name of a parameter alias, such as @p.", name);
        var canonical = (name.StartsWith('$') ? name : "$" + name).ToLowerInvariant();
        if (Supported.Contains(canonical))
            return canonical;
        if (Later.Contains(canonical))
            return RequestFault.NotImplemented($"The option {canonical} is not supported.", canonical);
        return new RequestFault(
            400,
            "unknown-option",
            $"'{name}' is not a query option of this service.{NearestName.Hint(canonical, Supported)}",
            name
        );
    }
}

/// <summary>A segment of the path in tokens.</summary>
/// <param name="Text">As it stands in the address, decoded.</param>
/// <param name="Slot">The whole segment as a literal, for where it stands for a key; -1 = it cannot.</param>
/// <param name="IsText">It is no name, so it can only be a key; there are no tokens.</param>
internal sealed record LexedSegment(string Text, List<Token> Tokens, int Slot, bool IsText)
{
    public static LexedSegment Read(string text, bool isFirst, List<Literal> literals, StringBuilder shape)
    {
        var named = isFirst || text.StartsWith('$') || IsNamed(text);
        var slot = -1;
        if (!isFirst && !text.StartsWith('$') && !(named && text.Contains('(')))
        {
            slot = literals.Count;
            literals.Add(new Literal(LiteralKind.Text, text, "path", text, 0));
        }
        if (!named)
        {
            shape.Append("\u0001T");
            return new LexedSegment(text, [], slot, IsText: true);
        }
        return new LexedSegment(text, new Lexer(text, "path", literals, shape).Read(), slot, IsText: false);
    }

    private static bool IsNamed(string text)
    {
        var end = text.IndexOf('(');
        return (end < 0 ? text : text[..end]).Split('.').All(SimpleIdentifier.IsValid) && (end < 0 || text.EndsWith(')'));
    }
}
