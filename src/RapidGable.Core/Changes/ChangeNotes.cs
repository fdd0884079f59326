using RapidGable.Model;

namespace RapidGable.Changes;

/// <summary>Notes of changes in a table of their own: who changed what, when, and how it was before and is now.</summary>
internal static class ChangeNotes
{
    /// <summary>The columns whose values are noted: all but streams.</summary>
    public static List<Property> Columns(EntitySet set) =>
        [
            .. set
                .Type.Properties.SelectMany(p => p.Leaves)
                .Concat(set.Type.Hidden)
                .Where(p => p.Expression is null && p.Type.Kind != EdmKind.Stream && p.StoredType.Kind != EdmKind.Binary),
        ];

    /// <summary>Adds a note in the same transaction. A change that changed nothing leaves none.</summary>
    public static async Task WriteAsync(
        ChangeUnit unit,
        EntitySet set,
        EntityRow row,
        string operation,
        object?[]? before,
        object?[]? after,
        ChangeStatements statements
    )
    {
        var columns = Columns(set);
        var changed = columns.Select((_, i) => before is null || after is null || !Equals(before[i], after[i])).ToArray();
        if (!changed.Contains(true))
            return;
        object? Of(string word) =>
            word switch
            {
                "set" => set.Name,
                "operation" => operation,
                "who" => unit.Caller.Name,
                "when" => unit.Now,
                "key" => PublishedJson.Object(row.Set.Type.Key, [.. row.Key]),
                "before" => before is null ? null : PublishedJson.Object(columns, before, changed),
                _ => after is null ? null : PublishedJson.Object(columns, after, changed),
            };
        await statements.InsertAsync(set.Log!.Source, [.. set.Log.Columns.Select(c => new ColumnValue(c.Value, Of(c.Key)))], []);
    }
}
