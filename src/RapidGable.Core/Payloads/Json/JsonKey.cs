using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Payloads.Json;

/// <summary>Keys of entities that were read as JSON.</summary>
public static class JsonKey
{
    /// <summary>Published values of the key; null = some are missing, or are no values of their type.</summary>
    /// <param name="entity">The JSON of properties, by their names.</param>
    public static ImmutableArray<object>? Of(EntitySet set, IReadOnlyDictionary<string, JsonElement> entity)
    {
        var reader = new JsonValueReader(numbersAsText: false, []);
        var key = set.Type.Key.Select(k => entity.TryGetValue(k.Name, out var value) ? reader.Read(value, k, k.Name) : null).ToList();
        return key.Contains(null) ? null : [.. key.Select(k => k!)];
    }
}
