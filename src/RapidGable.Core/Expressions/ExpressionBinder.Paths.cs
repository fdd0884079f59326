using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>
/// The paths of expressions: to properties, over relations and type casts, into collections, and from <c>$root</c> and <c>$it</c>.
/// </summary>
internal sealed partial class ExpressionBinder
{
    private BoundExpression BindPath(PathSyntax path)
    {
        if (
            path.Names.Length == 1
            && (_counted is null ? Computed : _countedComputed).TryGetValue(path.Names[0].Text, out var computed)
            && _scopes.All(s => s.Variable != path.Names[0].Text)
        )
            return computed.Expression;
        if (_scopes.FirstOrDefault(s => s.Variable == path.Names[0].Text) is { Item: { } item })
        {
            return path.Names.Length == 1
                ? new BoundItem(item.Scope, item.ItemType)
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
                throw new FaultException(
                    RequestFault.NotImplemented(
                        $"'{name.Text}' leads to many entities; ask for any or all of them, as in {name.Text}/any(x:…).",
                        target,
                        text,
                        name.Position
                    )
                );
            if (cast is not null)
                tests.Add(Test(scope, hops, cast));
            cast = null;
            type = Follow(scope, hops, navigation).Type;
        }
        return tests.Count == 0
            ? new BoundRelated(hops.ToImmutable(), type.Key[0]) { Scope = scope.Id }
            : throw new FaultException(
                RequestFault.NotImplemented(
                    $"'{path.Names[^1].Text}' after a type cast cannot be compared; name one of its properties.",
                    target,
                    text,
                    path.Names[^1].Position
                )
            );
    }

    /// <summary>A value that is null unless all conditions hold.</summary>
    private static BoundExpression OnlyIf(List<BoundExpression> tests, BoundExpression value) =>
        And(tests) is { } all ? new BoundCase([(all, value)], value.Type!) : value;

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
    private NavigationProperty StepAfter(DerivedType? cast, EntityType type, NameSyntax name) =>
        cast is not null && type.FindNavigation(name.Text) is null
            ? throw Fault(
                "unknown-property",
                $"'{cast.Name}' has no property "
                    + $"'{name.Text}'.{NearestName.Hint(name.Text, cast.Properties.Select(p => p.Name).Concat(type.MemberNames))}",
                name.Position
            )
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
    private DerivedType? Cast(EntityType type, NameSyntax name) =>
        name.Text == model.QualifiedName(type)
            ? null
            : DerivedTypes.Find(type, name.Text, model.Namespace)
                ?? throw Fault(
                    "unknown-type",
                    $"No type '{name.Text}' derives from "
                        + $"'{type.Name}'.{NearestName.Hint(name.Text, type.Derived.Select(d => $"{model.Namespace}.{d.Name}"))}",
                    name.Position
                );

    /// <summary>The entity that a path starts from: that of a lambda whose name comes first, else the one asked for.</summary>
    private (LambdaScope Scope, int Next) Start(NameSyntax name) =>
        _scopes.FirstOrDefault(s => s.Variable == name.Text) is { } scope ? (scope, 1)
        : name.Text == "$it" && IsNested ? throw NoRoot(name)
        : name.Text == "$it" ? (_top, 1)
        : (CurrentScope, name.Text == "$this" ? 1 : 0);

    private FaultException NoRoot(NameSyntax name) =>
        new(
            RequestFault.NotImplemented(
                "Of $it inside $expand only single values can be asked, in the same database, where the entities asked for have a key.",
                target,
                text,
                name.Position
            )
        );

    private NavigationProperty Step(EntityType type, NameSyntax name)
    {
        if (type.FindNavigation(name.Text) is not { } navigation)
            throw Fault(
                "unknown-property",
                $"'{type.Name}' has no property '{name.Text}'.{NearestName.Hint(name.Text, type.MemberNames)}",
                name.Position
            );
        return navigation.IsRemote
            ? throw new FaultException(
                RequestFault.NotImplemented(
                    $"'{name.Text}' leads to another database, and no expression can reach over.",
                    target,
                    text,
                    name.Position
                )
            )
            : navigation;
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
                throw Fault(
                    "not-a-path",
                    $"'{path[i].Text}' leads to many entities, and nothing but any, all or $count can follow it.",
                    path[i].Position
                );
            cast = null;
            type = Follow(scope, hops, step).Type;
        }
        var last = path[^1];
        if (start == path.Length)
            throw Type($"'{last.Text}' is one entity, and any, all and $count follow a collection.", last.Position);
        if (type.FindProperty(last.Text) is { } property)
        {
            return property.Type.IsCollection
                ? new CollectionPath(scope, hops.ToImmutable(), null, property, And(tests))
                : throw Type($"'{last.Text}' is a single value, and any, all and $count follow a collection.", last.Position);
        }
        var navigation = StepAfter(cast, type, last);
        return navigation.IsCollection
            ? new CollectionPath(scope, hops.ToImmutable(), navigation, null, And(tests))
            : throw Type($"'{last.Text}' leads to one entity, and any, all and $count follow a collection.", last.Position);
    }

    /// <summary>Where any, all and $count look: related entities, or the values of a property.</summary>
    /// <param name="Test">Where it is false, by the type casts of the path, the collection is empty; null = it is always there.</param>
    private sealed record CollectionPath(
        LambdaScope Scope,
        ImmutableArray<NavigationProperty> Hops,
        NavigationProperty? Navigation,
        Property? Property,
        BoundExpression? Test
    )
    {
        public BoundExpression Number(BoundExpression count) =>
            Test is null
                ? count
                : new BoundCase([(Test, count), (new BoundNot(Test), new BoundConstant(0L, EdmType.Int64))], EdmType.Int64);

        public BoundExpression Condition(BoundExpression condition, bool isAll) =>
            Test is null ? condition
            : isAll ? new BoundLogical(BinaryOperator.Or, new BoundNot(Test), condition)
            : new BoundLogical(BinaryOperator.And, Test, condition);

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
            _scopes.Push(
                new LambdaScope(id, "$this", found.Scope.Set, []) { Item = new BoundItem(id, ItemType(found.Property, filter.Position)) }
            );
            var condition = BindCondition(filter);
            _scopes.Pop();
            return found.Number(new BoundOverValues(found.Values, id, OverValues.Count, condition));
        }
        return found.Number(Count(found.Scope.Id, found.Hops, found.Navigation!, count.Filter, count.Search, []));
    }

    /// <summary>
    /// The number of entities that a relation leads to, as far as they fulfil a filter and a search, in which their properties need no
    /// prefix.
    /// </summary>
    public BoundCount Count(
        string outer,
        ImmutableArray<NavigationProperty> hops,
        NavigationProperty navigation,
        ExpressionSyntax? filter,
        SearchSyntax? search,
        ImmutableArray<ComputeItemSyntax> compute
    )
    {
        var inner = new LambdaScope($"v{++_lambdas}", "", model.Target(navigation), []);
        var before = (_counted, _countedComputed);
        (_counted, _countedComputed) = (inner, []);
        foreach (var item in compute)
        {
            var value = BindComputed(item.Expression);
            if (ExpressionSize.Fault(value, target) is { } tooLarge)
                throw new FaultException(tooLarge);
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

    private BoundExpression BindLambda(LambdaSyntax lambda)
    {
        var found = Collection(lambda.Path);
        var id = $"v{++_lambdas}";
        var item = found.Property is { } property ? new BoundItem(id, ItemType(property, lambda.OperatorPosition)) : null;
        var inner = new LambdaScope(id, lambda.Variable?.Text ?? "", item is null ? model.Target(found.Navigation!) : found.Scope.Set, [])
        {
            Item = item,
        };
        if (_scopes.Any(s => s.Variable == inner.Variable && inner.Variable.Length > 0))
            throw Fault("variable", $"The name '{inner.Variable}' stands for another entity already.", lambda.Variable!.Position);
        if (_scopes.Count >= Limits.LambdaDepth)
            throw Fault("too-deep", $"any, all and $count nest more than {Limits.LambdaDepth} levels deep.", lambda.OperatorPosition);
        _scopes.Push(inner);
        var condition = lambda.Condition is { } syntax ? BindCondition(syntax) : null;
        _scopes.Pop();
        return found.Condition(
            item is not null
                ? new BoundOverValues(found.Values, id, lambda.IsAll ? OverValues.All : OverValues.Any, condition)
                : new BoundLambda(found.Scope.Id, found.Hops, found.Navigation!, inner.Set, inner.Id, lambda.IsAll)
                {
                    Condition = condition,
                    Joins = [.. inner.Joins],
                },
            lambda.IsAll
        );
    }

    private EdmType ItemType(Property property, int position) =>
        property.Type.Kind is EdmKind.String or EdmKind.Boolean
        || property.Type.IsNumeric
        || property.Type
            is {
                Kind: EdmKind.Int64
                    or EdmKind.Int32
                    or EdmKind.Int16
                    or EdmKind.Byte
                    or EdmKind.SByte
                    or EdmKind.Decimal
                    or EdmKind.Double
                    or EdmKind.Single
            }
            ? property.Type with
            {
                IsCollection = false,
            }
            : throw new FaultException(
                RequestFault.NotImplemented($"The values of '{property.Name}' cannot be queried one by one.", target, text, position)
            );

    /// <param name="Id">Empty for the entity that is asked for.</param>
    private sealed record LambdaScope(string Id, string Variable, EntitySet Set, List<LambdaJoin> Joins)
    {
        /// <summary>For the values of a property: one of them; null = the lambda is about entities.</summary>
        public BoundItem? Item { get; init; }
    }

    private BoundExpression BindRoot(RootSyntax root)
    {
        if (model.FindSet(root.Set.Text) is not { ContainedIn: null, IsFunction: false } found)
            throw Fault(
                "unknown-property",
                $"There is no entity set '{root.Set.Text}' to follow "
                    + $"$root.{NearestName.Hint(root.Set.Text, model.Sets.Where(s => s.ContainedIn is null).Select(s => s.Name))}",
                root.Set.Position
            );
        if (found.Source.Source != set.Source.Source)
            throw new FaultException(
                RequestFault.NotImplemented(
                    $"'{found.Name}' is in another database, and no expression can reach over.",
                    target,
                    text,
                    root.Set.Position
                )
            );
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
                return value is { Conversion: null or { Use: ConvertedUse.Anything }, Via: null }
                    ? new BoundRootValue(start, key, hops.ToImmutable(), value)
                    : throw Converted(value, $"used after {word}", name.Position);
            }
            if (name.Text.Contains('.'))
                throw new FaultException(
                    RequestFault.NotImplemented($"A type cast after {word} is not supported.", target, text, name.Position)
                );
            var navigation = Step(type, name);
            if (navigation.IsCollection)
                throw new FaultException(
                    RequestFault.NotImplemented(
                        $"'{name.Text}' leads to many entities, and after {word} only single ones can be followed.",
                        target,
                        text,
                        name.Position
                    )
                );
            var next = model.Target(navigation);
            hops.Add((navigation, next));
            type = next.Type;
        }
        throw Type($"An entity after {word} has no value; name one of its properties.", position);
    }
}
