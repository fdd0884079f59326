namespace RapidGable.Model;

/// <summary>Where a part of a date or time stands in a text of a fixed layout.</summary>
/// <param name="Start">The first character, from 1.</param>
/// <param name="Length">Its digits.</param>
/// <param name="Width">The characters of the whole text; null = they vary behind the part.</param>
public sealed record TextPart(int Start, int Length, int? Width);

/// <summary>A format of .NET as the places of its parts, so that a database can read them where they stand.</summary>
internal static class FormatLayout
{
    /// <summary>The place of a part; null when the format does not have it, or not as digits at a fixed place in UTC.</summary>
    public static TextPart? Find(string format, CanonicalFunction part)
    {
        var wanted = part switch
        {
            CanonicalFunction.Year => "yyyy",
            CanonicalFunction.Month => "MM",
            CanonicalFunction.Day => "dd",
            CanonicalFunction.Hour => "HH",
            CanonicalFunction.Minute => "mm",
            CanonicalFunction.Second => "ss",
            _ => null,
        };
        // A single letter is a format with a name, and a zone moves the parts.
        if (wanted is null || format.Length < 2 || Runs(format).Any(r => !r.IsLiteral && r.Text is ['z' or 'K', ..]))
            return null;
        (int Start, int Length)? found = null;
        var width = 0;
        foreach (var (text, isLiteral) in Runs(format))
        {
            if (!isLiteral && text == wanted)
                found = (width + 1, text.Length);
            if (!isLiteral && !IsFixed(text))
                return found is { } early ? new TextPart(early.Start, early.Length, null) : null;
            width += text.Length;
        }
        return found is { } place ? new TextPart(place.Start, place.Length, width) : null;
    }

    private static bool IsFixed(string run) =>
        run is "yyyy" or "yy" or "MM" or "MMM" or "dd" or "ddd" or "HH" or "hh" or "mm" or "ss" or "tt"
        || (run[0] == 'f' && run.Length <= 7)
        || !char.IsAsciiLetter(run[0])
        || !"yMdHhmstfFgKz".Contains(run[0]);

    /// <summary>Letters of one kind that follow each other, and what stands between them as it is.</summary>
    private static IEnumerable<(string Text, bool IsLiteral)> Runs(string format)
    {
        for (var at = 0; at < format.Length; )
        {
            var first = format[at];
            if (first == '\\' && at + 1 < format.Length)
            {
                yield return (format[(at + 1)..(at + 2)], true);
                at += 2;
            }
            else if (first is '\'' or '"' && format.IndexOf(first, at + 1) is > 0 and var end)
            {
                yield return (format[(at + 1)..end], true);
                at = end + 1;
            }
            else
            {
                var start = at;
                while (at < format.Length && format[at] == first)
                    at++;
                yield return (format[start..at], false);
            }
        }
    }
}
