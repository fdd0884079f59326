using System.Collections.Frozen;
using System.Globalization;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>Texts as YAML takes them.</summary>
public static class YamlText
{
    private static readonly FrozenSet<string> Words = new HashSet<string>(StringComparer.OrdinalIgnoreCase)
    {
        "true",
        "false",
        "yes",
        "no",
        "on",
        "off",
        "null",
        "y",
        "n",
    }.ToFrozenSet(StringComparer.OrdinalIgnoreCase);

    /// <summary>The text as it is where it reads back as itself, else in double quotes.</summary>
    public static string Of(string text) => IsPlain(text) ? text : $"\"{string.Concat(text.Select(Escaped))}\"";

    private static string Escaped(char character) =>
        character switch
        {
            '"' => "\\\"",
            '\\' => "\\\\",
            '\n' => "\\n",
            '\r' => "\\r",
            '\t' => "\\t",
            _ when char.IsControl(character) => $"\\u{(int)character:x4}",
            _ => character.ToString(),
        };

    private static bool IsPlain(string text) =>
        !Words.Contains(text)
        && text.Length > 0
        && text[0] is not ('-' or '.')
        && (SimpleIdentifier.IsValid(text) || text.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '_') || IsType(text))
        && !double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out _)
        && !char.IsDigit(text[0]);

    /// <summary>A type with one facet, such as <c>string(40)</c>.</summary>
    private static bool IsType(string text) =>
        text.EndsWith(')')
        && text.IndexOf('(') is > 0 and var open
        && text[..open].All(char.IsAsciiLetter)
        && text[(open + 1)..^1].All(char.IsAsciiLetterOrDigit);
}
