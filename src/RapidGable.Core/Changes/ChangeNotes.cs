using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Changes;

/// <summary>Notes of changes in a table of their own: who changed what, when, and how it was before and is now.</summary>
internal static class ChangeNotes
{
    private static readonly JsonWriterOptions Relaxed = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

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
                "key" => Json(row.Set.Type.Key, [.. row.Key], null),
                "before" => before is null ? null : Json(columns, before, changed),
                _ => after is null ? null : Json(columns, after, changed),
            };
        await statements.InsertAsync(set.Log!.Source, [.. set.Log.Columns.Select(c => new ColumnValue(c.Value, Of(c.Key)))], []);
    }

    private static string Json(IReadOnlyList<Property> columns, object?[] values, bool[]? only)
    {
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream, Relaxed))
        {
            json.WriteStartObject();
            for (var i = 0; i < columns.Count; i++)
            {
                if (only is not null && !only[i])
                    continue;
                json.WritePropertyName(columns[i].Name);
                if (values[i] is string text && columns[i].Conversion is JsonConversion)
                    json.WriteRawValue(text);
                else
                    PublishedJson.Write(json, values[i]);
            }
            json.WriteEndObject();
        }
        return Encoding.UTF8.GetString(stream.ToArray());
    }
}
