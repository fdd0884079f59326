using System.Buffers.Text;
using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Xml;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Payloads.Json;

/// <summary>
/// Writes the values of one property (JSON format 7.1). Chosen once for a property; its name is encoded once; a value
/// goes from the cursor to the payload without becoming an object.
/// </summary>
internal abstract class CellJsonWriter
{
    private readonly JsonEncodedText _name;
    private (JsonEncodedText Name, string Value)? _type;
    private bool _omitsNulls;
    private int _presence = -1;

    private CellJsonWriter(Property property, string name)
    {
        Property = property;
        _name = JsonEncodedText.Encode(name, JsonText.Encoder);
    }

    protected Property Property { get; }

    /// <param name="name">The member's name; mostly the property's.</param>
    public static CellJsonWriter For(ShapeCell cell, string name, PayloadFormat format)
    {
        var writer = cell.Property.IsGroup ? new GroupCell(cell, name, format) : For(cell.Property, name, format);
        writer._omitsNulls = format.OmitsNulls;
        writer._presence = cell.Presence ?? -1;
        var isComplex = cell.Property.Type is { Kind: EdmKind.Complex, IsCollection: false };
        if (StatesType(cell.Property, format) && !isComplex)
            writer._type = (
                JsonEncodedText.Encode(name + format.Control("type"), JsonText.Encoder),
                "#" + cell.Property.Type.Name.Replace("Edm.", "", StringComparison.Ordinal)
            );
        return writer;
    }

    /// <summary>The member that says inside of a complex value what it is (JSON format 4.5.3); null = nothing says it.</summary>
    private static string? TypeMember(Property property, PayloadFormat format) =>
        StatesType(property, format) && property.Type.Kind == EdmKind.Complex ? format.Control("type") : null;

    /// <summary>
    /// Whether the type stands beside the value: for what the type does not declare, and at the level full, unless JSON tells it (JSON
    /// format 4.5.3).
    /// </summary>
    private static bool StatesType(Property property, PayloadFormat format) =>
        format.HasContext
        && (property.IsDynamic || format.IsFull)
        && (
            property.IsGroup
                ? !property.IsDynamic
                : property.Type.IsCollection || property.Type.Kind is not (EdmKind.String or EdmKind.Boolean or EdmKind.Double)
        );

    private static CellJsonWriter For(Property property, string name, PayloadFormat format) =>
        property switch
        {
            { Conversion: JsonConversion } => new JsonCell(property, name, format.Ieee754Compatible, TypeMember(property, format)),
            { Conversion: EnumConversion { Stored.Kind: EdmKind.String } conversion } => new EnumCell(property, name, conversion.Enum),
            { Conversion: not null } => new ConvertedCell(property, name, format.Ieee754Compatible),
            _ => Plain(property, name, format),
        };

    private static CellJsonWriter Plain(Property property, string name, PayloadFormat format) =>
        property.Type.Kind switch
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

    /// <summary>Whether the row has the property at all.</summary>
    protected virtual bool IsPresent(IRowCursor row) => _presence < 0 || (!row.IsNull(_presence) && row.GetInt64(_presence) != 0);

    public virtual void Write(Utf8JsonWriter json, IRowCursor row, int column)
    {
        if (!IsPresent(row))
            return;
        if (_omitsNulls && Property.Nullable && row.IsNull(column))
            return;
        if (_type is { } type)
            json.WriteString(type.Name, type.Value);
        json.WritePropertyName(_name);
        if (!row.IsNull(column))
            WriteValue(json, row, column);
        else if (Property.Nullable)
            json.WriteNullValue();
        else if (Property.Type.IsCollection)
        {
            // A collection is never null (CSDL 7.2.1): an array that is not there is an empty one.
            json.WriteStartArray();
            json.WriteEndArray();
        }
        else
            throw new SourceException(SourceFaultKind.BadData, $"Column '{Property.Column}' holds a null, and is published as never null.");
    }

    /// <summary>The members of a complex value without its braces.</summary>
    public virtual void WriteMembers(Utf8JsonWriter json, IRowCursor row) => throw new InvalidOperationException(Property.Name);

    protected abstract void WriteValue(Utf8JsonWriter json, IRowCursor row, int column);

    private void WriteUnrepresentable(Utf8JsonWriter json, IRowCursor row, int column)
    {
        if (!Property.ServesUnrepresentableAsNull)
            throw row.Odd(column);
        json.WriteNullValue();
    }

    /// <summary>A complex value that is made of columns.</summary>
    private sealed class GroupCell(ShapeCell cell, string name, PayloadFormat format) : CellJsonWriter(cell.Property, name)
    {
        private readonly string? _typeMember = TypeMember(cell.Property, format);
        private readonly ImmutableArray<(CellJsonWriter Writer, int Column)> _members =
        [
            .. cell.Members.Select(m => (For(m, m.Property.Name, format), m.Column)),
        ];

        protected override bool IsPresent(IRowCursor row) => _members.Any(m => m.Writer.IsPresent(row));

        public override void Write(Utf8JsonWriter json, IRowCursor row, int column)
        {
            if (!IsPresent(row))
                return;
            json.WritePropertyName(_name);
            WriteValue(json, row, column);
        }

        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            json.WriteStartObject();
            if (_typeMember is not null)
                json.WriteString(_typeMember, "#" + Property.Type.Name);
            WriteMembers(json, row);
            json.WriteEndObject();
        }

        public override void WriteMembers(Utf8JsonWriter json, IRowCursor row)
        {
            foreach (var (writer, memberColumn) in _members)
                writer.Write(json, row, memberColumn);
        }
    }

    /// <summary>JSON that the source keeps as text.</summary>
    private sealed class JsonCell(Property property, string name, bool numbersAsText, string? typeMember) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column) =>
            RowValue.WriteJson(json, row, Property, column, numbersAsText, typeMember);
    }

    /// <summary>A member of an enumeration that is kept as text; its name is encoded once.</summary>
    private sealed class EnumCell(Property property, string name, EnumType type) : CellJsonWriter(property, name)
    {
        private readonly ImmutableArray<(byte[] Stored, JsonEncodedText Name)> _members =
        [
            .. type.Members.Select(m => (Encoding.UTF8.GetBytes(m.Stored), JsonEncodedText.Encode(m.Name, JsonText.Encoder))),
        ];

        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            var stored = row.GetUtf8(column);
            foreach (var (text, member) in _members)
            {
                if (!stored.SequenceEqual(text))
                    continue;
                json.WriteStringValue(member);
                return;
            }
            // None of them: says so with the value.
            RowValue.Published(row, Property, column);
        }
    }

    /// <summary>Any other value whose stored form is not the published one.</summary>
    private sealed class ConvertedCell(Property property, string name, bool numbersAsText) : CellJsonWriter(property, name)
    {
        private readonly string _instantFormat = CellText.InstantFormat(property.Type);

        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            switch (RowValue.Published(row, Property, column))
            {
                case long number when numbersAsText && Property.Type.Kind == EdmKind.Int64:
                    json.WriteStringValue(number.ToString(CultureInfo.InvariantCulture));
                    break;
                case decimal number when numbersAsText:
                    json.WriteStringValue(number.ToString(CultureInfo.InvariantCulture));
                    break;
                case DateTime instant:
                    json.WriteStringValue(instant.ToString(_instantFormat, CultureInfo.InvariantCulture));
                    break;
                case var other:
                    PublishedJson.Write(json, other);
                    break;
            }
        }
    }

    private sealed class BooleanCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column) =>
            json.WriteBooleanValue(row.GetBoolean(column));
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
            if (!row.TryGetDecimal(column, out var value))
            {
                WriteLong(json, row, column);
                return;
            }
            // What is computed may come with zeros that nobody asked for.
            if (Property.IsDynamic)
                value /= 1.000000000000000000000000000000000m;
            if (asText)
                json.WriteStringValue(value.ToString(CultureInfo.InvariantCulture));
            else
                json.WriteNumberValue(value);
        }

        /// <summary>A number of more digits than .NET's decimal has, as its text.</summary>
        private void WriteLong(Utf8JsonWriter json, IRowCursor row, int column)
        {
            var number = row.GetNumber(column);
            if (!char.IsAsciiDigit(number[^1]))
                WriteUnrepresentable(json, row, column);
            else if (asText)
                json.WriteStringValue(number);
            else
                json.WriteRawValue(number);
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
                json.WriteStringValue(
                    double.IsNaN(value) ? "NaN"u8
                    : value > 0 ? "INF"u8
                    : "-INF"u8
                );
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
                throw new SourceException(SourceFaultKind.BadData, $"A text of column '{Property.Column}' is not valid UTF-8.");
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
            if (!row.TryGetDate(column, out var date))
            {
                WriteUnrepresentable(json, row, column);
                return;
            }
            Span<byte> text = stackalloc byte[16];
            date.TryFormat(text, out var length, "yyyy-MM-dd", CultureInfo.InvariantCulture);
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
        private readonly string _format = CellText.InstantFormat(property.Type);

        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            if (!row.TryGetInstant(column, out var instant))
            {
                WriteUnrepresentable(json, row, column);
                return;
            }
            Span<byte> text = stackalloc byte[40];
            instant.TryFormat(text, out var length, _format, CultureInfo.InvariantCulture);
            json.WriteStringValue(text[..length]);
        }
    }

    private sealed class DurationCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column)
        {
            if (row.TryGetDuration(column, out var duration))
                json.WriteStringValue(XmlConvert.ToString(duration));
            else
                WriteUnrepresentable(json, row, column);
        }
    }

    private sealed class BinaryCell(Property property, string name) : CellJsonWriter(property, name)
    {
        protected override void WriteValue(Utf8JsonWriter json, IRowCursor row, int column) =>
            json.WriteStringValue(Base64Url.EncodeToUtf8(row.GetBytes(column)));
    }
}
