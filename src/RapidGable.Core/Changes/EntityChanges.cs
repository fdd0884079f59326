using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>An entity that is there.</summary>
/// <param name="Set">As the caller may address it.</param>
/// <param name="Key">Published values, in the order of the set's key.</param>
public sealed record EntityRow(EntitySet Set, ImmutableArray<object> Key)
{
    internal IEnumerable<(Property Column, object Value)> Where => Set.Type.Key.Zip(Key, (column, value) => (column, value));

    /// <summary>Whether both are the same row of the same set, by their keys.</summary>
    public bool Is(EntityRow other) => Set.Name == other.Set.Name && Key.SequenceEqual(other.Key);
}

/// <summary>
/// Creates, changes, deletes and relates entities in the transaction of a unit. Whatever is not allowed, not there or not as it must be
/// ends
/// the whole with a fault. One way leads to every write: access, lock, precondition, values, statement, access once more, rules, note.
/// </summary>
/// <param name="unit">The transaction and who it is for.</param>
/// <param name="model">What the caller may address.</param>
/// <param name="finder">Finds the entities that addresses are about.</param>
internal sealed partial class EntityChanges(ChangeUnit unit, EntityModel model, EntityFinder finder, CancellationToken cancellation)
{
    private readonly PublishedService _service = unit.Service;
    private readonly RowVersions _versions = new(unit);
    private readonly List<EntityRow> _created = [];
    private readonly ReferenceCheck _references = new(unit, finder, cancellation);

    /// <summary>Creates an entity and what belongs to it.</summary>
    /// <param name="given">Columns whose values the place of the entity gives.</param>
    /// <param name="mustBe">The key that the address gives; null = the body or the source does.</param>
    public async Task<EntityRow> CreateAsync(SentEntity sent, IReadOnlyList<ColumnValue> given, IReadOnlyList<ColumnValue>? mustBe = null)
    {
        var access = Access(sent.Set, SetOperations.Create, sent.Path);
        var (whole, statements) = (access.Set, await StatementsAsync(access.Set));
        var columns = new List<ColumnValue>(given);
        AddMissing(columns, mustBe ?? []);
        // A key that the database makes may be a placeholder in the body.
        var key = mustBe is null ? sent.Key.Where(v => !v.Property.IsComputed) : [];
        AddMissing(columns, sent.Values.Concat(key).Select(v => new ColumnValue(v.Property, v.Value, v.Path)));
        AddMissing(columns, await ForwardAsync(sent, null));
        if (sent.Type is { Discriminator: { } discriminator, Values: [var mark, ..] })
            AddMissing(columns, [new ColumnValue(discriminator, mark)]);
        ColumnGate.Admit(columns, access, sent.Path);
        await _references.CheckAsync(columns, access, null, sent.Path);
        await new ValueMaking(unit, access.Set, statements, _service).AddAsync(columns, SetOperations.Create);
        AddMissing(columns, _versions.First(whole));
        RowDefaults.Require(whole, sent, columns);
        var extra = columns.Where(c => c.Property.Via is not null).ToList();
        var row = await ToldAsync(
            sent,
            async () =>
            {
                var own = columns.Except(extra).ToList();
                AddMissing(
                    own,
                    whole
                        .Type.Properties.Where(p =>
                            p is { Type.IsCollection: true, HasComputedDefault: false, DefaultValue: null }
                            && p.Conversion is JsonConversion
                            && RowDefaults.IsStored(p)
                        )
                        .Select(p => new ColumnValue(p, "[]"))
                );
                if (whole.Writes.TryGetValue(SetOperations.Create, out var call))
                    return await CreatedAsync(call, own, sent.Set, whole);
                var made = await statements.InsertAsync(access.Table, own, whole.Type.Key);
                return new EntityRow(sent.Set, [.. made.Select(k => k!)]);
            },
            columns
        );
        _created.Add(row);
        if (sent.Type is { Table: { } table, Rows: { } rows })
        {
            var links = await ColumnsAsync(row, table.Joins.Select(j => j.Own), statements);
            await ToldAsync(sent, async () =>
                await statements.InsertAsync(
                    (TableSource)rows.Source,
                    [.. table.Joins.Select((j, i) => new ColumnValue(j.Target, links[i])), .. extra],
                    []
                )
            );
        }
        await BackwardAsync(row, sent, isNew: true);
        await JudgeAsync(row, access, statements, sent.Path, columns);
        await NoteAsync(row, access, statements, "create", null);
        return row;
    }

    /// <summary>Changes an entity.</summary>
    /// <param name="use">Whether what is not sent stays or becomes its default.</param>
    /// <param name="needsState">As in <see cref="LinkAsync"/>; what is part of another entity goes with the state of that one.</param>
    public async Task UpdateAsync(EntityRow row, SentEntity sent, SentFor use, Preconditions preconditions, bool needsState = true)
    {
        var access = Access(row.Set, SetOperations.Update, sent.Path);
        var (whole, statements) = (access.Set, await StatementsAsync(access.Set));
        var version = await LockAsync(row, access, statements, preconditions, needsState, sent);
        var before = whole.Log is null ? null : await ColumnsAsync(row, ChangeNotes.Columns(whole), statements);
        var columns = sent.Values.Select(v => new ColumnValue(v.Property, v.Value, v.Path) { IsRelated = v.IsRelated }).ToList();
        await MergeAsync(row, sent, columns, statements);
        if (use == SentFor.Replace)
            AddMissing(columns, RowDefaults.Of(whole, sent, access));
        AddMissing(columns, await ForwardAsync(sent, row));
        // Contained entities are part of this one, so that it is another one when they change.
        if (columns.Count > 0 || sent.Relations.Any(r => r.Navigation.IsContained))
        {
            ColumnGate.Admit(columns, access, sent.Path);
            await _references.CheckAsync(columns, access, row, sent.Path);
            await new ValueMaking(unit, whole, statements, _service).AddAsync(columns, SetOperations.Update, row);
            AddMissing(columns, _versions.Next(whole, version));
            var extra = columns.Where(c => c.Property.Via is not null).ToList();
            await ToldAsync(
                sent,
                async () =>
                {
                    if (columns.Count > extra.Count && whole.Writes.TryGetValue(SetOperations.Update, out var call))
                        await UpdatedAsync(call, row, [.. columns.Except(extra)], whole, statements);
                    else if (columns.Count > extra.Count)
                        await statements.UpdateAsync(access.Table, [.. columns.Except(extra)], row.Where);
                    if (extra.Count > 0)
                        await UpdateExtraAsync(row, extra, statements);
                    return row;
                },
                columns
            );
        }
        await BackwardAsync(row, sent, isNew: false);
        await JudgeAsync(row, access, statements, sent.Path, columns);
        if (before is not null)
            await NoteAsync(row, access, statements, "update", before);
    }

    /// <summary>Sets columns of an entity, which its relations to others are made of.</summary>
    /// <param name="needsState">Whether the change must say which state it is about, where the set asks for that.</param>
    private async Task SetReferenceAsync(
        EntityRow row,
        IReadOnlyList<ColumnValue> columns,
        Preconditions preconditions,
        bool needsState,
        string path
    ) =>
        await UpdateAsync(
            row,
            SentEntity.Nothing(row.Set) with
            {
                Values = [.. columns.Select(c => new SentValue(c.Property, c.Value, c.Path) { IsRelated = true })],
                Path = path,
            },
            SentFor.Merge,
            preconditions,
            needsState
        );

    /// <summary>Deletes an entity, its links, and what is part of it.</summary>
    public async Task DeleteAsync(EntityRow row, Preconditions preconditions, bool needsState = true, string path = "")
    {
        var access = Access(row.Set, SetOperations.Delete, path);
        var statements = await StatementsAsync(access.Set);
        await LockAsync(row, access, statements, preconditions, needsState, SentEntity.Nothing(row.Set) with { Path = path });
        await DropAsync(row, access, row.Set, statements);
    }

    /// <summary>
    /// Deletes a row with its links and its parts, each noted where that is declared; who may delete an entity may delete what is part
    /// of it.
    /// </summary>
    /// <param name="access">The right to delete it.</param>
    /// <param name="seen">What was asked for, which a fault may name.</param>
    private async Task DropAsync(EntityRow row, WriteAccess access, EntitySet seen, ChangeStatements statements)
    {
        var whole = access.Set;
        var before = whole.Log is null ? null : await ColumnsAsync(row, ChangeNotes.Columns(whole), statements);
        if (whole.Writes.TryGetValue(SetOperations.Delete, out var call))
        {
            await ToldAsync(SentEntity.Nothing(seen), () => DeletedAsync(call, row, whole, statements), isDelete: true);
            if (before is not null)
                await ChangeNotes.WriteAsync(unit, whole, row, "delete", before, null, statements);
            return;
        }
        foreach (var navigation in whole.Type.Navigations.Where(n => n.Link is not null))
        {
            var links = await ColumnsAsync(row, navigation.Link!.Own.Select(o => o.Own), statements);
            await statements.DeleteAsync(
                navigation.Link.Source,
                navigation.Link.Own.Select((o, i) => (LinkColumn(o.Link, o.Own), links[i]!))
            );
        }
        foreach (var navigation in whole.Type.Navigations.Where(n => n.IsContained))
        {
            var part = _service.Model.Target(navigation);
            var links = await ColumnsAsync(row, navigation.Joins.Select(j => j.Own), statements);
            foreach (
                var key in await statements.FindAllAsync(
                    part.Source,
                    part.Type.Key,
                    navigation.Joins.Select((j, i) => (j.Target, links[i]!))
                )
            )
                await DropAsync(new EntityRow(part, [.. key.Select(k => k!)]), AccessGate.DeletingPart(access, part), seen, statements);
        }
        await ToldAsync(
            SentEntity.Nothing(seen),
            async () =>
            {
                foreach (var derived in whole.Type.Derived.Where(d => d.Rows is not null))
                {
                    var links = await ColumnsAsync(row, derived.Table!.Joins.Select(j => j.Own), statements);
                    await statements.DeleteAsync(
                        (TableSource)derived.Rows!.Source,
                        derived.Table.Joins.Select((j, i) => (j.Target, links[i]!))
                    );
                }
                await statements.RemoveAsync(access, row.Where);
                return row;
            },
            isDelete: true
        );
        if (before is not null)
            await ChangeNotes.WriteAsync(unit, whole, row, "delete", before, null, statements);
    }

    /// <summary>What a caller may write of a set; a fault when nothing.</summary>
    private WriteAccess Access(EntitySet set, SetOperations operation, string path) =>
        unit.Writing(set, operation)
        ?? throw new FaultException(
            new RequestFault(
                403,
                "forbidden",
                $"You may not {Grant.Words(operation)} entities of {set.Name}.",
                path.Length == 0 ? null : path.TrimEnd('/')
            )
        );

    private async Task<ChangeStatements> StatementsAsync(EntitySet whole)
    {
        var source = _service.SourceOf(whole);
        return (await unit.SessionAsync(source, cancellation)).Is(out var session, out var fault)
            ? new ChangeStatements(session, source.Dialect, unit.Values, cancellation)
            : throw new FaultException(fault);
    }

    private async Task<object?[]> ColumnsAsync(EntityRow row, IEnumerable<Property> columns, ChangeStatements statements) =>
        await statements.FindAsync(_service.Whole(row.Set).Source, [.. columns], row.Where)
        ?? throw new FaultException(RequestFault.NotFound("There is no such entity.", "path"));

    /// <summary>Takes the row for this transaction alone, if it is one that may be changed and as the caller means it to be.</summary>
    /// <returns>The value of the version column; null = there is none.</returns>
    private async Task<object?> LockAsync(
        EntityRow row,
        WriteAccess access,
        ChangeStatements statements,
        Preconditions preconditions,
        bool needsState,
        SentEntity sent
    )
    {
        var output = access.Set.Version is { } version ? [version] : access.Set.Type.Key.Take(1).ToList();
        // What a statement of the publisher changes may be rows that cannot be locked.
        var isLocked = !access.Set.Writes.ContainsKey(access.Operation);
        if (await statements.FindAsync(access.Set.Source, output, row.Where, isLocked) is not { } found)
            throw new FaultException(RequestFault.NotFound("There is no such entity.", "path"));
        if (access.Before is RestrictedSource && !await statements.ExistsAsync(access.Before, access.Set.Type.Key, row.Where))
            throw new FaultException(
                new RequestFault(
                    403,
                    "forbidden",
                    $"You may not {Grant.Words(access.Operation)} this entity of {row.Set.Name}.",
                    sent.Path.Length == 0 ? null : sent.Path.TrimEnd('/')
                )
            );
        await CheckStateAsync(row, preconditions, needsState, statements, sent.Path.TrimEnd('/'));
        return access.Set.Version is null ? null : found[0];
    }

    private static async Task CheckStateAsync(
        EntityRow row,
        Preconditions preconditions,
        bool needsState,
        ChangeStatements statements,
        string path
    )
    {
        var isRequired = needsState && row.Set is { RequiresVersion: true, HasVersion: true };
        if (preconditions.IsEmpty && !isRequired)
            return;
        if (preconditions.Check(await TagAsync(row, statements), isRequired, path) is { } fault)
            throw new FaultException(fault);
    }

    /// <summary>The tag of an entity as the caller has seen it; null = it has none.</summary>
    private static async Task<string?> TagAsync(EntityRow row, ChangeStatements statements)
    {
        if (!row.Set.HasVersion)
            return null;
        var columns = EntityTags.Columns(row.Set);
        return await statements.FindAsync(row.Set.Source, columns, row.Where, isLocked: false, cursor =>
            EntityTags.Of(row.Set, [.. columns.Select((c, i) => new ShapeCell(c, i))], cursor) ?? ""
        );
    }

    private static void AddMissing(List<ColumnValue> columns, IEnumerable<ColumnValue> more)
    {
        foreach (var column in more)
        {
            if (columns.Find(c => c.Property.Column == column.Property.Column && c.Property.Via == column.Property.Via) is not { } there)
                columns.Add(column);
            else if (there.Path.Length > 0 && column.Path.Length > 0 && !Equals(there.Value, column.Value))
                throw new FaultException(
                    new RequestFault(
                        400,
                        "contradiction",
                        $"'{there.Path}' and '{column.Path}' say different things of one value.",
                        column.Path
                    )
                );
        }
    }

    /// <summary>A complex value that is kept as JSON changes member by member (M-16).</summary>
    private async Task MergeAsync(EntityRow row, SentEntity sent, List<ColumnValue> columns, ChangeStatements statements)
    {
        foreach (var value in sent.Values.Where(v => v is { IsMerged: true, Value: not null }))
        {
            var current = (await ColumnsAsync(row, [value.Property], statements))[0] as string;
            columns[columns.FindIndex(c => c.Property == value.Property)] = new ColumnValue(
                value.Property,
                JsonMerge.Of(current, (string)value.Value!),
                value.Path
            );
        }
    }

    private async Task UpdateExtraAsync(EntityRow row, List<ColumnValue> extra, ChangeStatements statements)
    {
        foreach (var table in extra.GroupBy(c => c.Property.Via!))
        {
            var derived = _service.Model.FindSet(row.Set.Name)!.Type.Derived.First(d => d.Table == table.Key);
            var links = await ColumnsAsync(row, table.Key.Joins.Select(j => j.Own), statements);
            if (
                await statements.UpdateAsync(
                    (TableSource)derived.Rows!.Source,
                    [.. table],
                    table.Key.Joins.Select((j, i) => (j.Target, links[i]!))
                ) == 0
            )
                throw new FaultException(
                    new RequestFault(400, "type", $"The entity is not of the type {derived.Name}.", table.First().Path)
                );
        }
    }

    /// <summary>The written row must be one that the caller may leave, and fulfil the rules of its set.</summary>
    private async Task JudgeAsync(
        EntityRow row,
        WriteAccess access,
        ChangeStatements statements,
        string path,
        IReadOnlyList<ColumnValue> columns
    )
    {
        if (access.After is RestrictedSource && !await statements.ExistsAsync(access.After, access.Set.Type.Key, row.Where))
            throw new FaultException(
                new RequestFault(
                    403,
                    "forbidden",
                    $"You may not {Grant.Words(access.Operation)} an entity of {row.Set.Name} that is like this.",
                    path.Length == 0 ? null : path.TrimEnd('/')
                )
            );
        await new RowJudge(unit, access, statements, finder).CheckAsync(row, path, columns);
    }

    private async Task NoteAsync(EntityRow row, WriteAccess access, ChangeStatements statements, string operation, object?[]? before)
    {
        if (access.Set.Log is not null)
            await ChangeNotes.WriteAsync(
                unit,
                access.Set,
                row,
                operation,
                before,
                await ColumnsAsync(row, ChangeNotes.Columns(access.Set), statements),
                statements
            );
    }

    /// <summary>Runs a statement; what the database refuses is told in outside terms.</summary>
    /// <param name="columns">What was to be written; null = nothing.</param>
    private async Task<T> ToldAsync<T>(
        SentEntity sent,
        Func<Task<T>> run,
        IReadOnlyList<ColumnValue>? columns = null,
        bool isDelete = false
    )
    {
        try
        {
            return await run();
        }
        catch (SourceException exception) when (exception is { Kind: SourceFaultKind.Constraint, Constraint: { } broken })
        {
            // Some engines do not say which side of a reference is missing, nor which reference.
            if (broken.Kind == ConstraintKind.NoParent)
                broken =
                    isDelete ? broken with { Kind = ConstraintKind.HasChildren }
                    : broken.Columns.IsEmpty && columns is not null ? broken with { Columns = await DanglingAsync(sent.Set, columns) }
                    : broken;
            throw new FaultException(ConstraintFaults.Of(broken, sent.Set, sent.Path));
        }
    }

    /// <summary>The columns that refer to something that is not there.</summary>
    private async Task<ImmutableArray<string>> DanglingAsync(EntitySet set, IReadOnlyList<ColumnValue> columns)
    {
        var whole = _service.Model.FindSet(set.Name)!;
        var statements = await StatementsAsync(whole);
        foreach (var navigation in whole.Type.Navigations.Where(n => n is { IsHeldByTarget: false, Link: null, IsRemote: false }))
        {
            var values = navigation
                .Joins.Select(j => (j.Target, columns.FirstOrDefault(c => c.Property.Column == j.Own.Column)?.Value!))
                .ToList();
            if (
                values.TrueForAll(v => v.Item2 is not null)
                && !await statements.ExistsAsync(_service.Model.Target(navigation).Source, [values[0].Target], values)
            )
                return [.. navigation.Joins.Select(j => j.Own.Column)];
        }
        return [];
    }
}
