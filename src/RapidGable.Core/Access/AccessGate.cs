using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Access;

/// <summary>A bound request that the caller may make. Only <see cref="AccessGate"/> gives it out.</summary>
public sealed record PermittedRequest
{
    internal PermittedRequest(BoundRequest request) => Request = request;

    public BoundRequest Request { get; }
}

/// <summary>
/// The one place where rules become decisions. Rules that let a caller do something add up: the rows are those of all of them, and a value is
/// seen in a row when a rule that lets the row be seen shows it. A rule that takes away wins over all of them. A condition about an attribute
/// that the caller does not have lets nothing through.
/// </summary>
public static class AccessGate
{
    public static bool Allows(AccessRule rule, Caller caller) => rule.Scope switch
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
    public static (ImmutableArray<BoundRule> Allowing, ImmutableArray<BoundRule> Denying, bool DeniesAll) Applying(SetOperations operation, Caller caller, IReadOnlyList<BoundRule> rules, bool holdsAll = false)
    {
        var mine = rules.Where(r => r.Grant.May.HasFlag(operation) && Allows(r.Grant.Who, caller)).ToList();
        var denying = mine.Where(r => r.Grant.Denies).ToImmutableArray();
        return ([.. mine.Where(r => !r.Grant.Denies && (holdsAll || r.HasAttributes(caller)))], denying, denying.Any(r => r.Condition is null || !(holdsAll || r.HasAttributes(caller))));
    }

    /// <summary>Binds the rules of all sets; one whose condition is wrong, which loading has reported, lets nobody do anything.</summary>
    public static ImmutableDictionary<string, ImmutableArray<BoundRule>> Bind(EntityModel model) => model.Sets.ToImmutableDictionary(s => s.Name,
        s => s.Rules.Select(g => BoundRule.Bind(model, s, g)).ToList() is var all && all.TrueForAll(r => r.Fault is null) ? [.. all.Select(r => r.Value!)] : ImmutableArray<BoundRule>.Empty);

    /// <summary>What tells the view of one caller from that of another.</summary>
    public static string Signature(EntityModel model, Caller caller, ImmutableDictionary<string, ImmutableArray<BoundRule>> rules) => string.Join('\n', model.Sets.Select(set =>
    {
        var (allowing, denying, deniesAll) = Applying(SetOperations.Read, caller, rules[set.Name]);
        return deniesAll || !set.Operations.HasFlag(SetOperations.Read) ? "" : string.Join(',', allowing.Concat(denying).Select(r => rules[set.Name].IndexOf(r)));
    }));

    /// <summary>
    /// The part of a model that a caller may know of: sets that may not be read are not there, nor is navigation to
    /// them, so that documents, suggestions and errors cannot tell a forbidden name from a missing one. Sets of which only some rows and
    /// values may be read are read through their restriction.
    /// </summary>
    public static EntityModel VisibleTo(EntityModel model, Caller caller, ImmutableDictionary<string, ImmutableArray<BoundRule>> rules)
    {
        bool MayRead(EntitySet set) => May(set, SetOperations.Read, caller, rules[set.Name]);
        // What is contained is reached over its container only.
        var readable = model.Sets.Where(s => MayRead(s) && (s.ContainedIn is null || MayRead(model.FindSet(s.ContainedIn)!))).Select(s => Restricted(model, s, caller, rules[s.Name])).ToImmutableArray();
        if (readable.Length == model.Sets.Length && readable.All(s => s.Source.Restriction is null))
            return model;
        var names = readable.ToDictionary(s => s.Name);
        return new EntityModel(model.Service, model.Title, model.Namespace,
            [.. readable.Select(s => s with { Type = s.Type.With([.. s.Type.Navigations.Where(n => names.ContainsKey(n.TargetSet)).Select(n => !n.IsCollection && names[n.TargetSet].Source.Restriction is not null ? n with { Nullable = true } : n)]) })]);
    }

    private static EntitySet Restricted(EntityModel model, EntitySet set, Caller caller, ImmutableArray<BoundRule> rules)
    {
        var (allowing, denying, _) = Applying(SetOperations.Read, caller, rules);
        // A rule without conditions that shows everything leaves nothing to the others.
        if (denying.IsEmpty && allowing.Any(r => r.Condition is null && r.Grant.Hide.IsEmpty && r.Grant.Mask.IsEmpty))
            return set;
        var covered = allowing.SelectMany(r => r.Grant.Hide.Concat(r.Grant.Mask)).Distinct()
            .Select(c => (Column: c, ShownBy: allowing.Where(r => !r.Grant.Hide.Contains(c) && !r.Grant.Mask.Contains(c)).ToImmutableArray()))
            .Where(c => c.ShownBy.All(r => r.Condition is not null)).ToImmutableArray();
        var gone = covered.Where(c => c.ShownBy.IsEmpty && allowing.All(r => r.Grant.Hide.Contains(c.Column))).Select(c => c.Column).ToHashSet();
        var nullable = covered.Select(c => c.Column).ToHashSet();
        Property? Seen(Property property) => gone.Contains(property.Column) ? null : nullable.Contains(property.Column) ? property with { Nullable = true } : property;
        var type = set.Type;
        return set with
        {
            Type = new EntityType(type.Name, [.. type.Properties.Select(Seen).OfType<Property>()], type.Hidden, type.Key, [.. type.Navigations.Select(n => n.Joins.Any(j => nullable.Contains(j.Own.Column)) && !n.IsCollection ? n with { Nullable = true } : n)], type.Description)
            {
                AlternateKeys = [.. type.AlternateKeys.Where(k => k.All(p => !nullable.Contains(p.Column)))],
                Derived = type.Derived,
            },
            Source = set.Source with { RowId = null, Restriction = new AccessRestriction(model, set, allowing, denying, covered) },
            DefaultOrder = [.. set.DefaultOrder.Where(o => !gone.Contains(o.Property.Column)).Select(o => o with { Property = Seen(o.Property)! })],
            Version = set.Version is { } version && !nullable.Contains(version.Column) ? version : null,
            // What leaves the rows that a caller may see cannot be told from what is deleted.
            Changes = null,
            SearchedProperties = set.SearchedProperties is { } searched ? [.. searched.Select(Seen).OfType<Property>()] : null,
            // An index knows the covered values too.
            SearchIndex = set.SearchIndex is { } index && !index.Columns.Any(nullable.Contains) ? index : null,
        };
    }

    /// <summary>Lets a request through, or refuses it in the words of a missing resource.</summary>
    /// <param name="model">What the request was bound to.</param>
    /// <param name="visible">What the caller may know of.</param>
    public static Result<PermittedRequest> Permit(BoundRequest request, EntityModel model, EntityModel visible)
    {
        foreach (var set in request.TouchedSets(model))
        {
            if (!set.IsTransient && (visible.FindSet(set.Name) is not { } seen || seen.Source.Restriction != set.Source.Restriction))
                return RequestFault.NotFound($"There is no resource '{set.Name}'.", "path");
        }
        return new PermittedRequest(request);
    }
}
