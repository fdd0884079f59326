using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>Resolves the names of an expression against one set and checks its types.</summary>
/// <param name="isFilter">A condition, else a sort term: properties that the declaration keeps out of it are refused, also inside of calls.</param>
internal sealed class ExpressionBinder(EntityModel model, EntitySet set, string target, string text, bool isFilter)
{
    private readonly LambdaScope _top = new("", "", set, []);
    private readonly Stack<LambdaScope> _scopes = new();
    private LambdaScope? _counted;
    private Dictionary<string, BoundComputed> _countedComputed = [];
    private int _lambdas;

    public ExpressionBinder(EntityModel model, EntitySet set, string target, string text)
        : this(model, set, target, text, target == "$filter")
    {
    }

    /// <summary>Properties that the request computes, by name.</summary>
    public IReadOnlyDictionary<string, BoundComputed> Computed { get; init; } = new Dictionary<string, BoundComputed>();

    /// <summary>The expression is about entities below those that the path addresses, so <c>$it</c> is not the entity itself.</summary>
    public bool IsNested { get; init; }

    /// <summary>For a nested expression: the set that <c>$it</c> is of; null = nothing can be said of it.</summary>
    public EntitySet? Root { get; init; }

    /// <summary>The entity whose properties are named without a prefix.</summary>
    private LambdaScope CurrentScope => _counted ?? _top;

    public BoundExpression BindCondition(ExpressionSyntax syntax)
    {
        var bound = Bind(syntax);
        return IsBoolean(bound) ? AsCondition(bound) : throw Type($"{target} needs a condition that is true or false, and this is {Describe(bound)}.", syntax.Position);
    }

    public BoundExpression BindOrder(ExpressionSyntax syntax) => Bind(syntax) switch
    {
        BoundRelated => throw Type("A related entity cannot be sorted by; name one of its properties.", syntax.Position),
        BoundNull => throw Type("Null cannot be sorted by.", syntax.Position),
        { Type.Kind: EdmKind.Binary } => throw Type("Binary values cannot be sorted by.", syntax.Position),
        BoundProperty { Property: { Conversion.Use: ConvertedUse.Read or ConvertedUse.Equality } property } => throw Converted(property, "sorted by", syntax.Position),
        var bound => bound,
    };

    /// <summary>The value of a property that the request computes.</summary>
    public BoundExpression BindComputed(ExpressionSyntax syntax) => Bind(syntax) switch
    {
        BoundRelated => throw Type("A related entity is not a value; name one of its properties.", syntax.Position),
        BoundNull => throw Type("Null has no type, so nothing is computed from it.", syntax.Position),
        BoundProperty { Property: { Conversion: not null } property } => throw Converted(property, "computed with", syntax.Position),
        { Type.Kind: EdmKind.Binary or EdmKind.Enum } => throw Type("Binary values and enumerations are not computed.", syntax.Position),
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
                    return PathProperties.Paths([property]).Select(p => new BoundProperty(hops.ToImmutable(), p.Property) { PathNames = [.. names, .. p.Names] }).ToList();
                var value = Value(property, new PathSyntax(path), i);
                if (value.Conversion is { Use: ConvertedUse.Read })
                    throw Converted(value, "grouped by", name.Position);
                if (value.Type.Kind == EdmKind.Binary)
                    throw Type($"Binary values cannot be grouped by.", name.Position);
                return [new BoundProperty(hops.ToImmutable(), value) { PathNames = [.. path.Select(n => n.Text)] }];
            }
            var navigation = Step(type, name);
            if (navigation.IsCollection)
                throw new FaultException(RequestFault.NotImplemented($"'{name.Text}' leads to many entities, and grouping by them is not supported.", target, text, name.Position));
            hops.Add(navigation);
            type = model.Target(navigation).Type;
        }
        throw new FaultException(RequestFault.NotImplemented($"Grouping by the related entity '{path[^1].Text}' is not supported; name its properties.", target, text, path[^1].Position));
    }

    /// <summary>The value that an aggregate is made of.</summary>
    public BoundExpression BindAggregated(ExpressionSyntax syntax) => Bind(syntax) switch
    {
        BoundRelated or BoundNull => throw Type("An aggregate is made of values; name a property.", syntax.Position),
        BoundProperty { Property: { Conversion.Use: ConvertedUse.Read or ConvertedUse.Equality or ConvertedUse.Order } property } => throw Converted(property, "aggregated", syntax.Position),
        { Type.Kind: EdmKind.Binary } => throw Type("Binary values cannot be aggregated.", syntax.Position),
        var bound => bound,
    };

    public FaultException Refused(string code, string message, int position) => Fault(code, message, position);

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
        AliasSyntax alias => BindAlias(alias),
        CaseSyntax branches => BindCase(branches),
        TypeCallSyntax call => BindTypeCall(call),
        RootSyntax root => BindRoot(root),
        BinarySyntax binary => BindBinary(binary),
        _ => throw new InvalidOperationException(syntax.GetType().Name),
    };

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

    private BoundExpression BindPath(PathSyntax path)
    {
        if (path.Names.Length == 1 && (_counted is null ? Computed : _countedComputed).TryGetValue(path.Names[0].Text, out var computed) && _scopes.All(s => s.Variable != path.Names[0].Text))
            return computed.Expression;
        if (_scopes.FirstOrDefault(s => s.Variable == path.Names[0].Text) is { Item: { } item })
        {
            return path.Names.Length == 1 ? new BoundItem(item.Scope, item.ItemType)
                : throw Fault("not-a-path", $"'{path.Names[0].Text}' is a single value; nothing can follow it.", path.Names[1].Position);
        }
        if (IsNested && path.Names[0].Text == "$it")
            return BindRootPath(Root ?? throw NoRoot(path.Names[0]), null, [.. path.Names.Skip(1)], path.Names[0].Position, "$it");
        var (scope, start) = Start(path.Names[0]);
        var hops = ImmutableArray.CreateBuilder<NavigationProperty>();
        var type = scope.Set.Type;
        if (start == path.Names.Length)
            throw Type($"'{path.Names[0].Text}' is an entity; name one of its properties.", path.Names[0].Position);
        DerivedType? cast = null;
        var tests = new List<BoundExpression>();
        for (var i = start; i < path.Names.Length; i++)
        {
            var name = path.Names[i];
            if (name.Text.Contains('.') && cast is null)
            {
                cast = Cast(type, name);
                if (i == path.Names.Length - 1)
                    throw Type($"'{name.Text}' is a type; name one of its properties.", name.Position);
                continue;
            }
            if ((cast?.Properties.FirstOrDefault(p => p.Name == name.Text) ?? type.FindProperty(name.Text)) is { } property)
                return OnlyIf(tests, Own(scope, hops, Value(property, path, i), cast));
            var navigation = StepAfter(cast, type, name);
            if (navigation.IsCollection)
                throw new FaultException(RequestFault.NotImplemented($"'{name.Text}' leads to many entities; ask for any or all of them, as in {name.Text}/any(x:…).", target, text, name.Position));
            if (cast is not null)
                tests.Add(Test(scope, hops, cast));
            cast = null;
            type = Follow(scope, hops, navigation).Type;
        }
        return tests.Count == 0 ? new BoundRelated(hops.ToImmutable(), type.Key[0]) { Scope = scope.Id }
            : throw new FaultException(RequestFault.NotImplemented($"'{path.Names[^1].Text}' after a type cast cannot be compared; name one of its properties.", target, text, path.Names[^1].Position));
    }

    /// <summary>A value that is null unless all conditions hold.</summary>
    private static BoundExpression OnlyIf(List<BoundExpression> tests, BoundExpression value) => And(tests) is { } all ? new BoundCase([(all, value)], value.Type!) : value;

    /// <summary>The condition that an entity is of a type, whose table is then reached.</summary>
    private BoundExpression Test(LambdaScope scope, ImmutableArray<NavigationProperty>.Builder hops, DerivedType cast)
    {
        var way = hops.ToImmutable();
        if (cast.Table is { } table)
        {
            var there = way.ToBuilder();
            Follow(scope, there, table);
        }
        return DerivedTypes.Test(cast, way, scope.Id);
    }

    /// <summary>A step after a type cast, whose own properties have been looked at.</summary>
    private NavigationProperty StepAfter(DerivedType? cast, EntityType type, NameSyntax name) => cast is not null && type.FindNavigation(name.Text) is null
        ? throw Fault("unknown-property", $"'{cast.Name}' has no property '{name.Text}'.{NearestName.Hint(name.Text, cast.Properties.Select(p => p.Name).Concat(type.MemberNames))}", name.Position)
        : Step(type, name);

    /// <summary>A property's value; one after a cast is null for entities of other types (URL conventions 4.11).</summary>
    private BoundExpression Own(LambdaScope scope, ImmutableArray<NavigationProperty>.Builder hops, Property property, DerivedType? cast)
    {
        var way = hops.ToImmutable();
        if (property.Via is { } via)
            Follow(scope, hops, via);
        var value = new BoundProperty(hops.ToImmutable(), property) { Scope = scope.Id };
        if (cast is null || property.Via is not null)
            return value;
        if (cast.Table is { } table)
            Follow(scope, hops, table);
        return new BoundCase([(DerivedTypes.Test(cast, way, scope.Id), value)], property.Type);
    }

    /// <summary>Null = the type itself.</summary>
    private DerivedType? Cast(EntityType type, NameSyntax name) => name.Text == model.QualifiedName(type) ? null : DerivedTypes.Find(type, name.Text, model.Namespace)
        ?? throw Fault("unknown-type", $"No type '{name.Text}' derives from '{type.Name}'.{NearestName.Hint(name.Text, type.Derived.Select(d => $"{model.Namespace}.{d.Name}"))}", name.Position);

    /// <summary>The entity that a path starts from: that of a lambda whose name comes first, else the one asked for.</summary>
    private (LambdaScope Scope, int Next) Start(NameSyntax name) => _scopes.FirstOrDefault(s => s.Variable == name.Text) is { } scope ? (scope, 1)
        : name.Text == "$it" && IsNested ? throw NoRoot(name)
        : name.Text == "$it" ? (_top, 1) : (CurrentScope, name.Text == "$this" ? 1 : 0);

    private FaultException NoRoot(NameSyntax name) =>
        new(RequestFault.NotImplemented("Of $it inside $expand only single values can be asked, in the same database, where the entities asked for have a key.", target, text, name.Position));

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
    private CollectionPath Collection(ImmutableArray<NameSyntax> path)
    {
        var (scope, start) = Start(path[0]);
        var hops = ImmutableArray.CreateBuilder<NavigationProperty>();
        var type = scope.Set.Type;
        DerivedType? cast = null;
        var tests = new List<BoundExpression>();
        for (var i = start; i < path.Length - 1; i++)
        {
            if (path[i].Text.Contains('.') && cast is null)
            {
                cast = Cast(type, path[i]);
                if (cast is not null)
                    tests.Add(Test(scope, hops, cast));
                continue;
            }
            var step = StepAfter(cast, type, path[i]);
            if (step.IsCollection)
                throw Fault("not-a-path", $"'{path[i].Text}' leads to many entities, and nothing but any, all or $count can follow it.", path[i].Position);
            cast = null;
            type = Follow(scope, hops, step).Type;
        }
        var last = path[^1];
        if (start == path.Length)
            throw Type($"'{last.Text}' is one entity, and any, all and $count follow a collection.", last.Position);
        if (type.FindProperty(last.Text) is { } property)
        {
            return property.Type.IsCollection ? new CollectionPath(scope, hops.ToImmutable(), null, property, And(tests))
                : throw Type($"'{last.Text}' is a single value, and any, all and $count follow a collection.", last.Position);
        }
        var navigation = StepAfter(cast, type, last);
        return navigation.IsCollection ? new CollectionPath(scope, hops.ToImmutable(), navigation, null, And(tests))
            : throw Type($"'{last.Text}' leads to one entity, and any, all and $count follow a collection.", last.Position);
    }

    /// <summary>Where any, all and $count look: related entities, or the values of a property.</summary>
    /// <param name="Test">Where it is false, by the type casts of the path, the collection is empty; null = it is always there.</param>
    private sealed record CollectionPath(LambdaScope Scope, ImmutableArray<NavigationProperty> Hops, NavigationProperty? Navigation, Property? Property, BoundExpression? Test)
    {
        public BoundExpression Number(BoundExpression count) => Test is null ? count : new BoundCase([(Test, count), (new BoundNot(Test), new BoundConstant(0L, EdmType.Int64))], EdmType.Int64);

        public BoundExpression Condition(BoundExpression condition, bool isAll) => Test is null ? condition
            : isAll ? new BoundLogical(BinaryOperator.Or, new BoundNot(Test), condition) : new BoundLogical(BinaryOperator.And, Test, condition);

        public BoundProperty Values => new(Hops, Property!) { Scope = Scope.Id };
    }

    private BoundExpression BindCount(CountSyntax count)
    {
        var found = Collection(count.Path);
        if (found.Property is not null)
        {
            if (count.Search is not null)
                throw Fault("option-not-here", "The values of a property are not searched; $filter can be used.", count.Position);
            var id = $"v{++_lambdas}";
            if (count.Filter is not { } filter)
                return found.Number(new BoundOverValues(found.Values, id, OverValues.Count, null));
            // Inside, a value goes by $this.
            _scopes.Push(new LambdaScope(id, "$this", found.Scope.Set, []) { Item = new BoundItem(id, ItemType(found.Property, filter.Position)) });
            var condition = BindCondition(filter);
            _scopes.Pop();
            return found.Number(new BoundOverValues(found.Values, id, OverValues.Count, condition));
        }
        return found.Number(Count(found.Scope.Id, found.Hops, found.Navigation!, count.Filter, count.Search, []));
    }

    /// <summary>The number of entities that a relation leads to, as far as they fulfil a filter and a search, in which their properties need no prefix.</summary>
    public BoundCount Count(string outer, ImmutableArray<NavigationProperty> hops, NavigationProperty navigation, ExpressionSyntax? filter, SearchSyntax? search, ImmutableArray<ComputeItemSyntax> compute)
    {
        var inner = new LambdaScope($"v{++_lambdas}", "", model.Target(navigation), []);
        var before = (_counted, _countedComputed);
        (_counted, _countedComputed) = (inner, []);
        foreach (var item in compute)
        {
            var value = BindComputed(item.Expression);
            _countedComputed[item.Alias.Text] = new BoundComputed(new Property(item.Alias.Text, value.Type!, true, item.Alias.Text), value);
        }
        var conditions = new List<BoundExpression>();
        if (filter is not null)
            conditions.Add(BindCondition(filter));
        if (search is not null)
            conditions.Add(BindSearch(search, inner.Set, inner.Id));
        (_counted, _countedComputed) = before;
        return new BoundCount(outer, hops, navigation, inner.Set, inner.Id) { Condition = And(conditions), Joins = [.. inner.Joins] };
    }

    /// <summary>All conditions together; null when there is none.</summary>
    public static BoundExpression? And(IEnumerable<BoundExpression?> conditions) =>
        conditions.OfType<BoundExpression>().Aggregate((BoundExpression?)null, (all, next) => all is null ? next : new BoundLogical(BinaryOperator.And, all, next));

    /// <summary>A search as a condition over the text properties that the set is searched by.</summary>
    public BoundExpression BindSearch(SearchSyntax search, EntitySet within, string scope = "") => search switch
    {
        SearchNotSyntax not => new BoundNot(BindSearch(not.Operand, within, scope)),
        SearchPairSyntax pair => new BoundLogical(pair.IsAnd ? BinaryOperator.And : BinaryOperator.Or, BindSearch(pair.Left, within, scope), BindSearch(pair.Right, within, scope)),
        SearchTermSyntax term => within.IsSearchable
            ? new BoundSearchTerm([.. (within.SearchIndex is null ? within.SearchProperties : within.Type.Key).Select(p => new BoundProperty([], p) { Scope = scope })],
                term.Slot is { } slot ? new BoundLiteral(slot, LiteralKind.String, EdmType.String) : new BoundConstant(term.Text!, EdmType.String))
            { Indexed = within.SearchIndex is null ? null : within }
            : throw new FaultException(RequestFault.NotImplemented($"{within.Name} cannot be searched: no text property of it is open to that.", "$search")),
        _ => throw new InvalidOperationException(search.GetType().Name),
    };

    private BoundExpression BindLambda(LambdaSyntax lambda)
    {
        var found = Collection(lambda.Path);
        var id = $"v{++_lambdas}";
        var item = found.Property is { } property ? new BoundItem(id, ItemType(property, lambda.OperatorPosition)) : null;
        var inner = new LambdaScope(id, lambda.Variable?.Text ?? "", item is null ? model.Target(found.Navigation!) : found.Scope.Set, []) { Item = item };
        if (_scopes.Any(s => s.Variable == inner.Variable && inner.Variable.Length > 0))
            throw Fault("variable", $"The name '{inner.Variable}' stands for another entity already.", lambda.Variable!.Position);
        _scopes.Push(inner);
        var condition = lambda.Condition is { } syntax ? BindCondition(syntax) : null;
        _scopes.Pop();
        return found.Condition(item is not null ? new BoundOverValues(found.Values, id, lambda.IsAll ? OverValues.All : OverValues.Any, condition)
            : new BoundLambda(found.Scope.Id, found.Hops, found.Navigation!, inner.Set, inner.Id, lambda.IsAll) { Condition = condition, Joins = [.. inner.Joins] }, lambda.IsAll);
    }

    private EdmType ItemType(Property property, int position) => property.Type.Kind is EdmKind.String or EdmKind.Boolean || property.Type.IsNumeric || property.Type is { Kind: EdmKind.Int64 or EdmKind.Int32 or EdmKind.Int16 or EdmKind.Byte or EdmKind.SByte or EdmKind.Decimal or EdmKind.Double or EdmKind.Single }
        ? property.Type with { IsCollection = false }
        : throw new FaultException(RequestFault.NotImplemented($"The values of '{property.Name}' cannot be asked one by one.", target, text, position));

    /// <param name="Id">Empty for the entity that is asked for.</param>
    private sealed record LambdaScope(string Id, string Variable, EntitySet Set, List<LambdaJoin> Joins)
    {
        /// <summary>For the values of a property: one of them; null = the lambda is about entities.</summary>
        public BoundItem? Item { get; init; }
    }

    private BoundExpression BindCase(CaseSyntax syntax)
    {
        var branches = ImmutableArray.CreateBuilder<(BoundExpression, BoundExpression)>();
        EdmType? type = null;
        foreach (var (condition, value) in syntax.Branches)
        {
            var when = Bind(condition);
            if (!IsBoolean(when))
                throw Type($"case needs conditions before its colons, and this is {Describe(when)}.", condition.Position);
            var then = Bind(value);
            NotConverted(then, "a value of case", value.Position);
            if (then is BoundRelated or { Type.Kind: EdmKind.Enum })
                throw new FaultException(RequestFault.NotImplemented($"{Describe(then)} as a value of case is not supported.", target, text, value.Position));
            if (then.Type is { } next)
            {
                if (type is not null && !AreComparable(type, next))
                    throw Type($"The values of case are of one type, and {Describe(then)} follows a value of type {type.Name}.", value.Position);
                type = type is null ? next : type.IsNumeric && type != next ? NumericPromotion.Common(type, next) : type;
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
            return Cast(CurrentScope.Set.Type, call.Type) is { } derived ? Test(CurrentScope, ImmutableArray.CreateBuilder<NavigationProperty>(), derived)
                : new BoundConstant(true, EdmType.Boolean);
        }
        if (call.Operand is null)
            throw new FaultException(RequestFault.NotImplemented($"{word} of the entity itself is not supported; name a property behind the type, as in {call.Type.Text}/name.", target, text, call.Position));
        var operand = Bind(call.Operand);
        if (!call.Type.Text.StartsWith("Edm.", StringComparison.Ordinal))
            throw new FaultException(RequestFault.NotImplemented($"{word} to {call.Type.Text} is not supported; it knows the primitive types of the standard.", target, text, call.Type.Position));
        var name = call.Type.Text[4..];
        var isAny = call.IsTest && name is "PrimitiveType" or "Untyped";
        if (!Enum.TryParse<EdmKind>(name, out var kind) || kind is EdmKind.Enum or EdmKind.Complex or EdmKind.Stream)
        {
            if (!isAny)
                throw Fault("type", $"There is no type '{call.Type.Text}'.{NearestName.Hint(name, Enum.GetNames<EdmKind>())}", call.Type.Position);
        }
        if (operand is BoundNull)
            return call.IsTest ? new BoundConstant(false, EdmType.Boolean) : operand;
        if (operand is BoundRelated)
            throw Type($"{word} of a related entity is not a value.", call.Operand.Position);
        if (call.IsTest)
            return isAny || operand.Type!.Kind == kind ? new BoundComparison(BinaryOperator.Ne, operand, new BoundNull()) : new BoundConstant(false, EdmType.Boolean);
        NotConverted(operand, "cast", call.Operand.Position);
        return operand.Type!.Kind == kind ? operand : new BoundCast(operand, kind switch
        {
            EdmKind.DateTimeOffset => EdmType.DateTimeOffset,
            EdmKind.TimeOfDay => EdmType.TimeOfDay,
            EdmKind.Duration => EdmType.Duration,
            var other => new EdmType(other),
        });
    }

    private BoundExpression BindRoot(RootSyntax root)
    {
        if (model.FindSet(root.Set.Text) is not { ContainedIn: null, IsUnkeyed: false } found)
            throw Fault("unknown-property", $"There is no entity set '{root.Set.Text}' to follow $root.{NearestName.Hint(root.Set.Text, model.Sets.Where(s => s.ContainedIn is null).Select(s => s.Name))}", root.Set.Position);
        if (found.Source.Source != set.Source.Source)
            throw new FaultException(RequestFault.NotImplemented($"'{found.Name}' is in another database, and no expression can reach over.", target, text, root.Set.Position));
        var key = KeyBinder.Bind(root.Key, found, root.Set.Text);
        return BindRootPath(found, key, root.Path, root.Set.Position, "$root");
    }

    /// <summary>A path from one entity that is found by itself, over single steps to a value.</summary>
    /// <param name="word">What the path starts with.</param>
    private BoundRootValue BindRootPath(EntitySet start, BoundKey? key, ImmutableArray<NameSyntax> path, int position, string word)
    {
        var hops = ImmutableArray.CreateBuilder<(NavigationProperty, EntitySet)>();
        var type = start.Type;
        for (var i = 0; i < path.Length; i++)
        {
            var name = path[i];
            if (type.FindProperty(name.Text) is { } property)
            {
                var value = Value(property, new PathSyntax(path), i);
                return value is { Conversion: null or { Use: ConvertedUse.Anything }, Via: null } ? new BoundRootValue(start, key, hops.ToImmutable(), value) : throw Converted(value, $"used after {word}", name.Position);
            }
            if (name.Text.Contains('.'))
                throw new FaultException(RequestFault.NotImplemented($"A type cast after {word} is not supported.", target, text, name.Position));
            var navigation = Step(type, name);
            if (navigation.IsCollection)
                throw new FaultException(RequestFault.NotImplemented($"'{name.Text}' leads to many entities, and after {word} only single ones can be followed.", target, text, name.Position));
            var next = model.Target(navigation);
            hops.Add((navigation, next));
            type = next.Type;
        }
        throw Type($"An entity after {word} has no value; name one of its properties.", position);
    }

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
            case BinaryOperator.Has:
                throw left.Type?.Kind == EdmKind.Enum || left is BoundNull ? new FaultException(RequestFault.NotImplemented("The operator has is not supported: no enumeration of this service has flags. Use eq.", target, text, binary.OperatorPosition))
                    : Type($"'has' asks for members of an enumeration, and {Describe(left)} is on the left.", binary.OperatorPosition);
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
        var isOther = (literal.Kind, other.Type?.Kind) is (LiteralKind.String, EdmKind.Duration or EdmKind.Enum) or (LiteralKind.Enum, EdmKind.Enum) or (LiteralKind.Text, not null);
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
        if (a is not null && b is not null && TemporalPromotion.Result(binary.Operator, a, b) is { } temporal)
            return new BoundArithmetic(Enum.Parse<ArithmeticOperator>(binary.Operator.ToString()), left, right, temporal);
        throw Type($"'{word}' needs numbers, and it stands between {Describe(left)} and {Describe(right)}.", binary.OperatorPosition);
    }

    private BoundExpression BindIn(InSyntax isIn)
    {
        var operand = Bind(isIn.Operand);
        if (operand is BoundNull or BoundRelated)
            throw Type("'in' needs a value on its left.", isIn.Operand.Position);
        if (isIn.Collection is { } collection)
            return BindInValues(operand, collection, isIn.OperatorPosition);
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

    /// <summary>One of the values of a collection property.</summary>
    private BoundOverValues BindInValues(BoundExpression operand, PathSyntax collection, int position)
    {
        if (Collection(collection.Names) is not { Property: { } property } found)
            throw Type("A list or a collection of values follows 'in'.", collection.Position);
        var item = new BoundItem($"v{++_lambdas}", property.Type with { IsCollection = false });
        (operand, _) = Adapt(operand, item);
        return AreComparable(operand.Type!, item.ItemType) ? new BoundOverValues(found.Values, item.Scope, OverValues.Any, new BoundComparison(BinaryOperator.Eq, item, operand))
            : throw Type($"'in' cannot compare {Describe(operand)} with values of type {item.ItemType.Name}.", position);
    }

    private BoundExpression BindCall(CallSyntax call)
    {
        if (call.Function is CanonicalFunction.MinDateTime or CanonicalFunction.MaxDateTime && call.Arguments.IsEmpty)
            return new BoundConstant(call.Function == CanonicalFunction.MinDateTime ? DateTime.SpecifyKind(DateTime.MinValue, DateTimeKind.Utc) : DateTime.SpecifyKind(DateTime.MaxValue, DateTimeKind.Utc), EdmType.DateTimeOffset);
        var arguments = call.Arguments.Select(Bind).ToImmutableArray();
        var signature = FunctionSignature.Of(call.Function);
        if (arguments.Length < signature.Required || arguments.Length > signature.Parameters.Length)
            throw Fault("arguments", $"{call.Name} takes {Count(signature.Required)}{(signature.Required < signature.Parameters.Length ? $" or {signature.Parameters.Length}" : "")}, not {arguments.Length}.", call.Position);
        if (call.Function == CanonicalFunction.MatchesPattern && arguments[1] is not (BoundLiteral or BoundNull))
            throw new FaultException(RequestFault.NotImplemented("The pattern of matchesPattern is a literal; anything else is not supported.", target, text, call.Arguments[1].Position));
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
        LiteralKind.String or LiteralKind.Text => EdmType.String,
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
        BoundLiteral { Kind: LiteralKind.Text } => "a text",
        BoundLiteral => $"a value of type {expression.Type!.Name}",
        _ => $"an expression of type {expression.Type!.Name}",
    };

    private FaultException Type(string message, int position) => Fault("type", message, position);

    private FaultException Fault(string code, string message, int position) => new(new RequestFault(400, code, message, target, text, position));
}
