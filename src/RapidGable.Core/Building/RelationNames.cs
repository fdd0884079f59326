using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>A foreign key between two published sets, on its way to a navigation property and its way back.</summary>
/// <param name="IsOne">Whether at most one row refers to another, so that the way back leads to one.</param>
internal sealed record InferredRelation(SetDraft From, SetDraft To, ForeignKey Key, ImmutableArray<JoinPair> Joins, bool IsOne)
{
    /// <summary>Orders relations by what they are and not by when they were found.</summary>
    public string SortKey => $"{From.Name}/{string.Join(',', Key.Columns)}";
}

/// <summary>
/// Names for the relations of foreign keys. A single-valued one is named after its column without <c>id</c>, <c>_code</c>
/// and the like, or after the target's type; the way back is named after the set it leads to. A name that several relations
/// of a set want, or that is taken, goes to none of them: each gets its column appended. So no name depends on an order.
/// </summary>
/// <param name="isTaken">Whether a set has a property or a declared relation of a name.</param>
internal sealed class RelationNames(NamingPolicy policy, Func<SetDraft, string, bool> isTaken)
{
    private static readonly string[] KeyWords = ["id", "code", "key", "no"];

    private readonly HashSet<(string Set, string Name)> _used = [];

    /// <summary>The names of each relation: there and back, in the order of the relations.</summary>
    public ImmutableArray<(string There, string Back)> Choose(IReadOnlyList<InferredRelation> relations)
    {
        var there = Assign(relations, r => r.From, r => Forward(r.To, Columns(r)));
        var back = Assign(relations, r => r.To, Backward);
        return [.. relations.Select(r => (there[r], back[r]))];
    }

    /// <summary>What a single-valued relation over columns would like to be called, and what it is called when that is taken.</summary>
    public (string Wanted, string Otherwise) Forward(SetDraft to, IReadOnlyList<string> columns)
    {
        if (columns.Count != 1)
            return Cased(to.TypeName, $"{to.TypeName}_by_{Qualifier(columns)}");
        var column = columns[0];
        if (Stem(column) is { } stem)
            return Cased(stem, $"{stem}_by_{column[stem.Length..].Trim('_').ToLowerInvariant()}");
        var startsWithType = column.StartsWith(to.TypeName, StringComparison.OrdinalIgnoreCase) && column.Length > to.TypeName.Length + 1;
        return Cased(to.TypeName, startsWithType ? column[to.TypeName.Length..].TrimStart('_') : $"{to.TypeName}_{column}");
    }

    private (string Wanted, string Otherwise) Backward(InferredRelation relation)
    {
        var plain = relation.IsOne ? PublicNames.Relation(relation.From.TypeName, policy) : relation.From.Name;
        var siblings = relation.From.Item.ForeignKeys.Where(f => f.TargetObject == relation.To.Item.FullName).ToList();
        var qualifier = Qualifier(Columns(relation));
        // 'a_id' and 'a_code' both leave 'a', which tells nothing.
        var isAmbiguous = siblings.Count(f => Qualifier(f.Columns) == Qualifier(relation.Key.Columns)) > 1;
        var qualified = $"{plain}_by_{(isAmbiguous ? string.Join('_', Columns(relation)) : qualifier)}";
        return (siblings.Count > 1 ? qualified : plain, qualified);
    }

    private Dictionary<InferredRelation, string> Assign(
        IReadOnlyList<InferredRelation> relations,
        Func<InferredRelation, SetDraft> holderOf,
        Func<InferredRelation, (string Wanted, string Otherwise)> nameOf
    )
    {
        var claims = relations.Select(r => (Relation: r, Holder: holderOf(r), Name: nameOf(r))).ToList();
        var wanted = claims.CountBy(c => (c.Holder.Name, c.Name.Wanted)).ToDictionary();
        var names = new Dictionary<InferredRelation, string>(ReferenceEqualityComparer.Instance);
        bool IsFree(SetDraft holder, string name) => !isTaken(holder, name) && !_used.Contains((holder.Name, name));
        bool GetsIt(SetDraft holder, string name) => wanted[(holder.Name, name)] == 1 && IsFree(holder, name);
        // Those that get what they want come first, so that a longer name never takes a short one away.
        foreach (var (relation, holder, name) in claims.Where(c => GetsIt(c.Holder, c.Name.Wanted)).ToList())
            _used.Add((holder.Name, names[relation] = name.Wanted));
        foreach (
            var (relation, holder, name) in claims
                .Where(c => !names.ContainsKey(c.Relation))
                .OrderBy(c => c.Relation.SortKey, StringComparer.Ordinal)
        )
            _used.Add((holder.Name, names[relation] = FirstFree(name.Otherwise, n => IsFree(holder, n))));
        return names;
    }

    /// <summary>The name, or the first of <c>name_2</c>, <c>name_3</c> … that is free.</summary>
    public static string FirstFree(string name, Func<string, bool> isFree)
    {
        var free = name;
        for (var i = 2; !isFree(free); i++)
            free = $"{name}_{i}";
        return free;
    }

    private (string Wanted, string Otherwise) Cased(string wanted, string otherwise) =>
        (PublicNames.Relation(wanted, policy), PublicNames.Relation(otherwise, policy));

    private static List<string> Columns(InferredRelation relation) => [.. relation.Joins.Select(j => j.Own.Name)];

    private static string Qualifier(IReadOnlyList<string> columns) => string.Join('_', columns.Select(c => Stem(c) ?? c));

    /// <summary>A column's name without the word for a key at its end; null when it ends in none, or is little else.</summary>
    private static string? Stem(string column)
    {
        foreach (var word in KeyWords)
        {
            var stem = column[..Math.Max(0, column.Length - word.Length)];
            if (stem.TrimEnd('_').Length == 0 || !column.EndsWith(word, StringComparison.OrdinalIgnoreCase))
                continue;
            var isWord = stem[^1] == '_' || (char.IsLower(stem[^1]) && char.IsUpper(column[stem.Length]));
            // 'hostid' is common; 'barcode', 'monkey' and 'piano' are words of their own.
            if (isWord || (word == "id" && stem.Length > 1))
                return stem.TrimEnd('_');
        }
        return null;
    }
}
