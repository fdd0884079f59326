using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>
/// A value that refers to another entity is looked up as its caller, like the address in a bind: one that the caller may not read counts
/// as missing, so that nobody learns by writing which keys there are. Where a column is declared with <c>references: all</c> only the
/// database decides.
/// </summary>
internal sealed class ReferenceCheck(ChangeUnit unit, EntityFinder finder, CancellationToken cancellation)
{
    /// <exception cref="FaultException">422 <c>reference</c>, as for what is not there at all.</exception>
    /// <param name="columns">What is to be written.</param>
    /// <param name="row">The entity as it is; null = it is new.</param>
    /// <param name="path">Where it stands in the body, with a slash at its end.</param>
    public async Task CheckAsync(IReadOnlyList<ColumnValue> columns, WriteAccess access, EntityRow? row, string path)
    {
        foreach (var navigation in access.Set.Type.Navigations.Where(n => n is { IsHeldByTarget: false, Link: null }))
        {
            ColumnValue? Written(Property own) => columns.FirstOrDefault(c => c.Property.Column == own.Column && c.Property.Via is null);
            var own = navigation.Joins.Select(j => Written(j.Own)).ToList();
            // What a relation gives was looked up as the caller already.
            if (own.TrueForAll(c => c is null or { IsRelated: true }))
                continue;
            if (navigation.Joins.Any(j => j.Own.RefersToAll) || IsWhollyVisible(navigation))
                continue;
            var values = await ValuesAsync(navigation, own, row);
            if (values.Exists(v => v.Value is null) || await IsKnownAsync(access.Set, navigation, values, row))
                continue;
            if (!await finder.HasAsync(navigation.TargetSet, values!, amongAll: false))
                throw new FaultException(Missing(navigation, row?.Set ?? finder.Model.FindSet(access.Set.Name) ?? access.Set, path));
        }
    }

    /// <summary>The same fault as the database's own for a value that refers to nothing.</summary>
    private static RequestFault Missing(NavigationProperty navigation, EntitySet set, string path) =>
        ConstraintFaults.Of(
            new BrokenConstraint(ConstraintKind.NoParent, null, [.. navigation.Joins.Select(j => j.Own.Column)]),
            set,
            path
        );

    /// <summary>The set as the caller may read it; null = not at all.</summary>
    private EntitySet? Seen(string set) => unit.Service.ModelFor(unit.Caller).FindSet(set);

    /// <summary>The caller may read every entity, so that the database may tell of them.</summary>
    private bool IsWhollyVisible(NavigationProperty navigation) =>
        Seen(navigation.TargetSet) is { } target && !RowGuard.IsRestricted(target.Source);

    /// <summary>The values that refer, each by the column that it refers to; those that are not written are the entity's own.</summary>
    private async Task<List<(Property Property, object? Value)>> ValuesAsync(
        NavigationProperty navigation,
        List<ColumnValue?> own,
        EntityRow? row
    )
    {
        var isWhole = row is null || own.TrueForAll(c => c is not null);
        var current = isWhole ? null : await finder.ColumnsAsync(row!, [.. navigation.Joins.Select(j => j.Own)]);
        return [.. navigation.Joins.Select((j, i) => (j.Target, own[i] is { } written ? written.Value : current?[i]))];
    }

    /// <summary>The entity refers to it already, and the caller reads that.</summary>
    private async Task<bool> IsKnownAsync(
        EntitySet whole,
        NavigationProperty navigation,
        List<(Property Property, object? Value)> values,
        EntityRow? row
    )
    {
        cancellation.ThrowIfCancellationRequested();
        if (row is null || Seen(whole.Name) is not { } seen)
            return false;
        var columns = seen.Type.Properties.SelectMany(p => p.Leaves).Select(p => p.Column).ToHashSet();
        if (!navigation.Joins.All(j => columns.Contains(j.Own.Column)))
            return false;
        var written = navigation.Joins.Select((j, i) => (j.Own, values[i].Value!));
        return await finder.HasAsync(whole.Name, [.. row.Where, .. written], amongAll: false);
    }
}
