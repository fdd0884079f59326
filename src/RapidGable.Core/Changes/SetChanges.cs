using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Requests;

namespace RapidGable.Changes;

/// <summary>What was to be done with one of many (Core vocabulary, DataModificationOperationKind).</summary>
public enum MemberChange
{
    Insert,
    Update,
    Delete,
}

/// <summary>What became of one of the entities of a change of many.</summary>
/// <param name="Number">The place of its item in the payload, from 0; null = the change was the same for all.</param>
/// <param name="Address">Below the service root, encoded; null = there is no such entity.</param>
/// <param name="Fault">Why it is as it was; null = it has changed.</param>
public sealed record ChangedMember(MemberChange Change, int? Number, string? Address, RequestFault? Fault);

/// <summary>
/// Changes of many entities by one request: all of them or nothing, unless the request goes on after errors (Protocol 8.2.8.3); then
/// each is done
/// or not by itself, in the one transaction.
/// </summary>
internal sealed class SetChanges(
    ChangeUnit unit,
    ChangeRequest request,
    EntityFinder finder,
    EntityChanges changes,
    CancellationToken cancellation
)
{
    private readonly BoundPath _path = request.Change.Request.Path;

    /// <summary>One change of every member of a collection (Protocol 11.4.14, 11.4.15).</summary>
    /// <param name="sent">What changes; null = they are deleted.</param>
    public async Task<ChangeResult> EachAsync(SentEntity? sent)
    {
        var rows = await finder.LocateAsync(request.Change, request.Spelled, _path);
        var members = ImmutableArray.CreateBuilder<ChangedMember>(rows.Count);
        foreach (var row in rows)
        {
            // What went with one before it is deleted as it should be.
            if (sent is null && members.Count > 0 && await finder.FindAsync(row.Set, row.Key) is null)
                continue;
            var address = await finder.AddressAsync(row);
            var fault = await TryAsync(async () =>
            {
                if (sent is null)
                    await changes.DeleteAsync(row, request.Preconditions);
                else
                    await changes.UpdateAsync(row, sent, SentFor.Merge, request.Preconditions);
            });
            members.Add(new ChangedMember(sent is null ? MemberChange.Delete : MemberChange.Update, null, address, fault));
        }
        return new ChangeResult(sent is null ? ChangeOutcome.Deleted : ChangeOutcome.Updated, null)
        {
            Set = _path.Target,
            Members = members.ToImmutable(),
        };
    }

    /// <summary>A delta payload: what is listed is created, changed or deleted (Protocol 11.4.13).</summary>
    public async Task<ChangeResult> DeltaAsync(ISentBody body, WritableModel writable)
    {
        if (_path.Hops.Length > 0 || _path.Cast is not null)
            throw new FaultException(RequestFault.NotImplemented("Changes of a collection are taken by its set alone.", "path"));
        if (!body.Delta(writable, _path.Target).Is(out var items, out var fault))
            throw new FaultException(fault);
        if (!request.ContinuesOnError && items.SelectMany(i => i.Faults).ToList() is { Count: > 0 } faults)
            throw new FaultException(RequestFault.Of(faults));
        // A collection has no tag of its own; each item may bring one.
        if (request.Preconditions.IfMatch is { } tags && !tags.Contains("*"))
            throw new FaultException(
                new RequestFault(412, "changed", "A collection has no tag; give the one of an entity as '@etag' with it.", "If-Match")
            );
        var members = ImmutableArray.CreateBuilder<ChangedMember>(items.Count);
        foreach (var item in items)
            members.Add(await MemberAsync(item));
        return new ChangeResult(ChangeOutcome.Updated, null) { Set = _path.Target, Members = members.ToImmutable() };
    }

    private async Task<ChangedMember> MemberAsync(DeltaItem item)
    {
        var set = _path.Target;
        var member = new ChangedMember(item.Related?.Removed is null ? MemberChange.Insert : MemberChange.Delete, item.Number, null, null);
        if (item.Related is not { } related || !item.Faults.IsEmpty)
            return member with { Fault = RequestFault.Of(item.Faults) };
        var fault = await TryAsync(async () =>
        {
            var key =
                related.Entity is { } entity && entity.Key.Length == set.Type.Key.Length
                    ? set.Type.Key.Select(k => entity.Key.First(v => v.Property.Column == k.Column).Value!).ToImmutableArray()
                    : default;
            var row =
                related.Reference is { } reference
                    ? await finder.ResolveAsync(reference, set, related.Path, isNeeded: related.Removed is null)
                : key.IsDefault ? null
                : await finder.FindAsync(set, key);
            if (row is not null && related.Reference is not null && !key.IsDefault && !row.Key.SequenceEqual(key))
                throw new FaultException(
                    new RequestFault(
                        400,
                        "contradiction",
                        $"'{related.Path}' names one entity by '@id' and another by its key.",
                        related.Path
                    )
                );
            if (row is null && related.Reference is not null && related.Removed is null)
                throw finder.NoTarget(related.Reference, related.Path);
            member = member with
            {
                Address = row is null ? null : await finder.AddressAsync(row),
                Change =
                    related.Removed is not null ? MemberChange.Delete
                    : row is null ? MemberChange.Insert
                    : MemberChange.Update,
            };
            var stated = related.Entity?.ETag is { } tag ? new Preconditions([tag], null) : Preconditions.None;
            if (related.Removed is { } isDeleted)
            {
                if (!isDeleted)
                    throw new FaultException(
                        new RequestFault(
                            400,
                            "value",
                            $"An entity leaves '{set.Name}' only when it is deleted; the reason is 'deleted'.",
                            related.Path
                        )
                    );
                if (row is not null)
                    await changes.DeleteAsync(row, stated, path: related.Path + "/");
            }
            else if (row is null)
                member = member with { Address = await finder.AddressAsync(await changes.CreateAsync(related.Entity!, [])) };
            else
                await changes.UpdateAsync(row, related.Entity ?? SentEntity.Nothing(set), SentFor.Merge, stated);
        });
        return fault is null
            ? member
            : member with
            {
                Fault = fault,
                Address = member.Change == MemberChange.Insert ? null : member.Address,
            };
    }

    /// <summary>
    /// Runs a part; when the request goes on after errors, one that fails leaves nothing and is told, else it ends the whole.
    /// </summary>
    private async Task<RequestFault?> TryAsync(Func<Task> part)
    {
        if (!request.ContinuesOnError)
        {
            await part();
            return null;
        }
        var result = await unit.StepAsync(
            unit.Service.SourceOf(unit.Service.Model.FindSet(_path.Target.Name)!),
            async () =>
            {
                try
                {
                    await part();
                    return Result<object>.Of(unit);
                }
                catch (FaultException exception)
                {
                    return exception.Fault;
                }
            },
            cancellation
        );
        return result.Fault;
    }
}
