using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Changes;

/// <summary>What the entity of a body is for.</summary>
public enum SentFor
{
    Create,

    /// <summary>Only what is sent changes (PATCH).</summary>
    Merge,

    /// <summary>What is not sent becomes its default (PUT).</summary>
    Replace,
}

/// <summary>What a caller may send.</summary>
/// <param name="Model">What they may address.</param>
/// <param name="Access">What they may write of a set by one operation; null = nothing.</param>
public sealed record WritableModel(EntityModel Model, Func<EntitySet, SetOperations, WriteAccess?> Access);

/// <summary>A reference to an entity that is there.</summary>
/// <param name="Address">As the face spells it.</param>
/// <param name="ETag">The state that the change is about; null = not said.</param>
public sealed record SentReference(string Address, string? ETag);

/// <summary>
/// The body of a request in some format. It is read when it is known what it is for, and gives what is to be written; a format implements
/// it, so that changes know none. Everything that is wrong is found at once.
/// </summary>
public interface ISentBody
{
    /// <summary>One entity.</summary>
    /// <param name="given">Columns whose values the address gives.</param>
    Result<SentEntity> Entity(WritableModel writable, EntitySet set, SentFor use, IReadOnlyCollection<string> given);

    /// <summary>Whether it holds a list of entities to create.</summary>
    bool IsList { get; }

    /// <summary>All entities of such a list, in its order.</summary>
    /// <param name="given">As in <see cref="Entity"/>.</param>
    Result<IReadOnlyList<SentEntity>> Entities(WritableModel writable, EntitySet set, IReadOnlyCollection<string> given);

    /// <summary>The value of one property, as an entity that holds nothing else.</summary>
    /// <param name="group">The complex property that it is a member of; null = none.</param>
    Result<SentEntity> Property(WritableModel writable, EntitySet set, Property? group, Property property, SentFor use);

    /// <summary>One more item for a property that holds a collection, in the form that the column keeps.</summary>
    Result<string> Item(Property property);

    /// <summary>References to entities: one, or a list; never empty.</summary>
    Result<IReadOnlyList<SentReference>> References();

    /// <summary>Entities to create, change and delete, each with what is wrong with it; a fault is about the body as a whole.</summary>
    Result<IReadOnlyList<DeltaItem>> Delta(WritableModel writable, EntitySet set);
}
