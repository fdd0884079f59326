using System.Collections.Immutable;
using RapidGable.Queries;

namespace RapidGable.Payloads;

/// <summary>
/// An entity in the tree of a result: the rows' own, or one that they are related to. Nodes are numbered, so that a format keeps what it
/// has prepared for each of them in an array.
/// </summary>
internal sealed class EntityNode
{
    private EntityNode(EntityShape shape, List<EntityNode> all)
    {
        Shape = shape;
        Number = all.Count;
        all.Add(this);
        Singles = [.. shape.Singles.Select(s => new SingleNode(s, new EntityNode(s.Entity, all) { Name = s.Navigation.Name }))];
        Many = [.. shape.Many.Select(m => new ManyNode(m, new EntityNode(m.Entity, all) { Name = m.Navigation.Name }))];
        Remotes = [.. shape.Remotes.Select(r => new RemoteNode(r, new EntityNode(r.Entity, all) { Name = r.Navigation.Name }))];
        HasRows = shape.HasRows;
    }

    /// <summary>The tree of a result.</summary>
    /// <returns>All nodes in the order of their numbers; the first is that of the rows themselves.</returns>
    public static ImmutableArray<EntityNode> TreeOf(EntityShape shape)
    {
        var all = new List<EntityNode>();
        _ = new EntityNode(shape, all);
        return [.. all];
    }

    /// <summary>Its place in the tree, from 0.</summary>
    public int Number { get; }

    /// <summary>Of the relation that leads to it; empty = it is that of the rows themselves.</summary>
    public string Name { get; private init; } = "";

    public EntityShape Shape { get; }

    public ImmutableArray<SingleNode> Singles { get; }

    public ImmutableArray<ManyNode> Many { get; }

    public ImmutableArray<RemoteNode> Remotes { get; }

    /// <summary>Whether rows of other statements belong to it.</summary>
    public bool HasRows { get; }
}

/// <summary>A related entity in the same row.</summary>
internal sealed record SingleNode(SingleShape Shape, EntityNode Entity);

/// <summary>Related entities from a statement of their own.</summary>
internal sealed record ManyNode(ManyShape Shape, EntityNode Entity);

/// <summary>Related entities in another source.</summary>
internal sealed record RemoteNode(RemoteShape Shape, EntityNode Entity);
