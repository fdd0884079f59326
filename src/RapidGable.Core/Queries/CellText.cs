using System.Buffers.Text;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using System.Xml;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>Cells of rows as text: raw values and entity tags.</summary>
internal static class CellText
{
    public static string InstantFormat(EdmType type)
    {
        var digits = Math.Min(7, type.Precision ?? 0);
        return "yyyy-MM-dd'T'HH:mm:ss" + (digits > 0 ? "." + new string('f', digits) : "") + "'Z'";
    }

    /// <summary>The value of a cell as <c>/$value</c> gives it (Protocol 11.2.4.1); not for binary.</summary>
    public static string Raw(ShapeCell cell, IRowCursor row) =>
        cell.Property.Conversion is not null
            ? Raw(RowValue.Published(row, cell.Property, cell.Column), cell.Property.Type)
            : cell.Property.Type.Kind switch
            {
                EdmKind.Boolean => row.GetBoolean(cell.Column) ? "true" : "false",
                EdmKind.Byte or EdmKind.SByte or EdmKind.Int16 or EdmKind.Int32 or EdmKind.Int64 => row.GetInt64(cell.Column)
                    .ToString(CultureInfo.InvariantCulture),
                EdmKind.Decimal => row.TryGetDecimal(cell.Column, out var number)
                    ? number.ToString(CultureInfo.InvariantCulture)
                    : LongNumber(row, cell.Column),
                EdmKind.Single or EdmKind.Double => ValueConversion.Text(row.GetDouble(cell.Column)),
                EdmKind.Guid => row.GetGuid(cell.Column).ToString(),
                EdmKind.Date => row.GetDate(cell.Column).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
                EdmKind.TimeOfDay => row.GetTimeOfDay(cell.Column).ToString("HH:mm:ss.FFFFFFF", CultureInfo.InvariantCulture),
                EdmKind.DateTimeOffset => row.GetInstant(cell.Column)
                    .ToString(InstantFormat(cell.Property.Type), CultureInfo.InvariantCulture),
                EdmKind.Duration => XmlConvert.ToString(row.GetDuration(cell.Column)),
                EdmKind.Binary => Base64Url.EncodeToString(row.GetBytes(cell.Column)),
                _ => Encoding.UTF8.GetString(row.GetUtf8(cell.Column)),
            };

    private static string LongNumber(IRowCursor row, int column) =>
        row.GetNumber(column) is var number && char.IsAsciiDigit(number[^1]) ? number : throw row.Odd(column);

    /// <summary>A converted value in the same forms.</summary>
    public static string Raw(object value, EdmType type) =>
        value switch
        {
            DateTime instant => instant.ToString(InstantFormat(type), CultureInfo.InvariantCulture),
            TimeSpan duration => XmlConvert.ToString(duration),
            decimal number => number.ToString(CultureInfo.InvariantCulture),
            _ => ValueConversion.Text(value),
        };

    /// <summary>The weak entity tag that a version's value makes (RFC 9110 8.8.3); null when the row has none.</summary>
    public static string? ETag(ShapeCell version, IRowCursor row) =>
        row.IsNull(version.Column) ? null : $"W/\"{Uri.EscapeDataString(Raw(version, row))}\"";

    /// <summary>The weak entity tag of the current row's entity; null = it has none.</summary>
    public static string? ETag(EntityShape entity, IRowCursor row)
    {
        if (entity.Version is { } version)
            return ETag(version, row);
        if (entity.RowState.IsEmpty)
            return null;
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (var cell in entity.RowState)
        {
            hash.AppendData(Encoding.UTF8.GetBytes(row.IsNull(cell.Column) ? "NULL" : row.GetStored(cell.Column).ToString()));
            hash.AppendData("\n"u8);
        }
        return $"W/\"{Convert.ToHexStringLower(hash.GetHashAndReset().AsSpan(0, 12))}\"";
    }
}
