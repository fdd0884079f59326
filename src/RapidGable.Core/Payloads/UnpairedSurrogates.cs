using System.Text.Json;

namespace RapidGable.Payloads;

/// <summary>
/// Names and texts of JSON that are none: an escape may stand for half of a character that takes two (RFC 8259 8.2), and no database
/// keeps that.
/// </summary>
public static class UnpairedSurrogates
{
    /// <summary>The place of the first, in bytes from 0; null = there is none.</summary>
    /// <param name="json">Valid JSON.</param>
    public static long? Find(ReadOnlySpan<byte> json)
    {
        if (json.IndexOf("\\ud"u8) < 0 && json.IndexOf("\\uD"u8) < 0)
            return null;
        var reader = new Utf8JsonReader(json, new JsonReaderOptions { MaxDepth = 1_000 });
        while (reader.Read())
        {
            if (reader is { ValueIsEscaped: true, TokenType: JsonTokenType.PropertyName or JsonTokenType.String } && !IsWhole(ref reader))
                return reader.TokenStartIndex;
        }
        return null;
    }

    private static bool IsWhole(ref Utf8JsonReader reader)
    {
        try
        {
            return reader.GetString() is not null;
        }
        catch (InvalidOperationException)
        {
            return false;
        }
    }
}
