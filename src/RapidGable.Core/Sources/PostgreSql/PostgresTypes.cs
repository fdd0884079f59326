using RapidGable.Model;

namespace RapidGable.Sources.PostgreSql;

/// <summary>Column types of the catalog -> types with facets (docs/declaration.md lists them).</summary>
internal static class PostgresTypes
{
    /// <summary>How a column is cast to text when it has no type of its own here.</summary>
    public const string AsText = "text";

    /// <summary>A text whose collation takes different texts as equal.</summary>
    public const string Loose = "loose";

    /// <summary>A timestamp without a zone, which counts as UTC.</summary>
    public const string Local = "local";

    /// <summary>Money, read as a number.</summary>
    public const string AsNumber = "numeric";

    /// <param name="name">Base type's name in pg_type.</param>
    /// <param name="kind">typtype: b base, e enum, d domain, c composite, r range.</param>
    /// <param name="category">typcategory; A = array.</param>
    /// <param name="modifier">Type modifier; -1 = none.</param>
    public static (EdmType? Type, string? StorageForm, string? MediaType, string Reason) Map(
        string name,
        char kind,
        char category,
        int modifier,
        string shown
    )
    {
        var reason = shown;
        if (category == 'A')
            return (null, null, null, $"the elements of {shown} have no counterpart");
        if (kind == 'e')
            return (EdmType.String, AsText, null, $"enum {shown}, as text");
        return name switch
        {
            "bool" => (EdmType.Boolean, null, null, reason),
            "int2" => (new EdmType(EdmKind.Int16), null, null, reason),
            "int4" => (EdmType.Int32, null, null, reason),
            "int8" => (EdmType.Int64, null, null, reason),
            "numeric" => (Numeric(modifier), null, null, reason),
            "money" => (new EdmType(EdmKind.Decimal, Precision: 19, Scale: 2), AsNumber, null, reason),
            "float4" => (new EdmType(EdmKind.Single), null, null, reason),
            "float8" => (EdmType.Double, null, null, reason),
            "text" or "name" => (EdmType.String, null, null, reason),
            "varchar" or "bpchar" => (
                modifier > 4 ? new EdmType(EdmKind.String, MaxLength: modifier - 4) : EdmType.String,
                name == "bpchar" ? AsText : null,
                null,
                reason
            ),
            "uuid" => (EdmType.Guid, null, null, reason),
            "date" => (EdmType.Date, null, null, reason),
            "time" => (new EdmType(EdmKind.TimeOfDay, Precision: Fraction(modifier)), null, null, reason),
            "timestamptz" => (new EdmType(EdmKind.DateTimeOffset, Precision: Fraction(modifier)), null, null, reason),
            "timestamp" => (new EdmType(EdmKind.DateTimeOffset, Precision: Fraction(modifier)), Local, null, $"{shown}, taken as UTC"),
            "interval" => (new EdmType(EdmKind.Duration, Precision: 6), null, null, reason),
            "bytea" => (EdmType.Binary, null, null, reason),
            "json" or "jsonb" => (EdmType.String, AsText, "application/json", reason),
            "xml" => (EdmType.String, AsText, "application/xml", reason),
            "citext" or "timetz" or "inet" or "cidr" or "macaddr" or "macaddr8" or "bit" or "varbit" or "tsvector" or "ltree" or "hstore" =>
                (EdmType.String, AsText, null, $"{shown}, as text"),
            "oid" or "xid" => (EdmType.Int64, "bigint", null, reason),
            _ when kind is 'r' or 'm' => (EdmType.String, AsText, null, $"range {shown}, as text"),
            _ when kind == 'c' => (null, null, null, $"the composite type {shown}"),
            _ => (null, null, null, $"the type {shown} has no counterpart"),
        };
    }

    /// <summary>A text that holds a uuid.</summary>
    public const string AsUuid = "uuid";

    /// <summary>Values of several parts, as JSON text.</summary>
    public const string AsJson = "json";

    /// <summary>The type of an array's elements as they stand in JSON; null when they have none there.</summary>
    public static EdmType? Element(string name, char kind, string shown) =>
        Map(name, kind, 'X', -1, shown).Type is { Kind: not (EdmKind.Binary or EdmKind.Duration or EdmKind.TimeOfDay) } type
        && Map(name, kind, 'X', -1, shown).MediaType is null
            ? type
            : null;

    private static EdmType Numeric(int modifier)
    {
        if (modifier < 4)
            return EdmType.Decimal;
        var precision = ((modifier - 4) >> 16) & 0xFFFF;
        var scale = (modifier - 4) & 0x7FF;
        // A negative scale, or one above the precision, has no facet form (T-24).
        return scale > precision ? EdmType.Decimal : new EdmType(EdmKind.Decimal, Precision: precision, Scale: scale);
    }

    private static int Fraction(int modifier) => modifier < 0 ? 6 : modifier;
}
