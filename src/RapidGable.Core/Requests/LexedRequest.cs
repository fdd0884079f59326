using System.Text;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>
/// A request in tokens: the last stage that looks at each character. Requests that differ only in literals have the
/// same <see cref="Shape"/>, and share everything that later stages make.
/// </summary>
public sealed class LexedRequest
{
    // Known and supported, then known to the standard and not yet supported.
    private static readonly string[] Supported = ["$filter", "$orderby", "$select", "$expand", "$top", "$skip", "$count", "$format", "$skiptoken"];
    private static readonly string[] Later = ["$search", "$apply", "$compute", "$levels", "$index", "$schemaversion", "$deltatoken", "$id"];

    private LexedRequest(List<List<Token>> segments, List<(string, List<Token>)> options, List<Literal> literals, SkipToken? skipToken,
        string? format, string shape, Dictionary<string, string> texts)
    {
        Segments = segments;
        Options = options;
        Literals = literals;
        SkipToken = skipToken;
        Format = format;
        Shape = shape;
        Texts = texts;
    }

    internal List<List<Token>> Segments { get; }

    /// <summary>Canonical option name and tokens, in the order of the URL, without <c>$format</c> and <c>$skiptoken</c>.</summary>
    internal List<(string Name, List<Token> Tokens)> Options { get; }

    /// <summary>The literals by slot.</summary>
    public IReadOnlyList<Literal> Literals { get; }

    public SkipToken? SkipToken { get; }

    /// <summary>Value of <c>$format</c>; null = not given.</summary>
    public string? Format { get; }

    public string Shape { get; }

    internal Dictionary<string, string> Texts { get; }

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
        var segments = new List<List<Token>>(address.Segments.Length);
        foreach (var segment in address.Segments)
        {
            segments.Add(new Lexer(segment.Text, "path", literals, shape).Read());
            shape.Append('\n');
        }
        var options = new List<(string, List<Token>)>();
        var texts = new Dictionary<string, string>();
        SkipToken? skipToken = null;
        string? format = null;
        foreach (var option in address.Options)
        {
            var name = Canonical(option.Name);
            if (!texts.TryAdd(name, option.Value))
                throw new FaultException(new RequestFault(400, "option-twice", $"The option {name} is given twice.", name));
            if (name == "$format")
                format = option.Value;
            else if (name == "$skiptoken")
            {
                skipToken = SkipToken.Read(option.Value) ?? throw new FaultException(new RequestFault(400, "skiptoken",
                    "The $skiptoken was not made by this service. Follow the next link as it is.", "$skiptoken"));
                shape.Append("\n$skiptoken=").AppendJoin("", skipToken.Values.Select(v => v.Kind == StoredValueKind.Null ? '0' : '1'));
            }
            else
            {
                shape.Append('\n').Append(name).Append('=');
                // Whether a count is wanted decides which statements run, so it belongs to the shape.
                if (name == "$count")
                    shape.Append(option.Value.Trim());
                options.Add((name, new Lexer(option.Value, name, literals, shape).Read()));
            }
        }
        return new LexedRequest(segments, options, literals, skipToken, format, shape.ToString(), texts);
    }

    /// <summary>The option's name as the standard spells it: 4.01 lets callers drop the <c>$</c> and write in any case.</summary>
    private static string Canonical(string name)
    {
        if (name.StartsWith('@'))
            throw new FaultException(RequestFault.NotImplemented("Parameter aliases are not supported.", name));
        var canonical = (name.StartsWith('$') ? name : "$" + name).ToLowerInvariant();
        if (Supported.Contains(canonical))
            return canonical;
        if (Later.Contains(canonical))
            throw new FaultException(RequestFault.NotImplemented($"The option {canonical} is not supported.", canonical));
        throw new FaultException(new RequestFault(400, "unknown-option",
            $"'{name}' is not a query option of this service.{NearestName.Hint(canonical, Supported)}", name));
    }
}
