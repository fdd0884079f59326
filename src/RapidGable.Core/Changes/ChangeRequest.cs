using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;

namespace RapidGable.Changes;

/// <summary>What a request does to what it addresses.</summary>
public enum ChangeVerb
{
    Post,
    Patch,
    Put,
    Delete,
}

/// <summary>A request that changes something, with all that it brings along.</summary>
/// <param name="Body">Entities, values or references; null = none, or raw content.</param>
/// <param name="Content">Raw content of a stream or a value; null = the request has a body of another kind, or none.</param>
/// <param name="ContentType">Media type of <paramref name="Content"/>.</param>
/// <param name="Addresses">How the face spells those of entities.</param>
public sealed record ChangeRequest(
    ChangeVerb Verb,
    PreparedChange Change,
    ISpelledRequest Spelled,
    ISentBody? Body,
    byte[]? Content,
    string? ContentType,
    Preconditions Preconditions,
    IEntityAddresses Addresses
)
{
    /// <summary>For a DELETE of references: the one that goes (<c>$id</c>); null = not said.</summary>
    public string? Id { get; init; }

    /// <summary>For a DELETE of references that names none: whether all of them go; else it is refused.</summary>
    public bool MayRemoveAllReferences { get; init; } = true;

    /// <summary>Whether a change of an entity that is not there creates it, where the address gives its key (Protocol 11.4.4).</summary>
    public bool MayCreate { get; init; } = true;

    /// <summary>Of many entities those that can change do, and the others are told (Protocol 8.2.8.3).</summary>
    public bool ContinuesOnError { get; init; }

    /// <summary>Called with the address of the entity before it changes, in the transaction; null = nobody asks.</summary>
    public Func<string, Task>? Before { get; init; }
}

/// <summary>What was done.</summary>
public enum ChangeOutcome
{
    Created,
    Updated,
    Deleted,
    Linked,
}

/// <param name="Address">Of the entity below the service root, encoded; null = it is gone, or there are several.</param>
/// <param name="Nested">What of its related entities was sent, as a value of <c>$expand</c>; empty = nothing.</param>
public sealed record ChangeResult(ChangeOutcome Outcome, string? Address, string Nested = "")
{
    /// <summary>The set of the entity.</summary>
    public EntitySet? Set { get; init; }

    /// <summary>For a change of many: each of them, in the order of the request.</summary>
    public ImmutableArray<ChangedMember> Members { get; init; } = [];
}
