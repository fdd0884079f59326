using RapidGable.Access;
using RapidGable.Model;

namespace RapidGable.Publishing;

/// <summary>What one kind of caller may do with one set.</summary>
/// <param name="Caller">Whom it is about, in words.</param>
/// <param name="May">The operations, joined by commas; empty = none.</param>
/// <param name="Rows">The condition on the rows that are read; null = all of them, or none may be read.</param>
/// <param name="NotShown">Columns whose properties are not there.</param>
/// <param name="Masked">Columns whose properties are always null.</param>
/// <param name="Rules">The rules that give it, with their places in the declaration.</param>
public sealed record AccessCell(
    string Set,
    string Caller,
    string May,
    string? Rows,
    IReadOnlyList<string> NotShown,
    IReadOnlyList<string> Masked,
    IReadOnlyList<string> Rules
)
{
    public bool MayRead => May.Split(", ").Contains("read");
}

/// <summary>Who may do what to which set of a service.</summary>
public static class AccessMatrix
{
    private static readonly SetOperations[] Operations =
    [
        SetOperations.Read,
        SetOperations.Create,
        SetOperations.Update,
        SetOperations.Delete,
        SetOperations.Call,
    ];

    /// <summary>Anonymous callers, signed-in ones without a role, and each role that a rule names.</summary>
    public static IEnumerable<(string Name, Caller Caller)> CallersOf(EntityModel model) =>
        new[] { ("not signed in", Caller.Anonymous), ("signed in", Caller.WithRoles()) }.Concat(
            model
                .Sets.SelectMany(s => s.Rules)
                .SelectMany(r => r.Who.Roles)
                .Concat(model.Sql?.Who.Roles ?? [])
                .Distinct()
                .Order(StringComparer.Ordinal)
                .Select(r => (r, Caller.WithRoles(r)))
        );

    /// <summary>The whole matrix; callers are taken to have every attribute that a rule asks for.</summary>
    public static IReadOnlyList<AccessCell> Of(PublishedService service) =>
        [.. CallersOf(service.Model).SelectMany(c => Of(service, c.Name, c.Caller, holdsAll: true))];

    /// <param name="holdsAll">The caller is taken to have every attribute that a rule asks for.</param>
    public static IReadOnlyList<AccessCell> Of(PublishedService service, string name, Caller caller, bool holdsAll) =>
        [.. service.Model.Sets.Select(s => Cell(service, s, name, caller.Within(service.Model.Service), holdsAll))];

    private static AccessCell Cell(PublishedService service, EntitySet set, string name, Caller caller, bool holdsAll)
    {
        SetOperations May(EntitySet asked) =>
            Operations
                .Where(o =>
                    asked.Operations.HasFlag(o)
                    && AccessGate.Applying(o, caller, service.RulesOf(asked), holdsAll) is { Allowing.IsEmpty: false, DeniesAll: false }
                )
                .Aggregate(SetOperations.None, (all, o) => all | o);
        // What is contained is reached over its container only.
        var may =
            set.ContainedIn is { } container && !May(service.Model.FindSet(container)!).HasFlag(SetOperations.Read)
                ? SetOperations.None
                : May(set);
        var (allowing, denying, _) = AccessGate.Applying(SetOperations.Read, caller, service.RulesOf(set), holdsAll);
        var reading = allowing.DistinctBy(r => r.Ordinal).ToList();
        var mayRead = may.HasFlag(SetOperations.Read);
        var shown = mayRead ? reading : [];
        var covered = shown
            .SelectMany(r => r.Grant.Hide.Concat(r.Grant.Mask))
            .Distinct()
            .Where(c => shown.TrueForAll(r => r.Grant.Hide.Contains(c) || r.Grant.Mask.Contains(c)))
            .ToList();
        var gone = covered.Where(c => shown.TrueForAll(r => r.Grant.Hide.Contains(c))).ToList();
        var applying = Operations
            .SelectMany(o => AccessGate.Applying(o, caller, service.RulesOf(set), holdsAll) is var (yes, no, _) ? yes.Concat(no) : [])
            .DistinctBy(r => r.Ordinal)
            .OrderBy(r => r.Ordinal);
        return new AccessCell(
            set.Name,
            name,
            Grant.Words(may),
            mayRead ? Rows(shown, denying) : null,
            gone,
            [.. covered.Except(gone)],
            [.. applying.Select(r => r.Grant.ToString() + (r.Grant.Place is { } place ? $" ({place})" : ""))]
        );
    }

    /// <summary>The condition on the rows in words; null = all of them.</summary>
    private static string? Rows(List<BoundRule> allowing, IEnumerable<BoundRule> denying)
    {
        var wanted = allowing.Exists(r => r.Grant.Rows is null) ? null : string.Join(" or ", allowing.Select(r => r.Grant.Rows));
        var unwanted = string.Join(" or ", denying.DistinctBy(r => r.Ordinal).Select(r => r.Grant.Rows));
        return unwanted.Length == 0 ? wanted
            : wanted is null ? $"not ({unwanted})"
            : $"({wanted}) and not ({unwanted})";
    }
}
