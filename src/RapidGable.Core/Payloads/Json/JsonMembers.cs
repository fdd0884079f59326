using System.Collections.Immutable;
using System.Text.Json;

namespace RapidGable.Payloads.Json;

/// <summary>The members of a JSON value.</summary>
public static class JsonMembers
{
    /// <summary>The names of all members, at any depth.</summary>
    public static ImmutableHashSet<string> NamesOf(JsonElement element) =>
        element.ValueKind switch
        {
            JsonValueKind.Object => [.. element.EnumerateObject().SelectMany(m => NamesOf(m.Value).Append(m.Name))],
            JsonValueKind.Array => [.. element.EnumerateArray().SelectMany(NamesOf)],
            _ => [],
        };
}
