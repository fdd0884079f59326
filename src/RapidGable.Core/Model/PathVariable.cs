namespace RapidGable.Model;

/// <summary>Segments of a path template that stand for a value: <c>{name}</c> (RFC 6570, level 1).</summary>
public static class PathVariable
{
    /// <summary>The name of the variable that a segment is; null = it is none.</summary>
    public static string? Of(string segment) =>
        segment.Length > 2 && segment[0] == '{' && segment[^1] == '}' && SimpleIdentifier.IsValid(segment[1..^1]) ? segment[1..^1] : null;
}
