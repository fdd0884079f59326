using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests.Rest;

/// <summary>A request in the spelling of the plain REST face, read up to its literals.</summary>
public sealed class RestRequest : ISpelledRequest
{
    private RestRequest(RequestAddress address, RestReader read)
    {
        Address = address;
        Shape = read.Shape;
        Literals = read.Literals;
        Read = read;
    }

    /// <summary>What it was read from.</summary>
    public RequestAddress Address { get; }

    public string Shape { get; }

    public IReadOnlyList<Literal> Literals { get; }

    public StepBudget Steps => Read.Steps;

    public PagePosition? Position => Read.Position;

    /// <summary>This face has no links to later changes.</summary>
    public ChangePosition? Since => null;

    public string OrderText => Read.Texts.GetValueOrDefault(RestParameters.Sort, "");

    /// <summary>Rows of a page; null = not asked.</summary>
    public int? PageSize => Read.PageSize;

    /// <summary>The asked format as it was written; null = not asked.</summary>
    public string? Format => Read.Texts.GetValueOrDefault(RestParameters.Format);

    /// <summary>The properties that are held against values, as they were written.</summary>
    public IReadOnlyList<string> Matched => [.. Read.Matches.Select(m => m.Parameter)];

    private RestReader Read { get; }

    /// <summary>Reads an address; the fault says what of it cannot be understood.</summary>
    /// <param name="paths">The paths of the sets.</param>
    public static Result<RestRequest> Of(RequestAddress address, RestPaths paths)
    {
        try
        {
            return new RestRequest(address, new RestReader(address, paths));
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    /// <param name="path">Below the service root, still encoded.</param>
    /// <param name="query">What follows the question mark, still encoded.</param>
    public static Result<RestRequest> Of(string path, string query, RestPaths paths) =>
        RequestAddress.Read(path, query).Is(out var address, out var fault) ? Of(address, paths) : fault;

    public Result<RequestSyntax> Parse()
    {
        try
        {
            return Read.Parse();
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }
}

/// <summary>The characters of an address -> segments, terms and literals.</summary>
internal sealed class RestReader
{
    private readonly RestPaths _paths;
    private readonly List<Literal> _literals = [];
    private readonly List<KeyPartSyntax> _arguments = [];
    private readonly StringBuilder _shape = new("rest\n");
    private List<Token>? _filter;
    private SearchSyntax? _search;
    private int? _top;
    private int? _skip;
    private bool _hasTotal;

    public RestReader(RequestAddress address, RestPaths paths)
    {
        _paths = paths;
        Segments = ReadPath(address);
        foreach (var option in address.Options)
            ReadOption(option);
        if (_arguments.Count > 0)
            Segments = Segments.SetItem(0, Segments[0] with { Key = [.. _arguments] });
        if (Texts.ContainsKey(RestParameters.Rows))
            RefuseBesidesWindow();
        Shape = _shape.ToString();
    }

    public string Shape { get; }

    public StepBudget Steps { get; } = new();

    public IReadOnlyList<Literal> Literals => _literals;

    public ImmutableArray<SegmentSyntax> Segments { get; }

    public List<MatchSyntax> Matches { get; } = [];

    /// <summary>The values of parameters that are no properties.</summary>
    public Dictionary<string, string> Texts { get; } = [];

    public PagePosition? Position { get; private set; }

    public int? PageSize { get; private set; }

    /// <summary>The syntax tree.</summary>
    /// <exception cref="FaultException">A parameter is none of its grammar.</exception>
    public RequestSyntax Parse()
    {
        var lists = new FieldLists(Texts.GetValueOrDefault(RestParameters.Fields), Texts.GetValueOrDefault(RestParameters.Include));
        return new RequestSyntax(Segments)
        {
            Casing = _paths.Casing,
            Steps = Steps,
            Filter = Condition(),
            Search = _search,
            OrderBy = Order(),
            Select = lists.Select,
            Expand = lists.Expand,
            Top = _top,
            Skip = _skip,
            Count = _hasTotal,
            PositionNulls = Position is { } token ? [.. token.Values.Select(v => v.Kind == StoredValueKind.Null)] : null,
            PositionOrder = Position is { } made ? (made.Order, Texts.GetValueOrDefault(RestParameters.Sort, "")) : null,
            Options =
            [
                .. Texts
                    .Keys.Select(RestParameters.OptionOf)
                    .Concat(Matches.Select(_ => RestParameters.OptionOf(RestParameters.Filter)))
                    .Concat(_top is null && PageSize is null ? [] : ["$top"])
                    .Distinct(),
            ],
            Texts = Texts.ToImmutableDictionary(t => RestParameters.OptionOf(t.Key), t => t.Value),
        };
    }

    private ExpressionSyntax? Condition()
    {
        IEnumerable<ExpressionSyntax> conditions = Matches;
        if (_filter is { } tokens)
        {
            var reader = new TokenReader(tokens, RestParameters.Filter, Texts[RestParameters.Filter]);
            var written = new ExpressionParser(reader, new NoNames(), Steps).Parse();
            reader.ExpectEnd();
            conditions = conditions.Prepend(written);
        }
        return conditions.Aggregate((ExpressionSyntax?)null, (all, next) =>
            all is null ? next : new BinarySyntax(BinaryOperator.And, all, next, 0)
        );
    }

    private ImmutableArray<OrderTermSyntax> Order()
    {
        if (!Texts.TryGetValue(RestParameters.Sort, out var text))
            return [];
        var terms = ImmutableArray.CreateBuilder<OrderTermSyntax>();
        foreach (var term in FieldLists.Split(RestParameters.Sort, text))
        {
            var isDescending = term.StartsWith('-');
            terms.Add(new OrderTermSyntax(FieldLists.Path(RestParameters.Sort, isDescending ? term[1..] : term), isDescending));
        }
        return terms.Count <= Limits.OrderTerms
            ? terms.ToImmutable()
            : throw new FaultException(
                new RequestFault(400, "too-large", $"'sort' has more than {Limits.OrderTerms} terms.", RestParameters.Sort)
            );
    }

    private ImmutableArray<SegmentSyntax> ReadPath(RequestAddress address)
    {
        var segments = ImmutableArray.CreateBuilder<SegmentSyntax>();
        var (set, count) = _paths.Find(address.Segments);
        if (count > 0)
        {
            var written = string.Join('/', address.Segments.Take(count).Select(s => s.Text));
            segments.Add(new SegmentSyntax(set, null) { IsPlain = true, Written = written });
            _shape.Append(set);
            foreach (var (name, number) in _paths.VariablesOf(set))
                AddArgument(name, address.Segments[number].Text, "path");
        }
        foreach (var segment in address.Segments.Skip(count))
        {
            _shape.Append('\n');
            segments.Add(_paths.HasNamedKeys && segment.Raw.Contains('=') ? NamedKey(segment) : Segment(segment));
        }
        return segments.ToImmutable();
    }

    /// <summary>A name or a value of a key; which of them depends on what stands before it.</summary>
    private SegmentSyntax Segment(AddressSegment segment)
    {
        // Of names there are few; a value of a key must not make a shape of its own.
        _shape.Append(_paths.IsMember(segment.Text) ? segment.Text : "\u0001T");
        return new SegmentSyntax(segment.Text, null, Add(LiteralKind.Text, segment.Text, "path")) { IsPlain = true };
    }

    /// <summary><c>station_id=1,sensor_no=2</c>; signs that belong to a value are percent-encoded.</summary>
    private SegmentSyntax NamedKey(AddressSegment segment)
    {
        var parts = ImmutableArray.CreateBuilder<KeyPartSyntax>();
        foreach (var part in segment.Raw.Split(','))
        {
            var equals = part.IndexOf('=');
            var name = equals < 0 ? "" : RequestAddress.DecodePart(part[..equals]);
            if (!SimpleIdentifier.IsValid(name))
                throw new FaultException(
                    new RequestFault(400, "key", $"'{segment.Text}' is no key: each of its parts is written name=value.", "path")
                );
            var value = RequestAddress.DecodePart(part[(equals + 1)..]);
            _shape.Append('(').Append(name).Append(')');
            parts.Add(
                new KeyPartSyntax(new NameSyntax(name, 0), new LiteralSyntax(Add(LiteralKind.Text, value, "path"), LiteralKind.Text, 0))
            );
        }
        return new SegmentSyntax(segment.Text, parts.ToImmutable()) { IsPlain = true };
    }

    /// <summary>A value that a query is called with, as it is.</summary>
    private void AddArgument(string name, string value, string target)
    {
        if (_arguments.Exists(a => a.Name!.Text == name))
            throw new FaultException(new RequestFault(400, "parameter-twice", $"'{name}' is given twice.", name));
        _shape.Append('\n').Append(name).Append(":");
        var literal = new LiteralSyntax(Add(LiteralKind.Text, value, target), LiteralKind.Text, 0);
        _arguments.Add(new KeyPartSyntax(new NameSyntax(name, 0), literal));
    }

    private void ReadOption(AddressOption option)
    {
        var set = Segments.IsEmpty ? "" : Segments[0].Name;
        if (_paths.Takes(set, option.Name))
        {
            AddArgument(option.Name, option.Value, option.Name);
            return;
        }
        if (_paths.OnlyParametersOf(set) is { } only && !RestParameters.All.Contains(option.Name))
        {
            var hint = NearestName.Hint(option.Name, only.Concat(RestParameters.OfAnswers));
            throw new FaultException(
                new RequestFault(400, "unknown-parameter", $"'{option.Name}' is no parameter of {set}.{hint}", option.Name)
            );
        }
        if (!RestParameters.All.Contains(option.Name))
        {
            ReadMatch(option);
            return;
        }
        if (!Texts.TryAdd(option.Name, option.Value))
            throw Twice(option.Name);
        if (option.Value.Length == 0)
            throw Wrong(option, $"'{option.Name}' has no value.");
        _shape.Append('\n').Append(option.Name).Append('=');
        switch (option.Name)
        {
            case RestParameters.Filter:
                _filter = new Lexer(option.Value, option.Name, _literals, _shape).Read();
                break;
            case RestParameters.Search:
                _search = new SearchParser(option.Value, option.Name, _literals, _shape).Read();
                break;
            case RestParameters.Sort or RestParameters.Fields or RestParameters.Include:
                // The shape is looked up before the text is parsed, so that nothing in it may look like another parameter.
                if (option.Value.Any(char.IsControl))
                    throw Wrong(option, $"'{option.Name}' holds a control character.");
                _shape.Append(option.Value);
                break;
            case RestParameters.Limit:
                PageSize = Number(option, option.Value);
                break;
            case RestParameters.Rows:
                ReadWindow(option);
                break;
            case RestParameters.After:
                ReadPosition(option);
                break;
            case RestParameters.Total:
                _hasTotal = option.Value switch
                {
                    "true" => true,
                    "false" => false,
                    _ => throw Wrong(option, $"'total' is true or false, not '{option.Value}'."),
                };
                _shape.Append(_hasTotal);
                break;
        }
    }

    /// <summary>The rows from a number to another: <c>41..60</c>, or from a number on.</summary>
    private void ReadWindow(AddressOption option)
    {
        if (option.Value.Split("..") is not [var first, var last] || first.Length == 0)
            throw Wrong(option, $"'rows' is a window such as 41..60, not '{option.Value}'.");
        var from = Number(option, first);
        if (from > 1)
            _skip = Add(LiteralKind.Integer, from - 1L, option.Name);
        if (last.Length == 0)
        {
            _shape.Append(_skip is null ? "" : "s");
            return;
        }
        var to = Number(option, last);
        if (to < from)
            throw Wrong(option, $"The window '{option.Value}' ends before it begins.");
        _top = Add(LiteralKind.Integer, to - from + 1L, option.Name);
        _shape.Append(_skip is null ? "t" : "st");
    }

    /// <summary>A page size cannot stand beside a window, and a position only beside one that starts there, as links have it.</summary>
    private void RefuseBesidesWindow()
    {
        if (Texts.ContainsKey(RestParameters.Limit))
            throw Excluding(RestParameters.Limit, "A window says itself how many rows it has.");
        if (Position is not null && _skip is not null)
            throw Excluding(RestParameters.After, "Follow the next link as it is.");
    }

    private static FaultException Excluding(string parameter, string advice) =>
        new(new RequestFault(400, "parameter", $"'rows' and '{parameter}' exclude each other. {advice}", RestParameters.Rows));

    private void ReadPosition(AddressOption option)
    {
        Position = PagePosition.Read(option.Value)
            ?? throw new FaultException(
                new RequestFault(400, "after", "The position was not made by this service. Follow the next link as it is.", option.Name)
            );
        _shape.AppendJoin("", Position.Values.Select(v => v.Kind == StoredValueKind.Null ? '0' : '1'));
    }

    private void ReadMatch(AddressOption option)
    {
        var isPrefixed = option.Name.StartsWith(RestParameters.PropertyPrefix, StringComparison.Ordinal);
        var names = (isPrefixed ? option.Name[RestParameters.PropertyPrefix.Length..] : option.Name).Split('/');
        if (!names.All(SimpleIdentifier.IsValid))
            throw new FaultException(
                new RequestFault(
                    400,
                    "unknown-parameter",
                    $"'{option.Name}' is no parameter and no property.{NearestName.Hint(option.Name.TrimStart('$'), RestParameters.All)}",
                    option.Name
                )
            );
        if (Matches.Exists(m => m.Parameter == option.Name))
            throw Twice(option.Name);
        _shape.Append('\n').Append(option.Name).Append("~");
        var (terms, isNegated) = new MatchReader(option.Name, option.Value, _literals, _shape).Read();
        var path = new PathSyntax([.. names.Select(n => new NameSyntax(n, 0))]);
        Matches.Add(new MatchSyntax(path, terms, isNegated, option.Name, option.Value, RestParameters.All));
    }

    private static int Number(AddressOption option, string text) =>
        int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number > 0
            ? number
            : throw Wrong(option, $"'{option.Name}' needs a whole number of at least 1, and '{text}' is none.");

    private int Add(LiteralKind kind, object value, string target)
    {
        _literals.Add(new Literal(kind, value, target, value.ToString()!, 0));
        return _literals.Count - 1;
    }

    private static FaultException Twice(string name) =>
        new(
            new RequestFault(
                400,
                "parameter-twice",
                $"'{name}' is given twice. Several values of a property are written with commas: {name}=a,b.",
                name
            )
        );

    private static FaultException Wrong(AddressOption option, string message) =>
        new(new RequestFault(400, "parameter", message, option.Name, option.Value, 0));

    /// <summary>This face has no names for parts of an expression.</summary>
    private sealed class NoNames : NamedValues
    {
        public override TokenReader? List(NameSyntax name, TokenReader reader) => throw None(name, reader);

        public override ExpressionSyntax Value(NameSyntax name) =>
            throw new FaultException(
                new RequestFault(400, "syntax", $"'{name.Text}' has no meaning here; write the value itself.", RestParameters.Filter)
            );

        private static FaultException None(NameSyntax name, TokenReader reader) =>
            reader.Fault("syntax", $"'{name.Text}' has no meaning here; write the values themselves.", name.Position);
    }
}
