using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>A step of a path with names resolved. The kinds are those of this file.</summary>
public abstract record BoundSegment
{
    private protected BoundSegment() { }
}

/// <summary>The metadata document.</summary>
public sealed record MetadataSegment : BoundSegment;

/// <summary>The set that the path starts in.</summary>
/// <param name="IsCrossJoin">It stands for combinations of entities, and its relations lead to these.</param>
public sealed record SetSegment(EntitySet Set, bool IsCrossJoin = false) : BoundSegment;

/// <summary>The rows of an operation that the path starts with.</summary>
/// <param name="Arguments">What it is called with, by the placeholders of its parameters.</param>
public sealed record OperationSegment(Operation Operation, ImmutableDictionary<string, BoundLiteral> Arguments) : BoundSegment
{
    /// <summary>The entity that it is asked of; null = of none.</summary>
    public BoundPath? Entity { get; init; }
}

/// <summary>A call of a function whose rows are entities of a set: those of the set that the function names.</summary>
public sealed record AmongSegment(EntitySet Set, BoundExpression Test, ImmutableDictionary<string, BoundLiteral> Arguments) : BoundSegment
{
    /// <summary>As in <see cref="OperationSegment.Entity"/>.</summary>
    public BoundPath? Entity { get; init; }
}

/// <summary>One entity of the collection before, in parentheses or as segments of its own.</summary>
public sealed record KeySegment(BoundKey Key) : BoundSegment;

/// <summary>Those of the collection before that fulfil a condition (URL conventions 4.12).</summary>
public sealed record FilterSegment(BoundExpression Condition) : BoundSegment;

/// <summary>Those that are of a derived type (URL conventions 4.11).</summary>
/// <param name="Set">The set with the properties of that type.</param>
/// <param name="Test">What tells them from others.</param>
public sealed record CastSegment(DerivedType Type, EntitySet Set, BoundExpression Test) : BoundSegment;

/// <summary>What the entity before is related to.</summary>
public sealed record NavigationSegment(NavigationProperty Navigation, EntitySet Target) : BoundSegment;

/// <summary>The value of a property, or of a member of the complex one before.</summary>
public sealed record PropertySegment(Property Property) : BoundSegment;

/// <summary><c>$value</c>: the value as it is.</summary>
public sealed record ValueSegment : BoundSegment;

/// <summary><c>$count</c>: how many there are.</summary>
public sealed record CountSegment : BoundSegment;

/// <summary><c>$ref</c>: only references to the entities (Protocol 11.2.9).</summary>
public sealed record ReferenceSegment : BoundSegment;

/// <summary><c>$each</c>: every member of the collection by itself, to be changed (URL conventions 4.14).</summary>
public sealed record EachSegment : BoundSegment;

/// <summary>A step from one entity over a navigation property, to one member when there is a key.</summary>
public sealed record BoundHop(NavigationProperty Navigation, EntitySet Target, BoundKey? Key)
{
    /// <summary>What the entity before the step must fulfil.</summary>
    public ImmutableArray<BoundExpression> Before { get; init; } = [];
}

/// <summary>
/// What a path addresses: a row of segments. What its other members say is folded from them once, so that a path is changed by its
/// segments alone.
/// </summary>
public sealed class BoundPath
{
    private readonly List<BoundHop> _hops = [];
    private readonly List<BoundExpression> _filters = [];
    private bool _isSingle;

    public BoundPath(ImmutableArray<BoundSegment> segments)
    {
        Segments = segments;
        Kind = ResourceKind.ServiceDocument;
        foreach (var segment in segments)
            Fold(segment);
        Hops = [.. _hops];
        Filters = [.. _filters];
    }

    /// <summary>In the order of the address; empty = the service document.</summary>
    public ImmutableArray<BoundSegment> Segments { get; }

    public ResourceKind Kind { get; private set; }

    /// <summary>The set that the path starts in; null for the documents.</summary>
    public EntitySet? Root { get; private set; }

    /// <summary>The key of the entity that the path starts with; null = it starts with a collection.</summary>
    public BoundKey? RootKey { get; private set; }

    /// <summary>What the operation that the path starts with is called with, by the placeholders of its parameters.</summary>
    public ImmutableDictionary<string, BoundLiteral> Arguments { get; private set; } = ImmutableDictionary<string, BoundLiteral>.Empty;

    /// <summary>The entities that the path starts with are those that a function names.</summary>
    public bool IsOfFunction { get; private set; }

    /// <summary>The entity that the operation is asked of, which must be there for the caller; null = of none.</summary>
    public BoundPath? BoundEntity =>
        Segments is [OperationSegment { Entity: { } asked }, ..] ? asked
        : Segments is [AmongSegment { Entity: { } other }, ..] ? other
        : null;

    /// <summary>The steps over relations.</summary>
    public ImmutableArray<BoundHop> Hops { get; }

    /// <summary>For a property's value.</summary>
    public Property? Property { get; private set; }

    /// <summary>The complex property that <see cref="Property"/> is a member of; null = none.</summary>
    public Property? Group { get; private set; }

    /// <summary>The type that the path casts to at its end; null = none.</summary>
    public DerivedType? Cast { get; private set; }

    /// <summary>Conditions of the path itself, about what it ends with.</summary>
    public ImmutableArray<BoundExpression> Filters { get; }

    /// <summary>Only references to the entities.</summary>
    public bool IsReference { get; private set; }

    /// <summary>Every member of the collection by itself, to be changed.</summary>
    public bool IsEach { get; private set; }

    /// <summary>
    /// The path is a <c>$crossjoin</c>: <see cref="Root"/> stands for the combinations, and its relations lead to the entities.
    /// </summary>
    public bool IsCrossJoin { get; private set; }

    /// <summary>The set whose entities, or whose property, is asked for.</summary>
    public EntitySet Target => Hops.Length > 0 ? Hops[^1].Target : Root!;

    /// <summary>The path of the entity or the entities themselves, without what follows them.</summary>
    public BoundPath Entities =>
        Segments.All(s => !IsBehindEntities(s)) ? this : new BoundPath([.. Segments.TakeWhile(s => !IsBehindEntities(s))]);

    /// <summary>The path of the entity that a step starts from.</summary>
    /// <param name="step">Number of the step among <see cref="Hops"/>.</param>
    public BoundPath Before(int step)
    {
        var steps = 0;
        return new BoundPath([.. Segments.TakeWhile(s => s is not NavigationSegment || steps++ < step)]);
    }

    private static bool IsBehindEntities(BoundSegment segment) =>
        segment is PropertySegment or ValueSegment or CountSegment or ReferenceSegment or EachSegment;

    private void Fold(BoundSegment segment)
    {
        switch (segment)
        {
            case MetadataSegment:
                Kind = ResourceKind.Metadata;
                break;
            case SetSegment start:
                (Root, IsCrossJoin, Kind) = (start.Set, start.IsCrossJoin, ResourceKind.Collection);
                break;
            case OperationSegment { Operation.Rows: var rows, Arguments: var arguments }:
                (Root, Arguments) = (rows, arguments);
                _isSingle = rows!.Gives != QueryResult.Rows;
                Kind = _isSingle ? ResourceKind.Entity : ResourceKind.Collection;
                break;
            case AmongSegment among:
                (Root, Arguments, IsOfFunction) = (among.Set, among.Arguments, true);
                Kind = ResourceKind.Collection;
                _filters.Add(among.Test);
                break;
            case KeySegment { Key: var key }:
                Become(key: key);
                (_isSingle, Kind) = (true, ResourceKind.Entity);
                break;
            case FilterSegment filter:
                _filters.Add(filter.Condition);
                break;
            case CastSegment cast:
                Become(set: cast.Set);
                _filters.Add(cast.Test);
                Cast = cast.Type;
                break;
            case NavigationSegment step:
                // Conditions so far are about the entity before.
                _hops.Add(new BoundHop(step.Navigation, step.Target, null) { Before = [.. _filters] });
                _filters.Clear();
                Cast = null;
                _isSingle = !step.Navigation.IsCollection;
                Kind = _isSingle ? ResourceKind.Entity : ResourceKind.Collection;
                break;
            case PropertySegment { Property: var property }:
                (Group, Property) = (Property, property);
                Kind = property.Type.Kind == EdmKind.Stream ? ResourceKind.RawValue : ResourceKind.PropertyValue;
                break;
            case ValueSegment:
                Kind = ResourceKind.RawValue;
                break;
            case CountSegment:
                Kind = Property is null ? ResourceKind.Count : ResourceKind.ValueCount;
                break;
            case ReferenceSegment:
                IsReference = true;
                break;
            case EachSegment:
                IsEach = true;
                break;
            default:
                throw new ArgumentOutOfRangeException(nameof(segment), segment.GetType().Name);
        }
    }

    /// <summary>Gives the set or the entity that the path is at another set or a key.</summary>
    private void Become(EntitySet? set = null, BoundKey? key = null)
    {
        if (_hops.Count > 0)
            _hops[^1] = _hops[^1] with { Target = set ?? _hops[^1].Target, Key = key ?? _hops[^1].Key };
        else
            (Root, RootKey) = (set ?? Root, key ?? RootKey);
    }
}
