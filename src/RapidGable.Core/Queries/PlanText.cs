using System.Text.RegularExpressions;

namespace RapidGable.Queries;

/// <summary>The plan of an engine for people who may not see the values that a request was sent with.</summary>
public static partial class PlanText
{
    /// <summary>The line with question marks in the place of values. Costs and numbers of rows stay.</summary>
    /// <remarks>PostgreSQL writes the values of parameters into the conditions of its plans, as texts or as numbers.</remarks>
    public static string WithoutValues(string line)
    {
        var quoted = Quoted().Replace(line, "'?'");
        return Condition().Match(quoted) is { Success: true, Length: var start }
            ? quoted[..start] + Number().Replace(quoted[start..], "?")
            : quoted;
    }

    [GeneratedRegex("'(?:[^']|'')*'")]
    private static partial Regex Quoted();

    /// <summary>What a line starts with that says more of the step above it, such as <c>Index Cond:</c>.</summary>
    [GeneratedRegex(@"^\s*[A-Z][A-Za-z ]*: ")]
    private static partial Regex Condition();

    [GeneratedRegex(@"(?<![\w.$""])-?\d+(?:\.\d+)?(?![\w.])")]
    private static partial Regex Number();
}
