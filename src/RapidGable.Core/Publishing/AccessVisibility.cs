using System.Collections.Immutable;

namespace RapidGable.Publishing;

/// <summary>One thing that one kind of caller may do.</summary>
/// <param name="Caller">In words: anyone, anyone signed in, or a role.</param>
/// <param name="May">The operation.</param>
/// <param name="What">A set, or a property of one as <c>Set.property</c>.</param>
/// <param name="Rows">The condition on the rows; null = all of them.</param>
public sealed record AccessEntry(string Caller, string May, string What, string? Rows);

/// <summary>
/// All that callers may do with a service, to be compared: what is published with what was.
/// </summary>
public sealed record AccessVisibility(ImmutableArray<AccessEntry> Entries)
{
    private const string Anyone = "anyone";
    private const string SignedIn = "anyone signed in";

    /// <summary>What callers may do with a service as it is published.</summary>
    public static AccessVisibility Of(PublishedService service) =>
        new([
            .. AccessMatrix
                .Of(service)
                .SelectMany(cell =>
                {
                    var caller = cell.Caller switch
                    {
                        "not signed in" => Anyone,
                        "signed in" => SignedIn,
                        var role => role,
                    };
                    var operations = cell
                        .May.Split(", ", StringSplitOptions.RemoveEmptyEntries)
                        .Select(o => new AccessEntry(caller, o, cell.Set, o == "read" ? cell.Rows : null));
                    var unseen = cell.NotShown.Concat(cell.Masked).ToHashSet();
                    return !cell.MayRead
                        ? operations
                        : operations.Concat(
                            service
                                .Model.FindSet(cell.Set)!
                                .Type.Properties.SelectMany(p =>
                                    p.Leaves.Select(l => (Name: p.IsGroup ? $"{p.Name}/{l.Name}" : p.Name, l.Column))
                                )
                                .Where(p => !unseen.Contains(p.Column))
                                .Select(p => new AccessEntry(caller, "read", $"{cell.Set}.{p.Name}", null))
                        );
                }),
        ]);

    /// <summary>What somebody may do now and could not before, in sentences.</summary>
    public ImmutableArray<string> NewSince(AccessVisibility before)
    {
        var old = before.Entries.ToLookup(e => (e.Caller, e.May, e.What));
        bool IsNew(AccessEntry e) => !old[(e.Caller, e.May, e.What)].Any(o => o.Rows is null || o.Rows == e.Rows);
        // What everybody may do goes for each role.
        var all = Entries.Where(IsNew).ToList();
        bool IsSaid(AccessEntry e) =>
            (e.Caller != Anyone && all.Contains(e with { Caller = Anyone }))
            || (e.Caller is not (Anyone or SignedIn) && all.Contains(e with { Caller = SignedIn }))
            // A role that came with this change may do at first what everybody could before.
            || (
                e.Caller is not (Anyone or SignedIn)
                && old[(SignedIn, e.May, e.What)].Concat(old[(Anyone, e.May, e.What)]).Any(o => o.Rows is null || o.Rows == e.Rows)
            );
        bool IsPartOfNew(AccessEntry e) =>
            e.What.Contains('.')
            && all.Exists(o =>
                o.Caller == e.Caller && o.May == "read" && o.What == e.What[..e.What.IndexOf('.')] && !old[(o.Caller, o.May, o.What)].Any()
            );
        return [.. all.Where(e => !IsSaid(e) && !IsPartOfNew(e)).Select(e => Sentence(e, old[(e.Caller, e.May, e.What)].FirstOrDefault()))];
    }

    private static string Sentence(AccessEntry now, AccessEntry? before) =>
        $"{now.Caller} can now {now.May} "
        + $"{(before is null ? now.What : $"{(now.Rows is null ? "all rows" : "other rows")} of {now.What}")}"
        + $"{(now.Rows is null ? "" : $" where {now.Rows}")}{(before?.Rows is null ? "" : $", and before where {before.Rows}")}";
}
