using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Changes;

/// <summary>Where an entity is found, before a face spells it.</summary>
/// <param name="Set">The set that the entity is of.</param>
/// <param name="Key">Published values of its key.</param>
/// <param name="Container">The entity that a contained one is part of; null = it stands for itself.</param>
public sealed record EntityAddress(EntitySet Set, ImmutableArray<object> Key, ContainerAddress? Container);

/// <param name="Navigation">Leads from the container to the contained entity.</param>
public sealed record ContainerAddress(EntitySet Set, ImmutableArray<object> Key, NavigationProperty Navigation);

/// <summary>How a face spells the addresses of entities.</summary>
public interface IEntityAddresses
{
    /// <summary>Below the service root, encoded.</summary>
    string Of(EntityAddress entity);

    /// <summary>The request that a reference in a body stands for; null = it is no address of this service.</summary>
    ISpelledRequest? Find(string reference);
}
