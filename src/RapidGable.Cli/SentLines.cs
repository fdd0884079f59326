using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using CsvHelper;
using CsvHelper.Configuration;
using RapidGable.Verification;

namespace RapidGable.Cli;

/// <summary>A line of a file that is to become an entity.</summary>
/// <param name="Number">Of its first line in the file, from 1.</param>
/// <param name="Json">The entity; null = the line is none.</param>
/// <param name="Fault">Why it is none.</param>
internal sealed record SentLine(long Number, string? Json, string? Fault);

/// <summary>Reads entities from JSON, JSON lines or CSV, one at a time.</summary>
internal static partial class SentLines
{
    /// <param name="format">json, jsonl or csv.</param>
    /// <param name="types">Types of the properties by name, for CSV, whose values are texts.</param>
    public static IEnumerable<SentLine> Read(TextReader reader, string format, IReadOnlyDictionary<string, CsdlProperty> types) =>
        format switch
        {
            "csv" => Csv(reader, types),
            "json" => Json(reader),
            _ => JsonLines(reader),
        };

    private static IEnumerable<SentLine> JsonLines(TextReader reader)
    {
        var number = 0L;
        while (reader.ReadLine() is { } line)
        {
            number++;
            if (line.Trim().Length > 0)
                yield return Checked(number, line);
        }
    }

    private static SentLine Checked(long number, string text)
    {
        try
        {
            using var document = JsonDocument.Parse(text);
            return document.RootElement.ValueKind == JsonValueKind.Object
                ? new SentLine(number, text, null)
                : new SentLine(number, null, "It is not a JSON object.");
        }
        catch (JsonException exception)
        {
            return new SentLine(number, null, $"It is not JSON: byte {exception.BytePositionInLine + 1}.");
        }
    }

    /// <summary>One entity, an array of them, or a collection as a service gives it.</summary>
    private static IEnumerable<SentLine> Json(TextReader reader)
    {
        var text = reader.ReadToEnd();
        JsonDocument document;
        string? fault = null;
        try
        {
            document = JsonDocument.Parse(text);
        }
        catch (JsonException exception)
        {
            (document, fault) = (
                JsonDocument.Parse("null"),
                $"It is not JSON: line {exception.LineNumber + 1}, byte {exception.BytePositionInLine + 1}."
            );
        }
        using (document)
        {
            var root = document.RootElement;
            if (fault is not null || root.ValueKind is not (JsonValueKind.Object or JsonValueKind.Array))
            {
                yield return new SentLine(1, null, fault ?? "It is neither an entity nor an array of them.");
                yield break;
            }
            var items =
                root.ValueKind == JsonValueKind.Array ? root
                : root.TryGetProperty("value", out var value) && value.ValueKind == JsonValueKind.Array ? value
                : default;
            if (items.ValueKind == JsonValueKind.Undefined)
            {
                yield return new SentLine(1, root.GetRawText(), null);
                yield break;
            }
            var number = 0L;
            foreach (var item in items.EnumerateArray())
                yield return item.ValueKind == JsonValueKind.Object
                    ? new SentLine(++number, item.GetRawText(), null)
                    : new SentLine(++number, null, "It is not a JSON object.");
        }
    }

    private static IEnumerable<SentLine> Csv(TextReader reader, IReadOnlyDictionary<string, CsdlProperty> types)
    {
        var isBad = false;
        using var csv = new CsvReader(
            reader,
            new CsvConfiguration(CultureInfo.InvariantCulture)
            {
                BadDataFound = _ => isBad = true,
                MissingFieldFound = null,
                DetectDelimiter = true,
                DetectDelimiterValues = [",", ";", "\t"],
                TrimOptions = TrimOptions.None,
            },
            leaveOpen: true
        );
        if (!csv.Read() || !csv.ReadHeader())
            yield break;
        var names = csv.HeaderRecord!.Select(h => h.Trim()).ToArray();
        while (csv.Read())
        {
            var parser = csv.Context.Parser!;
            var fields = parser.Record!;
            // A quote that is never closed takes the rest of the file with it, the end of its last line included.
            var isOpen = isBad && fields[^1].EndsWith('\n');
            var number =
                parser.RawRow - (isOpen ? parser.RawRecord.TrimStart('\r', '\n') : parser.RawRecord.Trim('\r', '\n')).Count(c => c == '\n');
            yield return isBad
                ? new SentLine(
                    number,
                    null,
                    isOpen
                        ? "A quote is not closed before the end of the file."
                        : "A quote stands inside of a field; write the field in quotes, and each quote in it twice."
                )
            : fields.Length != names.Length
                ? new SentLine(number, null, $"It has {fields.Length} fields, and the first line has {names.Length}.")
            : Entity(number, names, fields, types);
            isBad = false;
        }
    }

    /// <summary>An empty field is left out; what the metadata knows as a number or a truth is written as one.</summary>
    private static SentLine Entity(long number, string[] names, string[] fields, IReadOnlyDictionary<string, CsdlProperty> types)
    {
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream))
        {
            json.WriteStartObject();
            for (var i = 0; i < fields.Length; i++)
            {
                if (fields[i].Length == 0)
                    continue;
                json.WritePropertyName(names[i]);
                Value(json, fields[i], types.GetValueOrDefault(names[i])?.Type);
            }
            json.WriteEndObject();
        }
        return new SentLine(number, Encoding.UTF8.GetString(stream.ToArray()), null);
    }

    private static void Value(Utf8JsonWriter json, string text, string? type)
    {
        if (type is "Edm.Boolean" && text.ToLowerInvariant() is "true" or "false" or "1" or "0")
            json.WriteBooleanValue(text is "1" || text.Equals("true", StringComparison.OrdinalIgnoreCase));
        else if (
            type is "Edm.Byte" or "Edm.SByte" or "Edm.Int16" or "Edm.Int32" or "Edm.Int64" or "Edm.Decimal" or "Edm.Single" or "Edm.Double"
            && Number().Match(text) is { Success: true } number
        )
            // Digit by digit as it is written, in the form of JSON.
            json.WriteRawValue(
                $"{(number.Groups["minus"].Success ? "-" : "")}"
                    + $"{(number.Groups["whole"].Value is { Length: > 0 } whole ? whole : "0")}"
                    + $"{(number.Groups["part"].Value is { Length: > 0 } part ? "." + part : "")}{number.Groups["power"].Value}"
            );
        else
            json.WriteStringValue(text);
    }

    [GeneratedRegex(@"^(?:(?<minus>-)|\+)?(?=\.?[0-9])0*(?<whole>[0-9]*)(?:\.(?<part>[0-9]*))?(?<power>[eE][+-]?[0-9]+)?$")]
    private static partial Regex Number();
}
