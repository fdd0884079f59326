using System.Text;
using System.Text.RegularExpressions;

namespace RapidGable.Model;

/// <summary>
/// Regular expressions of ECMAScript for engines whose <c>$</c> also matches before a line feed at the end of a text, which it does not
/// there (ECMA-262, 22.2.2.4).
/// </summary>
public static class EcmaPattern
{
    /// <summary>Whether a text matches. The pattern is as it is published; only texts that end with a line feed need another one.</summary>
    /// <exception cref="RegexMatchTimeoutException">When it takes longer than the pattern allows.</exception>
    public static bool IsMatch(Regex pattern, string text) =>
        text.EndsWith('\n') ? Regex.IsMatch(text, ToEnd(pattern.ToString()), pattern.Options, pattern.MatchTimeout) : pattern.IsMatch(text);

    /// <summary>The pattern with each <c>$</c> that is an anchor bound to the very end.</summary>
    public static string ToEnd(string pattern)
    {
        if (!pattern.Contains('$'))
            return pattern;
        var bound = new StringBuilder(pattern.Length + 8);
        var isInClass = false;
        for (var i = 0; i < pattern.Length; i++)
        {
            bound.Append(pattern[i]);
            switch (pattern[i])
            {
                case '\\' when i + 1 < pattern.Length:
                    bound.Append(pattern[++i]);
                    break;
                case '[':
                    isInClass = true;
                    break;
                case ']':
                    isInClass = false;
                    break;
                case '$' when !isInClass:
                    bound.Append("(?!\\n)");
                    break;
            }
        }
        return bound.ToString();
    }
}
