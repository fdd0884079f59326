using System.Globalization;
using System.Text.Json;
using System.Text.RegularExpressions;
using System.Xml;

namespace RapidGable.Verification;

/// <summary>Whether a JSON value is what the metadata promises of its property: type, nullability, facets.</summary>
public sealed partial class ValueChecker(CsdlDocument document)
{
    /// <summary>Null when the value keeps the promise; else what is wrong, in one sentence.</summary>
    public string? Check(CsdlProperty property, JsonElement value)
    {
        if (value.ValueKind == JsonValueKind.Null)
        {
            if (property.IsCollection)
                return "is null, and a collection never is";
            return property.IsNullable ? null : "is null, and is published as never null";
        }
        if (!property.IsCollection)
            return CheckItem(property, value);
        if (value.ValueKind != JsonValueKind.Array)
            return $"is {Shown(value)}, and a collection is an array";
        return value
            .EnumerateArray()
            .Where(i => i.ValueKind != JsonValueKind.Null)
            .Select(i => CheckItem(property, i))
            .FirstOrDefault(f => f is not null);
    }

    private string? CheckItem(CsdlProperty property, JsonElement value)
    {
        var type = property.ItemType;
        if (!type.StartsWith("Edm.", StringComparison.Ordinal))
        {
            var declared = document.FindType(type);
            switch (declared?.Kind)
            {
                case CsdlTypeKind.Enum:
                    return Text(value) is { } members && members.Split(',').All(m => declared.Members.Any(d => d.Name == m.Trim()))
                        ? null
                        : Wrong(value, type);
                case CsdlTypeKind.Complex:
                    return Complex(declared, value);
                case CsdlTypeKind.Definition:
                    type = declared.Underlying ?? type;
                    break;
                default:
                    return null;
            }
        }
        return type switch
        {
            "Edm.Boolean" => value.ValueKind is JsonValueKind.True or JsonValueKind.False ? null : Wrong(value, type),
            "Edm.Byte" => Integer(value, type, 0, 255),
            "Edm.SByte" => Integer(value, type, -128, 127),
            "Edm.Int16" => Integer(value, type, short.MinValue, short.MaxValue),
            "Edm.Int32" => Integer(value, type, int.MinValue, int.MaxValue),
            "Edm.Int64" => Integer(value, type, long.MinValue, long.MaxValue),
            "Edm.Decimal" => Decimal(property, value),
            "Edm.Single" or "Edm.Double" => value.ValueKind == JsonValueKind.Number || Text(value) is "INF" or "-INF" or "NaN"
                ? null
                : Wrong(value, type),
            "Edm.String" => String(property, value),
            "Edm.Guid" => Text(value) is { Length: 36 } text && Guid.TryParse(text, out _) ? null : Wrong(value, type),
            "Edm.Date" => Text(value) is { } text
            && DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out _)
                ? null
                : Wrong(value, type),
            "Edm.DateTimeOffset" => Temporal(property, value, InstantShape()),
            "Edm.TimeOfDay" => Temporal(property, value, TimeShape()),
            "Edm.Duration" => Duration(value),
            "Edm.Binary" => Binary(property, value),
            _ => null,
        };
    }

    private string? Complex(CsdlType type, JsonElement value)
    {
        if (value.ValueKind != JsonValueKind.Object)
            return Wrong(value, type.Name);
        foreach (var member in document.PropertiesOf(type))
        {
            var fault =
                value.TryGetProperty(member.Name, out var found) ? Check(member, found)
                : type.IsOpen ? null
                : "is missing";
            if (fault is not null)
                return $"has a member {member.Name} that {fault}";
        }
        return null;
    }

    private static string? Text(JsonElement value) => value.ValueKind == JsonValueKind.String ? value.GetString() : null;

    private static string Shown(JsonElement value)
    {
        var text = value.GetRawText();
        return text.Length > 60 ? text[..60] + "…" : text;
    }

    private static string Wrong(JsonElement value, string type) => $"is {Shown(value)}, which is not a value of {type}";

    private static string? Integer(JsonElement value, string type, long least, long most) =>
        value.ValueKind == JsonValueKind.Number && value.TryGetInt64(out var number) && number >= least && number <= most
            ? null
            : Wrong(value, type);

    private static string? Decimal(CsdlProperty property, JsonElement value)
    {
        if (value.ValueKind != JsonValueKind.Number)
            return property.Facets.GetValueOrDefault("Scale") == "floating" && Text(value) is "INF" or "-INF" or "NaN"
                ? null
                : Wrong(value, "Edm.Decimal");
        var text = value.GetRawText().TrimStart('-');
        if (text.Contains('e') || text.Contains('E'))
            return $"is {Shown(value)}, and a decimal is written without an exponent";
        var point = text.IndexOf('.');
        var fraction = point < 0 ? "" : text[(point + 1)..].TrimEnd('0');
        var digits = (point < 0 ? text : text[..point]).TrimStart('0').Length + fraction.Length;
        var scale = property.Facets.TryGetValue("Scale", out var stated) ? (int.TryParse(stated, out var n) ? n : int.MaxValue) : 0;
        if (fraction.Length > scale)
            return $"is {Shown(value)}, with more than {scale} digits after the point";
        return property.Number("Precision") is { } precision && digits > precision
            ? $"is {Shown(value)}, with more than {precision} digits"
            : null;
    }

    private static string? String(CsdlProperty property, JsonElement value)
    {
        if (Text(value) is not { } text)
            return Wrong(value, "Edm.String");
        return property.Number("MaxLength") is { } most && text.EnumerateRunes().Count() is var length && length > most
            ? $"has {length} characters, and at most {most} are promised"
            : null;
    }

    private static string? Temporal(CsdlProperty property, JsonElement value, Regex shape)
    {
        if (Text(value) is not { } text || shape.Match(text) is not { Success: true } match)
            return Wrong(value, property.ItemType);
        if (
            property.ItemType == "Edm.DateTimeOffset"
            && !DateTimeOffset.TryParse(FractionShape().Replace(text, ""), CultureInfo.InvariantCulture, out _)
        )
            return Wrong(value, property.ItemType);
        var precision = property.Number("Precision") ?? 0;
        return match.Groups["f"].Value.TrimEnd('0').Length > precision
            ? $"is {Shown(value)}, with more than {precision} fraction digits"
            : null;
    }

    private static string? Duration(JsonElement value)
    {
        try
        {
            XmlConvert.ToTimeSpan(Text(value) ?? "");
            return null;
        }
        catch (Exception exception) when (exception is FormatException or OverflowException)
        {
            return Wrong(value, "Edm.Duration");
        }
    }

    private static string? Binary(CsdlProperty property, JsonElement value)
    {
        if (
            Text(value) is not { } text
            || text.TrimEnd('=').AsSpan().IndexOfAnyExcept("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_") >= 0
        )
            return Wrong(value, "Edm.Binary (base64url)");
        return property.Number("MaxLength") is { } most && text.TrimEnd('=').Length * 3L / 4 > most ? $"has more than {most} bytes" : null;
    }

    [GeneratedRegex(@"^-?\d{4,}-\d\d-\d\dT\d\d:\d\d(:\d\d(\.(?<f>\d{1,12}))?)?(Z|[+-]\d\d:\d\d)$")]
    private static partial Regex InstantShape();

    [GeneratedRegex(@"^([01]\d|2[0-3]):[0-5]\d(:[0-5]\d(\.(?<f>\d{1,12}))?)?$")]
    private static partial Regex TimeShape();

    [GeneratedRegex(@"\.\d+")]
    private static partial Regex FractionShape();
}
