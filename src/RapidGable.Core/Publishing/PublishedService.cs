using System.Collections.Concurrent;
using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.Statements;
using RapidGable.Sources;

namespace RapidGable.Publishing;

/// <summary>
/// One service as it is published: an immutable model, its sources, and the plans made so far. The whole way of a
/// request up to its statements is <see cref="Prepare"/>.
/// </summary>
/// <param name="memory">What plans are kept in; null = as much as they need.</param>
public sealed class PublishedService(
    EntityModel model,
    IReadOnlyDictionary<string, ISource> sources,
    string revision,
    ByteBudget? memory = null
)
{
    private readonly ConcurrentDictionary<string, View> _views = new();
    private readonly ImmutableDictionary<string, ImmutableArray<BoundRule>> _rules = AccessGate.Bind(model);
    private readonly ImmutableDictionary<string, ImmutableArray<BoundRule>> _checks = AccessGate.BindChecks(model);
    private readonly ConcurrentDictionary<(string, string), BoundRule> _conditions = new();
    private readonly ConcurrentDictionary<(string, string), BoundRule> _values = new();
    private readonly FaceShape _shape = new();
    private readonly ConcurrentDictionary<string, PublishedService> _faces = new();
    private readonly EntityModel? _named;
    private View? _anonymous;

    private PublishedService(
        PublishedService whole,
        EntityModel model,
        IReadOnlyDictionary<string, ISource> sources,
        FaceShape shape,
        ByteBudget? memory
    )
        : this(model, sources, whole.Revision, memory)
    {
        (Paused, Off) = (whole.Paused, whole.Off);
        _shape = shape;
        _named = FaceModel.Named(model, shape);
    }

    /// <summary>
    /// The service as one of its faces shows it: with the sets that stand on the face, in the face's names. The same object where the face
    /// shows all of it as it is.
    /// </summary>
    /// <param name="face">The short name of the face.</param>
    public PublishedService On(string face) =>
        model.Faces.Of(face) is { IsWhole: false } shape
            ? _faces.GetOrAdd(face, _ => new PublishedService(this, model, sources, shape, memory))
            : this;

    /// <summary>What requests hear that need a set which is switched off, by the set's name.</summary>
    public ImmutableDictionary<string, RequestFault> Paused { get; init; } = ImmutableDictionary<string, RequestFault>.Empty;

    /// <summary>Whether the service, a set or a property of it will not stay.</summary>
    public bool HasDeprecations { get; } =
        model.Deprecation is not null
        || model.Sets.Any(s => s.Deprecation is not null || s.Type.Properties.Any(p => p.Deprecation is not null));

    /// <summary>What of the service is switched off.</summary>
    public ImmutableArray<SwitchedOff> Off { get; init; } = [];

    /// <summary>Why no request to a face is answered; null = they are.</summary>
    /// <param name="face">The short name of the face.</param>
    public SwitchedOff? OffOn(string face) =>
        Off.FirstOrDefault(o => o is { Set: null, Group: null } && (o.Face is null || o.Face == face));

    private RequestFault? PausedBy(IEnumerable<EntitySet> sets) =>
        Paused.IsEmpty ? null : sets.Select(s => Paused.GetValueOrDefault(s.Name)).FirstOrDefault(f => f is not null);

    /// <summary>The rules of a set, with their conditions.</summary>
    public ImmutableArray<BoundRule> RulesOf(EntitySet set) => _rules[set.Name];

    /// <summary>All that is published, in the names of the face.</summary>
    public EntityModel Model => _named ?? model;

    /// <summary>The set as it is published, whatever a caller may see of it.</summary>
    public EntitySet Whole(EntitySet set) => Model.FindSet(set.Name)!;

    /// <summary>The source that holds a set's rows.</summary>
    public ISource SourceOf(EntitySet set) => sources[set.Source.Source];

    /// <summary>A short text that changes with what is published.</summary>
    public string Revision => revision;

    /// <summary>The part of the model that a caller may know of; the same object for callers who see the same.</summary>
    public EntityModel ModelFor(Caller caller) => ViewFor(caller).Model;

    /// <summary>The part of the model that a caller may address, with the sets that they may write and not read.</summary>
    public EntityModel ChangeableBy(Caller caller) => ViewFor(caller).Changeable;

    /// <summary>Read -> (parse -> bind -> permit -> plan -> SQL, once for each shape).</summary>
    public Result<PreparedRequest> Prepare(ISpelledRequest spelled, Caller caller)
    {
        var view = ViewFor(caller);
        if (view.Plans.Find(spelled.Shape) is { } known)
            return known;
        if (
            !spelled.Parse().Is(out var syntax, out var fault)
            || !RequestBinder.Bind(syntax, view.Model).Is(out var bound, out fault)
            || !AccessGate.Permit(bound, view.Model, view.Model).Is(out var permitted, out fault)
        )
            return fault;
        if (PausedBy(bound.TouchedSets(view.Model)) is { } paused)
            return paused;
        CompiledQuery? query = null;
        var source = bound.Path.Root is null ? null : SourceOf(bound.Path.Target);
        if (bound.Path.Root is { Call: not null } called)
        {
            if (Composed(bound) is { } composed)
                return composed;
            query = ActionSql.Write(called, Planner.Plan(permitted, view.Model), source!.Dialect);
        }
        else if (
            source is not null
            && !SqlWriter.Compile(Planner.Plan(permitted, view.Model), name => sources[name].Dialect).Is(out query, out fault)
        )
            return fault;
        if (!Asked(bound, view.Model).Is(out var asked, out fault))
            return fault;
        var prepared = new PreparedRequest(bound, query, source, view.Model, sources) { Entity = asked.Entity };
        view.Plans.Add(spelled.Shape, prepared, query?.Characters ?? 0);
        return prepared;
    }

    /// <summary>
    /// Read -> (parse -> bind, once for each shape) for a request that changes something; what of it is permitted depends on what it
    /// does, see <see cref="Writing"/>.
    /// </summary>
    public Result<PreparedChange> PrepareChange(ISpelledRequest spelled, Caller caller)
    {
        var view = ViewFor(caller);
        if (view.Changes.Find(spelled.Shape) is { } known)
            return known;
        if (
            !spelled.Parse().Is(out var syntax, out var fault)
            || !RequestBinder.Bind(syntax, view.Changeable, forChange: true).Is(out var bound, out fault)
        )
            return fault;
        if (AsksUnseen(bound.Path, view.Model))
            return RequestFault.NotFound("There is no such resource for you to change.", "path");
        if (PausedBy(bound.TouchedSets(view.Changeable)) is { } paused)
            return paused;
        var prepared = new PreparedChange(bound, view.Changeable, view.Model);
        view.Changes.Add(spelled.Shape, prepared, 0);
        return prepared;
    }

    /// <summary>Whether a caller may send statements over the sets that they see.</summary>
    public bool MaySendSql(Caller caller) =>
        model.Sql is { } sql
        && caller.Within(model.Service) is var own
        && own.Scope.HasFlag(SetOperations.Read)
        && AccessGate.Allows(sql.Who, own);

    /// <summary>Whether a caller may open the page for consumers: they see something of the service, and it is open to them.</summary>
    public bool MayOpenHandover(Caller caller) =>
        model.Handover is { } who
        && AccessGate.Allows(who, caller.Within(model.Service))
        && (On("odata").IsOpenTo(caller) || On("rest").IsOpenTo(caller));

    /// <summary>A statement over sets, in the names of the face -> what runs. It is not kept: its values are part of it.</summary>
    /// <param name="arguments">As in <see cref="StatementBinder"/>.</param>
    /// <param name="steps">Of the request; null = a budget of its own.</param>
    public Result<PreparedStatement> PrepareSql(
        string text,
        IReadOnlyDictionary<string, object?> arguments,
        Caller caller,
        StepBudget? steps = null
    )
    {
        steps ??= new StepBudget();
        var seen = ViewFor(caller).Model;
        if (!StatementBinder.Bind(text, seen, arguments, steps).Is(out var statement, out var fault))
            return fault;
        if (PausedBy(statement.AllTables.Select(t => t.Set)) is { } paused)
            return paused;
        var most = statement.AllTables.Select(t => (long?)t.Set.LargestCost).Append(model.Sql!.Rows).Min()!.Value;
        if (statement.Limit > most)
            return new RequestFault(400, "too-costly", $"LIMIT is {statement.Limit}, and {most} rows are the most for you.", "statement");
        var result = StatementSql.ResultOf(statement);
        var source = SourceOf(statement.From.Set);
        if (!StatementSql.Write(statement, text, source.Dialect, most, result, steps).Is(out var query, out fault))
            return fault;
        var select = new BoundSelect(result.Type.Properties, false, []);
        var request = new BoundRequest(new BoundPath([new SetSegment(result)]), select);
        var prepared = new PreparedRequest(request, query, source, seen, sources) { IsStatement = true };
        return new PreparedStatement(prepared, most, statement);
    }

    /// <summary>The call of an action that names an entity: only its key is read of the result.</summary>
    private static BoundPath Keys(BoundPath path, EntitySet action)
    {
        var type = new EntityType(action.Type.Name, action.Type.Key, [], action.Type.Key, [], null);
        var call = (OperationSegment)path.Segments[0];
        return new BoundPath([call with { Operation = call.Operation with { Rows = action with { Type = type } } }]);
    }

    /// <param name="Entity">Null = the request is asked of no entity.</param>
    private sealed record AskedOf(PreparedRequest? Entity);

    /// <summary>How the entity is found that an operation is asked of, as its caller may see it.</summary>
    private Result<AskedOf> Asked(BoundRequest request, EntityModel seen)
    {
        if (request.Path.BoundEntity is not { } path)
            return new AskedOf(null);
        var entity = new BoundRequest(path, BoundSelect.Nothing) { Filter = ExpressionBinder.And([.. path.Filters]) };
        return
            !AccessGate.Permit(entity, seen, seen).Is(out var permitted, out var fault)
            || !SqlWriter.Compile(Planner.Plan(permitted, seen), name => sources[name].Dialect).Is(out var query, out fault)
            ? fault
            : new AskedOf(new PreparedRequest(entity, query, SourceOf(path.Target), seen, sources));
    }

    /// <summary>What is asked of a result that no statement can read from; null = nothing.</summary>
    private static RequestFault? Composed(BoundRequest request)
    {
        var isPlain =
            request is { Filter: null, Apply: null, Top: null, Skip: null, Count: false, PositionNulls: null, IsDelta: false }
            && request.OrderBy.IsEmpty
            && request.Expand.IsEmpty
            && request.Path is { Filters.IsEmpty: true, Kind: ResourceKind.Collection or ResourceKind.Entity or ResourceKind.PropertyValue }
            && request.Select?.Computed.IsEmpty != false;
        return isPlain
            ? null
            : RequestFault.NotImplemented(
                $"What '{request.Path.Root!.Name}' gives comes as it is: the database cannot filter, sort, count or page it.",
                "path"
            );
    }

    /// <summary>The statements of a call of an action, and how its result is read.</summary>
    /// <param name="change">Whose path is that of the call.</param>
    public Result<PreparedRequest> PrepareCall(PreparedChange change)
    {
        const string Place = "call";
        if (change.Located.TryGetValue(Place, out var known))
            return known;
        var action = change.Request.Path.Root!;
        var request = change.Request with { Select = new BoundSelect(action.Type.Properties, false, []) };
        if (action.EntitiesOf is not null)
            request = request with { Path = Keys(request.Path, action), Select = new BoundSelect(action.Type.Key, false, []) };
        if (!AccessGate.Permit(request, change.Model, change.Visible).Is(out var permitted, out var fault))
            return fault;
        var source = SourceOf(action);
        var query = ActionSql.Write(action, Planner.Plan(permitted, change.Model), source.Dialect);
        if (!Asked(change.Request, change.Visible).Is(out var asked, out fault))
            return fault;
        return change.Located[Place] = new PreparedRequest(request, query, source, change.Model, sources) { Entity = asked.Entity };
    }

    /// <summary>
    /// Whether a path asks something of entities that the caller may write and not read: conditions, and what they lead to, would tell
    /// of them.
    /// </summary>
    private static bool AsksUnseen(BoundPath path, EntityModel seen)
    {
        if (path.Root is null)
            return false;
        var isSeen = path.Hops.Select(h => h.Target).Prepend(path.Root).Select(s => seen.FindSet(s.Name) is not null).ToList();
        return (path.IsEach || !path.Filters.IsEmpty) && !isSeen[^1]
            || path.Hops.Where((h, i) => !isSeen[i] && (!h.Before.IsEmpty || !path.IsReference || i < path.Hops.Length - 1)).Any();
    }

    /// <summary>The entities that a change is about: what their keys are, and nothing else of them.</summary>
    /// <param name="path">That of the request, or a part of it.</param>
    internal Result<PreparedRequest> Locate(PreparedChange change, BoundPath path)
    {
        var place = $"{path.Hops.Length} {path.Kind}";
        if (change.Located.TryGetValue(place, out var known))
            return known;
        var request = new BoundRequest(path.Entities, BoundSelect.Nothing) { Filter = ExpressionBinder.And([.. path.Filters]) };
        if (
            !AccessGate.Permit(request, change.Model, change.Model).Is(out var permitted, out var fault)
            || !SqlWriter.Compile(Planner.Plan(permitted, change.Model), name => sources[name].Dialect).Is(out var query, out fault)
        )
            return fault;
        return change.Located[place] = new PreparedRequest(request, query, SourceOf(path.Target), change.Model, sources);
    }

    /// <summary>A condition of a rule about written rows.</summary>
    internal BoundRule ConditionOf(EntitySet whole, string condition) =>
        _conditions.GetOrAdd((whole.Name, condition), k => BoundRule.BindCondition(model.Stored, Declared(whole), k.Item2).Value!);

    /// <summary>An expression that a value is made of.</summary>
    internal BoundRule ValueOf(EntitySet whole, string expression) =>
        _values.GetOrAdd((whole.Name, expression), k => BoundRule.BindValue(model.Stored, Declared(whole), k.Item2).Value!);

    /// <summary>The set with the names in which conditions and expressions are declared.</summary>
    private EntitySet Declared(EntitySet whole) => model.Stored.FindSet(whole.Name) ?? whole;

    /// <summary>Whether a caller knows all that a condition is about.</summary>
    internal bool Knows(Caller caller, string set, string condition) =>
        ViewFor(caller).Declared is var seen && seen.FindSet(set) is { } own && BoundRule.BindCondition(seen, own, condition).Fault is null;

    /// <summary>What a caller may write of a set by one operation; null = nothing.</summary>
    /// <param name="set">As the caller sees it, or whole.</param>
    public WriteAccess? Writing(EntitySet set, SetOperations operation, Caller caller)
    {
        if (model.Stored.FindSet(set.Name) is not { } whole)
            return null;
        var access = AccessGate.Writing(model.Stored, whole, operation, caller.Within(model.Service), _rules[set.Name], _checks[set.Name]);
        return _shape.Names == Casing.AsIs ? access : access?.Named(FaceModel.Named(access.Set, _shape));
    }

    /// <summary>Whether a caller may do anything with anything of the service.</summary>
    public bool IsOpenTo(Caller caller) => !ViewFor(caller).Changeable.Sets.IsEmpty;

    /// <summary>Whether a caller may do anything with a set.</summary>
    public bool IsAddressableBy(Caller caller, string set) => ViewFor(caller).Changeable.FindSet(set) is not null;

    /// <summary>Whether the service has sets that a caller does not see, and that a rule opens to somebody.</summary>
    public bool HasMoreForOthers(Caller caller)
    {
        var seen = ViewFor(caller).Changeable.Sets;
        return FaceModel.Shown(model, _shape).Sets.Any(s => !s.Rules.IsEmpty && !seen.Any(v => v.Name == s.Name));
    }

    /// <summary>Whether a request is refused only since rules keep from the caller what it names.</summary>
    public bool IsKeptByRules(ISpelledRequest spelled, Caller caller) =>
        spelled.Parse().Is(out var syntax, out _)
        && !RequestBinder.Bind(syntax, ModelFor(caller)).Is(out _, out _)
        && RequestBinder.Bind(syntax, FaceModel.Shown(model, _shape)).Is(out _, out _);

    /// <summary>What the rules of all sets that a request touches do for a caller; empty when it is wrong for every caller.</summary>
    /// <param name="operation">What is done with the sets; an action is called by whatever creates.</param>
    public IReadOnlyList<RuleEffect> ExplainAccess(ISpelledRequest spelled, Caller caller, SetOperations operation = SetOperations.Read)
    {
        if (
            !spelled.Parse().Is(out var syntax, out _)
            || !(
                RequestBinder.Bind(syntax, ModelFor(caller)).Is(out var bound, out _)
                || RequestBinder.Bind(syntax, FaceModel.Shown(model, _shape)).Is(out bound, out _)
            )
        )
            return [];
        var touched = bound.TouchedSets(model).Where(s => !s.IsTransient).Select(s => s.Name).Distinct();
        return
        [
            .. touched
                .Select(n => model.FindSet(n))
                .OfType<EntitySet>()
                .SelectMany(s =>
                    RuleEffect.Of(s, s.IsAction ? SetOperations.Call : operation, caller.Within(model.Service), _rules[s.Name])
                ),
        ];
    }

    /// <summary>Binds a syntax tree for a caller, without planning; it keeps nothing and is for looking at times.</summary>
    public RequestFault? Bind(RequestSyntax syntax, Caller caller)
    {
        var seen = ModelFor(caller);
        return RequestBinder.Bind(syntax, seen).Is(out var bound, out var fault) ? AccessGate.Permit(bound, seen, seen).Fault : fault;
    }

    /// <summary>Plans in the cache, over all views.</summary>
    public int CachedPlans => _views.Values.Sum(v => v.Plans.Count) + _faces.Values.Sum(f => f.CachedPlans);

    /// <summary>Drops all views and plans; those that come next are made anew.</summary>
    public void Forget()
    {
        foreach (var face in _faces.Values)
            face.Forget();
        foreach (var signature in _views.Keys)
        {
            if (!_views.TryRemove(signature, out var view))
                continue;
            view.Plans.Close();
            view.Changes.Close();
        }
    }

    private View ViewFor(Caller caller)
    {
        // Nearly every request of an open service comes from the same caller: the anonymous one.
        return ReferenceEquals(caller, Caller.Anonymous) ? _anonymous ??= FindView(caller) : FindView(caller);
    }

    private View FindView(Caller caller)
    {
        caller = caller.Within(model.Service);
        var signature = AccessGate.Signature(model, caller, _rules);
        if (_views.Count >= Limits.CachedViews && !_views.ContainsKey(signature))
            Forget();
        return _views.GetOrAdd(signature, _ =>
        {
            var visible = AccessGate.VisibleTo(model, caller, _rules);
            return new View(
                FaceModel.Shown(visible, _shape),
                FaceModel.Shown(AccessGate.ChangeableBy(model.Stored, visible, caller, _rules), _shape),
                visible,
                new PlanCache<PreparedRequest>(Limits.CachedPlans, memory),
                new PlanCache<PreparedChange>(Limits.CachedPlans, memory)
            );
        });
    }

    /// <param name="Declared">What the caller may know of, on all faces and in the names of the declaration.</param>
    private sealed record View(
        EntityModel Model,
        EntityModel Changeable,
        EntityModel Declared,
        PlanCache<PreparedRequest> Plans,
        PlanCache<PreparedChange> Changes
    );
}
