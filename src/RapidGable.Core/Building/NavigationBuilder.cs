using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>
/// Foreign keys -> navigation in both directions. A single-valued one is named after its column without <c>_id</c>, or
/// after the target's type when the key has several columns; the way back is named after the set it leads to.
/// Names that are taken already get the other's appended, so that no name depends on the order of the file.
/// </summary>
internal sealed class NavigationBuilder(List<SetDraft> drafts, NamingPolicy names, Diagnostics diagnostics)
{
    private static readonly string[] KeySuffixes = ["_id", "_code", "_key", "_no", "Id", "ID", "Code", "Key", "No"];

    private readonly Dictionary<string, List<NavigationProperty>> _bySet = drafts.ToDictionary(d => d.Name, _ => new List<NavigationProperty>());

    public Dictionary<string, ImmutableArray<NavigationProperty>> Build()
    {
        foreach (var draft in drafts)
        {
            foreach (var foreignKey in draft.Item.ForeignKeys)
            {
                if (drafts.Find(d => d.Declaration.Source.Value == draft.Declaration.Source.Value && d.Item.FullName == foreignKey.TargetObject) is { } target)
                    Relate(draft, target, foreignKey);
            }
        }
        return _bySet.ToDictionary(p => p.Key, p => p.Value.ToImmutableArray());
    }

    private void Relate(SetDraft from, SetDraft to, ForeignKey foreignKey)
    {
        var own = foreignKey.Columns.Select(from.FindColumn).ToList();
        var other = foreignKey.TargetColumns.Select(to.FindColumn).ToList();
        if (own.Contains(null) || other.Contains(null))
            return;
        for (var i = 0; i < own.Count; i++)
        {
            if (own[i]!.Type.Kind == other[i]!.Type.Kind)
                continue;
            diagnostics.Warning("relation-types", $"The foreign key {from.Item.Name}.{own[i]!.Column} -> {to.Item.Name}.{other[i]!.Column} is not published: the types differ ({own[i]!.Type.Name}, {other[i]!.Type.Name}).",
                from.Declaration.From.Location);
            return;
        }
        var joins = own.Zip(other, (o, t) => new JoinPair(o!, t!)).ToImmutableArray();
        var there = ForwardName(from, to, own!);
        // The first published set of the target keeps the plain way back; a second set of the same table says its name.
        var back = BackName(from, to, there);
        _bySet[from.Name].Add(new NavigationProperty(there, to.Name, false, own.Any(p => p!.Nullable), joins, back));
        _bySet[to.Name].Add(new NavigationProperty(back, from.Name, true, false, [.. joins.Select(j => new JoinPair(j.Target, j.Own))], there)
        {
            OnDelete = foreignKey.OnDelete,
        });
    }

    private string ForwardName(SetDraft from, SetDraft to, List<Property?> own)
    {
        var plain = to.TypeName;
        if (own.Count == 1)
        {
            var name = own[0]!.Name;
            var suffix = Array.Find(KeySuffixes, s => name.Length > s.Length && name.EndsWith(s, StringComparison.Ordinal));
            plain = suffix is null ? to.TypeName : name[..^suffix.Length];
        }
        plain = OutsideNames.Relation(plain, names);
        return Free(from, plain, $"{plain}_{string.Join("_", own.Select(p => p!.Name))}");
    }

    private string BackName(SetDraft from, SetDraft to, string there)
    {
        var several = from.Item.ForeignKeys.Count(f => f.TargetObject == to.Item.FullName) > 1;
        return Free(to, several ? $"{from.Name}_by_{there}" : from.Name, $"{from.Name}_by_{there}");
    }

    private string Free(SetDraft set, string wanted, string otherwise)
    {
        bool Taken(string name) => set.Visible.Any(p => p.Name == name) || _bySet[set.Name].Exists(n => n.Name == name);
        if (!Taken(wanted))
            return wanted;
        var name = otherwise;
        for (var i = 2; Taken(name); i++)
            name = $"{otherwise}_{i}";
        return name;
    }
}
