using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Queries;

namespace RapidGable.Payloads.Flat;

/// <summary>A column of a flat form.</summary>
/// <param name="Name">Names joined by slashes: <c>Station/name</c>.</param>
/// <param name="Cell">Where its value is; null = it holds related rows as JSON text.</param>
public sealed record FlatColumn(string Name, ShapeCell? Cell)
{
    /// <summary>The property whose value it holds; null as <see cref="Cell"/>.</summary>
    public Property? Property => Cell?.Property;
}

/// <summary>
/// The tree of a result as one row of columns: members of complex values and single related entities stand side by side, and lists of
/// related entities are one column each. The columns stand in the order in which <see cref="RowWalk"/> comes to them.
/// </summary>
internal sealed class FlatColumns
{
    private readonly List<FlatColumn> _columns = [];
    private readonly int[] _first;

    public FlatColumns(ImmutableArray<EntityNode> tree)
    {
        _first = new int[tree.Length];
        Add(tree[0], "");
        All = [.. _columns];
    }

    public ImmutableArray<FlatColumn> All { get; }

    /// <summary>The first column of an entity, or the one column of a list.</summary>
    public int FirstOf(EntityNode node) => _first[node.Number];

    private void Add(EntityNode node, string before)
    {
        _first[node.Number] = _columns.Count;
        foreach (var cell in node.Shape.Cells.Concat(node.Shape.Computed))
            Add(cell, before);
        foreach (var single in node.Singles)
            Add(single.Entity, $"{before}{single.Entity.Name}/");
        foreach (var many in node.Many)
            AddList(many.Entity, before);
        foreach (var remote in node.Remotes)
            AddList(remote.Entity, before);
    }

    private void Add(ShapeCell cell, string before)
    {
        if (!cell.Property.IsGroup)
            _columns.Add(new FlatColumn(before + cell.Property.Name, cell));
        foreach (var member in cell.Members)
            Add(member, $"{before}{cell.Property.Name}/");
    }

    private void AddList(EntityNode node, string before)
    {
        _first[node.Number] = _columns.Count;
        _columns.Add(new FlatColumn(before + node.Name, null));
    }
}
