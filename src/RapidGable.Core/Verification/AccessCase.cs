using System.Buffers;
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Verification;

/// <summary>A row as it should come: each property's value as its JSON text.</summary>
public sealed record ExpectedRow(ImmutableSortedDictionary<string, string> Values)
{
    public override string ToString() => string.Join(", ", Values.Select(v => $"{v.Key} {v.Value}"));
}

/// <summary>What a caller should find of a set.</summary>
/// <param name="Set">The set as it is declared, with all that it has.</param>
/// <param name="MayRead">Else it should look as if it were not there.</param>
/// <param name="May">The operations that they may carry out.</param>
public sealed record ExpectedSet(EntitySet Set, bool MayRead, SetOperations May)
{
    /// <summary>Properties that should not be there.</summary>
    public ImmutableArray<string> Hidden { get; init; } = [];

    /// <summary>The rows in the order of the key, as far as they were looked at.</summary>
    public IReadOnlyList<ExpectedRow> Rows { get; init; } = [];

    /// <summary>Whether there are no more rows than <see cref="Rows"/>.</summary>
    public bool IsWhole { get; init; } = true;
}

/// <summary>What a caller should find where statements over sets are sent.</summary>
/// <param name="Url">Absolute.</param>
/// <param name="IsOpen">Else it should look as if it were not there.</param>
/// <param name="Sets">The names of those that statements can read, for somebody.</param>
public sealed record ExpectedSql(string Url, bool IsOpen, ImmutableArray<string> Sets);

/// <summary>One kind of caller, and what they should find.</summary>
/// <param name="Name">In words.</param>
/// <param name="Probe">Asks as this caller.</param>
/// <param name="HiddenValues">Texts that no answer to them should hold.</param>
public sealed record AccessCase(
    string Name,
    bool IsSignedIn,
    IServiceProbe Probe,
    ImmutableArray<ExpectedSet> Sets,
    IReadOnlySet<string> HiddenValues
)
{
    /// <summary>Statements over the sets; null = the service takes none.</summary>
    public ExpectedSql? Sql { get; init; }

    private const int MostTexts = 20_000;
    private const int LongestWord = 11;

    /// <summary>
    /// Hidden values that nobody writes by chance, which any text is searched for; as a value of JSON every one of them is looked
    /// for.
    /// </summary>
    public ImmutableArray<string> DistinctTexts { get; } = [.. Spread([.. HiddenValues.Where(IsDistinct).Order(StringComparer.Ordinal)])];

    /// <summary>The same, to look for all of them in one pass: one by one they took most of the time of a trial.</summary>
    public SearchValues<string> HiddenTexts => field ??= SearchValues.Create(DistinctTexts.AsSpan(), StringComparison.Ordinal);

    /// <summary>A short word of letters alone may stand in any message.</summary>
    private static bool IsDistinct(string text) => text.Length > LongestWord || text.AsSpan().ContainsAnyExceptInRange('a', 'z');

    private static IEnumerable<string> Spread(List<string> texts)
    {
        var step = Math.Max(1, (double)texts.Count / MostTexts);
        for (var i = 0.0; i < texts.Count; i += step)
            yield return texts[(int)i];
    }
}

/// <summary>A kept expectation, with what it is about found out.</summary>
/// <param name="Title">What it says.</param>
/// <param name="Caller">Who, in words.</param>
/// <param name="Keys">Keys of the rows that it is about, as the JSON texts of their properties; null = any row.</param>
/// <param name="Property">The property whose values it is about; null = the rows as such.</param>
/// <param name="Fault">Why it cannot be looked at; null = it can.</param>
public sealed record AccessCheck(
    string Title,
    string Caller,
    IServiceProbe Probe,
    EntitySet? Set,
    bool Can,
    SetOperations Operation,
    IReadOnlySet<string>? Keys,
    string? Property,
    string? Fault = null
);
