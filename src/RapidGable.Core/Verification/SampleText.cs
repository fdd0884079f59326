using RapidGable.Model;

namespace RapidGable.Verification;

/// <summary>Texts for columns that are published as text and take only texts of one form.</summary>
internal static class SampleText
{
    /// <summary>A text of the form that the column's type wants, as the engine would write it; null = any text will do.</summary>
    /// <param name="number">Different numbers give different texts, where the type has enough of them.</param>
    public static string? Of(Property property, long number)
    {
        var word = property.DeclaredType.Split('(')[0].Trim();
        var (low, byteOf) = (number % 1_000_000_000, number % 250);
        return word switch
        {
            "json" or "jsonb" => $"{{\"sample\": {number}}}",
            "xml" => $"<sample>{number}</sample>",
            "int4range" or "int8range" or "numrange" => $"[{low},{low + 5})",
            "daterange" => $"[{Day(number)},{Day(number + 2)})",
            "tsrange" => $"[\"{Day(number)} 00:00:00\",\"{Day(number + 2)} 00:00:00\")",
            "tstzrange" => $"[\"{Day(number)} 00:00:00+00\",\"{Day(number + 2)} 00:00:00+00\")",
            "int4multirange" or "int8multirange" or "nummultirange" => $"{{[{low},{low + 5})}}",
            "inet" => $"10.{number / 62_500 % 250}.{number / 250 % 250}.{byteOf}/32",
            "cidr" => $"10.{number / 250 % 250}.{byteOf}.0/24",
            "macaddr" => $"08:00:2b:{number / 65_536 % 256:x2}:{number / 256 % 256:x2}:{number % 256:x2}",
            "macaddr8" => $"08:00:2b:ff:fe:{number / 65_536 % 256:x2}:{number / 256 % 256:x2}:{number % 256:x2}",
            "bit" or "bit varying" => Bits(number, property.DeclaredType),
            "time with time zone" => $"{number % 24:00}:{number / 24 % 60:00}:00+00",
            "tsvector" => $"'sample{number}'",
            "ltree" => $"sample.s{number}",
            "hstore" => $"\"sample\"=>\"{number}\"",
            _ when property.MediaType == "application/json" => $"{{\"sample\": {number}}}",
            _ => null,
        };
    }

    private static string Day(long number) =>
        new DateOnly(2024, 1, 1).AddDays((int)(number % 20_000)).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);

    private static string Bits(long number, string declared)
    {
        var digits = declared.Contains('(') && int.TryParse(declared.Split('(', ')')[1], out var length) ? length : 8;
        var bits = Convert.ToString(number, 2).PadLeft(digits, '0');
        return bits[^digits..];
    }
}
