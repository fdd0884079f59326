using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;
using RapidGable.Expressions;

namespace RapidGable.Payloads.Plain;

/// <summary>
/// Patches by operations (RFC 6902): all of them are done, or none. Operations can copy what others have copied, so that what they add,
/// and how deep it nests, is counted before each is done.
/// </summary>
internal sealed class JsonPatch
{
    /// <summary>Operations in one patch at most.</summary>
    public const int MostOperations = 1_000;

    /// <summary>How deep what a patch makes may nest, as for any body.</summary>
    public const int MostLevels = 64;

    private static readonly string[] Operations = ["add", "remove", "replace", "move", "copy", "test"];

    private readonly long _most;
    private long _used;

    private JsonPatch(long most) => _most = most;

    /// <summary>What a patch changes of an entity, as a merge patch: a member for each that is another then; null = it is gone.</summary>
    /// <param name="most">Bytes that the operations may handle together, of values that they add, copy, move or compare.</param>
    /// <returns>The fault names the operation by its number, from 0.</returns>
    public static Result<JsonDocument> Changes(JsonElement patch, JsonElement entity, long most)
    {
        if (patch.ValueKind != JsonValueKind.Array)
            return new RequestFault(400, "body", "A patch of this type is an array of operations.");
        if (patch.GetArrayLength() > MostOperations)
            return new RequestFault(413, "too-large", $"The patch has more than {MostOperations} operations.");
        JsonNode? document = JsonObject.Create(entity.Clone());
        try
        {
            var (number, changes) = (0, new JsonPatch(most));
            foreach (var operation in patch.EnumerateArray())
                document = changes.Applied(document, operation, number++);
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
        return document is JsonObject after
            ? JsonDocument.Parse(Difference(entity, after).ToJsonString())
            : new RequestFault(400, "patch", "The patch would put another value in the place of the entity itself.");
    }

    private static JsonObject Difference(JsonElement before, JsonObject after)
    {
        var changes = new JsonObject();
        var known = JsonObject.Create(before)!;
        foreach (var (name, value) in after)
        {
            if (!known.TryGetPropertyValue(name, out var old) || !JsonNode.DeepEquals(old, value))
                changes[name] = value?.DeepClone();
        }
        foreach (var (name, _) in known.Where(m => !after.ContainsKey(m.Key)))
            changes[name] = null;
        return changes;
    }

    private JsonNode? Applied(JsonNode? document, JsonElement operation, int number)
    {
        FaultException Wrong(int status, string message) =>
            new(new RequestFault(status, status == 400 ? "body" : "patch", $"Operation {number}: {message}", $"{number}"));
        string Text(string name) =>
            operation.ValueKind == JsonValueKind.Object
            && operation.TryGetProperty(name, out var text)
            && text.ValueKind == JsonValueKind.String
                ? text.GetString()!
                : throw Wrong(400, $"'{name}' is missing, or is no text.");
        JsonNode? Value() => operation.TryGetProperty("value", out var value) ? Node(value) : throw Wrong(400, "'value' is missing.");
        var word = Text("op");
        if (!Operations.Contains(word))
            throw Wrong(400, $"'{word}' is none of {string.Join(", ", Operations)}.");
        var path = Pointer(Text("path")) ?? throw Wrong(400, $"'{Text("path")}' is no JSON pointer.");
        string[] From() => Pointer(Text("from")) ?? throw Wrong(400, $"'{Text("from")}' is no JSON pointer.");
        try
        {
            switch (word)
            {
                case "add":
                    var added = Value();
                    Take(added, path.Length);
                    return Add(document, path, added);
                case "remove":
                    return Remove(document, path);
                case "replace":
                    var value = Value();
                    Take(value, path.Length);
                    _ = Find(document, path);
                    return path.Length == 0 ? value : Add(Remove(document, path), path, value);
                case "move":
                    var from = From();
                    Take(Find(document, from), path.Length);
                    if (path.Length > from.Length && path.AsSpan(0, from.Length).SequenceEqual(from))
                        throw new PatchException("a value cannot be moved into itself");
                    var moved = Find(document, from);
                    // Out of its place it can be put into another one.
                    return Add(Remove(document, from), path, moved);
                case "copy":
                    var copied = Find(document, From());
                    Take(copied, path.Length);
                    return Add(document, path, copied?.DeepClone());
                default:
                    Take(Find(document, path), 0);
                    return JsonNode.DeepEquals(Find(document, path), Value())
                        ? document
                        : throw new PatchException($"'{Text("path")}' has another value than the test says");
            }
        }
        catch (PatchTooLargeException exception)
        {
            throw new FaultException(new RequestFault(413, "too-large", $"Operation {number}: {exception.Message}", $"{number}"));
        }
        catch (PatchException exception)
        {
            throw Wrong(409, exception.Message + ".");
        }
    }

    /// <summary>Takes a value from what the patch may handle.</summary>
    /// <param name="level">Where it will stand, from 0.</param>
    private void Take(JsonNode? value, int level)
    {
        if (level > MostLevels)
            throw new PatchTooLargeException($"the value would stand more than {MostLevels} levels deep.");
        _used += value switch
        {
            null => 4,
            JsonValue single => single.GetValueKind() == JsonValueKind.String ? single.GetValue<string>().Length + 2 : 16,
            JsonObject item => 2 + item.Sum(m => m.Key.Length + 4L),
            _ => 2,
        };
        if (_used > _most)
            throw new PatchTooLargeException($"the operations so far handle more than {_most} bytes.");
        IEnumerable<JsonNode?> below = value switch
        {
            JsonObject item => item.Select(m => m.Value),
            JsonArray list => list,
            _ => [],
        };
        foreach (var inner in below)
            Take(inner, level + 1);
    }

    private static JsonNode? Node(JsonElement value) =>
        value.ValueKind switch
        {
            JsonValueKind.Null => null,
            JsonValueKind.Object => JsonObject.Create(value.Clone()),
            JsonValueKind.Array => JsonArray.Create(value.Clone()),
            _ => JsonValue.Create(value.Clone()),
        };

    /// <summary>The parts of a JSON pointer (RFC 6901); null = it is none.</summary>
    private static string[]? Pointer(string text)
    {
        if (text.Length == 0)
            return [];
        if (text[0] != '/')
            return null;
        var parts = text[1..].Split('/');
        for (var i = 0; i < parts.Length; i++)
        {
            for (var at = parts[i].IndexOf('~'); at >= 0; at = parts[i].IndexOf('~', at + 1))
            {
                if (at + 1 >= parts[i].Length || parts[i][at + 1] is not ('0' or '1'))
                    return null;
            }
            parts[i] = parts[i].Replace("~1", "/", StringComparison.Ordinal).Replace("~0", "~", StringComparison.Ordinal);
        }
        return parts;
    }

    private static JsonNode? Find(JsonNode? document, IEnumerable<string> path)
    {
        foreach (var part in path)
        {
            document = document switch
            {
                JsonObject item when item.TryGetPropertyValue(part, out var member) => member,
                JsonArray list when Index(part, list.Count - 1) is { } index => list[index],
                _ => throw new PatchException($"there is no '{part}'"),
            };
        }
        return document;
    }

    private static JsonNode? Add(JsonNode? document, string[] path, JsonNode? value)
    {
        if (path.Length == 0)
            return value;
        switch (Find(document, path[..^1]))
        {
            case JsonObject item:
                item[path[^1]] = value;
                return document;
            case JsonArray list when path[^1] == "-":
                list.Add(value);
                return document;
            case JsonArray list when Index(path[^1], list.Count) is { } index:
                list.Insert(index, value);
                return document;
            default:
                throw new PatchException($"nothing can be added at '{path[^1]}'");
        }
    }

    private static JsonNode? Remove(JsonNode? document, string[] path)
    {
        if (path.Length == 0)
            return null;
        switch (Find(document, path[..^1]))
        {
            case JsonObject item when item.Remove(path[^1]):
                return document;
            case JsonArray list when Index(path[^1], list.Count - 1) is { } index:
                list.RemoveAt(index);
                return document;
            default:
                throw new PatchException($"there is no '{path[^1]}'");
        }
    }

    /// <summary>A place in a list: digits without zeros before them; null = it is none, or beyond the last.</summary>
    private static int? Index(string text, int last) =>
        int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var index)
        && index <= last
        && (text.Length == 1 || text[0] != '0')
            ? index
            : null;

    private sealed class PatchException(string message) : Exception(message);

    private sealed class PatchTooLargeException(string message) : Exception(message);
}
