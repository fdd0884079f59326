using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Inspection;

/// <summary>Another type that a column could be published with.</summary>
/// <param name="Words">The words of a declaration that say so, such as <c>type</c> and <c>format</c>, in their order.</param>
/// <param name="Misfits">Rows whose value does not fit.</param>
/// <param name="Example">One of those values, short; null = all fit.</param>
public sealed record ConversionOffer(ImmutableArray<(string Word, string Value)> Words, long Misfits, string? Example);

/// <summary>A value and how many rows have it.</summary>
public sealed record ValueCount(string Value, long Rows);

/// <summary>What the rows of a table say of one of its columns.</summary>
/// <param name="Rows">That were read: all.</param>
/// <param name="Values">The different values, the most frequent first; empty when there are too many of them.</param>
/// <param name="Offers">Types that most of the values fit, the best first.</param>
/// <param name="Breaks">Rows whose published value breaks the declared rules.</param>
/// <param name="BreakExamples">What is wrong with some of them.</param>
public sealed record ColumnFindings(
    long Rows,
    long Nulls,
    ImmutableArray<ValueCount> Values,
    ImmutableArray<ConversionOffer> Offers,
    long Breaks,
    ImmutableArray<string> BreakExamples
);

/// <summary>Reads a column of all rows, and says which types its values fit and which of them break the rules of its property.</summary>
public sealed class ColumnLook
{
    /// <summary>Different values that are listed; with more, none is.</summary>
    public const int MostValues = 40;

    private const int LongestValue = 60;
    private const int LongestListed = 200;
    private const int ExamplesShown = 5;

    /// <summary>The share of rows that may not fit an offer.</summary>
    private const double MostMisfits = 0.05;

    private static readonly string[] DateFormats = ["yyyy-MM-dd", "dd.MM.yyyy", "dd/MM/yyyy", "MM/dd/yyyy", "yyyyMMdd"];
    private static readonly string[] TimeFormats = ["HH:mm:ss", "HH:mm"];
    private static readonly string[] InstantFormats =
    [
        "yyyy-MM-dd'T'HH:mm:ss'Z'",
        "yyyy-MM-dd HH:mm:ss",
        "yyyy-MM-dd HH:mm",
        "yyyy-MM-dd'T'HH:mm:ss",
        "dd.MM.yyyy HH:mm:ss",
    ];

    /// <summary>Pairs of texts that stand for true and false.</summary>
    private static readonly (string True, string False)[] TruthWords =
    [
        ("Y", "N"),
        ("y", "n"),
        ("yes", "no"),
        ("true", "false"),
        ("T", "F"),
        ("t", "f"),
        ("1", "0"),
        ("J", "N"),
    ];

    // Numbers that count from 1970 are taken for times between these years only; else every number would be one.
    private static readonly DateTime Earliest = new(1980, 1, 1, 0, 0, 0, DateTimeKind.Utc);
    private static readonly DateTime Latest = new(2100, 1, 1, 0, 0, 0, DateTimeKind.Utc);

    private sealed record Candidate(ImmutableArray<(string Word, string Value)> Words, ValueConversion Conversion)
    {
        public long Misfits { get; set; }

        public string? Example { get; set; }
    }

    /// <summary>Reads all rows.</summary>
    /// <param name="rows">A table, a view or a SELECT without parameters.</param>
    /// <param name="column">As the catalog has it.</param>
    /// <param name="property">What is published of it; null = nothing is, so that no rules are tried.</param>
    /// <param name="progress">Is told how many rows were read.</param>
    /// <exception cref="SourceException">When the rows cannot be read.</exception>
    public static async Task<ColumnFindings> RunAsync(
        ISource source,
        StoredRows rows,
        SourceColumn column,
        Property? property,
        Action<long> progress,
        CancellationToken cancellation
    )
    {
        var stored = column.Type ?? EdmType.String;
        var form = column.Type is null ? column.TextForm : column.StorageForm;
        var candidates = stored.IsCollection ? [] : Candidates(stored);
        var values = new Dictionary<string, long>(StringComparer.Ordinal);
        var tooMany = stored.IsCollection || stored.Kind is EdmKind.Binary or EdmKind.Stream or EdmKind.Complex;
        var examples = new List<string>();
        long read = 0,
            nulls = 0,
            breaks = 0;
        await using var session = await source.OpenSessionAsync(SessionKind.Plain, cancellation);
        await using var cursor = await session.QueryAsync(
            $"SELECT {source.Dialect.Column(source.Dialect.Quote(column.Name), form)} FROM {source.Dialect.From(rows)} AS q",
            default,
            cancellation
        );
        while (await cursor.ReadAsync(cancellation))
        {
            if (++read % 50_000 == 0)
                progress(read);
            if (cursor.IsNull(0))
            {
                nulls++;
                continue;
            }
            if (Stored(cursor, stored) is not { } value)
                continue;
            foreach (var candidate in candidates)
                Try(candidate, value);
            tooMany = tooMany || !Counted(values, value);
            if (property is not null && Broken(property, value) is { } fault)
            {
                breaks++;
                if (examples.Count < ExamplesShown && !examples.Contains(fault))
                    examples.Add(fault);
            }
        }
        var filled = read - nulls;
        return new ColumnFindings(
            read,
            nulls,
            tooMany ? [] : [.. values.OrderByDescending(v => v.Value).ThenBy(v => v.Key, StringComparer.Ordinal).Select(Count)],
            Offers(candidates, filled),
            breaks,
            [.. examples]
        );
    }

    private static ImmutableArray<ConversionOffer> Offers(List<Candidate> candidates, long filled)
    {
        var fitting = candidates.Where(c => c.Misfits <= filled * MostMisfits && c.Misfits < filled).OrderBy(c => c.Misfits).ToList();
        // The smallest type that holds all numbers makes the larger ones needless.
        var smallest = fitting.Find(c => c.Conversion is NumberConversion);
        return
        [
            .. fitting
                .Where(c => c.Conversion is not NumberConversion || c == smallest || c.Misfits < smallest!.Misfits)
                .Select(c => new ConversionOffer(c.Words, c.Misfits, c.Example)),
        ];
    }

    private static ValueCount Count(KeyValuePair<string, long> value) => new(value.Key, value.Value);

    /// <summary>The value by its own type; null = it does not have it, which the proof of the data tells.</summary>
    private static object? Stored(IRowCursor cursor, EdmType type)
    {
        try
        {
            return RowValue.Read(cursor, type, 0);
        }
        catch (SourceException exception) when (exception.Kind == SourceFaultKind.BadData)
        {
            return null;
        }
    }

    private static bool Counted(Dictionary<string, long> values, object value)
    {
        var text = ValueConversion.Text(value);
        if (text.Length > LongestListed || (values.Count == MostValues && !values.ContainsKey(text)))
            return false;
        values[text] = values.GetValueOrDefault(text) + 1;
        return true;
    }

    private static void Try(Candidate candidate, object value)
    {
        var decoded = Decoded(candidate.Conversion, value);
        var isSound = candidate.Conversion switch
        {
            UnitConversion => decoded is DateTime moment && IsLikely(moment),
            // A text with zeros in front is a code rather than a number, and would lose them.
            NumberConversion => decoded is not null && !(value is string text && IsPadded(text)),
            _ => decoded is not null,
        };
        if (isSound)
            return;
        candidate.Misfits++;
        candidate.Example ??= Shown(value);
    }

    private static bool IsPadded(string text) => text.Length > 1 && text[0] == '0' && char.IsAsciiDigit(text[1]);

    private static object? Decoded(ValueConversion conversion, object value)
    {
        try
        {
            return conversion.Decode(value);
        }
        catch (Exception exception) when (exception is OverflowException or FormatException or ArgumentException)
        {
            return null;
        }
    }

    private static bool IsLikely(DateTime moment) => moment >= Earliest && moment < Latest;

    private static string Shown(object value)
    {
        var text = ValueConversion.Text(value);
        return text.Length > LongestValue ? text[..LongestValue] + "…" : text;
    }

    /// <summary>What is wrong with the published value, in words; null = nothing.</summary>
    private static string? Broken(Property property, object stored)
    {
        var published = property.Conversion is { } conversion
            ? conversion is JsonConversion or StreamConversion
                ? null
                : Decoded(conversion, stored)
            : stored;
        return published is not null && property.Rules.Fault(published) is { } fault ? $"'{Shown(published)}' {fault}" : null;
    }

    private static List<Candidate> Candidates(EdmType stored)
    {
        var found = new List<Candidate>();
        void Offer(ValueConversion conversion, string type, params ReadOnlySpan<(string, string)> more) =>
            found.Add(new Candidate([("type", type), .. more], conversion));
        if (stored.Kind == EdmKind.String)
        {
            foreach (var (yes, no) in TruthWords)
                Offer(new BooleanConversion(stored, yes, no), "boolean", ("true", yes), ("false", no));
            Formats(found, stored, "date", new EdmType(EdmKind.Date), DateFormats);
            Formats(found, stored, "timeofday", new EdmType(EdmKind.TimeOfDay, Precision: 7), TimeFormats);
            Formats(found, stored, "datetimeoffset", new EdmType(EdmKind.DateTimeOffset, Precision: 7), InstantFormats);
            Offer(new GuidConversion(stored), "guid");
            Numbers(found, stored);
        }
        else if (stored.IsIntegral || stored is { Kind: EdmKind.Decimal, Scale: 0 })
        {
            Offer(new BooleanConversion(stored, "1", "0"), "boolean");
            Offer(new FormatConversion(stored, new EdmType(EdmKind.Date), "yyyyMMdd"), "date", ("format", "yyyyMMdd"));
            var instant = new EdmType(EdmKind.DateTimeOffset, Precision: 3);
            Offer(new UnitConversion(stored, instant, "seconds", 1), "datetimeoffset", ("unit", "seconds"));
            Offer(new UnitConversion(stored, instant, "milliseconds", 0.001m), "datetimeoffset", ("unit", "milliseconds"));
            Numbers(found, stored);
        }
        else if (stored.IsNumeric)
            Numbers(found, stored);
        return found;
    }

    private static void Formats(List<Candidate> found, EdmType stored, string type, EdmType wanted, string[] formats)
    {
        foreach (var format in formats)
            found.Add(new Candidate([("type", type), ("format", format)], new FormatConversion(stored, wanted, format)));
    }

    /// <summary>Smaller types first: one that fits makes the larger ones needless.</summary>
    private static void Numbers(List<Candidate> found, EdmType stored)
    {
        foreach (var kind in new[] { EdmKind.Int16, EdmKind.Int32, EdmKind.Int64, EdmKind.Decimal, EdmKind.Double })
        {
            if (kind != stored.Kind && !(stored.IsIntegral && kind >= stored.Kind))
                found.Add(
                    new Candidate(
                        [("type", kind.ToString().ToLowerInvariant())],
                        new NumberConversion(stored, new EdmType(kind, Scale: null))
                    )
                );
        }
    }
}
