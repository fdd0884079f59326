// What a request sends to be written, bound to the model: names have become properties, values have the types of these.
using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Changes;

/// <summary>A value for one column.</summary>
/// <param name="Property">A property with a column of its own; a member, when it stands in a complex value.</param>
/// <param name="Value">A published value, JSON text for values that are kept as JSON; null = null.</param>
/// <param name="Path">Where it stands in the body, for errors.</param>
public sealed record SentValue(Property Property, object? Value, string Path)
{
    /// <summary>For JSON text of a complex value: its members change those that there are (M-16).</summary>
    public bool IsMerged { get; init; }

    /// <summary>A relation to another entity gives the value.</summary>
    public bool IsRelated { get; init; }
}

/// <summary>An entity of a set.</summary>
/// <param name="Set">As the caller may address it.</param>
/// <param name="Path">Where it stands in the body, with a slash at its end; empty = it is the body.</param>
public sealed record SentEntity(EntitySet Set, ImmutableArray<SentValue> Values, ImmutableArray<SentRelation> Relations, string Path = "")
{
    /// <summary>An entity of which nothing is sent.</summary>
    public static SentEntity Nothing(EntitySet set) => new(set, [], []);

    /// <summary>The entity's own address; null = not said.</summary>
    public string? Id { get; init; }

    /// <summary>The state that the change is about, as an entity tag; null = not said.</summary>
    public string? ETag { get; init; }

    /// <summary>The derived type that the body names; null = the set's own.</summary>
    public DerivedType? Type { get; init; }

    /// <summary>The values of the key as far as the body holds them, which tell an entity in a collection from the others.</summary>
    public ImmutableArray<SentValue> Key { get; init; } = [];
}

/// <summary>How the related entities of a body stand to those that there are.</summary>
public enum RelationMode
{
    /// <summary>They are added to those that there are (<c>@odata.bind</c> of 4.0).</summary>
    Add,

    /// <summary>They are all that there are to be (JSON format 8.5, a deep update).</summary>
    Replace,

    /// <summary>Only what is listed changes (JSON format 8.5.2, a nested delta).</summary>
    Delta,
}

/// <summary>Related entities in a body; for a single-valued navigation property one, or none to clear it.</summary>
/// <param name="Target">The set that they are of, as the caller may address it.</param>
public sealed record SentRelation(
    NavigationProperty Navigation,
    EntitySet Target,
    RelationMode Mode,
    ImmutableArray<SentRelated> Items,
    string Path
);

/// <summary>One of them.</summary>
/// <param name="Reference">The address of an entity that is there; null = <paramref name="Entity"/> says it.</param>
/// <param name="Entity">The entity itself; null = a reference only.</param>
public sealed record SentRelated(string? Reference, SentEntity? Entity, string Path)
{
    /// <summary>The state of it that the change is about, as an entity tag; null = not said.</summary>
    public string? ETag { get; init; }

    /// <summary>It is to be taken away: true = deleted, false = no longer related; null = it is there.</summary>
    public bool? Removed { get; init; }
}

/// <summary>An item of a delta payload.</summary>
/// <param name="Number">Its place in the payload, from 0.</param>
/// <param name="Related">What it says; null = nothing that can be understood.</param>
/// <param name="Faults">What is wrong with it; empty = nothing.</param>
public sealed record DeltaItem(int Number, SentRelated? Related, ImmutableArray<RequestFault> Faults);
