using System.Globalization;
using System.Text;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Verification;

/// <summary>Makes up single values that keep to types, facets, rules and the source's own checks.</summary>
/// <param name="start">A number that the samples of other runs do not have, so that unique values stay unique.</param>
internal sealed class SampleValues(Random random, long start)
{
    private static readonly string[] Words =
    [
        "amber",
        "birch",
        "cedar",
        "delta",
        "ember",
        "fern",
        "gravel",
        "heron",
        "island",
        "juniper",
        "kestrel",
        "linden",
        "marsh",
        "north",
        "otter",
        "pebble",
        "quarry",
        "reed",
        "spruce",
        "thistle",
        "upland",
        "valley",
        "willow",
        "yarrow",
    ];
    private static readonly string[] Names =
    [
        "Ada",
        "Bo",
        "Clara",
        "Dario",
        "Edda",
        "Finn",
        "Greta",
        "Hugo",
        "Ines",
        "Jaro",
        "Kaja",
        "Lev",
        "Mara",
        "Noor",
        "Otto",
        "Pia",
        "Rune",
        "Selma",
        "Tom",
        "Vera",
    ];

    /// <summary>Whether enough different values can be made up for a property.</summary>
    public static bool CanBeUnique(Property property)
    {
        var rules = Effective(property);
        return property.Type.Kind is not (EdmKind.Boolean or EdmKind.Enum)
            && property.AllowedValues.IsEmpty
            && rules is { Values.IsEmpty: true, Minimum: null, Maximum: null };
    }

    public void Write(Utf8JsonWriter json, Property property, int number, bool isUnique)
    {
        var (type, rules) = (property.Type, Effective(property));
        if (!rules.Values.IsEmpty)
            PublishedJson.Write(json, rules.Values[random.Next(rules.Values.Length)]);
        else if (!property.AllowedValues.IsEmpty)
            PublishedJson.Write(json, property.AllowedValues[random.Next(property.AllowedValues.Length)]);
        else
            Write(json, property, type, rules, number, isUnique);
    }

    private void Write(Utf8JsonWriter json, Property property, EdmType type, ValueRules rules, int number, bool isUnique)
    {
        switch (type.Kind)
        {
            case EdmKind.Boolean:
                json.WriteBooleanValue(random.Next(2) == 0);
                break;
            case EdmKind.Enum:
                json.WriteStringValue(type.Enum!.Members[random.Next(type.Enum.Members.Length)].Name);
                break;
            case EdmKind.Guid:
                json.WriteStringValue(new Guid(Bytes(16, number, false)));
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
                json.WriteStringValue(System.Xml.XmlConvert.ToString(DurationOf(rules)));
                break;
            case EdmKind.Binary:
                json.WriteStringValue(System.Buffers.Text.Base64Url.EncodeToString(Bytes(type.MaxLength ?? 6, number, isUnique)));
                break;
            case EdmKind.String when property.Conversion is HexConversion hex:
                json.WriteStringValue(Convert.ToHexStringLower(Bytes(hex.Stored.MaxLength ?? 8, number, isUnique)));
                break;
            case EdmKind.String:
                json.WriteStringValue(SampleText.Of(property, start + number) ?? TextOf(property, rules, number, isUnique));
                break;
            case EdmKind.Single or EdmKind.Double:
                var least = Bound(rules.Minimum, 0);
                json.WriteNumberValue(Math.Round(least + (random.NextDouble() * (Bound(rules.Maximum, least + 50) - least)), 3));
                break;
            default:
                json.WriteNumberValue(property.DeclaredType == "year" ? 1990 + random.Next(40) : NumberOf(type, rules, number, isUnique));
                break;
        }
    }

    /// <summary>The declared rules, and where they say nothing the source's checks.</summary>
    private static ValueRules Effective(Property property)
    {
        var (rules, checks) = (property.Rules, property.SourceChecks);
        return rules with
        {
            Minimum = rules.Minimum ?? checks.Minimum,
            Maximum = rules.Maximum ?? checks.Maximum,
            MinLength = rules.MinLength ?? checks.MinLength,
            MaxLength = rules.MaxLength ?? checks.MaxLength,
            Values = rules.Values.IsEmpty ? checks.Values : rules.Values,
        };
    }

    /// <summary>Bytes of a length, at most 64; unique ones end with the sample's number.</summary>
    private byte[] Bytes(int length, int number, bool isUnique)
    {
        var bytes = new byte[Math.Min(64, length)];
        random.NextBytes(bytes);
        for (var (i, left) = (bytes.Length - 1, start + number); isUnique && i >= 0 && left > 0; i--, left >>= 8)
            bytes[i] = (byte)left;
        return bytes;
    }

    private TimeSpan DurationOf(ValueRules rules)
    {
        var least = rules.Minimum is TimeSpan from ? from : TimeSpan.FromMinutes(1);
        var most = rules.Maximum is TimeSpan to ? to : TimeSpan.FromHours(3);
        return TimeSpan.FromMinutes(Math.Round(least.TotalMinutes + (random.NextDouble() * (most - least).TotalMinutes)));
    }

    private static double Bound(object? bound, double otherwise) =>
        bound is null ? otherwise : Convert.ToDouble(bound, CultureInfo.InvariantCulture);

    private DateOnly DayOf(ValueRules rules)
    {
        static DateOnly? Day(object? bound) =>
            bound switch
            {
                DateOnly date => date,
                DateTime instant => DateOnly.FromDateTime(instant),
                _ => null,
            };
        var least = Day(rules.Minimum)?.AddDays(rules.Minimum is DateTime ? 1 : 0);
        var most = Day(rules.Maximum)?.AddDays(rules.Maximum is DateTime ? -1 : 0);
        var first = least ?? most?.AddDays(-300) ?? new DateOnly(2024, 1, 1);
        var days = Math.Max(0, (most ?? first.AddDays(300)).DayNumber - first.DayNumber);
        return first.AddDays(random.Next(days + 1));
    }

    private decimal NumberOf(EdmType type, ValueRules rules, int number, bool isUnique)
    {
        var top = type.Kind switch
        {
            EdmKind.Byte => 255m,
            EdmKind.SByte => 127m,
            EdmKind.Int16 => 32_767m,
            EdmKind.Decimal when type.Precision is { } p => (decimal)Math.Pow(10, Math.Min(9, p - (type.Scale ?? 0))) - 1,
            _ => 2_000_000_000m,
        };
        if (isUnique && rules.Minimum is null && rules.Maximum is null)
            return (start + number) % (top + 1);
        var least = rules.Minimum is null ? 0m : Convert.ToDecimal(rules.Minimum, CultureInfo.InvariantCulture);
        var most = rules.Maximum is null
            ? Math.Max(least, Math.Min(top, least + 50))
            : Convert.ToDecimal(rules.Maximum, CultureInfo.InvariantCulture);
        if (rules.Minimum is null && most < least)
            least = most - 50;
        var value = least + ((most - least + (type.IsIntegral ? 1 : 0)) * (decimal)random.NextDouble());
        return type.IsIntegral
            ? Math.Min(most, Math.Floor(value))
            : Math.Round(value, Math.Min(2, type.Scale ?? 2), MidpointRounding.ToZero);
    }

    private string TextOf(Property property, ValueRules rules, int number, bool isUnique)
    {
        var text = new StringBuilder(
            Draft(property.Name.ToLowerInvariant(), isUnique ? (start + number).ToString(CultureInfo.InvariantCulture) : "")
        );
        while (text.Length < (rules.MinLength ?? 0))
            text.Append(' ').Append(Words[random.Next(Words.Length)]);
        var most = Math.Min(property.Type.MaxLength ?? int.MaxValue, rules.MaxLength ?? int.MaxValue);
        // What tells one from another stands at the end.
        return text.Length <= most ? text.ToString()
            : isUnique ? text.ToString()[^most..]
            : text.ToString()[..most].TrimEnd();
    }

    private string Draft(string name, string mark)
    {
        if (name.Contains("mail"))
            return $"{Names[random.Next(Names.Length)].ToLowerInvariant()}{mark}@example.org";
        if (mark.Length > 0)
            return $"S{mark}";
        if (name.Contains("full_name") || name.EndsWith("person", StringComparison.Ordinal))
            return $"{Names[random.Next(Names.Length)]} {Capital(Words[random.Next(Words.Length)])}";
        return name.EndsWith("name", StringComparison.Ordinal)
            ? $"{Capital(Words[random.Next(Words.Length)])} {Words[random.Next(Words.Length)]}"
            : Capital(string.Join(' ', Enumerable.Range(0, random.Next(1, 4)).Select(_ => Words[random.Next(Words.Length)])));
    }

    private static string Capital(string word) => char.ToUpperInvariant(word[0]) + word[1..];
}
