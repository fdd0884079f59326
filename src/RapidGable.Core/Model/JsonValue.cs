using System.Globalization;
using System.Text.Json;

namespace RapidGable.Model;

/// <summary>JSON that a source keeps, held to a declared type and written as the protocol writes it (JSON format 7).</summary>
public static class JsonValue
{
    /// <summary>
    /// Writes a value; the result says what does not fit its type, and is null when all does. After a fault the output is of no use.
    /// </summary>
    /// <param name="numbersAsText">Int64 and Decimal as strings (IEEE754Compatible).</param>
    /// <param name="typeMember">The member that says inside of a complex value what it is; null = none does.</param>
    public static string? Write(
        Utf8JsonWriter json,
        JsonElement value,
        EdmType type,
        bool nullable,
        bool numbersAsText,
        string? typeMember = null
    )
    {
        if (!type.IsCollection)
            return WriteItem(json, value, type, nullable, numbersAsText, typeMember);
        if (value.ValueKind != JsonValueKind.Array)
            return $"{Shown(value)} is not an array";
        var item = type with { IsCollection = false };
        json.WriteStartArray();
        foreach (var element in value.EnumerateArray())
        {
            if (WriteItem(json, element, item, nullable: true, numbersAsText, null) is { } fault)
                return fault;
        }
        json.WriteEndArray();
        return null;
    }

    private static string? WriteItem(
        Utf8JsonWriter json,
        JsonElement value,
        EdmType type,
        bool nullable,
        bool numbersAsText,
        string? typeMember
    )
    {
        if (value.ValueKind == JsonValueKind.Null)
        {
            json.WriteNullValue();
            return nullable ? null : "it is null, and published as never null";
        }
        if (type.Complex is { } complex)
            return WriteObject(json, value, complex, numbersAsText, typeMember);
        return WritePrimitive(json, value, type, numbersAsText) ? null : $"{Shown(value)} is no {type}";
    }

    private static string? WriteObject(Utf8JsonWriter json, JsonElement value, ComplexType type, bool numbersAsText, string? typeMember)
    {
        if (value.ValueKind != JsonValueKind.Object)
            return $"{Shown(value)} is not an object";
        json.WriteStartObject();
        if (typeMember is not null)
            json.WriteString(typeMember, "#" + type.QualifiedName);
        foreach (var property in type.Properties)
        {
            json.WritePropertyName(property.Name);
            if (value.TryGetProperty(property.Column, out var member))
            {
                if (Write(json, member, property.Type, property.Nullable, numbersAsText, typeMember) is { } fault)
                    return $"{property.Name}: {fault}";
            }
            else if (property.Type.IsCollection)
            {
                json.WriteStartArray();
                json.WriteEndArray();
            }
            else if (property.Nullable)
                json.WriteNullValue();
            else
                return $"{property.Name}: it is missing, and published as never null";
        }
        if (type.IsOpen)
            WriteUndeclared(json, value, type);
        json.WriteEndObject();
        return null;
    }

    /// <summary>What an open type holds beyond its declaration, under names that the protocol allows.</summary>
    private static void WriteUndeclared(Utf8JsonWriter json, JsonElement value, ComplexType type)
    {
        var names = type.Properties.Select(p => p.Name).ToHashSet();
        foreach (var member in value.EnumerateObject().Where(m => type.Properties.All(p => p.Column != m.Name)))
        {
            if (!names.Add(SimpleIdentifier.From(member.Name)))
                continue;
            json.WritePropertyName(SimpleIdentifier.From(member.Name));
            member.Value.WriteTo(json);
        }
    }

    private static bool WritePrimitive(Utf8JsonWriter json, JsonElement value, EdmType type, bool numbersAsText)
    {
        if (type.IsNumeric)
            return value.ValueKind == JsonValueKind.Number && WriteNumber(json, value, type, numbersAsText);
        if (type.Kind == EdmKind.Boolean)
        {
            if (value.ValueKind is not (JsonValueKind.True or JsonValueKind.False))
                return false;
            json.WriteBooleanValue(value.GetBoolean());
            return true;
        }
        if (type.Enum is { } enumeration)
        {
            if (
                (
                    value.ValueKind == JsonValueKind.String
                        ? enumeration.FindStored(value.GetString()!)
                        : enumeration.FindStored(value.GetRawText())
                )
                is not { } member
            )
                return false;
            json.WriteStringValue(member.Name);
            return true;
        }
        return value.ValueKind == JsonValueKind.String && WriteText(json, value.GetString()!, type);
    }

    private static bool WriteNumber(Utf8JsonWriter json, JsonElement value, EdmType type, bool numbersAsText)
    {
        var conversion = new NumberConversion(EdmType.Decimal, type);
        if (type.IsFloating)
        {
            json.WriteNumberValue(value.GetDouble());
            return true;
        }
        if (!value.TryGetDecimal(out var number) || conversion.Decode(number) is null)
            return false;
        if (numbersAsText && type.Kind is EdmKind.Int64 or EdmKind.Decimal)
            json.WriteStringValue(number.ToString(CultureInfo.InvariantCulture));
        else
            json.WriteNumberValue(number);
        return true;
    }

    private static bool WriteText(Utf8JsonWriter json, string text, EdmType type)
    {
        const DateTimeStyles Utc = DateTimeStyles.AdjustToUniversal | DateTimeStyles.AssumeUniversal;
        var written = type.Kind switch
        {
            EdmKind.String => type.MaxLength is { } most && text.EnumerateRunes().Count() > most ? null : text,
            EdmKind.Guid => Guid.TryParse(text, out var guid) ? guid.ToString() : null,
            EdmKind.Date => DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out _)
                ? text
                : null,
            EdmKind.TimeOfDay => TimeOnly.TryParse(text, CultureInfo.InvariantCulture, out var time)
                ? time.ToString("HH:mm:ss.FFFFFFF", CultureInfo.InvariantCulture)
                : null,
            EdmKind.DateTimeOffset => text.Length > 10 && DateTime.TryParse(text, CultureInfo.InvariantCulture, Utc, out var instant)
                ? instant.ToString("yyyy-MM-dd'T'HH:mm:ss.FFFFFFF'Z'", CultureInfo.InvariantCulture)
                : null,
            EdmKind.Duration => TryDuration(text) ? text : null,
            EdmKind.Binary => text.AsSpan().IndexOfAnyExcept("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/-_=") < 0
                ? text.Replace('+', '-').Replace('/', '_')
                : null,
            _ => null,
        };
        if (written is not null)
            json.WriteStringValue(written);
        return written is not null;
    }

    private static bool TryDuration(string text)
    {
        try
        {
            System.Xml.XmlConvert.ToTimeSpan(text);
            return true;
        }
        catch (Exception exception) when (exception is FormatException or OverflowException)
        {
            return false;
        }
    }

    private static string Shown(JsonElement value)
    {
        var text = value.GetRawText();
        return text.Length > 40 ? text[..40] + "…" : text;
    }
}
