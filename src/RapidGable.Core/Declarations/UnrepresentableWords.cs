using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>The word <c>unrepresentable</c> of a source or a column.</summary>
internal static class UnrepresentableWords
{
    public const string Name = "unrepresentable";

    public static readonly string[] All = ["null", "text", "fault"];

    /// <summary>What is declared; null = nothing, or nothing that is known, which is then reported.</summary>
    public static Located<UnrepresentableValues>? Read(MappingReader reader, Diagnostics diagnostics)
    {
        if (reader.Word(Name) is not { } word)
            return null;
        if (All.Contains(word.Value))
            return new Located<UnrepresentableValues>(Enum.Parse<UnrepresentableValues>(word.Value, ignoreCase: true), word.Location);
        var message = $"'{word.Value}' is nothing that a value can become.{NearestName.Hint(word.Value, All)}";
        diagnostics.Error("unrepresentable", message, word.Location, $"Words: {string.Join(", ", All)}.");
        return null;
    }
}
