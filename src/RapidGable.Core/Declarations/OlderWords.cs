namespace RapidGable.Declarations;

/// <summary>
/// Words of declarations that have another name now. They are refused; <c>gable upgrade</c> puts the new ones in their place.
/// </summary>
internal static class OlderWords
{
    /// <summary>Of a column: the old word and the new one.</summary>
    public static readonly (string Old, string Word)[] OfColumns =
    [
        ("least", "minimum"),
        ("most", "maximum"),
        ("shortest", "min-length"),
        ("longest", "max-length"),
        ("make", "generate"),
        ("remake", "regenerate"),
    ];
}
