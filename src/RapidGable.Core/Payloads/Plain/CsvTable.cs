using System.Globalization;
using System.Text;
using System.Text.Json;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads.Flat;

namespace RapidGable.Payloads.Plain;

/// <summary>
/// CSV as it was sent (RFC 4180), under a line of names. An empty field is null, or the default of
/// what cannot be null; one of two double quotes is the empty text.
/// </summary>
internal sealed class CsvTable
{
    private readonly List<string> _names;
    private readonly List<List<(string Text, bool IsQuoted)>> _rows;

    private CsvTable(List<string> names, List<List<(string, bool)>> rows) => (_names, _rows) = (names, rows);

    /// <returns>The fault names the line.</returns>
    public static Result<CsvTable> Read(byte[] body)
    {
        var bytes = body.AsSpan();
        if (bytes.StartsWith((ReadOnlySpan<byte>)[0xEF, 0xBB, 0xBF]))
            bytes = bytes[3..];
        if (!System.Text.Unicode.Utf8.IsValid(bytes))
            return new RequestFault(400, "body", "The body is not valid UTF-8.");
        var reader = new Reader(Encoding.UTF8.GetString(bytes));
        if (reader.Record() is not { } header)
            return reader.Fault ?? new RequestFault(400, "body", "The body is empty; its first line holds the names of the columns.");
        var names = header.ConvertAll(f => f.Text.Trim());
        if (names.GroupBy(n => n).FirstOrDefault(g => g.Count() > 1) is { } twice)
            return new RequestFault(400, "body", $"The column '{twice.Key}' is there twice.");
        var rows = new List<List<(string, bool)>>();
        while (reader.Record() is { } row)
        {
            // An empty line is none, unless there is one column only, whose value is null.
            if (row is [{ Text: "", IsQuoted: false }] && names.Count > 1)
                continue;
            if (row.Count != names.Count)
                return new RequestFault(
                    400,
                    "body",
                    $"Line {reader.Line} has {row.Count} {(row.Count == 1 ? "field" : "fields")}, and the first line {names.Count}."
                );
            rows.Add(row);
        }
        return reader.Fault is { } fault ? fault : new CsvTable(names, rows);
    }

    /// <summary>The rows as JSON objects, each value in the form that the property of its column takes.</summary>
    /// <param name="set">With all that callers may write.</param>
    public Result<JsonDocument> ToJson(EntitySet set)
    {
        var columns = _names.ConvertAll(n => Find(set, n));
        var unknown = _names
            .Where((_, i) => columns[i] is null)
            .Select(n => new RequestFault(
                400,
                "unknown-property",
                $"'{n}' is no column of {set.Name}.{NearestName.Hint(n, Leaves(set).Select(l => l.Name))}",
                n
            ))
            .ToList();
        if (unknown.Count > 0)
            return RequestFault.Of(unknown);
        using var buffer = new MemoryStream();
        using (var json = new Utf8JsonWriter(buffer, new JsonWriterOptions { Encoder = JsonText.Encoder }))
        {
            json.WriteStartArray();
            foreach (var row in _rows)
                Write(json, row, columns);
            json.WriteEndArray();
        }
        return JsonDocument.Parse(buffer.ToArray());
    }

    private static Property? Find(EntitySet set, string name) => Leaves(set).FirstOrDefault(l => l.Name == name).Property;

    private static IEnumerable<(string Name, Property Property)> Leaves(EntitySet set) =>
        from property in set.Type.Properties.Concat(set.Type.Derived.SelectMany(d => d.Properties))
        from leaf in property.IsGroup ? property.Members : [property]
        select (ReferenceEquals(leaf, property) ? leaf.Name : $"{property.Name}/{leaf.Name}", leaf);

    private void Write(Utf8JsonWriter json, List<(string Text, bool IsQuoted)> row, List<Property?> columns)
    {
        json.WriteStartObject();
        foreach (var group in row.Select((f, i) => (Field: f, Index: i)).GroupBy(f => _names[f.Index].Split('/')[0]))
        {
            var isGroup = _names[group.First().Index].Contains('/');
            if (isGroup)
                json.WriteStartObject(group.Key);
            foreach (var (field, index) in group)
            {
                // Of what cannot be null an empty field says nothing, so that its default holds.
                if (field is { Text.Length: 0, IsQuoted: false } && !columns[index]!.Nullable)
                    continue;
                json.WritePropertyName(_names[index].Split('/')[^1]);
                Write(json, field.Text, field.IsQuoted, columns[index]!);
            }
            if (isGroup)
                json.WriteEndObject();
        }
        json.WriteEndObject();
    }

    private static void Write(Utf8JsonWriter json, string text, bool isQuoted, Property property)
    {
        if (text.Length == 0 && !isQuoted)
            json.WriteNullValue();
        else if (property.Type.Kind == EdmKind.Boolean && text is "true" or "false")
            json.WriteBooleanValue(text == "true");
        else if ((property.Type.IsNumeric || FlatValue.IsJson(property)) && IsJson(text))
            json.WriteRawValue(text);
        else
            json.WriteStringValue(text);
    }

    private static bool IsJson(string text)
    {
        try
        {
            using var _ = JsonDocument.Parse(text);
            return true;
        }
        catch (JsonException)
        {
            return false;
        }
    }

    /// <summary>Records and their fields.</summary>
    private sealed class Reader(string text)
    {
        private int _position;
        private int _lines;

        /// <summary>The line in which the last record began, from 1.</summary>
        public int Line { get; private set; }

        public RequestFault? Fault { get; private set; }

        /// <summary>The fields of the next record; null = there is none, or it is at fault.</summary>
        public List<(string Text, bool IsQuoted)>? Record()
        {
            if (_position >= text.Length || Fault is not null)
                return null;
            Line = ++_lines;
            var fields = new List<(string, bool)>();
            while (true)
            {
                var isQuoted = _position < text.Length && text[_position] == '"';
                if ((isQuoted ? Quoted() : Plain()) is not { } field)
                    return null;
                fields.Add((field, isQuoted));
                if (_position < text.Length && text[_position] == ',')
                {
                    _position++;
                    continue;
                }
                if (EndOfLine() || _position >= text.Length)
                    return fields;
                return Wrong("a field ends at a comma or at the end of its line, and more follows its double quote");
            }
        }

        private bool EndOfLine()
        {
            if (_position < text.Length && text[_position] == '\r' && _position + 1 < text.Length && text[_position + 1] == '\n')
                _position++;
            if (_position >= text.Length || text[_position] is not ('\n' or '\r'))
                return false;
            _position++;
            return true;
        }

        private string? Plain()
        {
            var start = _position;
            while (_position < text.Length && text[_position] is not (',' or '\r' or '\n' or '"'))
                _position++;
            if (_position < text.Length && text[_position] == '"')
            {
                Wrong("a double quote stands in a field that does not begin with one");
                return null;
            }
            return text[start.._position];
        }

        private string? Quoted()
        {
            var value = new StringBuilder();
            _position++;
            while (_position < text.Length)
            {
                var c = text[_position++];
                if (c == '\n')
                    _lines++;
                if (c != '"')
                    value.Append(c);
                else if (_position < text.Length && text[_position] == '"')
                {
                    value.Append('"');
                    _position++;
                }
                else
                    return value.ToString();
            }
            Wrong("a double quote is not closed");
            return null;
        }

        private List<(string, bool)>? Wrong(string message)
        {
            Fault ??= new RequestFault(400, "body", string.Create(CultureInfo.InvariantCulture, $"Line {Line} is not CSV: {message}."));
            return null;
        }
    }
}
