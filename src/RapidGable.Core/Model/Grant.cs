using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>
/// One rule of a set: it lets callers do something, with some of the rows and columns, or takes it away from them. Rules that apply to a
/// caller add up; one that takes away wins.
/// </summary>
/// <param name="Who">Whom it is about.</param>
/// <param name="May">What it lets them do, or takes away.</param>
public sealed record Grant(AccessRule Who, SetOperations May)
{
    /// <summary>It takes away.</summary>
    public bool Denies { get; init; }

    /// <summary>
    /// The rows that it is about, as a filter expression; <c>@name</c> stands for an attribute of the caller. Null = all rows.
    /// </summary>
    public string? Rows { get; init; }

    /// <summary>Columns whose properties are not there for these callers.</summary>
    public ImmutableArray<string> Hide { get; init; } = [];

    /// <summary>Columns whose properties are there, and always null.</summary>
    public ImmutableArray<string> Mask { get; init; } = [];

    /// <summary>What a row must fulfil once it is written, as <see cref="Rows"/>; null = the same as those.</summary>
    public string? WithCheck { get; init; }

    /// <summary>Rows in the largest page; null = as many as the set gives.</summary>
    public int? LargestPage { get; init; }

    /// <summary>Rows that one answer may hold at most, expanded ones among them; null = any number.</summary>
    public int? LargestCost { get; init; }

    /// <summary>Where it is declared, as <c>file:line</c>; null = nowhere.</summary>
    public string? Place { get; init; }

    /// <summary>A rule that lets some callers read all of a set.</summary>
    public static Grant Reading(AccessRule who) => new(who, SetOperations.Read);

    /// <summary>The rule in words.</summary>
    public override string ToString() => $"{Words(May)}: {About}";

    private string About =>
        $"{Who}{(Denies ? " never" : "")}{(Rows is null ? "" : $" where {Rows}")}{Listed(" without ", Hide)}"
        + $"{Listed(" with nulls for ", Mask)}{(WithCheck is null ? "" : $" leaving rows where {WithCheck}")}"
        + $"{(LargestPage is { } page ? $" in pages of {page}" : "")}"
        + $"{(LargestCost is { } cost ? $" at most {cost} rows in an answer" : "")}";

    /// <summary>What rules can be about, as words.</summary>
    public static readonly ImmutableArray<string> OperationWords = ["read", "create", "update", "delete", "call"];

    /// <summary>The operations in words.</summary>
    public static string Words(SetOperations operations) =>
        string.Join(
            ", ",
            Enum.GetValues<SetOperations>()
                .Where(o => o != SetOperations.None && operations.HasFlag(o))
                .Select(o => o.ToString().ToLowerInvariant())
        );

    /// <summary>Who may do one thing, by some rules, in words.</summary>
    public static string Describe(IEnumerable<Grant> rules, SetOperations operation) =>
        string.Join("; ", rules.Where(r => r.May.HasFlag(operation)).Select(r => r.About)) is { Length: > 0 } text ? text : "nobody";

    private static string Listed(string word, ImmutableArray<string> columns) => columns.IsEmpty ? "" : word + string.Join(", ", columns);
}
