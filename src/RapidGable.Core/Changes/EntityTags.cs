using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>Entity tags of sets that have them.</summary>
internal static class EntityTags
{
    /// <summary>The columns that a tag is made of.</summary>
    public static IReadOnlyList<Property> Columns(EntitySet set) => set.Version is { } version ? [version] : [.. Planner.RowState(set)];

    /// <param name="cells">Of <see cref="Columns"/>.</param>
    public static string? Of(EntitySet set, ImmutableArray<ShapeCell> cells, IRowCursor row) =>
        CellText.ETag(
            new EntityShape(set, BoundSelect.Nothing, [], [], [], [])
            {
                Version = set.Version is null ? null : cells[0],
                RowState = set.Version is null ? cells : [],
            },
            row
        );
}
