// $apply, bound: each stage takes the rows of the one before and gives rows of its own type. What a stage gives is an entity
// set that no declaration made, so that everything after it binds as it would to any other set.
using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <param name="Result">The rows after the stage: with the type of the input where it is kept.</param>
public abstract record BoundStage(EntitySet Result)
{
    /// <summary>All expressions of the stage.</summary>
    internal virtual IEnumerable<BoundExpression> Expressions => [];
}

/// <summary>Keeps the rows that fulfil a condition.</summary>
public sealed record BoundRestriction(EntitySet Result, BoundExpression Condition) : BoundStage(Result)
{
    internal override IEnumerable<BoundExpression> Expressions => [Condition];
}

/// <summary>Adds computed properties.</summary>
public sealed record BoundExtension(EntitySet Result, ImmutableArray<BoundComputed> Items) : BoundStage(Result)
{
    internal override IEnumerable<BoundExpression> Expressions => Items.Select(i => i.Expression);
}

/// <summary>The methods of aggregation (Data Aggregation 3.1.2).</summary>
public enum AggregationMethod
{
    Sum,
    Min,
    Max,
    Average,
    CountDistinct,
    Count,
}

/// <param name="Value">Null for the number of rows.</param>
/// <param name="Condition">Rows that do not fulfil it do not count; null = all do.</param>
public sealed record BoundAggregate(Property Property, AggregationMethod Method, BoundExpression? Value, BoundExpression? Condition);

/// <summary>One row for each combination of keys; without any, one row in all.</summary>
/// <param name="Keys">What is grouped by, and the property of the result that holds it.</param>
/// <param name="Sets">The combinations of keys that are grouped by, each as numbers of <paramref name="Keys"/>; several for a
/// rollup.</param>
public sealed record BoundGroup(
    EntitySet Result,
    ImmutableArray<(BoundProperty From, Property To)> Keys,
    ImmutableArray<BoundAggregate> Aggregates,
    ImmutableArray<ImmutableArray<int>> Sets
) : BoundStage(Result)
{
    internal override IEnumerable<BoundExpression> Expressions =>
        Keys.Select(k => (BoundExpression)k.From)
            .Concat(Aggregates.SelectMany(a => new[] { a.Value, a.Condition }).OfType<BoundExpression>());
}

/// <summary>Keeps the highest or lowest rows.</summary>
/// <param name="Limit">How many, or the sum or percentage that they reach together.</param>
/// <param name="Partition">The groups within which they are ranked; empty = all rows are one.</param>
public sealed record BoundRanking(
    EntitySet Result,
    RankKind Kind,
    bool IsTop,
    BoundLiteral Limit,
    BoundExpression By,
    ImmutableArray<BoundProperty> Partition
) : BoundStage(Result)
{
    internal override IEnumerable<BoundExpression> Expressions => Partition.Prepend(By);
}

/// <summary>A part of the rows in an order.</summary>
public sealed record BoundSlice(EntitySet Result, ImmutableArray<BoundOrderTerm> Order, int? Skip, int? Top) : BoundStage(Result)
{
    internal override IEnumerable<BoundExpression> Expressions => Order.Select(o => o.Expression);
}

/// <summary>The rows of several sequences over the same input, one after the other.</summary>
/// <param name="Branches">For each sequence its stages, and for each property of the result the property of the sequence's rows; null =
/// it has none.</param>
public sealed record BoundUnion(
    EntitySet Result,
    ImmutableArray<(ImmutableArray<BoundStage> Stages, EntitySet Rows, ImmutableArray<Property?> Columns)> Branches
) : BoundStage(Result)
{
    /// <summary>The properties of the result that have columns.</summary>
    public ImmutableArray<Property> Columns { get; init; } = [];

    internal override IEnumerable<BoundExpression> Expressions => Branches.SelectMany(b => b.Stages.SelectMany(s => s.Expressions));
}

/// <param name="Input">The set that the path addresses.</param>
/// <param name="IsTransient">The result's rows are no entities of the set any more.</param>
public sealed record BoundApply(EntitySet Input, ImmutableArray<BoundStage> Stages, EntitySet Result, bool IsTransient);
