using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using RapidGable.Model;

namespace RapidGable.Building;

/// <summary>
/// What the simple CHECK constraints of a table say of single columns: bounds, listed values, lengths. Made-up values keep to
/// them; nothing else relies on them, since the database judges for itself.
/// </summary>
internal static partial class CheckHints
{
    /// <summary>
    /// The bounds of a column's values by its table's checks; <see cref="ValueRules.None"/> where they say nothing that is
    /// understood.
    /// </summary>
    /// <param name="checks">The conditions as the catalog spells them.</param>
    public static ValueRules Of(string column, EdmType type, ImmutableArray<string> checks)
    {
        var rules = ValueRules.None;
        // What holds only together with something else bounds nothing by itself.
        foreach (var check in checks.Where(c => !Either().IsMatch(c)))
        {
            foreach (var condition in Conditions(Plain(check)))
                rules = Narrowed(rules, condition, column, type);
        }
        return rules;
    }

    /// <summary>A condition without quotes of names, casts and the words in front of it.</summary>
    private static string Plain(string check)
    {
        var text = Cast().Replace(check, "");
        return NameQuotes().Replace(text, "$1");
    }

    private static IEnumerable<string> Conditions(string text)
    {
        // The AND of BETWEEN belongs to it.
        var kept = Between().Replace(text, "$1 between $2 and_also $3");
        return And().Split(kept).Select(c => c.Trim());
    }

    private static ValueRules Narrowed(ValueRules rules, string condition, string column, EdmType type)
    {
        var name = Regex.Escape(column);
        const RegexOptions Options = RegexOptions.IgnoreCase | RegexOptions.CultureInvariant;
        Match Find(string pattern) =>
            Regex.Match(
                condition,
                $@"(?<![\w.]){pattern.Replace("NAME", $@"\(*{name}\)*", StringComparison.Ordinal)}",
                Options,
                TimeSpan.FromSeconds(1)
            );
        if (Find(@"NAME\s+between\s+(\S+)\s+and_also\s+([^\s()]+)") is { Success: true } between)
            return rules with
            {
                Minimum = Value(between.Groups[1].Value, type) ?? rules.Minimum,
                Maximum = Value(between.Groups[2].Value, type) ?? rules.Maximum,
            };
        if (Find(@"NAME\s+in\s*\(([^)]*)\)") is { Success: true } listed)
            return rules with { Values = Values(listed.Groups[1].Value, type) };
        if (Find(@"NAME\s*=\s*any\s*\(\(*array\[([^\]]*)\]") is { Success: true } any)
            return rules with { Values = Values(any.Groups[1].Value, type) };
        if (
            Regex.Match(condition, $@"(?:char_)?length\(\(*{name}\)*\)\s*(>=|>|<=|<|=)\s*(\d+)", Options, TimeSpan.FromSeconds(1)) is
            { Success: true } length
        )
            return WithLength(rules, length.Groups[1].Value, int.Parse(length.Groups[2].Value, CultureInfo.InvariantCulture));
        return Find(@"NAME\s*(>=|>|<=|<)\s*\(*('[^']*'|-?[\d.]+)") is { Success: true } bound
            ? WithBound(rules, bound.Groups[1].Value, Value(bound.Groups[2].Value, type), type)
            : rules;
    }

    private static ValueRules WithLength(ValueRules rules, string sign, int number) =>
        sign switch
        {
            ">=" => rules with { MinLength = number },
            ">" => rules with { MinLength = number + 1 },
            "<=" => rules with { MaxLength = number },
            "<" => rules with { MaxLength = number - 1 },
            _ => rules with { MinLength = number, MaxLength = number },
        };

    private static ValueRules WithBound(ValueRules rules, string sign, object? value, EdmType type)
    {
        if (value is null)
            return rules;
        var isStrict = sign.Length == 1;
        // One step inside of a strict bound is enough for made-up values.
        var step = value is decimal number ? number + (sign[0] == '>' ? 1 : -1) : value;
        var kept = isStrict && type.IsNumeric ? step : value;
        return sign[0] == '>' ? rules with { Minimum = kept } : rules with { Maximum = kept };
    }

    private static ImmutableArray<object> Values(string list, EdmType type) =>
        [.. Item().Matches(list).Select(m => Value(m.Value, type)).OfType<object>()];

    /// <summary>A literal as a published value of the type; null when it is none.</summary>
    private static object? Value(string literal, EdmType type)
    {
        var text = literal.Trim('(', ')', ' ');
        text = text.StartsWith('\'') ? text.Trim('\'').Replace("''", "'", StringComparison.Ordinal) : text;
        if (type.IsNumeric)
            return decimal.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number) ? number : null;
        return type.Kind switch
        {
            EdmKind.String => text,
            EdmKind.Date => DateOnly.TryParse(text, CultureInfo.InvariantCulture, out var date) ? date : null,
            EdmKind.DateTimeOffset => DateTime.TryParse(
                text,
                CultureInfo.InvariantCulture,
                DateTimeStyles.AdjustToUniversal | DateTimeStyles.AssumeUniversal,
                out var instant
            )
                ? instant
                : null,
            _ => null,
        };
    }

    [GeneratedRegex(@"\bor\b|\bcase\b", RegexOptions.IgnoreCase)]
    private static partial Regex Either();

    [GeneratedRegex(@"::[a-z_ ]+(\(\d+(,\d+)?\))?(\[\])?", RegexOptions.IgnoreCase)]
    private static partial Regex Cast();

    [GeneratedRegex("[`\"]([^`\"]+)[`\"]")]
    private static partial Regex NameQuotes();

    [GeneratedRegex(@"(\S+)\s+between\s+(\S+)\s+and\s+(\S+)", RegexOptions.IgnoreCase)]
    private static partial Regex Between();

    [GeneratedRegex(@"\band\b", RegexOptions.IgnoreCase)]
    private static partial Regex And();

    [GeneratedRegex(@"'(?:[^']|'')*'|-?[\d.]+")]
    private static partial Regex Item();
}
