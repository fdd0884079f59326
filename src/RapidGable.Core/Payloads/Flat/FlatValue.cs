using System.Buffers;
using System.Text;
using System.Text.Json;
using RapidGable.Model;
using RapidGable.Payloads.Json;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Payloads.Flat;

/// <summary>Values of cells as texts, as every flat format writes them.</summary>
internal static class FlatValue
{
    /// <summary>Digits of a number that spreadsheet programs keep.</summary>
    public const int KeptDigits = 15;

    /// <summary>The first whole number with more digits than those.</summary>
    public const long BeyondDigits = 1_000_000_000_000_000;

    /// <summary>The digits of a number that is written out.</summary>
    public static int Digits(ReadOnlySpan<byte> number)
    {
        var digits = 0;
        foreach (var sign in number)
            digits += char.IsAsciiDigit((char)sign) ? 1 : 0;
        return digits;
    }

    /// <summary>A value that is kept as JSON: a collection, or a complex value without columns of its own.</summary>
    public static bool IsJson(Property property) => property.Conversion is JsonConversion || property.Type.IsCollection;

    /// <summary>Whether the row holds a value that no format has, and that is served as none.</summary>
    /// <exception cref="SourceException">It holds one that is not to be served so.</exception>
    public static bool IsOdd(ShapeCell cell, IRowCursor row)
    {
        if (cell.Property.Conversion is not null)
            return false;
        var isFine = cell.Property.Type.Kind switch
        {
            EdmKind.Date => row.TryGetDate(cell.Column, out _),
            EdmKind.DateTimeOffset => row.TryGetInstant(cell.Column, out _),
            EdmKind.Duration => row.TryGetDuration(cell.Column, out _),
            EdmKind.Decimal => row.TryGetDecimal(cell.Column, out _) || char.IsAsciiDigit(row.GetNumber(cell.Column)[^1]),
            _ => true,
        };
        return !isFine && (cell.Property.ServesUnrepresentableAsNull ? true : throw row.Odd(cell.Column));
    }

    /// <summary>The published JSON of a value that is kept as JSON.</summary>
    public static byte[] Json(ShapeCell cell, IRowCursor row)
    {
        var buffer = new ArrayBufferWriter<byte>();
        using (var json = new Utf8JsonWriter(buffer, JsonRows.WriterOptions))
            RowValue.WriteJson(json, row, cell.Property, cell.Column, numbersAsText: false);
        return buffer.WrittenSpan.ToArray();
    }

    /// <summary>Any other value as its text.</summary>
    public static string Text(ShapeCell cell, IRowCursor row)
    {
        if (!cell.Property.IsDynamic || cell.Property.Type.Kind != EdmKind.Decimal || !row.TryGetDecimal(cell.Column, out var number))
            return CellText.Raw(cell, row);
        // What is computed may come with zeros that nobody asked for.
        return CellText.Raw(number / 1.000000000000000000000000000000000m, cell.Property.Type);
    }

    /// <summary>A text that is kept as it is published, so that its bytes can be copied.</summary>
    public static bool IsPlainText(Property property) =>
        property is { Type: { Kind: EdmKind.String, IsCollection: false }, Conversion: null };

    /// <summary>The bytes of such a text.</summary>
    /// <exception cref="SourceException">They are not UTF-8.</exception>
    public static ReadOnlySpan<byte> PlainText(ShapeCell cell, IRowCursor row)
    {
        var text = row.GetUtf8(cell.Column);
        return System.Text.Unicode.Utf8.IsValid(text)
            ? text
            : throw new SourceException(SourceFaultKind.BadData, $"A text of column '{cell.Property.Column}' is not valid UTF-8.");
    }

    /// <summary>The UTF-8 of a text.</summary>
    public static byte[] Bytes(string text) => Encoding.UTF8.GetBytes(text);
}
