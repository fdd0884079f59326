using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Access;

/// <summary>A bound request that the caller may make. Only <see cref="AccessGate"/> gives it out.</summary>
public sealed record PermittedRequest
{
    internal PermittedRequest(BoundRequest request) => Request = request;

    public BoundRequest Request { get; }
}

/// <summary>What a caller may write of a set by one operation. Only <see cref="AccessGate"/> gives it out.</summary>
public sealed record WriteAccess
{
    internal WriteAccess(EntitySet set, SetOperations operation, RowSource before, RowSource after, ImmutableHashSet<string> closed) =>
        (Set, Operation, Before, After, Closed) = (set, operation, before, after, closed);

    /// <summary>The whole set, whatever the caller may read of it.</summary>
    public EntitySet Set { get; }

    /// <summary>The same right in the names of a face.</summary>
    /// <param name="set">The set with other names of properties, and nothing else of it changed.</param>
    internal WriteAccess Named(EntitySet set) => new(set, Operation, Before, After, Closed);

    /// <summary>The table that is written.</summary>
    public TableSource Table => (TableSource)Set.Source;

    public SetOperations Operation { get; }

    /// <summary>The rows that may be changed.</summary>
    public RowSource Before { get; }

    /// <summary>What a row must be among once it is written.</summary>
    public RowSource After { get; }

    /// <summary>Columns that may not be written.</summary>
    public ImmutableHashSet<string> Closed { get; }
}

/// <summary>
/// The one place where rules become decisions. Rules that let a caller do something add up: the rows are those of all of them, and a
/// value is
/// seen in a row when a rule that lets the row be seen shows it. A rule that takes away wins over all of them. A condition about an
/// attribute
/// that the caller does not have lets nothing through.
/// </summary>
public static class AccessGate
{
    private static readonly SetOperations[] Operations =
    [
        SetOperations.Read,
        SetOperations.Create,
        SetOperations.Update,
        SetOperations.Delete,
        SetOperations.Call,
    ];

    /// <summary>Whether the caller is one of those whom a rule is about. What the rule asks of rows is not looked at.</summary>
    public static bool Allows(AccessRule rule, Caller caller) =>
        rule.Scope switch
        {
            AccessScope.Anyone => true,
            AccessScope.SignedIn => caller.IsSignedIn,
            AccessScope.Roles => caller.IsSignedIn && rule.Roles.Any(caller.Roles.Contains),
            _ => false,
        };

    /// <summary>Whether the caller may do something with at least some of the rows.</summary>
    public static bool May(EntitySet set, SetOperations operation, Caller caller, IReadOnlyList<BoundRule> rules) =>
        set.Operations.HasFlag(operation) && Applying(operation, caller, rules) is { Allowing.IsEmpty: false, DeniesAll: false };

    /// <summary>The rules about an operation that apply to a caller.</summary>
    /// <param name="holdsAll">The caller is taken to have every attribute that a rule asks for.</param>
    public static (ImmutableArray<BoundRule> Allowing, ImmutableArray<BoundRule> Denying, bool DeniesAll) Applying(
        SetOperations operation,
        Caller caller,
        IReadOnlyList<BoundRule> rules,
        bool holdsAll = false
    )
    {
        if (!caller.Scope.HasFlag(operation))
            return ([], [], false);
        var mine = rules
            .Where(r => r.Grant.May.HasFlag(operation) && Allows(r.Grant.Who, caller))
            .Select(r => (Rule: r, For: holdsAll ? [r] : r.For(caller)))
            .ToList();
        return (
            [.. mine.Where(r => !r.Rule.Grant.Denies).SelectMany(r => r.For ?? [])],
            [.. mine.Where(r => r.Rule.Grant.Denies).SelectMany(r => r.For ?? [])],
            mine.Exists(r => r.Rule.Grant.Denies && (r.Rule.Condition is null || r.For is null))
        );
    }

    /// <summary>Binds the rules of all sets; one whose condition is wrong, which loading has reported, lets nobody do anything.</summary>
    public static ImmutableDictionary<string, ImmutableArray<BoundRule>> Bind(EntityModel model) =>
        model.Stored.Sets.ToImmutableDictionary(
            s => s.Name,
            s =>
                s.Rules.Select(g => BoundRule.Bind(model.Stored, s, g)).ToList() is var all && all.TrueForAll(r => r.Fault is null)
                    ? [.. all.Select((r, i) => r.Value! with { Ordinal = i })]
                    : ImmutableArray<BoundRule>.Empty
        );

    /// <summary>The rules once more, with what each asks of a written row as its condition.</summary>
    public static ImmutableDictionary<string, ImmutableArray<BoundRule>> BindChecks(EntityModel model) =>
        Bind(
            model.With([
                .. model.Sets.Select(s =>
                    s with
                    {
                        Rules = [.. s.Rules.Select(g => g.WithCheck is null ? g : g with { Rows = g.WithCheck })],
                    }
                ),
            ])
        );

    /// <summary>What tells the view of one caller from that of another.</summary>
    public static string Signature(EntityModel model, Caller caller, ImmutableDictionary<string, ImmutableArray<BoundRule>> rules) =>
        string.Join(
            '\n',
            model.Sets.Select(set =>
            {
                var (allowing, denying, deniesAll) = Applying(set.Use, caller, rules[set.Name]);
                return deniesAll || !set.Operations.HasFlag(set.Use)
                    ? string.Concat(Operations.Skip(1).Select(o => May(set, o, caller, rules[set.Name]) ? "+" : "-"))
                    : string.Join(' ', allowing.Concat(denying).Select(r => r.Ordinal + r.Choice))
                        + string.Concat(Operations.Skip(1).Select(o => May(set, o, caller, rules[set.Name]) ? "+" : "-"));
            })
        ) + string.Concat(model.DeclaredOperations.Select(o => Allows(o.Who, caller) ? "+" : "-"));

    /// <summary>
    /// The part of a model that a caller may know of: sets that may not be read are not there, nor is navigation to
    /// them, so that documents, suggestions and errors cannot tell a forbidden name from a missing one. Sets of which only some rows and
    /// values may be read are read through their restriction.
    /// </summary>
    public static EntityModel VisibleTo(EntityModel model, Caller caller, ImmutableDictionary<string, ImmutableArray<BoundRule>> rules) =>
        WithComputed(StoredVisibleTo(model.Stored, caller, rules), model).WithEntityQueries();

    /// <summary>Adds the computed properties whose expressions lead only to what is seen.</summary>
    private static EntityModel WithComputed(EntityModel seen, EntityModel model)
    {
        if (ReferenceEquals(model, model.Stored))
            return seen;
        return seen.With([
            .. seen.Sets.Select(set =>
            {
                // Entities of another set get their values from there.
                if (set.EntitiesOf is not null)
                    return set;
                var computed = model
                    .FindSet(set.Name)!
                    .Type.Properties.Where(p => p.Expression is not null)
                    .Select(p => (Property: p, Bound: BoundRule.BindValue(seen, set, p.Expression!)))
                    .Where(c => c.Bound.Fault is null)
                    .ToList();
                return computed.Count == 0
                    ? set
                    : set with
                    {
                        Type = set.Type.With([.. set.Type.Properties, .. computed.Select(c => c.Property)]),
                        Source = new ComputedSource(seen, set.Source, [.. computed.Select(c => (c.Property.Column, c.Bound.Value!))]),
                    };
            }),
        ]);
    }

    private static EntityModel StoredVisibleTo(
        EntityModel model,
        Caller caller,
        ImmutableDictionary<string, ImmutableArray<BoundRule>> rules
    )
    {
        bool MayRead(EntitySet set) => May(set, set.Use, caller, rules[set.Name]);
        // What is contained is reached over its container only.
        var readable = model
            .Sets.Where(s => MayRead(s) && (s.ContainedIn is null || MayRead(model.FindSet(s.ContainedIn)!)))
            .Select(s => Restricted(model, s, caller, rules[s.Name]))
            .ToImmutableArray();
        var operations = model.DeclaredOperations.Where(o => Allows(o.Who, caller)).ToImmutableArray();
        if (operations.Length < model.DeclaredOperations.Length)
            model = model.With(operations);
        if (readable.Length == model.Sets.Length && readable.Zip(model.Sets).All(p => ReferenceEquals(p.First, p.Second)))
            return model;
        var names = readable.ToDictionary(s => s.Name);
        return model.With([
            .. readable.Select(s =>
                s with
                {
                    Type = s.Type.With([
                        .. s
                            .Type.Navigations.Where(n => names.ContainsKey(n.TargetSet))
                            .Select(n => !n.IsCollection && names[n.TargetSet].Source is RestrictedSource ? n with { Nullable = true } : n),
                    ]),
                }
            ),
        ]);
    }

    /// <summary>
    /// The part of a model that a caller may address to change something: what they may know of, and the sets that they may write and
    /// not read.
    /// </summary>
    /// <param name="visible">As <see cref="VisibleTo"/> gives it.</param>
    public static EntityModel ChangeableBy(
        EntityModel model,
        EntityModel visible,
        Caller caller,
        ImmutableDictionary<string, ImmutableArray<BoundRule>> rules
    )
    {
        var blind = model
            .Sets.Where(s =>
                visible.FindSet(s.Name) is null
                && s.ContainedIn is null
                && !s.IsFunction
                && Operations.Skip(1).Any(o => May(s, o, caller, rules[s.Name]))
            )
            .ToList();
        if (blind.Count == 0)
            return visible;
        var names = visible.Sets.Concat(blind).Select(s => s.Name).ToHashSet();
        return model.With([
            .. visible.Sets,
            .. blind.Select(s =>
                s with
                {
                    Operations = Operations
                        .Skip(1)
                        .Where(o => May(s, o, caller, rules[s.Name]))
                        .Aggregate(SetOperations.None, (all, o) => all | o),
                    Type = s.Type.With([.. s.Type.Navigations.Where(n => names.Contains(n.TargetSet))]),
                }
            ),
        ]);
    }

    /// <summary>What a caller may write of a set by one operation; null = nothing.</summary>
    /// <param name="checks">The same rules, each with what it asks of a row once it is written in place of what it asks before.</param>
    public static WriteAccess? Writing(
        EntityModel model,
        EntitySet set,
        SetOperations operation,
        Caller caller,
        IReadOnlyList<BoundRule> rules,
        IReadOnlyList<BoundRule> checks
    )
    {
        var (allowing, denying, deniesAll) = Applying(operation, caller, rules);
        var (leaving, forbidding, forbidsAll) = Applying(operation, caller, checks);
        if (!set.Operations.HasFlag(operation) || deniesAll || allowing.IsEmpty || forbidsAll || leaving.IsEmpty)
            return null;
        RowSource Left(ImmutableArray<BoundRule> by, ImmutableArray<BoundRule> without) =>
            without.IsEmpty && by.Any(r => r.Condition is null) ? set.Source : new RestrictedSource(model, set, by, without, []);
        var closed = allowing
            .SelectMany(r => r.Grant.Hide.Concat(r.Grant.Mask))
            .Distinct()
            .Where(c => allowing.All(r => r.Grant.Hide.Contains(c) || r.Grant.Mask.Contains(c)));
        return new WriteAccess(set, operation, Left(allowing, denying), Left(leaving, forbidding), [.. closed]);
    }

    /// <summary>What a trial has made is taken away again, whatever the declaration allows.</summary>
    internal static WriteAccess UndoingTrial(EntitySet set) => new(set, SetOperations.Delete, set.Source, set.Source, []);

    /// <summary>Who may delete an entity may delete what is part of it.</summary>
    /// <param name="container">The right to delete the entity.</param>
    /// <param name="part">The whole set of its parts.</param>
    internal static WriteAccess DeletingPart(WriteAccess container, EntitySet part) =>
        container.Operation == SetOperations.Delete && container.Set.Type.Navigations.Any(n => n.IsContained && n.TargetSet == part.Name)
            ? new WriteAccess(part, SetOperations.Delete, part.Source, part.Source, [])
            : throw new ArgumentException($"{part.Name} are not part of {container.Set.Name}.", nameof(part));

    /// <summary>The rows of a set that fulfil one of some conditions.</summary>
    internal static RowSource Fulfilling(EntityModel model, EntitySet set, ImmutableArray<BoundRule> conditions) =>
        new RestrictedSource(model, set, conditions, [], []);

    private static EntitySet Restricted(EntityModel model, EntitySet set, Caller caller, ImmutableArray<BoundRule> rules)
    {
        var (allowing, denying, _) = Applying(set.Use, caller, rules);
        set = Bounded(set, allowing);
        var operations = Operations
            .Where(o => set.Operations.HasFlag(o) && May(set, o, caller, rules))
            .Aggregate(SetOperations.None, (all, o) => all | o);
        if (operations != set.Operations)
            set = set with { Operations = operations };
        // A rule without conditions that shows everything leaves nothing to the others.
        if (denying.IsEmpty && allowing.Any(r => r.Condition is null && r.Grant.Hide.IsEmpty && r.Grant.Mask.IsEmpty))
            return set;
        var covered = allowing
            .SelectMany(r => r.Grant.Hide.Concat(r.Grant.Mask))
            .Distinct()
            .Select(c =>
                (Column: c, ShownBy: allowing.Where(r => !r.Grant.Hide.Contains(c) && !r.Grant.Mask.Contains(c)).ToImmutableArray())
            )
            .Where(c => c.ShownBy.All(r => r.Condition is not null))
            .ToImmutableArray();
        var gone = covered
            .Where(c => c.ShownBy.IsEmpty && allowing.All(r => r.Grant.Hide.Contains(c.Column)))
            .Select(c => c.Column)
            .ToHashSet();
        var nullable = covered.Select(c => c.Column).ToHashSet();
        Property? Seen(Property property) =>
            property.IsGroup ? SeenGroup(model, set, property, Seen)
            : gone.Contains(property.Column) ? null
            : nullable.Contains(property.Column) ? property with { Nullable = true }
            : property;
        var type = set.Type;
        return set with
        {
            Type = new EntityType(
                type.Name,
                [.. type.Properties.Select(Seen).OfType<Property>()],
                type.Hidden,
                type.Key,
                [
                    .. type.Navigations.Select(n =>
                        n.Joins.Any(j => nullable.Contains(j.Own.Column)) && !n.IsCollection ? n with { Nullable = true } : n
                    ),
                ],
                type.Description
            )
            {
                AlternateKeys = [.. type.AlternateKeys.Where(k => k.All(p => !nullable.Contains(p.Column)))],
                Derived =
                [
                    .. type.Derived.Select(d =>
                        d with
                        {
                            Properties = [.. d.Properties.Select(p => p.Via is null ? Seen(p) : p).OfType<Property>()],
                        }
                    ),
                ],
            },
            Source = new RestrictedSource(model, set, allowing, denying, covered),
            DefaultOrder =
            [
                .. set.DefaultOrder.Where(o => !gone.Contains(o.Property.Column)).Select(o => o with { Property = Seen(o.Property)! }),
            ],
            Version = set.Version is { } version && !nullable.Contains(version.Column) ? version : null,
            // What leaves the rows that a caller may see cannot be told from what is deleted.
            Changes = null,
            SearchedProperties = set.SearchedProperties is { } searched ? [.. searched.Select(Seen).OfType<Property>()] : null,
            // An index knows the covered values too.
            SearchIndex = set.SearchIndex is { } index && !index.Columns.Any(nullable.Contains) ? index : null,
        };
    }

    /// <summary>
    /// A complex value with the members that are left of it, and a type of its own when other sets show the whole; null = none is left.
    /// </summary>
    private static Property? SeenGroup(EntityModel model, EntitySet set, Property group, Func<Property, Property?> seen)
    {
        var members = group.Members.Select(seen).OfType<Property>().ToImmutableArray();
        if (members.IsEmpty)
            return null;
        if (members.Length == group.Members.Length && members.Zip(group.Members).All(p => ReferenceEquals(p.First, p.Second)))
            return group;
        var whole = group.Type.Complex!;
        var isShared = model.Sets.Any(s => s.Name != set.Name && s.Type.Properties.Any(p => p.Type.Complex?.Name == whole.Name));
        var properties = whole
            .Properties.Select(p => members.FirstOrDefault(m => m.Name == p.Name) is { } left ? p with { Nullable = left.Nullable } : null)
            .OfType<Property>()
            .ToImmutableArray();
        return group with
        {
            Members = members,
            Type = group.Type with
            {
                Complex = whole with { Name = isShared ? $"{set.Type.Name}_{whole.Name}" : whole.Name, Properties = properties },
            },
        };
    }

    /// <summary>The set with the pages and answers that the most generous of the rules gives.</summary>
    private static EntitySet Bounded(EntitySet set, ImmutableArray<BoundRule> allowing)
    {
        var page = allowing.Max(r => r.Grant.LargestPage ?? set.LargestPage);
        var cost = allowing.All(r => r.Grant.LargestCost is not null) ? allowing.Max(r => r.Grant.LargestCost) : set.LargestCost;
        return page >= set.LargestPage && cost == set.LargestCost
            ? set
            : set with
            {
                LargestPage = Math.Min(page, set.LargestPage),
                PageSize = Math.Min(page, set.PageSize),
                LargestCost = cost,
            };
    }

    /// <summary>Lets a request through, or refuses it in the words of a missing resource.</summary>
    /// <param name="model">What the request was bound to.</param>
    /// <param name="visible">What the caller may know of.</param>
    public static Result<PermittedRequest> Permit(BoundRequest request, EntityModel model, EntityModel visible)
    {
        foreach (var set in request.TouchedSets(model))
        {
            if (!set.IsTransient && (visible.FindSet(set.Name) is not { } seen || !seen.Source.Equals(set.Source)))
                return RequestFault.NotFound($"There is no resource '{set.Name}'.", "path");
        }
        return new PermittedRequest(request);
    }
}
