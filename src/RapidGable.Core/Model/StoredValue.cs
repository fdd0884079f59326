using System.Globalization;

namespace RapidGable.Model;

/// <summary>The kinds of value that cross the border to a database.</summary>
public enum StoredValueKind
{
    Null,
    Int64,
    Double,
    Text,
    Blob,
}

/// <summary>One value as it is stored or bound: parameters, and the positions kept in next links.</summary>
public readonly record struct StoredValue
{
    private readonly object? _reference;
    private readonly long _bits;

    private StoredValue(StoredValueKind kind, long bits, object? reference)
    {
        Kind = kind;
        _bits = bits;
        _reference = reference;
    }

    public static StoredValue Null => default;

    public StoredValueKind Kind { get; }

    public long Int64 => _bits;

    public double Double => BitConverter.Int64BitsToDouble(_bits);

    public string Text => (string)_reference!;

    public byte[] Blob => (byte[])_reference!;

    /// <summary>A value as it is sent to the source.</summary>
    public static StoredValue From(long value) => new(StoredValueKind.Int64, value, null);

    /// <summary>A value as it is sent to the source.</summary>
    public static StoredValue From(double value) => new(StoredValueKind.Double, BitConverter.DoubleToInt64Bits(value), null);

    /// <summary>
    /// The double that is nearest to a decimal; the runtime's own conversion may be the one beside it when there are more than 15
    /// digits.
    /// </summary>
    public static double Nearest(decimal number) =>
        double.Parse(number.ToString(CultureInfo.InvariantCulture), CultureInfo.InvariantCulture);

    /// <summary>A value as it is sent to the source.</summary>
    public static StoredValue From(string value) => new(StoredValueKind.Text, 0, value);

    /// <summary>A value as it is sent to the source.</summary>
    public static StoredValue From(byte[] value) => new(StoredValueKind.Blob, 0, value);

    /// <summary>The value for people, as <c>gable explain</c> shows it.</summary>
    public override string ToString() =>
        Kind switch
        {
            StoredValueKind.Null => "NULL",
            StoredValueKind.Int64 => Int64.ToString(CultureInfo.InvariantCulture),
            StoredValueKind.Double => Double.ToString("R", CultureInfo.InvariantCulture),
            StoredValueKind.Text => $"'{Text.Replace("'", "''", StringComparison.Ordinal)}'",
            _ => "X'" + Convert.ToHexString(Blob) + "'",
        };
}
