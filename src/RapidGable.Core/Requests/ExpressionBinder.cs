using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>Resolves the names of an expression against one set and checks its types.</summary>
/// <param name="isFilter">A condition, else a sort term: properties that the declaration keeps out of it are refused, also inside of calls.</param>
internal sealed class ExpressionBinder(EntityModel model, EntitySet set, string target, string text, bool isFilter)
{
    private readonly LambdaScope _own = new("", "", set, []);
    private readonly Stack<LambdaScope> _scopes = new();
    private int _lambdas;

    public ExpressionBinder(EntityModel model, EntitySet set, string target, string text)
        : this(model, set, target, text, target == "$filter")
    {
    }

    public BoundExpression BindCondition(ExpressionSyntax syntax)
    {
        var bound = Bind(syntax);
        return IsBoolean(bound) ? AsCondition(bound) : throw Type($"{target} needs a condition that is true or false, and this is {Describe(bound)}.", syntax.Position);
    }

    public BoundExpression BindOrder(ExpressionSyntax syntax) => Bind(syntax) switch
    {
        BoundRelated => throw Type("A related entity cannot be sorted by; name one of its properties.", syntax.Position),
        BoundNull => throw Type("Null cannot be sorted by.", syntax.Position),
        var lambda when ExpressionPaths.OverRelated(lambda).Any(o => o is BoundLambda) => throw new FaultException(RequestFault.NotImplemented("Sorting by any or all is not supported.", target, text, syntax.Position)),
        { Type.Kind: EdmKind.Binary } => throw Type("Binary values cannot be sorted by.", syntax.Position),
        BoundProperty { Property: { Conversion.Use: ConvertedUse.Read or ConvertedUse.Equality } property } => throw Converted(property, "sorted by", syntax.Position),
        var bound => bound,
    };

    private BoundExpression Bind(ExpressionSyntax syntax) => syntax switch
    {
        LiteralSyntax literal => new BoundLiteral(literal.Slot, literal.Kind, TypeOf(literal.Kind)),
        NullSyntax => new BoundNull(),
        PathSyntax path => BindPath(path),
        LambdaSyntax lambda => BindLambda(lambda),
        CountSyntax count => BindCount(count),
        UnarySyntax unary => BindUnary(unary),
        InSyntax isIn => BindIn(isIn),
        CallSyntax call => BindCall(call),
        BinarySyntax binary => BindBinary(binary),
        _ => throw new InvalidOperationException(syntax.GetType().Name),
    };

    private BoundExpression BindPath(PathSyntax path)
    {
        var (scope, start) = Start(path.Names[0]);
        var hops = ImmutableArray.CreateBuilder<NavigationProperty>();
        var type = scope.Set.Type;
        if (start == path.Names.Length)
            throw Type($"'{path.Names[0].Text}' is an entity; name one of its properties.", path.Names[0].Position);
        for (var i = start; i < path.Names.Length; i++)
        {
            var name = path.Names[i];
            if (type.FindProperty(name.Text) is { } property)
                return new BoundProperty(hops.ToImmutable(), Value(property, path, i)) { Scope = scope.Id };
            var navigation = Step(type, name);
            if (navigation.IsCollection)
                throw new FaultException(RequestFault.NotImplemented($"'{name.Text}' leads to many entities; ask for any or all of them, as in {name.Text}/any(x:…).", target, text, name.Position));
            type = Follow(scope, hops, navigation).Type;
        }
        return new BoundRelated(hops.ToImmutable(), type.Key[0]) { Scope = scope.Id };
    }

    /// <summary>The entity that a path starts from: that of a lambda whose name comes first, else the one asked for.</summary>
    private (LambdaScope Scope, int Next) Start(NameSyntax name) => _scopes.FirstOrDefault(s => s.Variable == name.Text) is { } scope ? (scope, 1) : (_own, name.Text == "$it" ? 1 : 0);

    private NavigationProperty Step(EntityType type, NameSyntax name)
    {
        if (type.FindNavigation(name.Text) is not { } navigation)
            throw Fault("unknown-property", $"'{type.Name}' has no property '{name.Text}'.{NearestName.Hint(name.Text, type.MemberNames)}", name.Position);
        return navigation.IsRemote ? throw new FaultException(RequestFault.NotImplemented($"'{name.Text}' leads to another database, and no expression can reach over.", target, text, name.Position)) : navigation;
    }

    /// <summary>Goes on to a single related entity; a lambda remembers the tables that its condition needs.</summary>
    private EntitySet Follow(LambdaScope scope, ImmutableArray<NavigationProperty>.Builder hops, NavigationProperty navigation)
    {
        var next = model.Target(navigation);
        var parent = string.Join('/', hops.Select(h => h.Name));
        hops.Add(navigation);
        var join = new LambdaJoin(parent, string.Join('/', hops.Select(h => h.Name)), navigation, next);
        if (!scope.Joins.Exists(j => j.Path == join.Path))
            scope.Joins.Add(join);
        return next;
    }

    /// <summary>The relation to many entities that a path ends in.</summary>
    private (LambdaScope Scope, ImmutableArray<NavigationProperty> Hops, NavigationProperty Navigation) Collection(ImmutableArray<NameSyntax> path)
    {
        var (scope, start) = Start(path[0]);
        var hops = ImmutableArray.CreateBuilder<NavigationProperty>();
        var type = scope.Set.Type;
        for (var i = start; i < path.Length - 1; i++)
        {
            var step = Step(type, path[i]);
            if (step.IsCollection)
                throw Fault("not-a-path", $"'{path[i].Text}' leads to many entities, and nothing but any, all or $count can follow it.", path[i].Position);
            type = Follow(scope, hops, step).Type;
        }
        var last = path[^1];
        if (start == path.Length)
            throw Type($"'{last.Text}' is one entity, and any, all and $count follow a collection.", last.Position);
        if (type.FindProperty(last.Text) is { } property)
            throw property.Type.IsCollection ? new FaultException(RequestFault.NotImplemented($"The values of '{last.Text}' cannot be asked one by one.", target, text, last.Position))
                : Type($"'{last.Text}' is a single value, and any, all and $count follow a collection.", last.Position);
        var navigation = Step(type, last);
        return navigation.IsCollection ? (scope, hops.ToImmutable(), navigation)
            : throw Type($"'{last.Text}' leads to one entity, and any, all and $count follow a collection.", last.Position);
    }

    private BoundCount BindCount(CountSyntax count)
    {
        var (scope, hops, navigation) = Collection(count.Path);
        return new BoundCount(scope.Id, hops, navigation, model.Target(navigation), $"v{++_lambdas}");
    }

    private BoundLambda BindLambda(LambdaSyntax lambda)
    {
        var (scope, hops, navigation) = Collection(lambda.Path);
        var inner = new LambdaScope($"v{++_lambdas}", lambda.Variable?.Text ?? "", model.Target(navigation), []);
        if (_scopes.Any(s => s.Variable == inner.Variable && inner.Variable.Length > 0))
            throw Fault("variable", $"The name '{inner.Variable}' stands for another entity already.", lambda.Variable!.Position);
        _scopes.Push(inner);
        var condition = lambda.Condition is { } syntax ? BindCondition(syntax) : null;
        _scopes.Pop();
        return new BoundLambda(scope.Id, hops, navigation, inner.Set, inner.Id, lambda.IsAll) { Condition = condition, Joins = [.. inner.Joins] };
    }

    /// <param name="Id">Empty for the entity that is asked for.</param>
    private sealed record LambdaScope(string Id, string Variable, EntitySet Set, List<LambdaJoin> Joins);

    /// <summary>The single value that a path's name stands for: the property, or a member of a complex one.</summary>
    private Property Value(Property property, PathSyntax path, int index)
    {
        var name = path.Names[index];
        if (index + 1 < path.Names.Length)
        {
            var next = path.Names[index + 1];
            if (property.Type.Complex is not { } complex)
                throw Fault("not-a-path", $"'{name.Text}' is a single value; nothing can follow it, and '{next.Text}' does.", next.Position);
            if (!property.IsGroup)
                throw new FaultException(RequestFault.NotImplemented($"'{name.Text}' is kept as JSON, and its members cannot be searched.", target, text, next.Position));
            return property.Members.FirstOrDefault(m => m.Name == next.Text) is not { } member
                ? throw Fault("unknown-property", $"'{complex.Name}' has no property '{next.Text}'.{NearestName.Hint(next.Text, complex.Properties.Select(p => p.Name))}", next.Position)
                : Value(member, path, index + 1);
        }
        if (property.Type.Kind == EdmKind.Stream)
            throw Type($"'{name.Text}' is a stream, which has no value to compare.", name.Position);
        if (property.Type.IsCollection || property.Type.Kind == EdmKind.Complex)
            throw new FaultException(RequestFault.NotImplemented($"'{name.Text}' holds several values; an expression over them is not supported.", target, text, name.Position));
        if (!property.IsSortable && !isFilter)
            throw Fault("not-sortable", $"'{name.Text}' may not be sorted by.", name.Position);
        if (!property.IsFilterable && isFilter)
            throw Fault("not-filterable", $"'{name.Text}' may not be filtered by.", name.Position);
        return property;
    }

    private FaultException Converted(Property property, string use, int position) => new(RequestFault.NotImplemented(
        $"'{property.Name}' is stored in another form and cannot be {use}.", target, text, position));

    /// <summary>Refuses a property whose stored values are not the published ones where only the latter make sense.</summary>
    private void NotConverted(BoundExpression expression, string use, int position)
    {
        if (expression is BoundProperty { Property: { Conversion.Use: not ConvertedUse.Anything } property })
            throw Converted(property, use, position);
    }

    private static BoundExpression AsCondition(BoundExpression expression) =>
        expression is BoundProperty { Property.Conversion: not null } property ? new BoundTruth(property) : expression;

    private BoundExpression BindUnary(UnarySyntax unary)
    {
        var operand = Bind(unary.Operand);
        if (unary.Operator == UnaryOperator.Not)
        {
            return IsBoolean(operand) ? new BoundNot(AsCondition(operand))
                : throw Type($"'not' needs a condition, and {Describe(operand)} follows. Put a comparison in parentheses: not (a eq b).", unary.Operand.Position);
        }
        if (operand is BoundNull)
            return operand;
        NotConverted(operand, "computed with", unary.Operand.Position);
        return operand.Type is { IsNumeric: true } or { Kind: EdmKind.Duration }
            ? new BoundNegation(operand)
            : throw Type($"'-' needs a number, and {Describe(operand)} follows.", unary.Operand.Position);
    }

    private BoundExpression BindBinary(BinarySyntax binary)
    {
        var left = Bind(binary.Left);
        var right = Bind(binary.Right);
        var word = binary.Operator.ToString().ToLowerInvariant();
        switch (binary.Operator)
        {
            case BinaryOperator.And or BinaryOperator.Or:
                if (!IsBoolean(left))
                    throw Type($"'{word}' needs conditions on both sides, and {Describe(left)} is on the left.", binary.Left.Position);
                if (!IsBoolean(right))
                    throw Type($"'{word}' needs conditions on both sides, and {Describe(right)} is on the right.", binary.Right.Position);
                return new BoundLogical(binary.Operator, AsCondition(left), AsCondition(right));
            case BinaryOperator.Eq or BinaryOperator.Ne or BinaryOperator.Gt or BinaryOperator.Ge or BinaryOperator.Lt or BinaryOperator.Le:
                return BindComparison(binary, left, right, word);
            default:
                return BindArithmetic(binary, left, right, word);
        }
    }

    private BoundComparison BindComparison(BinarySyntax binary, BoundExpression left, BoundExpression right, string word)
    {
        if (left is BoundRelated || right is BoundRelated)
        {
            return binary.Operator is BinaryOperator.Eq or BinaryOperator.Ne && (left is BoundNull || right is BoundNull)
                ? new BoundComparison(binary.Operator, left, right)
                : throw Type("A related entity can only be compared with null, by eq or ne.", binary.OperatorPosition);
        }
        (left, right) = Adapt(left, right);
        if (left is not BoundNull && right is not BoundNull && !AreComparable(left.Type!, right.Type!))
            throw Type($"'{word}' cannot compare {Describe(left)} with {Describe(right)}.", binary.OperatorPosition);
        var isEquality = binary.Operator is BinaryOperator.Eq or BinaryOperator.Ne;
        if (left.Type?.Kind == EdmKind.Enum && !isEquality && left is not BoundNull && right is not BoundNull)
            throw Type($"The members of an enumeration have no order; compare them by eq, ne or in.", binary.OperatorPosition);
        CheckConverted(left, right, isEquality, binary.Left.Position);
        CheckConverted(right, left, isEquality, binary.Right.Position);
        return new BoundComparison(binary.Operator, left, right);
    }

    /// <summary>A converted property is compared in its stored form: with literals, which are brought to it, and with others of the same form.</summary>
    private void CheckConverted(BoundExpression expression, BoundExpression other, bool isEquality, int position)
    {
        if (expression is not BoundProperty { Property: { Conversion: { Use: not ConvertedUse.Anything } conversion } property } || other is BoundNull)
            return;
        if (conversion.Use == ConvertedUse.Read || (conversion.Use == ConvertedUse.Equality && !isEquality))
            throw Converted(property, isEquality ? "compared" : "compared by order", position);
        if (other is not BoundLiteral && (other as BoundProperty)?.Property.Conversion != conversion)
            throw Converted(property, "compared with an expression", position);
    }

    /// <summary>A literal takes the type of what it meets: 4.01 lets durations be written as plain text.</summary>
    private static (BoundExpression, BoundExpression) Adapt(BoundExpression left, BoundExpression right) =>
        (Adapted(left, right), Adapted(right, left));

    private static BoundExpression Adapted(BoundExpression expression, BoundExpression other)
    {
        if (expression is not BoundLiteral literal)
            return expression;
        var isOther = (literal.Kind, other.Type?.Kind) is (LiteralKind.String, EdmKind.Duration or EdmKind.Enum) or (LiteralKind.Enum, EdmKind.Enum);
        return new BoundLiteral(literal.Slot, literal.Kind, isOther ? other.Type! : literal.LiteralType,
            other is BoundProperty { Property.Conversion: { Use: not ConvertedUse.Anything } conversion } ? conversion : null);
    }

    private BoundExpression BindArithmetic(BinarySyntax binary, BoundExpression left, BoundExpression right, string word)
    {
        if (left is BoundNull || right is BoundNull)
            return new BoundNull();
        NotConverted(left, "computed with", binary.Left.Position);
        NotConverted(right, "computed with", binary.Right.Position);
        var (a, b) = (left.Type, right.Type);
        if (a is { IsNumeric: true } && b is { IsNumeric: true })
        {
            var op = Enum.Parse<ArithmeticOperator>(binary.Operator.ToString());
            return new BoundArithmetic(op, left, right, NumericPromotion.Result(op, a, b));
        }
        if (a?.Kind is EdmKind.Date or EdmKind.DateTimeOffset or EdmKind.Duration || b?.Kind == EdmKind.Duration)
            throw new FaultException(RequestFault.NotImplemented($"'{word}' with dates, times and durations is not supported.", target, text, binary.OperatorPosition));
        throw Type($"'{word}' needs numbers, and it stands between {Describe(left)} and {Describe(right)}.", binary.OperatorPosition);
    }

    private BoundExpression BindIn(InSyntax isIn)
    {
        var operand = Bind(isIn.Operand);
        if (operand is BoundNull or BoundRelated)
            throw Type("'in' needs a value on its left.", isIn.Operand.Position);
        var members = ImmutableArray.CreateBuilder<BoundLiteral>();
        var withNull = false;
        foreach (var member in isIn.Members)
        {
            if (Adapted(Bind(member), operand) is not BoundLiteral literal)
            {
                withNull = true;
                continue;
            }
            if (!AreComparable(operand.Type!, literal.LiteralType))
                throw Type($"'in' cannot compare {Describe(operand)} with {Describe(literal)}.", member.Position);
            members.Add(literal);
            CheckConverted(operand, literal, isEquality: true, isIn.Operand.Position);
        }
        return new BoundIn(operand, members.ToImmutable(), withNull);
    }

    private BoundExpression BindCall(CallSyntax call)
    {
        var arguments = call.Arguments.Select(Bind).ToImmutableArray();
        var signature = FunctionSignature.Of(call.Function);
        if (arguments.Length != signature.Parameters.Length)
            throw Fault("arguments", $"{call.Name} takes {Count(signature.Parameters.Length)}, not {arguments.Length}.", call.Position);
        for (var i = 0; i < arguments.Length; i++)
        {
            var argument = arguments[i];
            if (argument is BoundRelated || (argument.Type is { } type && !signature.Parameters[i](type)))
                throw Type($"{call.Name} needs {signature.Meanings[i]}, not {Describe(argument)}.", call.Arguments[i].Position);
            NotConverted(argument, $"used in {call.Name}", call.Arguments[i].Position);
            if (argument is BoundLiteral { Kind: LiteralKind.DateTimeOffset })
                throw new FaultException(RequestFault.NotImplemented($"{call.Name} of a literal is not supported; it works on properties, in UTC.", target, text, call.Arguments[i].Position));
        }
        return arguments.Any(a => a is BoundNull) ? new BoundNull() : new BoundCall(call.Function, arguments, signature.Result(arguments));
    }

    private static string Count(int number) => number switch { 0 => "no argument", 1 => "one argument", _ => "two arguments" };

    private static bool IsBoolean(BoundExpression expression) => expression is BoundNull || expression.Type?.Kind == EdmKind.Boolean;

    private static bool AreComparable(EdmType left, EdmType right) =>
        left.Kind is not (EdmKind.Binary or EdmKind.Complex) && ((left.Kind == right.Kind && left.Enum == right.Enum) || (left.IsNumeric && right.IsNumeric));

    internal static EdmType TypeOf(LiteralKind kind) => kind switch
    {
        LiteralKind.Boolean => EdmType.Boolean,
        LiteralKind.Integer => EdmType.Int64,
        LiteralKind.Decimal => EdmType.Decimal,
        LiteralKind.Double => EdmType.Double,
        LiteralKind.String => EdmType.String,
        LiteralKind.Guid => EdmType.Guid,
        LiteralKind.Date => EdmType.Date,
        LiteralKind.TimeOfDay => EdmType.TimeOfDay,
        LiteralKind.DateTimeOffset => EdmType.DateTimeOffset,
        LiteralKind.Duration => EdmType.Duration,
        // Of a type yet to be met.
        LiteralKind.Enum => new EdmType(EdmKind.Enum),
        _ => EdmType.Binary,
    };

    private static string Describe(BoundExpression expression) => expression switch
    {
        BoundNull => "null",
        BoundRelated => "a related entity",
        BoundProperty property => $"'{property.Property.Name}' ({property.Type!.Name})",
        BoundLiteral { Kind: LiteralKind.Enum } => "a member of an enumeration",
        BoundLiteral => $"a value of type {expression.Type!.Name}",
        _ => $"an expression of type {expression.Type!.Name}",
    };

    private FaultException Type(string message, int position) => Fault("type", message, position);

    private FaultException Fault(string code, string message, int position) => new(new RequestFault(400, code, message, target, text, position));
}
