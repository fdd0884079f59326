using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>What one request brings to the statements of its shape: literals, position, page and time.</summary>
public sealed class QueryValues
{
    private readonly Caller _caller;
    private readonly IReadOnlyList<Literal> _literals;
    private readonly PagePosition? _position;
    private readonly long[] _again = new long[2];
    private readonly DateTime _now;
    private readonly Lazy<string> _order;
    private readonly bool _isUnkeyed;
    private readonly ImmutableDictionary<string, BoundLiteral> _arguments;
    private ImmutableDictionary<string, StoredValue> _given = ImmutableDictionary<string, StoredValue>.Empty;
    private object?[]? _bridge;
    private IReadOnlyList<object[]>? _batch;

    private QueryValues(ISpelledRequest? spelled, BoundRequest request, DateTime now, Caller caller)
    {
        _caller = caller;
        _arguments = request.Path.Arguments;
        _literals = spelled?.Literals ?? [];
        _position = spelled?.Position;
        ChangePosition = spelled?.Since;
        _now = now;
        _isUnkeyed = request.Path.Root is not null && request.Target.IsUnkeyed;
        _order = new Lazy<string>(() => OrderPrint.Of(request.Target, spelled?.OrderText ?? ""), isThreadSafe: false);
    }

    /// <summary>Rows that this answer holds at most.</summary>
    public int PageRows { get; private set; }

    /// <summary>Rows to fetch: one more than <see cref="PageRows"/> when a next page is possible.</summary>
    public int FetchRows { get; private set; }

    /// <summary>The asked <c>$top</c>; null = none.</summary>
    public long? Top { get; private init; }

    public long Skip { get; private init; }

    /// <summary>The request goes on from a position that a link brought along.</summary>
    public bool IsResumed => _position is not null || ChangePosition is not null;

    /// <summary>Rows to pass over: the asked ones, or for rows without a key those of the pages before.</summary>
    public long Offset => _isUnkeyed && _position is { Values: [{ Kind: StoredValueKind.Int64, Int64: var offset }] } ? offset : Skip;

    /// <summary>The next link's position after this page, when it is not that of the last row; null = it is.</summary>
    public StoredValue? NextOffset => _isUnkeyed ? StoredValue.From(Offset + PageRows) : null;

    /// <summary>Children that this answer holds for each parent at most.</summary>
    public int ChildRows { get; private init; }

    /// <summary>What statements of the service's own take: the caller's attributes and the time.</summary>
    internal static QueryValues Outside(Caller caller, DateTime now, RequestAllowance allowance) =>
        new(null, new BoundRequest(new BoundPath([]), null), now, caller) { Allowance = allowance };

    /// <summary>
    /// Whether a source can be told who asks. A role of the database that is not known would leave it with the rights of the service
    /// itself.
    /// </summary>
    internal bool CanTell(ISource source) =>
        !source.CallerSettings.TryGetValue("role", out var attribute)
        || _caller.Attribute(attribute) is { Length: 1 } values && values[0] is not ("" or "none");

    /// <summary>
    /// A session of a source that is told who asks, as far as it is declared; several values of an attribute are joined by commas, and
    /// a missing one is empty.
    /// </summary>
    internal ValueTask<ISourceSession> OpenAsync(ISource source, SessionKind kind, CancellationToken cancellation) =>
        source.OpenSessionAsync(
            kind,
            source.CallerSettings.Count == 0
                ? []
                : [.. source.CallerSettings.Select(s => (s.Key, string.Join(',', _caller.Attribute(s.Value))))],
            Allowance,
            cancellation
        );

    /// <summary>What the request may take of memory and of sessions.</summary>
    public RequestAllowance Allowance { get; private set; } = RequestAllowance.Own;

    /// <summary>The values with what the request that they are for may take.</summary>
    public QueryValues With(RequestAllowance allowance)
    {
        Allowance = allowance;
        return this;
    }

    /// <summary>The values for the call of an action, whose rows come once and all together.</summary>
    /// <param name="given">Arguments of the body, by the placeholders of their parameters.</param>
    public QueryValues For(ImmutableDictionary<string, StoredValue>? given)
    {
        _given = given ?? _given;
        PageRows = FetchRows = int.MaxValue;
        return this;
    }

    /// <summary>Fingerprint of the order of this request, which its next link carries.</summary>
    public string Order => _order.Value;

    /// <param name="maxPageSize">Rows of a page that are asked for; null = not asked.</param>
    /// <param name="limitsRelated">Whether that is about the rows of relations, too.</param>
    /// <param name="caller">Whose attributes the conditions of rules are about; null = anonymous.</param>
    public static Result<QueryValues> Make(
        BoundRequest request,
        ISpelledRequest spelled,
        int? maxPageSize,
        DateTime now,
        Caller? caller = null,
        bool limitsRelated = true
    )
    {
        if (Negative(request, spelled) is { } negative)
            return negative;
        var top = request.Top is { } topSlot ? (long?)spelled.Literals[topSlot].Value : null;
        var skip = request.Skip is { } skipSlot ? (long)spelled.Literals[skipSlot].Value : 0;
        if (request.Path.Root is null)
            return new QueryValues(spelled, request, now, caller ?? Caller.Anonymous);
        var set = request.Target;
        // Who asks for a number of rows gets them in one answer; clients that do so mostly know of no next links.
        var page = Page(set, maxPageSize ?? (top is { } wanted ? (int)Math.Clamp(wanted, 1, int.MaxValue) : null));
        var rows = (int)Math.Min(page, top ?? page);
        var values = new QueryValues(spelled, request, now, caller ?? Caller.Anonymous)
        {
            Top = top,
            Skip = skip,
            PageRows = rows,
            FetchRows = top is { } asked && asked <= page ? rows : rows + 1,
            ChildRows = request
                .AllExpands.Where(e => e.Navigation.IsCollection || e.Navigation.IsRemote)
                .Select(e => Page(e.Target, limitsRelated ? maxPageSize : null))
                .DefaultIfEmpty(0)
                .Min(),
        };
        return values.TooCostly(request) is { } costly ? costly
            : spelled.Since is { } since && IsForeign(since, set) ? RequestFault.GoneChangePosition
            : values.Displaced(spelled, set) is { } displaced ? displaced
            : values;
    }

    private static RequestFault? Negative(BoundRequest request, ISpelledRequest spelled)
    {
        var slots = request.AllExpands.SelectMany(e => new[] { e.Top, e.Skip }).Prepend(request.Skip).Prepend(request.Top);
        foreach (var slot in slots.OfType<int>())
        {
            if (spelled.Literals[slot] is { Value: long and < 0 } literal)
                return new RequestFault(
                    400,
                    "number",
                    $"{literal.Target} needs a whole number of at least 0, not {literal.Value}.",
                    literal.Target,
                    literal.Text,
                    literal.Position
                );
        }
        return null;
    }

    /// <summary>
    /// An answer that could hold more rows than the smallest limit among all its sets; a combination of several sets is a row of each.
    /// </summary>
    private RequestFault? TooCostly(BoundRequest request)
    {
        var most = request
            .AllExpands.Where(e => e.Kind == ExpandKind.Entities)
            .Select(e => e.Target.LargestCost)
            .Append(request.Target.LargestCost)
            .Min();
        if (most is null)
            return null;
        var own = request.Path is { IsCrossJoin: true, Root: { } joined } ? joined.Type.Navigations.Length : 1;
        var cost = PageRows * (own + ExpandedPerRow(request.Expand));
        return cost <= most
            ? null
            : new RequestFault(
                400,
                "too-costly",
                $"The answer could hold up to {cost:0} rows, and {most} is the most for you. Ask for less with $top or "
                    + $"maxpagesize, or expand less.",
                "$top"
            );
    }

    /// <summary>Whether changes were followed from another state of what is published.</summary>
    private static bool IsForeign(ChangePosition since, EntitySet set) =>
        since.Set != Fingerprint(set, set.Changes!) || since.Since.Length != (set.Changes!.Log is null ? 1 : 2);

    /// <summary>A position that is none of this order; null = it is, or there is none.</summary>
    private RequestFault? Displaced(ISpelledRequest spelled, EntitySet set)
    {
        if (spelled.Position is not { } position)
            return null;
        // A position among rows without a key is their number.
        if (set.IsUnkeyed && position.Values is not [{ Kind: StoredValueKind.Int64, Int64: >= 0 }])
            return RequestFault.ForeignPosition;
        // Without an asked order the set's own may have changed since the link was made, by whatever version of the program.
        return position.Order == Order
            ? null
            : RequestFault.OfPosition(spelled.OrderText.Length == 0 || OrderPrint.IsFor(position.Order, set, spelled.OrderText));
    }

    /// <summary>The rows that come with each row at most.</summary>
    private double ExpandedPerRow(ImmutableArray<BoundExpand> expands) =>
        expands
            .Where(e => e.Kind == ExpandKind.Entities)
            .Sum(e =>
            {
                var each =
                    !e.Navigation.IsCollection ? 1.0
                    : e.Top is { } slot ? Math.Min(ChildRows, (long)_literals[slot].Value)
                    : ChildRows;
                var (all, level) = (0.0, 1.0);
                for (var i = 0; i < e.Levels; i++)
                    all += level *= each;
                return all * (1 + ExpandedPerRow(e.Expand));
            });

    private static int Page(EntitySet set, int? maxPageSize) => Math.Min(maxPageSize ?? set.PageSize, set.LargestPage);

    /// <summary>Takes what the entity before the step into another source is related by, as published values.</summary>
    internal void CrossBridge(object?[] values) => _bridge = values;

    /// <summary>A literal of the request.</summary>
    public Literal LiteralOf(BoundLiteral literal) => _literals[literal.Slot];

    /// <summary>
    /// Related entities of one parent that this answer holds at most, when a next link leads on from there; a nested <c>$top</c> within
    /// a page has none.
    /// </summary>
    public int ChildRowsOf(BoundExpand expand) =>
        expand.Top is { } slot && (long)_literals[slot].Value <= ChildRows ? int.MaxValue : ChildRows;

    /// <summary>The state of a caller who follows changes; null = nobody does.</summary>
    public ChangePosition? ChangePosition { get; }

    /// <summary>
    /// Takes whether rows with the stamp of a mark are told again: 0 = no, 1 = yes, 2 = there was no row then, so all are told.
    /// </summary>
    internal void TellAgain(int mark, long again) => _again[mark] = again;

    /// <summary>A fingerprint of the set and of how its changes are found.</summary>
    public static string Fingerprint(EntitySet set, ChangeTracking changes) =>
        OrderPrint.Of(set, $"{changes.Stamp.Column} {changes.Stamp.Type.Kind} {changes.Log?.Source} {changes.Log?.Stamp.Column}");

    /// <summary>Takes the items of the next batch; at least one.</summary>
    internal void TakeBatch(IReadOnlyList<object[]> items) => _batch = items;

    /// <summary>A published value from one source as a parameter of another.</summary>
    internal static StoredValue Stored(object? value, Property target, SqlDialect dialect)
    {
        if (value is not null && target.Conversion is { Use: not ConvertedUse.Anything } conversion)
            value = conversion.Encode(value);
        return value is null
            ? StoredValue.Null
            : dialect.Encode(
                value is decimal number && target.StoredType.IsIntegral ? (long)number : value,
                target.StoredType,
                target.StorageForm
            );
    }

    /// <summary>A literal of the request as a published value.</summary>
    internal Result<object> Published(BoundLiteral literal, Property property) =>
        LiteralValues.Published(_literals[literal.Slot], property.Type);

    /// <summary>The values of a statement's parameters, in their order.</summary>
    public Result<StoredValue[]> Bind(SqlStatement statement, SqlDialect dialect)
    {
        var values = new StoredValue[statement.Parameters.Length];
        var characters = 0L;
        for (var i = 0; i < values.Length; i++)
        {
            var parameter = statement.Parameters[i];
            if (Bind(parameter, dialect, out values[i]) is { } fault)
                return fault;
            if (parameter is LiteralParameter literal && _literals[literal.Slot].Value is string text)
                characters += text.Length;
        }
        // A long text that stands at many places would be as many long texts for the database.
        return characters <= Limits.ExpressionCharacters
            ? values
            : new RequestFault(
                400,
                "too-large",
                $"The texts in the expressions of the request have more than {Limits.ExpressionCharacters} characters, counted at each "
                    + "place where they stand."
            );
    }

    /// <summary>The value of one parameter, or what is wrong with it.</summary>
    private RequestFault? Bind(PlanParameter parameter, SqlDialect dialect, out StoredValue value)
    {
        value = StoredValue.Null;
        switch (parameter)
        {
            case LiteralParameter literal:
                return LiteralValues.Bind(_literals[literal.Slot], literal, dialect, out value);
            case ArgumentParameter argument:
                return BindArgument(argument.Parameter, dialect, out value);
            case RuleParameter rule:
                // The fault must not tell what the rule is about.
                return LiteralValues.Bind(rule.Rule.LiteralOf(rule.Literal.Slot, _caller), rule.Literal, dialect, out value) is null
                    ? null
                    : new RequestFault(403, "rule", "What is known of you does not fit a rule of this set, so it is closed to you.");
            case PatternParameter pattern:
                return LiteralValues.BindPattern(_literals[pattern.Slot], dialect, out value);
            case SeekParameter seek:
                value = _position!.Values[seek.Index];
                return dialect.IsStored(value, seek.Type) ? null : RequestFault.ForeignPosition;
            case MarkParameter mark:
                value = ChangePosition!.Since[mark.Mark].Stamp;
                return dialect.IsStored(value, mark.Type) ? null : RequestFault.ForeignChangePosition;
            case NumberParameter number:
                value = StoredValue.From((long)_literals[number.Slot].Value);
                return value.Int64 < 0 ? LiteralValues.Negative(_literals[number.Slot]) : null;
            default:
                value = Own(parameter, dialect);
                return null;
        }
    }

    /// <summary>What a query is called with: the caller's value, what is known of the caller, or the default.</summary>
    private RequestFault? BindArgument(OperationParameter parameter, SqlDialect dialect, out StoredValue value)
    {
        value = StoredValue.Null;
        var form = new LiteralParameter(-1, parameter.Type, parameter.StorageForm, parameter.Conversion);
        if (parameter.TakenFrom is { } taken)
        {
            if (KnownOfCaller(taken) is { } known)
                return IsOf(known, parameter) && LiteralValues.Bind(Text(known, parameter), form, dialect, out value) is null
                    ? null
                    : new RequestFault(403, "forbidden", "What is known of you does not fit this query, so it is closed to you.");
            if (parameter is { DefaultValue: null, Nullable: false })
                return new RequestFault(403, "forbidden", "The query needs to know of you what your sign-in does not tell.");
        }
        else if (_given.TryGetValue(parameter.Placeholder, out value))
            return null;
        else if (_arguments.TryGetValue(parameter.Placeholder, out var given))
        {
            var literal = _literals[given.Slot];
            if (!LiteralValues.Published(literal, parameter.Type).Is(out var published, out var fault))
                return fault with { Code = "argument", Message = $"'{parameter.Name}': {fault.Message}" };
            return WrongArgument(parameter, published) is { } wrong
                ? new RequestFault(400, "argument", $"'{parameter.Name}' {wrong}.", literal.Target, literal.Text, literal.Position)
                : LiteralValues.Bind(literal, form, dialect, out value);
        }
        return parameter.DefaultValue is { } usual ? LiteralValues.Bind(Text(usual, parameter), form, dialect, out value) : null;
    }

    private static bool IsOf(string text, OperationParameter parameter) =>
        LiteralValues.Published(Text(text, parameter), parameter.Type).Is(out var published, out _)
        && WrongArgument(parameter, published) is null;

    /// <summary>What is wrong with a value that is one of the parameter's type by its form; null = nothing.</summary>
    private static string? WrongArgument(OperationParameter parameter, object published)
    {
        var (least, most) = parameter.Type.Bounds;
        return parameter.Type.IsIntegral && published is long number && (number < least || number > most)
            ? $"must be a whole number from {least} to {most}"
            : parameter.Rules.Fault(published);
    }

    private static Literal Text(string text, OperationParameter parameter) => new(LiteralKind.Text, text, parameter.Name, text, 0);

    /// <summary>Several values are joined by commas, as settings of a session are; null = nothing is known.</summary>
    private string? KnownOfCaller(string what)
    {
        IReadOnlyList<string> values = what == "roles" ? [.. _caller.Roles.Order(StringComparer.Ordinal)] : _caller.Attribute(what);
        return values.Count == 0 ? null : string.Join(',', values);
    }

    /// <summary>The value of a parameter that the request itself says nothing wrong of.</summary>
    private StoredValue Own(PlanParameter parameter, SqlDialect dialect) =>
        parameter switch
        {
            TruthParameter truth => dialect.Encode(truth.Conversion.Encode(true)!, truth.Conversion.Parameter, null),
            ValueParameter known => known.Value,
            BridgeParameter bridge => Stored(_bridge?[bridge.Index], bridge.Target, dialect),
            BatchParameter item => Stored(item.Item < _batch?.Count ? _batch[item.Item][item.Part] : null, item.Target, dialect),
            ConstantParameter constant => dialect.Encode(constant.Value, constant.Type, constant.StorageForm),
            NowParameter now => dialect.Encode(_now, EdmType.DateTimeOffset, now.StorageForm),
            LimitParameter => StoredValue.From((long)FetchRows),
            SkipParameter => StoredValue.From(Offset),
            MarkAgainParameter again => StoredValue.From(_again[again.Mark]),
            ChildSkipParameter skip => StoredValue.From((long)_literals[skip.Slot].Value),
            ChildLimitParameter limit => StoredValue.From(
                limit.Top is { } slot && (long)_literals[slot].Value <= ChildRows ? (long)_literals[slot].Value : ChildRows + 1L
            ),
            _ => throw new ArgumentOutOfRangeException(nameof(parameter), parameter.GetType().Name),
        };
}
