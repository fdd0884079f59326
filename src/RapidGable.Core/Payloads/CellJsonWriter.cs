using System.Buffers.Text;
using System.Globalization;
using System.Text.Json;
using System.Xml;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Payloads;

/// <summary>
/// Writes the values of one property (JSON format 7.1). Chosen once for a property; its name is encoded once; a value
/// goes from the cursor to the payload without becoming an object.
/// </summary>
internal abstract class CellJsonWriter
{
    private readonly JsonEncodedText _name;
    private readonly Property _property;

    private CellJsonWriter(Property property, string name)
    {
        _property = property;
        _name = JsonEncodedText.Encode(name, JsonText.Encoder);
    }

    /// <param name="name">The member's name; mostly the property's.</param>
    public static CellJsonWriter For(Property property, string name, PayloadFormat format) => property.Type.Kind switch
    {
        EdmKind.Boolean => new BooleanCell(property, name),
        EdmKind.Int64 when format.Ieee754Compatible => new Int64TextCell(property, name),
        EdmKind.Byte or EdmKind.SByte or EdmKind.Int16 or EdmKind.Int32 or EdmKind.Int64 => new IntegerCell(property, name),
        EdmKind.Decimal => new DecimalCell(property, name, format.Ieee754Compatible),
        EdmKind.Single or EdmKind.Double => new DoubleCell(property, name),
        EdmKind.String => new StringCell(property, name),
        EdmKind.Guid => new GuidCell(property, name),
        EdmKind.Date => new DateCell(property, name),
        EdmKind.TimeOfDay => new TimeCell(property, name),
        EdmKind.DateTimeOffset => new InstantCell(property, name),
        EdmKind.Duration => new DurationCell(property, name),
        EdmKind.Binary => new BinaryCell(property, name),
        _ => throw new ArgumentOutOfRangeException(nameof(property), property.Type.Name),
    };

    public void Write(Utf8JsonWriter json, IRowCursor row, int column)
    {
        json.WritePropertyName(_name);
        if (!row.IsNull(column))
            WriteValue(json, row, column);
        else if (_property.Nullable)
            json.WriteNullValue();
        else
            throw new SourceException(SourceFaultKind.BadData, $"Column '{_property.Column}' holds a null, and is published as never null.");
    }

    protected abstract void WriteValue(Utf8JsonWriter json, IRowCursor row, int column);

    private sealed class BooleanCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column) => json.WriteBooleanValue(row.GetBoolean(column));
    }

    private sealed class IntegerCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column) => json.WriteNumberValue(row.GetInt64(column));
    }

    private sealed class Int64TextCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            Span<byte> text = stackalloc byte[24];
            Utf8Formatter.TryFormat(row.GetInt64(column), text, out var length);
            json.WriteStringValue(text[..length]);
        }
    }

    private sealed class DecimalCell(Property property, string name, bool asText) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            var value = row.GetDecimal(column);
            if (asText)
                json.WriteStringValue(value.ToString(CultureInfo.InvariantCulture));
            else
                json.WriteNumberValue(value);
        }
    }

    private sealed class DoubleCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            var value = row.GetDouble(column);
            if (double.IsFinite(value))
                json.WriteNumberValue(value);
            else
                json.WriteStringValue(double.IsNaN(value) ? "NaN"u8 : value > 0 ? "INF"u8 : "-INF"u8);
        }
    }

    private sealed class StringCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            try
            {
                json.WriteStringValue(row.GetUtf8(column));
            }
            catch (ArgumentException)
            {
                throw new SourceException(SourceFaultKind.BadData, $"A text of column '{_property.Column}' is not valid UTF-8.");
            }
        }
    }

    private sealed class GuidCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column) => json.WriteStringValue(row.GetGuid(column));
    }

    private sealed class DateCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            Span<byte> text = stackalloc byte[16];
            row.GetDate(column).TryFormat(text, out var length, "yyyy-MM-dd", CultureInfo.InvariantCulture);
            json.WriteStringValue(text[..length]);
        }
    }

    private sealed class TimeCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            Span<byte> text = stackalloc byte[24];
            row.GetTimeOfDay(column).TryFormat(text, out var length, "HH:mm:ss.FFFFFFF", CultureInfo.InvariantCulture);
            json.WriteStringValue(text[..length]);
        }
    }

    private sealed class InstantCell(Property property, string name) : CellJsonWriter(property, name)
    {
        private readonly string _format = ValueText.InstantFormat(property.Type);

        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            Span<byte> text = stackalloc byte[40];
            row.GetInstant(column).TryFormat(text, out var length, _format, CultureInfo.InvariantCulture);
            json.WriteStringValue(text[..length]);
        }
    }

    private sealed class DurationCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column) =>
            json.WriteStringValue(XmlConvert.ToString(row.GetDuration(column)));
    }

    private sealed class BinaryCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column) =>
            json.WriteStringValue(Base64Url.EncodeToUtf8(row.GetBytes(column)));
    }
}
