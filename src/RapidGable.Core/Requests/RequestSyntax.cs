using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <param name="All">An asterisk is among the items.</param>
public sealed record SelectSyntax(bool All, ImmutableArray<SelectItemSyntax> Items);

/// <param name="Path">The property, and the members of complex values that lead on.</param>
/// <param name="Select">The nested <c>$select</c>; null = none.</param>
public sealed record SelectItemSyntax(ImmutableArray<NameSyntax> Path, SelectSyntax? Select);

/// <summary>What of the related entities is wanted.</summary>
public enum ExpandKind
{
    Entities,
    References,
    Count,
}

/// <param name="Name">Null for <c>*</c>, all navigation properties.</param>
/// <param name="Select">The nested <c>$select</c>; null = none.</param>
public sealed record ExpandItemSyntax(NameSyntax? Name, SelectSyntax? Select)
{
    public ExpandKind Kind { get; init; }

    /// <summary>The type that entities are cast to before; null = none.</summary>
    public NameSyntax? Cast { get; init; }

    public int Position { get; init; }

    public ExpressionSyntax? Filter { get; init; }

    public SearchSyntax? Search { get; init; }

    public ImmutableArray<ComputeItemSyntax> Compute { get; init; } = [];

    public ImmutableArray<OrderTermSyntax> OrderBy { get; init; } = [];

    public ImmutableArray<ExpandItemSyntax> Expand { get; init; } = [];

    /// <summary>Slot of the nested <c>$top</c>; null = not given.</summary>
    public int? Top { get; init; }

    public int? Skip { get; init; }

    public bool Count { get; init; }

    /// <summary>How often a recursive relation is followed, 1 when nothing is said; <see cref="int.MaxValue"/> for <c>max</c>.</summary>
    public int Levels { get; init; } = 1;

    /// <summary>Where the nested options stand, by their names; links to further related entities repeat them.</summary>
    public ImmutableArray<NestedOption> Options { get; init; } = [];
}

/// <summary>A nested option that a next link repeats: the tokens of its value, from the first to the one behind the last.</summary>
public sealed record NestedOption(string Name, int FirstToken, int EndToken);

/// <summary>A path segment with a name, and a key predicate if it has one.</summary>
/// <param name="Slot">The whole segment as text, for where it stands for a key; -1 = it cannot.</param>
public sealed record SegmentSyntax(string Name, ImmutableArray<KeyPartSyntax>? Key, int Slot = -1)
{
    public bool IsSystem => Name.StartsWith('$') && !IsText && !IsPlain;

    /// <summary>No name, so nothing but a key.</summary>
    public bool IsText { get; init; }

    /// <summary>What the address has in the place of the name; null = the name itself.</summary>
    public string? Written { get; init; }

    /// <summary>A name or a value of a key, whichever fits there; neither a system resource nor a type.</summary>
    public bool IsPlain { get; init; }

    /// <summary>The sets of a <c>$crossjoin(…)</c>.</summary>
    public ImmutableArray<NameSyntax> Sets { get; init; } = [];

    /// <summary>The condition of a <c>$filter(…)</c> segment.</summary>
    public ExpressionSyntax? Filter { get; init; }
}

/// <summary>A parsed request. Slots point into the literals that came with it.</summary>
public sealed record RequestSyntax(ImmutableArray<SegmentSyntax> Path)
{
    /// <summary>The work that the request may still take.</summary>
    public StepBudget Steps { get; init; } = new();

    /// <summary>How plain segments write the names of properties and relations.</summary>
    public Casing Casing { get; init; }

    /// <summary>Null = not given.</summary>
    public ImmutableArray<TransformationSyntax>? Apply { get; init; }

    public ExpressionSyntax? Filter { get; init; }

    public SearchSyntax? Search { get; init; }

    public ImmutableArray<ComputeItemSyntax> Compute { get; init; } = [];

    public ImmutableArray<OrderTermSyntax> OrderBy { get; init; } = [];

    public SelectSyntax? Select { get; init; }

    public ImmutableArray<ExpandItemSyntax> Expand { get; init; } = [];

    /// <summary>Slot of <c>$top</c>; null = not given.</summary>
    public int? Top { get; init; }

    public int? Skip { get; init; }

    public bool Count { get; init; }

    /// <summary>For each position value of the <c>$skiptoken</c>, whether it is null; null = no token.</summary>
    public ImmutableArray<bool>? PositionNulls { get; init; }

    /// <summary>
    /// The order that the position was made for, see <see cref="OrderPrint"/>, and the one that is asked now; null = no token.
    /// </summary>
    public (string Print, string Asked)? PositionOrder { get; init; }

    /// <summary>Only what has changed is asked for.</summary>
    public bool IsDelta { get; init; }

    /// <summary>The system options that are present, by their canonical names.</summary>
    public ImmutableArray<string> Options { get; init; } = [];

    /// <summary>The decoded texts that positions refer to, by option name.</summary>
    public ImmutableDictionary<string, string> Texts { get; init; } = ImmutableDictionary<string, string>.Empty;
}
