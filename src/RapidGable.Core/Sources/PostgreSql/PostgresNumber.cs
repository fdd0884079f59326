using System.Buffers.Binary;
using System.Text;

namespace RapidGable.Sources.PostgreSql;

/// <summary>The server's binary form of numeric as text: groups of four decimal digits, of any number, around a point.</summary>
internal static class PostgresNumber
{
    /// <summary>The number as SQL and JSON write it, or NaN, Infinity, -Infinity.</summary>
    /// <param name="value">Number of groups, weight of the first, sign, digits after the point, then the groups, two bytes each.</param>
    public static string Text(ReadOnlySpan<byte> value)
    {
        int Word(ReadOnlySpan<byte> bytes, int index) => BinaryPrimitives.ReadInt16BigEndian(bytes[(2 * index)..]);
        var (groups, weight, scale) = (Word(value, 0), Word(value, 1), Word(value, 3));
        var sign = BinaryPrimitives.ReadUInt16BigEndian(value[4..]);
        switch (sign)
        {
            case 0xC000:
                return "NaN";
            case 0xD000:
                return "Infinity";
            case 0xF000:
                return "-Infinity";
        }
        var text = new StringBuilder(sign == 0x4000 ? "-" : "");
        int Group(ReadOnlySpan<byte> bytes, int position) => position >= 0 && position < groups ? Word(bytes, 4 + position) : 0;
        if (weight < 0)
            text.Append('0');
        for (var i = 0; i <= weight; i++)
            text.Append(Group(value, i).ToString(i == 0 ? "0" : "0000", System.Globalization.CultureInfo.InvariantCulture));
        if (scale == 0)
            return text.ToString();
        text.Append('.');
        var end = text.Length + scale;
        for (var i = weight + 1; text.Length < end; i++)
            text.Append(Group(value, i).ToString("0000", System.Globalization.CultureInfo.InvariantCulture));
        text.Length = end;
        return text.ToString();
    }
}
