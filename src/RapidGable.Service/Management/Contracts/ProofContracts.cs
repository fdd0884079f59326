namespace RapidGable.Service.Management.Contracts;

/// <summary>A line of something that takes a while: how far it is, and at last the result or what is wrong.</summary>
public sealed record ProgressLine(string? Progress, object? Result, ProblemDetail? Error);

/// <summary>What the rows say of a column.</summary>
/// <param name="Values">The different values, the most frequent first; empty when there are many.</param>
/// <param name="Offers">Types that most of the values fit, the best first.</param>
/// <param name="Breaks">Rows whose value breaks the declared rules.</param>
/// <param name="Members">Names for the values, if they are to be an enumeration; empty when there are many.</param>
public sealed record ColumnLookInfo(
    long Rows,
    long Nulls,
    IEnumerable<ValueCountInfo> Values,
    IEnumerable<ConversionOfferInfo> Offers,
    long Breaks,
    IEnumerable<string> BreakExamples,
    IReadOnlyDictionary<string, string> Members
);

/// <summary>A value and how many rows have it.</summary>
public sealed record ValueCountInfo(string Value, long Rows);

/// <summary>A type that a column could have.</summary>
/// <param name="Words">As a declaration says it.</param>
/// <param name="Misfits">Rows that do not fit.</param>
public sealed record ConversionOfferInfo(IReadOnlyDictionary<string, string> Words, long Misfits, string? Example);

/// <summary>Rows of a relation that refer to nothing.</summary>
/// <param name="Holder">The set whose rows refer.</param>
public sealed record OrphansInfo(string Holder, long Referring, long Orphans, IEnumerable<string> Examples);

/// <summary>How many rows fulfil a condition.</summary>
/// <param name="Broken">Rows that do not.</param>
public sealed record ConditionCount(long Rows, long Broken);

/// <summary>Why some columns do not identify rows.</summary>
/// <param name="Groups">Different values that stand in several rows.</param>
/// <param name="Nulls">Rows with a null in one of the columns.</param>
public sealed record DoubledKeysInfo(long Groups, long Nulls, IEnumerable<string> Columns, IEnumerable<DoubledKeyInfo> Examples);

/// <summary>Values that stand in several rows.</summary>
public sealed record DoubledKeyInfo(IEnumerable<string?> Values, long Rows);

/// <summary>Rows of a table or view.</summary>
/// <param name="Rows">Values as texts; null = there is none.</param>
/// <param name="HasMore">There are rows behind them.</param>
public sealed record RawRows(IEnumerable<string> Columns, IEnumerable<IEnumerable<string?>> Rows, bool HasMore);

/// <summary>How large a table or view is.</summary>
/// <param name="Definition">The SELECT of a view.</param>
public sealed record ObjectExtentInfo(long Rows, long? Bytes, string? Definition);

/// <summary>Tables and views that are tied by foreign keys.</summary>
/// <param name="IsCut">There are more of them.</param>
public sealed record RelatedObjects(IEnumerable<RelatedObject> Objects, IEnumerable<RelatedTie> Ties, bool IsCut);

/// <summary>A table or view in a picture of relations.</summary>
/// <param name="Columns">Those of keys first.</param>
public sealed record RelatedObject(string Name, string Kind, IEnumerable<string> Key, IEnumerable<string> Columns, bool IsPublished);

/// <summary>A foreign key.</summary>
public sealed record RelatedTie(string From, IEnumerable<string> Columns, string To, IEnumerable<string> TargetColumns);
