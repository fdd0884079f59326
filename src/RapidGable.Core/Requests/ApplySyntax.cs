// The syntax of $apply (Data Aggregation 3): transformations, each of which makes a new collection of the one before.
using System.Collections.Immutable;
using RapidGable.Expressions;

namespace RapidGable.Requests;

/// <param name="Position">Where its name stands.</param>
public abstract record TransformationSyntax(int Position);

/// <summary><c>identity</c> (Data Aggregation 3.4.1).</summary>
public sealed record IdentitySyntax(int Position) : TransformationSyntax(Position);

/// <summary><c>filter(…)</c> as a transformation (Data Aggregation 3.3.2).</summary>
public sealed record RestrictSyntax(ExpressionSyntax Condition, int Position) : TransformationSyntax(Position);

/// <summary><c>search(…)</c> as a transformation (Data Aggregation 3.3.5).</summary>
public sealed record FindSyntax(SearchSyntax Search, int Position) : TransformationSyntax(Position);

/// <summary><c>compute(…)</c> as a transformation (Data Aggregation 3.3.1).</summary>
public sealed record ExtendSyntax(ImmutableArray<ComputeItemSyntax> Items, int Position) : TransformationSyntax(Position);

/// <param name="Keys">Paths that are grouped by, alone.</param>
/// <param name="Rollups">Hierarchies of paths, the first of which is the top; with <c>All</c> there is a total above it.</param>
/// <param name="Then">What is done with each group; empty = nothing, the groups alone are the result.</param>
public sealed record GroupSyntax(
    ImmutableArray<ImmutableArray<NameSyntax>> Keys,
    ImmutableArray<RollupSyntax> Rollups,
    ImmutableArray<TransformationSyntax> Then,
    int Position
) : TransformationSyntax(Position);

/// <summary><c>rollup(…)</c> within groupby (Data Aggregation 3.2.3).</summary>
public sealed record RollupSyntax(bool All, ImmutableArray<ImmutableArray<NameSyntax>> Levels);

/// <summary><c>aggregate(…)</c> (Data Aggregation 3.2.1).</summary>
public sealed record AggregateSyntax(ImmutableArray<AggregateItemSyntax> Items, int Position) : TransformationSyntax(Position);

/// <param name="Value">Null = the instances themselves, for <c>$count</c>.</param>
/// <param name="Method">The word after <c>with</c>; null = none, which only a count may have.</param>
public sealed record AggregateItemSyntax(ExpressionSyntax? Value, NameSyntax? Method, NameSyntax Alias);

/// <summary><c>concat(…)</c> (Data Aggregation 3.2.4).</summary>
public sealed record ConcatSyntax(ImmutableArray<ImmutableArray<TransformationSyntax>> Sequences, int Position)
    : TransformationSyntax(Position);

/// <summary>What a limit of the highest or lowest speaks of.</summary>
public enum RankKind
{
    Count,
    Sum,
    Percent,
}

/// <param name="IsTop">The highest, else the lowest.</param>
/// <param name="Limit">Slot of the limit.</param>
public sealed record RankSyntax(RankKind Kind, bool IsTop, LiteralSyntax Limit, ExpressionSyntax By, int Position)
    : TransformationSyntax(Position);

/// <summary><c>orderby</c>, <c>skip</c> or <c>top</c> as transformations.</summary>
/// <param name="Skip">Slot; null = none.</param>
public sealed record SliceSyntax(ImmutableArray<OrderTermSyntax> Order, int? Skip, int? Top, int Position) : TransformationSyntax(Position);
