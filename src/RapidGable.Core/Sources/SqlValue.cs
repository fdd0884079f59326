using System.Globalization;

namespace RapidGable.Sources;

/// <summary>The kinds of value that cross the border to a database.</summary>
public enum SqlValueKind
{
    Null, Int64, Double, Text, Blob,
}

/// <summary>One value as it is stored or bound: parameters, and the positions kept in next links.</summary>
public readonly record struct SqlValue
{
    private readonly object? _reference;
    private readonly long _bits;

    private SqlValue(SqlValueKind kind, long bits, object? reference)
    {
        Kind = kind;
        _bits = bits;
        _reference = reference;
    }

    public static SqlValue Null => default;

    public SqlValueKind Kind { get; }

    public long Int64 => _bits;

    public double Double => BitConverter.Int64BitsToDouble(_bits);

    public string Text => (string)_reference!;

    public byte[] Blob => (byte[])_reference!;

    public static SqlValue From(long value) => new(SqlValueKind.Int64, value, null);

    public static SqlValue From(double value) => new(SqlValueKind.Double, BitConverter.DoubleToInt64Bits(value), null);

    public static SqlValue From(string value) => new(SqlValueKind.Text, 0, value);

    public static SqlValue From(byte[] value) => new(SqlValueKind.Blob, 0, value);

    /// <summary>The value for people, as <c>gable explain</c> shows it.</summary>
    public override string ToString() => Kind switch
    {
        SqlValueKind.Null => "NULL",
        SqlValueKind.Int64 => Int64.ToString(CultureInfo.InvariantCulture),
        SqlValueKind.Double => Double.ToString("R", CultureInfo.InvariantCulture),
        SqlValueKind.Text => $"'{Text.Replace("'", "''", StringComparison.Ordinal)}'",
        _ => "X'" + Convert.ToHexString(Blob) + "'",
    };
}
