using System.Globalization;
using System.Text.RegularExpressions;
using RapidGable.Model;

namespace RapidGable.Sources.Sqlite;

/// <summary>
/// Declared column types -> types with facets. SQLite ties types to values, so the name is a promise that check and verify hold the
/// data to.
/// </summary>
internal static partial class SqliteTypes
{
    /// <summary>The type for a declared one; null when it states none, so that only the values can tell.</summary>
    public static (EdmType? Type, string Reason, string? MediaType) Map(string declared)
    {
        var match = Shape().Match(declared.Trim());
        var word = match.Groups["word"].Value.ToUpperInvariant();
        var first = Number(match.Groups["first"]);
        var second = Number(match.Groups["second"]);
        return word switch
        {
            "" or "NUM" or "FLEXNUM" or "BLOB" when declared.Length == 0 || word != "BLOB" => (null, "no declared type", null),
            "BOOLEAN" or "BOOL" => (EdmType.Boolean, "declared " + declared, null),
            "DATE" => (EdmType.Date, "declared DATE, kept as ISO text", null),
            "DATETIME" or "TIMESTAMP" => (
                new EdmType(EdmKind.DateTimeOffset, Precision: 0),
                $"declared {declared}, kept as ISO text in UTC",
                null
            ),
            "TIME" => (EdmType.TimeOfDay, "declared TIME, kept as ISO text", null),
            "UUID" or "GUID" => (EdmType.Guid, "declared " + declared, null),
            "JSON" => (EdmType.String, "declared JSON", "application/json"),
            "DECIMAL" or "NUMERIC" => (
                new EdmType(EdmKind.Decimal, Precision: first is > 0 ? first : null, Scale: first is null ? null : second ?? 0),
                "declared " + declared,
                null
            ),
            _ when word.StartsWith("INTERVAL", StringComparison.Ordinal) => (
                new EdmType(EdmKind.Duration, Precision: 6),
                "declared INTERVAL, kept as seconds",
                null
            ),
            _ => ByAffinity(word, declared, first),
        };
    }

    private static (EdmType?, string, string?) ByAffinity(string word, string declared, int? length)
    {
        if (word.Contains("INT", StringComparison.Ordinal))
            return (EdmType.Int64, $"declared {declared}: integers take 64 bits", null);
        if (
            word.Contains("CHAR", StringComparison.Ordinal)
            || word.Contains("CLOB", StringComparison.Ordinal)
            || word.Contains("TEXT", StringComparison.Ordinal)
        )
            return (length is > 0 ? new EdmType(EdmKind.String, MaxLength: length) : EdmType.String, "declared " + declared, null);
        if (word.Contains("BLOB", StringComparison.Ordinal) || word.Contains("BINARY", StringComparison.Ordinal))
            return (length is > 0 ? new EdmType(EdmKind.Binary, MaxLength: length) : EdmType.Binary, "declared " + declared, null);
        if (
            word.Contains("REAL", StringComparison.Ordinal)
            || word.Contains("FLOA", StringComparison.Ordinal)
            || word.Contains("DOUB", StringComparison.Ordinal)
        )
            return (EdmType.Double, "declared " + declared, null);
        return (null, $"the declared type {declared} is not known", null);
    }

    private static int? Number(Group group) =>
        group.Success && int.TryParse(group.ValueSpan, NumberStyles.None, CultureInfo.InvariantCulture, out var number) ? number : null;

    [GeneratedRegex(@"^(?<word>[^()]*?)\s*(\(\s*(?<first>\d+)\s*(,\s*(?<second>\d+)\s*)?\))?\s*$")]
    private static partial Regex Shape();
}
