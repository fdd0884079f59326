using System.Collections.Immutable;
using RapidGable.Changes;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Payloads;

/// <summary>
/// Walks over the rows of an answer, with related rows in the same row, from statements of their own and from other sources, and calls a
/// format for each part. The only place that knows how rows of several cursors belong together, and where a page ends.
/// </summary>
internal sealed class RowWalk(EntityNode root, BoundRequest request, QueryRun run, IRowVisitor visitor, CancellationToken cancellation)
{
    /// <summary>What was fetched for each relation to another source, in the plan's order.</summary>
    private readonly List<RemoteEntities> _remotes = [];

    /// <summary>Fetches what the page is related to in other sources. Before anything is written, since it may fail.</summary>
    public async Task FetchRemotesAsync()
    {
        foreach (var remote in root.Remotes)
            _remotes.Add(await FetchAsync(remote));
    }

    /// <summary>The members of the current row's entity.</summary>
    public ValueTask EntityAsync() => MembersAsync(root, run.Rows, 1);

    /// <summary>The entities of a list up to the end of the page.</summary>
    /// <returns>Where the list goes on; null = nowhere.</returns>
    public async Task<Continuation?> CollectionAsync()
    {
        var followed = run.Marks is { } marks
            ? new FollowedChanges(marks, QueryValues.Fingerprint(request.Target, request.Target.Changes!))
            : null;
        var rows = 0;
        for (var more = run.HasRow; more; more = await run.Rows.ReadAsync(cancellation))
        {
            if (rows == run.Values.PageRows)
                break;
            if (run.Query.Shape.MatchColumn is { } matches && (run.Rows.IsNull(matches) || !run.Rows.GetBoolean(matches)))
                visitor.Removed(root.Shape, run.Rows, isDeleted: false);
            else
            {
                visitor.BeginEntity(root);
                await MembersAsync(root, run.Rows, rows + 1);
                visitor.EndEntity(root);
            }
            rows++;
            if (rows == run.Values.PageRows && run.Values.FetchRows > rows)
            {
                // The position is taken before the cursor moves on; it counts only if one more row follows.
                var position = Position();
                if (await run.Rows.ReadAsync(cancellation))
                    return new NextPage(position, followed);
                break;
            }
            await visitor.SendIfFullAsync(cancellation);
        }
        if (request.IsDelta)
            await DeletedAsync();
        return followed is null ? null : new LaterChanges(followed);
    }

    private ImmutableArray<StoredValue> Position() =>
        run.Values.NextOffset is { } offset ? [offset] : [.. run.Query.Shape.OrderColumns.Select(run.Rows.GetStored)];

    private async Task DeletedAsync()
    {
        if (request.Target.Changes!.Log is not { } log)
            return;
        var shape = new EntityShape(request.Target, BoundSelect.Nothing, [], [.. log.Key.Select((k, i) => new ShapeCell(k, i))], [], []);
        await run.ReadDeletedAsync(row => visitor.Removed(shape, row, isDeleted: true), cancellation);
    }

    /// <param name="number">Number of the row in its statement, from 1.</param>
    private ValueTask MembersAsync(EntityNode node, IRowCursor row, long number)
    {
        if (node.HasRows)
            return MembersWithRowsAsync(node, row, number);
        OwnMembers(node, row);
        return default;
    }

    private async ValueTask MembersWithRowsAsync(EntityNode node, IRowCursor row, long number)
    {
        Values(node, row);
        foreach (var single in node.Singles)
        {
            if (!Begins(single, row))
                continue;
            await MembersAsync(single.Entity, row, number);
            visitor.EndSingle(single.Entity);
        }
        foreach (var many in node.Many)
            await ManyAsync(many, node, row, number);
        foreach (var remote in node.Remotes)
            Remote(remote, node, row);
    }

    /// <summary>An entity without rows of other statements.</summary>
    private void OwnMembers(EntityNode node, IRowCursor row)
    {
        Values(node, row);
        foreach (var single in node.Singles)
        {
            if (!Begins(single, row))
                continue;
            OwnMembers(single.Entity, row);
            visitor.EndSingle(single.Entity);
        }
        foreach (var many in node.Many)
            Count(many, row);
        foreach (var remote in node.Remotes)
            Remote(remote, node, row);
    }

    /// <summary>
    /// Starts the single related entity; false when there is none, which is then said, or when the entity cannot have one.
    /// </summary>
    private bool Begins(SingleNode single, IRowCursor row)
    {
        if (single.Shape.TypeColumn is { } type && row.IsNull(type))
            return false;
        if (row.IsNull(single.Shape.PresenceColumn))
        {
            visitor.NoSingle(single.Entity);
            return false;
        }
        visitor.BeginSingle(single.Entity);
        return true;
    }

    private void Values(EntityNode node, IRowCursor row)
    {
        try
        {
            visitor.Values(node, row);
        }
        catch (SourceException exception) when (exception.Kind == SourceFaultKind.BadData)
        {
            throw new SourceException(
                SourceFaultKind.BadData,
                $"{exception.Message} The row is {node.Shape.Set.Name}{StoredKey(node, row)}.",
                exception
            );
        }
    }

    /// <summary>The key of a row for messages, as it is stored.</summary>
    private static string StoredKey(EntityNode node, IRowCursor row) =>
        $"({string.Join(", ", node.Shape.Key.Select(k => $"{k.Property.Column} = {row.GetStored(k.Column)}"))})";

    private static bool IsThere(ManyNode many, IRowCursor row) => many.Shape.TypeColumn is not { } type || !row.IsNull(type);

    private void Count(ManyNode many, IRowCursor row)
    {
        if (many.Shape.CountColumn is { } column && IsThere(many, row))
            visitor.Count(many.Entity, row.GetInt64(column));
    }

    /// <summary>One expanded collection, in step with its parents.</summary>
    private async ValueTask ManyAsync(ManyNode many, EntityNode parent, IRowCursor parentRow, long parentNumber)
    {
        Count(many, parentRow);
        if (many.Shape.Child is not { } child || !IsThere(many, parentRow))
            return;
        var children = run.Children[child];
        var most = run.Values.ChildRowsOf(many.Shape.Expand);
        var rows = 0;
        RelatedPage? next = null;
        ImmutableArray<StoredValue> last = [];
        visitor.BeginMany(many.Entity);
        for (; await children.FindAsync(parentNumber, cancellation); await children.AdvanceAsync(cancellation))
        {
            if (rows == most)
            {
                next = PageAfter(parent, parentRow, many.Shape.Expand, last);
                continue;
            }
            visitor.BeginEntity(many.Entity);
            await MembersAsync(many.Entity, children.Cursor, children.Number);
            visitor.EndEntity(many.Entity);
            rows++;
            if (rows == most)
                last = [.. many.Shape.Order.Select(children.Cursor.GetStored)];
            await visitor.SendIfFullAsync(cancellation);
        }
        visitor.EndMany(many.Entity, next);
    }

    private RelatedPage PageAfter(EntityNode parent, IRowCursor parentRow, BoundExpand expand, ImmutableArray<StoredValue> last) =>
        new(AddressOf(parent.Shape, parentRow), AddressOf(root.Shape, run.Rows), expand, last);

    private static EntityAddress AddressOf(EntityShape entity, IRowCursor row)
    {
        ImmutableArray<object> Key(ImmutableArray<ShapeCell> cells) =>
            [.. cells.Select(k => RowValue.Published(row, k.Property, k.Column))];
        return new EntityAddress(
            entity.Set,
            Key(entity.Key),
            entity.Container is { } container ? new ContainerAddress(container.Set, Key(container.Key), container.Navigation) : null
        );
    }

    /// <summary>Entities of another source are written when they are fetched, and put in their places later.</summary>
    private async Task<RemoteEntities> FetchAsync(RemoteNode remote)
    {
        var found = new RemoteEntities();
        var most = run.Values.ChildRowsOf(remote.Shape.Expand);
        await run.ReadRemoteAsync(
            remote.Shape.Remote,
            (key, row) =>
            {
                var entities = found.Of(key);
                if (entities.Count == most)
                {
                    found.Cut.Add(key);
                    return;
                }
                var entity = visitor.Apart(remote.Entity, () => OwnMembers(remote.Entity, row));
                run.Values.Allowance.Take(entity.Length + 64);
                entities.Add(entity);
                if (entities.Count == most)
                    found.Last[key] = [.. remote.Shape.Order.Select(row.GetStored)];
            },
            cancellation
        );
        return found;
    }

    private void Remote(RemoteNode remote, EntityNode parent, IRowCursor parentRow)
    {
        var shape = remote.Shape;
        if (shape.TypeColumn is { } type && parentRow.IsNull(type))
            return;
        var found = _remotes[shape.Remote];
        var isRelated = shape.Own.All(o => !parentRow.IsNull(o.Column));
        var key = isRelated ? QueryRun.RemoteKey(shape.Own.Select(o => RowValue.Published(parentRow, o.Property, o.Column))) : "";
        var entities = isRelated ? found.Of(key) : [];
        if (!shape.Navigation.IsCollection)
        {
            if (entities.Count == 0)
                visitor.NoSingle(remote.Entity);
            else
                visitor.InsertSingle(remote.Entity, entities[0]);
            return;
        }
        visitor.BeginMany(remote.Entity);
        foreach (var entity in entities)
            visitor.Insert(remote.Entity, entity);
        visitor.EndMany(remote.Entity, found.Cut.Contains(key) ? PageAfter(parent, parentRow, shape.Expand, found.Last[key]) : null);
    }

    /// <summary>Related entities of one page, as the format wrote them, by what the page's entities are related by.</summary>
    private sealed class RemoteEntities
    {
        private readonly Dictionary<string, List<ReadOnlyMemory<byte>>> _entities = new(StringComparer.Ordinal);

        /// <summary>Keys with more entities than an answer holds.</summary>
        public HashSet<string> Cut { get; } = new(StringComparer.Ordinal);

        /// <summary>Positions of the last entities of full answers.</summary>
        public Dictionary<string, ImmutableArray<StoredValue>> Last { get; } = new(StringComparer.Ordinal);

        public List<ReadOnlyMemory<byte>> Of(string key) => _entities.TryGetValue(key, out var found) ? found : _entities[key] = [];
    }
}
