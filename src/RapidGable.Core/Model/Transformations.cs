using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>The transformations that <c>$apply</c> takes, as requests are read and as the metadata says.</summary>
internal static class Transformations
{
    public static ImmutableArray<string> Known { get; } =
    [
        "aggregate",
        "groupby",
        "filter",
        "search",
        "compute",
        "concat",
        "identity",
        "topcount",
        "topsum",
        "toppercent",
        "bottomcount",
        "bottomsum",
        "bottompercent",
        "orderby",
        "skip",
        "top",
    ];
}
