using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Payloads;

/// <summary>
/// What a format does with the rows of an answer. <see cref="RowWalk"/> calls it in the order in which an answer is written; a cursor
/// that it is given stands on the row that the call is about, and moves on afterwards.
/// </summary>
internal interface IRowVisitor
{
    /// <summary>An entity of a list begins.</summary>
    void BeginEntity(EntityNode node);

    /// <summary>The entity's own values and its control information. What it is related to follows.</summary>
    void Values(EntityNode node, IRowCursor row);

    /// <summary>An entity of a list ends.</summary>
    void EndEntity(EntityNode node);

    /// <summary>The one related entity begins.</summary>
    void BeginSingle(EntityNode related);

    /// <summary>The one related entity ends.</summary>
    void EndSingle(EntityNode related);

    /// <summary>There is no related entity.</summary>
    void NoSingle(EntityNode related);

    /// <summary>How many related entities there are before paging.</summary>
    void Count(EntityNode related, long count);

    /// <summary>The list of related entities begins.</summary>
    void BeginMany(EntityNode related);

    /// <summary>The list of related entities ends.</summary>
    /// <param name="next">Where it goes on; null = this was all of it.</param>
    void EndMany(EntityNode related, RelatedPage? next);

    /// <summary>Writes an entity beside the answer, to be put into it later.</summary>
    /// <param name="members">Calls the visitor for what the entity consists of.</param>
    ReadOnlyMemory<byte> Apart(EntityNode related, Action members);

    /// <summary>Puts an entity of a list into the answer.</summary>
    void Insert(EntityNode related, ReadOnlyMemory<byte> entity);

    /// <summary>Puts the one related entity into the answer.</summary>
    void InsertSingle(EntityNode related, ReadOnlyMemory<byte> entity);

    /// <summary>An entity that a caller who follows changes knows, and that is no longer part of the result.</summary>
    /// <param name="shape">How its key is read from the row.</param>
    /// <param name="isDeleted">It is gone, and not only changed so that it no longer belongs to the result.</param>
    void Removed(EntityShape shape, IRowCursor row, bool isDeleted);

    /// <summary>Between two entities: sends what has gathered, if it is much.</summary>
    ValueTask SendIfFullAsync(CancellationToken cancellation);
}
