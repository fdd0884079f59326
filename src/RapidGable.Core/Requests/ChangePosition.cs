using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>
/// How far the changes of a table had gone: the highest stamp, and how many rows had it, since more may come with the same.
/// </summary>
public sealed record ChangeMark(StoredValue Stamp, long Rows)
{
    public static ChangeMark Start { get; } = new(StoredValue.Null, 0);
}

/// <summary>
/// The state of a caller who follows the changes of a set (Protocol 11.3). It holds all that is needed, so any process of the same service
/// can go on.
/// </summary>
/// <param name="Set">A fingerprint of the set and of how its changes are found.</param>
/// <param name="IsDelta">Changes are being told; else the set itself, which they will start from.</param>
/// <param name="Since">Marks of the rows and of the deletions after which changes are told.</param>
/// <param name="Next">Marks that the next delta link starts from; null = they are found with the first page.</param>
public sealed record ChangePosition(string Set, bool IsDelta, ImmutableArray<ChangeMark> Since, ImmutableArray<ChangeMark>? Next)
{
    /// <summary>The token as it stands in a delta link.</summary>
    public string Write()
    {
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream))
        {
            json.WriteStartArray();
            json.WriteStringValue(Set);
            json.WriteBooleanValue(IsDelta);
            foreach (var marks in new[] { Since, Next ?? [] })
            {
                json.WriteStartArray();
                foreach (var mark in marks)
                {
                    PagePosition.Write(json, mark.Stamp);
                    json.WriteNumberValue(mark.Rows);
                }
                json.WriteEndArray();
            }
            json.WriteEndArray();
        }
        return System.Buffers.Text.Base64Url.EncodeToString(stream.ToArray());
    }

    /// <summary>Reads a token; null when it was not made by <see cref="Write"/>.</summary>
    public static ChangePosition? Read(string text) => PagePosition.Reading(text, items =>
        {
            ImmutableArray<ChangeMark> Marks(JsonElement array) =>
                [.. array.EnumerateArray().Chunk(2).Select(p => new ChangeMark(PagePosition.Value(p[0]), p[1].GetInt64()))];
            var (since, next) = (Marks(items[2]), Marks(items[3]));
            return since.Length is 1 or 2
                ? new ChangePosition(items[0].GetString()!, items[1].GetBoolean(), since, next.IsEmpty ? null : next)
                : null;
        });
}
