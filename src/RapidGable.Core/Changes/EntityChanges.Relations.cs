using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Changes;

/// <summary>How entities are related: by their own columns, by those of the related ones, or by a link table.</summary>
internal sealed partial class EntityChanges
{
    /// <summary>Relates two entities (Protocol 11.4.6).</summary>
    /// <param name="preconditions">What is asked of the state of the entity that changes: that which holds the relation, or this one
    /// where a link table does.</param>
    /// <param name="needsState">As in <see cref="LinkAsync"/>.</param>
    public async Task LinkAsync(
        EntityRow row,
        NavigationProperty navigation,
        EntityRow target,
        Preconditions preconditions,
        bool needsState,
        string path
    )
    {
        if (navigation.Link is { } link)
        {
            if (link.Needs is not null)
                throw new FaultException(
                    new RequestFault(
                        400,
                        "link",
                        $"A link of '{navigation.Name}' holds more than the two entities, so it cannot be made by relating them.",
                        path
                    )
                );
            var (statements, pair) = await PairAsync(row, link, target, preconditions, needsState, path);
            if (!await statements.ExistsAsync(link.Source, [pair[0].Property], pair.Select(c => (c.Property, c.Value!))))
                await ToldAsync(SentEntity.Nothing(row.Set), async () => await statements.InsertAsync(link.Source, pair, []));
            return;
        }
        if (!navigation.IsHeldByTarget)
        {
            await SetReferenceAsync(row, await ReferenceAsync(navigation, target, path), preconditions, needsState, path);
            return;
        }
        if (navigation.IsRemote)
            throw new FaultException(
                RequestFault.NotImplemented($"'{navigation.Name}' is kept in another database, at the other end. Change it there.", path)
            );
        var own = await ColumnsAsync(
            row,
            navigation.Joins.Select(j => j.Own),
            await StatementsAsync(_service.Model.FindSet(row.Set.Name)!)
        );
        if (!navigation.IsCollection)
        {
            foreach (var other in await RelatedAsync(row, navigation))
            {
                if (!other.Is(target))
                    await UnlinkAsync(row, navigation, other, Preconditions.None, true, path);
            }
        }
        await SetReferenceAsync(
            target,
            [.. navigation.Joins.Select((j, i) => new ColumnValue(j.Target, own[i], path))],
            preconditions,
            needsState,
            path
        );
    }

    /// <summary>Ends the relation of two entities; null = of a single-valued one, whatever it leads to.</summary>
    /// <param name="preconditions">As in <see cref="LinkAsync"/>.</param>
    /// <param name="isAsked">The request is about this relation, so that it must be there.</param>
    public async Task UnlinkAsync(
        EntityRow row,
        NavigationProperty navigation,
        EntityRow? target,
        Preconditions preconditions,
        bool needsState,
        string path,
        bool isAsked = false
    )
    {
        if (navigation.Link is { } link)
        {
            var (statements, pair) = await PairAsync(row, link, target!, preconditions, needsState, path);
            if (await statements.DeleteAsync(link.Source, pair.Select(c => (c.Property, c.Value!))) == 0 && isAsked)
                throw new FaultException(RequestFault.NotFound("These two are not related.", path));
            return;
        }
        if (!navigation.IsHeldByTarget)
        {
            if (navigation.Joins.FirstOrDefault(j => !j.Own.Nullable) is not null)
                throw new FaultException(new RequestFault(400, "required", $"'{navigation.Name}' cannot be without an entity.", path));
            await SetReferenceAsync(
                row,
                [
                    .. navigation
                        .Joins.Where(j => !row.Set.Type.Key.Any(k => k.Column == j.Own.Column))
                        .Select(j => new ColumnValue(j.Own, null, path)),
                ],
                preconditions,
                needsState,
                path
            );
            return;
        }
        foreach (var other in target is null ? await RelatedAsync(row, navigation) : [target])
        {
            if (target is not null && isAsked && !(await RelatedAsync(row, navigation)).Exists(r => r.Is(target)))
                throw new FaultException(RequestFault.NotFound("These two are not related.", path));
            if (navigation.IsContained)
                await DeleteAsync(other, preconditions, needsState && (isAsked || HasOwnState(row, navigation)), path);
            else if (navigation.Joins.Any(j => !j.Target.Nullable))
                throw new FaultException(
                    new RequestFault(
                        400,
                        "required",
                        $"An entity of {other.Set.Name} cannot be without what '{navigation.Name}' links it to; delete it, or "
                            + $"relate it to another.",
                        path
                    )
                );
            else
                await SetReferenceAsync(
                    other,
                    [.. navigation.Joins.Select(j => new ColumnValue(j.Target, null, path))],
                    preconditions,
                    needsState,
                    path
                );
        }
    }

    /// <summary>Makes what a body says of related entities hold, in what these or a link table hold of the relations.</summary>
    public async Task BackwardAsync(EntityRow row, SentEntity sent, bool isNew)
    {
        foreach (var relation in sent.Relations.Where(r => r.Navigation.IsHeldByTarget || r.Navigation.Link is not null))
        {
            var navigation = relation.Navigation;
            if (navigation.IsRemote)
                throw new FaultException(
                    RequestFault.NotImplemented(
                        $"'{navigation.Name}' is kept in another database, which cannot change together with this one.",
                        relation.Path
                    )
                );
            var kept = new List<EntityRow>();
            foreach (var item in relation.Items)
                await RelateAsync(row, relation, item, kept, isNew);
            if (isNew || relation.Mode != RelationMode.Replace)
                continue;
            foreach (var other in await RelatedAsync(row, navigation))
            {
                if (!kept.Exists(k => k.Is(other)))
                    await UnlinkAsync(row, navigation, other, Preconditions.None, true, relation.Path);
            }
        }
    }

    private async Task RelateAsync(EntityRow row, SentRelation relation, SentRelated item, List<EntityRow> kept, bool isNew)
    {
        var navigation = relation.Navigation;
        var target = await FindAsync(row, relation, item, isNew);
        if (item.Removed is { } isDeleted)
        {
            if (target is null)
                return; // gone already, which is what was asked for
            if (isDeleted)
                await DeleteAsync(target, TagOf(item.ETag), HasOwnState(row, navigation), item.Path);
            else
                await UnlinkAsync(row, navigation, target, TagOf(item.ETag), true, item.Path);
            return;
        }
        if (target is null)
        {
            if (item.Reference is not null)
                throw finder.NoTarget(item.Reference, item.Path);
            var created = navigation.Link is null
                ? await CreateAsync(item.Entity!, [.. await HeldReferenceAsync(row, navigation, item.Path)])
                : await CreateAsync(item.Entity!, []);
            if (navigation.Link is not null)
                await LinkAsync(row, navigation, created, Preconditions.None, false, item.Path);
            kept.Add(created);
            return;
        }
        kept.Add(target);
        var needsState = HasOwnState(row, navigation);
        if (item.Entity is { } entity && (entity.Values.Length > 0 || entity.Relations.Length > 0))
        {
            await UpdateAsync(target, entity, SentFor.Merge, TagOf(item.ETag), needsState);
            needsState = false;
        }
        if (isNew || !(await RelatedAsync(row, navigation)).Exists(r => r.Is(target)))
            await LinkAsync(row, navigation, target, needsState ? TagOf(item.ETag) : Preconditions.None, needsState, item.Path);
    }

    /// <summary>
    /// Whether a related entity changes by a state of its own. What is part of an entity goes with the state of that one, where it has
    /// to be said.
    /// </summary>
    private static bool HasOwnState(EntityRow row, NavigationProperty navigation) =>
        !navigation.IsContained || row.Set is not { RequiresVersion: true, HasVersion: true };

    private static Preconditions TagOf(string? tag) => tag is null ? Preconditions.None : new Preconditions([tag], null);

    /// <summary>The entity that an item of a relation is about; null = it is not there yet.</summary>
    private async Task<EntityRow?> FindAsync(EntityRow row, SentRelation relation, SentRelated item, bool isNew)
    {
        if (item.Reference is { } reference)
            return await finder.ResolveAsync(reference, relation.Target, item.Path, isNeeded: item.Removed is null);
        var entity = item.Entity!;
        var navigation = relation.Navigation;
        if (!navigation.IsCollection)
            return isNew || entity.Key.Length > 0 && !await IsOneOfAsync(row, navigation, entity)
                ? null
                : (await RelatedAsync(row, navigation)).FirstOrDefault();
        if (isNew)
            return null;
        // What the relation gives of the key need not be said.
        var links = navigation.IsHeldByTarget ? await HeldReferenceAsync(row, navigation, item.Path) : [];
        var key = relation
            .Target.Type.Key.Select(k =>
                links.FirstOrDefault(t => t.Property.Column == k.Column)?.Value
                ?? entity.Key.FirstOrDefault(v => v.Property.Column == k.Column)?.Value
            )
            .ToList();
        return key.Contains(null) ? null : await finder.FindAsync(relation.Target, [.. key.Select(k => k!)]);
    }

    private async Task<bool> IsOneOfAsync(EntityRow row, NavigationProperty navigation, SentEntity entity) =>
        (await RelatedAsync(row, navigation)).Exists(r =>
            entity.Key.All(k => Equals(k.Value, r.Key[r.Set.Type.Key.IndexOf(r.Set.Type.Key.First(p => p.Column == k.Property.Column))]))
        );

    /// <summary>What the single related entities of a body make of the entity's own columns.</summary>
    /// <param name="row">The entity when it is there.</param>
    private async Task<List<ColumnValue>> ForwardAsync(SentEntity sent, EntityRow? row)
    {
        var columns = new List<ColumnValue>();
        foreach (var relation in sent.Relations.Where(r => !r.Navigation.IsHeldByTarget && r.Navigation.Link is null))
        {
            var navigation = relation.Navigation;
            if (relation.Items is not [var item])
            {
                if (navigation.Joins.Any(j => !j.Own.Nullable))
                    throw new FaultException(
                        new RequestFault(400, "required", $"'{relation.Path}' cannot be without an entity.", relation.Path)
                    );
                columns.AddRange(navigation.Joins.Select(j => new ColumnValue(j.Own, null, relation.Path) { IsRelated = true }));
                continue;
            }
            var target = item.Reference is { } reference ? await finder.ResolveAsync(reference, relation.Target, item.Path) : null;
            var isTied = false;
            if (target is null && item.Entity is { } entity)
            {
                if (
                    row is not null
                    && (await RelatedAsync(row, navigation)).FirstOrDefault() is { } current
                    && (entity.Key.IsEmpty || await IsOneOfAsync(row, navigation, entity))
                )
                    (target, isTied) = (current, true);
                else if (entity.Key.Length == relation.Target.Type.Key.Length && row is not null)
                    target = await finder.FindAsync(
                        relation.Target,
                        [.. relation.Target.Type.Key.Select(k => entity.Key.First(v => v.Property.Column == k.Column).Value!)]
                    );
                if (navigation.IsRemote)
                    throw new FaultException(
                        RequestFault.NotImplemented(
                            $"'{navigation.Name}' leads to another database, which cannot change together with this one. Bind "
                                + $"an entity that is there.",
                            item.Path
                        )
                    );
                if (target is null)
                    target = await CreateAsync(entity, []);
                else if (entity.Values.Length > 0 || entity.Relations.Length > 0)
                    await UpdateAsync(target, entity, SentFor.Merge, TagOf(item.ETag));
            }
            else if (target is not null && item.Entity is { } changed && (changed.Values.Length > 0 || changed.Relations.Length > 0))
                await UpdateAsync(target, changed, SentFor.Merge, TagOf(item.ETag));
            if (!isTied)
                columns.AddRange(await ReferenceAsync(navigation, target!, item.Path));
        }
        return columns;
    }

    /// <summary>The entity's own columns that tie it to a target.</summary>
    private async Task<List<ColumnValue>> ReferenceAsync(NavigationProperty navigation, EntityRow target, string path)
    {
        var values = await finder.ColumnsAsync(target, [.. navigation.Joins.Select(j => j.Target)]);
        if (values.Contains(null))
            throw new FaultException(
                new RequestFault(400, "bind-target", "This entity has no value by which others are related to it.", path)
            );
        return [.. navigation.Joins.Select((j, i) => new ColumnValue(j.Own, values[i], path) { IsRelated = true })];
    }

    /// <summary>Columns of related entities that tie them to one.</summary>
    public async Task<IReadOnlyList<ColumnValue>> HeldReferenceAsync(EntityRow row, NavigationProperty navigation, string path)
    {
        var own = await finder.ColumnsAsync(row, [.. navigation.Joins.Select(j => j.Own)]);
        return own.Contains(null)
            ? throw new FaultException(
                new RequestFault(400, "bind-target", "This entity has no value by which others are related to it.", path)
            )
            : [.. navigation.Joins.Select((j, i) => new ColumnValue(j.Target, own[i], path) { IsRelated = true })];
    }

    /// <summary>The related entities that the caller may know of.</summary>
    private async Task<List<EntityRow>> RelatedAsync(EntityRow row, NavigationProperty navigation)
    {
        var target = model.Target(navigation);
        var statements = await StatementsAsync(_service.Model.FindSet(row.Set.Name)!);
        if (navigation.Link is { } link)
        {
            var own = await ColumnsAsync(row, link.Own.Select(o => o.Own), statements);
            var linked = await statements.FindAllAsync(
                link.Source,
                [.. link.Target.Select(t => LinkColumn(t.Link, t.Target))],
                link.Own.Select((o, i) => (LinkColumn(o.Link, o.Own), own[i]!))
            );
            var rows = new List<EntityRow>();
            foreach (var keys in linked)
            {
                if (
                    await statements.FindAsync(target.Source, target.Type.Key, link.Target.Select((t, i) => (t.Target, keys[i]!))) is
                    { } key
                )
                    rows.Add(new EntityRow(target, [.. key.Select(k => k!)]));
            }
            return rows;
        }
        var links = await ColumnsAsync(row, navigation.Joins.Select(j => j.Own), statements);
        if (links.Contains(null))
            return [];
        var found = await (await StatementsAsync(_service.Model.FindSet(target.Name)!)).FindAllAsync(
            target.Source,
            target.Type.Key,
            navigation.Joins.Select((j, i) => (j.Target, links[i]!))
        );
        return [.. found.Select(k => new EntityRow(target, [.. k.Select(v => v!)]))];
    }

    /// <summary>The columns of a link. Both ends must be open to change, since the link is a part of either.</summary>
    private async Task<(ChangeStatements Statements, List<ColumnValue> Pair)> PairAsync(
        EntityRow row,
        LinkTable link,
        EntityRow target,
        Preconditions preconditions,
        bool needsState,
        string path
    )
    {
        var statements = await StatementsAsync(_service.Model.FindSet(row.Set.Name)!);
        foreach (var (end, state, needs) in new[] { (row, preconditions, needsState), (target, Preconditions.None, false) })
        {
            // What this request made is changed by it as a whole.
            if (_created.Exists(c => c.Is(end)))
                continue;
            await LockAsync(
                end,
                Access(end.Set, SetOperations.Update, path),
                statements,
                state,
                needs,
                SentEntity.Nothing(end.Set) with
                {
                    Path = path,
                }
            );
        }
        var (own, other) = (
            await ColumnsAsync(row, link.Own.Select(o => o.Own), statements),
            await finder.ColumnsAsync(target, [.. link.Target.Select(t => t.Target)])
        );
        return (
            statements,
            [
                .. link.Own.Select((o, i) => new ColumnValue(LinkColumn(o.Link, o.Own), own[i], path)),
                .. link.Target.Select((t, i) => new ColumnValue(LinkColumn(t.Link, t.Target), other[i], path)),
            ]
        );
    }

    private static Property LinkColumn(string name, Property end) => end with { Column = name, Nullable = false };
}
