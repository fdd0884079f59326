using System.Collections.Immutable;
using RapidGable.Changes;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;

namespace RapidGable.Payloads;

/// <summary>Where an answer goes on. It knows no protocol: each face writes it as a link of its own.</summary>
public abstract record Continuation;

/// <summary>The rows after those of this answer.</summary>
/// <param name="Position">The values of the order in the last row that was written.</param>
/// <param name="Followed">What changes will be followed from, on the last page; null = nobody follows.</param>
public sealed record NextPage(ImmutableArray<StoredValue> Position, FollowedChanges? Followed) : Continuation;

/// <summary>What will have changed since this answer.</summary>
public sealed record LaterChanges(FollowedChanges Followed) : Continuation;

/// <summary>The related entities of one parent after those of this answer.</summary>
/// <param name="Parent">The parent.</param>
/// <param name="Root">The entity of the answer's own rows that the parent is, or is nested in.</param>
/// <param name="Expand">The relation with its options.</param>
/// <param name="Position">As in <see cref="NextPage"/>.</param>
public sealed record RelatedPage(EntityAddress Parent, EntityAddress Root, BoundExpand Expand, ImmutableArray<StoredValue> Position)
    : Continuation;

/// <summary>How far a caller who follows changes has come.</summary>
/// <param name="Marks">One for each table that is followed.</param>
/// <param name="Fingerprint">Of the set whose changes are followed.</param>
public sealed record FollowedChanges(ImmutableArray<ChangeMark> Marks, string Fingerprint);

/// <summary>Writes where an answer goes on as a link of some protocol.</summary>
public interface ILinks
{
    /// <summary>The absolute address.</summary>
    string Of(Continuation continuation, QueryValues values);
}
