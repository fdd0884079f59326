using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>Resolves the names of an expression against one set and checks its types.</summary>
/// <param name="isFilter">A condition, else a sort term: properties that the declaration keeps out of it are refused, also inside of
/// calls.</param>
internal sealed partial class ExpressionBinder(EntityModel model, EntitySet set, string target, string text, bool isFilter)
{
    private readonly LambdaScope _top = new("", "", set, []);
    private readonly Stack<LambdaScope> _scopes = new();
    private LambdaScope? _counted;
    private Dictionary<string, BoundComputed> _countedComputed = [];
    private int _lambdas;

    public ExpressionBinder(EntityModel model, EntitySet set, string target, string text)
        : this(model, set, target, text, target == "$filter") { }

    /// <summary>Properties that the request computes, by name.</summary>
    public IReadOnlyDictionary<string, BoundComputed> Computed { get; init; } = new Dictionary<string, BoundComputed>();

    /// <summary>The work that the request may still take.</summary>
    public StepBudget Steps { get; init; } = new();

    /// <summary>The expression is about entities below those that the path addresses, so <c>$it</c> is not the entity itself.</summary>
    public bool IsNested { get; init; }

    /// <summary>For a nested expression: the set that <c>$it</c> is of; null = nothing can be said of it.</summary>
    public EntitySet? Root { get; init; }

    /// <summary>The entity whose properties are named without a prefix.</summary>
    private LambdaScope CurrentScope => _counted ?? _top;

    public BoundExpression BindCondition(ExpressionSyntax syntax)
    {
        var bound = BindTruth(syntax);
        return IsBoolean(bound)
            ? AsCondition(bound)
            : throw Type($"{target} must be true or false, and this is {Describe(bound)}.", syntax.Position);
    }

    public BoundExpression BindOrder(ExpressionSyntax syntax) =>
        Bind(syntax) switch
        {
            BoundRelated => throw Type("A related entity cannot be sorted by; name one of its properties.", syntax.Position),
            BoundNull => throw Type("Null cannot be sorted by.", syntax.Position),
            { Type.Kind: EdmKind.Binary } => throw Type("Binary values cannot be sorted by.", syntax.Position),
            BoundProperty { Property: { Conversion.Use: ConvertedUse.Read or ConvertedUse.Equality } property } => throw Converted(
                property,
                "sorted by",
                syntax.Position
            ),
            var bound => bound,
        };

    /// <summary>The value of a property that the request computes.</summary>
    public BoundExpression BindComputed(ExpressionSyntax syntax) =>
        Bind(syntax) switch
        {
            BoundRelated => throw Type("A related entity is not a value; name one of its properties.", syntax.Position),
            BoundNull => throw Type("Null has no type, so nothing is computed from it.", syntax.Position),
            BoundProperty { Property: { Conversion: not null } property } => throw Converted(property, "computed with", syntax.Position),
            { Type.Kind: EdmKind.Binary or EdmKind.Enum } => throw Type(
                "Binary values and enumerations are not computed.",
                syntax.Position
            ),
            var bound => bound,
        };

    /// <summary>The properties that a path of groupby stands for: one, or the parts of a complex value.</summary>
    public IEnumerable<BoundProperty> BindGroupKey(ImmutableArray<NameSyntax> path)
    {
        var hops = ImmutableArray.CreateBuilder<NavigationProperty>();
        var type = set.Type;
        for (var i = 0; i < path.Length; i++)
        {
            var name = path[i];
            if (type.FindProperty(name.Text) is { } property)
            {
                var names = path[..i].Select(n => n.Text).ToArray();
                if (property.IsGroup && i == path.Length - 1)
                    return PathProperties
                        .Paths([property])
                        .Select(p => new BoundProperty(hops.ToImmutable(), p.Property) { PathNames = [.. names, .. p.Names] })
                        .ToList();
                var value = Value(property, new PathSyntax(path), i);
                if (value.Conversion is { Use: ConvertedUse.Read })
                    throw Converted(value, "grouped by", name.Position);
                if (value.Type.Kind == EdmKind.Binary)
                    throw Type($"Binary values cannot be grouped by.", name.Position);
                return [new BoundProperty(hops.ToImmutable(), value) { PathNames = [.. path.Select(n => n.Text)] }];
            }
            var navigation = Step(type, name);
            if (navigation.IsCollection)
                throw new FaultException(
                    RequestFault.NotImplemented(
                        $"'{name.Text}' leads to many entities, and grouping by them is not supported.",
                        target,
                        text,
                        name.Position
                    )
                );
            hops.Add(navigation);
            type = model.Target(navigation).Type;
        }
        throw new FaultException(
            RequestFault.NotImplemented(
                $"Grouping by the related entity '{path[^1].Text}' is not supported; name its properties.",
                target,
                text,
                path[^1].Position
            )
        );
    }

    /// <summary>The value that an aggregate is made of.</summary>
    public BoundExpression BindAggregated(ExpressionSyntax syntax) =>
        Bind(syntax) switch
        {
            BoundRelated or BoundNull => throw Type("An aggregate is made of values; name a property.", syntax.Position),
            BoundProperty { Property: { Conversion.Use: not ConvertedUse.Anything } property } => throw Converted(
                property,
                "aggregated",
                syntax.Position
            ),
            { Type.Kind: EdmKind.Binary } => throw Type("Binary values cannot be aggregated.", syntax.Position),
            var bound => bound,
        };

    public FaultException Refused(string code, string message, int position) => Fault(code, message, position);

    private BoundExpression Bind(ExpressionSyntax syntax)
    {
        Steps.Step();
        return syntax switch
        {
            LiteralSyntax literal => new BoundLiteral(literal.Slot, literal.Kind, TypeOf(literal.Kind)),
            NullSyntax => new BoundNull(),
            PathSyntax path => BindPath(path),
            LambdaSyntax lambda => BindLambda(lambda),
            CountSyntax count => BindCount(count),
            UnarySyntax unary => BindUnary(unary),
            InSyntax isIn => BindIn(isIn),
            CallSyntax call => BindCall(call),
            AliasSyntax alias => BindAlias(alias),
            AttributeSyntax attribute => new BoundLiteral(attribute.Slot, LiteralKind.Text, EdmType.String),
            CaseSyntax branches => BindCase(branches),
            TypeCallSyntax call => BindTypeCall(call),
            RootSyntax root => BindRoot(root),
            MatchSyntax match => BindMatch(match),
            BinarySyntax binary => BindBinary(binary),
            _ => throw new InvalidOperationException(syntax.GetType().Name),
        };
    }

    /// <summary>A fault in an alias's value is shown in that value.</summary>
    private BoundExpression BindAlias(AliasSyntax alias)
    {
        try
        {
            return Bind(alias.Value);
        }
        catch (FaultException exception) when (exception.Fault.Target == target)
        {
            throw new FaultException(exception.Fault with { Target = alias.Name, Text = alias.Text });
        }
    }

    /// <summary>All conditions together; null when there is none.</summary>
    public static BoundExpression? And(IEnumerable<BoundExpression?> conditions) =>
        conditions
            .OfType<BoundExpression>()
            .Aggregate((BoundExpression?)null, (all, next) => all is null ? next : new BoundLogical(BinaryOperator.And, all, next));

    /// <summary>A search as a condition over the text properties that the set is searched by.</summary>
    public BoundExpression BindSearch(SearchSyntax search, EntitySet within, string scope = "") =>
        search switch
        {
            SearchNotSyntax not => new BoundNot(BindSearch(not.Operand, within, scope)),
            SearchPairSyntax pair => new BoundLogical(
                pair.IsAnd ? BinaryOperator.And : BinaryOperator.Or,
                BindSearch(pair.Left, within, scope),
                BindSearch(pair.Right, within, scope)
            ),
            SearchTermSyntax term => within.IsSearchable
                ? new BoundSearchTerm(
                    [
                        .. (within.SearchIndex is null ? within.SearchProperties : within.Type.Key).Select(p => new BoundProperty([], p)
                        {
                            Scope = scope,
                        }),
                    ],
                    term.Slot is { } slot
                        ? new BoundLiteral(slot, LiteralKind.String, EdmType.String)
                        : new BoundConstant(term.Text!, EdmType.String)
                )
                {
                    Indexed = within.SearchIndex is null ? null : within,
                }
                : throw new FaultException(
                    RequestFault.NotImplemented($"{within.Name} cannot be searched: none of its text properties allows it.", "$search")
                ),
            _ => throw new InvalidOperationException(search.GetType().Name),
        };

    private BoundExpression BindCase(CaseSyntax syntax)
    {
        var branches = ImmutableArray.CreateBuilder<(BoundExpression, BoundExpression)>();
        EdmType? type = null;
        foreach (var (condition, value) in syntax.Branches)
        {
            var when = BindTruth(condition);
            if (!IsBoolean(when))
                throw Type($"case needs conditions before its colons, and this is {Describe(when)}.", condition.Position);
            var then = Bind(value);
            NotConverted(then, "a value of case", value.Position);
            if (then is BoundRelated or { Type.Kind: EdmKind.Enum })
                throw new FaultException(
                    RequestFault.NotImplemented($"{Describe(then)} as a value of case is not supported.", target, text, value.Position)
                );
            if (then.Type is { } next)
            {
                if (type is not null && !AreComparable(type, next))
                    throw Type(
                        $"The values of case are of one type, and {Describe(then)} follows a value of type {type.Name}.",
                        value.Position
                    );
                type =
                    type is null ? next
                    : type.IsNumeric && type != next ? NumericPromotion.Common(type, next)
                    : type;
            }
            branches.Add((AsCondition(when), then));
        }
        return type is null ? new BoundNull() : new BoundCase(branches.ToImmutable(), type);
    }

    private BoundExpression BindTypeCall(TypeCallSyntax call)
    {
        var word = call.IsTest ? "isof" : "cast";
        if (call is { Operand: null, IsTest: true })
        {
            return Cast(CurrentScope.Set.Type, call.Type) is { } derived
                ? Test(CurrentScope, ImmutableArray.CreateBuilder<NavigationProperty>(), derived)
                : new BoundConstant(true, EdmType.Boolean);
        }
        if (call.Operand is null)
            throw new FaultException(
                RequestFault.NotImplemented(
                    $"{word} of the entity itself is not supported; name a property behind the type, as in {call.Type.Text}/name.",
                    target,
                    text,
                    call.Position
                )
            );
        var operand = Bind(call.Operand);
        if (!call.Type.Text.StartsWith("Edm.", StringComparison.Ordinal))
            throw new FaultException(
                RequestFault.NotImplemented(
                    $"{word} to {call.Type.Text} is not supported; it knows the primitive types of the standard.",
                    target,
                    text,
                    call.Type.Position
                )
            );
        var name = call.Type.Text[4..];
        var isAny = call.IsTest && name is "PrimitiveType" or "Untyped";
        if (!Enum.TryParse<EdmKind>(name, out var kind) || kind is EdmKind.Enum or EdmKind.Complex or EdmKind.Stream)
        {
            if (!isAny)
                throw Fault(
                    "type",
                    $"There is no type '{call.Type.Text}'.{NearestName.Hint(name, Enum.GetNames<EdmKind>())}",
                    call.Type.Position
                );
        }
        if (operand is BoundNull)
            return call.IsTest ? new BoundConstant(false, EdmType.Boolean) : operand;
        if (operand is BoundRelated)
            throw Type($"{word} of a related entity is not a value.", call.Operand.Position);
        if (call.IsTest)
            return isAny || operand.Type!.Kind == kind
                ? new BoundComparison(BinaryOperator.Ne, operand, new BoundNull())
                : new BoundConstant(false, EdmType.Boolean);
        NotConverted(operand, "cast", call.Operand.Position);
        return operand.Type!.Kind == kind
            ? operand
            : new BoundCast(
                operand,
                kind switch
                {
                    EdmKind.DateTimeOffset => EdmType.DateTimeOffset,
                    EdmKind.TimeOfDay => EdmType.TimeOfDay,
                    EdmKind.Duration => EdmType.Duration,
                    var other => new EdmType(other),
                }
            );
    }

    /// <summary>The single value that a path's name stands for: the property, or a member of a complex one.</summary>
    private Property Value(Property property, PathSyntax path, int index)
    {
        var name = path.Names[index];
        if (index + 1 < path.Names.Length)
        {
            var next = path.Names[index + 1];
            if (property.Type.Complex is not { } complex)
                throw Fault(
                    "not-a-path",
                    $"'{name.Text}' is a single value; nothing can follow it, and '{next.Text}' does.",
                    next.Position
                );
            if (!property.IsGroup)
                throw new FaultException(
                    RequestFault.NotImplemented(
                        $"'{name.Text}' is stored as JSON, so its members cannot be used in expressions.",
                        target,
                        text,
                        next.Position
                    )
                );
            return property.Members.FirstOrDefault(m => m.Name == next.Text) is not { } member
                ? throw Fault(
                    "unknown-property",
                    $"'{complex.Name}' has no property '{next.Text}'.{NearestName.Hint(next.Text, complex.Properties.Select(p => p.Name))}",
                    next.Position
                )
                : Value(member, path, index + 1);
        }
        if (property.Type.Kind == EdmKind.Stream)
            throw Type($"'{name.Text}' is a stream, which has no value to compare.", name.Position);
        if (property.Type.IsCollection || property.Type.Kind == EdmKind.Complex)
            throw new FaultException(
                RequestFault.NotImplemented(
                    $"'{name.Text}' holds several values; an expression over them is not supported.",
                    target,
                    text,
                    name.Position
                )
            );
        if (!property.IsSortable && !isFilter)
            throw Fault("not-sortable", $"'{name.Text}' may not be sorted by.", name.Position);
        if (!property.IsFilterable && isFilter)
            throw Fault("not-filterable", $"'{name.Text}' may not be filtered by.", name.Position);
        return property;
    }

    private FaultException Converted(Property property, string use, int position) =>
        new(RequestFault.NotImplemented($"'{property.Name}' is stored in another form and cannot be {use}.", target, text, position));

    /// <summary>Refuses a property whose stored values are not the published ones where only the latter make sense.</summary>
    private void NotConverted(BoundExpression expression, string use, int position)
    {
        if (expression is BoundProperty { Property: { Conversion.Use: not ConvertedUse.Anything } property })
            throw Converted(property, use, position);
    }

    private static BoundExpression AsCondition(BoundExpression expression) =>
        expression is BoundProperty { Property.Conversion: not null } property ? new BoundTruth(property) : expression;

    private BoundExpression BindCall(CallSyntax call)
    {
        if (call.Function is CanonicalFunction.MinDateTime or CanonicalFunction.MaxDateTime && call.Arguments.IsEmpty)
            return new BoundConstant(
                call.Function == CanonicalFunction.MinDateTime
                    ? DateTime.SpecifyKind(DateTime.MinValue, DateTimeKind.Utc)
                    : DateTime.SpecifyKind(DateTime.MaxValue, DateTimeKind.Utc),
                EdmType.DateTimeOffset
            );
        var signature = FunctionSignature.Of(call.Function);
        var arguments = call.Arguments.Select((a, i) => AsArgument(Bind(a), signature, i)).ToImmutableArray();
        if (arguments.Length < signature.Required || arguments.Length > signature.Parameters.Length)
            throw Fault(
                "arguments",
                $"{call.Name} takes "
                    + $"{Count(signature.Required)}"
                    + $"{(signature.Required < signature.Parameters.Length ? $" or {signature.Parameters.Length}" : "")}, "
                    + $"not {arguments.Length}.",
                call.Position
            );
        if (
            call.Function == CanonicalFunction.MatchesPattern
            && arguments[1] is not (BoundLiteral { Kind: not LiteralKind.Text } or BoundNull)
        )
            throw new FaultException(
                RequestFault.NotImplemented(
                    "The pattern of matchesPattern is a literal; anything else is not supported.",
                    target,
                    text,
                    call.Arguments[1].Position
                )
            );
        for (var i = 0; i < arguments.Length; i++)
        {
            var argument = arguments[i];
            if (argument is BoundRelated || (argument.Type is { } type && !signature.Parameters[i](type)))
                throw Type($"{call.Name} needs {signature.Meanings[i]}, not {Describe(argument)}.", call.Arguments[i].Position);
            if (argument is not BoundProperty { Property.Conversion: FormatConversion format } || format.Part(call.Function) is null)
                NotConverted(argument, $"used in {call.Name}", call.Arguments[i].Position);
            if (argument is BoundLiteral { Kind: LiteralKind.DateTimeOffset })
                throw new FaultException(
                    RequestFault.NotImplemented(
                        $"{call.Name} of a literal is not supported; it works on properties, in UTC.",
                        target,
                        text,
                        call.Arguments[i].Position
                    )
                );
        }
        return arguments.Any(a => a is BoundNull) ? new BoundNull() : new BoundCall(call.Function, arguments, signature.Result(arguments));
    }

    private static string Count(int number) =>
        number switch
        {
            0 => "no argument",
            1 => "one argument",
            _ => "two arguments",
        };

    private static bool IsBoolean(BoundExpression expression) => expression is BoundNull || expression.Type?.Kind == EdmKind.Boolean;

    private static bool AreComparable(EdmType left, EdmType right) =>
        left.Kind is not (EdmKind.Binary or EdmKind.Complex)
        && ((left.Kind == right.Kind && left.Enum == right.Enum) || (left.IsNumeric && right.IsNumeric));

    private static string Describe(BoundExpression expression) =>
        expression switch
        {
            BoundNull => "null",
            BoundRelated => "a related entity",
            BoundProperty property => $"'{property.Property.Name}' ({property.Type!.Name})",
            BoundLiteral { Kind: LiteralKind.Enum } => "a member of an enumeration",
            BoundLiteral { Kind: LiteralKind.Text } => "a text",
            BoundLiteral => $"a value of type {expression.Type!.Name}",
            _ => $"an expression of type {expression.Type!.Name}",
        };

    private FaultException Type(string message, int position) => Fault("type", message, position);

    private FaultException Fault(string code, string message, int position) =>
        new(new RequestFault(400, code, message, target, text, position));
}
