using System.Text.RegularExpressions;

namespace RapidGable.Cli;

/// <summary>What is wrong with the arguments of a command, in words that name no type of the runtime.</summary>
internal static partial class UsageText
{
    /// <param name="message">As the parser of the command line gives it.</param>
    public static string Of(string message) =>
        Unparsed().Match(message) is { Success: true } match
            ? $"'{match.Groups[1].Value}' is not a whole number, which {match.Groups[2].Value} takes."
            : message;

    [GeneratedRegex(@"^Cannot parse argument '(.*)' for (?:option|argument) '(.*)' as expected type '.*Int(?:32|64).*'\.")]
    private static partial Regex Unparsed();
}
