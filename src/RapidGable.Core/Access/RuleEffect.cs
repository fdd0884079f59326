using RapidGable.Model;

namespace RapidGable.Access;

/// <summary>What one rule does to one request.</summary>
/// <param name="Set">The set whose rule it is.</param>
/// <param name="Rule">The rule in words.</param>
/// <param name="Place">Where it is declared; null = nowhere.</param>
/// <param name="Applies">Whether it is about the caller.</param>
/// <param name="Effect">What it does, or why it does nothing.</param>
public sealed record RuleEffect(string Set, string Rule, string? Place, bool Applies, string Effect)
{
    /// <summary>What each rule of a set about an operation does for a caller; a set without one lets nobody in.</summary>
    public static IEnumerable<RuleEffect> Of(EntitySet set, SetOperations operation, Caller caller, IReadOnlyList<BoundRule> rules)
    {
        var about = rules.Where(r => r.Grant.May.HasFlag(operation)).ToList();
        if (about.Count == 0)
            yield return new RuleEffect(set.Name, "no rule", null, false, $"nobody may {Grant.Words(operation)} it");
        foreach (var rule in about)
        {
            var (applies, effect) = EffectOf(rule, caller, operation);
            yield return new RuleEffect(set.Name, rule.Grant.ToString(), rule.Grant.Place, applies, effect);
        }
    }

    private static (bool Applies, string Effect) EffectOf(BoundRule rule, Caller caller, SetOperations operation)
    {
        if (!AccessGate.Allows(rule.Grant.Who, caller))
            return (
                false,
                rule.Grant.Who.Scope == AccessScope.Nobody ? "lets nobody in"
                : caller.IsSignedIn ? "is for others"
                : "is for who is signed in"
            );
        if (!caller.Scope.HasFlag(operation))
            return (false, "what the caller signed in with is not good for this");
        var missing = rule.Attributes.Where(a => caller.Attribute(a).IsEmpty).Select(a => "@" + a).ToList();
        var lacks =
            missing.Count > 0 ? $"the caller has no {string.Join(", ", missing)}"
            : rule.For(caller) is null ? "an attribute of the caller cannot be compared"
            : null;
        if (rule.Grant.Denies)
            return (
                true,
                lacks is not null ? $"takes everything, since {lacks}"
                : rule.Condition is null ? "takes everything"
                : "takes rows"
            );
        return lacks is not null
            ? (false, $"gives nothing, since {lacks}")
            : (true, rule.Condition is null ? "gives all rows" : "gives rows");
    }
}
