using System.Globalization;
using System.Text;

namespace RapidGable.Model;

/// <summary>The names that the standard allows for types, sets and properties (CSDL 15.2), and how others become one.</summary>
public static class SimpleIdentifier
{
    public const int MaxLength = 128;

    /// <summary>
    /// Whether a text is a simple identifier: a letter or <c>_</c>, then letters, digits, marks and connectors; 1 to 128 characters.
    /// </summary>
    public static bool IsValid(string text)
    {
        if (text.Length == 0)
            return false;
        var count = 0;
        foreach (var rune in text.EnumerateRunes())
        {
            if (!(count == 0 ? IsLead(rune) : IsFollower(rune)))
                return false;
            count++;
        }
        return count <= MaxLength;
    }

    /// <summary>
    /// The one rule for names from the source: each run of characters that may not stand there becomes one <c>_</c>,
    /// blanks and <c>_</c> at the end are dropped, a name that then starts with a digit gets a <c>_</c> in front.
    /// </summary>
    public static string From(string text)
    {
        var result = new StringBuilder(text.Length);
        var gap = false;
        foreach (var rune in text.EnumerateRunes())
        {
            if (!IsFollower(rune))
            {
                gap = true;
                continue;
            }
            if (gap && result.Length > 0)
                result.Append('_');
            gap = false;
            result.Append(rune);
        }
        var name = result.ToString();
        if (name.Length == 0)
            return "_";
        if (!IsLead(Rune.GetRuneAt(name, 0)))
            name = "_" + name;
        return name.Length > MaxLength ? name[..MaxLength] : name;
    }

    private static bool IsLead(Rune rune) =>
        rune.Value == '_'
        || Rune.GetUnicodeCategory(rune)
            is UnicodeCategory.UppercaseLetter
                or UnicodeCategory.LowercaseLetter
                or UnicodeCategory.TitlecaseLetter
                or UnicodeCategory.ModifierLetter
                or UnicodeCategory.OtherLetter
                or UnicodeCategory.LetterNumber;

    private static bool IsFollower(Rune rune) =>
        IsLead(rune)
        || Rune.GetUnicodeCategory(rune)
            is UnicodeCategory.DecimalDigitNumber
                or UnicodeCategory.NonSpacingMark
                or UnicodeCategory.SpacingCombiningMark
                or UnicodeCategory.ConnectorPunctuation
                or UnicodeCategory.Format;
}
