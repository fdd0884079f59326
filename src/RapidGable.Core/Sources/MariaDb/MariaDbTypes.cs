using MySqlConnector;
using RapidGable.Model;

namespace RapidGable.Sources.MariaDb;

/// <summary>Column types of the catalog -> types with facets (docs/declaration.md lists them).</summary>
internal static class MariaDbTypes
{
    /// <summary>DATA_TYPE of a result's column.</summary>
    public static string Name(MySqlDbType type) =>
        type switch
        {
            MySqlDbType.Bool => "bool",
            MySqlDbType.Byte or MySqlDbType.UByte => "tinyint",
            MySqlDbType.Int16 or MySqlDbType.UInt16 => "smallint",
            MySqlDbType.Int24 or MySqlDbType.UInt24 => "mediumint",
            MySqlDbType.Int32 or MySqlDbType.UInt32 => "int",
            MySqlDbType.Int64 or MySqlDbType.UInt64 => "bigint",
            MySqlDbType.NewDecimal or MySqlDbType.Decimal => "decimal",
            MySqlDbType.VarString or MySqlDbType.VarChar or MySqlDbType.String => "varchar",
            MySqlDbType.Blob or MySqlDbType.TinyBlob or MySqlDbType.MediumBlob or MySqlDbType.LongBlob => "blob",
            MySqlDbType.Text or MySqlDbType.TinyText or MySqlDbType.MediumText or MySqlDbType.LongText => "text",
            MySqlDbType.Newdate => "date",
            MySqlDbType.Guid => "uuid",
            _ => type.ToString().ToLowerInvariant(),
        };

    /// <param name="name">DATA_TYPE, such as <c>int</c>.</param>
    /// <param name="whole">COLUMN_TYPE, such as <c>int(10) unsigned</c>.</param>
    public static (EdmType? Type, string Reason) Map(string name, string whole, long? length, int? precision, int? scale, int? fraction)
    {
        var unsigned = whole.Contains("unsigned", StringComparison.Ordinal);
        var type = name switch
        {
            "tinyint" => whole.StartsWith("tinyint(1)", StringComparison.Ordinal)
                ? EdmType.Boolean
                : new EdmType(unsigned ? EdmKind.Byte : EdmKind.SByte),
            "smallint" => unsigned ? EdmType.Int32 : new EdmType(EdmKind.Int16),
            "mediumint" => EdmType.Int32,
            "int" => unsigned ? EdmType.Int64 : EdmType.Int32,
            "bigint" => unsigned ? new EdmType(EdmKind.Decimal, Precision: 20, Scale: 0) : EdmType.Int64,
            "decimal" => new EdmType(EdmKind.Decimal, Precision: precision, Scale: scale ?? 0),
            "float" => new EdmType(EdmKind.Single),
            "double" => EdmType.Double,
            "bit" => precision == 1 ? EdmType.Boolean
            : precision <= 63 ? EdmType.Int64
            : new EdmType(EdmKind.Decimal, Precision: 20, Scale: 0),
            "year" => new EdmType(EdmKind.Int16),
            "char" or "varchar" => length is > 0 ? new EdmType(EdmKind.String, MaxLength: (int)length) : EdmType.String,
            // The limits of these count bytes, so no length in characters can be promised.
            "tinytext" or "text" or "mediumtext" or "longtext" or "json" or "enum" or "set" or "inet4" or "inet6" => EdmType.String,
            "binary" or "varbinary" => length is > 0 ? new EdmType(EdmKind.Binary, MaxLength: (int)length) : EdmType.Binary,
            "tinyblob" or "blob" or "mediumblob" or "longblob" => EdmType.Binary,
            "date" => EdmType.Date,
            "datetime" or "timestamp" => new EdmType(EdmKind.DateTimeOffset, Precision: fraction ?? 0),
            "time" => new EdmType(EdmKind.Duration, Precision: fraction ?? 0),
            "uuid" => EdmType.Guid,
            _ => null,
        };
        return (
            type,
            type is null ? $"the type {whole} has no counterpart"
            : name == "datetime" ? $"{whole}, taken as UTC"
            : whole
        );
    }
}
