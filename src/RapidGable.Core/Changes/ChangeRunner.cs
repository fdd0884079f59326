using System.Collections.Immutable;
using System.Text;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>Carries out one request that changes something, in the transaction of a unit (Protocol 11.4).</summary>
public sealed class ChangeRunner
{
    private readonly ChangeUnit _unit;
    private readonly ChangeRequest _request;
    private readonly BoundPath _path;
    private readonly EntityFinder _finder;
    private readonly EntityChanges _changes;
    private readonly WritableModel _writable;

    private ChangeRunner(ChangeUnit unit, ChangeRequest request, CancellationToken cancellation)
    {
        (_unit, _request, _path) = (unit, request, request.Change.Request.Path);
        _finder = new EntityFinder(unit, request.Change.Model, request.Addresses, cancellation);
        _changes = new EntityChanges(unit, request.Change.Model, _finder, cancellation);
        _writable = new WritableModel(request.Change.Model, unit.Writing);
        Cancellation = cancellation;
    }

    private CancellationToken Cancellation { get; }

    // What of the body could be read before the transaction.
    private SentEntity? _entity;
    private IReadOnlyList<SentEntity>? _entities;
    private RequestFault? _early;

    /// <summary>The verbs that a resource takes for some caller, as its sets allow. Empty = it is only read.</summary>
    public static IReadOnlyList<ChangeVerb> Taken(BoundPath path, EntitySet whole, EntityModel model)
    {
        bool May(SetOperations operation) => whole.Operations.HasFlag(operation);
        if (whole.IsAction)
            return [ChangeVerb.Post];
        if (path.Root is null || path.IsCrossJoin || path.IsOfFunction || whole.IsFunction)
            return [];
        var holder = path.Hops.Length == 0 ? null : model.FindSet((path.Hops.Length > 1 ? path.Hops[^2].Target : path.Root).Name);
        // The entity changes that holds the relation; a link table belongs to both.
        var mayHolder = holder?.Operations.HasFlag(SetOperations.Update) == true;
        var mayLink =
            path.Hops is [.., { Navigation: var last }]
            && last switch
            {
                { IsHeldByTarget: true } => May(SetOperations.Update) || (last.IsContained && May(SetOperations.Delete)),
                { Link: not null } => mayHolder && May(SetOperations.Update),
                _ => mayHolder,
            };
        IEnumerable<ChangeVerb> verbs = path switch
        {
            { IsReference: true, Kind: ResourceKind.Collection, Hops: [.., { Navigation.Link.Needs: not null }] } => mayLink
                ? [ChangeVerb.Delete]
                : [],
            { IsReference: true, Kind: ResourceKind.Collection, Hops.Length: > 0 } => mayLink
                ? [ChangeVerb.Post, ChangeVerb.Put, ChangeVerb.Delete]
                : [],
            { IsReference: true, Kind: ResourceKind.Entity, Hops.Length: > 0 } => mayLink
                ? path.Hops[^1].Key is null
                    ? [ChangeVerb.Put, ChangeVerb.Delete]
                    : [ChangeVerb.Delete]
                : [],
            { IsReference: true } => [],
            { IsEach: true } =>
            [
                .. May(SetOperations.Update) ? [ChangeVerb.Patch] : Array.Empty<ChangeVerb>(),
                .. May(SetOperations.Delete) ? [ChangeVerb.Delete] : Array.Empty<ChangeVerb>(),
            ],
            { Kind: ResourceKind.Collection } when path.Filters.IsEmpty || path.Cast is not null =>
            [
                .. May(SetOperations.Create) ? [ChangeVerb.Post] : Array.Empty<ChangeVerb>(),
                .. (whole.Operations & ~SetOperations.Read) != 0 ? [ChangeVerb.Patch] : Array.Empty<ChangeVerb>(),
            ],
            { Kind: ResourceKind.Entity } =>
            [
                .. May(SetOperations.Update) ? [ChangeVerb.Patch, ChangeVerb.Put] : Array.Empty<ChangeVerb>(),
                .. May(SetOperations.Delete) ? [ChangeVerb.Delete] : Array.Empty<ChangeVerb>(),
            ],
            { Kind: ResourceKind.PropertyValue, Property: { } property } when May(SetOperations.Update) && IsOpen(property, whole) =>
                property.Type.IsCollection ? [ChangeVerb.Put, ChangeVerb.Post, ChangeVerb.Delete]
                : property.Type.Kind == EdmKind.Complex ? [ChangeVerb.Put, ChangeVerb.Patch, ChangeVerb.Delete]
                : [ChangeVerb.Put, ChangeVerb.Delete],
            { Kind: ResourceKind.RawValue, Property: { } property } when May(SetOperations.Update) && IsOpen(property, whole) =>
            [
                ChangeVerb.Put,
                ChangeVerb.Delete,
            ],
            _ => [],
        };
        return [.. verbs];
    }

    private static bool IsOpen(Property property, EntitySet whole) =>
        property.IsGroup ? property.Members.Any(m => IsOpen(m, whole)) : ColumnAccesses.IsWritten(property, whole, SetOperations.Update);

    /// <summary>Does what is asked; whatever is wrong leaves the transaction to be undone.</summary>
    /// <exception cref="SourceException">When a source fails; <see cref="SourceFaultKind.Collision"/> is worth another try of the whole
    /// unit.</exception>
    public static async Task<Result<ChangeResult>> RunAsync(ChangeUnit unit, ChangeRequest request, CancellationToken cancellation)
    {
        try
        {
            return await new ChangeRunner(unit, request, cancellation).RunAsync();
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    /// <summary>Takes away a row that a trial made, whatever the declaration allows.</summary>
    /// <param name="key">Published values of its key.</param>
    public static async Task RemoveAsync(
        PublishedService service,
        EntitySet set,
        ImmutableArray<object> key,
        ChangeEnvironment environment,
        CancellationToken cancellation
    )
    {
        await using var unit = new ChangeUnit(service, Caller.Anonymous, environment);
        var source = service.SourceOf(set);
        if (!(await unit.SessionAsync(source, cancellation)).Is(out var session, out _))
            return;
        var statements = new ChangeStatements(session, source.Dialect, unit.Values, cancellation);
        if (set.Writes.TryGetValue(SetOperations.Delete, out var call))
        {
            var values = new EntityRow(set, key).Where.Select(w => new ColumnValue(w.Column, w.Value));
            await new WriteCalls(session, source.Dialect, cancellation).RunAsync(call, [.. values], []);
        }
        else if (set.Source is TableSource)
            await statements.RemoveAsync(AccessGate.UndoingTrial(set), new EntityRow(set, key).Where);
        await unit.CommitAsync(cancellation);
    }

    private async Task<ChangeResult> RunAsync()
    {
        ReadEarly();
        // The transaction begins before anything is looked at, so that nothing of it is of another state.
        var target = _unit.Service.Model.FindSet(_path.Target.Name) ?? _path.Target;
        if (!(await _unit.SessionAsync(_unit.Service.SourceOf(target), Cancellation)).Is(out _, out var fault))
            throw new FaultException(fault);
        return _path switch
        {
            { IsReference: true } => await ReferenceAsync(),
            { IsEach: true } => await Sets()
                .EachAsync(_request.Verb == ChangeVerb.Delete ? null : _entity ?? Read(_path.Target, SentFor.Merge, [])),
            { Kind: ResourceKind.Collection } => _request.Verb == ChangeVerb.Post
                ? await CreateAsync()
                : await Sets().DeltaAsync(Body, _writable),
            { Kind: ResourceKind.Entity } => await EntityAsync(),
            _ => await PropertyAsync(),
        };
    }

    /// <summary>
    /// Reads the body, and judges it, before a transaction holds anything, unless its meaning depends on the row as it is.
    /// </summary>
    /// <remarks>A fault of the body waits until it is known that there is what the address names: 404 comes first.</remarks>
    private void ReadEarly()
    {
        try
        {
            ReadBody();
        }
        catch (FaultException exception)
        {
            _early = exception.Fault;
        }
    }

    private void ReadBody()
    {
        if (_request is { Verb: ChangeVerb.Delete } or { Before: not null } or { Content: not null } || _path.IsReference)
            return;
        switch (_path)
        {
            case { IsEach: true }:
                _entity = Read(_path.Target, SentFor.Merge, []);
                break;
            case { Kind: ResourceKind.Collection } when _request.Verb == ChangeVerb.Post:
                var last = _path.Hops is [.., { Navigation: var relation }] ? relation : null;
                string[] given = last is { IsHeldByTarget: true, IsRemote: false } ? [.. last.Joins.Select(j => j.Target.Column)] : [];
                if (Body.IsList)
                    _entities = Taken(Body.Entities(_writable, _path.Target, given));
                else
                    _entity = Read(_path.Target, SentFor.Create, given);
                break;
            // What a PUT means depends on whether the entity is there.
            case { Kind: ResourceKind.Entity } when _request.Verb == ChangeVerb.Patch:
                _entity = Read(_path.Target, SentFor.Merge, []);
                break;
        }
    }

    private SetChanges Sets() => new(_unit, _request, _finder, _changes, Cancellation);

    /// <summary>The entity that the last step starts from, for paths that end with one.</summary>
    private async Task<EntityRow> ParentAsync()
    {
        var path = _path.Before(_path.Hops.Length - 1);
        return (await _finder.LocateAsync(_request.Change, _request.Spelled, path)).FirstOrDefault()
            ?? throw new FaultException(RequestFault.NotFound("There is no such entity.", "path"));
    }

    private async Task<EntityRow?> FindAsync(BoundPath path) =>
        (await _finder.LocateAsync(_request.Change, _request.Spelled, path.Entities)).FirstOrDefault();

    private async Task<EntityRow> OneAsync() =>
        await FindAsync(_path) ?? throw new FaultException(RequestFault.NotFound("There is no such entity.", "path"));

    private async Task<ChangeResult> CreateAsync()
    {
        IReadOnlyList<ColumnValue> given = [];
        EntityRow? parent = null;
        var navigation = _path.Hops is [.., var last] ? last.Navigation : null;
        if (navigation is not null)
        {
            parent = await ParentAsync();
            if (navigation.IsRemote)
                throw new FaultException(
                    RequestFault.NotImplemented(
                        $"'{navigation.Name}' leads to another database. Create the entity in {_path.Target.Name}, and relate it.",
                        "path"
                    )
                );
            if (navigation.IsHeldByTarget)
                given = await _changes.HeldReferenceAsync(parent, navigation, "");
        }
        IReadOnlyCollection<string> columns = [.. given.Select(g => g.Property.Column)];
        if (_early is { } wrong)
            throw new FaultException(wrong);
        var isList = Body.IsList;
        var list = isList
            ? _entities ?? Taken(Body.Entities(_writable, _path.Target, columns))
            : [_entity ?? Read(_path.Target, SentFor.Create, columns)];
        if (!_request.Preconditions.IsEmpty && _request.Preconditions.IfMatch is not null)
            throw new FaultException(
                new RequestFault(412, "changed", "A request that creates an entity cannot have If-Match.", "If-Match")
            );
        var created = ImmutableArray.CreateBuilder<ChangedMember>(list.Count);
        foreach (var sent in list)
        {
            var row = await _changes.CreateAsync(sent, given);
            if (navigation?.Link is not null)
                await _changes.LinkAsync(parent!, navigation, row, Preconditions.None, false, "");
            if (!isList)
                return await ResultAsync(ChangeOutcome.Created, row, sent);
            created.Add(new ChangedMember(MemberChange.Insert, created.Count, await _finder.AddressAsync(row), null));
        }
        return new ChangeResult(ChangeOutcome.Created, null) { Set = _path.Target, Members = created.ToImmutable() };
    }

    private ISentBody Body => _request.Body ?? throw new FaultException(new RequestFault(400, "body", "The request needs a JSON body."));

    private SentEntity Read(EntitySet set, SentFor use, IReadOnlyCollection<string> given) =>
        _early is { } wrong ? throw new FaultException(wrong) : Taken(Body.Entity(_writable, set, use, given));

    private static T Taken<T>(Result<T> read)
        where T : class => read.Is(out var value, out var fault) ? value : throw new FaultException(fault);

    private async Task<ChangeResult> EntityAsync()
    {
        if (await FindAsync(_path) is not { } row)
            return await UpsertAsync();
        if (_request.Before is { } before)
            await before(await _finder.AddressAsync(row));
        if (_request.Verb == ChangeVerb.Delete)
        {
            await _changes.DeleteAsync(row, _request.Preconditions);
            return new ChangeResult(ChangeOutcome.Deleted, null) { Set = row.Set };
        }
        var use = _request.Verb == ChangeVerb.Put ? SentFor.Replace : SentFor.Merge;
        var sent = _entity ?? Read(_path.Target, use, []);
        await _changes.UpdateAsync(row, sent, use, _request.Preconditions);
        return await ResultAsync(ChangeOutcome.Updated, row, sent);
    }

    /// <summary>The insert half of an update (Protocol 11.4.4): the address gives the key.</summary>
    private async Task<ChangeResult> UpsertAsync()
    {
        var missing = new FaultException(RequestFault.NotFound("There is no such entity.", "path"));
        var whole = _unit.Service.Model.FindSet(_path.Target.Name)!;
        var key = _path.Hops.Length == 0 ? _path.RootKey : _path.Hops[^1].Key;
        var isMade = whole.Type.Key.Any(k => k.IsComputed || k.HasComputedDefault || k.Maker is not null);
        if (
            _request.Verb == ChangeVerb.Delete
            || !_request.MayCreate
            || key is null
            || isMade
            || _path.Cast is not null
            || !_path.Filters.IsEmpty
            || _unit.Writing(whole, SetOperations.Create) is null
            || !key.Parts.All(p => whole.Type.Key.Contains(p.Property))
        )
            throw missing;
        if (_request.Preconditions.IfMatch is not null)
            throw new FaultException(
                new RequestFault(412, "changed", "There is no such entity, and If-Match is about one that is there.", "If-Match")
            );
        IReadOnlyList<ColumnValue> given = [];
        if (_path.Hops is [.., { Navigation: var navigation }])
        {
            if (!navigation.IsHeldByTarget || navigation.IsRemote)
                throw missing;
            given = await _changes.HeldReferenceAsync(await ParentAsync(), navigation, "");
        }
        var values = QueryValues.Make(_request.Change.Request, _request.Spelled, null, _unit.Now, _unit.Caller).Value!;
        var mustBe = key
            .Parts.Select(p =>
                values.Published(p.Value, p.Property).Is(out var value, out var fault)
                    ? new ColumnValue(p.Property, value)
                    : throw new FaultException(fault)
            )
            .ToList();
        var sent = Read(_path.Target, SentFor.Create, [.. given.Concat(mustBe).Select(g => g.Property.Column)]) is var read
            ? read with
            {
                Values = [.. read.Values.Where(v => mustBe.TrueForAll(k => k.Property.Column != v.Property.Column))],
            }
            : null!;
        return await ResultAsync(ChangeOutcome.Created, await _changes.CreateAsync(sent, given, mustBe), sent);
    }

    private async Task<ChangeResult> ResultAsync(ChangeOutcome outcome, EntityRow row, SentEntity sent) =>
        new(outcome, await _finder.AddressAsync(row), Nested(sent)) { Set = row.Set };

    /// <summary>
    /// The related entities of a body that were more than references, as <c>$expand</c> asks for them: the answer goes as deep as the
    /// request (Protocol 11.4.2.2).
    /// </summary>
    private static string Nested(SentEntity sent) =>
        string.Join(
            ',',
            sent.Relations.Where(r => r.Items.Any(i => i.Entity is not null))
                .Select(r =>
                    r.Navigation.Name
                    + (
                        string.Join(
                            ',',
                            r.Items.Select(i => i.Entity)
                                .OfType<SentEntity>()
                                .SelectMany(e => Nested(e).Split(',', StringSplitOptions.RemoveEmptyEntries))
                                .Distinct()
                        )
                            is { Length: > 0 } below
                        && !below.Contains('(')
                            ? $"($expand={below})"
                            : ""
                    )
                )
        );

    private async Task<ChangeResult> PropertyAsync()
    {
        var row = await OneAsync();
        if (_request.Before is { } before)
            await before(await _finder.AddressAsync(row));
        var property = _path.Property!;
        if (_unit.Writing(row.Set, SetOperations.Update) is { } access && property.Leaves.Any(l => access.Of(l) == ColumnAccess.Closed))
            throw new FaultException(ColumnGate.Closed(property.Name));
        var sent = _request switch
        {
            { Verb: ChangeVerb.Delete } => Cleared(row.Set, property),
            { Content: { } content } => Raw(row.Set, property, content),
            { Verb: ChangeVerb.Post } => await AddedAsync(row, property),
            _ => Read(property),
        };
        await _changes.UpdateAsync(row, sent, SentFor.Merge, _request.Preconditions);
        return await ResultAsync(ChangeOutcome.Updated, row, sent);
    }

    private SentEntity Read(Property property)
    {
        var use = _request.Verb == ChangeVerb.Patch ? SentFor.Merge : SentFor.Replace;
        return Taken(Body.Property(_writable, _path.Target, _path.Group, property, use));
    }

    private static SentEntity Cleared(EntitySet set, Property property)
    {
        if (property.Type.IsCollection)
            return SentEntity.Nothing(set) with { Values = [new SentValue(property, "[]", property.Name)] };
        if (property.Leaves.FirstOrDefault(l => !l.Nullable) is { } never)
            throw new FaultException(new RequestFault(400, "required", $"'{never.Name}' cannot be null.", never.Name));
        return SentEntity.Nothing(set) with { Values = [.. property.Leaves.Select(l => new SentValue(l, null, l.Name))] };
    }

    /// <summary>The content of a stream, or a value as its plain text.</summary>
    private SentEntity Raw(EntitySet set, Property property, byte[] content)
    {
        if (property.Type.Kind == EdmKind.Stream)
        {
            var values = new List<SentValue>
            {
                new(property, property.StoredType.Kind == EdmKind.String ? Text(content, property) : content, property.Name),
            };
            if (
                property.MediaTypeColumn is { } column
                && set
                    .Type.Properties.SelectMany(p => p.Leaves)
                    .Concat(_unit.Service.Model.FindSet(set.Name)!.Type.Hidden)
                    .FirstOrDefault(p => p.Column == column)
                    is { } kept
            )
                values.Add(new SentValue(kept, _request.ContentType, kept.Name));
            return SentEntity.Nothing(set) with { Values = [.. values] };
        }
        var value =
            property.Type.Kind == EdmKind.Binary ? content
            : TypedText.Parse(Text(content, property), property.Type, out var fault) is { } read && fault is null ? read
            : throw new FaultException(new RequestFault(400, "value", $"'{property.Name}' {fault}.", property.Name));
        if (SentMembers.Broken(property, value, property.Name) is { } broken)
            throw new FaultException(broken);
        return SentEntity.Nothing(set) with { Values = [new SentValue(property, value, property.Name)] };
    }

    private static string Text(byte[] content, Property property) =>
        System.Text.Unicode.Utf8.IsValid(content)
            ? Encoding.UTF8.GetString(content)
            : throw new FaultException(
                new RequestFault(400, "body", $"The content of '{property.Name}' is not valid UTF-8.", property.Name)
            );

    /// <summary>One more item of a collection (Protocol 11.4.9.4).</summary>
    private async Task<SentEntity> AddedAsync(EntityRow row, Property property)
    {
        var added = Taken(Body.Item(property));
        var current = (await _finder.ColumnsAsync(row, [property]))[0] as string is { Length: > 2 } there
            ? there.TrimEnd()[..^1] + ","
            : "[";
        return SentEntity.Nothing(row.Set) with { Values = [new SentValue(property, current + added + "]", property.Name)] };
    }

    private async Task<ChangeResult> ReferenceAsync()
    {
        var navigation = _path.Hops[^1].Navigation;
        var target = _path.Target;
        var parent = await ParentAsync();
        var preconditions = _request.Preconditions;
        IReadOnlyList<SentReference> references =
            _request.Verb != ChangeVerb.Delete ? Taken(Body.References())
            : _request.Id is { } id ? [new SentReference(id, null)]
            : [];
        if (_request.Verb != ChangeVerb.Delete && !(navigation.IsCollection && _request.Verb == ChangeVerb.Put) && references.Count != 1)
            throw new FaultException(
                new RequestFault(400, "body", $"This needs a reference to one entity, and the body has {references.Count}.")
            );
        EntityRow? other;
        if (_request.Verb == ChangeVerb.Delete)
        {
            if (navigation.IsCollection && references.Count == 0 && _path.Hops[^1].Key is null)
            {
                if (!_request.MayRemoveAllReferences)
                    throw new FaultException(new RequestFault(400, "id", "Name the reference to remove with $id.", "$id"));
                await ReplaceAsync(parent, navigation, [], preconditions);
                return new ChangeResult(ChangeOutcome.Linked, null) { Set = parent.Set };
            }
            if (references.Count > 0)
                other = await _finder.ResolveAsync(references[0].Address, target, "$id");
            else
                other = _path.Hops[^1].Key is null ? null : await OneAsync();
            await _changes.UnlinkAsync(parent, navigation, other, preconditions, true, "", isAsked: true);
        }
        else
        {
            var rows = new List<(EntityRow Row, string? ETag)>();
            foreach (var (reference, tag) in references)
                rows.Add(((await _finder.ResolveAsync(reference, target, "@odata.id"))!, tag));
            if (navigation.IsCollection && _request.Verb == ChangeVerb.Put)
            {
                await ReplaceAsync(parent, navigation, rows, preconditions);
                return new ChangeResult(ChangeOutcome.Linked, null) { Set = parent.Set };
            }
            other = rows[0].Row;
            var state = preconditions.IsEmpty && rows[0].ETag is { } sent ? new Preconditions([sent], null) : preconditions;
            await _changes.LinkAsync(parent, navigation, other, state, true, "");
        }
        // The entity whose row has changed, so that its new tag can be told.
        var isGone = navigation.IsContained && _request.Verb == ChangeVerb.Delete;
        var changed =
            navigation.Link is not null || isGone ? null
            : navigation.IsHeldByTarget ? other
            : parent;
        var address = changed is { Set.HasVersion: true } ? await _finder.AddressAsync(changed) : null;
        return new ChangeResult(ChangeOutcome.Linked, address) { Set = (changed ?? parent).Set };
    }

    private async Task ReplaceAsync(
        EntityRow parent,
        NavigationProperty navigation,
        List<(EntityRow Row, string? ETag)> rows,
        Preconditions preconditions
    )
    {
        var relation = new SentRelation(navigation, _path.Target, RelationMode.Replace, [.. await ReferencesOfAsync(rows)], "");
        var sent = SentEntity.Nothing(parent.Set) with { Relations = [relation] };
        if (navigation.Link is not null || navigation.IsContained)
        {
            await _changes.UpdateAsync(parent, sent, SentFor.Merge, preconditions);
            return;
        }
        // The entity itself does not change; those that it is related to do, each in a state of its own.
        if (preconditions.IfMatch is { } tags && !tags.Contains("*"))
        {
            const string Advice = "A collection has no tag; give that of each entity as '@odata.etag' beside its '@odata.id'.";
            throw new FaultException(new RequestFault(412, "changed", Advice, "If-Match"));
        }
        await _changes.BackwardAsync(parent, sent, isNew: false);
    }

    private async Task<List<SentRelated>> ReferencesOfAsync(List<(EntityRow Row, string? ETag)> rows)
    {
        var references = new List<SentRelated>();
        foreach (var (row, tag) in rows)
            references.Add(new SentRelated(await _finder.AddressAsync(row), null, "value") { ETag = tag });
        return references;
    }
}
