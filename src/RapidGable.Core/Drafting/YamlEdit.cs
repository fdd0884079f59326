using System.Collections.Immutable;
using System.Globalization;
using System.Text.Json;
using RapidGable.Declarations;

namespace RapidGable.Drafting;

/// <summary>
/// Changes single values of a YAML text, and leaves every other character as it is: comments, order, quotes and line ends.
/// </summary>
/// <remarks>
/// A path is a list of steps: the key of a mapping, or the place of an item in a list, counted from 0. An item that is a plain text,
/// such as <c>- river</c>, becomes a mapping when something is set in it: <c>- from: river</c>.
/// </remarks>
public static class YamlEdit
{
    private const string ShortKey = "from";

    /// <summary>Lines do not get longer than this by an edit where that can be avoided.</summary>
    private const int LongestLine = 120;

    /// <summary>A step of a path.</summary>
    /// <param name="Key">Of a mapping; null = it is an item of a list.</param>
    /// <param name="Index">Of an item.</param>
    public readonly record struct Step(string? Key, int Index)
    {
        public static implicit operator Step(string key) => new(key, 0);

        public static implicit operator Step(int index) => new(null, index);

        public override string ToString() => Key ?? $"[{Index}]";
    }

    /// <summary>The order in which people write the keys of a mapping.</summary>
    /// <param name="Depth">Of the mapping: how many steps lead to it.</param>
    public sealed record KeyOrder(int Depth, ImmutableArray<string> Keys)
    {
        /// <summary>The entry behind which a key is written; -1 = it goes to the end.</summary>
        internal int EntryBefore(YamlMapping mapping, int depth, string key)
        {
            var place = depth == Depth ? Keys.IndexOf(key) : -1;
            if (place < 0)
                return -1;
            for (var at = mapping.Entries.Length - 1; at >= 0; at--)
            {
                if (Keys.IndexOf(mapping.Entries[at].Key.Value) is >= 0 and var other && other < place)
                    return at;
            }
            return -1;
        }
    }

    /// <summary>Sets a value, replaces the one that is there, or makes what leads to it.</summary>
    /// <param name="order">Where new keys go; null = to the end.</param>
    /// <exception cref="InvalidDataException">When the text has no such place.</exception>
    public static string Set(string text, IReadOnlyList<Step> path, JsonElement value, KeyOrder? order = null)
    {
        if (path.Count == 0)
            throw new InvalidDataException("the path is empty");
        var root = YamlTree.Read(text);
        if (root is null or YamlScalar { IsEmpty: true })
            return text
                + (text.Length == 0 || text.EndsWith('\n') ? "" : LineEnd(text))
                + Entry(path, 0, value, "", LineEnd(text), isFlow: false);
        var node = root;
        var indent = 0;
        for (var at = 0; ; at++)
        {
            var isLast = at == path.Count - 1;
            switch (node)
            {
                case YamlMapping mapping when path[at].Key is { } key:
                    var found = mapping.IndexOf(key);
                    if (found < 0)
                        return Insert(text, mapping, path, at, value, order?.EntryBefore(mapping, at, key) ?? -1);
                    var (name, old) = mapping.Entries[found];
                    if (isLast || old is YamlScalar { IsEmpty: true })
                        return Replace(text, name, old, path, at + 1, value, mapping.IsFlow);
                    if (!mapping.IsFlow)
                        indent = Column(text, name.Start);
                    node = old;
                    break;
                case YamlList list when path[at].Key is null:
                    var index = path[at].Index;
                    if (index == list.Items.Length)
                        return Append(text, list, indent, Whole(path, at + 1, value));
                    if (index < 0 || index > list.Items.Length)
                        throw new InvalidDataException($"there is no item {index}");
                    var item = list.Items[index];
                    if (isLast)
                        return Splice(text, item.Start, item.End, Flow(value));
                    if (item is YamlScalar { IsEmpty: false } && path[at + 1].Key is not null and not ShortKey)
                        return FromShort(text, (YamlScalar)item, list.IsFlow, path, at + 1, value);
                    node = item;
                    break;
                default:
                    throw new InvalidDataException($"'{string.Join('.', path.Take(at + 1))}' leads nowhere");
            }
        }
    }

    /// <summary>Removes an entry or an item; what would be left empty goes, too. Nothing happens when it is not there.</summary>
    public static string Remove(string text, IReadOnlyList<Step> path)
    {
        var trail = new List<YamlNode>();
        var node = YamlTree.Read(text);
        foreach (var step in path)
        {
            if (node is null)
                return text;
            trail.Add(node);
            node = node switch
            {
                YamlMapping mapping when step.Key is { } key && mapping.IndexOf(key) is >= 0 and var found => mapping.Entries[found].Value,
                YamlList list when step.Key is null && step.Index >= 0 && step.Index < list.Items.Length => list.Items[step.Index],
                _ => null,
            };
        }
        if (node is null || trail.Count == 0)
            return text;
        var last = path.Count - 1;
        while (last > 0 && Count(trail[last]) == 1 && path[last - 1].Key is not null)
            last--;
        return trail[last] switch
        {
            YamlMapping { IsFlow: true } mapping => WithoutFlow(
                text,
                [.. mapping.Entries.Select(e => (e.Key.Start, EndOf(e)))],
                mapping.IndexOf(path[last].Key!)
            ),
            YamlList { IsFlow: true } list => WithoutFlow(text, [.. list.Items.Select(i => (i.Start, i.End))], path[last].Index),
            YamlMapping mapping => WithoutLines(text, mapping, mapping.IndexOf(path[last].Key!)),
            YamlList list => WithoutItem(text, list.Items[path[last].Index]),
            _ => text,
        };
    }

    private static int Count(YamlNode node) =>
        node switch
        {
            YamlMapping mapping => mapping.Entries.Length,
            YamlList list => list.Items.Length,
            _ => 0,
        };

    private static string Splice(string text, int start, int end, string instead) => text[..start] + instead + text[end..];

    private static string LineEnd(string text) => text.Contains("\r\n", StringComparison.Ordinal) ? "\r\n" : "\n";

    private static int LineStart(string text, int at) => at == 0 ? 0 : text.LastIndexOf('\n', at - 1) + 1;

    /// <summary>The place of the line's end, before the characters that end it.</summary>
    private static int EndOfLine(string text, int at)
    {
        var end = text.IndexOf('\n', Math.Min(at, text.Length));
        if (end < 0)
            return text.Length;
        return end > 0 && text[end - 1] == '\r' ? end - 1 : end;
    }

    private static int Column(string text, int at) => at - LineStart(text, at);

    /// <summary>The rest of a path and its value as one value.</summary>
    private static JsonElement Whole(IReadOnlyList<Step> path, int at, JsonElement value)
    {
        for (var i = path.Count - 1; i >= at; i--)
        {
            value =
                path[i].Key is { } key ? JsonSerializer.SerializeToElement(new Dictionary<string, JsonElement> { [key] = value })
                : path[i].Index == 0 ? JsonSerializer.SerializeToElement(new[] { value })
                : throw new InvalidDataException($"there is no item {path[i].Index}");
        }
        return value;
    }

    /// <summary>An entry with its line end, in the form of the mapping that it goes to.</summary>
    private static string Entry(IReadOnlyList<Step> path, int at, JsonElement value, string indent, string lineEnd, bool isFlow)
    {
        var (key, whole) = (Key(path[at].Key ?? throw new InvalidDataException("a key is missing")), Whole(path, at + 1, value));
        if (isFlow)
            return $"{key}: {Flow(whole)}";
        var line = $"{indent}{key}: {Flow(whole, isOuter: true)}{lineEnd}";
        var isShort = line.Length <= LongestLine && !HasMappings(whole);
        return isShort || whole.ValueKind is not (JsonValueKind.Object or JsonValueKind.Array)
            ? line
            : $"{indent}{key}:{lineEnd}{Block(whole, indent + "  ", lineEnd)}";
    }

    /// <summary>A list of mappings is read best with one in a line.</summary>
    private static bool HasMappings(JsonElement value) =>
        value.ValueKind == JsonValueKind.Array && value.EnumerateArray().Any(i => i.ValueKind == JsonValueKind.Object);

    /// <summary>A key as it is written: words need no quotes, not even those that YAML reads as yes or no elsewhere.</summary>
    private static string Key(string key) =>
        key.Length > 0 && char.IsAsciiLetter(key[0]) && key.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '_')
            ? key
            : YamlText.Of(key);

    /// <summary>A mapping or list in lines of its own.</summary>
    private static string Block(JsonElement value, string indent, string lineEnd) =>
        value.ValueKind == JsonValueKind.Array
            ? string.Concat(value.EnumerateArray().Select(i => $"{indent}- {Flow(i)}{lineEnd}"))
            : string.Concat(value.EnumerateObject().Select(m => $"{indent}{Key(m.Name)}: {Flow(m.Value, isOuter: true)}{lineEnd}"));

    /// <param name="before">The entry behind which it goes; -1 = the last one.</param>
    private static string Insert(string text, YamlMapping mapping, IReadOnlyList<Step> path, int at, JsonElement value, int before)
    {
        if (mapping is { IsFlow: true, Entries.IsEmpty: true })
            return Splice(text, mapping.Start, mapping.End, $"{{ {Entry(path, at, value, "", "", isFlow: true)} }}");
        if (before < 0)
            before = mapping.Entries.Length - 1;
        var end = EndOf(mapping.Entries[before]);
        if (mapping.IsFlow)
        {
            var longer = Splice(text, end, end, ", " + Entry(path, at, value, "", "", isFlow: true));
            var line = LineStart(text, mapping.Start);
            return EndOfLine(longer, end) - line <= LongestLine || LineStart(text, mapping.End) != line
                ? longer
                : Unfolded(text, mapping, path, at, value, before) ?? longer;
        }
        var indent = new string(' ', Column(text, mapping.Entries[0].Key.Start));
        return InsertLine(text, end, Entry(path, at, value, indent, LineEnd(text), isFlow: false));
    }

    private static int EndOf((YamlScalar Key, YamlNode Value) entry) => Math.Max(entry.Key.End, entry.Value.End);

    /// <summary>A mapping in braces that is an item of a list in lines, in lines itself; null = it is none.</summary>
    private static string? Unfolded(string text, YamlMapping mapping, IReadOnlyList<Step> path, int at, JsonElement value, int before)
    {
        var dash = text[LineStart(text, mapping.Start)..mapping.Start];
        if (dash.TrimStart() is not "- ")
            return null;
        var (indent, lineEnd) = (new string(' ', dash.Length), LineEnd(text));
        var entry = Entry(path, at, value, indent, lineEnd, isFlow: false);
        var lines = mapping.Entries.Select(e => text[e.Key.Start..EndOf(e)]).ToList();
        var isLast = before == lines.Count - 1;
        if (!isLast)
            lines.Insert(before + 1, entry.Trim());
        var whole = string.Join(lineEnd + indent, lines);
        var longer = Splice(text, mapping.Start, mapping.End, whole);
        // A comment behind the braces stays where it is.
        return isLast ? InsertLine(longer, mapping.Start + whole.Length, entry) : longer;
    }

    /// <summary>Puts lines behind the line in which something ends.</summary>
    private static string InsertLine(string text, int end, string lines)
    {
        var at = EndOfLine(text, end);
        if (at == text.Length)
            return text + LineEnd(text) + lines;
        var next = text.IndexOf('\n', at) + 1;
        return text[..next] + lines + text[next..];
    }

    private static string Replace(
        string text,
        YamlScalar key,
        YamlNode old,
        IReadOnlyList<Step> path,
        int at,
        JsonElement value,
        bool isFlow
    )
    {
        var whole = Whole(path, at, value);
        var colon = text.IndexOf(':', key.End);
        if (!isFlow && HasMappings(whole))
        {
            var (lineEnd, indent) = (LineEnd(text), new string(' ', Column(text, key.Start) + 2));
            var note = old is YamlScalar { IsEmpty: true } ? "" : text[(colon + 1)..old.Start].Split('\n')[0].TrimEnd();
            var end = old is YamlScalar { IsEmpty: true } ? colon + 1 : old.End;
            return Splice(text, colon + 1, end, note + lineEnd + Block(whole, indent, lineEnd).TrimEnd());
        }
        var instead = Flow(whole, isOuter: !isFlow);
        // What stands between key and value in the same line is kept; a comment there moves behind the value.
        if (old is YamlScalar { IsEmpty: true })
            return Splice(text, colon + 1, colon + 1, " " + instead);
        var between = text[(colon + 1)..old.Start];
        if (!between.Contains('\n'))
            return Splice(text, old.Start, old.End, instead);
        var comment = between.Split('\n')[0].Trim();
        return Splice(text, colon + 1, old.End, $" {instead}{(comment.Length > 0 ? "  " + comment : "")}");
    }

    private static string Append(string text, YamlList list, int indent, JsonElement value)
    {
        if (list.IsFlow)
            return list.Items.IsEmpty
                ? Splice(text, list.Start, list.End, $"[{Flow(value)}]")
                : Splice(text, list.Items[^1].End, list.Items[^1].End, ", " + Flow(value));
        var column = list.Items.IsEmpty ? indent + 2 : text[LineStart(text, list.Start)..list.Start].Length;
        return InsertLine(text, list.End, $"{new string(' ', column)}- {Flow(value)}{LineEnd(text)}");
    }

    /// <summary>Sets something in an item that is a plain text.</summary>
    private static string FromShort(string text, YamlScalar item, bool isFlow, IReadOnlyList<Step> path, int at, JsonElement value)
    {
        var name = text[item.Start..item.End];
        if (isFlow)
            return Splice(text, item.Start, item.End, $"{{ {ShortKey}: {name}, {Entry(path, at, value, "", "", isFlow: true)} }}");
        var indent = new string(' ', Column(text, item.Start));
        var longer = Splice(text, item.Start, item.Start, ShortKey + ": ");
        return InsertLine(longer, item.End + ShortKey.Length + 2, Entry(path, at, value, indent, LineEnd(text), isFlow: false));
    }

    private static string WithoutFlow(string text, List<(int Start, int End)> parts, int index)
    {
        var (start, end) = parts[index];
        if (index + 1 < parts.Count)
            return Splice(text, start, parts[index + 1].Start, "");
        return index > 0 ? Splice(text, parts[index - 1].End, end, "") : Splice(text, start, end, "");
    }

    private static string WithoutLines(string text, YamlMapping mapping, int index)
    {
        var (key, value) = mapping.Entries[index];
        var start = LineStart(text, key.Start);
        // The first entry of an item shares its line with the dash, which stays for the next one.
        if (text[start..key.Start].Trim().Length > 0)
            return index + 1 < mapping.Entries.Length
                ? Splice(text, key.Start, mapping.Entries[index + 1].Key.Start, "")
                : Splice(text, key.Start, Math.Max(key.End, value.End), "{}");
        return WithoutLine(text, start, Math.Max(key.End, value.End));
    }

    private static string WithoutItem(string text, YamlNode item) => WithoutLine(text, LineStart(text, item.Start), item.End);

    private static string WithoutLine(string text, int start, int end)
    {
        var next = text.IndexOf('\n', Math.Min(end, text.Length));
        return Splice(text, start, next < 0 ? text.Length : next + 1, "");
    }

    /// <summary>A value in one line.</summary>
    /// <param name="isOuter">It stands at the end of a line of its own, where more texts need no quotes.</param>
    private static string Flow(JsonElement value, bool isOuter = false) =>
        value.ValueKind switch
        {
            JsonValueKind.String => Text(value.GetString()!, isOuter),
            JsonValueKind.Array => $"[{string.Join(", ", value.EnumerateArray().Select(i => Flow(i)))}]",
            JsonValueKind.Object => value.EnumerateObject().Any()
                ? $"{{ {string.Join(", ", value.EnumerateObject().Select(m => $"{Key(m.Name)}: {Flow(m.Value)}"))} }}"
                : "{}",
            _ => value.GetRawText(),
        };

    /// <summary>A text without quotes where it reads back as itself.</summary>
    private static string Text(string text, bool isOuter)
    {
        var quoted = YamlText.Of(text);
        if (quoted == text || text.Length == 0 || text.Any(char.IsControl))
            return quoted;
        var isPlain =
            char.IsAsciiLetter(text[0])
            && (char.IsLetterOrDigit(text[^1]) || text[^1] is '.' or ')' or '\'' or '*')
            && !text.Contains(": ", StringComparison.Ordinal)
            && !text.Contains(" #", StringComparison.Ordinal)
            && (isOuter || text.IndexOfAny([',', '[', ']', '{', '}', ':']) < 0)
            && !double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out _)
            && text.Contains(' ');
        return isPlain ? text : quoted;
    }
}
