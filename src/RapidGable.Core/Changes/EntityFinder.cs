using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>
/// Finds the entities that paths and references are about, as far as the caller may know of them, and sees what the unit has changed.
/// </summary>
internal sealed class EntityFinder(ChangeUnit unit, EntityModel model, IEntityAddresses addresses, CancellationToken cancellation)
{
    private readonly PublishedService _service = unit.Service;

    /// <summary>The entities of a path: one or none, or all of a collection.</summary>
    /// <exception cref="FaultException">When something before the last step is not there, or a collection is too large to be changed at
    /// once.</exception>
    public async Task<List<EntityRow>> LocateAsync(PreparedChange change, ISpelledRequest spelled, BoundPath path)
    {
        if (
            !_service.Locate(change, path).Is(out var located, out var fault)
            || !QueryValues
                .Make(located.Request, spelled, _service.Model.Limits.SentEntities, unit.Now, unit.Caller)
                .Is(out var values, out fault)
            || !(await QueryRun.StartAsync(located, values, cancellation, within: unit.Within(located.Source))).Is(out var run, out fault)
        )
            throw new FaultException(fault);
        await using (run)
        {
            if (!run.ParentExists)
                throw new FaultException(RequestFault.NotFound("There is no such entity.", "path"));
            var rows = new List<EntityRow>();
            var key = run.Query.Shape.Entity.Key;
            for (var more = run.HasRow; more; more = await run.Rows.ReadAsync(cancellation))
            {
                if (rows.Count == values.PageRows && path.Kind == ResourceKind.Collection)
                    throw new FaultException(
                        new RequestFault(
                            400,
                            "too-large",
                            $"More than {values.PageRows} entities of {path.Target.Name} would change at once. Narrow the filter.",
                            "path"
                        )
                    );
                rows.Add(new EntityRow(path.Target, [.. key.Select(k => RowValue.Published(run.Rows, k.Property, k.Column))]));
            }
            return rows;
        }
    }

    /// <summary>The entity that a reference is about.</summary>
    /// <param name="target">The set that it must be of.</param>
    /// <param name="at">Where the reference stands.</param>
    /// <param name="isNeeded">A missing entity is a fault; else null.</param>
    public async Task<EntityRow?> ResolveAsync(string reference, EntitySet target, string at, bool isNeeded = true)
    {
        if (
            addresses.Find(reference) is not { } spelled
            || !_service.PrepareChange(spelled, unit.Caller).Is(out var change, out _)
            || change.Request.Path is not { Kind: ResourceKind.Entity, Root: not null } found
        )
            throw new FaultException(
                new RequestFault(400, "bind-target", $"'{reference}' is not the address of an entity of this service.", at)
            );
        if (found.Target.Name != target.Name)
            throw new FaultException(
                new RequestFault(
                    400,
                    "bind-target",
                    $"'{reference}' is an entity of {found.Target.Name}, and {target.Name} is what belongs here.",
                    at
                )
            );
        try
        {
            return (await LocateAsync(change, spelled, found)).FirstOrDefault() ?? (isNeeded ? throw NoTarget(reference, at) : null);
        }
        catch (FaultException exception) when (exception.Fault.Status == 404)
        {
            return isNeeded ? throw NoTarget(reference, at) : null;
        }
    }

    public FaultException NoTarget(string reference, string at) =>
        new(new RequestFault(400, "bind-target", $"There is no entity '{reference}'.", at));

    /// <summary>The entity of a key; null = it is not there, or not for the caller.</summary>
    public async Task<EntityRow?> FindAsync(EntitySet set, ImmutableArray<object> key)
    {
        var row = new EntityRow(set, key);
        return await WithStatementsAsync(set, s => s.ExistsAsync(set.Source, set.Type.Key, row.Where)) ? row : null;
    }

    /// <summary>Published values of columns of an entity that is there, whatever the caller may see of it.</summary>
    public async Task<object?[]> ColumnsAsync(EntityRow row, IReadOnlyList<Property> columns) =>
        await WithStatementsAsync(row.Set, s => s.FindAsync(_service.Whole(row.Set).Source, columns, row.Where))
        ?? throw new FaultException(RequestFault.NotFound("There is no such entity.", "path"));

    /// <summary>Whether some entity has these values, among those that the caller may read or among all.</summary>
    /// <param name="set">Name of the set.</param>
    /// <param name="where">Properties of the whole set with published values; none is null.</param>
    public async Task<bool> HasAsync(string set, IReadOnlyList<(Property Property, object Value)> where, bool amongAll)
    {
        var seen = amongAll ? _service.Model.FindSet(set) : _service.ModelFor(unit.Caller).FindSet(set);
        return seen is not null && await WithStatementsAsync(seen, s => s.ExistsAsync(seen.Source, [where[0].Property], where));
    }

    /// <summary>The address of an entity below the service root, encoded.</summary>
    public async Task<string> AddressAsync(EntityRow row)
    {
        if (row.Set.ContainedIn is not { } name || _service.Model.FindSet(name) is not { } container)
            return addresses.Of(new EntityAddress(row.Set, row.Key, null));
        var navigation = container.Type.Navigations.First(n => n.IsContained && n.TargetSet == row.Set.Name);
        var keys = container.Type.Key.Select(k => navigation.Joins.First(j => j.Own.Column == k.Column).Target).ToList();
        var values = await ColumnsAsync(row, keys);
        return addresses.Of(new EntityAddress(row.Set, row.Key, new ContainerAddress(container, [.. values.Select(v => v!)], navigation)));
    }

    /// <summary>Statements in the unit's transaction when it is one of the set's source, else in a session of their own.</summary>
    private async Task<T> WithStatementsAsync<T>(EntitySet set, Func<ChangeStatements, Task<T>> run)
    {
        var source = _service.SourceOf(_service.Model.FindSet(set.Name) ?? set);
        if (unit.Within(source) is { } session)
            return await run(new ChangeStatements(session, source.Dialect, unit.Values, cancellation));
        await using var own = await unit.Values.OpenAsync(source, SessionKind.Plain, cancellation);
        return await run(new ChangeStatements(own, source.Dialect, unit.Values, cancellation));
    }

    public EntityModel Model => model;
}
