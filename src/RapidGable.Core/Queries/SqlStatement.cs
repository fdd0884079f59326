using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>SQL text with placeholders, and where the value of each comes from, in their order.</summary>
public sealed record SqlStatement(string Text, ImmutableArray<PlanParameter> Parameters);

/// <summary>The statements of one request shape, made once.</summary>
/// <param name="Main">The rows asked for.</param>
/// <param name="Count">Number of matches, for <c>$count=true</c>.</param>
/// <param name="Probe">Number of parents (0 or 1), asked only when <paramref name="Main"/> gives nothing.</param>
/// <param name="Children">Related rows, one statement for each expanded collection.</param>
public sealed record CompiledQuery(
    SqlStatement Main,
    SqlStatement? Count,
    SqlStatement? Probe,
    ImmutableArray<SqlStatement> Children,
    ResultShape Shape
)
{
    /// <summary>For each of <see cref="Children"/>: how many relations lead there from the page.</summary>
    public ImmutableArray<int> ChildDepths { get; init; } = [];

    /// <summary>Related rows in other sources.</summary>
    public ImmutableArray<RemoteStatements> Remotes { get; init; } = [];

    /// <summary>For an action: the statements before the last one, which <see cref="Main"/> is.</summary>
    public ImmutableArray<SqlStatement> Before { get; init; } = [];

    /// <summary>For an action: how the rows of <see cref="Main"/> are read; null = it is no action.</summary>
    public ActionResult? Result { get; init; }

    /// <summary>Runs first, in another source; null = the path stays in one.</summary>
    public BridgeStatement? Bridge { get; init; }

    /// <summary>For a result whose changes can be followed.</summary>
    public TrackingStatements? Tracking { get; init; }

    /// <summary><see cref="Count"/> only guards the number of rows, and is not told.</summary>
    public bool HidesCount { get; init; }

    /// <summary>Characters of all statements.</summary>
    internal long Characters =>
        Main.Text.Length
        + (Count?.Text.Length ?? 0)
        + (Probe?.Text.Length ?? 0)
        + Children.Sum(c => (long)c.Text.Length)
        + Remotes.Sum(r => (long)r.Batch.Text.Length);

    /// <summary>Several statements need one state of the data; related rows are read in step with their parents.</summary>
    public SessionKind Needs =>
        !Children.IsEmpty ? SessionKind.Interleaved
        : Count is not null || Probe is not null || !Remotes.IsEmpty ? SessionKind.OneState
        : SessionKind.Plain;
}

/// <param name="Keys">What the page's entities are related by.</param>
/// <param name="Batch">Related rows of a batch of these, in the other source.</param>
public sealed record RemoteStatements(RemotePlan Plan, SqlStatement Keys, SqlStatement Batch);

/// <param name="Statement">Gives one row, or none when the entity does not exist.</param>
public sealed record BridgeStatement(BridgePlan Plan, SqlStatement Statement);

/// <summary>How the changes of a set are found.</summary>
/// <param name="Marks">For the rows and the deletions: the highest stamp and the number of rows that have it; no row when there are
/// none.</param>
/// <param name="Counts">For both: how many rows have the stamp of the mark that the caller holds.</param>
/// <param name="Deleted">Keys of the rows that were deleted since; null = deletions are not told.</param>
public sealed record TrackingStatements(
    ChangeTracking Changes,
    ImmutableArray<SqlStatement> Marks,
    ImmutableArray<SqlStatement> Counts,
    SqlStatement? Deleted
);
