using System.Collections.Immutable;
using System.Globalization;
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
    private static readonly string[] Words = ["amber", "birch", "cedar", "delta", "ember", "fern", "gravel", "heron", "island", "juniper", "kestrel", "linden", "marsh", "north", "otter", "pebble", "quarry", "reed", "spruce", "thistle", "upland", "valley", "willow", "yarrow"];
    private static readonly string[] Names = ["Ada", "Bo", "Clara", "Dario", "Edda", "Finn", "Greta", "Hugo", "Ines", "Jaro", "Kaja", "Lev", "Mara", "Noor", "Otto", "Pia", "Rune", "Selma", "Tom", "Vera"];

    /// <summary>The body of a new entity as JSON.</summary>
    /// <param name="number">Of the sample, from 0.</param>
    /// <param name="related">For a single relation: some entities that there are; empty = none.</param>
    /// <param name="given">Columns that the address gives.</param>
    /// <param name="withDefaults">Also values that the service or the source would give.</param>
    public string Make(int number, Func<NavigationProperty, IReadOnlyList<SampleTarget>> related, IReadOnlyCollection<string>? given = null, bool withDefaults = false)
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

    private static bool IsSent(Property property) => property is { IsComputed: false, Expression: null, Access: not PropertyAccess.ReadOnly, Type.Kind: not EdmKind.Stream } && property.Maker is null or { IsDefault: true };

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
        if (!IsSent(property) || property.Column == set.Version?.Column || property.Type.IsCollection || property.Type.Kind == EdmKind.Complex)
            return;
        var isKey = set.Type.Key.Contains(property);
        if (property.HasComputedDefault || (!withDefaults && (property.Maker is not null || (property.DefaultValue is not null && !isKey))))
            return;
        if (tied.TryGetValue(property.Column, out var value))
        {
            if (value is { } known)
            {
                json.WritePropertyName(property.Name);
                known.WriteTo(json);
            }
            return;
        }
        // What may be missing is missing now and then, and where rules lead elsewhere.
        if (property.Nullable && (property.Rules is { Pattern: not null } or { Exists: not null } || random.Next(4) == 0))
            return;
        var isUnique = isKey || set.Type.AlternateKeys.Any(k => k.Contains(property)) || set.RowRules.Any(r => r.Unique.Contains(property.Column)) || property.Name.EndsWith("mail", StringComparison.OrdinalIgnoreCase);
        json.WritePropertyName(property.Name);
        WriteValue(json, property, number, isUnique);
    }

    private void WriteValue(Utf8JsonWriter json, Property property, int number, bool isUnique)
    {
        var (type, rules) = (property.Type, property.Rules);
        if (!rules.Values.IsEmpty || !property.AllowedValues.IsEmpty)
        {
            PublishedJson.Write(json, rules.Values.IsEmpty ? property.AllowedValues[random.Next(property.AllowedValues.Length)] : rules.Values[random.Next(rules.Values.Length)]);
            return;
        }
        switch (type.Kind)
        {
            case EdmKind.Boolean:
                json.WriteBooleanValue(random.Next(2) == 0);
                break;
            case EdmKind.Enum:
                json.WriteStringValue(type.Enum!.Members[random.Next(type.Enum.Members.Length)].Name);
                break;
            case EdmKind.Guid:
                var bytes = new byte[16];
                random.NextBytes(bytes);
                json.WriteStringValue(new Guid(bytes));
                break;
            case EdmKind.Date:
                json.WriteStringValue(DayOf(rules).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture));
                break;
            case EdmKind.DateTimeOffset:
                json.WriteStringValue($"{DayOf(rules):yyyy-MM-dd}T{random.Next(24):00}:{random.Next(60):00}:{random.Next(60):00}Z");
                break;
            case EdmKind.TimeOfDay:
                json.WriteStringValue($"{random.Next(24):00}:{random.Next(60):00}:00");
                break;
            case EdmKind.Duration:
                var least = rules.Least is TimeSpan from ? from : TimeSpan.FromMinutes(1);
                var most = rules.Most is TimeSpan to ? to : TimeSpan.FromHours(3);
                json.WriteStringValue(System.Xml.XmlConvert.ToString(TimeSpan.FromMinutes(Math.Round(least.TotalMinutes + (random.NextDouble() * (most - least).TotalMinutes)))));
                break;
            case EdmKind.Binary:
                json.WriteStringValue(System.Buffers.Text.Base64Url.EncodeToString(Encoding.UTF8.GetBytes("sample"[..Math.Min(6, type.MaxLength ?? 6)])));
                break;
            case EdmKind.String:
                json.WriteStringValue(TextOf(property, number, isUnique));
                break;
            case EdmKind.Single or EdmKind.Double:
                json.WriteNumberValue(Math.Round(Bound(rules.Least, 0) + (random.NextDouble() * (Bound(rules.Most, Bound(rules.Least, 0) + 50) - Bound(rules.Least, 0))), 3));
                break;
            default:
                json.WriteNumberValue(NumberOf(type, rules, number, isUnique));
                break;
        }
    }

    private static double Bound(object? bound, double otherwise) => bound is null ? otherwise : Convert.ToDouble(bound, CultureInfo.InvariantCulture);

    private DateOnly DayOf(ValueRules rules)
    {
        static DateOnly? Day(object? bound) => bound switch { DateOnly date => date, DateTime instant => DateOnly.FromDateTime(instant), _ => null };
        var least = Day(rules.Least)?.AddDays(rules.Least is DateTime ? 1 : 0);
        var most = Day(rules.Most)?.AddDays(rules.Most is DateTime ? -1 : 0);
        var first = least ?? most?.AddDays(-300) ?? new DateOnly(2024, 1, 1);
        var days = Math.Max(0, (most ?? first.AddDays(300)).DayNumber - first.DayNumber);
        return first.AddDays(random.Next(days + 1));
    }

    private decimal NumberOf(EdmType type, ValueRules rules, int number, bool isUnique)
    {
        var top = type.Kind switch { EdmKind.Byte => 255m, EdmKind.SByte => 127m, EdmKind.Int16 => 32_767m, EdmKind.Int32 => 2_000_000_000m, EdmKind.Decimal when type.Precision is { } p => (decimal)Math.Pow(10, Math.Min(9, p - (type.Scale ?? 0))) - 1, _ => 2_000_000_000m };
        if (isUnique && rules.Least is null && rules.Most is null)
            return (start + number) % (top + 1);
        var least = rules.Least is null ? 0m : Convert.ToDecimal(rules.Least, CultureInfo.InvariantCulture);
        var most = rules.Most is null ? Math.Min(top, least + 50) : Convert.ToDecimal(rules.Most, CultureInfo.InvariantCulture);
        var value = least + ((most - least) * (decimal)random.NextDouble());
        return type.IsIntegral ? Math.Floor(value) : Math.Round(value, Math.Min(2, type.Scale ?? 2), MidpointRounding.ToZero);
    }

    private string TextOf(Property property, int number, bool isUnique)
    {
        var name = property.Name.ToLowerInvariant();
        var mark = isUnique ? (start + number).ToString(CultureInfo.InvariantCulture) : "";
        var text = name.Contains("mail") ? $"{Names[random.Next(Names.Length)].ToLowerInvariant()}{mark}@example.org"
            : name.Contains("full_name") || name.EndsWith("person", StringComparison.Ordinal) ? $"{Names[random.Next(Names.Length)]} {Capital(Words[random.Next(Words.Length)])}"
            : isUnique ? $"S{mark}" : name.EndsWith("name", StringComparison.Ordinal) ? $"{Capital(Words[random.Next(Words.Length)])} {Words[random.Next(Words.Length)]}"
            : Capital(string.Join(' ', Enumerable.Range(0, random.Next(1, 4)).Select(_ => Words[random.Next(Words.Length)])));
        var most = Math.Min(property.Type.MaxLength ?? int.MaxValue, property.Rules.Longest ?? int.MaxValue);
        while (text.Length < (property.Rules.Shortest ?? 0))
            text += " " + Words[random.Next(Words.Length)];
        // What tells one from another stands at the end.
        return text.Length <= most ? text : isUnique ? text[^most..] : text[..most].TrimEnd();
    }

    private static string Capital(string word) => char.ToUpperInvariant(word[0]) + word[1..];
}
