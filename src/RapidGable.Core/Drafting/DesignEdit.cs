using System.Collections.Immutable;
using System.Text.Json;

namespace RapidGable.Drafting;

/// <summary>A change of a service's design.</summary>
/// <param name="Set">The place of the set in the file, from 0; null = the service itself.</param>
/// <param name="Path">
/// The words that lead to the value below the set. Three of them are about a column, however the file spells it: <c>hide/COLUMN</c> with
/// true or false, <c>columns/COLUMN/name</c>, and <c>columns/COLUMN/WORD</c>.
/// </param>
/// <param name="Value">Null = it is removed.</param>
public sealed record DesignChange(int? Set, ImmutableArray<YamlEdit.Step> Path, JsonElement? Value);

/// <summary>Writes changes of a design into a service file in the shortest form that the file's readers know.</summary>
public static class DesignEdit
{
    /// <summary>The order in which a set's words are read best: what it is, what of it is seen, what may be done with it.</summary>
    private static readonly YamlEdit.KeyOrder SetOrder = new(
        2,
        [
            "from",
            "source",
            "select",
            "name",
            "type",
            "description",
            "deprecated",
            "key",
            "keyless",
            "order",
            "page",
            "largest-page",
            "require-filter",
            "search",
            "allow",
            "version",
            "require-version",
            "changes",
            "rules",
            "hide",
            "show",
            "rename",
            "group",
            "columns",
            "valid",
            "compute",
            "relations",
        ]
    );

    /// <summary>The order at the top of a service file.</summary>
    private static readonly YamlEdit.KeyOrder ServiceOrder = new(
        0,
        [
            "title",
            "source",
            "namespace",
            "names",
            "about",
            "deprecated",
            "page",
            "largest-page",
            "faces",
            "rest",
            "rules",
            "types",
            "sql",
            "handover",
        ]
    );

    /// <exception cref="InvalidDataException">When the text has no such place.</exception>
    public static string Apply(string text, DesignChange change)
    {
        if (change.Path.IsDefaultOrEmpty)
            throw new InvalidDataException("the path is empty");
        if (change.Set is not { } set)
            return Written(text, change.Path, Tidy(change.Path, change.Value), ServiceOrder);
        var edit = new OfSet(text, set);
        return change.Path.AsSpan() switch
        {
            [{ Key: "hide" }, { Key: { } column }] => edit.Hide(column, change.Value is { ValueKind: JsonValueKind.True }),
            [{ Key: "columns" }, { Key: { } column }, { Key: "name" }] => edit.Rename(column, change.Value),
            [{ Key: "columns" }, { Key: { } column }, { Key: { } word }] => edit.Column(column, word, change.Value),
            [{ Key: "key" }] => edit.Key(Tidy(change.Path, change.Value)),
            [{ Key: "keyless" }] => edit.Keyless(change.Value is { ValueKind: JsonValueKind.True }),
            _ => edit.Put(change.Path, Tidy(change.Path, change.Value)),
        };
    }

    private static string Written(string text, IReadOnlyList<YamlEdit.Step> path, JsonElement? value, YamlEdit.KeyOrder order) =>
        value is { } set ? YamlEdit.Set(text, path, set, order) : YamlEdit.Remove(text, path);

    /// <summary>The value as people write it: one of a list without brackets; null = it says nothing and is left out.</summary>
    private static JsonElement? Tidy(ImmutableArray<YamlEdit.Step> path, JsonElement? value)
    {
        if (value is not { } given || given.ValueKind is JsonValueKind.Null or JsonValueKind.Undefined)
            return null;
        if (given.ValueKind == JsonValueKind.Array && given.GetArrayLength() == 0)
            return null;
        if (given is { ValueKind: JsonValueKind.String } text && text.GetString()!.Length == 0)
            return null;
        var word = path[^1].Key;
        if (word == "allow" && Single(given) is { ValueKind: JsonValueKind.String } only && only.ValueEquals("read"))
            return null;
        return given switch
        {
            { ValueKind: JsonValueKind.Object } => Mapping(given),
            { ValueKind: JsonValueKind.Array } when word == "rules" => JsonSerializer.SerializeToElement(
                given.EnumerateArray().Select(Mapping)
            ),
            _ => Short(word, given),
        };
    }

    /// <summary>A list of one without its brackets, where that means the same.</summary>
    private static JsonElement Short(string? word, JsonElement value) =>
        word is "key" or "who" or "may" or "deny" or "on" ? Single(value) : value;

    private static JsonElement Single(JsonElement value) =>
        value.ValueKind == JsonValueKind.Array && value.GetArrayLength() == 1 ? value[0] : value;

    private static JsonElement Mapping(JsonElement value) =>
        value.ValueKind != JsonValueKind.Object
            ? value
            : JsonSerializer.SerializeToElement(value.EnumerateObject().ToDictionary(m => m.Name, m => Short(m.Name, m.Value)));

    /// <summary>Edits one set of a text.</summary>
    private sealed class OfSet(string text, int set)
    {
        private readonly YamlMapping? _set =
            (YamlTree.Read(text) as YamlMapping)?.Find("sets") is YamlList list && set >= 0 && set < list.Items.Length
                ? list.Items[set] as YamlMapping
                : throw new InvalidDataException($"there is no set {set}");

        private string _text = text;

        private ImmutableArray<YamlEdit.Step> Whole(params ReadOnlySpan<YamlEdit.Step> path) => ["sets", set, .. path];

        public string Put(ImmutableArray<YamlEdit.Step> path, JsonElement? value) =>
            _text = Written(_text, Whole(path.AsSpan()), value, SetOrder);

        private string Put(string word, IReadOnlyCollection<string> list) =>
            Put([word], list.Count == 0 ? null : JsonSerializer.SerializeToElement(list));

        private string[] List(string word) =>
            _set?.Find(word) switch
            {
                YamlList list => [.. list.Items.OfType<YamlScalar>().Select(i => i.Value)],
                YamlScalar { IsEmpty: false } one => [one.Value],
                _ => [],
            };

        public string Hide(string column, bool isHidden)
        {
            if (_set?.Find("show") is not null)
            {
                var shown = List("show").Where(c => c != column);
                return Put("show", [.. isHidden ? shown : shown.Append(column)]);
            }
            // The list stays as it is written, with its comment.
            var hidden = List("hide");
            var at = Array.IndexOf(hidden, column);
            if (isHidden == at >= 0)
                return _text;
            return _set?.Find("hide") is YamlList
                ? isHidden
                    ? Put(["hide", hidden.Length], JsonSerializer.SerializeToElement(column))
                    : Put(["hide", at], null)
                : Put("hide", [.. isHidden ? hidden.Append(column) : hidden.Where(c => c != column)]);
        }

        /// <summary>A column's new name stands where the file has it already, else below <c>rename</c>.</summary>
        public string Rename(string column, JsonElement? name) =>
            (_set?.Find("columns") as YamlMapping)?.Find(column) is YamlMapping said && said.IndexOf("name") >= 0
                ? Column(column, "name", name)
                : Put(["rename", column], Tidy(["name"], name));

        public string Column(string column, string word, JsonElement? value)
        {
            value = Tidy([word], value);
            var said = (_set?.Find("columns") as YamlMapping)?.Find(column);
            // A text alone is the type.
            if (said is YamlScalar { IsEmpty: false } type && word != "type")
            {
                if (value is null)
                    return _text;
                return Put(
                    ["columns", column],
                    JsonSerializer.SerializeToElement(
                        new Dictionary<string, JsonElement>
                        {
                            ["type"] = JsonSerializer.SerializeToElement(type.Value),
                            [word] = value.Value,
                        }
                    )
                );
            }
            if (said is YamlMapping words)
            {
                Put(["columns", column, word], value);
                var left = words.Entries.Where(e => e.Key.Value != word).Select(e => e.Key.Value).ToList();
                return value is null && words.IsFlow && left is ["type"] && words.Find("type") is YamlScalar alone
                    ? Put(["columns", column], JsonSerializer.SerializeToElement(alone.Value))
                    : _text;
            }
            return word == "type" ? Put(["columns", column], value) : Put(["columns", column, word], value);
        }

        public string Key(JsonElement? columns)
        {
            if (columns is not null)
                Put(["keyless"], null);
            return Put(["key"], columns);
        }

        public string Keyless(bool isKeyless)
        {
            if (isKeyless)
                Put(["key"], null);
            return Put(["keyless"], isKeyless ? JsonSerializer.SerializeToElement(true) : null);
        }
    }
}
