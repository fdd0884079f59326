using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using System.Text.Json;

namespace RapidGable.Verification;

/// <summary>An answer to a kept request.</summary>
/// <param name="Status">0 = nothing came.</param>
/// <param name="Headers">Names in small letters.</param>
public sealed record KeptAnswer(int Status, ImmutableDictionary<string, string> Headers, byte[] Body, TimeSpan Time)
{
    public string Text => Encoding.UTF8.GetString(Body);

    public string? ContentType => Headers.GetValueOrDefault("content-type");

    /// <summary>The body as JSON; null = it is none.</summary>
    public JsonElement? Json
    {
        get
        {
            try
            {
                return ContentType?.Contains("json", StringComparison.Ordinal) == true ? JsonDocument.Parse(Body).RootElement : null;
            }
            catch (JsonException)
            {
                return null;
            }
        }
    }

    /// <summary>The rows of a list: of an object with <c>rows</c> or <c>value</c>, or of a bare array; null = it is none.</summary>
    public ImmutableArray<JsonElement>? Rows
    {
        get
        {
            if (Json is not { } json)
                return null;
            var list =
                json.ValueKind == JsonValueKind.Array ? json
                : json.ValueKind == JsonValueKind.Object && json.TryGetProperty("rows", out var rows) ? rows
                : json.ValueKind == JsonValueKind.Object && json.TryGetProperty("value", out var value) ? value
                : default;
            return list.ValueKind == JsonValueKind.Array ? [.. list.EnumerateArray()] : null;
        }
    }
}

/// <summary>Holds an answer to what a kept request expects.</summary>
public static class KeptAnswerCheck
{
    /// <summary>What is wrong with an answer in the light of an expectation; null = nothing.</summary>
    /// <param name="word">What kind of expectation it is, such as <c>status</c>.</param>
    /// <param name="text">What is expected, such as <c>200</c>.</param>
    /// <param name="misfit">Tells what keeps the answer from the schema of its description; null = there is no description.</param>
    public static string? Fault(string word, string text, KeptAnswer answer, Func<string?>? misfit = null) =>
        word switch
        {
            "status" => answer.Status.ToString(CultureInfo.InvariantCulture) == text ? null : $"The status is {answer.Status}, not {text}.",
            "header" => Header(text, answer),
            "count" => Count(text, answer),
            "value" => Value(text, answer),
            "order" => Order(text, answer),
            "schema" => misfit is null ? "The service has no description of this address." : misfit(),
            "time" => Time(text, answer),
            "without" => answer.Text.Contains(text, StringComparison.Ordinal) ? $"The answer holds '{text}'." : null,
            _ => $"'{word}' cannot be expected.",
        };

    private static string? Header(string text, KeptAnswer answer)
    {
        var parts = text.Split(' ', 2);
        var value = answer.Headers.GetValueOrDefault(parts[0].ToLowerInvariant());
        if (value is null)
            return $"There is no header '{parts[0]}'.";
        return parts.Length == 1 || value.Contains(parts[1].Trim(), StringComparison.OrdinalIgnoreCase)
            ? null
            : $"The header '{parts[0]}' is '{value}'.";
    }

    private static string? Count(string text, KeptAnswer answer)
    {
        if (answer.Rows is not { } rows)
            return "The answer is no list of rows as JSON.";
        var parts = text.Split(' ', StringSplitOptions.RemoveEmptyEntries);
        var (sign, number) = parts.Length == 2 ? (parts[0], parts[1]) : ("=", text);
        if (!int.TryParse(number, NumberStyles.None, CultureInfo.InvariantCulture, out var wanted))
            return $"'{text}' is no number of rows.";
        var isRight = sign switch
        {
            "=" or "==" => rows.Length == wanted,
            ">=" => rows.Length >= wanted,
            "<=" => rows.Length <= wanted,
            ">" => rows.Length > wanted,
            "<" => rows.Length < wanted,
            _ => false,
        };
        return isRight ? null : $"There are {rows.Length} rows, not {text}.";
    }

    private static string? Time(string text, KeptAnswer answer)
    {
        var number = text.Split(' ')[0].Replace("ms", "", StringComparison.Ordinal);
        if (!double.TryParse(number, NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var most))
            return $"'{text}' is no time, such as '500 ms'.";
        if (text.EndsWith(" s", StringComparison.Ordinal))
            most *= 1000;
        return answer.Time.TotalMilliseconds <= most ? null : $"It took {answer.Time.TotalMilliseconds:0} ms, and {text} are allowed.";
    }

    private static string? Value(string text, KeptAnswer answer)
    {
        var at = text.IndexOf('=', StringComparison.Ordinal);
        if (at < 0)
            return $"'{text}' needs a '=' between the place and its value.";
        var (path, wanted) = (text[..at].Trim(), text[(at + 1)..].Trim());
        if (answer.Json is not { } json)
            return "The answer is no JSON.";
        if (At(json, path) is not { } found)
            return $"There is no '{path}'.";
        var shown = found.GetRawText();
        return shown == wanted || (found.ValueKind == JsonValueKind.String && found.GetString() == wanted.Trim('"'))
            ? null
            : $"'{path}' is {shown}, not {wanted}.";
    }

    /// <summary>The element at a path such as <c>rows[0].position.latitude</c>; null = there is none.</summary>
    private static JsonElement? At(JsonElement json, string path)
    {
        foreach (var step in path.Replace("[", ".[", StringComparison.Ordinal).Split('.', StringSplitOptions.RemoveEmptyEntries))
        {
            if (step[0] == '[')
            {
                if (
                    json.ValueKind != JsonValueKind.Array
                    || !int.TryParse(step.Trim('[', ']'), NumberStyles.None, CultureInfo.InvariantCulture, out var index)
                    || index >= json.GetArrayLength()
                )
                    return null;
                json = json[index];
            }
            else if (json.ValueKind != JsonValueKind.Object || !json.TryGetProperty(step, out json))
                return null;
        }
        return json;
    }

    private static string? Order(string text, KeptAnswer answer)
    {
        if (answer.Rows is not { } rows)
            return "The answer is no list of rows as JSON.";
        var parts = text.Split(' ', StringSplitOptions.RemoveEmptyEntries);
        var isDescending = parts.Length > 1 && parts[1] == "desc";
        JsonElement? former = null;
        for (var i = 0; i < rows.Length; i++)
        {
            if (At(rows[i], parts[0]) is not { } value)
                return $"Row {i} has no '{parts[0]}'.";
            if (former is { } before && Compare(before, value) is var order && (isDescending ? order < 0 : order > 0))
                return $"Row {i} is out of order: {value.GetRawText()} after {before.GetRawText()}.";
            if (value.ValueKind != JsonValueKind.Null)
                former = value;
        }
        return null;
    }

    private static int Compare(JsonElement first, JsonElement second) =>
        first.ValueKind == JsonValueKind.Number && second.ValueKind == JsonValueKind.Number
            ? first.GetDouble().CompareTo(second.GetDouble())
            : string.CompareOrdinal(first.ToString(), second.ToString());
}
