namespace RapidGable.Model;

/// <summary>The kinds of type that a property may have: the primitive types (CSDL 3.3), and the ones that a service declares.</summary>
public enum EdmKind
{
    Boolean,
    Byte,
    SByte,
    Int16,
    Int32,
    Int64,
    Decimal,
    Single,
    Double,
    String,
    Guid,
    Date,
    TimeOfDay,
    DateTimeOffset,
    Duration,
    Binary,
    Stream,
    Enum,
    Complex,
}

/// <summary>A type with its facets; a facet that is not known is null (CSDL 7.2).</summary>
/// <param name="Kind">Which primitive type.</param>
/// <param name="MaxLength">Characters of a String, bytes of a Binary; null = no limit stated.</param>
/// <param name="Precision">Significant digits of a Decimal, fraction digits of a temporal type.</param>
/// <param name="Scale">Digits after the point of a Decimal; null on a Decimal means <c>variable</c>.</param>
public sealed record EdmType(EdmKind Kind, int? MaxLength = null, int? Precision = null, int? Scale = null)
{
    public static readonly EdmType Boolean = new(EdmKind.Boolean);
    public static readonly EdmType Int32 = new(EdmKind.Int32);
    public static readonly EdmType Int64 = new(EdmKind.Int64);
    public static readonly EdmType Double = new(EdmKind.Double);
    public static readonly EdmType Decimal = new(EdmKind.Decimal);
    public static readonly EdmType String = new(EdmKind.String);
    public static readonly EdmType Guid = new(EdmKind.Guid);
    public static readonly EdmType Date = new(EdmKind.Date);
    public static readonly EdmType TimeOfDay = new(EdmKind.TimeOfDay, Precision: 7);
    public static readonly EdmType DateTimeOffset = new(EdmKind.DateTimeOffset, Precision: 7);
    public static readonly EdmType Duration = new(EdmKind.Duration, Precision: 7);
    public static readonly EdmType Binary = new(EdmKind.Binary);

    /// <summary>For <see cref="EdmKind.Enum"/>.</summary>
    public EnumType? Enum { get; init; }

    /// <summary>For <see cref="EdmKind.Complex"/>.</summary>
    public ComplexType? Complex { get; init; }

    /// <summary>Many values instead of one; the rest speaks of each.</summary>
    public bool IsCollection { get; init; }

    /// <summary>The qualified name, such as <c>Edm.Int64</c> or <c>Collection(Edm.String)</c>.</summary>
    public string Name => IsCollection ? $"Collection({ItemName})" : ItemName;

    private string ItemName => Enum?.QualifiedName ?? Complex?.QualifiedName ?? "Edm." + Kind;

    public bool IsNumeric =>
        !IsCollection
        && Kind
            is EdmKind.Byte
                or EdmKind.SByte
                or EdmKind.Int16
                or EdmKind.Int32
                or EdmKind.Int64
                or EdmKind.Decimal
                or EdmKind.Single
                or EdmKind.Double;

    public bool IsIntegral => Kind is EdmKind.Byte or EdmKind.SByte or EdmKind.Int16 or EdmKind.Int32 or EdmKind.Int64;

    /// <summary>The least and the largest number of an integral type.</summary>
    public (long Least, long Most) Bounds =>
        Kind switch
        {
            EdmKind.Byte => (byte.MinValue, byte.MaxValue),
            EdmKind.SByte => (sbyte.MinValue, sbyte.MaxValue),
            EdmKind.Int16 => (short.MinValue, short.MaxValue),
            EdmKind.Int32 => (int.MinValue, int.MaxValue),
            _ => (long.MinValue, long.MaxValue),
        };

    public bool IsFloating => Kind is EdmKind.Single or EdmKind.Double;

    /// <summary>Whether the type may be the type of a key property (CSDL 6.5).</summary>
    public bool MayBeKey => !IsFloating && !IsCollection && Kind is not (EdmKind.Binary or EdmKind.Stream or EdmKind.Complex);

    /// <summary>The type with its facets for people, such as <c>Edm.Decimal(12,4)</c>.</summary>
    public override string ToString() =>
        Kind switch
        {
            EdmKind.Decimal when Precision is { } p => $"{Name}({p},{Scale?.ToString() ?? "variable"})",
            EdmKind.String or EdmKind.Binary when MaxLength is { } n => $"{Name}({n})",
            EdmKind.DateTimeOffset or EdmKind.TimeOfDay or EdmKind.Duration when Precision is > 0 => $"{Name}({Precision})",
            _ => Name,
        };
}
