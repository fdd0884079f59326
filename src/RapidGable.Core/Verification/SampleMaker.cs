using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Verification;

/// <summary>An entity that other ones may be related to: the JSON of its properties, by their names.</summary>
public sealed record SampleTarget(ImmutableDictionary<string, JsonElement> Values);

/// <summary>Makes up entities that keep to the types, facets, keys and rules of a set, the same for the same seed.</summary>
/// <param name="set">The whole set.</param>
/// <param name="start">A number that the samples of other runs do not have, so that unique values stay unique.</param>
public sealed class SampleMaker(EntitySet set, Random random, long start)
{
    private readonly SampleValues _values = new(random, start);

    /// <summary>Properties whose values are all different, so that keys over several columns are unique by one of them.</summary>
    private readonly HashSet<Property> _unique = Unique(set);

    /// <summary>The body of a new entity as JSON.</summary>
    /// <param name="number">Of the sample, from 0.</param>
    /// <param name="related">For a single relation: some entities that there are; empty = none.</param>
    /// <param name="given">Columns that the address gives.</param>
    /// <param name="withDefaults">Also values that the service or the source would give.</param>
    public string Make(
        int number,
        Func<NavigationProperty, IReadOnlyList<SampleTarget>> related,
        IReadOnlyCollection<string>? given = null,
        bool withDefaults = false
    )
    {
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream))
        {
            json.WriteStartObject();
            var tied = Tie(related);
            foreach (var property in set.Type.Properties.Where(p => given?.Contains(p.Column) != true))
                Write(json, property, number, tied, withDefaults);
            json.WriteEndObject();
        }
        return Encoding.UTF8.GetString(stream.ToArray());
    }

    /// <summary>Values of the columns that relate an entity to others, by column; null = related to none.</summary>
    private Dictionary<string, JsonElement?> Tie(Func<NavigationProperty, IReadOnlyList<SampleTarget>> related)
    {
        var tied = new Dictionary<string, JsonElement?>();
        foreach (var navigation in set.Type.Navigations.Where(n => n is { IsHeldByTarget: false, Link: null, IsCollection: false }))
        {
            var targets = related(navigation);
            var isNone = targets.Count == 0 || (navigation.Nullable && random.Next(5) == 0);
            var target = isNone ? null : targets[random.Next(targets.Count)];
            foreach (var join in navigation.Joins.Where(j => !tied.ContainsKey(j.Own.Column)))
                tied[join.Own.Column] = target is not null && target.Values.TryGetValue(join.Target.Name, out var value) ? value : null;
        }
        return tied;
    }

    private static bool IsSent(Property property) =>
        property is { IsComputed: false, Expression: null, Access: not PropertyAccess.ReadOnly, Type.Kind: not EdmKind.Stream }
        && property.Maker is null or { IsDefault: true };

    private void Write(Utf8JsonWriter json, Property property, int number, Dictionary<string, JsonElement?> tied, bool withDefaults)
    {
        if (property.IsGroup)
        {
            json.WriteStartObject(property.Name);
            foreach (var member in property.Members)
                Write(json, member, number, tied, withDefaults);
            json.WriteEndObject();
            return;
        }
        if (
            !IsSent(property)
            || property.Column == set.Version?.Column
            || property.Type.IsCollection
            || property.Type.Kind == EdmKind.Complex
        )
            return;
        var isKey = set.Type.Key.Contains(property);
        // A reference is given even where the source has a default for it, which would lead nowhere.
        if (tied.TryGetValue(property.Column, out var value))
        {
            if (value is { } known)
            {
                json.WritePropertyName(property.Name);
                known.WriteTo(json);
            }
            return;
        }
        if (property.HasComputedDefault || (!withDefaults && (property.Maker is not null || (property.DefaultValue is not null && !isKey))))
            return;
        // To a table that is not published, and of which nothing is known.
        if (property is { IsForeignKey: true, Nullable: true })
            return;
        // What may be missing is missing now and then, and where rules lead elsewhere.
        if (property.Nullable && (property.Rules is { Pattern: not null } or { Exists: not null } || random.Next(4) == 0))
            return;
        json.WritePropertyName(property.Name);
        _values.Write(json, property, number, _unique.Contains(property));
    }

    /// <summary>
    /// Of each key one property that is not bounded and relates to nothing; where there is none, chance and another try have to
    /// do.
    /// </summary>
    private static HashSet<Property> Unique(EntitySet set)
    {
        var tied = set
            .Type.Navigations.Where(n => n is { IsHeldByTarget: false, IsCollection: false })
            .SelectMany(n => n.Joins)
            .Select(j => j.Own.Column)
            .ToHashSet();
        var keys = set
            .Type.AlternateKeys.Append(set.Type.Key)
            .Concat(
                set.RowRules.Where(r => !r.Unique.IsEmpty)
                    .Select(r => set.Type.Properties.Where(p => r.Unique.Contains(p.Column)).ToImmutableArray())
            );
        var unique = keys.Select(k => k.FirstOrDefault(p => !tied.Contains(p.Column) && SampleValues.CanBeUnique(p))).OfType<Property>();
        return [.. unique, .. set.Type.Properties.Where(p => p.Name.EndsWith("mail", StringComparison.OrdinalIgnoreCase))];
    }
}
