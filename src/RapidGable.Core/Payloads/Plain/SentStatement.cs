using System.Globalization;
using System.Text;
using System.Text.Json;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads.Json;

namespace RapidGable.Payloads.Plain;

/// <summary>A statement over sets as a caller sends it.</summary>
/// <param name="Arguments">By name: string, long, decimal, <see cref="LongDecimal"/>, double or bool; null = NULL.</param>
public sealed record SentStatement(string Text, IReadOnlyDictionary<string, object?> Arguments)
{
    /// <summary>The media type of a statement alone (RFC 6922).</summary>
    public const string MediaType = "application/sql";

    /// <summary>A JSON object with <c>statement</c> and <c>parameters</c>.</summary>
    public static Result<SentStatement> Json(byte[] body)
    {
        if (!ODataJsonBody.Document(body).Is(out var document, out var fault))
            return fault;
        using (document)
        {
            if (document.RootElement.ValueKind != JsonValueKind.Object)
                return Wrong("The body is a JSON object with 'statement' and 'parameters'.");
            string? text = null;
            var arguments = new Dictionary<string, object?>(StringComparer.Ordinal);
            foreach (var member in document.RootElement.EnumerateObject())
            {
                if (member.Name == "statement" && member.Value.ValueKind == JsonValueKind.String)
                    text = member.Value.GetString();
                else if (member.Name != "parameters" || member.Value.ValueKind != JsonValueKind.Object)
                    return Wrong($"'{member.Name}' is none of 'statement', a text, and 'parameters', an object.");
                else if (Read(member.Value, arguments) is { } wrong)
                    return wrong;
            }
            return text is null ? Wrong("'statement' is missing.") : new SentStatement(text, arguments);
        }
    }

    /// <summary>A statement alone, whose parameters stand in the address as texts.</summary>
    public static Result<SentStatement> Plain(byte[] body, IEnumerable<KeyValuePair<string, string>> parameters)
    {
        try
        {
            var arguments = new Dictionary<string, object?>(StringComparer.Ordinal);
            foreach (var (name, value) in parameters)
            {
                if (!arguments.TryAdd(name, value))
                    return new RequestFault(400, "argument", $"'{name}' is given twice.", name);
            }
            return new SentStatement(new UTF8Encoding(false, throwOnInvalidBytes: true).GetString(body), arguments);
        }
        catch (DecoderFallbackException)
        {
            return Wrong("The body is not valid UTF-8.");
        }
    }

    private static RequestFault? Read(JsonElement parameters, Dictionary<string, object?> arguments)
    {
        foreach (var parameter in parameters.EnumerateObject())
        {
            if (parameter.Value.ValueKind is JsonValueKind.Object or JsonValueKind.Array)
                return new RequestFault(400, "argument", $"'{parameter.Name}' is no single value.", "parameters");
            if (!arguments.TryAdd(parameter.Name, Value(parameter.Value)))
                return new RequestFault(400, "argument", $"'{parameter.Name}' is given twice.", "parameters");
        }
        return null;
    }

    private static object? Value(JsonElement value) =>
        value.ValueKind switch
        {
            JsonValueKind.String => value.GetString(),
            JsonValueKind.True => true,
            JsonValueKind.False => false,
            JsonValueKind.Number => Number(value.GetRawText()),
            _ => null,
        };

    private static object Number(string text) =>
        (text.AsSpan().IndexOfAny('e', 'E') >= 0 ? null : Lexer.Plain(text, EdmType.Int64) ?? Lexer.Plain(text, EdmType.Decimal))
        ?? double.Parse(text, CultureInfo.InvariantCulture);

    private static RequestFault Wrong(string message) => new(400, "body", message);
}
