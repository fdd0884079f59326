using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>The segments of a resource path -> what they address (URL conventions 4).</summary>
/// <param name="condition">Binds the condition of a <c>$filter(…)</c> segment.</param>
internal sealed class PathBinder(
    EntityModel model,
    ImmutableArray<SegmentSyntax> segments,
    Func<EntitySet, ExpressionSyntax, BoundExpression> condition
)
{
    private static readonly string[] LaterSegments = ["$each", "$query"];

    private readonly ImmutableArray<BoundSegment>.Builder _bound = ImmutableArray.CreateBuilder<BoundSegment>();

    /// <summary>The type that the path casts to since its last step; null = none.</summary>
    private DerivedType? _cast;

    /// <summary>The path says what is to be changed.</summary>
    public bool IsForChange { get; init; }

    /// <summary>How plain segments write the names of properties and relations.</summary>
    public Casing Casing { get; init; }

    public BoundPath Bind()
    {
        if (segments.Length == 0)
            return new BoundPath([]);
        var first = segments[0];
        if (first.Name == "$metadata")
            return segments.Length == 1 && first.Key is null
                ? new BoundPath([new MetadataSegment()])
                : throw NotFound("Nothing follows $metadata.");
        if (!first.Sets.IsEmpty)
            return CrossJoin(first);
        if (first.Name == "$all")
            throw new FaultException(
                RequestFault.NotImplemented("$all is put together from a request for each set, and has no statement of its own.", "path")
            );
        if (first.IsSystem)
            throw System(first.Name, "the service root");
        if (model.DeclaredOperations.Any(o => o.Name == first.Name))
            throw new FaultException(RequestFault.NotImplemented($"Calling '{first.Name}' is not supported yet.", "path"));
        if (first.IsPlain && model.FindSet(first.Name) is not { ContainedIn: null })
            throw NotFound($"There is no resource '{first.Written}'.");
        if (model.FindSet(first.Name) is not { } root)
            throw NotFound(
                $"There is no resource "
                    + $"'{first.Name}'.{NearestName.Hint(first.Name, model.Sets.Where(s => s.ContainedIn is null).Select(s => s.Name))}"
            );
        if (root.ContainedIn is { } container)
            throw NotFound(
                $"'{root.Name}' are parts of {container} and found there: "
                    + $"{container}(…)/"
                    + $"{model.FindSet(container)?.Type.Navigations.FirstOrDefault(n => n.IsContained && n.TargetSet == root.Name)?.Name}."
            );
        if (model.FindOperation(first.Name) is { } operation)
            return Call(operation, first);
        _bound.Add(new SetSegment(root));
        if (first.Key is { } key)
            _bound.Add(new KeySegment(KeyBinder.Bind(key, root, first.Name)));
        return Rest(root);
    }

    /// <summary>An operation by its name alone; a plain face has those of entities by templates that name the key.</summary>
    private BoundPath Call(Operation operation, SegmentSyntax segment)
    {
        if (operation.Rows!.Binding is not { } binding)
            return Call(operation, segment, null, 1);
        if (!segment.IsPlain)
            throw NotFound($"'{operation.Name}' is asked of an entity, as in {binding.Set}(…)/{binding.Name}.");
        var arguments = ArgumentBinder.Bind(operation, segment.Key ?? [], isPartial: true);
        var set = model.FindSet(binding.Set)!;
        var key = set.Type.Key.Zip(binding.Key, (own, name) =>
            (own, arguments[name] with { LiteralType = own.Type, Conversion = own.Conversion })
        );
        return Call(operation, segment, new BoundPath([new SetSegment(set), new KeySegment(new BoundKey([.. key]))]), 1);
    }

    /// <summary>An operation that is asked of the entity that the path is at.</summary>
    /// <param name="index">Of its segment.</param>
    private BoundPath CallOnEntity(Operation operation, EntitySet set, SegmentSyntax segment, int index)
    {
        if (_bound[^1] is not KeySegment)
            throw new FaultException(
                RequestFault.NotImplemented(
                    $"'{segment.Name}' is asked of an entity that is addressed by its key, as in {set.Name}(…).",
                    "path"
                )
            );
        var entity = new BoundPath(_bound.ToImmutable());
        _bound.Clear();
        return Call(operation, segment, entity, index + 1);
    }

    /// <summary>The arguments of a call, and those that the key of its entity stands for.</summary>
    private static ImmutableDictionary<string, BoundLiteral> Arguments(
        Operation operation,
        SegmentSyntax segment,
        BoundPath? entity,
        bool isPartial
    )
    {
        var written = segment.Key ?? [];
        if (entity is null || segment.IsPlain)
            return ArgumentBinder.Bind(operation, written, isPartial);
        var binding = operation.Rows!.Binding!;
        var parts = ((KeySegment)entity.Segments[^1]).Key.Parts;
        var given = ArgumentBinder.Bind(operation with { Parameters = [.. operation.Given] }, written, isPartial);
        foreach (var (name, (_, value)) in binding.Key.Zip(parts))
        {
            var parameter = operation.Parameters.First(p => p.Placeholder == name);
            given = given.Add(name, new BoundLiteral(value.Slot, value.Kind, parameter.Type, parameter.Conversion));
        }
        return given;
    }

    /// <summary>A function with its arguments; without any the parentheses behind its name may be left out.</summary>
    /// <param name="entity">The entity that it is asked of; null = of none.</param>
    /// <param name="next">Index of the segment behind it.</param>
    private BoundPath Call(Operation operation, SegmentSyntax segment, BoundPath? entity, int next)
    {
        if (operation.Kind == OperationKind.Action)
            return CallAction(operation, segment, entity, next);
        if (segment.Key is { Length: > 0 } && operation.Parameters.IsEmpty)
            throw NotFound($"The rows of '{operation.Name}' have no key; it is called without arguments, as in {operation.Name}().");
        var rows = operation.Rows!;
        var arguments = Arguments(operation, segment, entity, isPartial: false);
        if (rows.EntitiesOf is { } of)
        {
            var set = model.FindSet(of)!;
            var key = set.Type.Key.Zip(rows.OfKey, (own, column) => (new BoundProperty([], own), column));
            _bound.Add(new AmongSegment(set, new BoundAmong((QuerySource)rows.Source, [.. key]), arguments) { Entity = entity });
            return Rest(set, next);
        }
        _bound.Add(new OperationSegment(operation, arguments) { Entity = entity });
        // A plain face tells a single value as a row of one column.
        if (rows.Gives != QueryResult.Value || segment.IsPlain)
            return Rest(rows, next);
        AddProperty(rows.Type.Properties[0], next - 1);
        return new BoundPath(_bound.ToImmutable());
    }

    /// <summary>An action: its arguments stand in the body, and on a plain face some in the path.</summary>
    private BoundPath CallAction(Operation operation, SegmentSyntax segment, BoundPath? entity, int next)
    {
        if (!IsForChange)
            throw new FaultException(
                RequestFault.NotAllowed($"'{operation.Name}' may change something; call it with POST.", "POST, OPTIONS")
            );
        if (segment.Key is not null && !segment.IsPlain)
            throw NotFound($"The arguments of the action '{operation.Name}' stand in the body of the request, not in its address.");
        if (segments.Length > next)
            throw NotFound($"Nothing follows the action '{operation.Name}'.");
        _bound.Add(new OperationSegment(operation, Arguments(operation, segment, entity, isPartial: true)) { Entity = entity });
        // A plain face tells a single value as a row of one column.
        if (operation.Rows!.Gives == QueryResult.Value && !segment.IsPlain)
            AddProperty(operation.Rows.Type.Properties[0], segments.Length - 1);
        return new BoundPath(_bound.ToImmutable());
    }

    /// <summary>
    /// All combinations of the entities of some sets (URL conventions 4.15): a set without properties whose relations, each to one entity,
    /// lead to all of the sets.
    /// </summary>
    private BoundPath CrossJoin(SegmentSyntax segment)
    {
        var joinable = model.Sets.Where(s => s.ContainedIn is null && !s.IsFunction).ToList();
        var sets = segment
            .Sets.Select(n =>
                joinable.Find(s => s.Name == n.Text)
                ?? throw NotFound($"There is no entity set '{n.Text}' to join.{NearestName.Hint(n.Text, joinable.Select(s => s.Name))}")
            )
            .ToList();
        if (sets.Distinct().Count() < sets.Count || sets.Count < 2)
            throw new FaultException(new RequestFault(400, "path-syntax", "$crossjoin takes two sets or more, each once.", "path"));
        if (sets.Count > Limits.JoinedSets)
            throw new FaultException(new RequestFault(400, "too-large", $"$crossjoin takes at most {Limits.JoinedSets} sets.", "path"));
        if (sets.Select(s => s.Source.Source).Distinct().Count() > 1)
            throw new FaultException(RequestFault.NotImplemented("$crossjoin over sets of several databases is not supported.", "path"));
        var type = new EntityType("CrossJoin", [], [], [], [.. sets.Select(s => new NavigationProperty(s.Name, s.Name, false, false, []))]);
        var joined = new EntitySet($"$crossjoin({string.Join(',', sets.Select(s => s.Name))})", type, new SingleRow(sets[0].Source.Source))
        {
            PageSize = sets.Min(s => s.PageSize),
            LargestPage = sets.Min(s => s.LargestPage),
            LargestCost = sets.Min(s => s.LargestCost),
            IsTransient = true,
        };
        var start = new SetSegment(joined, IsCrossJoin: true);
        if (segments.Length == 1)
            return new BoundPath([start]);
        return EndSegment(segments[1], false, segments.Length - 2) is CountSegment count
            ? new BoundPath([start, count])
            : throw NotFound("Nothing but $count follows $crossjoin.");
    }

    /// <param name="next">Index of the first segment that is not bound yet.</param>
    private BoundPath Rest(EntitySet root, int next = 1)
    {
        var set = root;
        var single = _bound[^1] is KeySegment || root.Gives != QueryResult.Rows;
        for (var i = next; i < segments.Length; i++)
        {
            var segment = segments[i];
            if (single && segment is { IsText: false, IsPlain: false } && model.FindBound(set.Name, segment.Name) is { } asked)
                return CallOnEntity(asked, set, segment, i);
            if (segment is { Filter: { } filter } && !single)
            {
                _bound.Add(new FilterSegment(condition(set, filter)));
                continue;
            }
            if (segment.IsSystem)
            {
                var isEach = IsForChange && segment is { Name: "$each", Key: null } && !single && i == segments.Length - 1;
                return End(isEach ? new EachSegment() : EndSegment(segment, single, segments.Length - i - 1));
            }
            if (Cast(set, segment) is { } derived)
            {
                (_cast, set) = (derived, set.Of(derived));
                _bound.Add(new CastSegment(derived, set, DerivedTypes.Test(derived, [])));
                if (segment.Key is { } ownKey)
                {
                    if (single)
                        throw NotFound($"'{segment.Name}' follows one entity here and takes no key.");
                    _bound.Add(new KeySegment(KeyBinder.Bind(ownKey, set, segment.Name)));
                    single = true;
                }
                continue;
            }
            if (!single)
            {
                if (segment is { IsPlain: true, Key: { } named })
                {
                    _bound.Add(new KeySegment(NamedKey(named, set, segment)));
                    single = true;
                    continue;
                }
                var properties = segment.IsPlain ? OwnKey(set) : set.Type.Key;
                if (KeySegments(set, properties, i) is not { } parts)
                    throw NotFound(
                        segment.IsPlain ? $"'{segment.Name}' cannot follow rows that have no key."
                        : segment.Name.Contains('.') ? $"There is no type or operation '{segment.Name}'."
                        : $"'{segment.Name}' cannot follow a collection; say which entity, as in "
                            + $"{segments[i - 1].Name}({KeyBinder.Example(set)})."
                    );
                _bound.Add(new KeySegment(KeyBinder.OfSegments(parts, properties)));
                i += parts.Length - 1;
                single = true;
                continue;
            }
            if (Navigation(set, segment) is { } navigation)
            {
                (set, single) = Step(navigation, segment);
                _cast = null;
                continue;
            }
            if (StructuralProperty(set, segment) is not { } property)
                throw NotFound(
                    $"'{set.Type.Name}' has no property "
                        + $"'{segment.Name}'.{NearestName.Hint(segment.Name, set.Type.MemberNames.Select(n => Written(n, segment)))}"
                );
            AddProperty(property, i);
            break;
        }
        return new BoundPath(_bound.ToImmutable());
    }

    private BoundPath End(BoundSegment last)
    {
        _bound.Add(last);
        return new BoundPath(_bound.ToImmutable());
    }

    /// <summary>The derived type that a segment names; null = it names none, or a type is named already.</summary>
    private DerivedType? Cast(EntitySet set, SegmentSyntax segment) =>
        segment.Name.Contains('.') && segment is { IsText: false, IsPlain: false } && _cast is null
            ? DerivedTypes.Find(set.Type, segment.Name, model.Namespace)
            : null;

    private (EntitySet Set, bool IsSingle) Step(NavigationProperty navigation, SegmentSyntax segment)
    {
        var target = model.Target(navigation);
        if (segment.Key is not null && !navigation.IsCollection)
            throw NotFound($"'{segment.Name}' is one entity and takes no key.");
        var key = segment.Key is { } parts
            ? KeyBinder.Bind(
                navigation.IsContained ? Completed(parts, navigation, target) : parts,
                target,
                segment.Name,
                navigation.IsContained ? navigation : null
            )
            : null;
        if (navigation.IsRemote && _bound.OfType<NavigationSegment>().Any(n => n.Navigation.IsRemote))
            throw new FaultException(
                RequestFault.NotImplemented($"'{segment.Name}' leads to a second other database, which is not supported.", "path")
            );
        _bound.Add(new NavigationSegment(navigation, target));
        if (key is not null)
            _bound.Add(new KeySegment(key));
        return (target, key is not null || !navigation.IsCollection);
    }

    /// <summary>The segments from here on that stand for a key, by their slots; null when they cannot (URL conventions 4.3.6).</summary>
    private int[]? KeySegments(EntitySet set, ImmutableArray<Property> key, int index)
    {
        var parts = key.Length;
        if (
            set.IsFunction
            || (IsFiltered && _cast is null)
            || segments[index].Name.Contains('.') && segments[index] is { IsText: false, IsPlain: false }
        )
            return null;
        if (index + parts > segments.Length)
            throw NotFound(
                $"The key of {set.Name} has {parts} parts, and the path ends before the last: "
                    + $"{string.Join('/', key.Select(k => k.Name))}."
            );
        var slots = segments.Skip(index).Take(parts).Select(s => s.Slot).ToArray();
        return slots.All(s => s >= 0) ? slots : null;
    }

    /// <summary>A key in plain segments may leave out what the entity before the step says already.</summary>
    private ImmutableArray<Property> OwnKey(EntitySet set) =>
        _bound[^1] is NavigationSegment { Navigation: { Link: null } step }
        && set.Type.Key.Where(k => step.Joins.All(j => j.Target.Column != k.Column)).ToImmutableArray() is { IsEmpty: false } own
            ? own
            : set.Type.Key;

    private BoundKey NamedKey(ImmutableArray<KeyPartSyntax> parts, EntitySet set, SegmentSyntax segment) =>
        KeyBinder.Bind(parts, set, segment.Name, _bound[^1] is NavigationSegment { Navigation: { Link: null } step } ? step : null);

    private NavigationProperty? Navigation(EntitySet set, SegmentSyntax segment) =>
        segment.IsText ? null
        : !segment.IsPlain || Casing == Casing.AsIs ? set.Type.FindNavigation(segment.Name)
        : set.Type.Navigations.FirstOrDefault(n => Casing.Apply(n.Name) == segment.Name);

    private Property? StructuralProperty(EntitySet set, SegmentSyntax segment) =>
        segment.IsText || segment.Key is not null ? null
        : !segment.IsPlain || Casing == Casing.AsIs ? set.Type.FindProperty(segment.Name)
        : set.Type.Properties.FirstOrDefault(p => Casing.Apply(p.Name) == segment.Name);

    /// <summary>A name as segments of this kind write it.</summary>
    private string Written(string name, SegmentSyntax segment) => segment.IsPlain ? Casing.Apply(name) : name;

    /// <summary>Whether a condition stands behind the last set or step.</summary>
    private bool IsFiltered =>
        _bound
            .AsEnumerable()
            .Reverse()
            .TakeWhile(s => s is not (SetSegment or NavigationSegment))
            .Any(s => s is FilterSegment or CastSegment);

    /// <summary>
    /// What follows a property: a member of a complex one, $value, or nothing. A stream is its content (Protocol 11.2.4.1).
    /// </summary>
    private void AddProperty(Property property, int index)
    {
        _bound.Add(new PropertySegment(property));
        var isStream = property.Type.Kind == EdmKind.Stream;
        if (index == segments.Length - 1)
            return;
        var next = segments[index + 1];
        if (property.Type is { Complex: { } complex, IsCollection: false } && !next.IsSystem)
        {
            var member = property.Members.FirstOrDefault(m => m.Name == next.Name);
            if (complex.FindProperty(next.Name) is null || next.Key is not null)
                throw NotFound(
                    $"'{complex.Name}' has no property '{next.Name}'.{NearestName.Hint(next.Name, complex.Properties.Select(p => p.Name))}"
                );
            AddProperty(
                member
                    ?? throw new FaultException(
                        RequestFault.NotImplemented($"'{property.Name}' is stored as JSON, so its members cannot be addressed.", "path")
                    ),
                index + 1
            );
            return;
        }
        var isLast = index + 2 == segments.Length;
        if (property.Type.IsCollection && next.Name == "$count" && isLast)
        {
            _bound.Add(new CountSegment());
            return;
        }
        if (next.Name == "$value" && isLast && !isStream && !property.Type.IsCollection && property.Type.Kind != EdmKind.Complex)
        {
            _bound.Add(new ValueSegment());
            return;
        }
        throw NotFound(
            isStream ? $"Nothing can follow '{property.Name}', which is a stream."
            : property.Type.IsCollection || property.Type.Kind == EdmKind.Complex ? $"'{next.Name}' cannot follow '{property.Name}'."
            : $"Nothing but $value can follow '{property.Name}', which is a single value."
        );
    }

    /// <summary>The key of a contained entity may leave out what its container says already (URL conventions 4.3.2).</summary>
    private static ImmutableArray<KeyPartSyntax> Completed(
        ImmutableArray<KeyPartSyntax> parts,
        NavigationProperty navigation,
        EntitySet target
    )
    {
        var own = target.Type.Key.Where(k => navigation.Joins.All(j => j.Target.Column != k.Column)).ToList();
        return parts is [{ Name: null } only] && own.Count == 1 && target.Type.Key.Length > 1
            ? [only with { Name = new NameSyntax(own[0].Name, 0) }]
            : parts;
    }

    private static BoundSegment EndSegment(SegmentSyntax segment, bool single, int rest)
    {
        switch (segment.Name)
        {
            case "$count" when single:
                throw NotFound("$count follows a collection, not one entity.");
            case "$count":
                return rest == 0 && segment.Key is null ? new CountSegment() : throw NotFound("Nothing follows $count.");
            case "$ref":
                return rest == 0 && segment.Key is null ? new ReferenceSegment() : throw NotFound("Nothing follows $ref.");
            case "$value":
                throw NotFound(
                    single
                        ? "The entity has no media stream; $value follows a property."
                        : "$value follows a single value, not a collection."
                );
            case "$filter" when single:
                throw NotFound("$filter(…) follows a collection, not one entity.");
            case "$each" when !single:
                throw new FaultException(
                    new RequestFault(
                        405,
                        "method",
                        "$each stands for every member of a collection, to change it; it cannot be read. Leave it away to read "
                            + "the collection.",
                        "path"
                    )
                );
            default:
                throw System(segment.Name, "this path");
        }
    }

    private static FaultException System(string name, string place) =>
        LaterSegments.Contains(name)
            ? new FaultException(RequestFault.NotImplemented($"'{name}' is not supported.", "path"))
            : NotFound($"There is no '{name}' at {place}.");

    private static FaultException NotFound(string message) => new(RequestFault.NotFound(message, "path"));
}
